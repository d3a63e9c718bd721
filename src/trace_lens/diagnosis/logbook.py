"""The logs that were loaded, laid beside attempts: opened once, asked for all attempts together."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.matching.between import keep_between
from trace_lens.logs.matching.clocks import Clock
from trace_lens.logs.matching.correlating import correlate
from trace_lens.logs.matching.rebuilding import Rebuilt, rebuild
from trace_lens.logs.matching.seen import LogView, Seen
from trace_lens.logs.store.duck import problem_of
from trace_lens.logs.store.store import EventStore
from trace_lens.people.spellings import Names, People
from trace_lens.workspace.log_sources import log_sources
from trace_lens.workspace.records import Workspace


class LaidBeside(NamedTuple):
    """The logs' part in each attempt, by its key, and the clocks of all sources."""

    views: dict[str, LogView]
    clocks: tuple[Clock, ...]


class Logbook:
    """The store of a workspace and its descriptions. Raises SettingsError where these are wrong."""

    def __init__(self, workspace: Workspace, store: EventStore) -> None:
        self._workspace, self._store = workspace, store
        self.sources = log_sources(workspace)

    def lay_beside(self, seen: Sequence[Seen]) -> LaidBeside:
        """Find the events of attempts. Raises StoreProblem."""
        people = People(self._workspace, [trace.names for trace in seen])
        with self._store as store:
            seen = [attempt._replace(ids=store.kept_ids.both(attempt.ids)) for attempt in seen]
            found = correlate(store, self.sources, seen, people, Names(self._workspace))
        views = {trace.key: found.view(trace.key, self.sources) for trace in seen}
        return LaidBeside(views, found.clocks)

    def rebuild(self, user: str, around: datetime, within: timedelta) -> Rebuilt:
        """The attempts of a person around a moment, from the logs alone. Raises StoreProblem."""
        with self._store as store:
            return rebuild(
                store,
                self.sources,
                People(self._workspace),
                Names(self._workspace),
                user,
                around,
                within,
            )


def keep_clocks(workspace: Workspace, store: EventStore) -> None:
    """Keep the clocks of the loaded logs against each other, in a store that is open for writing.

    Raises StoreProblem.
    """
    try:
        keep_between(store, People(workspace), Names(workspace))
    except OSError as error:
        raise problem_of(error, store.folder) from None


def logbook_of(workspace: Workspace) -> Logbook | None:
    """The logs of a workspace; None where none were loaded. Raises SettingsError."""
    if workspace.root is None or not workspace.has_logs:
        return None
    store = EventStore(workspace.root, workspace.settings.store)
    return Logbook(workspace, store) if store.exists else None
