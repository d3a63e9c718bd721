"""Rows of account, assignment and group lists, whatever the form of the list."""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.common.tuples import NamedTuple


class ListError(ValueError):
    """A list cannot be read; the message says why, `line` where."""

    def __init__(self, reason: str, line: int = 1) -> None:
        super().__init__(reason)
        self.line = line


class AccountRow(NamedTuple):
    """One account of the application; `user` is its name there."""

    user: str
    line: int
    email: str | None = None
    login: str | None = None
    id: str | None = None
    active: bool = True
    federated: bool = True
    groups: tuple[str, ...] = ()

    @property
    def spellings(self) -> tuple[str, ...]:
        """Every name on record for this person, each once."""
        return tuple(dict.fromkeys(filter(None, (self.user, self.email, self.login, self.id))))


class AssignmentRow(NamedTuple):
    """One line of an assignment list: a user, a group, or both."""

    user: str | None
    group: str | None
    line: int


class Membership:
    """Who is in which group, directly or through other groups; names are compared without regard to case."""

    def __init__(self, members: Iterable[tuple[tuple[str, ...], Iterable[str]]]) -> None:
        """`members` are pairs of a group's names (its own and its id, say) and the names of those in it."""
        self._groups: list[tuple[str, ...]] = []
        self._of: dict[str, list[int]] = {}
        for position, (names, inside) in enumerate(members):
            self._groups.append(names)
            for member in inside:
                self._of.setdefault(member.casefold(), []).append(position)

    def __len__(self) -> int:
        return len(self._groups)

    def lists(self, group: str) -> bool:
        """Whether it says who is in a group, by any of the group's names."""
        return any(group.casefold() == name.casefold() for names in self._groups for name in names)

    def of(self, names: Iterable[str]) -> set[str]:
        """The groups (every name of each) that any of these people or groups belongs to."""
        found: set[int] = set()
        new = [name.casefold() for name in names]
        while new:
            positions = {number for name in new for number in self._of.get(name, ())} - found
            found |= positions
            new = [name.casefold() for position in positions for name in self._groups[position]]
        return {name for position in found for name in self._groups[position]}
