"""Messages that break as two did before that were written alike: the same fault, of other people at other times.

A setting that is wrong breaks every sign-in at an application in one way. So what the full judge said of such a
message is said of the next one, where nothing that differs between them can matter. Why that is right:

- Both are written alike (`alike`): they differ in values only.
- The values that name the two sides (issuer, audience, addresses, context) are the same to the letter, and so is
  whether a request is answered. So the application is chosen the same way, and what is wrong with them is the same.
- With the right values in their place the strict path would call each of them sound, by the same key. So all other
  values hold in both: the account is there and may sign in, the claims serve, every window is open, as long before
  and after the moment of issue in both.
- No date on record (of a certificate, a change, an agreed risk) lies between their moments.
- What was said of the first was said again, to the letter, of another in which a value differed, before it is said
  of a third in which that value differs again. So no sentence tells that value. Where it was not said again, nothing
  is said here of messages of this kind.

All else of a diagnosis, its evidence among it, is made by the full judge when it is looked at.
"""

from __future__ import annotations

from bisect import bisect
from collections.abc import Iterator
from contextlib import suppress
from datetime import datetime
from functools import lru_cache
from typing import Any

from trace_lens.common.expressions import expression
from trace_lens.common.moments import MomentError, read_moment_or_date
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.alike import Held, Said
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.later import Broken
from trace_lens.diagnosis.prepared import Prepared, prepared
from trace_lens.diagnosis.sound import Sound
from trace_lens.diagnosis.strict import Other, holds, moment
from trace_lens.pki.certificates import Certificate, certificate_or_none
from trace_lens.pki.pem import certificate_from_base64
from trace_lens.workspace import trust
from trace_lens.workspace.records import Workspace

_CERTIFICATE = expression(rb"<(?:[\w.-]++:)?X509Certificate>([^<]++)<")
_NAMED = ("destination", "issuer", "audience", "assertion_issuer", "recipient", "context")
SPANS = ("made", "confirmed_until", "begins", "ends", "authenticated", "session_ends")
_MOST = 1_000
"""Kinds of broken messages that are remembered at once."""


class _Kind(NamedTuple):
    """Broken messages of one kind: how the first was, in which values others differed of which the same was said, what
    they are compared with once the right values are in their place, and between which dates they lie.
    """

    issued: str
    values: tuple[str | None, ...]
    varied: frozenset[int]
    to: Prepared
    dates: list[datetime]
    broken: Broken

    def lies_apart(self, held: Held) -> bool:
        """Whether a date lies between the moment of a message and that of the first."""
        return bisect(self.dates, _at(held.said.issued)) != bisect(self.dates, _at(self.issued))


class Repeated:
    """What the full judge said of broken messages, by their kind; None of a kind that it said different things of."""

    def __init__(self, workspace: Workspace) -> None:
        self._workspace = workspace
        self._kinds: dict[tuple[Any, ...], _Kind | None] = {}
        self._dates = dates_on_record(workspace)

    def known(self, held: Held) -> tuple[Broken, Sound] | None:
        """What is said of a message, and what is known of it; None where only the full judge can tell."""
        if not held.written:
            return None
        try:
            kind = self._kinds.get(kind_key(held))
            if kind is None or kind.lies_apart(held):
                return None
            if any(
                one != other and place not in kind.varied
                for place, (one, other) in enumerate(zip(held.values, kind.values, strict=True))
            ):
                return None
            told = mended_fits(held, kind.to)
        except (Other, ValueError, OverflowError):
            return None
        return (kind.broken, told) if told else None

    def learn(self, data: bytes, held: Held, diagnosis: Diagnosis) -> None:
        """Remember what the full judge said of a broken message that is written alike with another."""
        if not held.written:
            return
        try:
            key = kind_key(held)
            kind = self._kinds.get(key)
            if (kind is None and key in self._kinds) or len(self._kinds) >= _MOST:
                return
            broken = _brief(diagnosis)
            if kind is None:
                made = self._kind(data, held, diagnosis, broken)
                if made:
                    self._kinds[key] = made
            elif not kind.lies_apart(held) and mended_fits(held, kind.to):
                differ = {place for place, one in enumerate(held.values) if one != kind.values[place]}
                same = broken == kind.broken
                self._kinds[key] = kind._replace(varied=kind.varied | differ) if same else None
        except (Other, ValueError, OverflowError):
            return

    def _kind(self, data: bytes, held: Held, diagnosis: Diagnosis, broken: Broken) -> _Kind | None:
        to = next((one for one in prepared(self._workspace).values() if one.app.id == diagnosis.app), None)
        if to is None or diagnosis.outcome != "broken" or diagnosis.provider != to.provider.id:
            return None
        brought = brought_in(data)
        dates = list(self._dates)
        if brought:
            dates += [brought.not_before, brought.not_after, brought.not_after - to.app.warn_before]
        for key in [*to.keys, *([brought.public_key] if brought else [])]:
            alone = to._replace(keys=[key])
            told = mended_fits(held, alone)
            if told:
                same = (diagnosis.subject, diagnosis.parties.started_by, diagnosis.at, diagnosis.judged.at_from)
                if same != (told.subject, told.started_by, told.at, "message"):
                    return None
                return _Kind(held.said.issued, held.values, frozenset(), alone, sorted(dates), broken)
        return None


