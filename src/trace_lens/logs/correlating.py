"""Attempts and events laid side by side: the clocks, and which events belong to which attempt, how surely and why.

Two passes. The first looks for what carries an id of an attempt, and around its moments for its person; from these come
the clocks and the first weights. What is sure then tells more: the address that the browser had, the session's own id,
how a log writes a person that nothing on record joins. The second pass looks for those too. All is kept as events and
numbers; nothing here touches a file or a clock.
"""

from __future__ import annotations

import hashlib
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from typing import TYPE_CHECKING, NamedTuple

from trace_lens.logs.candidates import Survey, Window, by_ids, by_windows, counted, survey
from trace_lens.logs.clocks import NONE, Clock, behind, from_ids, from_times, unknown
from trace_lens.logs.events import Event
from trace_lens.logs.people import Names, People, bare, is_opaque
from trace_lens.logs.seen import APPLICATION, OTHER, PROVIDER, SUCCESS, Instant, Matched, Seen
from trace_lens.logs.weights import APP, ID, IP, MARKS, OPEN, OUTCOME, REACH, SAME, USER, Pairs, Weighed, weigh
from trace_lens.logs.weights import LIKE as ALIKE
from trace_lens.logs.weights import OTHER as ANOTHER
from trace_lens.workspace.log_sources import LogSource

if TYPE_CHECKING:
    import ibis.expr.types as ir
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]

BELONGS = 0.5
"""The probability from which on an event counts as one of the attempt; below it is only possible."""
POSSIBLE = 0.05
_SURE = 0.95
_ONE_OF_MANY = 8
"""An id that more events of a source carry is a session's: it says little of the clock."""
_CHANCE = 0.02
_STRAY = 0.3
_OWN = 1.5
"""Events that an attempt is supposed to own in a log where nothing is known yet."""
_OTHER_SIDE = 0.15
_FEW = 3
_ENOUGH = 8
"""From so many pairs on, the attempts tell a clock by themselves."""
_LIKELY = 0.02
"""The doubt allowed where logs that agree with each other are laid beside an attempt: it is in them, most likely."""
_SAMPLE = 6_000
"""How many events are looked at to lay logs beside each other."""
_NARROW = 150.0
_TOO_MANY = 200.0


class Correlation(NamedTuple):
    """What came of it: a clock for each source that has events, and the events of each attempt by its key.

    `possible` are events that may be of an attempt but are likelier not.
    """

    clocks: tuple[Clock, ...] = ()
    matched: Mapping[str, tuple[Matched, ...]] = {}
    possible: Mapping[str, tuple[Matched, ...]] = {}


def correlate(
    events: ir.Table, sources: Mapping[str, LogSource], seen: Sequence[Seen], people: People, names: Names
) -> Correlation:
    """Find the events of attempts in the store's table; `sources` describe the logs, by their names in it."""
    counts = survey(events)
    anchored, floating = _anchored(events, seen, sources)
    attempts = [one for one in anchored if one.at is not None]
    if not attempts or not counts.counts:
        return Correlation(tuple(unknown(source, 0.0) for source in sorted(counts.counts)))
    work = _Work(events, sources, attempts, people, names, counts)
    work.floating = {number: floating[one.key] for number, one in enumerate(attempts) if one.key in floating}
    work.look_by_ids(range(len(attempts)))
    work.look_by_users()
    work.set_clocks()
    first = work.weigh()
    more, spellings = work.learn_from(first)
    if more:
        work.look_by_ids(range(len(attempts)))
        if spellings:
            work.look_by_users()
        work.look_by_addresses()
        work.set_clocks()
        first = work.weigh()
    return work.told(first)


