"""The JSON form of a timeline, and of the log events of an attempt."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from trace_lens.common.moments import show_moment

if TYPE_CHECKING:
    from trace_lens.checks.validity import Validity
    from trace_lens.diagnosis.timelines import Timeline, TimelineAttempt
    from trace_lens.logs.matching.clocks import Clock
    from trace_lens.logs.matching.seen import LogView, Matched

Json = dict[str, Any]


def clock(clock: Clock) -> Json:
    """The clock of one source."""
    return {
        "source": clock.source,
        "files": list(clock.files),
        "offset_seconds": round(clock.offset, 3),
        "low": None if clock.low is None else round(clock.low, 3),
        "high": None if clock.high is None else round(clock.high, 3),
        "drift_seconds_per_day": round(clock.drift, 3),
        "basis": clock.basis,
        "pairs": clock.pairs,
        "segments": [
            {
                "from": show_moment(datetime.fromtimestamp(round(segment.first, 3), UTC)),
                "to": show_moment(datetime.fromtimestamp(round(segment.last, 3), UTC)),
                "offset_seconds": round(segment.offset, 3),
                "low": round(segment.low, 3),
                "high": round(segment.high, 3),
            }
            for segment in clock.segments
        ],
    }


def matched(found: Sequence[Matched], logs: LogView | None) -> list[Json]:
    """The events of an attempt."""
    made = []
    for matched in found:
        event = matched.event
        meaning = logs.meaning(matched) if logs else None
        made.append(
            {
                "source": event.source,
                "file": event.file,
                "line": event.line,
                "generation": event.generation,
                "also": [{"file": place.file, "line": place.line} for place in event.also],
                "time": show_moment(event.time),
                "corrected_time": show_moment(matched.corrected),
                "probability": round(matched.probability, 4),
                "because": list(matched.because),
                "role": matched.role,
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


def window(validity: Validity) -> Json:
    """A window of validity."""
    return {
        "what": validity.what,
        "begins": show_moment(validity.begins) if validity.begins else None,
        "ends": show_moment(validity.ends) if validity.ends else None,
    }


def attempt(attempt: TimelineAttempt, hops: list[Json]) -> Json:
    """One attempt of `trace-lens/timeline/1`."""
    first = attempt.diagnosis.first_break if attempt.diagnosis else None
    return {
        "id": attempt.id,
        "source": attempt.source,
        "app": attempt.app,
        "subject": attempt.subject,
        "at": show_moment(attempt.at) if attempt.at else None,
        "at_from": attempt.diagnosis.judged.at_from if attempt.diagnosis else "log",
        "outcome": attempt.diagnosis.outcome if attempt.diagnosis else None,
        "first_break": first.code if first else None,
        "events": matched(attempt.events, attempt.logs),
        "possible": matched(attempt.possible, attempt.logs),
        "hops": hops,
        "windows": [window(validity) for validity in attempt.windows],
    }


def timeline(found: Timeline, attempts: list[Json], unreadable: list[Json]) -> Json:
    """`trace-lens/timeline/1`."""
    return {
        "schema": "trace-lens/timeline/1",
        "clocks": [clock(own_clock) for own_clock in found.clocks],
        "attempts": attempts,
        "unreadable": unreadable,
    }
