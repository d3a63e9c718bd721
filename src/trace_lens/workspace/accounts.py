"""Finding a person's account by name: to the letter, or so nearly that only one thing can have been meant."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

from trace_lens.common.difference import skeleton
from trace_lens.workspace.lists import AccountRow

_DOMAIN = re.compile(r"@([\w.\-]+\.[\w\-]+)$")


class Near(NamedTuple):
    """An account that is nearly meant: which of its names comes near, and by what it differs."""

    row: AccountRow
    spelling: str
    by: str


@dataclass(frozen=True)
class AccountIndex:
    """The accounts of one application, looked up by name; `compare` is `exact` or `ignore-case`."""

    rows: list[AccountRow]
    compare: str = "exact"
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
            if found:
                return list(found.values())
        for unfolded in self._unfolded(name):
            for row, spelling in self._by("case", str.casefold).get(unfolded, ()):
                found.setdefault(id(row), Near(row, spelling, "folding"))
        return list(found.values())

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
        found = (_DOMAIN.search(spelling) for row in self.rows for spelling in row.spellings)
        return frozenset(match[1].casefold() for match in found if match)

    def _unfolded(self, name: str) -> Iterable[str]:
        """The addresses that a folded name may stand for, by the domains that accounts here have."""
        for domain in self.domains:
            unfolded = unfold(name, domain)
            if unfolded:
                yield unfolded


def unfold(name: str, domain: str) -> str | None:
    """The address at `domain` that was folded into a name: `nils_skerry.example~x@home` → `nils@skerry.example`."""
    pattern = r"[^a-z0-9]+".join(map(re.escape, domain.casefold().split(".")))
    match = re.match(rf"(.+?)[^a-z0-9]+(?:at[^a-z0-9]+)?{pattern}(?![a-z0-9])", name.casefold())
    if match is None or name.casefold() == f"{match[1]}@{domain}":
        return None
    return f"{match[1]}@{domain}"


def _squeezed(name: str) -> str:
    return "".join(name.split())


def _without_domain(name: str) -> str:
    return name.rpartition("\\")[2].partition("@")[0].casefold()


def _lookalike(name: str) -> str:
    return skeleton(name).casefold()


_SLIPS: tuple[tuple[str, Callable[[str], str]], ...] = (
    ("another of its names", str),
    ("whitespace", _squeezed),
    ("case", str.casefold),
    ("lookalike", _lookalike),
    ("domain", _without_domain),
)
