"""What the store is asked when attempts and events are laid side by side: counts, and the events that may belong.

Counts and ids are looked up in what was kept at load; only the rows that are wanted are read from the parts.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import Event
from trace_lens.logs.store.engine import Given
from trace_lens.logs.store.kept import Lines, by_source, counted, counted_kinds, lines_with
from trace_lens.logs.store.manifest import Content
from trace_lens.logs.store.store import EVENT_COLUMNS, EventStore
from trace_lens.people.spellings import keys_of

MOST_OF_AN_ID = 2_000
"""An id that more events carry is no id of a sign-in; it is left aside."""
HOUR = 3_600.0


class Window(NamedTuple):
    """Where to look: events of a source whose column (`user`, `ip` or `app`) has a value, from `low` up to `high`.

    Times are epoch seconds by the log's own clock.
    """

    source: str
    value: str
    low: float
    high: float


@dataclass(frozen=True)
class Survey:
    """What each source holds in all: its number of events, its span, its busy hours, its kinds of events.

    `hours` counts events by source and hour of the epoch, `kinds` by source, outcome and code; `named` are the events
    that name a user.
    """

    counts: Mapping[str, int] = field(default_factory=dict)
    spans: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    hours: Mapping[tuple[str, int], int] = field(default_factory=dict)
    kinds: Mapping[tuple[str, str, str | None], int] = field(default_factory=dict)
    named: Mapping[str, int] = field(default_factory=dict)

    def length(self, source: str) -> float:
        """How many seconds a source spans, an hour at least."""
        low, high = self.spans[source]
        return max(high - low, HOUR)

    def busyness(self, source: str, time: float) -> float:
        """How many times as many events as on average the hour around a time has."""
        hour = int(time // HOUR)
        near = [self.hours.get((source, hour + shift), 0) for shift in (-1, 0, 1)]
        mean = self.counts[source] / max(self.length(source) / HOUR, 1.0)
        return max(sum(near) / 3 / mean, 0.05) if mean else 1.0


def survey(store: EventStore) -> Survey:
    """What the sources hold, as it was counted at load. Raises StoreProblem."""
    counts: dict[str, int] = {}
    spans: dict[str, tuple[float, float]] = {}
    by_hour: dict[tuple[str, int], int] = {}
    held = counted_kinds(store, ("hour", "kind", "named"))
    for source, hour, _, count, first, last in held["hour"]:
        low, high = _seconds(first), _seconds(last)
        before = spans.get(source, (low, high))
        counts[source] = counts.get(source, 0) + count
        spans[source] = (min(before[0], low), max(before[1], high))
        by_hour[source, int(hour)] = count
    return Survey(
        counts=counts,
        spans=spans,
        hours=by_hour,
        kinds={(source, outcome, code): count for source, outcome, code, count, *_ in held["kind"]},
        named={source: count for source, _, _, count, *_ in held["named"]},
    )


def _seconds(moment: datetime) -> float:
    return moment.replace(tzinfo=UTC).timestamp()


def tally(store: EventStore, column: str, values: Iterable[str]) -> dict[tuple[str, str], int]:
    """How many events have some value in a column (`user`, `app`, `ip`), by source and value. Raises StoreProblem."""
    return {(source, value): count for source, value, _, count, *_ in counted(store, column, values)}


def written_as(store: EventStore, names: Iterable[str]) -> dict[str, dict[str, int]]:
    """The names of users in the logs that may mean the person of any of some names: how often each, by source.

    More than these may be among them; whom a name means is for People to say. Raises StoreProblem.
    """
    keys = {key for name in names for key in keys_of(name)}
    made: dict[str, dict[str, int]] = {}
    for source, _, written, count, *_ in counted(store, "spelling", keys):
        made.setdefault(source, {})[written] = count
    return made


def all_written(store: EventStore) -> Mapping[str, dict[str, int]]:
    """Every name of a user in the logs: how often, by source. Raises StoreProblem."""
    return by_source(counted(store, "user"))


class Carried(NamedTuple):
    """An event that carries an id that was looked for."""

    id: str
    event: Event


def by_ids(store: EventStore, ids: Iterable[str]) -> tuple[list[Carried], dict[tuple[str, str], tuple[int, float]]]:
    """The events that carry any of some ids, at whatever time; and by source and id, how many do, over how long.

    Ids that too many events carry give no events, only their number. Raises StoreProblem.
    """
    wanted = sorted(set(ids))
    lines = lines_with(store, wanted)
    few = {name: some for name, some in lines.items() if len(some) <= 2 * MOST_OF_AN_ID}
    events = _at_lines(store, {line for some in few.values() for line in some})
    asked = set(few)
    found = [Carried(name, event) for event in events for name in dict.fromkeys(event.ids) if name in asked]
    spread: dict[tuple[str, str], tuple[int, float, float]] = {}
    for name, event in found:
        time = event.time.timestamp()
        count, low, high = spread.get((event.source, name), (0, time, time))
        spread[event.source, name] = (count + 1, min(low, time), max(high, time))
    told = {key: (count, high - low) for key, (count, low, high) in spread.items()}
    often = {name for (_, name), (count, _) in told.items() if count > MOST_OF_AN_ID}
    for name in lines.keys() - few.keys():
        told |= {(source, name): spreading for source, spreading in _spread(store, lines[name]).items()}
    return [carried for carried in found if carried.id not in often], told


def _spread(store: EventStore, lines: Sequence[Lines]) -> dict[str, tuple[int, float]]:
    """How many events lie at many lines, by source, and over how long, going by the spans of their files."""
    made: dict[str, tuple[int, float]] = {}
    for content in {line[0]: None for line in lines}:
        held = store.manifest[content]
        count, life = made.get(held.source, (0, 0.0))
        span = (held.last - held.first).total_seconds() if held.first and held.last else 0.0
        made[held.source] = (count + sum(line[0] == content for line in lines), life + span)
    return made


def _at_lines(store: EventStore, lines: Iterable[Lines]) -> list[Event]:
    """The events that begin in some ranges of lines."""
    ordered = sorted(lines)
    if not ordered:
        return []
    contents = [store.manifest[content] for content in dict.fromkeys(line[0] for line in ordered)]
    given = Given(
        {"content": "VARCHAR", "first_line": "BIGINT", "last_line": "BIGINT"},
        {name: [line[place] for line in ordered] for place, name in enumerate(("content", "first_line", "last_line"))},
    )
    exact = all(first == last for _, first, last in ordered)
    join = "e.line = l.first_line" if exact else "e.line BETWEEN l.first_line AND l.last_line"
    bounds = f"e.line BETWEEN {min(line[1] for line in ordered)} AND {max(line[2] for line in ordered)}"
    statement = (
        f"SELECT {EVENT_COLUMNS} FROM events e JOIN lines l ON e.content = l.content AND {join} "
        f"WHERE {bounds} AND e.same_content IS NULL ORDER BY e.source, e.time, e.content, e.line"
    )
    return store.events(store.ask(statement, contents, {"lines": given}))


def by_windows(store: EventStore, column: str, windows: Sequence[Window]) -> list[Event]:
    """The events that any window holds, each once. Raises StoreProblem."""
    whole = _merged(windows)
    bounds = {
        source: (min(window.low for window in some), max(window.high for window in some))
        for source in {window.source for window in whole}
        for some in [[window for window in whole if window.source == source]]
    }
    contents = [content for content in store.manifest if _touches(content, bounds.get(content.source))]
    if not contents:
        return []
    given = Given(
        {"source": "VARCHAR", "value": "VARCHAR", "low": "TIMESTAMP", "high": "TIMESTAMP"},
        {
            "source": [window.source for window in whole],
            "value": [window.value for window in whole],
            "low": [_moment(window.low) for window in whole],
            "high": [_moment(window.high) for window in whole],
        },
    )
    low, high = _literal(min(window.low for window in whole)), _literal(max(window.high for window in whole))
    statement = (
        f'SELECT {EVENT_COLUMNS} FROM events e JOIN windows w ON e.source = w.source AND e."{column}" = w.value '
        f"AND e.time BETWEEN w.low AND w.high WHERE e.time BETWEEN {low} AND {high} AND e.same_content IS NULL "
        "ORDER BY e.source, e.time, e.content, e.line"
    )
    return store.events(store.ask(statement, contents, {"windows": given}))


def _touches(content: Content, bounds: tuple[float, float] | None) -> bool:
    """Whether a content has events between two moments."""
    if bounds is None or content.first is None or content.last is None:
        return False
    return content.first.timestamp() <= bounds[1] and bounds[0] <= content.last.timestamp()


def _merged(windows: Iterable[Window]) -> list[Window]:
    """Windows without overlaps."""
    made: list[Window] = []
    for window in sorted(windows):
        if made and made[-1][:2] == window[:2] and window.low <= made[-1].high:
            made[-1] = made[-1]._replace(high=max(made[-1].high, window.high))
        else:
            made.append(window)
    return made


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(seconds, UTC).replace(tzinfo=None)


def _literal(seconds: float) -> str:
    return f"TIMESTAMP '{_moment(seconds).isoformat(sep=' ')}'"
