"""Several observations of one application put together: what is constant becomes a setting, what varies is told."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from trace_lens.common.moments import show_moment
from trace_lens.common.tuples import NamedTuple
from trace_lens.estate.merging import CLAIMS, WIDENED
from trace_lens.estate.observed import SAML, Observation, shown_values


class Sighting(NamedTuple):
    """One application as its captures show it. `varied` are the keys whose value differed, with the values."""

    protocol: str
    observations: tuple[Observation, ...]
    settings: dict[str, Any]
    comments: dict[str, str]
    varied: dict[str, tuple[str, ...]]

    @property
    def provider_ids(self) -> tuple[str, ...]:
        """The identifiers of the providers that signed people in, each once."""
        return tuple(dict.fromkeys(seen.provider_id for seen in self.observations if seen.provider_id))

    @property
    def application_id(self) -> str | None:
        """The first identifier that the application was seen with."""
        return next((seen.application_id for seen in self.observations if seen.application_id), None)

    @property
    def doubts(self) -> tuple[str, ...]:
        """Why the values may be wrong, where no capture shows a sign-in that went well."""
        if any(seen.doubt is None for seen in self.observations):
            return ()
        return tuple(dict.fromkeys(seen.doubt for seen in self.observations if seen.doubt))


def sightings_of(observations: Iterable[Observation], *, trust_seen: bool = False) -> list[Sighting]:
    """The applications that some observations are of, in the order in which they came."""
    return [_sighting(group, trust_seen=trust_seen) for group in _grouped(list(observations))]


def _grouped(observations: list[Observation]) -> list[list[Observation]]:
    """Observations of one application: of one protocol, with the identifier or an address in common.

    Applications that each name themselves by an identifier of their own are kept apart, also behind one address; where
    an identifier is only a guess, the address tells, if one application alone has it.
    """
    named: dict[tuple[str, str], list[Observation]] = {}
    for seen in observations:
        if seen.application_id and not seen.is_guess:
            named.setdefault((seen.protocol, seen.application_id), []).append(seen)
    groups = [(set[tuple[str, str]]().union(*map(_marks, held)), [*held]) for held in named.values()]
    for seen in observations:
        if seen.application_id and not seen.is_guess:
            continue
        own = (seen.protocol, seen.application_id or "")
        touching = [group for group in groups if own in group[0]] or [
            group for group in groups if group[0] & _marks(seen)
        ]
        if len(touching) == 1:
            touching[0][1].append(seen)
            touching[0][0].update(_marks(seen))
        else:
            groups.append(({own} if touching else _marks(seen), [seen]))
    order = {id(seen): place for place, seen in enumerate(observations)}
    return sorted(
        (sorted(members, key=lambda seen: order[id(seen)]) for _, members in groups),
        key=lambda members: order[id(members[0])],
    )


def _marks(seen: Observation) -> set[tuple[str, str]]:
    """What an application is known by: its identifier, and the addresses that are its own in SAML."""
    marks = {(seen.protocol, seen.application_id)} if seen.application_id else set()
    if seen.protocol == SAML:
        marks |= {(seen.protocol, str(url)) for url in seen.settings.get("application.acs_urls", ())}
    return marks


def _sighting(members: Sequence[Observation], *, trust_seen: bool) -> Sighting:
    good = [seen for seen in members if seen.doubt is None] or list(members)
    settings: dict[str, Any] = {}
    varied: dict[str, tuple[str, ...]] = {}
    for key in dict.fromkeys(key for seen in good for key in seen.settings):
        values = [seen.settings[key] for seen in good if key in seen.settings]
        if key in WIDENED:
            settings[key] = list(dict.fromkeys(item for value in values for item in value))
        elif all(value == values[0] for value in values):
            settings[key] = values[0]
        else:
            sure = [seen.settings[key] for seen in good if key in seen.settings and key not in seen.comments]
            if sure and all(value == sure[0] for value in sure):
                settings[key] = sure[0]
                continue
            varied[key] = tuple(dict.fromkeys(_words(value) for value in values))
    comments = {key: text for seen in good for key, text in seen.comments.items() if key in settings}
    _add_bindings(good, settings, comments)
    _add_key(good, settings, comments, trust_seen=trust_seen)
    claims = {name: values for seen in good for name, values in seen.claims.items()}
    if claims:
        settings[CLAIMS] = [{"name": name, "need": "may"} for name in claims]
        for name in claims:
            every = tuple(value for seen in good for value in seen.claims.get(name, ()))
            comments[f"{CLAIMS}.{name}"] = f"seen: {shown_values(name, every)}"
    return Sighting(members[0].protocol, tuple(members), settings, comments, varied)


def _add_bindings(good: Sequence[Observation], settings: dict[str, Any], comments: dict[str, str]) -> None:
    """By which bindings messages went to an address: for the reader, since no setting holds it."""
    for key, words in (("application.acs_urls", "answers by"), ("application.provider_sso_url", "requests by")):
        names = sorted({seen.bindings[key] for seen in good if key in seen.bindings})
        if names and key in settings:
            comments.setdefault(key, f"{words} {' and '.join(names)}")


def _add_key(
    good: Sequence[Observation], settings: dict[str, Any], comments: dict[str, str], *, trust_seen: bool
) -> None:
    """The certificates that made the signatures: only seen, unless the user says that they are to be trusted."""
    held = {str(seen.certificate.sha256): seen for seen in good if seen.certificate}
    if not held:
        return
    key = "application.trusted_certificates" if trust_seen else "application.seen_certificates"
    settings[key] = list(held)
    when = "; ".join(_seen_in(seen) for seen in list(held.values())[:3])
    signed = next((seen.comments.get("application.seen_certificates") for seen in held.values()), None)
    comments[key] = f"{when}{f'; {signed}' if signed else ''}"


def _seen_in(seen: Observation) -> str:
    on = f" on {show_moment(seen.at)[:10]}" if seen.at else ""
    return f"seen{on} in {seen.source}"


def _words(value: Any) -> str:
    return " ".join(map(str, value)) if isinstance(value, list) else str(value)