def kind_key(held: Held) -> tuple[Any, ...]:
    """What messages of one kind share."""
    said = held.said
    at = _at(said.issued)
    spans = tuple(end and end - at for end in (moment(getattr(said, name)) for name in SPANS))
    return (held.written, said.asked is None, *(getattr(said, name) for name in _NAMED), *spans)


def _at(issued: str) -> datetime:
    at = moment(issued)
    assert at is not None
    return at


def mended_fits(held: Held, to: Prepared) -> Sound | None:
    """What is known of a message that would be sound if it named both sides as they are."""
    said: Said = held.said
    if (
        said.audience == to.app.entity_id
        and said.issuer == said.assertion_issuer == to.issuer
        and said.destination == said.recipient
        and said.destination in to.acs_urls
        and (said.context in to.contexts or not to.contexts)
    ):
        return holds(held, to)
    address = said.destination if said.destination in to.acs_urls else min(to.acs_urls)
    mended = said._replace(
        audience=to.app.entity_id or "",
        destination=address,
        recipient=address,
        issuer=to.issuer,
        assertion_issuer=to.issuer,
        context=said.context if said.context in to.contexts or not to.contexts else min(to.contexts),
    )
    return holds(held._replace(said=mended), to)


def _brief(diagnosis: Diagnosis) -> Broken:
    first = diagnosis.first_break
    assert first is not None
    return Broken(
        first_break=first._replace(evidence=()),
        proposal=diagnosis.proposal,
        next_breaks=diagnosis.next_breaks,
        chosen_by=diagnosis.parties.chosen_by,
        cause=diagnosis.cause,
    )


def brought_in(data: bytes) -> Certificate | None:
    """The certificate that came with the signature, where it can be read."""
    found = _CERTIFICATE.search(data)
    return _certificate(found[1]) if found else None


@lru_cache(64)
def _certificate(text: bytes) -> Certificate | None:
    return certificate_or_none(certificate_from_base64(text.decode("latin-1")).der)


def dates_on_record(workspace: Workspace) -> frozenset[datetime]:
    """Every moment on record that a judgement may compare the moment of an attempt with."""
    return workspace.once("dates on record", lambda: frozenset(_dates(workspace)))


def _dates(workspace: Workspace) -> Iterator[datetime]:
    for change in workspace.changes:
        yield from (change.at, change.at + change.takes)
    warned = {app.warn_before for app in workspace.apps.values()}
    for key in trust.everything(workspace):
        if key.certificate:
            yield from (key.certificate.not_before, key.certificate.not_after)
            yield from (key.certificate.not_after - warn for warn in warned)
        if key.until:
            yield key.until
    for app in workspace.apps.values():
        for accepted in app.settings.accepted:
            if accepted.until is not None:
                with suppress(MomentError):
                    yield read_moment_or_date(str(accepted.until))
