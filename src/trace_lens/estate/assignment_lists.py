"""Lists of who is assigned to an application at its provider, known by their content.

Such a list looks much like one of accounts. What tells them apart, surest first: a column that says of each row whether
it is a user or a group; groups alone; users and groups in two columns of which a row fills one; a word for "assigned"
in a title or in the file's name; and the user, who says that the list is the provider's.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence
from pathlib import Path

from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace import lists

GROUP_TITLES = ("group", "role", "team", "gruppe", "groupe", "grupo")
PERSON_TITLES = ("member", "user", "account", "login", "mail", "person", "mitglied", "membre", "benutzer", "bruker")
_ASSIGNED = ("assign", "zugewiesen", "zuweisung", "tildelt", "tilordn", "affect", "asignad", "toewijz")
_TYPES = {
    **dict.fromkeys(("user", "users", "benutzer", "utilisateur", "usuario", "bruker", "person", "account"), "user"),
    **dict.fromkeys(("group", "groups", "gruppe", "groupe", "grupo", "team"), "group"),
}


_TITLE_WORDS = 3
"""How many words the title of a column of groups has at most; a longer line is prose."""


class Assigned(NamedTuple):
    """Users and groups that a list assigns, and the titles of the columns that they were read from."""

    users: tuple[str, ...]
    groups: tuple[str, ...]
    titles: tuple[str, ...]

    def as_csv(self) -> bytes:
        """The list in the form that the workspace keeps."""
        out = io.StringIO()
        writer = csv.writer(out, lineterminator="\n")
        writer.writerow(("user", "group"))
        writer.writerows([(name, "") for name in self.users] + [("", name) for name in self.groups])
        return out.getvalue().encode()

    def words(self) -> str:
        """How it was read."""
        users, groups = len(self.users), len(self.groups)
        counted = [f"{users:,} user{'' if users == 1 else 's'}"] if users else []
        counted += [f"{groups:,} group{'' if groups == 1 else 's'}"] if groups else []
        columns = " and ".join(repr(title) for title in self.titles)
        read = f", read from the column{'' if len(self.titles) == 1 else 's'} {columns}" if columns else ""
        return f"{' and '.join(counted)} assigned at the provider{read}."


def plainly_assigned(data: bytes) -> Assigned | None:
    """The assignments of a list whose columns can be of nothing else. Raises ListError."""
    table = lists.csv_table(data)
    if table is None:
        return None
    header, rows = table
    return _by_type(header, rows) or _by_gaps(header, rows)


def said_to_be_assigned(path: Path, data: bytes, *, of_provider: bool) -> Assigned | None:
    """The assignments of a list that a title, its file's name or the user calls so. Raises ListError."""
    table = lists.csv_table(data)
    if table is None:
        rows = lists.read_accounts(data, None) if of_provider else []
        return Assigned(tuple(str(row.user) for row in rows), (), ()) if rows else None
    header, cells = table
    if not of_provider and not any(word in text.lower() for word in _ASSIGNED for text in (path.stem, *header)):
        return None
    groups = next((place for place, title in enumerate(header) if _is_group(title)), None)
    if len(header) == 1:
        users = None if groups == 0 else 0
    else:
        users = next((place for place in _of_addresses(cells, len(header)) if place != groups), None)
        if users is None:
            users = next((place for place, title in enumerate(header) if _is_person(title) and place != groups), None)
    return _read(header, cells, users, groups)


def _by_type(header: Sequence[str], rows: Sequence[Sequence[str]]) -> Assigned | None:
    """A column that says of each row what it is."""
    for place in range(len(header)):
        kinds = [_TYPES.get(value.lower()) for value in _values(rows, place)]
        if not kinds or None in kinds or (len(set(kinds)) == 1 and kinds[0] == "user"):
            continue
        others = [other for other in range(len(header)) if other != place]
        users = [row for row, kind in zip(rows, kinds, strict=True) if kind == "user"]
        groups = [row for row, kind in zip(rows, kinds, strict=True) if kind == "group"]
        by_user = next((at for at in _of_addresses(users, len(header)) if at != place), None)
        by_user = by_user if by_user is not None else _full(users, others)
        by_group = _full(groups, others)
        if by_group is None or (users and by_user is None):
            continue
        titles = dict.fromkeys(header[at] for at in (by_user if users else None, by_group) if at is not None)
        found = _values(users, by_user) if by_user is not None else []
        return Assigned(_once(found), _once(_values(groups, by_group)), tuple(titles))
    return None


def _by_gaps(header: Sequence[str], rows: Sequence[Sequence[str]]) -> Assigned | None:
    """Groups alone, or users and groups of which a row fills one."""
    group = next((place for place, title in enumerate(header) if _is_group(title)), None)
    if group is None or "groups" in header[group]:
        return None  # a column of each person's groups is one of accounts
    people = [place for place, title in enumerate(header) if _is_person(title) and place != group]
    if not people:
        return _read(header, rows, None, group) if len(header) == 1 and len(header[0].split()) <= _TITLE_WORDS else None
    filled = list(zip(_values(rows, people[0]), _values(rows, group), strict=True))
    if not all(bool(user) != bool(name) for user, name in filled):
        return None
    return _read(header, rows, people[0], group)


def _read(
    header: Sequence[str], rows: Sequence[Sequence[str]], users: int | None, groups: int | None
) -> Assigned | None:
    names = _once(_values(rows, users)) if users is not None else ()
    titles = _once(_values(rows, groups)) if groups is not None and users is None else ()
    if groups is not None and users is not None:
        titles = _once(
            group for user, group in zip(_values(rows, users), _values(rows, groups), strict=True) if not user
        )
    read_from = tuple(header[at] for at, held in ((users, names), (groups, titles)) if held and at is not None)
    return Assigned(names, titles, read_from) if names or titles else None


def _of_addresses(rows: Sequence[Sequence[str]], width: int) -> list[int]:
    """The columns that hold nothing but addresses, blanks left out."""
    found = []
    for place in range(width):
        values = [value for value in _values(rows, place) if value]
        if values and all("@" in value and " " not in value for value in values):
            found.append(place)
    return found


def _full(rows: Sequence[Sequence[str]], places: Iterable[int]) -> int | None:
    """The first column in which every row has a value of its own."""
    for place in places:
        values = _values(rows, place)
        if rows and all(values) and len(set(values)) == len(values):
            return place
    return None


def _values(rows: Sequence[Sequence[str]], place: int) -> list[str]:
    return [row[place].strip() if place < len(row) else "" for row in rows]


def _once(values: Iterable[str]) -> tuple[str, ...]:
    return tuple(dict.fromkeys(value for value in values if value))


def _is_group(title: str) -> bool:
    return any(word in title for word in GROUP_TITLES)


def _is_person(title: str) -> bool:
    return any(word in title for word in PERSON_TITLES)
