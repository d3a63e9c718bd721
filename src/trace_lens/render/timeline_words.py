"""The words of a timeline, the same in the terminal and in the figure."""

from __future__ import annotations

from trace_lens.common.masking import visible
from trace_lens.diagnosis.steps import Step
from trace_lens.diagnosis.timelines import TimelineAttempt, meaning_of
from trace_lens.logs.matching.seen import Matched
from trace_lens.render.kind_words import WORDS

_OFF = 1.0


def head(attempt: TimelineAttempt) -> str:
    """The outcome of an attempt, with its first break."""
    if attempt.diagnosis is None:
        return "REBUILT FROM THE LOGS"
    first = attempt.diagnosis.first_break
    return attempt.diagnosis.outcome.upper() + (f": {first.code}" if first else "")


def about(attempt: TimelineAttempt) -> str:
    """Which application, and who."""
    return ", ".join(visible(part) for part in (attempt.app, attempt.subject) if part)


def hop_words(step: Step) -> str:
    """A hop: method, address, status, and what it carried."""
    carried = ", ".join(WORDS.get(kind, kind.replace("-", " ")) for kind in step.request.carries)
    path = "/" + step.request.url.partition("://")[2].partition("/")[2]
    status = f" → {step.answer.status}" if step.answer.status else ""
    return f"{step.request.method} {step.request.host}{path}{status}" + (f"  {carried}" if carried else "")


def event_words(attempt: TimelineAttempt, matched: Matched) -> str:
    """An event: its source, outcome and code, the organisation's meaning of the code, else the log's reason."""
    event = matched.event
    meaning = meaning_of(attempt, matched)
    said = " ".join(part for part in (event.outcome, event.code) if part)
    why = meaning.means if meaning else event.reason or ""
    return f"{event.source}: {said}" + (f", {why}" if why else "")


def written(matched: Matched) -> str:
    """Where an event stands, when by its own clock, and why it is taken to be of the attempt."""
    event = matched.event
    off = abs((event.time - matched.corrected).total_seconds()) > _OFF
    clock = f"written {event.time:%H:%M:%S}, " if off else ""
    return f"{clock}line {event.line}; {matched.probability:.2f} by {', '.join(matched.because) or 'little'}"
