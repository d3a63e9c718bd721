"""Rates of failure as binomial samples: their intervals, their likelihood, and a logistic fit over groups.

Pure functions over NumPy arrays. Sources: E. B. Wilson, Probable inference, the law of succession, and statistical
inference (1927); P. McCullagh and J. A. Nelder, Generalized Linear Models (1989), chapter 4 (logistic fits by iterated
weighted least squares), §4.5 (dispersion).
"""

from __future__ import annotations

from math import sqrt
from statistics import NormalDist
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
    Counts = NDArray[np.int64]

Z95 = 1.959964
"""The normal quantile of a two-sided interval of 95 %."""
_FARTHEST = 14.0
"""The most extreme log-odds of a fit: a rate of 0 or 1 is as good as reached there."""
_ROUNDS = 12


class Rate(NamedTuple):
    """How many of some attempts failed."""

    attempts: int
    failures: int

    @property
    def share(self) -> float | None:
        """The share of failures, None without attempts."""
        return self.failures / self.attempts if self.attempts else None

    @property
    def interval(self) -> tuple[float, float] | None:
        """Wilson's interval of 95 % for the share of failures, None without attempts."""
        return wilson(self.failures, self.attempts) if self.attempts else None


def wilson(failures: int, attempts: int, z: float = Z95) -> tuple[float, float]:
    """Wilson's interval of a share, as its lower and upper end."""
    share, square = failures / attempts, z * z / attempts
    middle = (share + square / 2) / (1 + square)
    half = z * sqrt(share * (1 - share) / attempts + square / attempts / 4) / (1 + square)
    return max(0.0, middle - half), min(1.0, middle + half)


def plogp(most: int) -> Numbers:
    """The table of x log x for x from 0 to `most`."""
    import numpy as np

    found = np.arange(most + 1, dtype=float)
    found[1:] *= np.log(found[1:])
    return found


def log_likelihood(failures: Counts | int, attempts: Counts | int, table: Numbers) -> Numbers:
    """The greatest log-likelihood of samples, each with a rate of its own; `table` is that of x log x."""
    found: Numbers = table[failures] + table[attempts - failures] - table[attempts]
    return found


class Fit(NamedTuple):
    """A logistic fit: the log-odds of each group, its coefficients, and the log-likelihood."""

    odds: Numbers
    weights: Numbers
    likelihood: float


def logistic(design: Numbers, failures: Counts, attempts: Counts, offset: Numbers | None = None) -> Fit:
    """The fit of a rate to the columns of a design (groups × columns), with an offset in log-odds for each group."""
    import numpy as np

    start = np.zeros(len(failures)) if offset is None else offset
    weights = np.zeros(design.shape[1])
    for _ in range(_ROUNDS):
        odds = np.clip(start + design @ weights, -_FARTHEST, _FARTHEST)
        rate = 1 / (1 + np.exp(-odds))
        spread = np.maximum(attempts * rate * (1 - rate), 1e-9)
        bent = design.T @ (design * spread[:, None]) + 1e-6 * np.eye(design.shape[1])
        step = np.linalg.solve(bent, design.T @ (failures - attempts * rate) - 1e-6 * weights)
        weights = weights + np.clip(step, -4, 4)
        if np.abs(step).max() < 1e-6:
            break
    odds = np.clip(start + design @ weights, -_FARTHEST, _FARTHEST)
    return Fit(odds, weights, float(_likelihood(odds, failures, attempts)))


def logistic_many(shapes: Numbers, failures: Counts, attempts: Counts, offset: Numbers | None = None) -> Numbers:
    """The log-likelihood of a fit of a level and one column, for each of many columns (columns × groups)."""
    import numpy as np

    start = np.zeros(shapes.shape[1]) if offset is None else offset
    share = (failures.sum() + 0.5) / (attempts.sum() + 1)
    level = np.full(len(shapes), np.log(share / (1 - share)))
    height = np.zeros(len(shapes))
    for _ in range(_ROUNDS):
        odds = np.clip(start + level[:, None] + height[:, None] * shapes, -_FARTHEST, _FARTHEST)
        rate = 1 / (1 + np.exp(-odds))
        spread = np.maximum(attempts * rate * (1 - rate), 1e-9)
        left = failures - attempts * rate
        a, b, c = spread.sum(1) + 1e-6, (spread * shapes).sum(1), (spread * shapes * shapes).sum(1) + 1e-6
        first, second = left.sum(1), (left * shapes).sum(1)
        bent = np.maximum(a * c - b * b, 1e-12)
        up, over = (c * first - b * second) / bent, (a * second - b * first) / bent
        level, height = level + np.clip(up, -4, 4), height + np.clip(over, -4, 4)
        if max(np.abs(up).max(), np.abs(over).max()) < 1e-5:
            break
    odds = np.clip(start + level[:, None] + height[:, None] * shapes, -_FARTHEST, _FARTHEST)
    return _likelihood(odds, failures, attempts)


def _likelihood(odds: Numbers, failures: Counts, attempts: Counts) -> Numbers:
    import numpy as np

    found: Numbers = (failures * odds - attempts * np.logaddexp(0.0, odds)).sum(-1)
    return found


class Slope(NamedTuple):
    """How much a failure rate grows in a day, as a share, with its interval of 95 %."""

    per_day: float
    low: float
    high: float

    @property
    def chance(self) -> float:
        """How likely a rate that does not grow shows as much (one-sided, by the normal distribution)."""
        error = (self.high - self.low) / 2 / Z95
        return 1.0 if error <= 0 else NormalDist().cdf(-self.per_day / error)


def slope(days: Numbers, failed: NDArray[np.bool_], clusters: Counts) -> Slope | None:
    """The slope of the failure rate over time (in days), by least squares, with an interval that allows for attempts
    of one cluster (one person within an hour, say) that fail together. None where there is too little to tell one.

    Source: K.-Y. Liang and S. L. Zeger, Longitudinal data analysis using generalized linear models (1986), the robust
    variance.
    """
    import numpy as np

    if len(days) < 10 or float(np.ptp(days)) < 1.0:
        return None
    shifted = days - days.mean()
    square = float(shifted @ shifted)
    rate = float(failed.mean())
    found = float(shifted @ failed) / square
    residuals = failed - rate - found * shifted
    parts = np.bincount(clusters, weights=shifted * residuals)
    # Where nothing or everything failed, the interval of the rate over the span stands for that of the slope.
    least = (wilson(int(failed.sum()), len(days))[1] - wilson(int(failed.sum()), len(days))[0]) / 2
    error = max(float(np.sqrt(parts @ parts)) / square, 0.0 if 0 < rate < 1 else least / Z95 / float(np.ptp(days)))
    return Slope(found, found - Z95 * error, found + Z95 * error)
