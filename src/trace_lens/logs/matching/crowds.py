"""Tries that lie close together: how many there are around a line, and whether equal lines are tries of their own."""

from __future__ import annotations

from typing import TYPE_CHECKING

from trace_lens.logs.event import OTHER
from trace_lens.logs.matching import thresholds
from trace_lens.logs.matching.candidates import Candidates

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]

_Kind = tuple[int, str | None, bool]
"""An attempt, the kind of its lines (None for those that end a try), and whether they carry an id of it."""


def crowded(gathered: Candidates, found: list[tuple[int, int]], nearest: Numbers) -> tuple[Numbers, NDArray[np.int64]]:
    """For each pair, how many other tries lie near it among the attempt's candidates, beyond those of its own rounds,
    and whether it is the second of two lines of one file that say the same.

    Tries are counted by the lines that end them, with a yes or a no; where a log has none, by lines of the same kind.
    Beside a line that carries an id of the attempt, only those count that carry one too.
    """
    import numpy as np

    near, twin = np.zeros(len(found)), np.zeros(len(found), dtype=np.int64)
    members: dict[_Kind, list[float]] = {}
    closest: dict[tuple[int, bool], tuple[bool, float, float]] = {}
    keys: list[_Kind] = []
    times: list[float] = []
    alike: dict[tuple[object, ...], list[int]] = {}
    for place, (attempt, number) in enumerate(found):
        event = gathered.events[number]
        kind = event.code or "" if event.outcome == OTHER else None
        by_id = bool(gathered.shared(attempt, event))
        keys.append((attempt, kind, by_id))
        times.append(event.time.timestamp())
        for key in {keys[-1], (attempt, kind, False)}:
            members.setdefault(key, []).append(times[-1])
            if kind is None:
                gap = not by_id, abs(nearest[place]), times[-1]
                closest[attempt, key[2]] = min(closest.get((attempt, key[2]), gap), gap)
        alike.setdefault((attempt, *event._replace(line=0, doubled=False, also=())), []).append(place)
    ordered = {key: np.sort(np.array(some)) for key, some in members.items()}

    def around(key: _Kind, time: float) -> int:
        below = np.searchsorted(ordered[key], time - thresholds.NEARBY, "left")
        return int(np.searchsorted(ordered[key], time + thresholds.NEARBY, "right") - below)

    for place, ((attempt, kind, by_id), time) in enumerate(zip(keys, times, strict=True)):
        near[place] = around((attempt, kind, by_id), time) - 1
        if kind is not None and (attempt, None, by_id) in ordered:
            own = abs(closest[attempt, by_id][-1] - time) <= thresholds.NEARBY
            near[place] = max(near[place], around((attempt, None, by_id), time) - own)
    twins = [places for places in alike.values() if len(places) == 2]
    for places in twins if not _are_tries(keys, times, len(twins)) else ():
        twin[places[1]] = 1
        near[places] -= 1
    further = np.array([gathered.attempts[attempt].rounds - 1 for attempt, _ in found])
    return np.maximum(near - further, 0.0), twin


def _are_tries(keys: list[_Kind], times: list[float], twins: int) -> bool:
    """Whether lines that say the same are tries of their own rather than written twice: many of a person's other lines
    bear one time as well there, as in a log of whole minutes.
    """
    ends: dict[tuple[int, float], int] = {}
    for (attempt, kind, _), time in zip(keys, times, strict=True):
        if kind is None:
            ends[attempt, time] = ends.get((attempt, time), 0) + 1
    others = sum(count - 1 for count in ends.values()) - twins
    return others >= max(thresholds.FEW_PAIRS, twins / 2)