def _anchored(
    events: ir.Table, seen: Sequence[Seen], sources: Mapping[str, LogSource]
) -> tuple[list[Seen], dict[str, str]]:
    """The attempts, those that show no moment put where a log has one of their ids; beside, whose clock told it."""
    floating = [one for one in seen if one.at is None and one.ids]
    if not floating:
        return list(seen), {}
    carried, spread = by_ids(events, (name for one in floating for name in one.ids))
    by_name: dict[str, list[Event]] = {}
    for one in carried:
        by_name.setdefault(one.id, []).append(one.event)

    def rank(name: str, event: Event) -> tuple[int, int, datetime]:
        told = sources.get(event.source)
        side = told is not None and told.settings.role in (APPLICATION, PROVIDER)
        return (0 if side else 1, spread[event.source, name][0], event.time)

    made: list[Seen] = []
    clock_of: dict[str, str] = {}
    for attempt in seen:
        found = [event for name in attempt.ids for event in by_name.get(name, ())]
        if attempt.at is None and found:
            event = min(found, key=lambda each: min(rank(name, each) for name in each.ids if name in attempt.ids))
            clock_of[attempt.key] = event.source
            attempt = attempt._replace(at=event.time, moments=(Instant(event.time),))
        made.append(attempt)
    return made, clock_of


