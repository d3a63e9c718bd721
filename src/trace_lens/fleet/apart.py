"""Who fails where others get in: persons, addresses and networks with more failures than the rest of an application.

What is counted is a person within an hour, who did not get in there at the end: those who try again and again are told
once. Each value is held against all others of its application by Fisher's exact test, within each stretch between two
changes of the rate by itself (so that those who came during a failure of all are not told apart), and the chance of the
whole is that of the sum. It is multiplied by how many values were asked over all applications (Bonferroni). The value
that is the most certain is told first, and the others are asked of what is left: people of an office that fails are not
told once more.

Sources: R. A. Fisher, The Design of Experiments (1935), §12; N. Mantel and W. Haenszel, Statistical aspects of the
analysis of data from retrospective studies of disease (1959), for the strata; C. R. Mehta et al., Exact significance
testing to establish treatment equivalence with ordered categorical data (1984), for the convolution.
"""

from __future__ import annotations

import ipaddress
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple
from trace_lens.fleet.alternatives import HOUR

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
    Counts = NDArray[np.int64]
    Flags = NDArray[np.bool_]

PERSON, ADDRESS, PLACE = "person", "address", "place"
LEVEL = 0.01
_LEAST = 3
"""So many units must have failed, at least."""
_TIMES, _MORE = 3.0, 0.2
"""A share of failures is told that is as many times that of the others, or by as much greater."""
_MOST = 12
"""So many values of one application at most."""


class Apart(NamedTuple):
    """A value with more failures than the others: its attempts and failures, and the chance of as many by chance,
    corrected for all values that were asked.
    """

    what: str
    value: str
    attempts: int
    failures: int
    p: float


class Attempts(NamedTuple):
    """The attempts of one application: epoch seconds, whether each failed, whose and from where (numbers, -1 is not
    known), and which stretch between two changes each is in.
    """

    times: Numbers
    failed: Flags
    person: Counts
    address: Counts
    stretch: Counts


class Asked(NamedTuple):
    """The units of an application (a person within an hour), and the value of each under each kind of value."""

    failed: Flags
    stretch: Counts
    values: Mapping[str, Counts]
    attempts: Attempts
    of_attempts: Mapping[str, Counts]
    names: Mapping[str, Sequence[str]]

    @property
    def asked(self) -> int:
        """How many values are asked: those with as many units as could tell."""
        import numpy as np

        return sum(
            int((np.bincount(column[column >= 0]) >= _LEAST).sum()) if (column >= 0).any() else 0
            for column in self.values.values()
        )


def who_fails_apart(
    fleet: Sequence[Attempts], people: Sequence[str], addresses: Sequence[str]
) -> list[tuple[Apart, ...]]:
    """For each application the values with more failures than the others, the most certain first."""
    networks, of_address = networks_of(addresses)
    asked = [_units(attempts, people, addresses, networks, of_address) for attempts in fleet]
    count = max(sum(item.asked for item in asked), 1)
    return [tuple(_told(item, count)) for item in asked]


def networks_of(addresses: Sequence[str]) -> tuple[tuple[str, ...], list[int]]:
    """The networks of addresses (/24 of IPv4, /48 of IPv6), and the number of that of each; -1 where it has none."""
    number: dict[str, int] = {}
    found = []
    for text in addresses:
        try:
            address = ipaddress.ip_address(text.partition("%")[0])
        except ValueError:
            found.append(-1)
            continue
        network = ipaddress.ip_network((address, 24 if address.version == 4 else 48), strict=False)
        found.append(number.setdefault(str(network), len(number)))
    return tuple(number), found


