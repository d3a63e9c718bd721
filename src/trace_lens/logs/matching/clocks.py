"""How far each log's clock is off: offset and drift, with an interval, from pairs of a moment and an event.

A pair is a moment that a capture saw and an event that may be of it; its gap is the event's time less the moment. Where
pairs are joined by ids nearly all are right, and a robust line through their gaps is the clock. Where they only share
person and application most are wrong: those spread out evenly, the right ones heap up, and the clock is where they heap
up higher than chance lets them (a scan statistic over offset and drift). Drift is told only where the data show it. A
clock that was set has one offset before and another one after: a step, told from a drift by which of the two leaves
less beside it.

The interval holds what the data leave open, and what no data can tell: an event is written some time after what it is
about, and a clock that is ahead by as much looks the same. That time is taken to be of the order of the gaps' spread,
and not less than `WRITING` seconds. Since it hardly ever is negative, the lower quartile of the gaps stands for the
offset, not their middle; the interval reaches beyond the upper one, in case it is.

Sources: the shortest half as mode, D. F. Andrews et al., Robust Estimates of Location (1972); slopes by medians, H.
Theil, A rank-invariant method of linear and polynomial regression analysis (1950), and P. K. Sen (1968); scan
statistics, J. Naus, The distribution of the size of the maximum cluster of points on a line (1965).
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, NamedTuple

from trace_lens.logs.matching import thresholds

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]

IDS, TIMES, NONE = "ids", "times", "none"
_DAY = 86_400.0
_SLOPES = 400
_PLACES = 24
"""Where a step is looked for among pairs by time, before its place is made out exactly."""
_MOST = 3_000


class Segment(NamedTuple):
    """The clock between two times at which it was set: log time less true time in seconds, with its interval.

    `first` and `last` are the first and last moment of a pair in it, in epoch seconds by true time.
    """

    first: float
    last: float
    offset: float
    low: float
    high: float


class Clock(NamedTuple):
    """The clock of one source: log time less true time in seconds, at `middle` (epoch seconds), with its interval.

    `basis` is `ids`, `times` or `none`; with `none` nothing is known and `low` and `high` are None. `scale` is the
    spread of the gaps, in seconds; `pairs` how many pairs it rests on. Where the clock was set, `segments` are what
    holds when, and `offset` and its interval are of the one that holds at the middle.
    """

    source: str
    offset: float
    low: float | None
    high: float | None
    drift: float
    basis: str
    pairs: int
    middle: float
    scale: float = thresholds.WRITING
    segments: tuple[Segment, ...] = ()

    def at(self, time: Any) -> Any:
        """The offset at a true time (epoch seconds; a number or an array), in seconds."""
        import numpy as np

        if not self.segments:
            return self.offset + self.drift * (time - self.middle) / _DAY
        ends = [
            (before.last + after.first) / 2 for before, after in zip(self.segments, self.segments[1:], strict=False)
        ]
        found = np.array([segment.offset for segment in self.segments])[np.searchsorted(ends, time, "right")]
        return float(found) if np.ndim(found) == 0 else found

    def of(self, logged: float) -> float:
        """The offset of a time as the log has it (epoch seconds), in seconds.

        Where the clock was set back, a time can have come twice: it is taken for the first.
        """
        if not self.segments:
            return float(self.at(logged))
        for segment in self.segments:
            if float(self.at(logged - segment.offset)) == segment.offset:
                return segment.offset
        return min(self.segments, key=lambda segment: abs(logged - segment.offset - segment.first)).offset

    def then(self, time: float) -> Clock:
        """The clock as it was at a true time: with the offset and interval of the segment that held then."""
        offset = float(self.at(time))
        held = next((segment for segment in self.segments if segment.offset == offset), None)
        return self._replace(offset=held.offset, low=held.low, high=held.high) if held else self

    def around(self, time: float, reach: float) -> tuple[float, float]:
        """The smallest and largest offset within some seconds of a true time."""
        found = [float(self.at(time))]
        found += [segment.offset for segment in self.segments if segment.first - reach <= time <= segment.last + reach]
        return min(found), max(found)

    def reach(self, side: int) -> float:
        """How far the interval reaches below (-1) or above (1) the offset, in seconds, with that sign."""
        end = self.low if side < 0 else self.high
        return 0.0 if end is None else end - self.offset


def unknown(source: str, middle: float) -> Clock:
    """The clock of a source of which nothing is known."""
    return Clock(source=source, offset=0.0, low=None, high=None, drift=0.0, basis=NONE, pairs=0, middle=middle)


def from_ids(source: str, at: Numbers, gaps: Numbers, middle: float) -> Clock | None:
    """The clock by pairs joined by ids: moments `at` (epoch seconds) and gaps in seconds; None without pairs."""
    import numpy as np

    if len(gaps) == 0:
        return None
    days = (at - middle) / _DAY
    order = np.argsort(at, kind="stable")
    parts = _stepwise(days[order], gaps[order])
    if len(parts) > 1:
        return _of_parts(source, [(days[order][part], gaps[order][part]) for part in parts], IDS, middle)
    drift = _slope(days, gaps) if len(gaps) >= 8 and np.ptp(days) >= 0.25 else 0.0
    return _refined(source, days, gaps, drift, IDS, middle)


def behind(clock: Clock, other: Clock, source: str) -> Clock:
    """The clock of a source whose offset against another's is known (`other`), where that one's clock is."""
    offset = clock.at(other.middle) + other.offset
    pairs = min(clock.pairs, other.pairs)
    made = Clock(
        source=source,
        offset=offset,
        low=None,
        high=None,
        drift=clock.drift + other.drift,
        basis=TIMES,
        pairs=pairs,
        middle=other.middle,
    )
    offset = made.at(clock.middle)
    low, high = (offset + sum(own_clock.reach(side) for own_clock in (clock, other)) for side in (-1, 1))
    scale = (clock.scale**2 + other.scale**2) ** 0.5
    return made._replace(offset=offset, low=low, high=high, middle=clock.middle, scale=scale)


def from_times(
    source: str,
    at: Numbers,
    gaps: Numbers,
    owners: NDArray[np.int64],
    middle: float,
    doubt: float = thresholds.BY_CHANCE,
) -> Clock | None:
    """The clock by pairs that only share person and application; `owners` numbers the attempt of each.

    None where they do not heap up higher than chance would have it: where a heap as high as that would come about
    with a probability of more than `doubt` anywhere in the reach looked at.
    """
    import numpy as np

    if len(gaps) < 3:
        return None
    if len(gaps) > _MOST:
        pick = np.linspace(0, len(gaps) - 1, _MOST).astype(int)
        at, gaps, owners = at[pick], gaps[pick], owners[pick]
    days = (at - middle) / _DAY
    span = float(np.ptp(days))
    step = thresholds.HEAP / 2 / max(span, 1e-9)
    drifts = (
        np.arange(-thresholds.STEEPEST, thresholds.STEEPEST + step, step)
        if span >= 1 and len(gaps) >= 30
        else np.zeros(1)
    )
    drifts = np.concatenate([[0.0], drifts[np.abs(drifts) > step / 2]])
    stepped = _heaps_apart(source, days, gaps, owners, middle, doubt)
    best, best_drift, best_at = 0, 0.0, 0.0
    for drift in drifts:
        flat = np.sort(gaps - drift * days)
        counts = np.searchsorted(flat, flat + thresholds.HEAP, side="right") - np.arange(len(flat))
        place = int(np.argmax(counts))
        if counts[place] > best + (2 if best_drift == 0.0 and drift != 0.0 else 0):
            best, best_drift, best_at = int(counts[place]), float(drift), float(flat[place])
    flat = gaps - best_drift * days
    inside = (flat >= best_at) & (flat <= best_at + thresholds.HEAP)
    heaped = len(np.unique(owners[inside]))
    if stepped is not None and stepped.pairs >= heaped + max(thresholds.EACH_SIDE, 0.15 * heaped):
        return stepped
    if _has_rival(flat, owners, best_at, heaped):
        return None
    width = float(np.ptp(flat)) or 1.0
    around = np.abs(flat - best_at - thresholds.HEAP / 2) > 30.0
    expected = max(float(around.sum()), 1.0) / max(width - 60.0, width / 2) * thresholds.HEAP
    trials = len(drifts) * max(width / thresholds.HEAP, 1.0)
    if heaped < 3 or trials * _tail(heaped, expected) > doubt:
        return None
    near = np.abs(flat - best_at - thresholds.HEAP / 2) <= 2.5 * thresholds.HEAP
    return _refined(source, days[near], gaps[near], best_drift, TIMES, middle)


def _has_rival(flat: Numbers, owners: NDArray[np.int64], place: float, heaped: int) -> bool:
    """Whether as many attempts heap up somewhere else: where few do, nothing tells then which of the two is right."""
    import numpy as np

    if heaped > thresholds.MANY_PAIRS:
        return False
    other = np.abs(flat - place - thresholds.HEAP / 2) > 1.5 * thresholds.HEAP
    rival = _heap(flat[other], owners[other])
    return rival is not None and rival[0] >= heaped


def _stepwise(days: Numbers, gaps: Numbers) -> list[slice]:
    """The runs of pairs, in the order of their times, between which a clock was set; one run where it was not.

    Nearly all pairs are right. Steps count where the offsets between them leave less than half of what one offset or
    one line leaves beside it.
    """
    import numpy as np

    if len(gaps) < 2 * thresholds.EACH_SIDE:
        return [slice(0, len(gaps))]
    scatter = max(float(np.median(np.abs(np.diff(gaps)))), 0.5)
    parts = _split(days, gaps, scatter)
    left = sum(_beside(gaps[part], scatter) for part in parts)
    return parts if left <= 0.5 * _in_one(days, gaps, scatter) else [slice(0, len(gaps))]


def _split(days: Numbers, gaps: Numbers, scatter: float) -> list[slice]:
    """The runs that a step parts: one that is more than what gaps scatter by, with an offset of its own on each side
    for many of its pairs.
    """
    import numpy as np

    count = len(gaps)
    if count < 2 * thresholds.EACH_SIDE:
        return [slice(0, count)]
    places = np.unique(
        np.linspace(thresholds.EACH_SIDE, count - thresholds.EACH_SIDE, min(count, 200)).astype(int)
    ).tolist()

    def beside(place: int) -> float:
        return _beside(gaps[:place], scatter) + _beside(gaps[place:], scatter)

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
    second = _split(days[best:], after, scatter)
    return [*_split(days[:best], before, scatter), *(slice(part.start + best, part.stop + best) for part in second)]


def _beside(gaps: Numbers, scatter: float) -> float:
    """What one offset leaves beside it, each pair counting for no more than a bound."""
    import numpy as np

    return float(np.minimum(np.abs(gaps - mode(gaps)[0]), 10 * scatter + thresholds.STEP).sum())


def _in_one(days: Numbers, gaps: Numbers, scatter: float) -> float:
    """What is left beside one offset, or beside one line."""
    return min(_beside(gaps, scatter), _beside(gaps - _slope(days, gaps) * days, scatter))


def _of_parts(source: str, parts: list[tuple[Numbers, Numbers]], basis: str, middle: float) -> Clock:
    """A clock that was set between some runs of pairs (days, gaps), in their order."""
    clocks = [_refined(source, days, gaps, 0.0, basis, middle, steady=True) for days, gaps in parts]
    segments = tuple(
        Segment(
            first=middle + float(days.min()) * _DAY,
            last=middle + float(days.max()) * _DAY,
            offset=clock.offset,
            low=clock.offset + clock.reach(-1),
            high=clock.offset + clock.reach(1),
        )
        for clock, (days, _) in zip(clocks, parts, strict=True)
    )
    whole = Clock(
        source=source,
        offset=0.0,
        low=None,
        high=None,
        drift=0.0,
        basis=basis,
        pairs=sum(clock.pairs for clock in clocks),
        middle=middle,
        scale=max(clock.scale for clock in clocks),
        segments=segments,
    )
    held = next(segment for segment in segments if segment.offset == whole.at(middle))
    return whole._replace(offset=held.offset, low=held.low, high=held.high)


def _heaps_apart(
    source: str, days: Numbers, gaps: Numbers, owners: NDArray[np.int64], middle: float, doubt: float
) -> Clock | None:
    """A clock that was set once, by where pairs heap up before and after; None where that is not shown."""
    import numpy as np

    order = np.argsort(days, kind="stable")
    days, gaps, owners = days[order], gaps[order], owners[order]
    if len(np.unique(owners)) < 4 * thresholds.EACH_SIDE:
        return None
    best: tuple[int, float, float] | None = None
    for place in np.unique(np.linspace(0, len(gaps), _PLACES + 2).astype(int)[1:-1]):
        low, high = _heap(gaps[:place], owners[:place]), _heap(gaps[place:], owners[place:])
        if low is None or high is None or abs(low[1] - high[1]) <= thresholds.STEP + thresholds.HEAP:
            continue
        if best is None or low[0] + high[0] > best[0]:
            best = low[0] + high[0], low[1], high[1]
    if best is None:
        return None
    first, second = (np.abs(gaps - at - thresholds.HEAP / 2) <= 2.5 * thresholds.HEAP for at in best[1:])
    ahead = np.cumsum(first) + (second.sum() - np.cumsum(second))
    place = int(np.argmax(ahead)) + 1
    first[place:], second[:place] = False, False
    for inside, span in ((first, gaps[:place]), (second, gaps[place:])):
        heaped, width = len(np.unique(owners[inside])), max(float(np.ptp(span)) if len(span) else 0.0, 60.0)
        expected = max(float(len(span) - inside.sum()), 1.0) / width * 5 * thresholds.HEAP
        if heaped < thresholds.EACH_SIDE or _PLACES * width / thresholds.HEAP * _tail(heaped, expected) > doubt:
            return None
    return _of_parts(source, [(days[inside], gaps[inside]) for inside in (first, second)], TIMES, middle)


def _heap(gaps: Numbers, owners: NDArray[np.int64]) -> tuple[int, float] | None:
    """How many attempts have a pair in the fullest window of gaps, and where that begins."""
    import numpy as np

    if len(gaps) < thresholds.EACH_SIDE:
        return None
    order = np.argsort(gaps)
    flat = gaps[order]
    counts = np.searchsorted(flat, flat + thresholds.HEAP, side="right") - np.arange(len(flat))
    place = int(np.argmax(counts))
    return len(np.unique(owners[order][place : place + counts[place]])), float(flat[place])


def _tail(count: int, expected: float) -> float:
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


def _slope(days: Numbers, gaps: Numbers) -> float:
    """The median of the slopes between pairs, in seconds a day."""
    import numpy as np

    pick = np.linspace(0, len(days) - 1, min(len(days), _SLOPES)).astype(int)
    x, y = days[pick], gaps[pick]
    first, second = np.triu_indices(len(x), 1)
    apart = x[second] - x[first]
    far = np.abs(apart) > max(0.02 * float(np.ptp(x)), 1e-6)
    return float(np.median((y[second] - y[first])[far] / apart[far])) if far.any() else 0.0


def mode(values: Numbers) -> tuple[float, float]:
    """Where values lie densest, and how spread they are there: middle of the shortest half, and its half width."""
    import numpy as np

    ordered = np.sort(values)
    half = len(ordered) // 2 + 1
    widths = ordered[half - 1 :] - ordered[: len(ordered) - half + 1]
    place = int(np.argmin(widths))
    inside = ordered[place : place + half]
    return float(np.median(inside)), float(widths[place]) / 2


def _refined(
    source: str, days: Numbers, gaps: Numbers, drift: float, basis: str, middle: float, *, steady: bool = False
) -> Clock:
    """The clock by pairs that are right mostly; `steady` where no drift is to be looked for."""
    import numpy as np

    def inliers(slope: float) -> tuple[Numbers, Numbers, NDArray[np.bool_]]:
        flat = gaps - slope * days
        place, spread = mode(flat)
        keep = np.abs(flat - place) <= max(3.0 * thresholds.WRITING, 6.0 * spread)
        return days[keep], flat[keep], keep

    x, flat, keep = inliers(drift)
    if (drift or len(x) >= 8) and not steady:
        drift = _drift_shown(days[keep], gaps[keep])
        x, flat, keep = inliers(drift)
    offset, upper = (float(item) for item in np.quantile(flat, (0.25, 0.75)))
    scale = max(float(1.4826 * np.median(np.abs(flat - np.median(flat)))), 0.05)
    count = len(flat)
    doubt = (1.96 if count >= 10 else 2.6) * 1.2533 * max(scale, 0.3 if count >= 10 else 1.0) / count**0.5
    doubt += max(thresholds.WRITING, 1.5 * scale) + (3.0 if count < 3 else 0.0)
    doubt += abs(float(x.mean())) * _slope_error(x, flat) * 2 if drift and count > 2 else 0.0
    return Clock(
        source=source,
        offset=offset,
        low=offset - doubt,
        high=upper + doubt,
        drift=drift,
        basis=basis,
        pairs=count,
        middle=middle,
        scale=max(scale, 0.3),
    )


def _drift_shown(days: Numbers, gaps: Numbers) -> float:
    """The drift in seconds a day, 0 where the data do not show one."""
    import numpy as np

    span = float(np.ptp(days)) if len(days) else 0.0
    if len(days) < 8 or span < 0.25:
        return 0.0
    slope = _slope(days, gaps)
    rest = gaps - slope * days
    error = _slope_error(days, rest)
    return slope if abs(slope) > 4 * error and abs(slope) * span > thresholds.WRITING else 0.0


def _slope_error(days: Numbers, rest: Numbers) -> float:
    """The standard error of a slope, from what is left beside the line."""
    import numpy as np

    spread = float(((days - days.mean()) ** 2).sum())
    scale = float(1.4826 * np.median(np.abs(rest - np.median(rest))))
    return max(scale, 0.1) / spread**0.5 if spread > 0 else float("inf")
