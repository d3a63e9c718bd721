"""The loaded logs, opened and taken in for all applications."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime

from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.grouping import Cause
from trace_lens.fleet.logged import Code, Logged, logged_attempts, nothing_logged
from trace_lens.fleet.overview import causes_in_logs
from trace_lens.logs.event import FAILURE
from trace_lens.logs.store.engine import quoted
from trace_lens.logs.store.store import EventStore
from trace_lens.workspace.log_sources import log_sources
from trace_lens.workspace.records import Workspace


class Taken(NamedTuple):
    """What the logs of a workspace tell: the attempts, and the causes that the logs name."""

    logged: Logged
    causes: tuple[Cause, ...]


def logs_of(workspace: Workspace, since: datetime | None = None, until: datetime | None = None) -> Taken:
    """The attempts in the loaded logs, from `since` on and before `until`; nothing where none were loaded.

    Raises StoreProblem, SettingsError.
    """
    if workspace.root is None or not workspace.has_logs:
        return Taken(nothing_logged(), ())
    store = EventStore(workspace.root, workspace.settings.store)
    if not store.exists:
        return Taken(nothing_logged(), ())
    sources = log_sources(workspace)
    with store:
        logged = logged_attempts(store, sources, workspace, since, until)
        return Taken(logged, causes_in_logs(logged, sources, _examples(store, logged)))


def _examples(store: EventStore, logged: Logged) -> Mapping[Code, str]:
    """The place of the first line with each code of a failure. Raises StoreProblem."""
    if not logged.codes:
        return {}
    listed = ", ".join(f"({quoted(code.source)}, {quoted(code.code)})" for code in logged.codes)
    rows = store.ask(
        "SELECT e.source, e.code, arg_min(e.content, e.time), arg_min(e.line, e.time) FROM events e "
        f"WHERE e.outcome = {quoted(FAILURE)} AND (e.source, e.code) IN ({listed}) AND e.same_content IS NULL "
        "GROUP BY e.source, e.code"
    )
    return {Code(source, code): f"{store.manifest[content].name.file}:{line}" for source, code, content, line in rows}
