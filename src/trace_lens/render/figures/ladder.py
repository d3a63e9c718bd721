"""The way as a figure: hosts as lifelines, time downwards, an arrow a hop, and bars for the time that each side took.

Long pauses, in which a person reads or types, are drawn short and marked, so that the hops around them can be read.
"""

from __future__ import annotations

from collections.abc import Sequence
from io import BytesIO
from typing import TYPE_CHECKING, Any

from trace_lens.common.masking import visible
from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.steps import Step, pause_before, time_spent
from trace_lens.render.documents.ladder import hosts_of
from trace_lens.render.kind_words import WORDS

if TYPE_CHECKING:
    from matplotlib.axes import Axes

FORMS = ("png", "svg")
_MOST_HOSTS = 6
_MOST_STEPS = 60
_INK, _QUIET, _BREAK, _RISK = "#1b1f24", "#7a828c", "#b3261e", "#8a4baf"
_SIDES = {"application": "#1f6f8b", "provider": "#8a6d1f", "other": "#7a828c"}


class NothingToDraw(ValueError):
    """No diagnosis shows a way; says so."""


def draw_ways(diagnoses: Sequence[Diagnosis], form: str) -> bytes:
    """The ways of diagnoses under each other, as PNG or SVG. Raises NothingToDraw."""
    drawn = [diagnosis for diagnosis in diagnoses if diagnosis.details.steps]
    if not drawn:
        raise NothingToDraw("no capture here shows the way: a figure needs a browser export or a dump of header fields")
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib.figure import Figure

    mpl.rcParams.update({"font.family": "DejaVu Sans", "svg.fonttype": "none", "font.size": 9})
    heights = [_height(diagnosis) for diagnosis in drawn]
    figure = Figure(figsize=(12.8, sum(heights)), dpi=100, facecolor="white", layout="constrained")
    axes = figure.subplots(len(drawn), 1, squeeze=False, height_ratios=heights)
    for row, diagnosis in zip(axes, drawn, strict=True):
        _draw(row[0], diagnosis)
    held = BytesIO()
    figure.savefig(held, format=form, metadata={"Date": None} if form == "svg" else {"Software": "Trace Lens"})
    return held.getvalue()


def _height(diagnosis: Diagnosis) -> float:
    return 1.9 + 0.42 * min(len(diagnosis.details.steps), _MOST_STEPS) + 0.3 * len(time_spent(diagnosis.details.steps))


def _draw(axes: Axes, diagnosis: Diagnosis) -> None:
    steps = diagnosis.details.steps[:_MOST_STEPS]
    hosts = hosts_of(steps, _MOST_HOSTS)
    names = {"application": diagnosis.parties.app_name or "", "provider": diagnosis.parties.provider_name or ""}
    bottom = len(steps) + 0.6
    for place, host in enumerate(hosts):
        side = next((step.side for step in steps if step.request.host == host), "other")
        axes.plot([place, place], [0, bottom], color=_SIDES[side], linewidth=1.2, alpha=0.55, zorder=1)
        title = names.get(side, "")
        axes.text(
            place, -0.62, visible(title), ha="center", va="bottom", color=_SIDES[side], weight="bold", fontsize=10
        )
        axes.text(place, -0.2, visible(host), ha="center", va="bottom", color=_QUIET, fontsize=8.5)
    longest = max((step.timing.seconds or 0.0 for step in steps), default=0.0) or 1.0
    before: Step | None = None
    for row, step in enumerate(steps, 1):
        _step(axes, step, row, hosts, longest)
        if before is not None:
            _gap(axes, before, step, row, len(hosts))
        before = step
    if len(diagnosis.details.steps) > len(steps):
        axes.text(0, bottom, f"… {len(diagnosis.details.steps) - len(steps)} more hops", color=_QUIET, va="top")
    _totals(axes, diagnosis, bottom + 0.5)
    head = (
        f"{diagnosis.outcome.upper()}: {diagnosis.first_break.code}"
        if diagnosis.first_break
        else diagnosis.outcome.upper()
    )
    begin = next((step.timing.at for step in steps if step.timing.at), None)
    since = f", from {show_moment(begin.replace(microsecond=0))}" if begin else ""
    color = _BREAK if diagnosis.outcome == "broken" else _INK
    axes.set_title(
        f"{head}   {visible(diagnosis.source)}{since}", loc="left", color=color, fontsize=11, weight="bold", pad=8
    )
    axes.set_xlim(-0.62, max(1, len(hosts) - 1) + 0.62)
    axes.set_ylim(bottom + 0.6 + 0.55 * len(time_spent(diagnosis.details.steps)), -1.3)
    axes.axis("off")


