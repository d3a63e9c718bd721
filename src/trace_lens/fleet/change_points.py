"""When the failure rate of an application changed: from which rate to which, and between which moments.

Attempts are put in groups by time (an hour, longer where there are many; each alone where there are few). In each of
the applications the best one change or stretch is looked for, beside a daily rhythm and a slow slope, and again between
those that were found. A change must not rest on one person. Which changes are told is decided over all applications
together by the procedure of Benjamini and Hochberg: of those that are told no more than the level are expected to be of
quiet applications, and among quiet applications alone one is as rare as the level says. Within an application, changes
are told at the level that the applications passed (Benjamini and Bogomolov).

The moment's interval holds 95 % of the likelihood over time, each moment between two attempts counting alike.

Sources: Y. Benjamini and Y. Hochberg, Controlling the false discovery rate (1995); Y. Benjamini and M. Bogomolov,
Selective inference on multiple families of hypotheses (2014); A. F. M. Smith, A Bayesian approach to inference about a
change-point (1975); R. W. M. Wedderburn, Quasi-likelihood functions (1974), for the dispersion.
"""

from __future__ import annotations

from collections.abc import Sequence
from itertools import pairwise
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple
from trace_lens.fleet.alternatives import HOUR, Course, Groups, beside_jumps, best_rhythm, best_slope, fit
from trace_lens.fleet.binomial import Rate, plogp
from trace_lens.fleet.scanning import NOTHING, Found, best, best_beside, chance, chance_of_one, gains_of_one

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
    Counts = NDArray[np.int64]

LEVEL = 0.05
_MOST_ALLOWED = 0.005
"""However many applications changed: so rarely at most a quiet one is told to have changed."""
_MOST_GROUPS = 400
_LEAST_FAILURES = 3
"""So few failures are never told as a change: chance or one person may do as much."""
_MOST_CHANGES = 40
_WITHOUT_ONE = 0.05
"""The chance that a change may have at most when the person is left out whom it rests on most."""
_FEW_PEOPLE = 4
_MASS = 0.95
_PLAINLY = 4.0
_SLOW_DAYS = 4.0
"""By how much a jump must explain more than a slope of so many days (in log-likelihood) to be plainly abrupt."""


class Series(NamedTuple):
    """The attempts of one application in the order of time: epoch seconds, whether each failed, whose it was.

    Persons are numbers from 0; a negative one is nobody that is known.
    """

    times: Numbers
    failed: NDArray[np.bool_]
    persons: Counts


class Step(NamedTuple):
    """A change of the rate. Moments are epoch seconds: `at` is the first attempt at the new rate, the change lies
    between `earliest` and `latest`. `chance` is how likely a quiet application shows as much; `abrupt` is False where a
    slow slope would explain the failures nearly as well as the jump.
    """

    at: float
    earliest: float
    latest: float
    before: Rate
    after: Rate
    chance: float
    abrupt: bool = True


def find_changes(fleet: Sequence[Series], level: float = LEVEL) -> list[tuple[Step, ...]]:
    """The changes of each application, in the order of time; `level` is the share of false ones that is allowed."""
    table = plogp(max((len(series.times) for series in fleet), default=0))
    searched = [_Search(series, table, level) for series in fleet]
    chances = sorted(search.chance for search in searched)
    passed = [number for number, found in enumerate(chances, 1) if found <= level * number / len(chances)]
    allowed = min(level * passed[-1] / len(chances), _MOST_ALLOWED) if passed else 0.0
    return [search.steps(allowed) if search.chance <= allowed else () for search in searched]


