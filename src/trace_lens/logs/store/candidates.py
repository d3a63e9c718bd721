"""What the store is asked when attempts and events are laid side by side: counts, and the events that may belong.

Everything is an Ibis expression, so that it runs where the rows live; only counts and candidates come back.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING, NamedTuple

from trace_lens.logs.event import Event
from trace_lens.logs.store.searching import events_in

if TYPE_CHECKING:
    import ibis.expr.types as ir
    import pyarrow as pa

MOST_OF_AN_ID = 2_000
"""An id that more events carry is no id of a sign-in; it is left aside."""
MOST_AT_ONCE = 100_000
"""Up to so many events with an id that is looked for are fetched without counting first."""
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

    `hours` counts events by source and hour of the epoch, `kinds` by source, outcome and code, `users` by source and
    the name as it is written there.
    """

    counts: Mapping[str, int] = field(default_factory=dict)
    spans: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    hours: Mapping[tuple[str, int], int] = field(default_factory=dict)
    kinds: Mapping[tuple[str, str, str | None], int] = field(default_factory=dict)
    users: Mapping[str, Mapping[str, int]] = field(default_factory=dict)
    apps: Mapping[str, Mapping[str, int]] = field(default_factory=dict)

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


def survey(events: ir.Table) -> Survey:
    """Count what the sources hold."""
    hours = events.group_by("source", hour=events["time"].truncate("h")).aggregate(
        count=events.count(), low=events["time"].min(), high=events["time"].max()
    )
    counts: dict[str, int] = {}
    spans: dict[str, tuple[float, float]] = {}
    by_hour: dict[tuple[str, int], int] = {}
    for row in hours.to_pyarrow().to_pylist():
        source, count = row["source"], int(row["count"])
        low, high = _seconds(row["low"]), _seconds(row["high"])
        before = spans.get(source, (low, high))
        counts[source] = counts.get(source, 0) + count
        spans[source] = (min(before[0], low), max(before[1], high))
        by_hour[source, int(_seconds(row["hour"]) // HOUR)] = count
    kinds = events.group_by("source", "outcome", "code").aggregate(count=events.count()).to_pyarrow().to_pylist()
    return Survey(
        counts=counts,
        spans=spans,
        hours=by_hour,
        kinds={(row["source"], row["outcome"], row["code"]): int(row["count"]) for row in kinds},
        users=_values(events, "user"),
        apps=_values(events, "app"),
    )


def _values(events: ir.Table, column: str) -> dict[str, dict[str, int]]:
    named = events.filter(events[column].notnull())
    made: dict[str, dict[str, int]] = {}
    grouped = named.group_by("source", value=named[column]).aggregate(count=named.count())
    rows = grouped.to_pyarrow().to_pydict()
    for source, value, count in zip(rows["source"], rows["value"], rows["count"], strict=True):
        made.setdefault(source, {})[value] = int(count)
    return made


def _seconds(moment: datetime) -> float:
    return moment.replace(tzinfo=UTC).timestamp()


class Carried(NamedTuple):
    """An event that carries an id that was looked for."""

    id: str
    event: Event


def by_ids(events: ir.Table, ids: Iterable[str]) -> tuple[list[Carried], dict[tuple[str, str], tuple[int, float]]]:
    """The events that carry any of some ids, at whatever time; and by source and id, how many do, over how long.

    Ids that too many events carry give no events, only their number.
    """
    import ibis

    wanted = sorted(set(ids))
    if not wanted:
        return [], {}
    table = ibis.memtable({"wanted": wanted}, schema={"wanted": "string"})
    laid_out = events.filter(events["ids"].length() > 0).mutate(carried=lambda item: item["ids"].unnest())
    joined = laid_out.join(table, laid_out["carried"] == table["wanted"])
    rows = joined.select(*events.columns, "wanted").limit(MOST_AT_ONCE + 1).to_pyarrow()
    if rows.num_rows <= MOST_AT_ONCE:
        return _carried(rows)
    grouped = joined.group_by("source", "wanted").aggregate(
        count=joined.count(), low=joined["time"].min(), high=joined["time"].max()
    )
    spread = {
        (row["source"], row["wanted"]): (int(row["count"]), _seconds(row["high"]) - _seconds(row["low"]))
        for row in grouped.to_pyarrow().to_pylist()
    }
    often = {name for (_, name), (count, _) in spread.items() if count > MOST_OF_AN_ID}
    rare = sorted({name for _, name in spread} - often)
    rows = joined.filter(joined["wanted"].isin(rare)).select(*events.columns, "wanted").to_pyarrow() if rare else None
    return (_carried(rows)[0] if rows is not None else []), spread


def _carried(rows: pa.Table) -> tuple[list[Carried], dict[tuple[str, str], tuple[int, float]]]:
    """The events in an Arrow table with the id that each carries, and the spread of the ids."""
    names = rows.column("wanted").to_pylist()
    found = [Carried(name, event) for name, event in zip(names, events_in(rows.drop_columns(["wanted"])), strict=True)]
    spread: dict[tuple[str, str], tuple[int, float, float]] = {}
    for name, event in found:
        time = event.time.timestamp()
        count, low, high = spread.get((event.source, name), (0, time, time))
        spread[event.source, name] = (count + 1, min(low, time), max(high, time))
    often = {name for (_, name), (count, _, _) in spread.items() if count > MOST_OF_AN_ID}
    told = {key: (count, high - low) for key, (count, low, high) in spread.items()}
    return [carried for carried in found if carried.id not in often], told


def by_windows(events: ir.Table, column: str, windows: Sequence[Window]) -> list[Event]:
    """The events that any window holds, each once."""
    import ibis

    whole = _merged(windows)
    if not whole:
        return []
    rows = {
        "of": [window.source for window in whole],
        "value": [window.value for window in whole],
        "low": [_moment(window.low) for window in whole],
        "high": [_moment(window.high) for window in whole],
    }
    schema = {"of": "string", "value": "string", "low": "timestamp(6)", "high": "timestamp(6)"}
    table = ibis.memtable(rows, schema=schema)
    between = events["time"].between(table["low"], table["high"])
    joined = events.join(table, [events["source"] == table["of"], events[column] == table["value"], between])
    return events_in(joined.select(*events.columns).to_pyarrow())


def counted(events: ir.Table, columns: Sequence[str], values: Iterable[str]) -> dict[tuple[str | None, ...], int]:
    """How many events there are by source and some columns, where the first of these has one of some values."""
    import ibis

    wanted = sorted(set(values))
    if not wanted:
        return {}
    table = ibis.memtable({"wanted": wanted}, schema={"wanted": "string"})
    few = events.semi_join(table, events[columns[0]] == table["wanted"])
    rows = few.group_by("source", *columns).aggregate(count=few.count()).to_pyarrow().to_pydict()
    keys = zip(*(rows[name] for name in ("source", *columns)), strict=True)
    return dict(zip(keys, map(int, rows["count"]), strict=True))


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
