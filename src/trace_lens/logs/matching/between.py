"""The clocks of logs against each other, by the people whom both write of; kept with the store when logs are loaded.

Where attempts tell too little of the clocks (one capture, say), this tells how the logs fit together. It is the same
for whatever is laid beside them, so it is worked out once.
"""

from __future__ import annotations

import hashlib
import json
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import Event
from trace_lens.logs.matching.clocks import Clock, Segment, from_times
from trace_lens.logs.matching.weights import REACH
from trace_lens.logs.store.candidates import Window, all_written, by_windows, survey
from trace_lens.logs.store.store import EventStore
from trace_lens.people.spellings import Names, People, bare
from trace_lens.workspace.own_files import write_privately

KEPT = "clocks.json"
_SAMPLE = 6_000
"""How many events are looked at to lay logs beside each other."""
_MOST = 8
"""Of more sources than so nothing is kept: the pairs would be too many."""


class Logs(NamedTuple):
    """The logs that are laid beside each other: their store, whom and what their names mean, their spans in seconds.

    `middle` (epoch seconds) is where offsets are told.
    """

    store: EventStore
    reading: Callable[[str, str], Mapping[int, float]]
    names: Names
    spans: Mapping[str, tuple[float, float]]
    middle: float


def keep_between(store: EventStore, people: People, names: Names) -> None:
    """Work out the clocks of all logs against each other, and keep them with the store.

    Raises StoreProblem, OSError.
    """
    if _held(store) is not None:
        return
    spans = survey(store).spans
    sources = sorted(spans)
    found = []
    if 1 < len(sources) <= _MOST:
        middle = (min(low for low, _ in spans.values()) + max(high for _, high in spans.values())) / 2
        read: dict[str, Mapping[int, float]] = {}

        def reading(source: str, user: str) -> Mapping[int, float]:
            return read[user] if user in read else read.setdefault(user, people.read(user))

        logs = Logs(store, reading, names, spans, middle)
        for number, main in enumerate(sources):
            clocks = apart(logs, main, sources[number + 1 :]) if sources[number + 1 :] else {}
            found += [{"main": main, **_as_json(clock)} for clock in clocks.values()]
    told = {"of": _fingerprint(store), "whole": len(sources) <= _MOST, "clocks": found}
    write_privately(store.folder / KEPT, json.dumps(told, indent=1).encode())


def kept_between(store: EventStore) -> dict[tuple[str, str], Clock] | None:
    """The clocks that were kept, by the log that they are against and their own; None where none hold."""
    told = _held(store)
    if told is None:
        return None
    made: dict[tuple[str, str], Clock] = {}
    try:
        for item in told:
            given = {name: item[name] for name in Clock._fields}
            given["segments"] = tuple(Segment(*segment) for segment in given["segments"])
            clock = Clock(**given)
            made[item["main"], clock.source] = clock
            made[clock.source, item["main"]] = _turned(clock, item["main"])
    except (KeyError, TypeError):
        return None
    return made


def _held(store: EventStore) -> list[dict[str, Any]] | None:
    """What was kept, if it is of the contents that the store has."""
    try:
        told = json.loads((store.folder / KEPT).read_bytes())
        held: list[dict[str, Any]] = told["clocks"]
        return held if told["of"] == _fingerprint(store) and told["whole"] else None
    except (OSError, ValueError, KeyError, TypeError):
        return None


def _fingerprint(store: EventStore) -> str:
    parts = "\0".join(sorted(f"{content.source} {content.part}" for content in store.manifest))
    return hashlib.sha256(parts.encode("utf-8", "surrogatepass")).hexdigest()


def _as_json(clock: Clock) -> dict[str, Any]:
    return {**clock._asdict(), "segments": [list(segment) for segment in clock.segments]}


def _turned(clock: Clock, source: str) -> Clock:
    """The clock of the one against the other, where that of the other against the one is known."""
    segments = tuple(
        segment._replace(offset=-segment.offset, low=-segment.high, high=-segment.low) for segment in clock.segments
    )
    return clock._replace(
        source=source,
        offset=-clock.offset,
        low=None if clock.high is None else -clock.high,
        high=None if clock.low is None else -clock.low,
        drift=-clock.drift,
        segments=segments,
    )


def apart(logs: Logs, main: str, others: Sequence[str]) -> dict[str, Clock]:
    """By how much other logs' clocks are ahead of one's, from the events of the same people in both.

    Raises StoreProblem.
    """
    import numpy as np

    def key(source: str, user: str) -> object:
        meant = logs.reading(source, user)
        return max(meant, key=lambda person: meant[person]) if meant else bare(user)

    writing: dict[object, dict[str, list[str]]] = {}
    users = all_written(logs.store)
    for source in (main, *others):
        for user in users.get(source, {}):
            writing.setdefault(key(source, user), {}).setdefault(source, []).append(user)
    chosen: list[Window] = []
    room = _SAMPLE
    for written in sorted(
        (document for document in writing.values() if main in document and len(document) > 1), key=_scattered
    ):
        count = sum(users[source][user] for source, some in written.items() for user in some)
        if count <= room:
            room -= count
            chosen += [Window(source, user, *logs.spans[source]) for source in written for user in written[source]]
    found: dict[object, dict[str, list[Event]]] = {}
    for event in by_windows(logs.store, "user", chosen):
        found.setdefault(key(event.source, event.user or ""), {}).setdefault(event.source, []).append(event)
    made = {}
    for source in others:
        rows: list[tuple[float, float, int]] = []
        for some in found.values():
            theirs = [(event.time.timestamp(), _meant(logs, event)) for event in some.get(source, ())]
            theirs.sort(key=lambda item: item[0])
            times = [time for time, _ in theirs]
            for event in some.get(main, ()):
                time, app = event.time.timestamp(), _meant(logs, event)
                for place in range(bisect_left(times, time - REACH), bisect_right(times, time + REACH)):
                    if app is None or theirs[place][1] in (None, app):
                        rows.append((time, times[place] - time, len(rows)))
        at, gaps, owners = (np.array(column, dtype=float) for column in columns(rows))
        clock = from_times(source, at, gaps, owners.astype(np.int64), logs.middle)
        if clock is not None:
            made[source] = clock
    return made


def _meant(logs: Logs, event: Event) -> str | None:
    """Which application an event is about, as one word; None where it does not say."""
    if event.app is None:
        return None
    known = logs.names.read(event.app)
    return min(known) if known else event.app.casefold()


def _scattered(written: Mapping[str, list[str]]) -> str:
    """An order that has nothing to do with the names, and is the same each time."""
    return hashlib.sha256(repr(sorted(written.items())).encode()).hexdigest()


def columns(rows: Iterable[tuple[float, float, int]]) -> tuple[list[float], list[float], list[int]]:
    """Rows of moments, gaps and owners as columns, in their order."""
    ordered = sorted(rows)
    return [item[0] for item in ordered], [item[1] for item in ordered], [item[2] for item in ordered]
