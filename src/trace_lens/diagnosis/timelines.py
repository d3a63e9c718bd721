"""Attempts on one axis of true time: hops, log events, windows of validity, each on the lane of its side."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING

from trace_lens.checks.validity import Validity
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.diagnosing import Result
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.steps import Step
from trace_lens.logs.event import APPLICATION, PROVIDER
from trace_lens.logs.matching.rebuilding import Rebuilt
from trace_lens.logs.matching.seen import LogView, Matched, Seen

if TYPE_CHECKING:
    from collections.abc import Mapping

    from trace_lens.logs.matching.clocks import Clock
    from trace_lens.workspace.log_settings import LogCode
from trace_lens.workspace.log_sources import LogSource

BETWEEN = "between"
LANES = (APPLICATION, BETWEEN, PROVIDER)
HOP, EVENT, BEGINS, ENDS, JUDGED = "hop", "event", "begins", "ends", "judged"


class TimelineAttempt(NamedTuple):
    """One attempt with all that is known of its times. `diagnosis` is None where it was rebuilt from logs alone."""

    id: str
    source: str
    app: str | None
    subject: str | None
    at: datetime | None
    diagnosis: Diagnosis | None
    steps: tuple[Step, ...]
    windows: tuple[Validity, ...]
    events: tuple[Matched, ...]
    possible: tuple[Matched, ...]
    logs: LogView | None


class Timeline(NamedTuple):
    """The attempts, and the clocks that their times were corrected by. `by_log` tells whose clock counts as true where
    nothing was captured.
    """

    attempts: tuple[TimelineAttempt, ...]
    clocks: tuple[Clock, ...]
    by_log: bool = False


class Mark(NamedTuple):
    """Something on the axis: when by the true clock, what (`hop`, `event`, `begins`, `ends`, `judged`), on which lane.

    `number` is that of the hop; `event` and `step` are there for their kinds; `what` names a window.
    """

    at: datetime
    kind: str
    lane: str
    what: str = ""
    step: Step | None = None
    event: Matched | None = None


def of_diagnoses(result: Result) -> Timeline:
    """The timeline of what was captured."""
    return Timeline(tuple(map(_attempt, result.diagnoses)), result.clocks)


def _attempt(diagnosis: Diagnosis) -> TimelineAttempt:
    logs = diagnosis.details.logs
    return TimelineAttempt(
        id=diagnosis.id,
        source=diagnosis.source,
        app=diagnosis.app,
        subject=diagnosis.subject,
        at=diagnosis.at,
        diagnosis=diagnosis,
        steps=diagnosis.details.steps,
        windows=diagnosis.details.windows,
        events=logs.events if logs else (),
        possible=logs.possible if logs else (),
        logs=logs,
    )


def of_rebuilt(rebuilt: Rebuilt, sources: Mapping[str, LogSource], user: str) -> Timeline:
    """The timeline of what the logs alone show."""
    made = []
    for number, attempt in enumerate(rebuilt.attempts, 1):
        made.append(_rebuilt(str(number), attempt, rebuilt.found.view(attempt.key, sources), user))
    return Timeline(tuple(made), rebuilt.found.clocks, by_log=True)


def _rebuilt(number: str, trace: Seen, view: LogView, user: str) -> TimelineAttempt:
    return TimelineAttempt(
        id=number,
        source="logs",
        app=trace.app,
        subject=user,
        at=trace.at,
        diagnosis=None,
        steps=(),
        windows=(),
        events=view.events,
        possible=view.possible,
        logs=view,
    )


def meaning_of(attempt: TimelineAttempt, matched: Matched) -> LogCode | None:
    """What the organisation says that an event's code means."""
    return attempt.logs.meaning(matched) if attempt.logs else None


def marks(attempt: TimelineAttempt) -> list[Mark]:
    """Everything on the axis, in the order of true times."""
    found = [Mark(step.timing.at, HOP, _lane(step.side), step=step) for step in attempt.steps if step.timing.at]
    found += [Mark(event.corrected, EVENT, _lane(event.role), event=event) for event in attempt.events]
    for window in attempt.windows:
        if window.begins:
            found.append(Mark(window.begins, BEGINS, PROVIDER, window.what))
        if window.ends:
            found.append(Mark(window.ends, ENDS, PROVIDER, window.what))
    if attempt.at and attempt.diagnosis and not attempt.steps:
        found.append(Mark(attempt.at, JUDGED, APPLICATION))
    order = (JUDGED, BEGINS, HOP, EVENT, ENDS)
    return sorted(found, key=lambda item: (item.at, order.index(item.kind)))


def _lane(side: str) -> str:
    return side if side in (APPLICATION, PROVIDER) else BETWEEN
