"""Finding a person's account by name: to the letter, or so nearly that only one thing can have been meant."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

from trace_lens.common.difference import skeleton
from trace_lens.workspace import guests
from trace_lens.workspace.guests import Folded
from trace_lens.workspace.lists import AccountRow


class Near(NamedTuple):
    """An account that is nearly meant: which of its names comes near, and by what it differs.

    `folded` is how the name was read, where it is a guest's address folded into another.
    """

    row: AccountRow
    spelling: str
    by: str
    folded: Folded | None = None


@dataclass(frozen=True)
class AccountIndex:
    """The accounts of one application, looked up by name; `compare` is `exact` or `ignore-case`.

    `home` are the directory's own domains, which may be part of a folded name.
    """

    rows: list[AccountRow]
    compare: str = "exact"
    home: tuple[str, ...] = ()
    _cache: dict[str, dict[str, list[tuple[AccountRow, str]]]] = field(default_factory=dict, repr=False)

    def find(self, name: str) -> list[AccountRow]:
        """The accounts of exactly this name, under the application's way of comparing."""
        return self._exact.get(self._key(name), [])

    def near(self, name: str) -> list[Near]:
        """Accounts that differ from the name only by one of the usual slips, the likeliest slip first."""
        found: dict[int, Near] = {}
        for by, normal in _SLIPS:
            for row, spelling in self._by(by, normal).get(normal(name), ()):
                found.setdefault(id(row), Near(row, spelling, by))
            if found and by == _ANOTHER:
                known = {id(one.row) for one in found.values()}
                return [one for one in self._unfolded(name) if id(one.row) in known] or list(found.values())
            if found:
                return list(found.values())
        return self._unfolded(name)

    def _unfolded(self, name: str) -> list[Near]:
        """The accounts whose address the name is a folded form of."""
        for folded in guests.readings(name, self.domains, self.home):
            found = {
                id(row): Near(row, spelling, "folding", folded) for row, spelling in self._folded.get(folded.key, ())
            }
            if found:
                return list(found.values())
        return []

    def _key(self, name: str) -> str:
        return name.casefold() if self.compare == "ignore-case" else name

    @cached_property
    def _exact(self) -> dict[str, list[AccountRow]]:
        exact: dict[str, list[AccountRow]] = {}
        for row in self.rows:
            exact.setdefault(self._key(row.user), []).append(row)
        return exact

    def _by(self, by: str, normal: Callable[[str], str]) -> dict[str, list[tuple[AccountRow, str]]]:
        """Every spelling of every account under one way of normalising, made at the first question."""
        if by not in self._cache:
            index: dict[str, list[tuple[AccountRow, str]]] = {}
            for row in self.rows:
                for spelling in row.spellings:
                    index.setdefault(normal(spelling), []).append((row, spelling))
            self._cache[by] = index
        return self._cache[by]

    @cached_property
    def domains(self) -> frozenset[str]:
        """The e-mail domains that the accounts' names have."""
        return frozenset(domain for _, domain in self._folded)

    @cached_property
    def _folded(self) -> dict[tuple[str, str], list[tuple[AccountRow, str]]]:
        """The accounts' addresses by what a folding leaves of them."""
        index: dict[tuple[str, str], list[tuple[AccountRow, str]]] = {}
        for row in self.rows:
            for spelling in row.spellings:
                key = guests.address_key(spelling) if "@" in spelling else None
                if key:
                    index.setdefault(key, []).append((row, spelling))
        return index


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