class _Search:
    """The search in one application: its attempts in groups, the course of its rate, the chance of each change."""

    def __init__(self, series: Series, table: Numbers, level: float) -> None:
        import numpy as np

        self.series, self.table = series, table
        self.summed = np.concatenate([[0], np.cumsum(series.failed)]).astype(np.int64)
        self.edges = group_edges(series.times)
        self.failures = self.summed[self.edges]
        self.dispersion = 1.0
        self.course = Course()
        self.entered: list[float] = []
        self.chances: list[float] = []
        first = best(self.failures, self.edges, table, 1.0)
        if first.chance <= level:
            self.dispersion = self._dispersion(first.places)
            self._search(level)
            if self.course.places:
                self._split_groups()
                self.dispersion = self._dispersion(self.course.places)
                self._search(level)
            self._prune(level)

    @property
    def chance(self) -> float:
        """The chance of the change that is the most certain; 1 without any."""
        return min(self.chances, default=1.0)

    def steps(self, allowed: float) -> tuple[Step, ...]:
        """The changes at a level, in the order of time."""
        if any(found > allowed for found in self.chances):
            self._prune(allowed)
        return tuple(self._step(number) for number in range(len(self.course.places)))

    def _dispersion(self, places: Sequence[int]) -> float:
        """How much more than binomial the failures vary, as those of one person within an hour go together."""
        import numpy as np

        bounds = [0, *(int(self.edges[place]) for place in places), len(self.series.times)]
        rate = np.empty(len(self.series.times))
        for low, high in pairwise(bounds):
            rate[low:high] = (self.summed[high] - self.summed[low]) / (high - low)
        spread = float((rate * (1 - rate)).sum())
        if not spread:
            return 1.0
        parts = np.bincount(clusters(self.series), weights=self.series.failed - rate)
        return max(1.0, float(parts @ parts) / spread)

    # -- the course of the rate

    def _groups(self) -> Groups:
        import numpy as np

        times = self.series.times
        middle = (times[self.edges[:-1]] + times[self.edges[1:] - 1]) / 2
        return Groups(np.diff(self.failures), np.diff(self.edges), middle)

    def _split_groups(self) -> None:
        """Split the groups at the very attempts where the rate changes, so that none holds attempts of both rates."""
        import numpy as np

        more = []
        for number, _ in enumerate(self.course.places):
            low, high = self._neighbours(self.course.places, number)
            first, last = int(self.edges[low]), int(self.edges[high])
            gains = self._gains(first, last)
            more.append(first + 1 + int(np.argmax(gains)))
        self.edges = np.unique(np.concatenate([self.edges, more])).astype(np.int64)
        self.failures = self.summed[self.edges]

    def _search(self, level: float) -> None:
        """What the rate does: whatever explains most, and then the next beside it."""
        groups, self.course, self.entered = self._groups(), Course(), []
        while len(self.course.places) < _MOST_CHANGES:
            jump = self._next(groups, self.course)
            gain = jump.gain if jump.chance <= level else 0.0
            other: Course | None = None
            if self.course.slope is None and len(groups.middle) > 2:
                rise, shape = best_slope(groups, self.course)
                rise /= self.dispersion
                if rise > gain and chance_of_one(rise, len(groups.middle)) <= level:
                    other, gain = self.course._replace(slope=shape), rise
            if self.course.rhythm is None:
                more, kind = best_rhythm(groups, self.course)
                if kind and more / self.dispersion > gain:
                    other, gain = self.course._replace(rhythm=kind), more / self.dispersion
            if gain <= 0:
                return
            if other is None:
                # A stretch is as likely by chance as both its ends together.
                told = sorted(
                    [
                        *zip(self.course.places, self.entered, strict=True),
                        *((place, jump.chance) for place in jump.places),
                    ]
                )
                other = self.course._replace(places=tuple(place for place, _ in told))
                self.entered = [chance for _, chance in told]
            self.course = other._replace(places=self._moved(other.places))

    def _next(self, groups: Groups, course: Course) -> Found:
        """The best one change or stretch between those that are there, beside the slope and the rhythm."""
        import numpy as np

        expected = None
        if course.slope or course.rhythm:
            rate = 1 / (1 + np.exp(-fit(groups, course).odds))
            expected = np.concatenate([[0.0], np.cumsum(groups.attempts * rate)])
        bounds = [0, *course.places, len(self.edges) - 1]
        most = NOTHING
        for low, high in pairwise(bounds):
            part = slice(low, high + 1)
            if expected is None:
                found = best(self.failures[part], self.edges[part], self.table, self.dispersion)
            else:
                found = best_beside(self.failures[part], expected[part], self.dispersion)
            if found.gain > most.gain and found.chance < 1:
                most = found._replace(places=tuple(low + place for place in found.places))
        return most

    def _moved(self, places: tuple[int, ...]) -> tuple[int, ...]:
        """Each change at its best place between its neighbours."""
        import numpy as np

        moved = list(places)
        for _ in range(2):
            for number in range(len(moved)):
                low, high = self._neighbours(moved, number)
                if high - low > 1:
                    part = slice(low, high + 1)
                    gains = gains_of_one(self.failures[part], self.edges[part], self.table)
                    moved[number] = low + 1 + int(np.argmax(gains))
        return tuple(moved)

    def _neighbours(self, places: Sequence[int], number: int) -> tuple[int, int]:
        low = places[number - 1] if number else 0
        return low, places[number + 1] if number + 1 < len(places) else len(self.edges) - 1

    # -- what is left of it

    def _prune(self, level: float) -> None:
        """Leave out the changes that do not hold at a level, the least certain first."""
        groups = self._groups()
        while True:
            places = self.course.places
            self.chances = [max(self._chance(groups, number), self.entered[number]) for number in range(len(places))]
            worst = max(range(len(places)), key=self.chances.__getitem__, default=None)
            if worst is None or self.chances[worst] <= level:
                return
            del self.entered[worst]
            self.course = self.course._replace(places=self._moved(places[:worst] + places[worst + 1 :]))

    def _chance(self, groups: Groups, number: int) -> float:
        """How likely a change explains as much beside all others where nothing changed there."""
        places = self.course.places
        low, high = self._neighbours(places, number)
        place = places[number]
        if max(self._rate(low, place).failures, self._rate(place, high).failures) < _LEAST_FAILURES:
            return 1.0
        if self._without_one(low, place, high) > _WITHOUT_ONE:
            return 1.0
        without = self.course._replace(places=places[:number] + places[number + 1 :])
        gain = fit(groups, self.course).likelihood - fit(groups, without).likelihood
        return chance(gain / self.dispersion, 1, high - low - 1)

    def _without_one(self, low: int, place: int, high: int) -> float:
        """The chance of a change without the person whom it rests on most."""
        import numpy as np

        first, middle, last = (int(self.edges[index]) for index in (low, place, high))
        persons, failed = self.series.persons[first:last], self.series.failed[first:last]
        known = persons >= 0
        if len(np.unique(persons[known])) < _FEW_PEOPLE:
            return 0.0
        behind = np.arange(first, last) >= middle
        rate = failed.mean()
        pull = np.bincount(persons[known], weights=np.where(behind, failed - rate, rate - failed)[known])
        rises = failed[behind].mean() > failed[~behind].mean()
        left = persons != int(np.argmax(pull) if rises else np.argmin(pull))
        sums = [(int(failed[part & left].sum()), int((part & left).sum())) for part in (~behind, behind)]
        s, n = np.cumsum([0, *(item[0] for item in sums)]), np.cumsum([0, *(item[1] for item in sums)])
        if n[1] == n[0] or n[2] == n[1]:
            return 1.0
        return chance_of_one(float(gains_of_one(s, n, self.table)[0]) / self.dispersion, 1)

    def _rate(self, low: int, high: int) -> Rate:
        first, last = int(self.edges[low]), int(self.edges[high])
        return Rate(last - first, int(self.summed[last] - self.summed[first]))

    # -- the moment

    def _step(self, number: int) -> Step:
        """A change between two others (or the ends), put to the attempt."""
        import numpy as np

        low, high = self._neighbours(self.course.places, number)
        first, last = int(self.edges[low]), int(self.edges[high])
        times = self.series.times[first:last]
        gains = self._gains(first, last)
        at = int(np.argmax(gains))
        density = np.exp(gains - gains[at])
        order = np.argsort(-density, kind="stable")
        mass = (density * np.diff(times))[order]
        kept = order[: int(np.searchsorted(np.cumsum(mass), _MASS * mass.sum())) + 1]
        middle = first + at + 1
        return Step(
            at=float(times[at + 1]),
            earliest=float(times[kept.min()]),
            latest=float(times[kept.max() + 1]),
            before=Rate(middle - first, int(self.summed[middle] - self.summed[first])),
            after=Rate(last - middle, int(self.summed[last] - self.summed[middle])),
            chance=self.chances[number],
            abrupt=self._is_abrupt(number),
        )

    def _is_abrupt(self, number: int) -> bool:
        """Whether a jump explains more than a slope in its place, by enough to leave no doubt."""
        groups, places = self._groups(), self.course.places
        if self.course.slope is not None or len(groups.middle) < 3:
            return True
        without = self.course._replace(places=places[:number] + places[number + 1 :])
        gain = fit(groups, self.course).likelihood - fit(groups, without).likelihood
        return (gain - best_slope(groups, without, _SLOW_DAYS)[0]) / self.dispersion >= _PLAINLY

    def _gains(self, first: int, last: int) -> Numbers:
        """The gain of a change behind each attempt but the last; attempts of one moment cannot be told apart."""
        import numpy as np

        if self.course.slope or self.course.rhythm:
            added = beside_jumps(self._groups(), self.course)
            gains = self._gains_beside(first, last, np.repeat(added, np.diff(self.edges))[first:last])
        else:
            gains = gains_of_one(self.summed[first : last + 1], np.arange(first, last + 1), self.table)
        found: Numbers = np.where(np.diff(self.series.times[first:last]) > 0, gains / self.dispersion, -np.inf)
        return found

    def _gains_beside(self, first: int, last: int, added: Numbers) -> Numbers:
        """The gain of a change at each attempt between two, where a slope or a rhythm is beside it."""
        import numpy as np

        failed = self.series.failed[first:last]
        share = min(max(float(failed.mean()), 1e-4), 1 - 1e-4)
        rate = 1 / (1 + np.exp(-(np.log(share / (1 - share)) + added - added.mean())))
        due = np.concatenate([[0.0], np.cumsum(rate)])
        due *= failed.sum() / max(due[-1], 1e-9)
        done = np.concatenate([[0], np.cumsum(failed)]).astype(float)

        def likelihood(count: Numbers, expected: Numbers) -> Numbers:
            found: Numbers = count * np.log(np.maximum(count, 1e-9) / np.maximum(expected, 1e-9))
            return found

        ahead, behind = likelihood(done, due), likelihood(done[-1] - done, due[-1] - due)
        found: Numbers = (ahead + behind)[1:-1]
        return found


def group_edges(times: Numbers) -> Counts:
    """Where the groups of attempts begin, with the end: one for each moment where there are few, else for each hour or
    several.
    """
    import numpy as np

    if not len(times):
        return np.zeros(1, dtype=np.int64)
    found = np.flatnonzero(np.diff(times) > 0) + 1
    for hours in (1, 2, 3, 4, 6, 8, 12, 24, 48, 96, 192, 384):
        if len(found) < _MOST_GROUPS:
            break
        found = np.flatnonzero(np.diff(times // (hours * HOUR)) > 0) + 1
    if len(found) >= _MOST_GROUPS:
        found = found[:: len(found) // _MOST_GROUPS + 1]
    return np.concatenate([[0], found, [len(times)]]).astype(np.int64)


def clusters(series: Series) -> Counts:
    """A number for each attempt: the same for those of one person within one hour."""
    import numpy as np

    hours = (series.times // HOUR).astype(np.int64)
    alone = np.where(series.persons < 0, np.arange(len(hours)) + (1 << 40), series.persons)
    _, found = np.unique(alone * (1 << 22) + hours % (1 << 22), return_inverse=True)
    return found.astype(np.int64)
