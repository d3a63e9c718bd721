"""Attempts with the events that may be theirs, gathered from the store in passes: by ids, by people, by addresses.

Who and what the logs mean by their names is read once; what turns out sure tells more to look for.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from trace_lens.logs.event import APPLICATION, OTHER, PROVIDER, Event
from trace_lens.logs.matching import thresholds
from trace_lens.logs.matching.clocks import NONE, Clock, unknown
from trace_lens.logs.matching.pairs import Pairs
from trace_lens.logs.matching.seen import Seen
from trace_lens.logs.matching.weights import LIKE as ALIKE
from trace_lens.logs.matching.weights import OPEN, REACH, SAME, USER, Weighed
from trace_lens.logs.matching.weights import OTHER as ANOTHER
from trace_lens.logs.store.candidates import Survey, Window, by_ids, by_windows, tally, written_as
from trace_lens.logs.store.store import EventStore
from trace_lens.people.spellings import Names, People, is_opaque
from trace_lens.workspace.log_sources import LogSource

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]


class Candidates:
    """What has been found so far. Attempts and events go by their places in `attempts` and `events`.

    `found` are the candidates of each attempt, `clocks` those of the sources as far as they are known, `nodes` those of
    files (source, file) that another clock wrote; `floating` tells whose clock told the moment of an attempt that shows
    none itself.
    """

    def __init__(
        self,
        store: EventStore,
        sources: Mapping[str, LogSource],
        attempts: list[Seen],
        people: People,
        names: Names,
        counts: Survey,
    ) -> None:
        self.store, self.sources, self.attempts = store, sources, attempts
        self.people, self.names, self.counts = people, names, counts
        self.events: list[Event] = []
        self._places: dict[tuple[str, str, int, int | None], int] = {}
        self.found: dict[int, set[int]] = {}
        self.ids = [set(attempt.ids) for attempt in attempts]
        self.addresses = [set(attempt.addresses) for attempt in attempts]
        self.persons = [people.of(attempt.names) for attempt in attempts]
        self.moments = [_moments(attempt) for attempt in attempts]
        self._asked_ids: set[str] = set()
        self.spread: dict[tuple[str, str], tuple[int, float]] = {}
        self.kinds_with: dict[tuple[str, str], set[str | None]] = {}
        self._readings: dict[tuple[str, str], Mapping[int, float]] = {}
        self.users: dict[tuple[str, str], int] = {}
        self._of_app: dict[tuple[str, str], int] = {}
        self._columns: dict[tuple[int, str], set[str]] = {}
        self.written: dict[int, list[tuple[str, str]]] = {}
        self._apps: dict[tuple[str, str], frozenset[str]] = {}
        self.ends: dict[int, dict[str, set[tuple[str, str | None]]]] = {}
        self.own_ids = [frozenset(some) for some in self.ids]
        self.own_addresses = [frozenset(some) for some in self.addresses]
        self.floating: dict[int, str] = {}
        self.apart_known: dict[tuple[str, ...], dict[str, Clock]] = {}
        self.addressed: dict[tuple[str, str], int] = {}
        times = [moment[0][0] for moment in self.moments]
        self.middle = (min(times) + max(times)) / 2
        self.clocks = {source: unknown(source, self.middle) for source in sorted(counts.counts)}
        self.nodes: dict[tuple[str, str], Clock] = {}
        self._read_users()

    def _read_users(self) -> None:
        """How the logs write each person of an attempt."""
        wanted = frozenset().union(*self.persons) if self.persons else frozenset()
        names = (name for person in wanted for name in self.people.spellings(person))
        for source, users in sorted(written_as(self.store, names).items()):
            for user, count in sorted(users.items()):
                self.users[source, user] = count
                for person in self.reading(source, user).keys() & wanted:
                    self.written.setdefault(person, []).append((source, user))

    def reading(self, source: str, user: str) -> Mapping[int, float]:
        """Who is meant by a name in a log."""
        key = (source, user)
        if key not in self._readings:
            self._readings[key] = self.people.read(user)
        return self._readings[key]

    def of_app(self, source: str, app: str) -> int:
        """How many events of a log name an application so."""
        key = (source, app)
        if key not in self._of_app:
            self._of_app |= tally(self.store, "app", [app])
        return self._of_app.get(key, 0)

    def _add(self, event: Event) -> int:
        key = event.place
        place = self._places.get(key)
        if place is None:
            place = self._places[key] = len(self.events)
            self.events.append(event)
        return place

    def _pair(self, attempt: int, event: int) -> None:
        """Take an event as a candidate, unless it is bound to another known application or provider."""
        told = self.sources.get(self.events[event].source)
        seen = self.attempts[attempt]
        theirs = seen.provider
        bound = told.settings.app if told else None
        if self.app_level(attempt, self.events[event]) == ANOTHER or (bound and seen.app and bound != seen.app):
            return
        if told is None or told.settings.provider is None or theirs is None or told.settings.provider == theirs:
            self.found.setdefault(attempt, set()).add(event)

    def look_by_ids(self, of: Iterable[int]) -> None:
        """Find the events that carry an id of an attempt, whenever they were."""
        owners: dict[str, list[int]] = {}
        for attempt in of:
            for name in self.ids[attempt]:
                owners.setdefault(name, []).append(attempt)
        self._columns.clear()
        new = owners.keys() - self._asked_ids
        self._asked_ids |= new
        carried, spread = by_ids(self.store, new)
        self.spread |= spread
        for pair in carried:
            place = self._add(pair.event)
            kind = pair.event.code or "" if pair.event.outcome == OTHER else None
            self.kinds_with.setdefault((pair.event.source, pair.id), set()).add(kind)
            for attempt in owners[pair.id]:
                self._pair(attempt, place)

    def look_by_users(self) -> None:
        """Find the events of an attempt's person around its moments."""
        windows: list[Window] = []
        for attempt, persons in enumerate(self.persons):
            for source, user in {pair for person in persons for pair in self.written.get(person, ())}:
                windows += self._windows(attempt, source, user, REACH)
        found: dict[tuple[str, str], list[int]] = {}
        for event in by_windows(self.store, "user", windows):
            found.setdefault((event.source, event.user or ""), []).append(self._add(event))
        for attempt, persons in enumerate(self.persons):
            for written in {pair for person in persons for pair in self.written.get(person, ())}:
                self._near(attempt, found.get(written, ()), REACH)

    def clocks_moved(self) -> bool:
        """Whether a clock is so far off that what belongs there was looked for elsewhere."""
        offsets = [
            offset
            for clock in (*self.clocks.values(), *self.nodes.values())
            for offset in (clock.offset, *(segment.offset for segment in clock.segments))
        ]
        return any(abs(offset) > REACH / 2 for offset in offsets)

    def look_by_addresses(self) -> None:
        """Find the events without a person, by the address that an attempt is known to have had."""
        self.addressed = tally(self.store, "nameless", (text for some in self.addresses for text in some))
        windows: list[Window] = []
        reaches: dict[str, float] = {}
        for source, clock in self.clocks.items():
            if self.counts.named.get(source, 0) >= self.counts.counts.get(source, 0):
                continue
            reaches[source] = thresholds.NARROW if clock.basis != NONE else REACH
        for attempt, addresses in enumerate(self.addresses):
            for source, reach in reaches.items():
                for ip in addresses:
                    rate = self.addressed.get((source, ip), 0) / self.counts.length(source)
                    if 0 < rate * 2 * reach < thresholds.TOO_MANY:
                        windows += self._windows(attempt, source, ip, reach)
        found: dict[tuple[str, str], list[int]] = {}
        for event in by_windows(self.store, "ip", windows):
            if event.user is None:
                found.setdefault((event.source, event.ip or ""), []).append(self._add(event))
        for attempt, addresses in enumerate(self.addresses):
            for source, reach in reaches.items():
                for ip in addresses:
                    self._near(attempt, found.get((source, ip), ()), reach)

    def _windows(self, attempt: int, source: str, value: str, reach: float) -> Iterator[Window]:
        clocks = [self.clocks[source], *(clock for (name, _), clock in self.nodes.items() if name == source)]
        moments = [at for at, _ in self.moments[attempt]]
        low, high = min(moments), max(moments)
        first = min(clock.around(low, reach)[0] for clock in clocks)
        last = max(clock.around(high, reach)[1] for clock in clocks)
        yield Window(source, value, low + first - reach, high + last + reach)

    def _near(self, attempt: int, events: Iterable[int], reach: float) -> None:
        moments = [at for at, _ in self.moments[attempt]]
        low, high = min(moments) - reach, max(moments) + reach
        for event in events:
            logged = self.events[event]
            time = logged.time.timestamp()
            if low <= time - self.clock_of(logged).of(time) <= high:
                self._pair(attempt, event)

    def clock_of(self, event: Event) -> Clock:
        """The clock that wrote an event."""
        return self.nodes.get((event.source, event.file)) or self.clocks[event.source]

    def role(self, source: str) -> str:
        told = self.sources.get(source)
        return told.settings.role if told else "gateway"

    def shared(self, attempt: int, event: Event) -> list[str]:
        return [text for text in event.ids if text in self.ids[attempt]]

    def says_otherwise(self, attempt: int, event: Event) -> bool:
        """Whether an event that shares an id has another value in a column whose value in the attempt is known.

        The columns of ids are those of the description; where an event lacks some of them, nothing is told.
        """
        told = self.sources.get(event.source)
        columns = told.settings.fields.ids if told else ()
        if len(columns) < 2 or len(columns) != len(event.ids):
            return False
        known = self._known_columns(attempt, event.source, columns)
        return any(
            column in known and value not in self.ids[attempt] for column, value in zip(columns, event.ids, strict=True)
        )

    def _known_columns(self, attempt: int, source: str, columns: tuple[str, ...]) -> set[str]:
        """The columns in which a log has an id that the attempt shows itself."""
        key = (attempt, source)
        if key not in self._columns:
            self._columns[key] = {
                column
                for place in self.found.get(attempt, ())
                if (event := self.events[place]).source == source and len(event.ids) == len(columns)
                for column, value in zip(columns, event.ids, strict=True)
                if value in self.own_ids[attempt]
            }
        return self._columns[key]

    def end_level(self, attempt: int, event: Event) -> int:
        """How a yes or a no compares with the one that is sure in another log; -1 where none or several are."""
        others = [end for source, ends in self.ends.get(attempt, {}).items() if source != event.source for end in ends]
        if event.outcome == OTHER or len({outcome for outcome, _ in others}) != 1:
            return -1
        if others[0][0] != event.outcome:
            return ANOTHER
        return SAME if (event.outcome, event.code) in others else ALIKE

    def app_level(self, attempt: int, event: Event) -> int:
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

    def user_level(self, attempt: int, event: Event) -> tuple[int, float]:
        """How the person compares, and how likely the name means that person at all."""
        persons = self.persons[attempt]
        if not persons:
            return -1, 1.0
        if event.user is None:
            return OPEN, 1.0
        meant = self.reading(event.source, event.user)
        likely = max((chance for person, chance in meant.items() if person in persons), default=0.0)
        if likely:
            exact = self.people.of((event.user,))
            return (SAME if exact & persons else ALIKE), likely
        closed = is_opaque(event.user) or all(is_opaque(name) for name in self.attempts[attempt].names)
        return (ANOTHER if meant or not closed else OPEN), 1.0

    def attempts_of(self, persons: frozenset[int]) -> int:
        if not hasattr(self, "_by_person"):
            self._by_person: dict[frozenset[int], int] = {}
            for person in self.persons:
                self._by_person[person] = self._by_person.get(person, 0) + 1
        return self._by_person.get(persons, 1)

    def learn_from(self, weighed: list[tuple[Pairs, Weighed]]) -> tuple[bool, bool]:
        """Take from the events that are sure what more they tell of their attempts.

        Gives whether that is anything, and whether there are new spellings of people among it.
        """
        before = sum(map(len, self.ids)) + sum(map(len, self.addresses))
        alias: dict[tuple[str, str], set[int]] = {}
        for pairs, item in weighed:
            for place in (item.chosen & (item.probability >= thresholds.SURE)).nonzero()[0]:
                attempt, event = int(pairs.attempt[place]), self.events[int(pairs.event[place])]
                self.ids[attempt] |= set(event.ids)
                if event.ip:
                    self.addresses[attempt].add(event.ip)
                if event.outcome != OTHER:
                    self.ends.setdefault(attempt, {}).setdefault(event.source, set()).add((event.outcome, event.code))
                if event.user and pairs.levels[USER, place] == OPEN and self.persons[attempt]:
                    alias.setdefault((event.source, event.user), set()).update(self.persons[attempt])
        unread = {key: persons for key, persons in alias.items() if not self.reading(*key)}
        if unread:
            unread = self._written_beside({source for source, _ in unread}) | unread
        told = tally(self.store, "user", (user for _, user in unread)) if unread else {}
        for key, persons in unread.items():
            self._readings[key] = dict.fromkeys(persons, 1.0 / len(persons))
            self.users[key] = told.get(key, 0)
            for person in persons:
                self.written.setdefault(person, []).append(key)
        return bool(alias) or sum(map(len, self.ids)) + sum(map(len, self.addresses)) > before, bool(alias)

    def _written_beside(self, strange: set[str]) -> dict[tuple[str, str], set[int]]:
        """How logs whose names nothing on record knows write the persons of attempts: as beside the ids of those
        events that other logs have of them, captured or not.
        """
        lacking = {
            person
            for persons in self.persons
            for person in persons
            if strange - {source for source, _ in self.written.get(person, ())}
        }
        room, windows = thresholds.BESIDE, []
        for person in sorted(lacking):
            for source, user in self.written.get(person, ()):
                if source not in strange and self.users[source, user] <= min(room, thresholds.OF_ONE):
                    room -= self.users[source, user]
                    windows.append(Window(source, user, *self.counts.spans[source]))
        owners: dict[str, set[int]] = {}
        for event in by_windows(self.store, "user", windows) if windows else ():
            for name in event.ids:
                owners.setdefault(name, set()).update(self.reading(event.source, event.user or "").keys() & lacking)
        carried, spread = by_ids(self.store, owners)
        votes: dict[tuple[str, str], Counter[int]] = {}
        for name, event in carried:
            few = spread[event.source, name][0] <= thresholds.ONE_OF_MANY
            if few and event.source in strange and event.user and not self.reading(event.source, event.user):
                votes.setdefault((event.source, event.user), Counter()).update(owners[name])
        return {
            key: {person}
            for key, some in votes.items()
            for person, most in some.most_common(1)
            if most >= thresholds.AGREED * some.total()
        }

    def corrected(self, event: Event) -> datetime:
        return event.time - timedelta(seconds=self.clock_of(event).of(event.time.timestamp()))


def _moments(trace: Seen) -> list[tuple[float, str | None]]:
    """The moments of an attempt in epoch seconds with their sides, the one that it is known by first."""
    if trace.at is None:
        return []
    main = (trace.at.timestamp(), next((moment.side for moment in trace.moments if moment.at == trace.at), None))
    rest = [(moment.at.timestamp(), moment.side) for moment in trace.moments if moment.at != trace.at]
    return [main, *dict.fromkeys(rest)]


def sided(moments: list[tuple[float, str | None]], role: str) -> list[tuple[float, float]]:
    """Moments with their shares: those of the source's own side count most."""
    sided = [
        (at, 1.0 if side is None or role not in (APPLICATION, PROVIDER) or side == role else thresholds.OTHER_SIDE)
        for at, side in moments
    ]
    total = sum(part for _, part in sided)
    return [(at, part / total) for at, part in sided]
