"""All applications at a glance: the state of each, its failure rate, when that changed and what changed near, who fails
where others get in, and the causes that several share.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.grouping import Cause, causes_of
from trace_lens.diagnosis.judging import Diagnosis, check_settings
from trace_lens.fleet.apart import Apart, Attempts, who_fails_apart
from trace_lens.fleet.binomial import Rate, Slope, slope
from trace_lens.fleet.change_points import Series, Step, clusters, find_changes
from trace_lens.fleet.dates import Ending, endings
from trace_lens.fleet.logged import Code, Logged
from trace_lens.fleet.nearby import Happened, Near, happened, near
from trace_lens.workspace.log_sources import LogSource
from trace_lens.workspace.records import App, Workspace

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Counts = NDArray[np.int64]

CAPTURES, LOGS = "captures", "logs"
_DAY = 86_400.0
_SURE = 0.05
_PART = 0.2
"""The first appearance of a code is told near a change if so great a part of the failures behind it has that code."""
_FIRST_AFTER = timedelta(days=1)
"""A code appears for the first time only where the log was without it for as long."""


class Change(NamedTuple):
    """A change of a failure rate, with what changed near it."""

    at: datetime
    earliest: datetime
    latest: datetime
    before: Rate
    after: Rate
    abrupt: bool
    near: tuple[Near, ...]


class Setup(NamedTuple):
    """The state of an application's settings: how many findings break, how many are risks, and the next date."""

    breaks: int
    risks: int
    next_date: Ending | None


class Common(NamedTuple):
    """The code that failed sign-ins have most often, where it is from (`captures` or `logs`), and how many have it."""

    code: str
    source: str
    attempts: int


class AppState(NamedTuple):
    """One application: its settings, its failure rate in the logs, and what is to be said of it."""

    app: App
    setup: Setup
    rate: Rate
    trend: Slope | None
    common: Common | None
    changes: tuple[Change, ...]
    apart: tuple[Apart, ...]


class FleetCause(NamedTuple):
    """A cause, and where it is from: `captures` or `logs`."""

    cause: Cause
    source: str


class Fleet(NamedTuple):
    """All applications together. `others` are names in the logs of which none is on record, with their rates."""

    apps: tuple[AppState, ...]
    causes: tuple[FleetCause, ...]
    others: tuple[tuple[str, Rate], ...]
    span: tuple[datetime, datetime] | None
    captures: int
    left_out: tuple[tuple[str, str], ...]


def overview(
    workspace: Workspace,
    logged: Logged,
    diagnoses: Sequence[Diagnosis],
    now: datetime,
    log_causes: Iterable[Cause] = (),
    on_record: Iterable[Happened] | None = None,
) -> Fleet:
    """All applications of a workspace, from its settings, what the logs tell, and diagnoses. Raises SettingsError."""
    columns = logged.attempts
    rows = _rows_by_app(columns.app, len(logged.apps))
    series = [Series(columns.times[mine], columns.failed[mine], columns.person[mine]) for mine in rows]
    steps = find_changes(series)
    apart = who_fails_apart(
        [
            Attempts(item.times, item.failed, item.persons, columns.address[mine], _stretches(item, found))
            for item, mine, found in zip(series, rows, steps, strict=True)
        ],
        logged.people,
        logged.addresses,
    )
    record = list(happened(workspace) if on_record is None else on_record)
    setups = _setups(workspace, now)
    broken = Counter((item.app, item.first_break.code) for item in diagnoses if item.first_break and item.app)
    states = []
    for number, app in enumerate(workspace.apps.values()):
        item = series[number] if number < len(series) else None
        codes = columns.code[rows[number]] if item else None
        first = _first_codes(app.name, item, codes, logged.codes) if item is not None and codes is not None else []
        found = steps[number] if item else ()
        states.append(
            AppState(
                app=app,
                setup=setups[app.id],
                rate=_rate(item),
                trend=_trend(item) if item else None,
                common=_common(app.id, broken, codes, logged.codes),
                changes=tuple(_change(step, app, record, _telling(step, item, codes, first)) for step in found),
                apart=apart[number] if item else (),
            )
        )
    causes = [FleetCause(cause, CAPTURES) for cause in causes_of(diagnoses)]
    causes += [FleetCause(cause, LOGS) for cause in log_causes]
    others = [(name, _rate(series[number])) for number, name in enumerate(logged.apps) if number >= logged.on_record]
    return Fleet(
        apps=tuple(states),
        causes=tuple(sorted(causes, key=lambda item: -item.cause.attempts)),
        others=tuple(sorted((pair for pair in others if pair[1].attempts), key=lambda pair: -pair[1].attempts)),
        span=(_moment(columns.times[0]), _moment(columns.times[-1])) if len(columns.times) else None,
        captures=len(diagnoses),
        left_out=logged.left_out,
    )


