"""Attempts and events laid side by side: the clocks, and which events belong to which attempt, how surely and why.

Two passes. The first looks for what carries an id of an attempt, and around its moments for its person; from these come
the clocks and the first weights. What is sure then tells more: the address that the browser had, the session's own id,
how a log writes a person that nothing on record joins. The second pass looks for those too. All is kept as events and
numbers; nothing here touches a file or a clock.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import APPLICATION, OTHER, PROVIDER, SUCCESS, Event
from trace_lens.logs.matching import thresholds
from trace_lens.logs.matching.candidates import Candidates, sided
from trace_lens.logs.matching.clock_setting import set_clocks
from trace_lens.logs.matching.clocks import Clock, unknown
from trace_lens.logs.matching.crowds import crowded
from trace_lens.logs.matching.pairs import Background, Crowd, Gaps, Kinds, Pairs
from trace_lens.logs.matching.seen import Instant, LogView, Matched, Seen
from trace_lens.logs.matching.weights import (
    APP,
    END,
    ID,
    IP,
    MARKS,
    OPEN,
    OUTCOME,
    REACH,
    SAME,
    USER,
    Weighed,
    weigh,
)
from trace_lens.logs.matching.weights import LIKE as ALIKE
from trace_lens.logs.matching.weights import OTHER as ANOTHER
from trace_lens.logs.store.candidates import by_ids, survey
from trace_lens.logs.store.store import EventStore
from trace_lens.people.spellings import Names, People
from trace_lens.workspace.log_sources import LogSource

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]

_NEAR = timedelta(minutes=2)


class Correlation(NamedTuple):
    """What came of it: a clock for each source that has events (and after it those of files that another clock wrote),
    and the events of each attempt by its key.

    `possible` are events that may be of an attempt but are likelier not.
    """

    clocks: tuple[Clock, ...] = ()
    matched: Mapping[str, tuple[Matched, ...]] = {}
    possible: Mapping[str, tuple[Matched, ...]] = {}

    def view(self, key: str, sources: Mapping[str, LogSource]) -> LogView:
        """What the logs say of one attempt."""
        return LogView(
            events=self.matched.get(key, ()),
            possible=self.possible.get(key, ()),
            sources=sources,
            clocks={clock.source: clock for clock in self.clocks if not clock.files},
            nodes=tuple(clock for clock in self.clocks if clock.files),
        )


def correlate(
    store: EventStore, sources: Mapping[str, LogSource], seen: Sequence[Seen], people: People, names: Names
) -> Correlation:
    """Find the events of attempts in the store; `sources` describe the logs, by their names in it."""
    counts = survey(store)
    once, twins = _once(seen)
    anchored, floating = _anchored(store, once, sources)
    attempts = [trace for trace in anchored if trace.at is not None]
    if not attempts or not counts.counts:
        return Correlation(tuple(unknown(source, 0.0) for source in sorted(counts.counts)))
    work = Candidates(store=store, sources=sources, attempts=attempts, people=people, names=names, counts=counts)
    work.floating = {
        number: floating[attempt.key] for number, attempt in enumerate(attempts) if attempt.key in floating
    }
    work.look_by_ids(range(len(attempts)))
    work.look_by_users()
    set_clocks(work)
    first = weighed(work)
    more, spellings = work.learn_from(first)
    if more or any(work.addresses):
        work.look_by_ids(range(len(attempts)))
        if spellings or work.clocks_moved():
            work.look_by_users()
        work.look_by_addresses()
        set_clocks(work)
        first = weighed(work)
    return _with_twins(_told(work, first), twins)


def _once(seen: Sequence[Seen]) -> tuple[list[Seen], dict[str, str]]:
    """The attempts without those that were captured twice, and the key of the one kept by that of each other.

    Captured twice is what shows no id but those of another attempt, at the same application within two minutes.
    """
    kept: list[Seen] = []
    twins: dict[str, str] = {}
    by_id: dict[str, list[Seen]] = {}
    for trace in sorted(seen, key=lambda item: (-len(item.ids), -len(item.moments))):
        others = by_id.get(next(iter(trace.ids)), ()) if trace.ids else ()
        twin = next((other for other in others if _same(trace, other)), None)
        if twin is not None:
            twins[trace.key] = twin.key
            continue
        kept.append(trace)
        for name in trace.ids:
            by_id.setdefault(name, []).append(trace)
    order = {trace.key: place for place, trace in enumerate(seen)}
    return sorted(kept, key=lambda member: order[member.key]), twins


def _same(trace: Seen, other: Seen) -> bool:
    near = trace.at is None or other.at is None or abs(trace.at - other.at) <= _NEAR
    return trace.ids <= other.ids and trace.app == other.app and near


def _with_twins(found: Correlation, twins: Mapping[str, str]) -> Correlation:
    """The result, with what was captured twice having what the one that was looked for has."""
    matched, possible = (
        {**some, **{key: some[other] for key, other in twins.items() if other in some}}
        for some in (found.matched, found.possible)
    )
    return found._replace(matched=matched, possible=possible)


def _anchored(
    store: EventStore, seen: Sequence[Seen], sources: Mapping[str, LogSource]
) -> tuple[list[Seen], dict[str, str]]:
    """The attempts, those that show no moment put where a log has one of their ids; beside, whose clock told it."""
    floating = [trace for trace in seen if trace.at is None and trace.ids]
    if not floating:
        return list(seen), {}
    carried, spread = by_ids(store, (name for trace in floating for name in trace.ids))
    by_name: dict[str, list[Event]] = {}
    for pair in carried:
        by_name.setdefault(pair.id, []).append(pair.event)

    def rank(name: str, event: Event) -> tuple[int, int, datetime]:
        told = sources.get(event.source)
        side = told is not None and told.settings.role in (APPLICATION, PROVIDER)
        return (0 if side else 1, spread[event.source, name][0], event.time)

    made: list[Seen] = []
    clock_of: dict[str, str] = {}
    for attempt in seen:
        found = [event for name in attempt.ids for event in by_name.get(name, ())]
        if attempt.at is None and found:
            event = min(found, key=lambda item: min(rank(name, item) for name in item.ids if name in attempt.ids))
            clock_of[attempt.key] = event.source
            attempt = attempt._replace(at=event.time, moments=(Instant(event.time),))
        made.append(attempt)
    return made, clock_of


def weighed(gathered: Candidates) -> list[tuple[Pairs, Weighed]]:
    """The candidates of each source with their probabilities."""
    by_source: dict[str, list[tuple[int, int]]] = {}
    for attempt, events in sorted(gathered.found.items()):
        for event in sorted(events):
            by_source.setdefault(gathered.events[event].source, []).append((attempt, event))
    found = [_pairs(gathered, source, pairs) for source, pairs in sorted(by_source.items())]
    reached = [max(_reached(gathered, pairs.source), 1) for pairs in found]
    return [
        (pairs, made)
        for pairs, many in zip(found, reached, strict=True)
        for made in weigh([pairs], gathered.clocks, many, len(gathered.events))
    ]


def _reached(gathered: Candidates, source: str) -> int:
    """How many attempts lie in the span of a source, and are not of another provider or application."""
    low, high = gathered.counts.spans[source]
    told = gathered.sources.get(source)
    count = 0
    for number, attempt in enumerate(gathered.attempts):
        at = gathered.moments[number][0][0]
        if told and told.settings.app and attempt.app and told.settings.app != attempt.app:
            continue
        if told and told.settings.provider and attempt.provider and told.settings.provider != attempt.provider:
            continue
        count += low - REACH <= at + gathered.clocks[source].at(at) <= high + REACH
    return count


def _pairs(gathered: Candidates, source: str, found: list[tuple[int, int]]) -> Pairs:
    import numpy as np

    attempts, events = (np.array([item[side] for item in found], dtype=np.int64) for side in (0, 1))
    levels, weight, background = _compared(gathered, source, found)
    gaps, nearest = _gaps(gathered, source, found)
    kinds, kind = _kinds(gathered, source, found)
    near, twin = crowded(gathered, found, nearest)
    rounds = np.array([gathered.attempts[attempt].rounds for attempt, _ in found], dtype=np.int64)
    return Pairs(
        source=source,
        attempt=attempts,
        event=events,
        levels=levels,
        weight=weight,
        kind=kind,
        nearest=nearest,
        gaps=gaps,
        kinds=kinds,
        background=background,
        crowd=Crowd(near, twin, rounds),
    )


def _compared(
    gathered: Candidates, source: str, found: list[tuple[int, int]]
) -> tuple[NDArray[np.int8], Numbers, Background]:
    """How far the marks of each pair agree, how likely its person is meant, what else may have brought its event."""
    import numpy as np

    role = gathered.role(source)
    carries_ids = any(gathered.events[event].ids for _, event in found)
    levels = np.full((len(MARKS), len(found)), -1, dtype=np.int8)
    weight, rate = np.ones(len(found)), np.ones(len(found))
    by_id, by_user = np.zeros(len(found), dtype=bool), np.zeros(len(found), dtype=bool)
    for place, (attempt, number) in enumerate(found):
        event = gathered.events[number]
        shared = gathered.shared(attempt, event)
        weight[place] = _mark(levels[:, place], gathered, attempt, event, shared, role, carries_ids=carries_ids)
        by_id[place] = bool(shared)
        by_user[place] = not shared and levels[USER, place] in (SAME, ALIKE)
        rate[place] = _rate(gathered, attempt, event, shared, bool(by_user[place]))
    return levels, weight, Background(rate, by_id, by_user)


def _gaps(gathered: Candidates, source: str, found: list[tuple[int, int]]) -> tuple[Gaps, Numbers]:
    """The gaps of each event, its clock corrected, to the moments of the attempt; the smallest gap of each pair."""
    import numpy as np

    role = gathered.role(source)
    moments = [sided(moment, role) for moment in gathered.moments]
    gaps: list[float] = []
    shares: list[float] = []
    pair: list[int] = []
    nearest = np.zeros(len(found))
    for place, (attempt, number) in enumerate(found):
        time = gathered.events[number].time.timestamp()
        true = time - gathered.clock_of(gathered.events[number]).of(time)
        mine = [(true - at, part) for at, part in moments[attempt]]
        gaps += [gap for gap, _ in mine]
        shares += [part for _, part in mine]
        pair += [place] * len(mine)
        nearest[place] = min((gap for gap, _ in mine), key=abs)
    return Gaps(np.array(gaps), np.array(shares), np.array(pair, dtype=np.int64)), nearest


def _kinds(gathered: Candidates, source: str, found: list[tuple[int, int]]) -> tuple[Kinds, NDArray[np.int64]]:
    """The kinds of events of a source, and the number of that of each pair."""
    import numpy as np

    kinds = [(code, outcome) for name, outcome, code in gathered.counts.kinds if name == source]
    numbers = {kind: number for number, kind in enumerate(kinds)}
    shares = np.array([gathered.counts.kinds[source, outcome, code] for code, outcome in kinds], dtype=float)
    ends = np.array([outcome != OTHER for _, outcome in kinds], dtype=bool)
    once = np.array([_is_once(gathered.sources.get(source), outcome) for _, outcome in kinds], dtype=bool)
    events = (gathered.events[event] for _, event in found)
    kind = np.array([numbers[event.code, event.outcome] for event in events], dtype=np.int64)
    return Kinds(shares / shares.sum(), ends, once), kind


def _mark(
    levels: NDArray[np.int8],
    gathered: Candidates,
    attempt: int,
    event: Event,
    shared: Sequence[str],
    role: str,
    *,
    carries_ids: bool,
) -> float:
    """Write how far an event agrees with an attempt in each mark; the weight of agreeing on the user."""
    levels[USER], weight = gathered.user_level(attempt, event)
    levels[APP] = gathered.app_level(attempt, event)
    if event.ip and gathered.addresses[attempt]:
        levels[IP] = SAME if event.ip in gathered.addresses[attempt] else ANOTHER
    if gathered.ids[attempt] and carries_ids:
        same = ALIKE if shared and gathered.says_otherwise(attempt, event) else SAME
        levels[ID] = same if shared else ANOTHER if event.ids else OPEN
    levels[OUTCOME] = _outcome_level(gathered.attempts[attempt], role, event)
    levels[END] = gathered.end_level(attempt, event)
    return weight


def _is_once(source: LogSource | None, outcome: str) -> bool:
    """Whether an attempt has one line of a kind: a decision of the provider or the application, not a page."""
    if source is None or source.tells_status_only or source.settings.role not in (APPLICATION, PROVIDER):
        return False
    return outcome != OTHER


def _rate(gathered: Candidates, attempt: int, event: Event, shared: list[str], by_user: bool) -> float:
    """How many events a second of the background hold the value that this pair agrees on most particularly."""
    source = event.source
    length = gathered.counts.length(source)
    if shared:
        (count, life), text = min((gathered.spread[source, text], text) for text in shared)
        owners = sum(1 for ids in gathered.ids if not ids.isdisjoint(shared)) if count > thresholds.OWN else 1
        own = max(
            thresholds.OWN, len(gathered.kinds_with.get((source, text), ()))
        )  # one line of each kind may be its own
        others = max(count - own * owners, 0.0)
        return thresholds.CHANCE / length + others / max(life, 60.0)
    busy = gathered.counts.busyness(source, event.time.timestamp())
    if by_user and event.user:
        persons = gathered.persons[attempt]
        written = {pair for person in persons for pair in gathered.written.get(person, ()) if pair[0] == source}
        count = sum(gathered.users[source, user] for _, user in written)
        own = thresholds.OWN * gathered.attempts_of(persons)
        return (max(count - own, 0.0) + thresholds.STRAY) / length * busy
    if event.ip and event.ip in gathered.addresses[attempt] and event.user is None:
        return (gathered.addressed.get((source, event.ip), 0) + thresholds.STRAY) / length * busy
    if event.app and event.user is None:
        return (gathered.of_app(source, event.app) + thresholds.STRAY) / length * busy
    return gathered.counts.counts[source] / length * busy


def _told(gathered: Candidates, weighed: list[tuple[Pairs, Weighed]]) -> Correlation:
    """The result: events by attempt, in the order of their true times. What is given as the reason stands in the
    attempt.
    """
    matched: dict[str, list[Matched]] = {}
    possible: dict[str, list[Matched]] = {}
    for pairs, item in weighed:
        for place in (item.probability >= thresholds.POSSIBLE).nonzero()[0]:
            number = int(pairs.attempt[place])
            attempt, event = gathered.attempts[number], gathered.events[int(pairs.event[place])]
            levels = pairs.levels[:, place]
            holding = {
                "id": not gathered.own_ids[number].isdisjoint(event.ids),
                "user": levels[USER] in (SAME, ALIKE),
                "app": levels[APP] == SAME,
                "ip": event.ip in gathered.own_addresses[number],
                "time": bool(item.timely[place]),
            }
            because = tuple(word for word, holds in holding.items() if holds)
            told = Matched(
                event=event,
                corrected=gathered.corrected(event),
                probability=float(item.probability[place]),
                because=because,
                role=gathered.role(event.source),
            )
            home = matched if item.chosen[place] and item.probability[place] >= thresholds.BELONGS else possible
            home.setdefault(attempt.key, []).append(told)
    in_order = {key: tuple(sorted(some, key=_when)) for key, some in matched.items()}
    return Correlation(
        tuple(clock for source in sorted(gathered.clocks) for clock in _clocks(gathered, source)),
        in_order,
        {key: tuple(sorted(some, key=_when)) for key, some in possible.items()},
    )


def _clocks(gathered: Candidates, source: str) -> Iterator[Clock]:
    """The clock of a source, and those of its files that another one wrote."""
    yield gathered.clocks[source]
    others: dict[Clock, list[str]] = {}
    for (name, file), clock in sorted(gathered.nodes.items()):
        if name == source:
            others.setdefault(clock, []).append(file)
    for clock, files in others.items():
        yield clock._replace(files=tuple(files))


def _when(matched: Matched) -> tuple[datetime, str, str, int]:
    return matched.corrected, matched.event.source, matched.event.file, matched.event.line


def _outcome_level(seen: Seen, role: str, event: Event) -> int:
    expected = seen.answered if role == PROVIDER else seen.let_in if role == APPLICATION else None
    if expected is None or event.outcome == OTHER:
        return -1
    return SAME if (event.outcome == SUCCESS) is expected else ANOTHER
