"""All applications against time: the share of failures as colour, with the changes of each rate and what happened near.

The colours grow darker with the share, so that they can be read without telling hues apart; where there are few
sign-ins they fade. A triangle up is a change for the worse, one down for the better.
"""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from io import BytesIO
from typing import TYPE_CHECKING

from trace_lens.common.masking import visible
from trace_lens.fleet.logged import Logged
from trace_lens.fleet.overview import AppState, Fleet, worse
from trace_lens.render.figures.ladder import NothingToDraw

if TYPE_CHECKING:
    import numpy as np
    from matplotlib.axes import Axes
    from matplotlib.cm import ScalarMappable
    from numpy.typing import NDArray

_INK, _QUIET, _FIELD = "#1b1f24", "#7a828c", "#eef1f4"
_MOST = 60
_ENOUGH = 8
"""From so many sign-ins on, a share is drawn in its full colour."""
_STEPS = (1, 2, 3, 6, 12, 24, 48, 168)
_COLUMNS = 170
_COLOURS = ("#d5e3ee", "#f2d58a", "#e38f34", "#a8400c", "#4a1300")
"""From a share of none to the greatest: each darker than the one before."""
_FULL = 0.5
"""The share of failures from which on the colour is the darkest."""


def draw_fleet(found: Fleet, logged: Logged, form: str) -> bytes:
    """The applications that have sign-ins, as PNG or SVG. Raises NothingToDraw."""
    states = [state for state in found.apps if state.rate.attempts]
    if not states or found.span is None:
        raise NothingToDraw("no loaded log holds a sign-in of an application on record")
    states.sort(key=_order)
    listed = states[:_MOST]
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams.update({"font.family": "DejaVu Sans", "svg.fonttype": "none", "font.size": 9})
    figure = Figure(figsize=(12.8, 2.2 + 0.27 * len(listed)), dpi=100, facecolor="white", layout="constrained")
    axes = figure.subplots()
    hours = _hours(found.span)
    begin = _floor(found.span[0], hours)
    image = _cells(axes, listed, logged, begin, hours, found.span[1])
    for row, state in enumerate(listed):
        _marks(axes, state, row, begin)
    _frame(axes, listed, begin, found.span[1])
    bar = figure.colorbar(image, ax=axes, shrink=0.5, aspect=30, pad=0.01)
    bar.set_label("share of failed sign-ins", color=_INK)
    bar.set_ticks([0, 0.1, 0.2, 0.3, 0.4, 0.5], labels=["0 %", "10 %", "20 %", "30 %", "40 %", "50 % and more"])
    bar.outline.set_visible(False)
    more = f"; {len(states) - len(listed)} more are not drawn" if len(states) > len(listed) else ""
    axes.set_title(
        f"Failed sign-ins, {found.span[0]:%Y-%m-%d} to {found.span[1]:%Y-%m-%d}, {hours} h a cell; "
        f"pale: fewer than {_ENOUGH} sign-ins{more}",
        loc="left",
        fontsize=11,
        color=_INK,
        pad=26,
    )
    held = BytesIO()
    figure.savefig(held, format=form, metadata={"Date": None} if form == "svg" else {"Software": "Trace Lens"})
    return held.getvalue()


def _order(state: AppState) -> tuple[bool, float]:
    """Those that fail more than before come first, the others by their rate."""
    return not (state.changes and worse(state.changes[-1])), -(state.rate.share or 0.0)


def _hours(span: tuple[datetime, datetime]) -> int:
    whole = (span[1] - span[0]) / timedelta(hours=1)
    return next((hours for hours in _STEPS if whole / hours <= _COLUMNS), int(whole / _COLUMNS) + 1)


def _floor(moment: datetime, hours: int) -> float:
    width = hours * 3600
    return moment.timestamp() // width * width


def _days(seconds: float, begin: float) -> float:
    return (seconds - begin) / 86_400