class _Work:
    """One correlation while it is made."""

    def __init__(
        self, events: ir.Table, sources: Mapping[str, LogSource], attempts: list[Seen], people: People, names: Names,
        counts: Survey,
    ) -> None:  # fmt: skip
        self.table, self.sources, self.attempts = events, sources, attempts
        self.people, self.names, self.counts = people, names, counts
        self.events: list[Event] = []
        self._places: dict[tuple[str, str, int], int] = {}
        self._found: dict[int, set[int]] = {}
        self.ids = [set(one.ids) for one in attempts]
        self.addresses = [set(one.addresses) for one in attempts]
        self.persons = [people.of(one.names) for one in attempts]
        self.moments = [_moments(one) for one in attempts]
        self._asked_ids: set[str] = set()
        self._spread: dict[tuple[str, str], tuple[int, float]] = {}
        self._read: dict[tuple[str, str], Mapping[int, float]] = {}
        self._written: dict[int, list[tuple[str, str]]] = {}
        self._apps: dict[tuple[str, str], frozenset[str]] = {}
        self.floating: dict[int, str] = {}
        self._apart_known: dict[tuple[str, ...], dict[str, Clock]] = {}
        self._addressed: dict[tuple[str, str], int] = {}
        times = [one[0][0] for one in self.moments]
        self.middle = (min(times) + max(times)) / 2
        self.clocks = {source: unknown(source, self.middle) for source in sorted(counts.counts)}
        self._read_users()

    def _read_users(self) -> None:
        """Who is meant by each name that the logs hold, and how the logs write each person of an attempt."""
        wanted = frozenset().union(*self.persons) if self.persons else frozenset()
        for source, users in self.counts.users.items():
            for user in users:
                meant = self.people.read(user)
                if meant:
                    self._read[source, user] = meant
                    for person in meant.keys() & wanted:
                        self._written.setdefault(person, []).append((source, user))

    def _add(self, event: Event) -> int:
        key = (event.source, event.file, event.line)
        place = self._places.get(key)
        if place is None:
            place = self._places[key] = len(self.events)
            self.events.append(event)
        return place

    def _pair(self, attempt: int, event: int) -> None:
        told = self.sources.get(self.events[event].source)
        theirs = self.attempts[attempt].provider
        if told is None or told.settings.provider is None or theirs is None or told.settings.provider == theirs:
            self._found.setdefault(attempt, set()).add(event)

    def look_by_ids(self, of: Iterable[int]) -> None:
        """Find the events that carry an id of an attempt, whenever they were."""
        owners: dict[str, list[int]] = {}
        for attempt in of:
            for name in self.ids[attempt]:
                owners.setdefault(name, []).append(attempt)
        new = owners.keys() - self._asked_ids
        self._asked_ids |= new
        carried, spread = by_ids(self.table, new)
        self._spread |= spread
        for one in carried:
            place = self._add(one.event)
            for attempt in owners[one.id]:
                self._pair(attempt, place)

    def look_by_users(self) -> None:
        """Find the events of an attempt's person around its moments."""
        windows: list[Window] = []
        for attempt, persons in enumerate(self.persons):
            for source, user in {one for person in persons for one in self._written.get(person, ())}:
                windows += self._windows(attempt, source, user, REACH)
        found: dict[tuple[str, str], list[int]] = {}
        for event in by_windows(self.table, "user", windows):
            found.setdefault((event.source, event.user or ""), []).append(self._add(event))
        for attempt, persons in enumerate(self.persons):
            for written in {one for person in persons for one in self._written.get(person, ())}:
                self._near(attempt, found.get(written, ()), REACH)

    def look_by_addresses(self) -> None:
        """Find the events without a person, by the address that an attempt is known to have had."""
        self._addressed = {
            (str(source), str(ip)): count
            for (source, ip), count in counted(
                self.table, ("ip",), (one for some in self.addresses for one in some)
            ).items()
        }
        windows: list[Window] = []
        reaches: dict[str, float] = {}
        for source, clock in self.clocks.items():
            if sum(self.counts.users.get(source, {}).values()) > 0.9 * self.counts.counts[source]:
                continue
            reaches[source] = _NARROW if clock.basis != NONE else REACH
        for attempt, addresses in enumerate(self.addresses):
            for source, reach in reaches.items():
                for ip in addresses:
                    rate = self._addressed.get((source, ip), 0) / self.counts.length(source)
                    if 0 < rate * 2 * reach < _TOO_MANY:
                        windows += self._windows(attempt, source, ip, reach)
        found: dict[tuple[str, str], list[int]] = {}
        for event in by_windows(self.table, "ip", windows):
            if event.user is None:
                found.setdefault((event.source, event.ip or ""), []).append(self._add(event))
        for attempt, addresses in enumerate(self.addresses):
            for source, reach in reaches.items():
                for ip in addresses:
                    self._near(attempt, found.get((source, ip), ()), reach)

    def _windows(self, attempt: int, source: str, value: str, reach: float) -> Iterator[Window]:
        clock = self.clocks[source]
        moments = [at for at, _ in self.moments[attempt]]
        low, high = min(moments), max(moments)
        yield Window(source, value, low + clock.at(low) - reach, high + clock.at(high) + reach)

    def _near(self, attempt: int, events: Iterable[int], reach: float) -> None:
        moments = [at for at, _ in self.moments[attempt]]
        low, high = min(moments) - reach, max(moments) + reach
        for event in events:
            one = self.events[event]
            time = one.time.timestamp()
            if low <= time - self.clocks[one.source].at(time) <= high:
                self._pair(attempt, event)

    def set_clocks(self) -> None:
        """Estimate the clock of each source, by ids where they join enough pairs, else by the heap of the gaps."""
        import numpy as np

        joined: dict[str, list[tuple[float, float, int]]] = {}
        alike: dict[str, list[tuple[float, float, int]]] = {}
        for attempt, events in self._found.items():
            if attempt in self.floating:
                continue
            begin = self.moments[attempt][0][0]
            decisive = {self.events[event].source for event in events if self.events[event].outcome != OTHER}
            for event in events:
                one = self.events[event]
                if one.outcome == OTHER and one.source in decisive:
                    continue
                pair = (begin, one.time.timestamp() - begin, attempt)
                if any(self._spread[one.source, name][0] <= _ONE_OF_MANY for name in self._shared(attempt, one)):
                    joined.setdefault(one.source, []).append(pair)
                elif abs(pair[1]) <= REACH and self._app_level(attempt, one) != ANOTHER:
                    alike.setdefault(one.source, []).append(pair)
        for source in self.clocks:
            at, gaps, owners = (np.array(one, dtype=float) for one in _columns(joined.get(source, ())))
            clock = from_ids(source, at, gaps, self.middle)
            if clock is not None:
                gaps = self._to_nearest(source, clock, at, gaps, owners)
                clock = from_ids(source, at, gaps, self.middle)
            if clock is None or clock.pairs < _FEW:
                at, gaps, owners = (np.array(one, dtype=float) for one in _columns(alike.get(source, ())))
                heaped = from_times(source, at, gaps, owners.astype(np.int64), self.middle)
                clock = heaped or clock
            if clock is not None:
                self.clocks[source] = clock
        self._settle()
        weak = [one for one, clock in self.clocks.items() if clock.basis == NONE or clock.pairs < _ENOUGH]
        if weak and len(self.clocks) > 1:
            self._set_by_each_other(weak, alike, joined)

    def _settle(self) -> None:
        """Correct the moments that only a log told, by that log's clock."""
        for attempt, source in self.floating.items():
            at = self.attempts[attempt].at
            if at is not None:
                time = at.timestamp()
                self.moments[attempt] = [(time - self.clocks[source].at(time), None)]

    def _set_by_each_other(self, weak: list[str], *pairs: Mapping[str, list[tuple[float, float, int]]]) -> None:
        """The clocks of which the attempts tell too little, by what the logs tell of each other's."""
        import numpy as np

        strong = [one for one in self.clocks if one not in weak]
        main = max(strong or weak, key=lambda one: (self.clocks[one].pairs, self.counts.counts[one]))
        others = [one for one in weak if one != main]
        if (main, *others) not in self._apart_known:
            self._apart_known[main, *others] = self._apart(main, others)
        apart = self._apart_known[main, *others]
        if not strong and self.clocks[main].basis == NONE:
            pooled = [
                (at, gap - (apart[source].at(at) if source in apart else 0.0), attempt * len(self.clocks) + number)
                for number, source in enumerate(self.clocks)
                for found in pairs
                for at, gap, attempt in found.get(source, ())
                if source == main or source in apart
            ]
            at, gaps, owners = (np.array(one, dtype=float) for one in _columns(pooled))
            clock = from_times(main, at, gaps, owners.astype(np.int64), self.middle, _LIKELY)
            if clock is None:
                return
            self.clocks[main] = clock
        for source, other in apart.items():
            if self.clocks[main].basis != NONE:
                self.clocks[source] = behind(self.clocks[main], other, source)

    def _apart(self, main: str, others: list[str]) -> dict[str, Clock]:
        """By how much other logs' clocks are ahead of one's, from the events of the same people in both."""
        import numpy as np

        def key(source: str, user: str) -> object:
            meant = self._read.get((source, user))
            return max(meant, key=lambda person: meant[person]) if meant else bare(user)

        writing: dict[object, dict[str, list[str]]] = {}
        for source in (main, *others):
            for user in self.counts.users.get(source, {}):
                writing.setdefault(key(source, user), {}).setdefault(source, []).append(user)
        chosen: list[Window] = []
        room = _SAMPLE
        for written in sorted((one for one in writing.values() if main in one and len(one) > 1), key=_scattered):
            count = sum(self.counts.users[source][user] for source, users in written.items() for user in users)
            if count <= room:
                room -= count
                chosen += [
                    Window(source, user, *self.counts.spans[source]) for source in written for user in written[source]
                ]
        found: dict[object, dict[str, list[Event]]] = {}
        for event in by_windows(self.table, "user", chosen):
            found.setdefault(key(event.source, event.user or ""), {}).setdefault(event.source, []).append(event)
        made = {}
        for source in others:
            rows: list[tuple[float, float, int]] = []
            for some in found.values():
                theirs = sorted((one.time.timestamp(), self._meant(one)) for one in some.get(source, ()))
                times = [time for time, _ in theirs]
                for event in some.get(main, ()):
                    time, app = event.time.timestamp(), self._meant(event)
                    for place in range(bisect_left(times, time - REACH), bisect_right(times, time + REACH)):
                        if app is None or theirs[place][1] in (None, app):
                            rows.append((time, times[place] - time, len(rows)))
            at, gaps, owners = (np.array(one, dtype=float) for one in _columns(rows))
            clock = from_times(source, at, gaps, owners.astype(np.int64), self.middle)
            if clock is not None:
                made[source] = clock
        return made

    def _meant(self, event: Event) -> str | None:
        """Which application an event is about, as one word; None where it does not say."""
        if event.app is None:
            return None
        known = self.names.read(event.app)
        return min(known) if known else event.app.casefold()

    def _to_nearest(self, source: str, clock: Clock, at: Numbers, gaps: Numbers, owners: Numbers) -> Numbers:
        """The gaps of pairs, each to the nearest moment of its attempt on the side that the source is of."""
        import numpy as np

        role = self._role(source)
        made = []
        for time, owner in zip(at + gaps, owners.astype(int), strict=True):
            true = time - clock.at(time)
            sided = _sided(self.moments[owner], role)
            fullest = max(part for _, part in sided)
            near = min((moment for moment, part in sided if part == fullest), key=lambda one: abs(true - one))
            made.append(time - near)
        return np.array(made, dtype=float)

    def _role(self, source: str) -> str:
        told = self.sources.get(source)
        return told.settings.role if told else "gateway"

    def _shared(self, attempt: int, event: Event) -> list[str]:
        return [one for one in event.ids if one in self.ids[attempt]]

    def _app_level(self, attempt: int, event: Event) -> int:
        app = self.attempts[attempt].app
        if app is None:
            return -1
        if event.app is None:
            return OPEN
        key = (event.source, event.app)
        if key not in self._apps:
            self._apps[key] = self.names.read(event.app)
        meant = self._apps[key]
        return SAME if app in meant else ANOTHER if meant else OPEN

    def _user_level(self, attempt: int, event: Event) -> tuple[int, float]:
        """How the person compares, and how likely the name means that person at all."""
        persons = self.persons[attempt]
        if not persons:
            return -1, 1.0
        if event.user is None:
            return OPEN, 1.0
        meant = self._read.get((event.source, event.user), {})
        likely = max((chance for person, chance in meant.items() if person in persons), default=0.0)
        if likely:
            exact = self.people.of((event.user,))
            return (SAME if exact & persons else ALIKE), likely
        closed = is_opaque(event.user) or all(is_opaque(name) for name in self.attempts[attempt].names)
        return (ANOTHER if meant or not closed else OPEN), 1.0

    def weigh(self) -> list[tuple[Pairs, Weighed]]:
        """The candidates of each source with their probabilities."""
        by_source: dict[str, list[tuple[int, int]]] = {}
        for attempt, events in sorted(self._found.items()):
            for event in sorted(events):
                by_source.setdefault(self.events[event].source, []).append((attempt, event))
        found = [self._pairs(source, pairs) for source, pairs in sorted(by_source.items())]
        reached = [max(self._reached(one.source), 1) for one in found]
        return [
            (one, weighed)
            for one, many in zip(found, reached, strict=True)
            for weighed in weigh([one], self.clocks, many, len(self.events))
        ]

    def _reached(self, source: str) -> int:
        """How many attempts lie in the span of a source, and are not of another provider or application."""
        low, high = self.counts.spans[source]
        told = self.sources.get(source)
        count = 0
        for number, one in enumerate(self.attempts):
            at = self.moments[number][0][0]
            if told and told.settings.app and one.app and told.settings.app != one.app:
                continue
            if told and told.settings.provider and one.provider and told.settings.provider != one.provider:
                continue
            count += low - REACH <= at + self.clocks[source].at(at) <= high + REACH
        return count

    def _pairs(self, source: str, found: list[tuple[int, int]]) -> Pairs:
        import numpy as np

        role = self._role(source)
        clock = self.clocks[source]
        kinds = [(code, outcome) for name, outcome, code in self.counts.kinds if name == source]
        numbers = {kind: number for number, kind in enumerate(kinds)}
        shares = np.array([self.counts.kinds[source, outcome, code] for code, outcome in kinds], dtype=float)
        moments = [_sided(one, role) for one in self.moments]
        carries_ids = any(self.events[event].ids for _, event in found)
        levels = np.full((len(MARKS), len(found)), -1, dtype=np.int8)
        weight, rate = np.ones(len(found)), np.ones(len(found))
        by_id, by_user = np.zeros(len(found), dtype=bool), np.zeros(len(found), dtype=bool)
        gaps: list[float] = []
        parts: list[float] = []
        pair: list[int] = []
        nearest = np.zeros(len(found))
        for place, (attempt, number) in enumerate(found):
            event = self.events[number]
            shared = self._shared(attempt, event)
            levels[USER, place], weight[place] = self._user_level(attempt, event)
            levels[APP, place] = self._app_level(attempt, event)
            if event.ip and self.addresses[attempt]:
                levels[IP, place] = SAME if event.ip in self.addresses[attempt] else ANOTHER
            if self.ids[attempt] and carries_ids:
                levels[ID, place] = SAME if shared else ANOTHER if event.ids else OPEN
            levels[OUTCOME, place] = _outcome_level(self.attempts[attempt], role, event)
            by_id[place] = bool(shared)
            by_user[place] = not shared and levels[USER, place] in (SAME, ALIKE)
            rate[place] = self._rate(attempt, event, shared, bool(by_user[place]))
            time = event.time.timestamp()
            true = time - clock.at(time)
            mine = [(true - at, part) for at, part in moments[attempt]]
            gaps += [gap for gap, _ in mine]
            parts += [part for _, part in mine]
            pair += [place] * len(mine)
            nearest[place] = min((gap for gap, _ in mine), key=abs)
        attempts, events = (np.array([one[side] for one in found], dtype=np.int64) for side in (0, 1))
        kind = np.array(
            [numbers[one.code, one.outcome] for one in (self.events[event] for _, event in found)], dtype=np.int64
        )
        return Pairs(
            source, attempts, events, levels, kind, shares / shares.sum(), weight, by_id, by_user, rate,
            np.array(gaps), np.array(parts), np.array(pair, dtype=np.int64), nearest,
        )  # fmt: skip

    def _rate(self, attempt: int, event: Event, shared: list[str], by_user: bool) -> float:
        """How many events a second of the background hold the value that this pair agrees on most particularly."""
        source = event.source
        length = self.counts.length(source)
        if shared:
            count, life = min(self._spread[source, one] for one in shared)
            owners = sum(1 for ids in self.ids if not ids.isdisjoint(shared)) if count > _OWN else 1
            others = max(count - _OWN * owners, 0.0)
            return _CHANCE / length + others / max(life, 60.0)
        busy = self.counts.busyness(source, event.time.timestamp())
        if by_user and event.user:
            persons = self.persons[attempt]
            written = {one for person in persons for one in self._written.get(person, ()) if one[0] == source}
            count = sum(self.counts.users[source][user] for _, user in written)
            own = _OWN * self._attempts_of(persons)
            return (max(count - own, 0.0) + _STRAY) / length * busy
        if event.ip and event.ip in self.addresses[attempt] and event.user is None:
            return (self._addressed.get((source, event.ip), 0) + _STRAY) / length * busy
        if event.app and event.user is None:
            return (self.counts.apps.get(source, {}).get(event.app, 0) + _STRAY) / length * busy
        return self.counts.counts[source] / length * busy

    def _attempts_of(self, persons: frozenset[int]) -> int:
        if not hasattr(self, "_by_person"):
            self._by_person: dict[frozenset[int], int] = {}
            for one in self.persons:
                self._by_person[one] = self._by_person.get(one, 0) + 1
        return self._by_person.get(persons, 1)

    def learn_from(self, weighed: list[tuple[Pairs, Weighed]]) -> tuple[bool, bool]:
        """Take from the events that are sure what more they tell of their attempts.

        Gives whether that is anything, and whether there are new spellings of people among it.
        """
        before = sum(map(len, self.ids)) + sum(map(len, self.addresses))
        alias: dict[tuple[str, str], set[int]] = {}
        for pairs, one in weighed:
            for place in (one.chosen & (one.probability >= _SURE)).nonzero()[0]:
                attempt, event = int(pairs.attempt[place]), self.events[int(pairs.event[place])]
                self.ids[attempt] |= set(event.ids)
                if event.ip:
                    self.addresses[attempt].add(event.ip)
                if event.user and pairs.levels[USER, place] == OPEN and self.persons[attempt]:
                    alias.setdefault((event.source, event.user), set()).update(self.persons[attempt])
        for key, persons in alias.items():
            if key not in self._read:
                self._read[key] = dict.fromkeys(persons, 1.0 / len(persons))
                for person in persons:
                    self._written.setdefault(person, []).append(key)
        return bool(alias) or sum(map(len, self.ids)) + sum(map(len, self.addresses)) > before, bool(alias)

    def told(self, weighed: list[tuple[Pairs, Weighed]]) -> Correlation:
        """The result: events by attempt, in the order of their true times."""
        matched: dict[str, list[Matched]] = {}
        possible: dict[str, list[Matched]] = {}
        for pairs, one in weighed:
            for place in (one.probability >= POSSIBLE).nonzero()[0]:
                attempt, event = self.attempts[int(pairs.attempt[place])], self.events[int(pairs.event[place])]
                levels = pairs.levels[:, place]
                holding = {
                    "id": levels[ID] == SAME,
                    "user": levels[USER] in (SAME, ALIKE),
                    "app": levels[APP] == SAME,
                    "ip": levels[IP] == SAME,
                    "time": bool(one.timely[place]),
                }
                because = tuple(word for word, holds in holding.items() if holds)
                told = Matched(
                    event, self._corrected(event), float(one.probability[place]), because, self._role(event.source)
                )
                home = matched if one.chosen[place] and one.probability[place] >= BELONGS else possible
                home.setdefault(attempt.key, []).append(told)
        in_order = {key: tuple(sorted(some, key=_when)) for key, some in matched.items()}
        return Correlation(
            tuple(self.clocks[source] for source in sorted(self.clocks)),
            in_order,
            {key: tuple(sorted(some, key=_when)) for key, some in possible.items()},
        )

    def _corrected(self, event: Event) -> datetime:
        return event.time - timedelta(seconds=float(self.clocks[event.source].at(event.time.timestamp())))