def _rows_by_app(app: Counts, count: int) -> list[Counts]:
    """The rows of each application, in their order."""
    import numpy as np

    order = np.argsort(app, kind="stable")
    return list(np.split(order, np.searchsorted(app[order], np.arange(1, count)))) if count else []


def _stretches(series: Series, steps: Sequence[Step]) -> Counts:
    """Which stretch between two changes each attempt is in."""
    import numpy as np

    return np.searchsorted([step.at for step in steps], series.times, "right").astype(np.int64)


def _rate(series: Series | None) -> Rate:
    return Rate(len(series.times), int(series.failed.sum())) if series is not None else Rate(0, 0)


def _trend(series: Series) -> Slope | None:
    return slope(series.times / _DAY, series.failed, clusters(series)) if len(series.times) else None


def _setups(workspace: Workspace, now: datetime) -> dict[str, Setup]:
    """The state of the settings of each application."""
    hits: dict[str, Ending] = {}
    for ending in endings(workspace):
        for name in (hit.app for hit in ending.hits if ending.at > now):
            hits.setdefault(name, ending)
    made = {}
    for app, findings in check_settings(workspace.apps.values(), workspace, now):
        told = [finding for finding in findings if not finding.accepted]
        breaks = sum(finding.breaks for finding in told)
        risks = sum(finding.severity.value == "risk" for finding in told)
        made[app.id] = Setup(breaks, risks, hits.get(app.id))
    return made


def _common(app: str, broken: Counter[tuple[str, str]], codes: Counts | None, names: Sequence[Code]) -> Common | None:
    """The code that is seen most: of the captures where any is broken, else of the logs."""
    import numpy as np

    mine = Counter({code: count for (name, code), count in broken.items() if name == app})
    if mine:
        (code, count), *_ = mine.most_common(1)
        return Common(code, CAPTURES, count)
    known = codes[codes >= 0] if codes is not None else np.zeros(0, dtype=np.int64)
    if not len(known):
        return None
    counts = np.bincount(known)
    most = int(np.argmax(counts))
    return Common(names[most].code, LOGS, int(counts[most]))


def _first_codes(app: str, series: Series, codes: Counts, names: Sequence[Code]) -> list[tuple[int, Near]]:
    """When each code of a failure appeared for the first time, where the log was without it for a day."""
    import numpy as np

    found = []
    begin = _moment(series.times[0]) if len(series.times) else None
    kinds, first = np.unique(codes, return_index=True)
    for kind, place in zip(kinds.tolist(), first.tolist(), strict=True):
        at = _moment(series.times[place])
        if kind >= 0 and begin is not None and at - begin >= _FIRST_AFTER:
            found.append((kind, Near(at, f"{app}: the first {names[kind].code} in {names[kind].source}")))
    return found


def _telling(
    step: Step, series: Series | None, codes: Counts | None, first: Iterable[tuple[int, Near]]
) -> tuple[Near, ...]:
    """The first appearances of those codes that a good part of the failures behind a change has."""
    if series is None or codes is None or not step.after.failures:
        return ()
    behind = codes[(series.times >= step.at) & series.failed][: step.after.failures]
    return tuple(item for kind, item in first if (behind == kind).sum() >= _PART * len(behind))


