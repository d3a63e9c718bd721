"""`changes.csv`: what people changed, at which application or provider, and when."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from trace_lens.common.moments import MomentError, read_moment_or_date
from trace_lens.workspace.account_rows import ListError
from trace_lens.workspace.lists import rows_of

CHANGES_FILE = "changes.csv"


class Change(NamedTuple):
    """One change on record; `app` names an application or a provider, and is empty where it concerns all."""

    at: datetime
    app: str
    what: str
    line: int


def read_changes(data: bytes) -> list[Change]:
    """Changes from CSV with columns `at`, `app` and `what`, in the order of their moments. Raises ListError."""
    found = []
    for line, row in rows_of(data, "at"):
        try:
            at = read_moment_or_date(row.get("at", ""))
        except MomentError as error:
            raise ListError(f"at: {error}", line) from None
        found.append(Change(at, row.get("app", ""), row.get("what", ""), line))
    return sorted(found)
