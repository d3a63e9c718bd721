"""The course of a failure rate: jumps, a slow slope, a daily rhythm; each is told only as far as it explains more than
the others.

What explains most is taken first, and the next one beside it. So a slope is no staircase of jumps, nor a rhythm.
Sources: D. R. Cox and D. V. Hinkley, Theoretical Statistics (1974), §9.3 (likelihood ratios of models); G. Schwarz,
Estimating the dimension of a model (1978), for the price of a rhythm; N. Draper and H. Smith, Applied Regression
Analysis (1998), chapter 15 (forward selection).
"""

from __future__ import annotations

from math import log
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple
from trace_lens.fleet.binomial import Fit, logistic, logistic_many

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
    Counts = NDArray[np.int64]

HOUR, DAY = 3_600.0, 86_400.0
_RAMPS = (1.0, 2.0, 4.0, 7.0, 14.0)
"""How many days a slope may take that begins or ends within the span."""
_PRICE = 2.0
"""What a course must explain in log-likelihood for each thing that it may choose: a slope over the whole span has its
height, a jump its moment, too, a slope of some days also its length. 2 is what one may gain by chance in 95 of 100.
"""
_BEGINS = 25
_WAVES_FROM, _HOURS_FROM, _WEEKS_FROM = 2.0, 4.0, 8.0
"""From how many days on a rhythm is looked for: a wave a day; three waves, or each hour by itself; and weekends."""
_SURE = 6.0
"""What a rhythm must gain in log-likelihood beyond the price of its columns."""

WAVE, WAVES, HOURS = "a wave a day", "three waves a day", "each hour of the day"


class Groups(NamedTuple):
    """Attempts in groups by time: failures and attempts of each, and its middle in epoch seconds."""

    failures: Counts
    attempts: Counts
    middle: Numbers


class Course(NamedTuple):
    """What a rate does: jumps at some groups, a slope (its begin in epoch seconds, its length in days), a rhythm."""

    places: tuple[int, ...] = ()
    slope: tuple[float, float] | None = None
    rhythm: str | None = None


def fit(groups: Groups, course: Course) -> Fit:
    """The fit of a course; the first columns are the level and the jumps."""
    import numpy as np

    columns = [np.ones((len(groups.middle), 1)), jumps(groups.middle, course.places)]
    if course.slope:
        columns.append(ramp(groups.middle, *course.slope)[:, None])
    if course.rhythm:
        columns.append(rhythm(groups.middle, course.rhythm))
    return logistic(np.hstack(columns), groups.failures, groups.attempts)


def beside_jumps(groups: Groups, course: Course) -> Numbers:
    """The log-odds that the slope and the rhythm of a course add in each group."""
    import numpy as np

    fitted = fit(groups, course)
    level = np.hstack([np.ones((len(groups.middle), 1)), jumps(groups.middle, course.places)])
    added: Numbers = fitted.odds - level @ fitted.weights[: level.shape[1]]
    return added


def jumps(middle: Numbers, places: tuple[int, ...]) -> Numbers:
    """A column for each jump: 0 before, 1 behind."""
    import numpy as np

    order = np.arange(len(middle))
    return np.array([order >= place for place in places], dtype=float).T.reshape(len(middle), len(places))


def ramp(middle: Numbers, begin: float, days: float) -> Numbers:
    """The column of a slope: 0 before it begins, 1 when it has ended."""
    import numpy as np

    found: Numbers = np.clip((middle - begin) / (days * DAY), 0.0, 1.0)
    return found


def rhythm(middle: Numbers, kind: str) -> Numbers:
    """The columns of a daily rhythm, with one for weekends where the span has two of them."""
    import numpy as np

    if kind == HOURS:
        hours = (middle // HOUR % 24).astype(int)
        columns = [(hours == hour).astype(float) for hour in sorted(set(hours.tolist()))[1:]]
    else:
        angle = 2 * np.pi * middle / DAY
        count = 1 if kind == WAVE else 3
        columns = [wave(number * angle) for number in range(1, count + 1) for wave in (np.sin, np.cos)]
    if np.ptp(middle) / DAY >= _WEEKS_FROM:
        # The epoch began on a Thursday: days 2 and 3 of its weeks are Saturday and Sunday.
        columns.append((middle // DAY % 7 // 2 == 1).astype(float))
    return np.array(columns).T.reshape(len(middle), len(columns))


def best_slope(groups: Groups, course: Course, shortest: float = 0.0) -> tuple[float, tuple[float, float]]:
    """The slope, of so many days at least, that explains most beside a course: its gain in log-likelihood, less what it
    must be ahead of a jump, and its begin and length.
    """
    import numpy as np

    first, span = float(groups.middle[0]), float(np.ptp(groups.middle)) / DAY
    shapes, ahead = [(first, max(span, 1e-3))], [-_PRICE]
    for days in _RAMPS:
        if shortest <= days <= 2 * span:
            begins = first + (np.linspace(0, span, _BEGINS) - days / 2) * DAY
            shapes += [(float(begin), days) for begin in begins]
            ahead += [_PRICE] * _BEGINS
    plain = fit(groups, course)
    offset = plain.odds
    columns = np.array([ramp(groups.middle, *shape) for shape in shapes])
    gains = logistic_many(columns, groups.failures, groups.attempts, offset) - plain.likelihood - np.array(ahead)
    place = int(np.argmax(gains))
    return float(gains[place]), shapes[place]


def best_rhythm(groups: Groups, course: Course) -> tuple[float, str | None]:
    """The rhythm that explains most beside a course: its gain beyond the price of its columns, and its kind."""
    import numpy as np

    span = float(np.ptp(groups.middle)) / DAY if len(groups.middle) else 0.0
    kinds = [] if span < _WAVES_FROM else [WAVE] if span < _HOURS_FROM else [WAVES, HOURS]
    plain = fit(groups, course).likelihood if kinds else 0.0
    found: list[tuple[float, str | None]] = [(0.0, None)]
    for kind in kinds:
        columns = rhythm(groups.middle, kind).shape[1]
        if columns + 2 < len(groups.middle):
            gain = fit(groups, course._replace(rhythm=kind)).likelihood - plain
            found.append((gain - columns * log(len(groups.middle)) / 2 - _SURE, kind))
    return max(found, key=lambda item: item[0])
