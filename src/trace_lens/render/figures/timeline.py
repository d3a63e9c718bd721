"""Timelines as a figure: a true scale of time on the left, a row for each thing beside it, a lane for each side.

What lies close together in time is drawn apart in the rows; thin lines lead from each row to its place on the scale.
Windows of validity are bars along the scale.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime
from io import BytesIO
from typing import TYPE_CHECKING

from trace_lens.common.masking import visible
from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.timelines import BEGINS, ENDS, EVENT, HOP, LANES, Mark, Timeline, TimelineAttempt, marks
from trace_lens.render.figures.ladder import NothingToDraw
from trace_lens.render.timeline_words import about, event_words, head, hop_words, written

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INK, _QUIET, _BREAK, _OK = "#1b1f24", "#7a828c", "#b3261e", "#2e6b34"
_SIDES = {"application": "#1f6f8b", "between": "#7a828c", "provider": "#8a6d1f"}
_OUTCOMES = {"success": _OK, "failure": _BREAK}
_MOST = 40
_MOST_ATTEMPTS = 12
_LEAST = 3.2
"""The least height of a drawing, in inches: the names of windows stand above it, and need room."""
_SCALE, _LANES, _TEXT = 0.15, (0.36, 0.43, 0.50), 0.55


def draw_timelines(found: Timeline, form: str) -> bytes:
    """The attempts under each other, as PNG or SVG. Raises NothingToDraw."""
    drawn = [(attempt, listed) for attempt in found.attempts if (listed := _rows(attempt))][:_MOST_ATTEMPTS]
    if not drawn:
        raise NothingToDraw("nothing here tells a time that could be drawn")
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams.update({"font.family": "DejaVu Sans", "svg.fonttype": "none", "font.size": 9})
    heights = [max(_LEAST, 1.5 + 0.36 * len(listed)) for _, listed in drawn]
    figure = Figure(figsize=(12.8, sum(heights)), dpi=100, facecolor="white", layout="constrained")
    axes = figure.subplots(len(drawn), 1, squeeze=False, height_ratios=heights)
    for row, (attempt, listed) in zip(axes, drawn, strict=True):
        _draw(row[0], attempt, listed)
    held = BytesIO()
    figure.savefig(held, format=form, metadata={"Date": None} if form == "svg" else {"Software": "Trace Lens"})
    return held.getvalue()


def _rows(attempt: TimelineAttempt) -> list[Mark]:
    """What gets a row: all but the ends of windows, which are drawn along the scale."""
    return [mark for mark in marks(attempt) if mark.kind not in (BEGINS, ENDS)][:_MOST]


def _draw(axes: Axes, attempt: TimelineAttempt, listed: list[Mark]) -> None:
    bottom = len(listed) + 0.5
    begin, end = listed[0].at, listed[-1].at
    span = max((end - begin).total_seconds(), 1.0)

    def place(at: datetime) -> float:
        return 0.7 + (bottom - 1.2) * (at - begin).total_seconds() / span

    axes.plot([_SCALE, _SCALE], [0.4, bottom], color=_INK, linewidth=1.1)
    for step in _ticks(span):
        axes.plot([_SCALE - 0.005, _SCALE], [0.7 + (bottom - 1.2) * step / span] * 2, color=_INK, linewidth=0.8)
        axes.text(
            _SCALE - 0.009,
            0.7 + (bottom - 1.2) * step / span,
            f"{step:g} s",
            ha="right",
            va="center",
            color=_QUIET,
            fontsize=7.5,
        )
    _windows(axes, attempt, place, bottom)
    for lane, x in zip(LANES, _LANES, strict=True):
        axes.plot([x, x], [0.4, bottom], color=_SIDES[lane], linewidth=1.0, alpha=0.35, zorder=1)
        axes.text(x, 0.2, lane, ha="center", va="bottom", color=_SIDES[lane], weight="bold", fontsize=8.5)
    for row, mark in enumerate(listed, 1):
        _row(axes, attempt, mark, row, place(mark.at))
    shown = begin.replace(microsecond=0)
    axes.set_title(
        f"{head(attempt)}   {about(attempt)}   {visible(attempt.source)}, from {show_moment(shown)}",
        loc="left",
        color=_BREAK if attempt.diagnosis and attempt.diagnosis.outcome == "broken" else _INK,
        fontsize=11,
        weight="bold",
        pad=20,
    )
    axes.set_xlim(0, 1)
    axes.set_ylim(bottom + 0.3, -0.8)
    axes.axis("off")


def _windows(axes: Axes, attempt: TimelineAttempt, place: Callable[[datetime], float], bottom: float) -> None:
    """The windows of time of the messages, as bars at the left."""
    for number, window in enumerate(attempt.windows[:3]):
        top = place(window.begins) if window.begins else 0.4
        low = place(window.ends) if window.ends else bottom
        x = 0.022 + 0.022 * number
        inside = [min(max(edge, 0.4), bottom) for edge in (top, low)]
        if inside[1] > inside[0]:
            axes.plot([x, x], inside, color=_SIDES["provider"], linewidth=7, alpha=0.35, solid_capstyle="butt")
        axes.text(
            x, 0.3, visible(window.what), rotation=30, ha="left", va="bottom", color=_SIDES["provider"], fontsize=7
        )
        for edge, at, sign in ((window.begins, top, -1), (window.ends, low, 1)):
            if edge and 0.4 <= at <= bottom:
                axes.text(
                    x + 0.011,
                    place(edge),
                    "begins" if sign < 0 else "ends",
                    fontsize=7,
                    va="center",
                    color=_SIDES["provider"],
                )


def _row(axes: Axes, attempt: TimelineAttempt, mark: Mark, row: int, place: float) -> None:
    x = _LANES[LANES.index(mark.lane)]
    color = _INK
    axes.plot([_SCALE, _SCALE + 0.07, x], [place, row, row], color=_QUIET, linewidth=0.6, alpha=0.6, zorder=0)
    text, quiet = "the moment it is judged at", ""
    if mark.kind == HOP and mark.step:
        color = _BREAK if mark.step.marks.decisive else _SIDES[mark.lane]
        axes.plot([x], [row], marker="o", markersize=6, color=color, zorder=3)
        text = hop_words(mark.step)
        quiet = mark.step.marks.broken or ""
    elif mark.kind == EVENT and mark.event:
        color = _OUTCOMES.get(mark.event.event.outcome, _QUIET)
        full = "full" if mark.event.probability >= 0.9 else "left"
        axes.plot([x], [row], marker="D", markersize=7, color=color, fillstyle=full, zorder=3)
        text = event_words(attempt, mark.event)
        quiet = written(mark.event)
    else:
        axes.plot([x], [row], marker="o", markersize=6, color=_QUIET, fillstyle="none", zorder=3)
    axes.text(
        _SCALE + 0.075,
        row - 0.03,
        f"{mark.at:%H:%M:%S}.{mark.at.microsecond // 100_000}",
        color=_QUIET,
        va="bottom",
        fontsize=7.5,
    )
    cut = text if len(text) <= 78 else text[:77] + "…"
    axes.text(
        _TEXT,
        row,
        visible(cut),
        color=color if color in (_BREAK, _OK) else _INK,
        va="center",
        weight="bold" if color == _BREAK else "normal",
    )
    if quiet:
        axes.text(_TEXT, row + 0.36, visible(quiet), color=_QUIET, va="center", fontsize=7)


def _ticks(span: float) -> list[float]:
    """Round seconds along the scale, about six of them."""
    for step in (0.2, 0.5, 1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 1800, 3600, 7200, 21_600, 86_400):
        if span / step <= 7:
            return [step * number for number in range(int(span / step) + 1)]
    return [0.0, span]
