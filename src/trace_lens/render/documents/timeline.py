"""The timeline in the terminal: an attempt from top to bottom, a lane for each side, times by the true clock."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from functools import partial

from trace_lens.common.masking import visible
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.diagnosis.timelines import (
    BEGINS,
    ENDS,
    EVENT,
    HOP,
    LANES,
    Mark,
    Timeline,
    TimelineAttempt,
    marks,
)
from trace_lens.logs.matching.clocks import NONE, Clock, Segment
from trace_lens.logs.matching.seen import Matched
from trace_lens.render.document import BLANK, Document, Drawing, Span, Spans, heading, prose, spans_of, table
from trace_lens.render.timeline_words import about, event_words, head, hop_words, written

_LANE = 5
_HEADS = tuple(name.center(_LANE) for name in ("app", "way", "idp"))
_PAUSE = 5.0
_OFF = 1.0
_HALF_HOUR = 1_800.0
_STYLE = {"success": "ok", "failure": "break"}
_BASIS = {"ids": "by shared ids", "times": "by times of the same people", NONE: "not known"}


def timeline_pages(found: Timeline) -> Document:
    """All attempts, then the clocks."""
    if not found.attempts:
        yield prose(
            "No loaded log event matches. Name a capture to lay the logs beside it, or look around with --user, --app, "
            "--around and --within."
        )
    for number, attempt in enumerate(found.attempts):
        if number:
            yield BLANK
        yield from _attempt(attempt)
    if found.clocks:
        yield BLANK
        yield from clock_lines(found.clocks, by_log=found.by_log)


def clock_lines(clocks: Sequence[Clock], *, by_log: bool = False) -> Document:
    """How far each log's clock is off."""
    than = "the log that begins the attempts" if by_log else "the captures"
    yield heading(Span("Clocks", "head"), f"  against {than}")
    rows: list[tuple[Span | str, ...]] = []
    for clock in clocks:
        if clock.low is None or clock.high is None:
            rows.append((_log(clock), "not known", "", "no events here are surely of these sign-ins"))
            continue
        doubt = (clock.high - clock.low) / 2
        off = abs(clock.offset) > max(doubt, _OFF)
        ahead = (
            f"{show_duration(timedelta(seconds=round(abs(clock.offset))))} {'ahead' if clock.offset > 0 else 'behind'}"
        )
        drift = f"; {clock.drift:+.1f} s a day" if clock.drift else ""
        drift = "; it was set meanwhile" if clock.segments else drift
        hours = abs(clock.offset) / _HALF_HOUR
        zone = "; whole half hours: is time_zone right?" if hours > 0.9 and abs(hours - round(hours)) < 0.02 else ""
        pairs = f"{clock.pairs:,} pair{'' if clock.pairs == 1 else 's'}"
        style = "risk" if off else ""
        rows.append(
            (
                _log(clock),
                Span(ahead if off else "right", style),
                f"± {doubt:.1f} s{drift}",
                f"{_BASIS[clock.basis]}, {pairs}{zone}",
            )
        )
        rows += [_segment(segment) for segment in clock.segments]
    yield table(("", "", "", ""), rows)


def _log(clock: Clock) -> str:
    """The log of a clock, with the files that are its own."""
    more = f" and {len(clock.files) - 1} more" if len(clock.files) > 1 else ""
    return f"{clock.source}: {clock.files[0]}{more}" if clock.files else clock.source


def _segment(segment: Segment) -> tuple[Span | str, ...]:
    """What held between two times at which a clock was set."""
    first, last = (datetime.fromtimestamp(round(end), UTC) for end in (segment.first, segment.last))
    length = show_duration(timedelta(seconds=round(abs(segment.offset))))
    ahead = f"{length} {'ahead' if segment.offset > 0 else 'behind'}" if abs(segment.offset) > _OFF else "right"
    doubt = (segment.high - segment.low) / 2
    return "", Span(f"  {ahead}", "quiet"), f"± {doubt:.1f} s", f"from {show_moment(first)} to {show_moment(last)}"


