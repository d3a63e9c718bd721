"""The JSON form of a timeline, and of the log events of an attempt."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from trace_lens.common.moments import show_moment

if TYPE_CHECKING:
    from trace_lens.checks.validity import Validity
    from trace_lens.diagnosis.timelines import Timeline, TimelineAttempt
    from trace_lens.logs.matching.clocks import Clock
    from trace_lens.logs.matching.seen import LogView, Matched

Json = dict[str, Any]


def clock(one: Clock) -> Json:
    """The clock of one source."""
    return {
        "source": one.source,
        "offset_seconds": round(one.offset, 3),
        "low": None if one.low is None else round(one.low, 3),
        "high": None if one.high is None else round(one.high, 3),
        "drift_seconds_per_day": round(one.drift, 3),
        "basis": one.basis,
        "pairs": one.pairs,
    }


def matched(found: Sequence[Matched], logs: LogView | None) -> list[Json]:
    """The events of an attempt."""
    made = []
    for one in found:
        event = one.event
        meaning = logs.meaning(one) if logs else None
        made.append(
            {
                "source": event.source,
                "file": event.file,
                "line": event.line,
                "time": show_moment(event.time),
                "corrected_time": show_moment(one.corrected),
                "probability": round(one.probability, 4),
                "because": list(one.because),
                "role": one.role,
                "outcome": event.outcome,
                "code": event.code,
                "reason": event.reason,
                "means": meaning.means if meaning else None,
                "user": event.user,
                "app": event.app,
                "ip": event.ip,
            }
        )
    return made


def window(one: Validity) -> Json:
    """A window of validity."""
    return {
        "what": one.what,
        "begins": show_moment(one.begins) if one.begins else None,
        "ends": show_moment(one.ends) if one.ends else None,
    }


def attempt(one: TimelineAttempt, hops: list[Json]) -> Json:
    """One attempt of `trace-lens/timeline/1`."""
    first = one.diagnosis.first_break if one.diagnosis else None
    return {
        "id": one.id,
        "source": one.source,
        "app": one.app,
        "subject": one.subject,
        "at": show_moment(one.at) if one.at else None,
        "at_from": one.diagnosis.at_from if one.diagnosis else "log",
        "outcome": one.diagnosis.outcome if one.diagnosis else None,
        "first_break": first.code if first else None,
        "events": matched(one.events, one.logs),
        "possible": matched(one.possible, one.logs),
        "hops": hops,
        "windows": [window(each) for each in one.windows],
    }


def timeline(found: Timeline, attempts: list[Json], unreadable: list[Json]) -> Json:
    """`trace-lens/timeline/1`."""
    return {
        "schema": "trace-lens/timeline/1",
        "clocks": [clock(one) for one in found.clocks],
        "attempts": attempts,
        "unreadable": unreadable,
    }
