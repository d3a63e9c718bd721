"""Account, assignment and group lists as CSV: rows into people and groups, with the line of each."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import NamedTuple

from trace_lens.common import limits

_YES = {"yes", "true", "1", "y", "active", "enabled"}
_NO = {"no", "false", "0", "n", "inactive", "disabled"}


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
        """Every name on record for this person."""
        return tuple(name for name in (self.user, self.email, self.login, self.id) if name)


class AssignmentRow(NamedTuple):
    """One line of an assignment list: a user, a group, or both."""

    user: str | None
    group: str | None
    line: int


def read_accounts(data: bytes, column: str | None = None) -> list[AccountRow]:
    """Accounts from CSV with a header; `column` names the one that holds the account's name, else `user`.

    Raises ListError where the column is missing.
    """
    wanted = (column or "user").strip().lower()
    rows = []
    for line, row in rows_of(data, wanted):
        name = row.get(wanted, "")
        if not name:
            continue
        active = (row.get("active") or "yes").lower()
        if active not in _YES | _NO:
            raise ListError(f"active is {active!r}; it must be yes, no, true, false, 1 or 0", line)
        rows.append(
            AccountRow(
                name, line, row.get("email") or None, row.get("login") or None, row.get("id") or None,
                active in _YES, (row.get("sign_in") or "federated").lower() != "password",
                tuple(group.strip() for group in (row.get("groups") or "").split(";") if group.strip()),
            )
        )  # fmt: skip
    return rows


def read_assignments(data: bytes) -> list[AssignmentRow]:
    """Assignments from CSV with a header of `user`, `group` or both. Raises ListError."""
    return [
        AssignmentRow(row.get("user") or None, row.get("group") or None, line)
        for line, row in rows_of(data, "user", "group")
        if row.get("user") or row.get("group")
    ]


def read_members(data: bytes) -> dict[str, list[str]]:
    """Group membership from CSV with columns `group` and `member`: group → its members. Raises ListError."""
    members: dict[str, list[str]] = {}
    for line, row in rows_of(data, "member"):
        if not row.get("group"):
            raise ListError("there is no value in the column group", line)
        members.setdefault(row["group"], []).append(row.get("member", ""))
    return members


def groups_of(names: set[str], members: dict[str, list[str]]) -> set[str]:
    """The groups that any of these names belongs to, directly or through other groups."""
    found: set[str] = set()
    known = {name.casefold() for name in names}
    grown = True
    while grown:
        grown = False
        for group, inside in members.items():
            if group not in found and any(member.casefold() in known for member in inside):
                found.add(group)
                known.add(group.casefold())
                grown = True
    return found


def rows_of(data: bytes, *any_of: str) -> Iterator[tuple[int, dict[str, str]]]:
    """Rows as header (lower case) → value, with the line each begins on; the delimiter is told by the header."""
    text = _decode(data)
    header_line = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=header_line.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        header = [name.strip().lower() for name in next(reader)]
    except StopIteration:
        raise ListError("it is empty; a header line is needed") from None
    except csv.Error as error:
        raise ListError(f"it is no CSV: {error}") from None
    if not set(any_of) & set(header):
        raise ListError(f"its header has no column {' or '.join(any_of)} (it has: {', '.join(header)})")
    begin = reader.line_num + 1
    try:
        for count, row in enumerate(reader):
            if count >= limits.LIST_ROWS:
                raise ListError(f"it has more than {limits.LIST_ROWS:,} rows", begin)
            yield begin, {name: value.strip() for name, value in zip(header, row, strict=False)}
            begin = reader.line_num + 1
    except csv.Error as error:
        raise ListError(f"it is no CSV: {error}", reader.line_num) from None


def _decode(data: bytes) -> str:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")
