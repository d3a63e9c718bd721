"""The clock of each source, from the pairs of attempts and events that were gathered, and from the logs themselves."""

from __future__ import annotations

from collections.abc import Mapping
from itertools import combinations, takewhile
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


_Found = dict[str, list[tuple[float, float, int]]]
"""Pairs of one file, as moments, gaps and attempts: `joined` by an id that few carry, those joined by an id of one use
(`once`), and those alike in person and application.
"""


def set_clocks(gathered: Candidates) -> None:
    """Estimate the clock of each source, by ids where they join enough pairs, else by the heap of the gaps."""
    found: dict[str, dict[str, _Found]] = {source: {} for source in gathered.clocks}
    for attempt, events in gathered.found.items():
        if attempt in gathered.floating:
            continue
        begin = gathered.moments[attempt][0][0]
        decisive = {gathered.events[event].source for event in events if gathered.events[event].outcome != OTHER}
        for event in events:
            logged = gathered.events[event]
            if logged.outcome == OTHER and logged.source in decisive:
                continue
            of_file = found[logged.source].setdefault(logged.file, {"joined": [], "once": [], "alike": []})
            pair = (begin, logged.time.timestamp() - begin, attempt)
            names = gathered.shared(attempt, logged)
            uses = min((gathered.spread[logged.source, name][0] for name in names), default=0)
            if 0 < uses <= thresholds.ONE_OF_MANY:
                of_file["joined"].append(pair)
                if uses == 1:
                    of_file["once"].append(pair)
            elif abs(pair[1]) <= REACH and gathered.app_level(attempt, logged) != ANOTHER:
                of_file["alike"].append(pair)
    gathered.nodes = {}
    pooled: dict[str, _Found] = {}
    for source, files in found.items():
        nodes = _nodes(gathered, source, files)
        gathered.nodes |= {(source, file): clock for file, clock in nodes.items()}
        rest = [some for file, some in files.items() if file not in nodes]
        pooled[source] = {kind: [pair for some in rest for pair in some[kind]] for kind in ("joined", "once", "alike")}
        clock = _estimated(gathered, source, pooled[source])
        if clock is not None:
            gathered.clocks[source] = clock
    _settle(gathered)
    weak = [
        text for text, clock in gathered.clocks.items() if clock.basis == NONE or clock.pairs < thresholds.ENOUGH_PAIRS
    ]
    if weak and len(gathered.clocks) > 1:
        by_kind = ({source: some[kind] for source, some in pooled.items()} for kind in ("alike", "joined"))
        _set_by_each_other(gathered, weak, *by_kind)


def _estimated(gathered: Candidates, source: str, found: _Found) -> Clock | None:
    """The clock that pairs tell; None where they tell none."""
    import numpy as np

    pairs = found["once"] if len(found["once"]) >= thresholds.ENOUGH_PAIRS else found["joined"]
    at, gaps, owners = (np.array(column, dtype=float) for column in columns(pairs))
    clock = from_ids(source, at, gaps, gathered.middle)
    if clock is not None:
        gaps = _to_nearest(gathered, source, clock, at, gaps, owners)
        clock = from_ids(source, at, gaps, gathered.middle)
    if clock is None or clock.pairs < thresholds.FEW_PAIRS:
        at, gaps, owners = (np.array(column, dtype=float) for column in columns(found["alike"]))
        clock = from_times(source, at, gaps, owners.astype(np.int64), gathered.middle) or clock
    return clock


def _nodes(gathered: Candidates, source: str, files: Mapping[str, _Found]) -> dict[str, Clock]:
    """The clocks of those files of a source that another clock wrote than that of the rest: where two were written at
    the same time, as by two nodes, and what each tells of its clock rules out what the other tells.
    """
    beside = _written_at_once(gathered, source)
    known = {}
    for file in sorted(files.keys() & beside):
        clock = _estimated(gathered, source, files[file])
        if clock is not None and clock.pairs >= thresholds.EACH_SIDE and not clock.segments:
            known[file] = clock
    main = max(known.values(), key=lambda clock: clock.pairs, default=None)
    apart = {file: clock for file, clock in known.items() if main and _rules_out(clock, main)}
    if apart:
        for file in files.keys() - known.keys():
            like = max(known, key=lambda other: _alike(file, other))
            if like in apart:
                apart[file] = apart[like]
    return apart


def _alike(name: str, other: str) -> int:
    """How many letters two names begin with alike."""
    return sum(1 for _ in takewhile(lambda pair: pair[0] == pair[1], zip(name, other, strict=False)))


def _rules_out(clock: Clock, other: Clock) -> bool:
    bounds = clock.low, clock.high, other.low, other.high
    low, high, other_low, other_high = (0.0 if bound is None else bound for bound in bounds)
    return None not in bounds and (low > other_high or high < other_low)


def _written_at_once(gathered: Candidates, source: str) -> set[str]:
    """The files of a source that span mostly the same time as another one."""
    spans = {
        content.name.file: (content.first.timestamp(), content.last.timestamp())
        for content in gathered.store.manifest
        if content.source == source and content.first and content.last
    }
    found = set()
    for (file, (low, high)), (other, (from_, until)) in combinations(spans.items(), 2):
        if min(high, until) - max(low, from_) > min(high - low, until - from_) / 2:
            found |= {file, other}
    return found


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
