"""Equal runs of lines in two files of one source: one event each, with two places.

Exports overlap (Monday's and Tuesday's), rotated files are copied. What stands in both is told from two systems that
wrote the same of two things: lines that say enough by themselves (an id, a part of a second) are one event wherever
they stand; others only where three or more of them follow each other in both files, or where the end of one file is the
beginning of the other. Equal lines within one file are events of their own.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Places = NDArray[np.int64]

LEAST = 3
"""So many lines that follow each other in both files are the same lines. With 2, two systems that are asked for the
same page every minute by a monitor would be taken for one; with 5, short exports that overlap would count twice."""
_MOST_PAIRED = 4
"""Of lines that stand more often than so in either file each is tried with the one of the same number only, counted
from the first and from the last, and with those that lie as other pairs do.
"""
_MOST_SHIFTS = 16


class Rows(NamedTuple):
    """The rows of one file, in its order: a number for what each says, and whether it says enough by itself.

    `place` is where each stands among all rows of its file, of which there are `whole`.
    """

    said: NDArray[np.uint64]
    particular: NDArray[np.bool_]
    place: Places
    whole: int


def equal_runs(mine: Rows, theirs: Rows) -> tuple[Places, Places]:
    """The rows of two files that are the same event: indexes into both, as long as each other."""
    import numpy as np

    first, second = _alike(mine.said, theirs.said)
    if not len(first):
        return first, second
    taken_mine, taken_theirs = np.zeros(len(mine.said), dtype=bool), np.zeros(len(theirs.said), dtype=bool)
    made: list[tuple[Places, Places]] = []

    def take(ours: Places, others: Places) -> None:
        taken_mine[ours] = taken_theirs[others] = True
        made.append((ours, others))

    for run in _runs(mine.place[first], theirs.place[second]):
        ours, others = first[run], second[run]
        free = ~(taken_mine[ours] | taken_theirs[others])
        whole = len(run) >= LEAST or _meet(mine, theirs, ours, others)
        sure = free if whole else free & mine.particular[ours]
        take(ours[sure], others[sure])
    alone = (mine.particular[first] | _ends(mine, theirs, first, second)) & ~(taken_mine[first] | taken_theirs[second])
    ours, others = first[alone], second[alone]
    for side in (0, 1):
        kept = np.sort(np.unique((ours, others)[side], return_index=True)[1])
        ours, others = ours[kept], others[kept]
    take(ours, others)
    found = [np.concatenate([pair[side] for pair in made]) for side in (0, 1)]
    order = np.argsort(found[0], kind="stable")
    return found[0][order], found[1][order]


def _ends(mine: Rows, theirs: Rows, first: Places, second: Places) -> NDArray[np.bool_]:
    """Whether single rows are the last of one file and the first of the other."""
    place, their_place = mine.place[first], theirs.place[second]
    found: NDArray[np.bool_] = ((place == 0) & (their_place == theirs.whole - 1)) | (
        (place == mine.whole - 1) & (their_place == 0)
    )
    return found


def _alike(mine: NDArray[np.uint64], theirs: NDArray[np.uint64]) -> tuple[Places, Places]:
    """Pairs of rows that say the same."""
    import numpy as np

    shared = np.intersect1d(mine, theirs)
    if not len(shared):
        return np.zeros(0, dtype=np.int64), np.zeros(0, dtype=np.int64)
    sides = []
    for said in (mine, theirs):
        there = np.flatnonzero(np.isin(said, shared))
        order = there[np.argsort(said[there], kind="stable")]
        begin = np.searchsorted(said[order], shared)
        sides.append((order, begin, np.diff(np.append(begin, len(order)))))
    (order, begin, count), (their_order, their_begin, their_count) = sides
    first, second = [], []
    often = (count > _MOST_PAIRED) | (their_count > _MOST_PAIRED)
    for number in range(int(min(_MOST_PAIRED, count.max()))):
        for other in range(int(min(_MOST_PAIRED, their_count.max()))):
            fit = ~often & (count > number) & (their_count > other)
            first.append(order[begin[fit] + number])
            second.append(their_order[their_begin[fit] + other])
    if often.any():
        more, others = _along(mine, theirs, np.concatenate(first), np.concatenate(second))
        first.append(more)
        second.append(others)
    for place in np.flatnonzero(often):
        ours = order[begin[place] : begin[place] + count[place]]
        others = their_order[their_begin[place] : their_begin[place] + their_count[place]]
        both = min(len(ours), len(others))
        first += [ours[:both], ours[len(ours) - both :]]
        second += [others[:both], others[len(others) - both :]]
    pairs = np.unique(np.stack([np.concatenate(first), np.concatenate(second)], axis=1), axis=0)
    return pairs[:, 0], pairs[:, 1]


def _along(
    mine: NDArray[np.uint64], theirs: NDArray[np.uint64], first: Places, second: Places
) -> tuple[Places, Places]:
    """Pairs of rows that say the same, as far from each other as many of some pairs are: in either order of lines."""
    import numpy as np

    made: list[tuple[Places, Places]] = [(first[:0], second[:0])]
    rows = np.arange(len(mine))
    for sign in (1, -1):
        shifts, counts = np.unique(second - sign * first, return_counts=True)
        for shift in shifts[np.argsort(-counts, kind="stable")[:_MOST_SHIFTS]]:
            there = shift + sign * rows
            inside = (there >= 0) & (there < len(theirs))
            inside[inside] = mine[inside] == theirs[there[inside]]
            made.append((rows[inside], there[inside]))
    return np.concatenate([pair[0] for pair in made]), np.concatenate([pair[1] for pair in made])


def _runs(places: Places, their_places: Places) -> list[Places]:
    """Indexes of two or more pairs that follow each other in both files, in the same or in the reverse order; the
    longest first.
    """
    import numpy as np

    runs: list[Places] = []
    for key in (their_places - places, their_places + places):
        order = np.lexsort((places, key))
        new = np.flatnonzero((np.diff(key[order]) != 0) | (np.diff(places[order]) != 1)) + 1
        begin, end = np.append(0, new), np.append(new, len(order))
        several = np.flatnonzero(end - begin > 1)
        runs += [order[low:high] for low, high in zip(begin[several], end[several], strict=True)]
    runs.sort(key=lambda run: (-len(run), int(places[run[0]]), int(their_places[run[0]])))
    return runs


def _meet(mine: Rows, theirs: Rows, ours: Places, others: Places) -> bool:
    """Whether a run is the end of one file and the beginning of the other."""
    place, their_place = (
        {int(rows.place[run[0]]), int(rows.place[run[-1]])} for rows, run in ((mine, ours), (theirs, others))
    )
    return (0 in place and theirs.whole - 1 in their_place) or (mine.whole - 1 in place and 0 in their_place)
