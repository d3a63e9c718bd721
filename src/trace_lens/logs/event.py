"""An event of a log: one shape for what every system writes down of a sign-in."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

FIELDS = ("time", "user", "app", "outcome", "code", "reason", "ip")


class Event(NamedTuple):
    """One event: where it stands, and what it says. `time` is in UTC.

    `doubled` marks one that stands before in the same source, word for word; that is known in the store only.
    """

    source: str
    file: str
    line: int
    time: datetime
    user: str | None
    app: str | None
    outcome: str
    code: str | None
    reason: str | None
    ip: str | None
    ids: tuple[str, ...]
    doubled: bool = False


APPLICATION, PROVIDER, GATEWAY = "application", "provider", "gateway"
"""The roles of sources."""


SUCCESS, FAILURE, OTHER = "success", "failure", "other"
"""The outcomes of events."""
