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

Source: scan statistics, J. Naus, The distribution of the size of the maximum cluster of points on a line (1965).
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.matching import thresholds

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
from trace_lens.logs.matching.gaps import (
    different,
    drift_shown,
    has_rival,
    heap,
    median,
    mode,
    quartiles,
    slope_error,
    slope_of,
    stepwise,
    tail,
)

IDS, TIMES, NONE = "ids", "times", "none"
_DAY = 86_400.0
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
    holds when, and `offset` and its interval are of the one that holds at the middle. `files` are those it holds for,
    where other files of the source were written by another clock at the same time; empty for all that no other has.
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
    files: tuple[str, ...] = ()

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
    parts = stepwise(days[order], gaps[order])
    if len(parts) > 1:
        return _of_parts(source, [(days[order][part], gaps[order][part]) for part in parts], IDS, middle)
    drift = slope_of(days, gaps) if len(gaps) >= 8 and np.ptp(days) >= 0.25 else 0.0
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
    heaped = len(different(owners[inside]))
    if stepped is not None and stepped.pairs >= heaped + max(thresholds.EACH_SIDE, 0.15 * heaped):
        return stepped
    if has_rival(flat, owners, best_at, heaped):
        return None
    width = float(np.ptp(flat)) or 1.0
    around = np.abs(flat - best_at - thresholds.HEAP / 2) > 30.0
    expected = max(float(around.sum()), 1.0) / max(width - 60.0, width / 2) * thresholds.HEAP
    trials = len(drifts) * max(width / thresholds.HEAP, 1.0)
    if heaped < 3 or trials * tail(heaped, expected) > doubt:
        return None
    near = np.abs(flat - best_at - thresholds.HEAP / 2) <= 2.5 * thresholds.HEAP
    return _refined(source, days[near], gaps[near], best_drift, TIMES, middle)


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
    if len(different(owners)) < 4 * thresholds.EACH_SIDE:
        return None
    best: tuple[int, float, float] | None = None
    for place in different(np.linspace(0, len(gaps), _PLACES + 2).astype(int)[1:-1]):
        low, high = heap(gaps[:place], owners[:place]), heap(gaps[place:], owners[place:])
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
        heaped, width = len(different(owners[inside])), max(float(np.ptp(span)) if len(span) else 0.0, 60.0)
        expected = max(float(len(span) - inside.sum()), 1.0) / width * 5 * thresholds.HEAP
        if heaped < thresholds.EACH_SIDE or _PLACES * width / thresholds.HEAP * tail(heaped, expected) > doubt:
            return None
    return _of_parts(source, [(days[inside], gaps[inside]) for inside in (first, second)], TIMES, middle)


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
        drift = drift_shown(days[keep], gaps[keep])
        x, flat, keep = inliers(drift)
    offset, upper = quartiles(flat)
    scale = max(1.4826 * median(np.abs(flat - median(flat))), 0.05)
    count = len(flat)
    doubt = (1.96 if count >= 10 else 2.6) * 1.2533 * max(scale, 0.3 if count >= 10 else 1.0) / count**0.5
    doubt += max(thresholds.WRITING, 1.5 * scale) + (3.0 if count < 3 else 0.0)
    doubt += abs(float(x.mean())) * slope_error(x, flat) * 2 if drift and count > 2 else 0.0
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
