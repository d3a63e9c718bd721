"""An event of a log: one shape for what every system writes down of a sign-in."""

from __future__ import annotations

from datetime import datetime

from trace_lens.common.tuples import NamedTuple

FIELDS = ("time", "user", "app", "outcome", "code", "reason", "ip")


class Place(NamedTuple):
    """Where an event stands: file and line. `generation` numbers the contents that the file had, where another took
    the place of this one.
    """

    file: str
    line: int
    generation: int | None = None


class Event(NamedTuple):
    """One event: where it stands, and what it says. `time` is in UTC.

    `doubled` marks one that stands before in the same file, word for word; `also` are its places in further files.
    Both are known in the store only.
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
    also: tuple[Place, ...] = ()
    generation: int | None = None

    @property
    def place(self) -> tuple[str, str, int, int | None]:
        """What tells it from every other event."""
        return self.source, self.file, self.line, self.generation


APPLICATION, PROVIDER, GATEWAY = "application", "provider", "gateway"
"""The roles of sources."""


SUCCESS, FAILURE, OTHER = "success", "failure", "other"
"""The outcomes of events."""
