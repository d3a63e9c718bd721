"""The best whole assignment of rows to columns: each to one at the most, the sum of the gains as great as can be.

Source: R. Jonker and A. Volgenant, A shortest augmenting path algorithm for dense and sparse linear assignment
problems, Computing 38 (1987), after H. W. Kuhn, The Hungarian method for the assignment problem (1955). Takes time in
the order of rows · columns · the smaller of the two.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


def best_assignment(gains: NDArray[np.float64]) -> dict[int, int]:
    """The column of each row that is assigned one; `gains` has a row and a column each, none of them negative.

    The smaller side is assigned whole, if only for a gain of nothing.
    """
    if gains.shape[0] > gains.shape[1]:
        return {row: column for column, row in best_assignment(gains.T).items()}
    return _rows_to_columns(-gains)


def _rows_to_columns(costs: NDArray[np.float64]) -> dict[int, int]:
    """Every row to a column of its own at the least cost; there are as many columns as rows at least.

    Rows enter one by one, each along the shortest path, by reduced costs, to a column that is free. The dual values of
    rows and columns reduce the costs.
    """
    import numpy as np

    rows, columns = costs.shape
    of_row = np.zeros(rows)
    of_column = np.zeros(columns)
    holder = np.full(columns, -1)
    for entering in range(rows):
        distance = np.full(columns, np.inf)
        before = np.full(columns, -1)
        done = np.zeros(columns, dtype=bool)
        row, reached, last = entering, 0.0, -1
        while True:
            reduced = reached + costs[row] - of_row[row] - of_column
            shorter = ~done & (reduced < distance)
            distance[shorter] = reduced[shorter]
            before[shorter] = last
            open_distances = np.where(done, np.inf, distance)
            column = int(np.argmin(open_distances))
            reached = float(open_distances[column])
            done[column] = True
            last = column
            if holder[column] < 0:
                break
            row = int(holder[column])
        of_row[entering] += reached
        for other in np.flatnonzero(done):
            if other != column:
                of_row[holder[other]] += reached - distance[other]
                of_column[other] -= reached - distance[other]
        while column >= 0:
            previous = int(before[column])
            holder[column] = entering if previous < 0 else holder[previous]
            column = previous
    return {int(row): column for column, row in enumerate(holder) if row >= 0}


def in_conflict(events: list[int], places: list[int]) -> list[list[int]]:
    """Pairs grouped so that those of different groups share neither event nor place."""
    parent = list(range(len(events)))

    def root(number: int) -> int:
        while parent[number] != number:
            parent[number] = parent[parent[number]]
            number = parent[number]
        return number

    for keys in (events, places):
        first: dict[int, int] = {}
        for number, key in enumerate(keys):
            parent[root(number)] = root(first.setdefault(key, number))
    groups: dict[int, list[int]] = {}
    for number in range(len(events)):
        groups.setdefault(root(number), []).append(number)
    return list(groups.values())