def _when(one: Matched) -> tuple[datetime, str, str, int]:
    return one.corrected, one.event.source, one.event.file, one.event.line


def _scattered(written: Mapping[str, list[str]]) -> str:
    """An order that has nothing to do with the names, and is the same each time."""
    return hashlib.sha256(repr(sorted(written.items())).encode()).hexdigest()


def _columns(rows: Iterable[tuple[float, float, int]]) -> tuple[list[float], list[float], list[int]]:
    ordered = sorted(rows)
    return [one[0] for one in ordered], [one[1] for one in ordered], [one[2] for one in ordered]


def _moments(one: Seen) -> list[tuple[float, str | None]]:
    """The moments of an attempt in epoch seconds with their sides, the one that it is known by first."""
    if one.at is None:
        return []
    main = (one.at.timestamp(), next((each.side for each in one.moments if each.at == one.at), None))
    rest = [(each.at.timestamp(), each.side) for each in one.moments if each.at != one.at]
    return [main, *dict.fromkeys(rest)]


def _sided(moments: list[tuple[float, str | None]], role: str) -> list[tuple[float, float]]:
    """Moments with their shares: those of the source's own side count most."""
    sided = [
        (at, 1.0 if side is None or role not in (APPLICATION, PROVIDER) or side == role else _OTHER_SIDE)
        for at, side in moments
    ]
    total = sum(part for _, part in sided)
    return [(at, part / total) for at, part in sided]


def _outcome_level(seen: Seen, role: str, event: Event) -> int:
    expected = seen.answered if role == PROVIDER else seen.let_in if role == APPLICATION else None
    if expected is None or event.outcome == OTHER:
        return -1
    return SAME if (event.outcome == SUCCESS) is expected else ANOTHER
