"""Lists of accounts put on record: copied into the workspace, and named in the application's settings."""

from __future__ import annotations

from pathlib import Path

from trace_lens.common import limits
from trace_lens.estate.plans import Wanted
from trace_lens.workspace import lists
from trace_lens.workspace.account_rows import AccountRow, ListError
from trace_lens.workspace.adding import APP, CannotAdd


def is_account_list(source: str) -> bool:
    """Whether a file holds a list of accounts."""
    try:
        return bool(_accounts(Path(source))[0])
    except (OSError, ListError, CannotAdd):
        return False


def list_document(source: str, app: str) -> tuple[Wanted, dict[str, bytes], str]:
    """The settings of an application that its list of accounts changes, the copy of the list, and how it was read."""
    path = Path(source)
    rows, column = _accounts(path)
    file = f"accounts/{app}{path.suffix or '.csv'}"
    settings = {"account.list": file, **({"account.column": column} if column != "user" else {})}
    told = f"{source}: {len(rows):,} accounts, named by the column {column!r}."
    return Wanted(APP, app, settings, {}, ()), {file: path.read_bytes()}, told


def _accounts(path: Path) -> tuple[list[AccountRow], str]:
    data = path.read_bytes()
    if len(data) > limits.SOURCE_BYTES:
        raise CannotAdd(f"{path} is larger than {limits.SOURCE_BYTES // 1024 // 1024} MB")
    column = lists.name_column(data)
    return lists.read_accounts(data, None if column == "user" else column), column
