"""Account, assignment and group lists: rows into people and groups, with the line of each.

CSV is read here; SCIM 2.0 resources (RFC 7644) and LDIF (RFC 2849) are told apart by how the file begins and read by
`scim` and `ldif`.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from typing import Protocol

from trace_lens.common import limits
from trace_lens.common.octets import as_utf8
from trace_lens.common.personal import person
from trace_lens.common.sentences import Person
from trace_lens.workspace.account_rows import AccountRow, AssignmentRow, ListError, Membership

_NAME_COLUMNS = ("user", "username", "user_name", "user name", "login", "account", "accountname", "sign-in name", "uid")
_SAMPLE = 500
_YES = {"yes", "true", "1", "y", "active", "enabled"}
_NO = {"no", "false", "0", "n", "inactive", "disabled"}


def read_accounts(data: bytes, column: str | None = None) -> list[AccountRow]:
    """Accounts from CSV with a header, SCIM 2.0 users or LDIF.

    `column` names the column or attribute that holds the account's name (else `user`, `userName`, `uid`). Rows
    without a name are passed over. Raises ListError where that column is missing or a row cannot be understood.
    """
    match _form(data):
        case "scim":
            from trace_lens.workspace.scim import read_users

            return read_users(data, column)
        case "ldif":
            from trace_lens.workspace.ldif import read_people

            return read_people(data, column)
    return list(_accounts_of_csv(data, (column or "user").strip().lower()))


def name_column(data: bytes) -> str:
    """The column, or attribute, that holds the account's name: one called so, else the first one of addresses, each
    another. Raises ListError where there is none.
    """
    if _form(data) != "csv":
        return "user"
    header, rows = _table(data)
    known = next((name for name in _NAME_COLUMNS if name in header), None)
    if known:
        return known
    sample = [row for _, row in zip(range(_SAMPLE), rows, strict=False)]
    for place, name in enumerate(header):
        values = [row[place].strip() for _, row in sample if place < len(row)]
        if values and len(set(values)) == len(values) and all("@" in value and " " not in value for value in values):
            return name
    raise ListError(f"no column of names was recognised among {', '.join(header)}; [account] column names it", 1)


def csv_table(data: bytes) -> tuple[list[str], list[list[str]]] | None:
    """The header, in lower case, and the rows of a CSV list; None where the data is a list of another form.

    Raises ListError.
    """
    if _form(data) != "csv":
        return None
    header, rows = _table(data)
    return header, [row for _, row in rows if any(cell.strip() for cell in row)]


def _accounts_of_csv(data: bytes, wanted: str) -> Iterator[AccountRow]:
    header, rows = _table(data, wanted)
    columns = (wanted, "email", "login", "id", "active", "sign_in", "groups")
    places = [header.index(name) if name in header else len(header) for name in columns]
    for line, row in rows:
        cells = [*row, *[""] * (len(header) - len(row) + 1)] if len(row) <= len(header) else [*row[: len(header)], ""]
        user, email, login, key, active, sign_in, groups = [cells[place].strip() for place in places]
        if not user:
            continue
        state = active.lower() or "yes"
        if state not in _YES and state not in _NO:
            raise ListError(f"active is {state!r}; it must be yes, no, true, false, 1 or 0", line)
        yield AccountRow(
            user=Person(user),
            line=line,
            email=person(email or None),
            login=person(login or None),
            id=person(key or None),
            active=state in _YES,
            federated=sign_in.lower() != "password",
            groups=tuple(group.strip() for group in groups.split(";") if group.strip()) if groups else (),
        )


def read_assignments(data: bytes) -> list[AssignmentRow]:
    """Assignments from CSV with a header of `user`, `group` or both. Raises ListError."""
    return [
        AssignmentRow(row.get("user") or None, row.get("group") or None, line)
        for line, row in rows_of(data, "user", "group")
        if row.get("user") or row.get("group")
    ]


def read_members(data: bytes) -> Membership:
    """Group membership from CSV with columns `group` and `member`, SCIM 2.0 groups or LDIF. Raises ListError."""
    match _form(data):
        case "scim":
            from trace_lens.workspace.scim import read_groups

            return Membership(read_groups(data))
        case "ldif":
            from trace_lens.workspace.ldif import read_groups as read_ldif_groups

            return Membership(read_ldif_groups(data))
    members: dict[str, list[str]] = {}
    for line, row in rows_of(data, "member"):
        if not row.get("group"):
            raise ListError("there is no value in the column group", line)
        members.setdefault(row["group"], []).append(row.get("member", ""))
    return Membership(((group,), inside) for group, inside in members.items())


def _form(data: bytes) -> str:
    """`scim`, `ldif` or `csv`, by how a list begins."""
    head = data[:4096].lstrip(b"\xef\xbb\xbf \t\r\n")
    if head[:1] in (b"{", b"["):
        return "scim"
    for line in head.splitlines():
        start = line.lower()
        if start.startswith((b"dn:", b"version:")):
            return "ldif"
        if line.strip() and not line.startswith((b"#", b" ")):
            return "csv"
    return "csv"


def rows_of(data: bytes, *any_of: str) -> Iterator[tuple[int, dict[str, str]]]:
    """Rows as header (lower case) → value, with the line each begins on; the delimiter is told by the header."""
    header, rows = _table(data, *any_of)
    for line, row in rows:
        yield line, {name: value.strip() for name, value in zip(header, row, strict=False)}


def _table(data: bytes, *any_of: str) -> tuple[list[str], Iterator[tuple[int, list[str]]]]:
    """The header of a CSV file and its rows with the line each begins on. Raises ListError."""
    text = _decode(data)
    header_line = next((line for line in text.splitlines() if line.strip()), "")
    delimiter = max(",;\t", key=header_line.count)
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    try:
        header = [name.strip().lower() for name in next(row for row in reader if any(cell.strip() for cell in row))]
    except StopIteration:
        raise ListError("it is empty; a header line is needed") from None
    except csv.Error as error:
        raise ListError(f"it is no CSV: {error}") from None
    if any_of and not set(any_of) & set(header):
        raise ListError(f"its header has no column {' or '.join(any_of)} (it has: {', '.join(header)})")
    return header, _rows(reader)


class _Reader(Protocol):
    """What of the csv module's reader is used here."""

    line_num: int

    def __iter__(self) -> Iterator[list[str]]: ...


def _rows(reader: _Reader) -> Iterator[tuple[int, list[str]]]:
    begin = reader.line_num + 1
    try:
        for count, row in enumerate(reader):
            if count >= limits.LIST_ROWS:
                raise ListError(f"it has more than {limits.LIST_ROWS:,} rows", begin)
            yield begin, row
            begin = reader.line_num + 1
    except csv.Error as error:
        raise ListError(f"it is no CSV: {error}", reader.line_num) from None


def _decode(data: bytes) -> str:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    try:
        return as_utf8(data).decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("cp1252", "replace")
