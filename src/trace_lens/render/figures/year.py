"""The year ahead as a figure: what ends when, one row a date, with its kind as a shape and who is not ready as colour.

Shape and words say what colour says, too, so that it can be read without.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from io import BytesIO
from typing import TYPE_CHECKING

from trace_lens.common.masking import visible
from trace_lens.fleet.dates import CERTIFICATE, KEY_SET, METADATA, NO, SECRET, YES, Ending
from trace_lens.render.figures.ladder import NothingToDraw

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INK, _QUIET, _FIELD = "#1b1f24", "#7a828c", "#eef1f4"
_COLOURS = {NO: "#b3261e", YES: "#2e6b34"}
_READY = {NO: "not ready", YES: "ready"}
_SHAPES = {CERTIFICATE: "o", SECRET: "s", METADATA: "D", KEY_SET: "^"}
_NAMES = {CERTIFICATE: "certificate", SECRET: "client secret", METADATA: "metadata", KEY_SET: "key of tokens"}
_MOST = 40
_YEAR = timedelta(days=365)
_PAST = timedelta(days=30)
"""So much of the past is drawn; what ended before stands at the edge."""


def draw_year(found: Sequence[Ending], now: datetime, form: str) -> bytes:
    """The dates from now on for a year, as PNG or SVG. Raises NothingToDraw."""
    listed = [ending for ending in found if ending.at <= now + _YEAR][:_MOST]
    if not listed:
        raise NothingToDraw("nothing on record ends within a year")
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams.update({"font.family": "DejaVu Sans", "svg.fonttype": "none", "font.size": 9})
    figure = Figure(
        figsize=(12.8, max(2.6, 1.5 + 0.42 * len(listed))), dpi=100, facecolor="white", layout="constrained"
    )
    axes = figure.subplots()
    _ground(axes, now, len(listed))
    for row, ending in enumerate(listed):
        _row(axes, ending, now, row)
    _key(axes, listed)
    left = len([ending for ending in found if ending.at <= now + _YEAR]) - len(listed)
    more = f"; {left} more are not drawn" if left else ""
    axes.set_title(f"What ends in the year from {now:%Y-%m-%d}{more}", loc="left", fontsize=11, color=_INK)
    held = BytesIO()
    figure.savefig(held, format=form, metadata={"Date": None} if form == "svg" else {"Software": "Trace Lens"})
    return held.getvalue()


def _days(at: datetime, now: datetime) -> float:
    return (at - now) / timedelta(days=1)


def _ground(axes: Axes, now: datetime, rows: int) -> None:
    """The months, and today."""
    first = -_days(now, now + _PAST)
    axes.set_xlim(-first, _days(now + _YEAR, now) + 175)
    axes.set_ylim(rows - 0.4, -0.9)
    month = (now - _PAST).replace(day=1, hour=0, minute=0, second=0, microsecond=0)
    places: list[float] = []
    names: list[str] = []
    while month <= now + _YEAR:
        following = (month + timedelta(days=32)).replace(day=1)
        begin, end = max(_days(month, now), -first), min(_days(following, now), 365)
        if len(places) % 2 == 0 and end > begin:
            axes.axvspan(begin, end, color=_FIELD, zorder=0, linewidth=0)
        if _days(month, now) >= -first:
            places.append(_days(month, now))
            names.append(f"{month:%b}\n{month:%Y}" if month.month == 1 or not any(names) else f"{month:%b}")
        else:
            places.append(-first)
            names.append("")
        month = following
    axes.set_xticks(places, names, fontsize=8, color=_QUIET, ha="left")
    axes.set_yticks([])
    axes.axvline(0, color=_INK, linewidth=1.2)
    axes.text(0, -0.65, " now", fontsize=8, color=_INK, va="center")
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(_QUIET)
    axes.tick_params(length=0)


def _row(axes: Axes, ending: Ending, now: datetime, row: int) -> None:
    place = max(_days(ending.at, now), -_days(now + _PAST, now))
    colour = _COLOURS.get(ending.ready, _QUIET)
    axes.plot([min(place, 0), max(place, 0)], [row, row], color=colour, linewidth=0.9, alpha=0.55, zorder=1)
    filled = colour if ending.ready != YES else "white"
    axes.plot(
        place,
        row,
        marker=_SHAPES[ending.kind],
        markersize=8,
        color=colour,
        markerfacecolor=filled,
        zorder=3,
        clip_on=False,
    )
    beside = max(place, 0) + 5
    count = len(ending.hits)
    hit = f"{count} application{'' if count == 1 else 's'}" if count else "nobody on record"
    days = ending.days(now)
    when = f"in {days} days" if days >= 0 else f"{-days} days ago"
    ready = f", {_READY[ending.ready]}" if ending.ready in _READY else ""
    axes.text(beside, row - 0.17, visible(ending.what), fontsize=9, color=_INK, va="center")
    axes.text(
        beside, row + 0.22, f"{ending.at:%Y-%m-%d}, {when}: {hit}{ready}", fontsize=7.5, color=_QUIET, va="center"
    )


def _key(axes: Axes, listed: Sequence[Ending]) -> None:
    """What the shapes and colours mean, of those that are there."""
    from matplotlib.lines import Line2D

    kinds = dict.fromkeys(ending.kind for ending in listed)
    told = [Line2D([], [], marker=_SHAPES[kind], color=_QUIET, linestyle="none", label=_NAMES[kind]) for kind in kinds]
    states = [state for state in (NO, YES) if any(ending.ready == state for ending in listed)]
    told += [Line2D([], [], color=_COLOURS[state], linewidth=3, label=_READY[state]) for state in states]
    axes.legend(handles=told, loc="upper right", fontsize=8, frameon=False, labelcolor=_INK)
