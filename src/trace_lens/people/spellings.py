"""Who and what a log means: the spellings of one person joined, and the names of one application.

Names are joined where something on record holds both: a line of an account list, an assignment, a message that says
several of them, the rule by which a provider makes the name. A name that more than one person goes by is shared out
among them. What only looks alike (the same local part, a folded address) counts for less, by how many people it could
mean; nothing is decided here, a reading only says how likely it is.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache

from trace_lens.common.addresses import host_of
from trace_lens.common.expressions import expression
from trace_lens.people.guests import seen_guest, squeezed
from trace_lens.people.subjects import made_name
from trace_lens.workspace.records import Workspace

ALIKE, FOLDED, ELSEWHERE = 0.9, 0.8, 0.5
"""How likely the one person is meant whose login, whose address before it was folded, or whose local part at another
domain the log has."""
_OPAQUE = expression(r"[0-9]+|[0-9a-fA-F-]{12,}|\{[0-9a-fA-F-]+\}|[\w+/=-]{22,}")
_SHORTEST = 3


def is_opaque(name: str) -> bool:
    """Whether a name is an identifier that no person would recognise: a number, a GUID, a random string."""
    return bool(_OPAQUE.fullmatch(name))


def bare(name: str) -> str:
    r"""A name in small letters without DOMAIN\ before it and without @domain behind it."""
    return name.rpartition("\\")[2].partition("@")[0].strip().casefold()


def keys_of(name: str) -> set[str]:
    """Under what a name is found: two names of which either may mean the other's person share one of these."""
    text = name.strip().casefold()
    guest = _unfolded(text)
    keys = {text, f"={bare(text)}"}
    local, at, domain = text.rpartition("@")
    if at:
        keys.add(f"@{squeezed(local)}@{domain}")
    if guest:
        keys.add(f"@{guest[0]}@{guest[1]}")
    return keys


Reading = Mapping[int, float]
"""Who may be meant: persons, by their number, with the probability of each."""


class People:
    """Everybody on record, and those of whom messages speak: `said` are the names that one message each says of one."""

    def __init__(self, workspace: Workspace, said: Iterable[Iterable[str]] = ()) -> None:
        names = [*_recorded(workspace), *said]
        groups = [{text.strip().casefold() for text in group if text and text.strip()} for group in names]
        self._by_name: dict[str, set[int]] = {}
        self._persons: list[set[str]] = []
        self._join(sorted((group for group in groups if group), key=lambda item: -sum("@" in name for name in item)))
        self._by_local: dict[str, set[int]] = {}
        self._by_address: dict[tuple[str, str], set[int]] = {}
        for number, person in enumerate(self._persons):
            for name in person:
                self._by_local.setdefault(bare(name), set()).add(number)
                local, at, domain = name.rpartition("@")
                if at:
                    self._by_address.setdefault((squeezed(local), domain), set()).add(number)

    def _join(self, groups: list[set[str]]) -> None:
        """Put groups with a name in common together, unless their addresses say that they are two people."""
        for group in groups:
            joining = [name for name in group if _joins(name)]
            found = {number for name in joining for number in self._by_name.get(name, ())}
            fitting = [number for number in sorted(found) if not _differ(self._persons[number], group)]
            if fitting:
                home = fitting[0]
                for other in fitting[1:]:
                    if not _differ(self._persons[home], self._persons[other]):
                        for name in self._persons[other]:
                            self._by_name[name] = (self._by_name[name] - {other}) | {home}
                        self._persons[home] |= self._persons[other]
                        self._persons[other] = set()
            else:
                home = len(self._persons)
                self._persons.append(set())
            self._persons[home] |= group
            for name in group:
                self._by_name.setdefault(name, set()).add(home)

    def spellings(self, number: int) -> frozenset[str]:
        """Every spelling of one person, in small letters."""
        return frozenset(self._persons[number])

    def of(self, names: Iterable[str]) -> frozenset[int]:
        """The persons who go by any of some names to the letter, case aside."""
        return frozenset(number for name in names for number in self._by_name.get(name.strip().casefold(), ()))

    def read(self, text: str) -> Reading:
        """Who may be meant by a name in a log, with the probability of each; empty where nothing tells."""
        name = text.strip().casefold()
        exact = self._by_name.get(name)
        if exact:
            return dict.fromkeys(exact, 1.0 / len(exact))
        local = bare(name)
        alike = self._by_local.get(local) if len(local) >= _SHORTEST else None
        at = "@" + name.partition("@")[2]
        if alike and len(at) > 1:
            alike = {number for number in alike if not any(other.endswith(at) for other in self._persons[number])}
        if alike:
            return dict.fromkeys(alike, (ELSEWHERE if len(at) > 1 else ALIKE) / len(alike))
        guest = _unfolded(name)
        meant = self._by_address.get(guest) if guest else None
        return dict.fromkeys(meant, FOLDED / len(meant)) if meant else {}


def _recorded(workspace: Workspace) -> Iterator[Iterable[str]]:
    """The names that stand together on record: lines of account lists with what the provider makes of them."""
    for app in workspace.apps.values():
        provider = workspace.provider_of(app)
        for row in app.accounts or ():
            made = made_name(row, app, provider)
            yield (*row.spellings, *((made.held, made.name) if made else ()))
        for line in app.assignments or ():
            if line.user:
                yield (line.user,)


def _joins(name: str) -> bool:
    """Whether a name is particular enough to say that two lines with it are of one person."""
    return len(name) >= _SHORTEST and not (name.isdigit() and len(name) < 6)


def _differ(item: set[str], other: set[str]) -> bool:
    """Whether two groups of names hold two addresses of one domain, and none in common."""
    mine, theirs = ({name for name in group if "@" in name} for group in (item, other))
    if mine & theirs or not mine or not theirs:
        return False
    return bool({name.rpartition("@")[2] for name in mine} & {name.rpartition("@")[2] for name in theirs})


@lru_cache(maxsize=65_536)
def _unfolded(name: str) -> tuple[str, str] | None:
    """The address that a folded name may stand for."""
    if "@" not in name:
        return None
    seen = seen_guest(name)
    return (squeezed(seen[0]), seen[1].casefold()) if seen else None


class Names:
    """What the applications on record are called: files, names, identifiers, client IDs, addresses and hosts."""

    def __init__(self, workspace: Workspace) -> None:
        self._known: dict[str, set[str]] = {}
        for app in workspace.apps.values():
            told, there = app.settings.application, app.settings.provider_setup
            addresses = [told.sign_in_url, told.sign_out_url, there.acs_url, *app.acs_urls, *told.oidc.redirect_uris]
            names = [app.id, app.name, app.entity_id, told.oidc.client_id, there.client_id, there.audience, *addresses]
            names += [host_of(address) for address in addresses if address]
            for name in names:
                for key in (name.casefold(), squeezed(name)) if name else ():
                    self._known.setdefault(key, set()).add(app.id)

    def read(self, text: str) -> frozenset[str]:
        """The applications that may be meant by a name in a log; empty where none on record is."""
        key = text.strip().casefold()
        found = self._known.get(key) or self._known.get(key.rstrip("/")) or self._known.get(squeezed(key))
        if not found and "://" in key:
            found = self._known.get(host_of(key))
        return frozenset(found or ())