def _units(
    attempts: Attempts, people: Sequence[str], addresses: Sequence[str], networks: Sequence[str], of: Sequence[int]
) -> Asked:
    import numpy as np

    place = np.array([*of, -1], dtype=np.int64)[attempts.address]
    place = np.where(np.isin(place, _alone(place, attempts.address)), -1, place)
    hours = (attempts.times // HOUR).astype(np.int64)
    who = np.where(attempts.person >= 0, attempts.person, (1 << 40) + np.arange(len(hours)))
    order = np.lexsort((attempts.times, attempts.stretch, hours, who))
    changes = [np.diff(column[order]) != 0 for column in (who, hours, attempts.stretch)]
    last = np.flatnonzero(np.concatenate([changes[0] | changes[1] | changes[2], [True]])) if len(order) else order
    ends = order[last]
    columns = {PLACE: place, ADDRESS: attempts.address, PERSON: attempts.person}
    return Asked(
        failed=attempts.failed[ends],
        stretch=attempts.stretch[ends],
        values={what: column[ends] for what, column in columns.items()},
        attempts=attempts,
        of_attempts=columns,
        names={PLACE: networks, ADDRESS: addresses, PERSON: people},
    )


def _alone(place: Counts, address: Counts) -> Counts:
    """The networks that only one address is of: these are told by the address."""
    import numpy as np

    _, first = np.unique(address, return_index=True)
    found, counts = np.unique(place[first], return_counts=True)
    told: Counts = found[counts < 2]
    return told


def _told(item: Asked, count: int) -> Iterator[Apart]:
    import numpy as np

    left = np.ones(len(item.failed), dtype=bool)
    for _ in range(_MOST):
        best = min(_candidates(item, left), default=None)
        if best is None or best[0] * count > LEVEL:
            return
        chance, _, what, value = best
        left &= item.values[what] != value
        mine = item.of_attempts[what] == value
        yield Apart(
            what=what,
            value=item.names[what][value],
            attempts=int(mine.sum()),
            failures=int(item.attempts.failed[mine].sum()),
            p=min(1.0, chance * count),
        )


def _candidates(item: Asked, left: Flags) -> Iterator[tuple[float, int, str, int]]:
    """The chance of each value that has many failures, with an order in which the narrower goes first if equal."""
    import numpy as np

    failed, stretch = item.failed[left], item.stretch[left]
    for narrow, what in enumerate((PERSON, ADDRESS, PLACE)):
        column = item.values[what][left]
        known = column >= 0
        if not known.any():
            continue
        size = int(column.max()) + 1
        total = np.bincount(column[known], minlength=size)
        lost = np.bincount(column[known], weights=failed[known], minlength=size)
        others, others_lost = len(column) - total, failed.sum() - lost
        with np.errstate(divide="ignore", invalid="ignore"):
            share, rest = lost / total, others_lost / others
            far = (share >= _TIMES * rest) | (share >= rest + _MORE)
        for value in np.flatnonzero((lost >= _LEAST) & (others > 0) & far).tolist():
            yield stratified_fisher(failed, column == value, stretch), narrow, what, value


def stratified_fisher(failed: Flags, inside: Flags, stretch: Counts) -> float:
    """The chance of as many failures inside or more, given those of each stretch: Fisher's exact test, one-sided, for
    the sum over the stretches.
    """
    import numpy as np

    whole, seen = np.ones(1), 0
    for number in np.unique(stretch).tolist():
        here = stretch == number
        low, chances = hypergeometric(int(here.sum()), int(failed[here].sum()), int((here & inside).sum()))
        whole = np.convolve(whole, chances)
        seen += int((failed & inside & here).sum()) - low
    return float(min(1.0, whole[seen:].sum()))


def hypergeometric(total: int, failures: int, drawn: int) -> tuple[int, Numbers]:
    """The chances of each number of failures among those drawn: the least number that there can be, and the chances
    from that one on.
    """
    import numpy as np

    low, high = max(0, drawn + failures - total), min(drawn, failures)
    steps = np.arange(low, high, dtype=float)
    ratios = (failures - steps) * (drawn - steps) / ((steps + 1) * (total - failures - drawn + steps + 1))
    logs = np.concatenate([[0.0], np.cumsum(np.log(ratios))])
    found: Numbers = np.exp(logs - logs.max())
    return low, found / found.sum()
