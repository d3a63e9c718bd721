"""The search for where a rate of failure changes: one change, or a stretch with a change at each of its ends.

Every place is tried, and every stretch; the gain is the exact binomial log-likelihood ratio. How often the best of all
gains is as large by chance was measured on series without any change (benchmarks/changes.py): about 2.5 log B exp(-c)
for one change and 3 B exp(-c) for a stretch, with a gain of c among B places; both from above, for rates from 0.005 to
0.5 and from 60 to 30,000 attempts.

Sources: D. V. Hinkley and E. A. Hinkley, Inference about the change-point in a sequence of binomial variables (1970);
B. Levin and J. Kline, The cusum test of homogeneity with an application in spontaneous abortion epidemiology (1985),
for stretches; A. B. Olshen et al., Circular binary segmentation (2004), for the recursion.
"""

from __future__ import annotations

from functools import lru_cache
from math import exp, log
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple
from trace_lens.fleet.binomial import log_likelihood

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
    Counts = NDArray[np.int64]

_SHARE_OF_ONE = 0.8
"""How much of the level goes to the search for one change; stretches have the rest."""


class Found(NamedTuple):
    """The best one change or stretch among some places: its gain, its chance without any change, the places."""

    gain: float
    chance: float
    places: tuple[int, ...]


NOTHING = Found(0.0, 1.0, ())


def best(failures: Counts, attempts: Counts, table: Numbers, dispersion: float) -> Found:
    """The best one change or stretch. `failures` and `attempts` count from the begin up to each place; the first place
    is the begin, the last one the end. `dispersion` divides each gain.
    """
    if len(attempts) < 3 or failures[-1] == failures[0] or failures[-1] - failures[0] == attempts[-1] - attempts[0]:
        return NOTHING
    return min(
        _one(failures, attempts, table, dispersion),
        _stretch(failures, attempts, table, dispersion),
        key=lambda found: (found.chance, -found.gain),
    )


def best_beside(failures: Counts, expected: Numbers, dispersion: float) -> Found:
    """The best one change or stretch of failures that are not expected to be even: by Poisson's likelihood, which is
    from below for the binomial one. Both count from the begin up to each place.
    """
    import numpy as np

    s, e = (failures - failures[0]).astype(float), np.maximum.accumulate(expected - expected[0])
    if len(s) < 3 or not s[-1]:
        return NOTHING

    def likelihood(count: Numbers, due: Numbers) -> Numbers:
        safe = np.maximum(due, 1e-9)
        found: Numbers = np.where(count > 0, count * np.log(np.maximum(count, 1e-9) / safe), 0.0)
        return found

    whole = float(likelihood(s[-1], e[-1]))
    gains = likelihood(s[1:-1], e[1:-1]) + likelihood(s[-1] - s[1:-1], e[-1] - e[1:-1]) - whole
    place = int(np.argmax(gains))
    gain = float(gains[place]) / dispersion
    found = [Found(gain, chance_of_one(gain, len(s) - 2) / _SHARE_OF_ONE, (place + 1,))]
    i, j = _pairs(len(s))
    if len(i):
        inside, due = s[j] - s[i], e[j] - e[i]
        gains = likelihood(inside, due) + likelihood(s[-1] - inside, e[-1] - due) - whole
        place = int(np.argmax(gains))
        gain = float(gains[place]) / dispersion
        chance = chance_of_stretch(gain, len(s)) / (1 - _SHARE_OF_ONE)
        found.append(Found(gain, chance, (int(i[place]), int(j[place]))))
    return min(found, key=lambda item: (item.chance, -item.gain))


def chance(gain: float, changes: int, places: int) -> float:
    """How likely the best one change, or the best stretch (two changes), gains as much where nothing changes."""
    if changes == 1:
        return chance_of_one(gain, places) / _SHARE_OF_ONE
    return chance_of_stretch(gain, places) / (1 - _SHARE_OF_ONE)


def chance_of_one(gain: float, places: int) -> float:
    """How likely the best one change among some places gains as much, where nothing changes."""
    return min(1.0, 2.5 * log(max(places, 3)) * exp(-gain))


def chance_of_stretch(gain: float, places: int) -> float:
    """How likely the best stretch among some places gains as much, where nothing changes."""
    return min(1.0, 3.0 * places * exp(-gain))


def gains_of_one(failures: Counts, attempts: Counts, table: Numbers) -> Numbers:
    """The gain of a change at each place but the first and the last."""
    s, n = failures - failures[0], attempts - attempts[0]
    whole = log_likelihood(s[-1], n[-1], table)
    found: Numbers = (
        log_likelihood(s[1:-1], n[1:-1], table) + log_likelihood(s[-1] - s[1:-1], n[-1] - n[1:-1], table) - whole
    )
    return found


def _one(failures: Counts, attempts: Counts, table: Numbers, dispersion: float) -> Found:
    import numpy as np

    gains = gains_of_one(failures, attempts, table)
    place = int(np.argmax(gains))
    gain = float(gains[place]) / dispersion
    return Found(gain, chance_of_one(gain, len(attempts) - 2) / _SHARE_OF_ONE, (place + 1,))


def _stretch(failures: Counts, attempts: Counts, table: Numbers, dispersion: float) -> Found:
    import numpy as np

    s, n = failures - failures[0], attempts - attempts[0]
    i, j = _pairs(len(n))
    if not len(i):
        return NOTHING
    inside, count = s[j] - s[i], n[j] - n[i]
    gains = log_likelihood(inside, count, table) + log_likelihood(s[-1] - inside, n[-1] - count, table)
    place = int(np.argmax(gains))
    gain = float(gains[place] - log_likelihood(s[-1], n[-1], table)) / dispersion
    chance = chance_of_stretch(gain, len(n)) / (1 - _SHARE_OF_ONE)
    return Found(gain, chance, (int(i[place]), int(j[place])))


@lru_cache(maxsize=4)
def _pairs(places: int) -> tuple[Counts, Counts]:
    """The begin and end of every stretch that has attempts before and behind it."""
    import numpy as np

    i, j = np.triu_indices(places - 2, 1)
    return i + 1, j + 1
