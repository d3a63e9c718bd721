"""How likely each candidate event belongs to each attempt: a mixture of marked point processes, its weights learned.

An attempt leaves, in each log, some number of events around its moments: a Poisson process whose density over time is
that of the time gaps, and whose marks (user, application, address, ids, outcome, kind of event) agree with the attempt
as the weights say. All other events are a background that goes its own way, at a rate that follows from how many events
that log holds with that very value: agreeing on a rare name says much, on a name that half of the log bears little. The
odds that an event belongs to an attempt rather than to the background are the ratio of the two densities,

    odds = events per attempt · density of the gap · P(marks | belongs) / (rate of such events · P(marks | does not)),

which is the record linkage of Fellegi and Sunter with time as one more comparison. What agrees most particularly (an
id, else the user, else the address, else the application) sets the rate of the background, so that marks which follow
from each other are not counted twice; the other marks add their own ratio. All weights are learned from the candidates
by expectation maximisation, from prior counts that decide where there are few: no attempt needs an id for that, and
with one attempt alone the priors speak. An event is of one attempt at the most, so the odds of all attempts compete;
where attempts own one event of a kind, the events of that kind compete too.

People who try again within minutes raise the background around an attempt. How much is learned from what is left over
beside the gaps of the right pairs, since it is the same on both sides of them; another try agrees on person,
application, address and kind of event as well as the right one does, so these marks do not tell the two apart.

Sources: I. P. Fellegi and A. B. Sunter, A theory for record linkage, JASA 64 (1969); W. E. Winkler, Using the EM
algorithm for weight computation in the Fellegi-Sunter model of record linkage (1988); A. P. Dempster, N. M. Laird and
D. B. Rubin, Maximum likelihood from incomplete data via the EM algorithm, JRSS B 39 (1977); D. J. Daley and D.
Vere-Jones, An introduction to the theory of point processes, chapter 6 (2003).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.matching import thresholds
from trace_lens.logs.matching.assigning import best_assignment, in_conflict
from trace_lens.logs.matching.clocks import NONE, Clock
from trace_lens.logs.matching.gaps import different
from trace_lens.logs.matching.pairs import Pairs

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
    Places = NDArray[np.int64]

SAME, LIKE, OPEN, OTHER = 0, 1, 2, 3
"""How a mark compares: to the letter or under a spelling on record; alike; not to be told; another one."""
REACH = 1_200.0
"""Seconds to either side of a moment within which candidates by name or address are looked for."""
_BIN = 0.25
_ROUNDS = 30
_TAILS, _TAIL_SCALE = (0.01, 0.05), 60.0
"""How many events lie far from every moment (written late, in bulk), without and with an id, and how far: before the
data speak.
"""
_RINGS = (0.0, 20.0, 60.0, 180.0, 600.0, REACH)
_RETRY = (5e-4, 5e-4, 2.5e-4, 1e-4, 3e-5)
"""Events of another try by the same person, in each ring, a second: what is supposed before the data speak."""
_OF_SESSION = 0.05
"""How much of that is supposed of events that share an id: most ids are of one attempt only."""
_ROUNDS_OF_BELIEF = 8


class Mark(NamedTuple):
    """A comparison: how likely each outcome is, before the data speak, where an event belongs and where it does not.

    `prior` is how many pairs these count for.
    """

    name: str
    belongs: tuple[float, float, float, float]
    beside: tuple[float, float, float, float]
    prior: float


MARKS = (
    Mark("user", (0.80, 0.12, 0.075, 0.005), (0.55, 0.05, 0.30, 0.10), 20.0),
    Mark("app", (0.80, 0.05, 0.12, 0.03), (0.25, 0.02, 0.23, 0.50), 20.0),
    Mark("ip", (0.80, 0.0, 0.0, 0.20), (0.40, 0.0, 0.0, 0.60), 10.0),
    Mark("id", (0.50, 0.05, 0.30, 0.20), (0.02, 0.02, 0.30, 0.66), 4.0),
    Mark("outcome", (0.90, 0.0, 0.0, 0.10), (0.60, 0.0, 0.0, 0.40), 20.0),
    Mark("end", (0.35, 0.40, 0.0, 0.25), (0.25, 0.40, 0.0, 0.35), 10.0),
)
"""The comparisons. `user` beside is among candidates that share an id or address; `app` among those of one user. An id
that is alike is that of the session, beside another token or request than the attempt's. `end` compares a yes or a no
with what is sure in another log: alike with another code.
"""
USER, APP, IP, ID, OUTCOME, END = range(len(MARKS))


@dataclass(slots=True)
class Weighed:
    """What came of weighing, for each pair: odds, probability, whether it is chosen, whether the gap spoke for it."""

    odds: Numbers
    probability: Numbers
    chosen: NDArray[np.bool_]
    timely: NDArray[np.bool_]


def weigh(found: list[Pairs], clocks: dict[str, Clock], attempts: int, events: int) -> list[Weighed]:
    """Learn the weights of each source and give every pair its probability.

    `attempts` is how many attempts there are, matched or not; `events` how many candidate events in all.
    """
    return [_Model(pairs, clocks[pairs.source], attempts, events).run() for pairs in found]


class _Model:
    """The weights of one source, as they are learned."""

    def __init__(self, pairs: Pairs, clock: Clock, attempts: int, events: int) -> None:
        import numpy as np

        self.pairs, self.clock, self.attempts, self.events = pairs, clock, max(attempts, 1), events
        self.edges = np.arange(-REACH, REACH + _BIN, _BIN)
        self.prior = self._prior_density()
        self.density = self.prior
        self.tails = np.array(_TAILS)
        self.far = np.zeros(len(pairs))
        self.belongs = np.array([mark.belongs for mark in MARKS])
        self.beside = np.array([mark.beside for mark in MARKS])
        self.kinds = pairs.kinds.share.copy()
        self.per_attempt = 1.0
        self.retries = np.array([_RETRY, _RETRY]) * [[1.0], [_OF_SESSION]]
        self.groups = np.where(pairs.kinds.once, int(np.argmax(pairs.kinds.once)), np.arange(len(pairs.kinds.share)))
        self.by = np.where(pairs.background.by_user, 0, np.where(pairs.background.by_id, 1, -1))
        self.ring = np.clip(np.digitize(np.abs(pairs.nearest), _RINGS) - 1, 0, len(_RETRY) - 1)
        self.slots = self._slots()
        self.one_each = self._crowded()
        self.missing = np.ones(len(self.one_each))

    def _crowded(self) -> NDArray[np.bool_]:
        """Slots for which lines of one kind compete within a minute, before the data tell how many are owned."""
        import numpy as np

        made = np.zeros(int(self.slots.max(initial=-1)) + 1, dtype=bool)
        made[self.slots[(self.pairs.crowd.near >= thresholds.CROWD) & self.pairs.kinds.once[self.pairs.kind]]] = True
        return made

    def _prior_density(self) -> Numbers:

        x = self.edges
        known = self.clock.basis != NONE
        scale = max(self.clock.scale, 1.0) if known else 3.0
        shape = (1 + (x / scale) ** 2 / 3) ** -2
        shape /= shape.sum() * _BIN
        return shape if known else 0.4 * shape + 0.6 / (2 * REACH)

    def _slots(self) -> Places:
        """Numbers what an attempt may own one event of: a group of kinds that exclude each other."""
        import numpy as np

        together = self.pairs.attempt * (len(self.pairs.kinds.share) + 1) + self.groups[self.pairs.kind]
        together = 2 * together + self.pairs.crowd.twin
        slots: Places = np.unique(together, return_inverse=True)[1].astype(np.int64)
        return slots

    def run(self) -> Weighed:
        import numpy as np

        pairs = self.pairs
        probability = np.zeros(len(pairs))
        for number in range(_ROUNDS):
            before = probability
            probability = self._probabilities()
            if number > 4 and np.abs(probability - before).max(initial=0.0) < 1e-4:
                break
            self._learn(probability)
        timely = self._gap_density() > (pairs.background.rate + 1.0 / (2 * REACH)) * 0.5
        odds = self._odds()
        return Weighed(odds, probability, self._chosen(odds, probability), timely)

    def _gap_density(self) -> Numbers:
        """The density of each pair's gaps, over the moments of its attempt."""
        import numpy as np

        pairs = self.pairs
        tail = self.tails[pairs.background.by_id.astype(int)][pairs.gaps.pair]
        near = (1 - tail) * np.interp(pairs.gaps.seconds, self.edges, self.density, left=0.0, right=0.0)
        wide = tail * _TAIL_SCALE / np.pi / (pairs.gaps.seconds**2 + _TAIL_SCALE**2)
        inside, outside = (np.bincount(pairs.gaps.pair, pairs.gaps.share * part, len(pairs)) for part in (near, wide))
        density: Numbers = (inside + outside).astype(float)
        self.far = outside / np.maximum(density, 1e-300)
        return density

    def _odds(self) -> Numbers:
        import numpy as np

        pairs = self.pairs
        of_person = pairs.weight * (self.kinds / pairs.kinds.share)[pairs.kind]
        own = np.ones(len(pairs))
        for mark in range(len(MARKS)):
            level = pairs.levels[mark]
            told = level >= 0
            ratio = self.belongs[mark] / np.maximum(self.beside[mark], 1e-6)
            if mark == ID:
                own[told] *= np.where(pairs.background.by_id[told], self.belongs[mark][level[told]], ratio[level[told]])
            elif mark in (OUTCOME, END):
                own[told] *= ratio[level[told]]
            else:
                of_person[told] *= ratio[level[told]]
        again = np.where(self.by >= 0, self._retried(self.retries[self.by, self.ring]), 0.0)
        rate = pairs.background.rate / np.maximum(of_person, 1e-9) + again
        odds: Numbers = self.per_attempt * self._gap_density() * own / rate
        return odds / np.where(self._single(), self.missing[self.slots], 1.0)

    def _single(self) -> NDArray[np.bool_]:
        """Which pairs compete for a place of which their attempt has one."""
        single: NDArray[np.bool_] = self.one_each[self.slots] & (self.pairs.crowd.rounds == 1)
        return single

    def _retried(self, usual: Numbers) -> Numbers:
        """How many events of other tries lie around each, a second: what is usual in the log, and what is there.

        The mean of a gamma distribution after counting `near` within `NEARBY` seconds (A. Gelman et al., Bayesian Data
        Analysis, section 2.6). Other tries that are seen to end leave their further lines for certain.
        """
        import numpy as np

        pairs, around = self.pairs, 2 * thresholds.NEARBY
        likely = (thresholds.SHAPE + pairs.crowd.near) / (thresholds.SHAPE / np.maximum(usual, 1e-9) + around)
        of_seen = np.where(pairs.kinds.ends[pairs.kind], 0.0, self.per_attempt * pairs.crowd.near / around)
        return np.maximum(likely, of_seen)

    def _probabilities(self) -> Numbers:
        """The probability of each pair, where events compete for slots and attempts for events.

        The marginals of a random matching, by belief propagation (P. O. Vontobel, The Bethe permanent of a nonnegative
        matrix, IEEE Trans. Inf. Theory 59, 2013): exact where nobody competes in a circle.
        """
        import numpy as np

        odds = self._odds()
        if not len(odds):
            return odds
        pairs = self.pairs
        to_slot = to_event = np.ones(len(odds))
        single = self._single()
        for _ in range(_ROUNDS_OF_BELIEF):
            weighted = odds * to_event
            to_slot = 1.0 / (1.0 + _others(weighted, pairs.event, self.events))
            weighted = odds * to_slot
            to_event = np.where(single, 1.0 / (1.0 + _others(weighted, self.slots, len(self.one_each))), 1.0)
        held = odds * to_slot * to_event
        return held / (1.0 + held)

    def _chosen(self, odds: Numbers, probability: Numbers) -> NDArray[np.bool_]:
        """The best whole assignment of events to attempts, among pairs that are likely at all (Kuhn 1955)."""
        import numpy as np

        pairs = self.pairs
        chosen = np.zeros(len(odds), dtype=bool)
        likely = np.flatnonzero(probability >= thresholds.WORTH_A_LOOK)
        single = self.one_each[self.slots[likely]] & (pairs.crowd.rounds[likely] == 1)
        places = np.where(single, self.slots[likely], len(self.one_each) + np.arange(len(likely)))
        for members in in_conflict(pairs.event[likely].tolist(), places.tolist()):
            if len(members) == 1:
                chosen[likely[members]] = True
                continue
            rows, row_of = np.unique(pairs.event[likely[members]], return_inverse=True)
            columns, column_of = np.unique(places[members], return_inverse=True)
            gains = np.zeros((len(rows), len(columns)))
            gains[row_of, column_of] = np.log1p(odds[likely[members]])
            best = best_assignment(gains)
            chosen[likely[members]] = [best.get(row) == column for row, column in zip(row_of, column_of, strict=True)]
        return chosen

    def _learn(self, probability: Numbers) -> None:
        import numpy as np

        pairs = self.pairs
        taken = np.minimum(np.bincount(pairs.event, probability, minlength=self.events), 1.0)[pairs.event]
        left = 1.0 - taken
        self.per_attempt = (probability.sum() + 2.0) / (self.attempts + 2.0)
        for number, mark in enumerate(MARKS):
            level = pairs.levels[number]
            told = level >= 0
            for table, weight, prior in ((self.belongs, probability, mark.belongs), (self.beside, left, mark.beside)):
                counts = np.bincount(level[told], weight[told], minlength=4) + mark.prior * np.array(prior)
                table[number] = counts / counts.sum()
        kinds = np.bincount(pairs.kind, probability, minlength=len(pairs.kinds.share)) + 5.0 * pairs.kinds.share
        self.kinds = kinds / kinds.sum()
        self._learn_gaps(probability)
        proven = probability * self.pairs.background.by_id
        far, many = float((proven * self.far).sum()), float(proven.sum())
        self.tails = (far + thresholds.PRIOR_TAILS * np.array(_TAILS)) / (many + thresholds.PRIOR_TAILS)
        self._learn_retries(left)
        self._learn_slots(probability)

    def _learn_gaps(self, probability: Numbers) -> None:
        import numpy as np

        near = np.abs(self.pairs.gaps.seconds - self.pairs.nearest[self.pairs.gaps.pair]) < 1e-6
        gaps, weight = self.pairs.gaps.seconds[near], probability[self.pairs.gaps.pair][near]
        count = float(weight.sum())
        alone = self.clock.basis == NONE and min(count, self.attempts) < 1.5
        if count < 1.0 or alone:  # of a clock that nothing tells, a gap by itself shows nothing but itself
            self.density = self.prior
            return
        spread = 1.4826 * _half(np.abs(gaps - _half(gaps, weight)), weight)
        width = max(0.3, min(1.06 * spread * count**-0.2, 5.0))
        bins = np.histogram(gaps, np.append(self.edges - _BIN / 2, REACH + _BIN / 2), weights=weight)[0]
        reach = int(4 * width / _BIN) + 1
        kernel = np.exp(-0.5 * (np.arange(-reach, reach + 1) * _BIN / width) ** 2)
        smooth = _one_heap(np.convolve(bins, kernel / kernel.sum(), mode="same"))
        smooth *= count / max(float(smooth.sum()), 1e-12) / _BIN
        self.density = (smooth + thresholds.PRIOR_GAPS * self.prior) / (count + thresholds.PRIOR_GAPS)

    def _learn_retries(self, left: Numbers) -> None:
        import numpy as np

        widths = 2 * np.diff(_RINGS)
        for by, part in enumerate((1.0, _OF_SESSION)):
            mine = self.by == by
            sums = np.bincount(self.ring[mine], left[mine], minlength=len(_RETRY))
            central = self.pairs.background.rate[mine & (self.ring == 0)]
            steady = float(central.mean()) if len(central) and by == 0 else 0.0
            expected = steady * widths * min(self.attempts, len(central))
            prior = thresholds.PRIOR_ATTEMPTS * part * np.array(_RETRY) * widths
            rates = (np.maximum(sums - expected, 0.0) + prior) / (self.attempts + thresholds.PRIOR_ATTEMPTS) / widths
            rates[0] = rates[1]
            self.retries[by] = rates

    def _learn_slots(self, probability: Numbers) -> None:
        """Which kinds exclude each other, and of which groups of them an attempt owns one event: as the sure ones do.

        A sign-in that failed did not succeed in the same log; a second factor comes beside either.
        """
        import numpy as np

        sure = (probability > 0.9) & (self.pairs.crowd.rounds == 1) & (self.pairs.crowd.twin == 0)
        kinds = len(self.pairs.kinds.share)
        attempts = int(self.pairs.attempt.max(initial=-1)) + 1
        owned, proven = np.zeros((attempts, kinds)), np.zeros((attempts, kinds))
        for table, some in ((owned, sure), (proven, sure & self.pairs.background.by_id)):
            np.add.at(table, (self.pairs.attempt[some], self.pairs.kind[some]), 1.0)
        some_of = (owned > 0).astype(float)
        counts, both = some_of.sum(axis=0), some_of.T @ some_of
        groups = np.arange(kinds)
        for kind in np.argsort(-counts):
            for other in np.argsort(-counts):
                if (
                    groups[other] != other
                    or counts[other] <= counts[kind]
                    or min(counts[kind], counts[other]) < thresholds.FEW_OWNERS
                ):
                    continue
                members = np.flatnonzero(groups == other)
                if all(
                    both[kind, member] <= thresholds.TOGETHER * min(counts[kind], counts[member]) for member in members
                ):
                    groups[kind] = other
                    break
        each = _each(proven, owned, self.pairs.kinds.ends)
        if each is not None and each <= thresholds.ONE_EACH:
            groups[self.pairs.kinds.ends] = int(np.argmax(self.pairs.kinds.ends))
        if (groups != self.groups).any():
            self.groups = groups
            self.slots = self._slots()
            self.one_each = self._crowded()
        self.missing = np.ones(len(self.one_each))
        group_of_slot = np.zeros(len(self.one_each), dtype=np.int64)
        group_of_slot[self.slots] = groups[self.pairs.kind]
        for group in different(groups):
            each = _each(proven, owned, groups == group)
            if each is not None:
                self.one_each[group_of_slot == group] = each <= thresholds.ONE_EACH
            mine = (groups[self.pairs.kind] == group) & (self.pairs.crowd.twin == 0)
            there = (float(probability[mine].sum()) + 1.0) / (self.attempts + 2.0)
            self.missing[self.slots[mine]] = 1.0 - min(there, thresholds.THERE)


