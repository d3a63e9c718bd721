"""The clock of each source, from the pairs of attempts and events that were gathered, and from the logs themselves."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING

from trace_lens.logs.event import OTHER
from trace_lens.logs.matching import thresholds
from trace_lens.logs.matching.between import Logs, apart, columns, kept_between
from trace_lens.logs.matching.candidates import Candidates, sided
from trace_lens.logs.matching.clocks import NONE, Clock, behind, from_ids, from_times
from trace_lens.logs.matching.weights import OTHER as ANOTHER
from trace_lens.logs.matching.weights import REACH

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]


def set_clocks(gathered: Candidates) -> None:
    """Estimate the clock of each source, by ids where they join enough pairs, else by the heap of the gaps."""
    import numpy as np

    joined: dict[str, list[tuple[float, float, int]]] = {}
    once: dict[str, list[tuple[float, float, int]]] = {}
    alike: dict[str, list[tuple[float, float, int]]] = {}
    for attempt, events in gathered.found.items():
        if attempt in gathered.floating:
            continue
        begin = gathered.moments[attempt][0][0]
        decisive = {gathered.events[event].source for event in events if gathered.events[event].outcome != OTHER}
        for event in events:
            logged = gathered.events[event]
            if logged.outcome == OTHER and logged.source in decisive:
                continue
            pair = (begin, logged.time.timestamp() - begin, attempt)
            names = gathered.shared(attempt, logged)
            uses = min((gathered.spread[logged.source, name][0] for name in names), default=0)
            if 0 < uses <= thresholds.ONE_OF_MANY:
                joined.setdefault(logged.source, []).append(pair)
                if uses == 1:
                    once.setdefault(logged.source, []).append(pair)
            elif abs(pair[1]) <= REACH and gathered.app_level(attempt, logged) != ANOTHER:
                alike.setdefault(logged.source, []).append(pair)
    for source in gathered.clocks:
        at, gaps, owners = (np.array(column, dtype=float) for column in columns(joined.get(source, ())))
        if len(once.get(source, ())) >= thresholds.ENOUGH_PAIRS:
            at, gaps, owners = (np.array(column, dtype=float) for column in columns(once[source]))
        clock = from_ids(source, at, gaps, gathered.middle)
        if clock is not None:
            gaps = _to_nearest(gathered, source, clock, at, gaps, owners)
            clock = from_ids(source, at, gaps, gathered.middle)
        if clock is None or clock.pairs < thresholds.FEW_PAIRS:
            at, gaps, owners = (np.array(column, dtype=float) for column in columns(alike.get(source, ())))
            heaped = from_times(source, at, gaps, owners.astype(np.int64), gathered.middle)
            clock = heaped or clock
        if clock is not None:
            gathered.clocks[source] = clock
    _settle(gathered)
    weak = [
        text for text, clock in gathered.clocks.items() if clock.basis == NONE or clock.pairs < thresholds.ENOUGH_PAIRS
    ]
    if weak and len(gathered.clocks) > 1:
        _set_by_each_other(gathered, weak, alike, joined)


def _settle(gathered: Candidates) -> None:
    """Correct the moments that only a log told, by that log's clock."""
    for attempt, source in gathered.floating.items():
        at = gathered.attempts[attempt].at
        if at is not None:
            time = at.timestamp()
            gathered.moments[attempt] = [(time - gathered.clocks[source].of(time), None)]


def _set_by_each_other(
    gathered: Candidates, weak: list[str], *pairs: Mapping[str, list[tuple[float, float, int]]]
) -> None:
    """The clocks of which the attempts tell too little, by what the logs tell of each other's."""
    import numpy as np

    strong = [clock for clock in gathered.clocks if clock not in weak]
    main = max(strong or weak, key=lambda item: (gathered.clocks[item].pairs, gathered.counts.counts[item]))
    others = [text for text in weak if text != main]
    if (main, *others) not in gathered.apart_known:
        gathered.apart_known[main, *others] = _apart(gathered, main, others)
    apart = gathered.apart_known[main, *others]
    if not strong and gathered.clocks[main].basis == NONE:
        pooled = [
            (at, gap - (apart[source].at(at) if source in apart else 0.0), attempt * len(gathered.clocks) + number)
            for number, source in enumerate(gathered.clocks)
            for found in pairs
            for at, gap, attempt in found.get(source, ())
            if source == main or source in apart
        ]
        at, gaps, owners = (np.array(column, dtype=float) for column in columns(pooled))
        clock = from_times(main, at, gaps, owners.astype(np.int64), gathered.middle, thresholds.LIKELY_NAMES)
        if clock is None:
            return
        gathered.clocks[main] = clock
    for source, other in apart.items():
        if gathered.clocks[main].basis != NONE:
            gathered.clocks[source] = behind(gathered.clocks[main], other, source)


def _apart(gathered: Candidates, main: str, others: list[str]) -> dict[str, Clock]:
    """By how much other logs' clocks are ahead of one's: as it was kept at load, else worked out."""
    kept = kept_between(gathered.store)
    if kept is not None:
        return {source: clock for source in others if (clock := kept.get((main, source))) is not None}
    logs = Logs(gathered.store, gathered.reading, gathered.names, gathered.counts.spans, gathered.middle)
    return apart(logs, main, others)


def _to_nearest(
    gathered: Candidates, source: str, clock: Clock, at: Numbers, gaps: Numbers, owners: Numbers
) -> Numbers:
    """The gaps of pairs, each to the nearest moment of its attempt on the side that the source is of."""
    import numpy as np

    role = gathered.role(source)
    made = []
    for time, owner in zip(at + gaps, owners.astype(int), strict=True):
        true = time - clock.of(time)
        moments = sided(gathered.moments[owner], role)
        fullest = max(part for _, part in moments)
        near = min((moment for moment, part in moments if part == fullest), key=lambda item: abs(true - item))
        made.append(time - near)
    return np.array(made, dtype=float)