def _cells(
    axes: Axes, listed: list[AppState], logged: Logged, begin: float, hours: int, end: datetime
) -> ScalarMappable:
    """The shares as cells; returns what the key of colours is made of."""
    import numpy as np
    from matplotlib.cm import ScalarMappable
    from matplotlib.colors import LinearSegmentedColormap, Normalize

    columns = logged.attempts
    width = hours * 3600
    count = int((end.timestamp() - begin) // width) + 1
    number = {name: place for place, name in enumerate(logged.apps)}
    cells: NDArray[np.float64] = np.ones((len(listed), count, 4))
    scale = Normalize(0, _FULL, clip=True)
    colours = LinearSegmentedColormap.from_list("share", _COLOURS)
    for row, state in enumerate(listed):
        mine = columns.app == number[state.app.id]
        place = ((columns.times[mine] - begin) // width).astype(int)
        attempts = np.bincount(place, minlength=count)[:count]
        failures = np.bincount(place, weights=columns.failed[mine], minlength=count)[:count]
        with np.errstate(invalid="ignore"):
            share = np.where(attempts > 0, failures / np.maximum(attempts, 1), 0.0)
        shade = np.array(colours(scale(share)))
        strength = np.where(attempts > 0, np.clip(0.25 + 0.75 * attempts / _ENOUGH, 0, 1), 0.0)[:, None]
        cells[row] = shade * strength + np.ones(4) * (1 - strength)
        cells[row, :, 3] = 1.0
    axes.imshow(
        cells,
        aspect="auto",
        interpolation="nearest",
        extent=(0, count * width / 86_400, len(listed) - 0.5, -0.5),
    )
    return ScalarMappable(norm=scale, cmap=colours)


def _marks(axes: Axes, state: AppState, row: int, begin: float) -> None:
    """The changes of one application, each with its interval."""
    for change in state.changes:
        place = _days(change.at.timestamp(), begin)
        low, high = (_days(moment.timestamp(), begin) for moment in (change.earliest, change.latest))
        axes.plot([low, high], [row, row], color="white", linewidth=3.2, solid_capstyle="butt", zorder=3)
        axes.plot([low, high], [row, row], color="#b3261e", linewidth=1.6, solid_capstyle="butt", zorder=4)
        axes.plot(
            place,
            row,
            marker="^" if worse(change) else "v",
            markersize=8,
            color="#b3261e" if worse(change) else "#1f6f8b",
            markeredgecolor="white",
            zorder=5,
            clip_on=False,
        )


def _frame(axes: Axes, listed: list[AppState], begin: float, end: datetime) -> None:
    """Names, days, and what happened near the changes."""
    axes.set_yticks(range(len(listed)), [visible(state.app.name) for state in listed], fontsize=8.5, color=_INK)
    first = datetime.fromtimestamp(begin, UTC)
    day = first.replace(hour=0, minute=0)
    span = (end - day).days + 1
    step = next((days for days in (1, 2, 7, 14, 28, 91, 182, 365) if span / days <= 16), 365)
    places: list[float] = []
    names: list[str] = []
    while day <= end:
        if day >= first:
            places.append(_days(day.timestamp(), begin))
            names.append(f"{day:%a %d}\n{day:%b %Y}" if not names or day.day <= step else f"{day:%a %d}")
        day += timedelta(days=step)
    axes.set_xticks(places, names, fontsize=8, color=_QUIET)
    axes.tick_params(length=0)
    axes.grid(visible=False)
    for row in range(1, len(listed)):
        axes.axhline(row - 0.5, color="white", linewidth=1.5)
    events = {item for state in listed for change in state.changes for item in change.near}
    drawn = sorted(events, key=lambda item: (item.at, item.what))[:12]
    groups: list[list[int]] = []
    for number, item in enumerate(drawn):
        place = _days(item.at.timestamp(), begin)
        axes.axvline(place, color=_INK, linewidth=1, linestyle=(0, (3, 2)), zorder=2)
        if groups and place - _days(drawn[groups[-1][0]].at.timestamp(), begin) < 0.015 * span:
            groups[-1].append(number)
        else:
            groups.append([number])
    for group in groups:
        place = _days(drawn[group[0]].at.timestamp(), begin)
        label = f"{group[0] + 1}" if len(group) == 1 else f"{group[0] + 1}–{group[-1] + 1}"
        axes.text(place, -0.7, label, fontsize=8, color=_INK, ha="center", va="bottom")
    if drawn:
        told = [f"{number}  {item.at:%d %b %H:%M}  {visible(item.what)}" for number, item in enumerate(drawn, 1)]
        axes.set_xlabel("\n".join(told), fontsize=8, color=_INK, loc="left")
    for side in ("top", "right", "left", "bottom"):
        axes.spines[side].set_visible(False)