def _step(axes: Axes, step: Step, row: int, hosts: list[str], longest: float) -> None:
    to = hosts.index(step.request.host) if step.request.host in hosts else len(hosts) - 1
    sender = step.sender if step.how != "start" else None
    start = None if sender is None else hosts.index(sender) if sender in hosts else len(hosts) - 1
    color = _BREAK if step.marks.decisive else _RISK if step.marks.broken else _INK
    said = ", ".join(WORDS.get(kind, kind.replace("-", " ")) for kind in step.request.carries)
    path = "/" + step.request.url.partition("://")[2].partition("/")[2]
    text = visible(
        f"{step.request.method} {path if len(path) <= 34 else path[:33] + '…'}" + (f"  ·  {said}" if said else "")
    )
    weight = "bold" if step.request.carries or step.marks.decisive else "normal"
    if start is None or start == to:
        axes.plot([to], [row], marker="o", markersize=5, color=color, zorder=3)
        axes.text(to + 0.03, row - 0.12, text, color=color, weight=weight, va="bottom", ha="left")
    else:
        arrow = {
            "arrowstyle": "-|>",
            "color": color,
            "linewidth": 1.8 if step.marks.decisive else 1.2,
            "shrinkA": 0,
            "shrinkB": 0,
        }
        axes.annotate("", xy=(to, row), xytext=(start, row), arrowprops=arrow, zorder=3)
        axes.text((start + to) / 2, row - 0.1, text, color=color, weight=weight, va="bottom", ha="center")
    seconds = step.timing.seconds or 0.0
    width = 0.16 * seconds / longest
    status = str(step.answer.status) if step.answer.status else "no answer"
    axes.text(to + 0.03, row + 0.16, status, color=_QUIET, va="center", ha="left", fontsize=7.5)
    bar = to + 0.03 + (0.024 if step.answer.status else 0.05) * (max(1, len(hosts) - 1) + 1.24)
    if seconds:
        axes.barh(row + 0.16, width, height=0.14, left=bar, color=_SIDES[step.side], alpha=0.75, zorder=2)
        axes.text(
            bar + width + 0.01, row + 0.16, f"{seconds:.2f} s", color=_QUIET, va="center", ha="left", fontsize=7.5
        )
    if step.marks.broken:
        axes.text(
            to - 0.03, row + 0.2, step.marks.broken, color=color, va="center", ha="right", fontsize=8, weight="bold"
        )
    label = f"{step.number}" + (f"  {step.timing.after:.1f} s" if step.timing.after is not None else "")
    axes.text(-0.6, row, label, color=_QUIET, va="center", ha="left", fontsize=8)


def _gap(axes: Axes, before: Step, step: Step, row: int, hosts: int) -> None:
    """A pause between two hops that a person took."""
    gap = pause_before(before, step)
    if gap:
        right = max(1, hosts - 1) + 0.5
        axes.plot([-0.6, right], [row - 0.55, row - 0.55], color=_QUIET, linewidth=0.7, linestyle=(0, (2, 3)), zorder=0)
        axes.text(right, row - 0.58, f"a pause of {gap:.0f} s", color=_QUIET, fontsize=7.5, ha="right", va="bottom")


def _totals(axes: Axes, diagnosis: Diagnosis, top: float) -> None:
    """Where the time went, as bars under the ladder."""
    spent = time_spent(diagnosis.details.steps)
    whole = max(spent.values(), default=0.0)
    if whole:
        axes.text(-0.6, top, "time spent", color=_QUIET, va="center", ha="left", fontsize=8)
    words: dict[str, Any] = {
        "application": diagnosis.parties.app_name or "application",
        "provider": diagnosis.parties.provider_name or "provider",
        "other": "other hosts",
        "person": "pauses",
    }
    for row, (side, seconds) in enumerate(spent.items()):
        place = top + 0.5 * row
        axes.barh(place, 0.9 * seconds / whole, height=0.26, left=0.0, color=_SIDES.get(side, "#b9bec5"), zorder=2)
        axes.text(-0.02, place, visible(str(words[side])), ha="right", va="center", color=_INK, fontsize=8)
        axes.text(
            0.9 * seconds / whole + 0.015, place, f"{seconds:.2f} s", ha="left", va="center", color=_QUIET, fontsize=8
        )
