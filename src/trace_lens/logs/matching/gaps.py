"""Gaps between the moments of two clocks: where they heap up, and the line or the steps that go through them.

Sources: the shortest half as mode, D. F. Andrews et al., Robust Estimates of Location (1972); slopes by medians, H.
Theil, A rank-invariant method of linear and polynomial regression analysis (1950), and P. K. Sen (1968).
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from trace_lens.logs.matching import thresholds

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]


_SLOPES = 400


def has_rival(flat: Numbers, owners: NDArray[np.int64], place: float, heaped: int) -> bool:
    """Whether as many attempts heap up somewhere else: where few do, nothing tells then which of the two is right."""
    import numpy as np

    if heaped > thresholds.MANY_PAIRS:
        return False
    other = np.abs(flat - place - thresholds.HEAP / 2) > 1.5 * thresholds.HEAP
    rival = heap(flat[other], owners[other], least=1)
    return rival is not None and rival[0] >= heaped


def stepwise(days: Numbers, gaps: Numbers) -> list[slice]:
    """The runs of pairs, in the order of their times, between which a clock was set; one run where it was not.

    Nearly all pairs are right. Steps count where the offsets between them leave less than half of what one offset or
    one line leaves beside it.
    """
    import numpy as np

    if len(gaps) < 2 * thresholds.EACH_SIDE:
        return [slice(0, len(gaps))]
    scatter = max(median(np.abs(np.diff(gaps))), 0.5)
    parts = split(days, gaps, scatter)
    left = sum(beside_middle(gaps[part], scatter) for part in parts)
    return parts if left <= 0.5 * _in_one(days, gaps, scatter) else [slice(0, len(gaps))]


def split(days: Numbers, gaps: Numbers, scatter: float) -> list[slice]:
    """The runs that a step parts: one that is more than what gaps scatter by, with an offset of its own on each side
    for many of its pairs.
    """
    import numpy as np

    count = len(gaps)
    if count < 2 * thresholds.EACH_SIDE:
        return [slice(0, count)]
    places = different(np.linspace(thresholds.EACH_SIDE, count - thresholds.EACH_SIDE, min(count, 200)).astype(int))

    def beside(place: int) -> float:
        return beside_middle(gaps[:place], scatter) + beside_middle(gaps[place:], scatter)

    best = min(places, key=beside)
    near = range(
        max(thresholds.EACH_SIDE, best - count // 100 - 2),
        min(count - thresholds.EACH_SIDE, best + count // 100 + 2) + 1,
    )
    best = min(near, key=beside)
    before, after = gaps[:best], gaps[best:]
    step = abs(mode(after)[0] - mode(before)[0])
    stays = all(
        np.mean(np.abs(part - mode(part)[0]) <= max(step / 3, scatter)) >= thresholds.STAYS for part in (before, after)
    )
    if (
        step <= max(thresholds.STEP, 5 * scatter)
        or not stays
        or beside(best) > thresholds.PARTED * _in_one(days, gaps, scatter)
    ):
        return [slice(0, count)]
    second = split(days[best:], after, scatter)
    return [*split(days[:best], before, scatter), *(slice(part.start + best, part.stop + best) for part in second)]


def beside_middle(gaps: Numbers, scatter: float) -> float:
    """What one offset leaves beside it, each pair counting for no more than a bound."""
    import numpy as np

    return float(np.minimum(np.abs(gaps - mode(gaps)[0]), 10 * scatter + thresholds.STEP).sum())


def _in_one(days: Numbers, gaps: Numbers, scatter: float) -> float:
    """What is left beside one offset, or beside one line."""
    return min(beside_middle(gaps, scatter), beside_middle(gaps - slope_of(days, gaps) * days, scatter))


def heap(gaps: Numbers, owners: NDArray[np.int64], least: int = thresholds.EACH_SIDE) -> tuple[int, float] | None:
    """How many attempts have a pair in the fullest window of gaps, and where that begins; None of too few gaps."""
    import numpy as np

    if len(gaps) < least:
        return None
    order = np.argsort(gaps)
    flat = gaps[order]
    counts = np.searchsorted(flat, flat + thresholds.HEAP, side="right") - np.arange(len(flat))
    place = int(np.argmax(counts))
    return len(different(owners[order][place : place + counts[place]])), float(flat[place])


def tail(count: int, expected: float) -> float:
    """The probability that a Poisson number of this mean is at least `count`."""
    import math

    if expected <= 0:
        return 0.0
    if count > 20 and count > 4 * expected:
        return math.exp(count - expected - count * math.log(count / expected))
    term = total = math.exp(-expected)
    for number in range(1, count):
        term *= expected / number
        total += term
    return max(0.0, 1.0 - total)


def different(values: NDArray[Any]) -> list[Any]:
    """The values that there are, each once, in order; see `median`."""
    return sorted(set(values.tolist()))


def median(values: Numbers) -> float:
    """The median of at least one value; NumPy's own looks for masks, for which it imports much."""
    import numpy as np

    ordered = np.sort(values)
    return float(ordered[(len(ordered) - 1) // 2 : len(ordered) // 2 + 1].mean())


def quartiles(values: Numbers) -> tuple[float, float]:
    """The first and the third quartile of at least one value, between two of them in proportion; see `median`."""
    import numpy as np

    ordered, places = np.sort(values), np.array((0.25, 0.75)) * (len(values) - 1)
    lower, upper = np.interp(places, np.arange(len(values)), ordered).tolist()
    return lower, upper


def slope_of(days: Numbers, gaps: Numbers) -> float:
    """The median of the slopes between pairs, in seconds a day."""
    import numpy as np

    pick = np.linspace(0, len(days) - 1, min(len(days), _SLOPES)).astype(int)
    x, y = days[pick], gaps[pick]
    first, second = np.triu_indices(len(x), 1)
    apart = x[second] - x[first]
    far = np.abs(apart) > max(0.02 * float(np.ptp(x)), 1e-6)
    return median((y[second] - y[first])[far] / apart[far]) if far.any() else 0.0


def mode(values: Numbers) -> tuple[float, float]:
    """Where values lie densest, and how spread they are there: middle of the shortest half, and its half width."""
    import numpy as np

    ordered = np.sort(values)
    half = len(ordered) // 2 + 1
    widths = ordered[half - 1 :] - ordered[: len(ordered) - half + 1]
    place = int(np.argmin(widths))
    inside = ordered[place : place + half]
    return median(inside), float(widths[place]) / 2


def drift_shown(days: Numbers, gaps: Numbers) -> float:
    """The drift in seconds a day, 0 where the data do not show one."""
    import numpy as np

    span = float(np.ptp(days)) if len(days) else 0.0
    if len(days) < 8 or span < 0.25:
        return 0.0
    slope = slope_of(days, gaps)
    rest = gaps - slope * days
    error = slope_error(days, rest)
    return slope if abs(slope) > 4 * error and abs(slope) * span > thresholds.WRITING else 0.0


def slope_error(days: Numbers, rest: Numbers) -> float:
    """The standard error of a slope, from what is left beside the line."""
    import numpy as np

    spread = float(((days - days.mean()) ** 2).sum())
    scale = 1.4826 * median(np.abs(rest - median(rest)))
    return max(scale, 0.1) / spread**0.5 if spread > 0 else float("inf")