def _change(step: Step, app: App, record: Iterable[Happened], codes: Iterable[Near]) -> Change:
    at, earliest, latest = _moment(step.at), _moment(step.earliest), _moment(step.latest)
    rises = (step.after.share or 0.0) > (step.before.share or 0.0)
    beside = near(record, app, codes if rises else (), earliest, latest, at)
    return Change(at, earliest, latest, step.before, step.after, step.abrupt, beside)


def _moment(seconds: float) -> datetime:
    return datetime.fromtimestamp(float(seconds), UTC)


def causes_in_logs(logged: Logged, sources: Mapping[str, LogSource], examples: Mapping[Code, str]) -> tuple[Cause, ...]:
    """The codes of failed sign-ins in the logs as causes, the largest first; `examples` are the place of one each."""
    import numpy as np

    columns = logged.attempts
    made = []
    for number, code in enumerate(logged.codes):
        mine = columns.failed & (columns.code == number)
        count = int(mine.sum())
        if not count:
            continue
        told = sources[code.source].settings.codes.get(code.code)
        persons = columns.person[mine]
        apps = [logged.apps[app] for app in np.unique(columns.app[mine]).tolist()]
        made.append(
            Cause(
                code=code.code,
                side=told.side if told else None,
                what=told.means if told else f"{code.code} in {code.source}: what it means is not on record",
                value_to_set=None,
                apps=tuple(sorted(apps)),
                attempts=count,
                people=len(np.unique(persons[persons >= 0])),
                example=examples.get(code, code.source),
            )
        )
    return tuple(sorted(made, key=lambda cause: -cause.attempts))


def rising(fleet: Fleet) -> tuple[AppState, ...]:
    """The applications whose rate grows slowly, without a jump: surely, over all of them together (Bonferroni), and by
    a twentieth of itself a day at least.
    """
    return tuple(
        state
        for state in fleet.apps
        if state.trend is not None
        and state.rate.share
        and not state.changes
        and state.trend.chance * len(fleet.apps) <= _SURE
        and state.trend.per_day >= state.rate.share / 20
    )


class SharedChange(NamedTuple):
    """Changes of several applications within the same time, all for the worse or all for the better."""

    earliest: datetime
    latest: datetime
    worse: bool
    apps: tuple[tuple[AppState, Change], ...]
    near: tuple[Near, ...]


def changes_together(fleet: Fleet) -> tuple[SharedChange, ...]:
    """The changes of all applications, those together whose intervals overlap; the latest first.

    Several may have one cause, but nothing more than the time says so. What changed near is that of all of them.
    """
    listed = sorted(
        ((state, change) for state in fleet.apps for change in state.changes), key=lambda pair: pair[1].earliest
    )
    groups: list[list[tuple[AppState, Change]]] = []
    for state, change in listed:
        home = next((group for group in groups if _fits(group, change)), None)
        if home is None:
            groups.append([(state, change)])
        else:
            home.append((state, change))
    return tuple(sorted((_shared(group) for group in groups), key=lambda shared: shared.latest, reverse=True))


def _fits(group: Sequence[tuple[AppState, Change]], change: Change) -> bool:
    """Whether a change lies within the time that all of a group have in common."""
    low, high = max(other.earliest for _, other in group), min(other.latest for _, other in group)
    return worse(group[0][1]) == worse(change) and change.earliest <= high and low <= change.latest


def worse(change: Change) -> bool:
    """Whether the failure rate rose."""
    return (change.after.share or 0.0) > (change.before.share or 0.0)


def _shared(group: Sequence[tuple[AppState, Change]]) -> SharedChange:
    nearby: dict[Near, None] = {}
    for _, change in group:
        nearby.update(dict.fromkeys(change.near))
    return SharedChange(
        earliest=max(change.earliest for _, change in group),
        latest=min(change.latest for _, change in group),
        worse=worse(group[0][1]),
        apps=tuple(group),
        near=tuple(nearby),
    )