def _each(proven: Numbers, owned: Numbers, kinds: NDArray[np.bool_]) -> float | None:
    """How many lines of some kinds those attempts have that have any; by ids where enough do, None where few do."""
    for known in (proven, owned):
        total = known[:, kinds].sum(axis=1)
        total = total[total > 0]
        if len(total) >= thresholds.FEW_OWNERS:
            return float(total.mean())
    return None


def _others(values: Numbers, group: Places, groups: int) -> Numbers:
    """For each entry the sum of the others of its group."""
    import numpy as np

    sums = np.bincount(group, values, minlength=groups)
    return np.maximum(sums[group] - values, 0.0)


def _half(values: Numbers, weights: Numbers) -> float:
    """The median of weighted values."""
    import numpy as np

    order = np.argsort(values)
    place = int(np.searchsorted(np.cumsum(weights[order]), weights.sum() / 2))
    return float(values[order][min(place, len(values) - 1)])


def _one_heap(values: Numbers) -> Numbers:
    """Values that only fall to both sides of their greatest: what rises again further out is of something else."""
    import numpy as np

    top = int(np.argmax(values))
    return np.concatenate(
        [np.minimum.accumulate(values[: top + 1][::-1])[::-1], np.minimum.accumulate(values[top:])[1:]]
    )
