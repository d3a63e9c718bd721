"""The attempts that the loaded logs tell of, as columns: one row an attempt.

An attempt is an event of a provider's log, else of an application's: events of two logs that are of one person and one
application within a minute of each other (clocks corrected) are one attempt, events of one log never are. It failed
where the provider refused, or where the application's last word within that minute was a refusal. Only events that say
how something ended count. Of a web server's log only requests at the application's ACS URLs or redirect URIs do.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING, Any

from trace_lens.common.addresses import parts_of
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import APPLICATION, FAILURE, PROVIDER, SUCCESS
from trace_lens.logs.matching.between import kept_between
from trace_lens.logs.matching.clocks import NONE, Clock
from trace_lens.logs.store.candidates import all_written
from trace_lens.logs.store.engine import Given, quoted
from trace_lens.logs.store.kept import counted
from trace_lens.logs.store.store import EventStore
from trace_lens.people.spellings import Names, People, bare
from trace_lens.workspace.log_sources import LogSource
from trace_lens.workspace.records import Workspace

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    Numbers = NDArray[np.float64]
    Counts = NDArray[np.int64]
    Flags = NDArray[np.bool_]

TOGETHER = 60.0
"""Within so many seconds events of two logs are of one attempt."""
_WEB = ("combined", "w3c")
_ONE = 0.5
"""How likely one person must be meant by a name, to count as that person."""


class Code(NamedTuple):
    """A code of a log, with the log that it is of."""

    source: str
    code: str


class Columns(NamedTuple):
    """Attempts as columns of one length; `times` are epoch seconds by the provider's clock, the others numbers of what
    the lists beside them hold, -1 where it is not known.
    """

    app: Counts
    times: Numbers
    failed: Flags
    person: Counts
    address: Counts
    code: Counts

    def take(self, rows: Any) -> Columns:
        """Some of the attempts."""
        return Columns(*(column[rows] for column in self))

    def with_more(self, others: Columns) -> Columns:
        """These attempts, and others behind them."""
        import numpy as np

        return Columns(*(np.concatenate(pair) for pair in zip(self, others, strict=True)))


class Logged(NamedTuple):
    """The attempts in the order of time, and the lists that their numbers count in.

    `apps` are IDs of the workspace, behind them (from `on_record` on) names as the logs have them of which none is on
    record. `left_out` are logs that tell no attempts, with the reason.
    """

    attempts: Columns
    apps: tuple[str, ...] = ()
    on_record: int = 0
    addresses: tuple[str, ...] = ()
    codes: tuple[Code, ...] = ()
    people: tuple[str, ...] = ()
    left_out: tuple[tuple[str, str], ...] = ()


def nothing_logged() -> Logged:
    """No attempts."""
    import numpy as np

    none = np.zeros(0, dtype=np.int64)
    return Logged(Columns(none, none.astype(float), none.astype(bool), none, none, none))


def logged_attempts(
    store: EventStore,
    sources: Mapping[str, LogSource],
    workspace: Workspace,
    since: datetime | None = None,
    until: datetime | None = None,
) -> Logged:
    """The attempts in an opened store, from `since` on and before `until`. Raises StoreProblem."""
    import numpy as np

    told = {name: source for name, source in sources.items() if source.settings.role in (PROVIDER, APPLICATION)}
    left_out = [(name, "it is a gateway's: what passes there is no sign-in") for name in sources if name not in told]
    left_out += [(name, why) for name, source in told.items() if (why := _tells_nothing(source))]
    told = {name: source for name, source in told.items() if not _tells_nothing(source)}
    if not told:
        return nothing_logged()._replace(left_out=tuple(left_out))
    lists = _Lists(store, told, workspace)
    found = lists.rows(since, until)
    found, source = _without_copies(found)
    times = found["time"].astype(float) / 1e6
    times -= _ahead(store, told, lists.sources, source, times)
    columns = Columns(
        found["app"], times, found["failed"].astype(bool), found["person"], found["address"], found["code"]
    )
    columns = _together(columns, source, _by_role(told, lists.sources, source))
    return Logged(
        attempts=columns.take(np.argsort(columns.times, kind="stable")),
        apps=lists.apps,
        on_record=lists.on_record,
        addresses=lists.addresses,
        codes=lists.codes,
        people=lists.people,
        left_out=tuple(left_out),
    )


def _tells_nothing(source: LogSource) -> str | None:
    """Why a source tells of no attempts; None where it does."""
    if source.settings.format == "w3c" and not source.settings.fields.reason:
        return "it does not say which address was asked for: name that column as 'reason' under [fields]"
    return None


class _Lists:
    """The lists that numbers stand for, and the rows in numbers."""

    def __init__(self, store: EventStore, told: Mapping[str, LogSource], workspace: Workspace) -> None:
        self.store, self.told, self.workspace = store, told, workspace
        self.sources = tuple(sorted(told))
        names = Names(workspace)
        self.on_record = len(workspace.apps)
        number = {name: place for place, name in enumerate(workspace.apps)}
        self._app_of: dict[str, int] = {}
        for _, written, *_ in counted(store, "app", sources=self.sources):
            if written is not None and written not in self._app_of:
                meant = names.read(written)
                key = next(iter(meant)) if len(meant) == 1 else written
                self._app_of[written] = number.setdefault(key, len(number))
        self.apps = tuple(number)
        self._person_of, self.people = persons(all_written(store), People(workspace), self.sources)
        kinds = sorted({(source, code) for source, _, code, *_ in counted(store, "kind", sources=self.sources) if code})
        self.codes = tuple(Code(*kind) for kind in kinds)
        self.addresses: tuple[str, ...] = ()

    def rows(self, since: datetime | None, until: datetime | None) -> dict[str, Any]:
        """The events of the sources that say how something ended, as columns of numbers. Raises StoreProblem."""
        import numpy as np

        web = [name for name in self.sources if self.told[name].settings.format in _WEB]
        conditions = ["e.same_content IS NULL", f"e.outcome IN ({quoted(SUCCESS)}, {quoted(FAILURE)})"]
        conditions += [f"e.time >= {_literal(since)}"] if since else []
        conditions += [f"e.time < {_literal(until)}"] if until else []
        statement = (
            "SELECT (s.number)::INTEGER AS source, (a.number)::INTEGER AS app, epoch_us(e.time) AS time, "
            f"e.outcome = {quoted(FAILURE)} AS failed, (coalesce(p.number, -1))::INTEGER AS person, "
            "(coalesce(c.number, -1))::INTEGER AS code, (coalesce(i.number, -1))::INTEGER AS address, "
            "CASE WHEN len(e.ids) > 0 THEN hash(e.ids) ELSE 0::UBIGINT END AS ids FROM events e "
            "JOIN fleet_sources s ON e.source = s.name JOIN fleet_apps a ON e.app = a.name "
            'LEFT JOIN fleet_people p ON e.source = p.source AND e."user" = p.name '
            "LEFT JOIN fleet_addresses i ON e.ip = i.name "
            "LEFT JOIN fleet_codes c ON e.source = c.source AND e.code = c.code "
            "LEFT JOIN fleet_paths w ON a.number = w.app AND "
            r"w.path = regexp_extract(e.reason, '(^|[ ])(https?://[^/ ]*)?(/[^ ?#]*)', 3) "
            f"WHERE (s.web = 0 OR w.app IS NOT NULL) AND {' AND '.join(conditions)}"
        )
        given = {
            "fleet_sources": _table(
                name=self.sources, number=range(len(self.sources)), web=[int(name in web) for name in self.sources]
            ),
            "fleet_apps": _table(name=list(self._app_of), number=list(self._app_of.values())),
            "fleet_people": _table(
                source=[source for source, _ in self._person_of],
                name=[name for _, name in self._person_of],
                number=list(self._person_of.values()),
            ),
            "fleet_codes": _table(
                source=[code.source for code in self.codes],
                code=[code.code for code in self.codes],
                number=range(len(self.codes)),
            ),
            "fleet_paths": _table(**_sign_in_paths(self.workspace)),
        }
        contents = [content for content in self.store.manifest if content.source in self.sources]
        parts = self.store.parts(contents)
        distinct = self.store.duck.ask("SELECT DISTINCT e.ip FROM events e WHERE e.ip IS NOT NULL ORDER BY 1", parts)
        self.addresses = tuple(row[0] for row in distinct)
        given["fleet_addresses"] = _table(name=self.addresses, number=range(len(self.addresses)))
        columns = self.store.duck.arrays(statement, parts, given)
        return {name: np.asarray(column) for name, column in columns.items()}


def _table(**columns: Any) -> Given:
    types = {name: "VARCHAR" if name in ("name", "source", "code", "path") else "BIGINT" for name in columns}
    return Given(types, {name: list(values) for name, values in columns.items()})


def _literal(moment: datetime) -> str:
    from datetime import UTC

    return f"TIMESTAMP '{moment.astimezone(UTC).replace(tzinfo=None).isoformat(sep=' ')}'"


def _sign_in_paths(workspace: Workspace) -> dict[str, list[Any]]:
    """The paths at which each application takes messages."""
    made: dict[tuple[int, str], None] = {}
    for number, app in enumerate(workspace.apps.values()):
        for address in (*app.acs_urls, *app.settings.application.oidc.redirect_uris):
            parts = parts_of(address)
            made[number, parts.path or "/"] = None
    return {"app": [app for app, _ in made], "path": [path for _, path in made]}


def persons(
    written: Mapping[str, Iterable[str]], people: People, sources: Iterable[str]
) -> tuple[dict[tuple[str, str], int], tuple[str, ...]]:
    """A number for each person by source and name as written, and one spelling of each.

    Names of which one person on record is meant are that person's. Others are one person's where they are the same but
    for a domain, unless one log has that name with two domains.
    """
    sources = list(sources)
    several: set[str] = set()
    bares: dict[str, str] = {}
    for source in sources:
        here: dict[str, str] = {}
        for name in written.get(source, ()):
            local, domain = bares.setdefault(name, bare(name)), name.casefold().partition("@")[2]
            if here.setdefault(local, domain) != domain:
                several.add(local)
    number: dict[object, int] = {}
    names: list[str] = []
    made = {}
    for source in sources:
        for name in sorted(written.get(source, ())):
            reading = people.read(name)
            likely = max(reading, key=lambda person: reading[person]) if reading else None
            if likely is not None and reading[likely] > _ONE:
                key: object = likely
            else:
                key = name.casefold() if bares[name] in several else bares[name] or name.casefold()
            if key not in number:
                number[key] = len(names)
                names.append(name)
            made[source, name] = number[key]
    return made, tuple(names)


def _without_copies(found: dict[str, Any]) -> tuple[dict[str, Any], Counts]:
    """Without lines that stand twice in one log: the same in everything, an id among it."""
    import numpy as np

    ids = found["ids"]
    rows = np.flatnonzero(ids)
    whole = ids[rows].astype(np.uint64)
    for number, (name, column) in enumerate(found.items()):
        if name != "ids":
            whole = whole * np.uint64(0x9E3779B97F4A7C15) + column[rows].astype(np.uint64) + np.uint64(number)
    order = np.argsort(whole, kind="stable")
    rows, whole = rows[order], whole[order]
    same = whole[1:] == whole[:-1]
    first, second = rows[:-1][same], rows[1:][same]
    if len(second):
        alike = np.ones(len(second), dtype=bool)
        for column in found.values():
            alike &= column[first] == column[second]
        kept = np.ones(len(ids), dtype=bool)
        kept[second[alike]] = False
        found = {name: column[kept] for name, column in found.items()}
    del found["ids"]
    return found, found.pop("source")


def _ahead(
    store: EventStore, told: Mapping[str, LogSource], names: Sequence[str], source: Counts, times: Numbers
) -> Numbers:
    """By how many seconds the clock of each event's log is ahead of the provider's log with the most events."""
    import numpy as np

    found = np.zeros(len(times))
    clocks = kept_between(store) or {}
    counts = np.bincount(source, minlength=len(names))
    provided = [number for number, name in enumerate(names) if told[name].settings.role == PROVIDER]
    if not provided or not clocks:
        return found
    main = names[max(provided, key=lambda number: int(counts[number]))]
    for number, name in enumerate(names):
        clock: Clock | None = clocks.get((main, name))
        if clock is not None and clock.basis != NONE:
            mine = source == number
            found[mine] = clock.at(times[mine])
    return found


def _by_role(told: Mapping[str, LogSource], names: Sequence[str], source: Counts) -> list[list[int]]:
    """The sources in the order in which they count: the providers' together, then each application's, largest first."""
    import numpy as np

    counts = np.bincount(source, minlength=len(names))
    provided = [number for number, name in enumerate(names) if told[name].settings.role == PROVIDER]
    others = sorted((number for number in range(len(names)) if number not in provided), key=lambda n: -int(counts[n]))
    return [provided, *([number] for number in others)] if provided else [[number] for number in others]


def _together(made: Columns, source: Counts, order: list[list[int]]) -> Columns:
    """The attempts: events of later sources put to those of earlier ones, where they are of one attempt."""
    import numpy as np

    base = made.take(np.isin(source, order[0])) if order else made
    for group in order[1:]:
        more = made.take(np.isin(source, group))
        more = more.take(np.argsort(more.times, kind="stable"))
        base = _joined(base, more)
    return base


def _joined(base: Columns, more: Columns) -> Columns:
    """Attempts, with events of another log put to the nearest of the same person and application within a minute."""
    import numpy as np

    if not len(more.app):
        return base
    nearest = _nearest(base, more)
    joined = nearest >= 0
    failed, code, address = base.failed.copy(), base.code.copy(), base.address.copy()
    rows, at = np.flatnonzero(joined), nearest[joined]
    let_by = ~base.failed[at]
    # The rows are in the order of time, so that the last word counts.
    failed[at[let_by]] = more.failed[rows[let_by]]
    refused = more.failed[rows] & let_by
    code[at[refused]] = more.code[rows[refused]]
    unplaced = address[at] < 0
    address[at[unplaced]] = more.address[rows[unplaced]]
    whole = base._replace(failed=failed, code=code, address=address)
    return whole.with_more(more.take(~joined))


def _nearest(base: Columns, more: Columns) -> Counts:
    """For each of some events the attempt that is nearest, of the same person and application within a minute; -1
    where there is none, or where the event names nobody.
    """
    import numpy as np

    found = np.full(len(more.app), -1, dtype=np.int64)
    if not len(base.app):
        return found
    app, person = (np.concatenate(pair).astype(np.int64) for pair in ((base.app, more.app), (base.person, more.person)))
    pairs = app << 32 | (person & 0xFFFFFFFF)
    pair = np.unique(pairs, return_inverse=True)[1].astype(np.int64)
    begin = min(float(base.times.min()), float(more.times.min()))
    ticks = ((np.concatenate([base.times, more.times]) - begin) * 100).astype(np.int64)
    reach = int(TOGETHER * 100)
    # Each person and application has a span of keys of its own, with more than a minute between two spans.
    keys = pair * (int(ticks.max()) + reach + 1) + ticks
    theirs, mine = keys[: len(base.app)], keys[len(base.app) :]
    order = np.argsort(theirs, kind="stable")
    place = np.searchsorted(theirs[order], mine)
    least = np.full(len(mine), reach + 1, dtype=np.int64)
    for candidate in (place - 1, place):
        at = order[np.clip(candidate, 0, len(order) - 1)]
        away = np.abs(theirs[at] - mine)
        closer = (away < least) & (more.person >= 0)
        found[closer], least[closer] = at[closer], away[closer]
    return found
