"""Attempts from the logs alone, where nothing was captured: each event that decides begins one, the rest falls to them.

The provider's decisions begin attempts; those of applications do where no attempt of the provider's has them. Times are
then by the clock of the log that begins most of them, since nothing here knows the true one.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime, timedelta

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import APPLICATION, OTHER, PROVIDER, SUCCESS, Event
from trace_lens.logs.matching.correlating import Correlation, correlate
from trace_lens.logs.matching.seen import Instant, Seen
from trace_lens.logs.store.candidates import Window, by_windows, written_as
from trace_lens.logs.store.store import EventStore
from trace_lens.people.spellings import Names, People
from trace_lens.workspace.log_sources import LogSource

_FARTHEST_OFF = timedelta(minutes=15)
"""How far the clock of a log may be off and its events still be found."""


class Rebuilt(NamedTuple):
    """Attempts that the logs show, in the order of their times, and the events of each by its key."""

    attempts: tuple[Seen, ...]
    found: Correlation


def rebuild(
    store: EventStore,
    sources: Mapping[str, LogSource],
    people: People,
    names: Names,
    user: str,
    around: datetime,
    within: timedelta,
) -> Rebuilt:
    """The attempts of a person around a moment, up to `within` before and after it."""
    persons = people.read(user)
    low, high = (around + sign * (within + _FARTHEST_OFF) for sign in (-1, 1))
    names_of = {user} | {name for person in persons for name in people.spellings(person)}
    windows = [
        Window(source, written, low.timestamp(), high.timestamp())
        for source, users in written_as(store, names_of).items()
        for written in users
        if written.casefold() == user.casefold() or people.read(written).keys() & persons.keys()
    ]
    there = sorted(by_windows(store, "user", windows), key=lambda item: (item.time, item.source, item.line))
    spellings = {user} | {event.user for event in there if event.user}
    seeds: list[Seen] = []
    found = Correlation()
    for role in (PROVIDER, APPLICATION):
        taken = {matched.event.place for some in found.matched.values() for matched in some}
        begin = [event for event in there if _decides(event, sources, role) and event.place not in taken]
        made = _seeds(begin, names, spellings, len(seeds))
        if made:
            seeds += made
            found = correlate(store, sources, seeds, people, names)
    kept = [seed for seed in seeds if seed.at and abs(seed.at - around) <= within]
    kept.sort(key=lambda member: member.at or around)
    return Rebuilt(tuple(kept), found)


def _decides(event: Event, sources: Mapping[str, LogSource], role: str) -> bool:
    told = sources.get(event.source)
    return bool(told and told.settings.role == role and event.outcome != OTHER and not told.tells_status_only)


def _seeds(events: list[Event], names: Names, spellings: set[str], before: int) -> list[Seen]:
    """An attempt for each event, but for those that share an id with another: they are of one."""
    groups: list[list[Event]] = []
    by_id: dict[str, list[Event]] = {}
    for event in events:
        home = next((by_id[text] for text in event.ids if text in by_id), None)
        if home is None or any(logged.app != event.app for logged in home):
            home = []
            groups.append(home)
        home.append(event)
        by_id.update(dict.fromkeys(event.ids, home))
    made = []
    for number, group in enumerate(groups, before + 1):
        last = group[-1]
        apps = names.read(last.app) if last.app else frozenset()
        made.append(
            Seen(
                key=str(number),
                at=last.time,
                moments=tuple(Instant(event.time) for event in group),
                names=frozenset(spellings),
                app=min(apps) if len(apps) == 1 else None,
                provider=None,
                ids=frozenset(text for event in group for text in event.ids),
                addresses=frozenset(event.ip for event in group if event.ip),
                answered=last.outcome == SUCCESS,
            )
        )
    return made
