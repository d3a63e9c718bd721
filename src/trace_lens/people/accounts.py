"""Finding a person's account by name: to the letter, or so nearly that only one thing can have been meant."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import cached_property

from trace_lens.common.difference import look_alike, skeleton
from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.people import guests
from trace_lens.people.guests import Folded
from trace_lens.workspace.account_rows import AccountRow
from trace_lens.workspace.records import App, Workspace


class Near(NamedTuple):
    """An account that is nearly meant: which of its names comes near, and by what it differs.

    `folded` is how the name was read, where it is a guest's address folded into another.
    """

    row: AccountRow
    spelling: str
    by: str
    folded: Folded | None = None


@dataclass(frozen=True, eq=False, repr=False)
class AccountIndex:
    """The accounts of one application, looked up by name; `compare` is `exact` or `ignore-case`.

    `home` are the directory's own domains, which may be part of a folded name.
    """

    rows: list[AccountRow]
    compare: str = "exact"
    home: tuple[str, ...] = ()
    _loose: dict[str, list[tuple[AccountRow, str]]] = field(default_factory=dict, repr=False)
    _passes: dict[str, int] = field(default_factory=dict, repr=False)
    _domains: dict[str, dict[str, list[tuple[AccountRow, str]]] | None] = field(default_factory=dict, repr=False)

    def find(self, name: str) -> list[AccountRow]:
        """The accounts of exactly this name, under the application's way of comparing."""
        return self._exact.get(self.key(name), [])

    def key(self, name: str) -> str:
        """What names must have in common to be one under the application's way of comparing."""
        return name.casefold() if self.compare == "ignore-case" else name

    def near(self, name: str) -> list[Near]:
        """Accounts that differ from the name only by one of the usual slips, the likeliest slip first."""
        self.look_for([name])
        candidates = [row for key in dict.fromkeys(_loosest(name)) for row in self._loose[key]]
        for by, normal in _SLIPS:
            wanted = normal(name)
            found = {id(row): Near(row, spelling, by) for row, spelling in candidates if normal(spelling) == wanted}
            if found and by == _ANOTHER:
                return [near for near in self._unfolded(name) if id(near.row) in found] or list(found.values())
            if found:
                return list(found.values())
        return self._unfolded(name)

    def look_for(self, names: Iterable[str]) -> None:
        """Make ready for these names, so that `near` need not go through the accounts for each.

        The accounts are gone through once for all of them; asked again and again, an index of all is made instead.
        """
        wanted = {key for name in names for key in _loosest(name)} - self._loose.keys()
        if not wanted or self._passes.get("all"):
            self._loose.update((key, []) for key in wanted)
            return
        self._passes["some"] = self._passes.get("some", 0) + 1
        everything = self._passes["some"] > _PASSES
        self._passes["all"] = int(everything)
        found: dict[str, list[tuple[AccountRow, str]]] = {key: [] for key in wanted}
        domains = set()
        last, keys = "", tuple[str, ...]()
        for row in self.rows:
            for spelling in row.spellings:
                local, _, domain = spelling.partition("@")
                domains.add(domain)
                if local != last:
                    plain = _PLAIN.fullmatch(local)
                    last, keys = local, (look_alike(local),) if plain else tuple(dict.fromkeys(_loosest(local)))
                for key in keys:
                    if key in found:
                        found[key].append((row, spelling))
                    elif everything:
                        found[key] = [(row, spelling)]
        self._loose.update(found)
        for domain in domains:
            if "." in domain:
                self._domains.setdefault(domain.casefold(), None)

    def _unfolded(self, name: str) -> list[Near]:
        """The accounts whose address the name is a folded form of."""
        for folded in guests.readings(name, self._domains, self.home):
            meant = self._at_domain(folded.domain).get(folded.local, ())
            found = {id(row): Near(row, spelling, "folding", folded) for row, spelling in meant}
            if found:
                return list(found.values())
        return []

    @cached_property
    def _exact(self) -> dict[str, list[AccountRow]]:
        exact: dict[str, list[AccountRow]] = {}
        for row in self.rows:
            exact.setdefault(self.key(row.user), []).append(row)
        return exact

    def _at_domain(self, domain: str) -> dict[str, list[tuple[AccountRow, str]]]:
        """The accounts' addresses at one domain by what a folding leaves of the local part."""
        index = self._domains.get(domain)
        if index is None:
            index = {}
            for row in self.rows:
                for spelling in row.spellings:
                    local, _, behind = spelling.partition("@")
                    if local and behind.casefold() == domain:
                        index.setdefault(guests.squeezed(local), []).append((row, spelling))
            self._domains[domain] = index
        return index


_PASSES = 6
"""How often the accounts are gone through for a few names before an index of all is made."""
_PLAIN = expression(r"[a-z0-9._-]+", re.ASCII)
"""A local part or login that both of the loosest readings leave the same, but for lookalikes."""


def _loosest(name: str) -> tuple[str, str]:
    """Two readings of a name that are the same for all names which differ by one slip: without domain, white space,
    case, and with lookalikes folded, before or after the case is.
    """
    bare = _squeezed(name).rpartition("\\")[2]
    return skeleton(bare.casefold()).partition("@")[0], skeleton(bare).partition("@")[0].casefold()


def _squeezed(name: str) -> str:
    return "".join(name.split())


def _without_domain(name: str) -> str:
    return name.rpartition("\\")[2].partition("@")[0].casefold()


def _lookalike(name: str) -> str:
    return skeleton(name).casefold()


_ANOTHER = "another of its names"
_SLIPS: tuple[tuple[str, Callable[[str], str]], ...] = (
    (_ANOTHER, str),
    ("whitespace", _squeezed),
    ("case", str.casefold),
    ("lookalike", _lookalike),
    ("domain", _without_domain),
)


def account_index(app: App, rows: list[AccountRow], workspace: Workspace) -> AccountIndex:
    """The application's accounts, made ready for looking up once for a workspace."""
    provider = workspace.provider_of(app)
    home = provider.settings.email_domains if provider else ()
    return workspace.once(f"accounts {app.id}", lambda: AccountIndex(rows, app.settings.account.compare, home))
