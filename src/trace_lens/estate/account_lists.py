"""Lists of accounts, groups and assignments put on record: known by content, copied into the workspace, named there."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from pathlib import Path

from trace_lens.common import limits
from trace_lens.common.tuples import NamedTuple
from trace_lens.estate.assignment_lists import (
    GROUP_TITLES,
    PERSON_TITLES,
    Assigned,
    plainly_assigned,
    said_to_be_assigned,
)
from trace_lens.estate.plans import Wanted
from trace_lens.workspace import lists
from trace_lens.workspace.account_rows import ListError
from trace_lens.workspace.adding import APP


class ReadList(NamedTuple):
    """A list as it was read: the setting that names it, its copy, and the words that say how it was read."""

    settings: dict[str, object]
    file: str
    data: bytes
    words: str


def is_list(source: str) -> bool:
    """Whether a file holds a list of accounts, of groups with their members, or of who is assigned."""
    return read_list(source, "x") is not None


def read_list(source: str, app: str, *, of_provider: bool = False) -> ReadList | None:
    """A list for an application; None where the file is none. `of_provider`: it is the provider's own list of who may
    use the application.
    """
    path = Path(source)
    try:
        data = path.read_bytes()
    except OSError:
        return None
    if len(data) > limits.SOURCE_BYTES or b"\0" in data[:4096]:
        return None
    try:
        assigned = plainly_assigned(data)
        if assigned is None and (groups := _groups(source, data, app)):
            return groups
        assigned = assigned or said_to_be_assigned(path, data, of_provider=of_provider)
        return _assignments(source, assigned, app) if assigned else _accounts(path, data, app)
    except (ListError, UnicodeDecodeError):
        return None


def list_document(source: str, app: str, *, of_provider: bool) -> tuple[Wanted, dict[str, bytes], str]:
    """The settings of an application that a list changes, the copy of the list, and how it was read."""
    found = read_list(source, app, of_provider=of_provider)
    assert found is not None
    return Wanted(APP, app, dict(found.settings), {}, ()), {found.file: found.data}, found.words


def _assignments(source: str, assigned: Assigned, app: str) -> ReadList:
    file = f"assignments/{app}.csv"
    return ReadList({"provider_setup.assigned": file}, file, assigned.as_csv(), f"{source}: {assigned.words()}")


def _accounts(path: Path, data: bytes, app: str) -> ReadList | None:
    column = lists.name_column(data)
    rows = lists.read_accounts(data, None if column == "user" else column)
    if not rows:
        return None
    file = f"accounts/{app}{path.suffix or '.csv'}"
    settings: dict[str, object] = {"account.list": file}
    if column != "user":
        settings["account.column"] = column
    words = (
        f"{path}: {len(rows):,} accounts, named by the column {column!r}. "
        f"If it is the provider's list of who may use {app}, add --held-by provider."
    )
    return ReadList(settings, file, data, words)


def _groups(source: str, data: bytes, app: str) -> ReadList | None:
    """Groups with their members: two columns of which one names groups, each several times or by its title."""
    table = lists.csv_table(data)
    if table is None:
        return None
    header, rows = table
    group, member = _columns_of_groups(header, rows)
    if group is None or member is None:
        return None
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(("group", "member"))
    pairs = [(row[group].strip(), row[member].strip()) for row in rows if max(group, member) < len(row)]
    pairs = [pair for pair in pairs if all(pair)]
    if not pairs:
        return None
    writer.writerows(pairs)
    file = f"groups/{app}.csv"
    count = len({name for name, _ in pairs})
    words = (
        f"{source}: {count:,} groups with {len(pairs):,} members, read from the columns {header[group]!r} and "
        f"{header[member]!r}."
    )
    return ReadList({"account.groups": file}, file, out.getvalue().encode(), words)


def _columns_of_groups(header: Sequence[str], rows: Sequence[Sequence[str]]) -> tuple[int | None, int | None]:
    """The columns of group and member. Accounts with a column of their groups are no such list."""
    if {"group", "member"} <= set(header):
        return header.index("group"), header.index("member")
    values = [[row[place].strip() for row in rows if place < len(row)] for place in range(len(header))]
    addresses = [place for place, held in enumerate(values) if held and all("@" in text for text in held)]
    repeated = [place for place, held in enumerate(values) if held and len(set(held)) < len(held)]
    by_title = [place for place, name in enumerate(header) if any(word in name for word in GROUP_TITLES)]
    group = next((place for place in by_title if place in repeated or len(header) == 2), None)
    if group is None and len(header) == 2:
        group = next((place for place in repeated if place not in addresses), None)
    others = [place for place in range(len(header)) if place != group]
    unique = [place for place in others if values[place] and len(set(values[place])) == len(values[place])]
    if group is None or unique:
        return None, None
    titled = [place for place in others if any(word in header[place] for word in PERSON_TITLES)]
    return group, next(iter([*(place for place in others if place in addresses), *titled, *others]), None)
