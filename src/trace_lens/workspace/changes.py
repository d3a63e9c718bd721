"""`changes.csv`: what people changed, at which application or provider, and when."""

from __future__ import annotations

from datetime import datetime, timedelta

from trace_lens.common.moments import MomentError, read_duration, read_moment_or_date
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.account_rows import ListError
from trace_lens.workspace.lists import rows_of

CHANGES_FILE = "changes.csv"


COLUMNS = ("at", "app", "what", "who", "takes")
TAKES = timedelta(hours=1)
"""How long a change takes to arrive where nothing is said: providers and applications keep settings for a while."""


class Change(NamedTuple):
    """One change on record; `app` names an application or a provider, and is empty where it concerns all.

    `takes` is how long it takes until it has arrived everywhere.
    """

    at: datetime
    app: str
    what: str
    line: int
    who: str = ""
    takes: timedelta = TAKES


def read_changes(data: bytes) -> list[Change]:
    """Changes from CSV with columns `at`, `app`, `what`, `who` and `takes`, in the order of their moments.

    Raises ListError.
    """
    found = []
    for line, row in rows_of(data, "at"):
        if not any(row.values()):
            continue
        try:
            at = read_moment_or_date(row.get("at", ""))
        except MomentError as error:
            raise ListError(f"at: {error}", line) from None
        try:
            takes = read_duration(row["takes"]) if row.get("takes") else TAKES
        except MomentError as error:
            raise ListError(f"takes: {error}", line) from None
        found.append(Change(at, row.get("app", ""), row.get("what", ""), line, row.get("who", ""), takes))
    return sorted(found)