def _attempt(attempt: TimelineAttempt) -> Document:
    style = {"broken": "break", "sound": "ok"}.get(attempt.diagnosis.outcome if attempt.diagnosis else "", "head")
    yield heading(Span(f"{attempt.id}  ", "quiet"), Span(head(attempt), style), Span(f"  {about(attempt)}"))
    yield prose(attempt.source, 3, "quiet")
    listed = marks(attempt)
    if not listed:
        yield prose("Nothing here tells a time.", 3, "quiet")
        return
    yield Drawing(partial(_lanes, attempt, listed))
    if not attempt.events:
        yield prose(
            "The loaded logs have no event of this sign-in."
            if attempt.logs
            else "No logs are loaded; load them with: trace-lens logs load",
            3,
            "quiet",
        )
    if attempt.possible:
        yield prose(f"Perhaps of this sign-in too, but likelier not: {_listed(attempt.possible)}.", 3, "quiet")


def _lanes(attempt: TimelineAttempt, listed: Sequence[Mark], width: int) -> Iterator[Spans]:
    """The lanes of the sides, from top to bottom."""
    yield spans_of("   ", Span(f"{listed[0].at:%Y-%m-%d} UTC ", "quiet"), Span("".join(_HEADS), "quiet"))
    before: datetime | None = None
    for mark in listed:
        gap = (mark.at - before).total_seconds() if before else 0.0
        if gap > _PAUSE:
            later = show_duration(timedelta(seconds=round(gap)))
            yield spans_of(" " * 18, Span("".join("·".center(_LANE) for _ in LANES) + f" {later} later", "quiet"))
        before = mark.at
        yield from _mark(attempt, mark, width)


def _listed(possible: Sequence[Matched]) -> str:
    best = sorted(possible, key=lambda item: -item.probability)
    told = "; ".join(
        f"{matched.event.file} line {matched.event.line} ({matched.probability:.2f})" for matched in best[:3]
    )
    return told + (f" and {len(best) - 3} more" if len(best) > 3 else "")


def _mark(attempt: TimelineAttempt, mark: Mark, width: int) -> Iterator[Spans]:
    """One thing: its time, a sign on its lane, and what it was; what is wrapped stays beside the lanes."""
    sign, style = _sign(mark)
    time = f"{mark.at:%H:%M:%S}.{mark.at.microsecond // 100_000}".ljust(15)
    room = max(24, width - 19 - _LANE * len(LANES))
    rows = [(row, text_style) for text, text_style in _texts(attempt, mark) for row in _wrapped(text, room)]
    for number, (row, text_style) in enumerate(rows):
        here = [sign if lane == mark.lane and number == 0 else "│" for lane in LANES]
        lanes = [Span(text.center(_LANE), style if text == sign else "quiet") for text in here]
        yield spans_of("   ", time if number == 0 else " " * 15, *lanes, Span(" " + row, text_style))


def _wrapped(text: str, room: int) -> list[str]:
    return textwrap.wrap(visible(text), room, break_long_words=False, break_on_hyphens=False) or [""]


def _sign(mark: Mark) -> tuple[str, str]:
    if mark.kind == HOP and mark.step:
        return ("✗" if mark.step.marks.decisive else "●"), "break" if mark.step.marks.broken else ""
    if mark.kind == EVENT and mark.event:
        return "◆", _STYLE.get(mark.event.event.outcome, "")
    return {BEGINS: "┌", ENDS: "└"}.get(mark.kind, "○"), "quiet"


def _texts(attempt: TimelineAttempt, mark: Mark) -> Iterator[tuple[str, str]]:
    if mark.kind == HOP and mark.step:
        yield hop_words(mark.step), ""
        if mark.step.marks.broken:
            yield mark.step.marks.broken, "break"
    elif mark.kind == EVENT and mark.event:
        yield event_words(attempt, mark.event), _STYLE.get(mark.event.event.outcome, "")
        yield written(mark.event), "quiet"
    elif mark.kind in (BEGINS, ENDS):
        yield f"the {mark.what} {'begins to hold' if mark.kind == BEGINS else 'ends'}", "quiet"
    else:
        told = attempt.diagnosis.judged.at_from if attempt.diagnosis else None
        yield f"the moment it is judged at{f', by the {told}' if told else ''}", "quiet"
