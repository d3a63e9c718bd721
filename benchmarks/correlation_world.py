"""Worlds for correlation: people sign in by hand, three systems write it down, and the truth is known.

The world made here knows nothing of the model: people sign in to applications, some several times within minutes; three
systems write it down, each after a while of its own, by a clock of its own, with names of its own; most of what they
write belongs to nobody's capture. Used by the benchmarks and by the tests.
"""

from __future__ import annotations

import random
import tempfile
from collections.abc import Iterable
from datetime import UTC, datetime
from itertools import accumulate
from pathlib import Path
from typing import Any, NamedTuple

from trace_lens.logs.event import Event
from trace_lens.logs.matching.correlating import Correlation, correlate
from trace_lens.logs.matching.seen import Seen
from trace_lens.logs.store.manifest import Content, FileFacts
from trace_lens.logs.store.store import EventStore
from trace_lens.logs.store.writing import Writer, Written
from trace_lens.people.spellings import Names, People
from trace_lens.workspace.log_settings import LogSettings
from trace_lens.workspace.log_sources import LogSource
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.settings import read_table

BEGIN = datetime(2026, 11, 9, tzinfo=UTC)
SPAN = 14 * 86_400
ROLES = {"id-log": "provider", "app-log": "application", "app-log-2": "application", "edge-log": "gateway"}
_WRITERS = ("id-log", "app-log", "edge-log")


class Regime(NamedTuple):
    """How a world is: the share of events with an id of the messages, people behind one address, drift of one clock in
    seconds a day, whether ids are of sessions that span several attempts, and how many times slower logs are written;
    by how many seconds one clock is set after three fifths of the time, whether logs know minutes only, the share of
    lines that are written twice, and of sign-ins that are tried twenty times within a minute or two; whether the edge
    writes no users, the application's people have names that nothing on record joins, and it runs on two nodes with a
    log and a clock each, or with one description of both.
    """

    name: str
    ids: float
    shared: int = 1
    drift: float = 0.0
    sessions: bool = False
    slow: float = 1.0
    set_by: float = 0.0
    minutes: bool = False
    doubled: float = 0.0
    storms: float = 0.0
    nameless: bool = False
    odd_names: bool = False
    nodes: int = 1
    apart: bool = True


REGIMES = (
    Regime("ids always", 1.0),
    Regime("ids on half", 0.5),
    Regime("ids on half, 60 people an address", 0.5, shared=60),
    Regime("ids on half, drift", 0.5, drift=30.0),
    Regime("ids on half, of sessions", 0.5, sessions=True),
    Regime("no ids", 0.0),
    Regime("no ids, 60 people an address", 0.0, shared=60),
    Regime("no ids, drift", 0.0, drift=20.0),
    Regime("ids on half, written slowly", 0.5, slow=6.0),
    Regime("no ids, written slowly", 0.0, slow=6.0),
    Regime("ids on half, a clock set by a minute", 0.5, set_by=65.0),
    Regime("ids on half, a clock set by an hour", 0.5, set_by=3_600.0),
    Regime("no ids, a clock set by a minute", 0.0, set_by=65.0),
    Regime("ids on half, whole minutes", 0.5, minutes=True),
    Regime("ids on half, lines written twice", 0.5, doubled=0.3),
    Regime("no ids, lines written twice", 0.0, doubled=0.3),
    Regime("ids on half, storms", 0.5, storms=0.02),
    Regime("no ids, storms", 0.0, storms=0.02),
    Regime("ids on half, a log without users", 0.5, nameless=True),
    Regime("no ids, a log without users", 0.0, nameless=True),
    Regime("ids on half, names on no list", 0.5, odd_names=True),
    Regime("ids on half, two nodes", 0.5, nodes=2),
    Regime("no ids, two nodes", 0.0, nodes=2),
    Regime("ids on half, two nodes in one description", 0.5, nodes=2, apart=False),
)


class World(NamedTuple):
    """What was made: the attempts that were captured, all events, whose each is, and the offsets of the clocks."""

    seen: list[Seen]
    events: list[Event]
    owner: dict[tuple[str, int], str]
    offsets: dict[str, float]
    drift: dict[str, float]


class _Try(NamedTuple):
    """One attempt, captured or not."""

    key: str
    at: float
    person: int
    app: int
    good: bool
    address: str
    session: str


def make(
    regime: Regime, seed: int, captured: int, people: int = 1_500, apps: int = 24, sign_ins: int = 20_000
) -> World:
    """A world of `sign_ins` attempts in a fortnight, `captured` of which were captured."""
    draw = random.Random(f"{seed} {regime.name}")
    tries = list(_tries(draw, regime, people, apps, sign_ins))
    offsets = {"id-log": draw.uniform(-90, 90), "app-log": draw.uniform(-600, 600), "edge-log": draw.uniform(-600, 600)}
    drift = {"id-log": 0.0, "app-log": regime.drift * draw.choice((-1, 1)), "edge-log": 0.0}
    rows: list[tuple[float, dict[str, object], str]] = []
    for one in tries:
        rows += _events_of(draw, regime, one)
    for _ in range(sign_ins // 2):
        rows.append(_noise(draw, people, apps))
    chosen = {one.key for one in draw.sample(tries, captured)}
    events: list[Event] = []
    owner: dict[tuple[str, int], str] = {}
    if regime.nodes > 1:
        offsets["app-log-2"], drift["app-log-2"] = draw.uniform(-600, 600), 0.0
    written: dict[str, list[Any]] = {source: [] for source in offsets}
    for at, row, key in rows:
        source = str(row["source"])
        if regime.nodes > 1 and source == "app-log" and draw.random() < 0.5:
            source = "app-log-2"
        if regime.odd_names and row["source"] == "app-log":
            row = row | {"user": _odd_name(str(row["user"]))}
        if regime.nameless and source == "edge-log":
            row = row | {"user": None}
        off = offsets[source] + drift[source] * (at - BEGIN.timestamp() - SPAN / 2) / 86_400
        off += regime.set_by if source == "app-log" and at > BEGIN.timestamp() + 0.6 * SPAN else 0.0
        written[source] += [(at + off, row, key)] * (2 if draw.random() < regime.doubled else 1)
    for source, some in written.items():
        some.sort(key=lambda one: one[0])
        for line, (at, row, key) in enumerate(some, 2):
            moment = datetime.fromtimestamp(at, UTC)
            moment = moment.replace(microsecond=0 if source == "edge-log" else int(at % 1 * 1e6))
            if regime.minutes:
                moment = moment.replace(second=0, microsecond=0)
            events.append(
                Event(
                    source=source if regime.apart else source.removesuffix("-2"),
                    file=f"{source}.csv",
                    line=line,
                    time=moment,
                    user=row["user"],
                    app=row["app"],
                    outcome=str(row["outcome"]),
                    code=row["code"],
                    reason=None,
                    ip=row["ip"],
                    ids=tuple(row["ids"]),
                )
            )
            if key in chosen:
                owner[f"{source}.csv", line] = key
    seen = [
        Seen(
            key=one.key,
            at=datetime.fromtimestamp(one.at, UTC),
            moments=(),
            names=frozenset({_email(one.person)}),
            app=f"app-{one.app}",
            ids=frozenset({f"r-{one.key}", one.session} if regime.sessions else {f"r-{one.key}"}),
            answered=one.good if draw.random() < 0.8 else None,
        )
        for one in tries
        if one.key in chosen
    ]
    return World(seen, events, owner, offsets, drift)


def _odd_name(name: str) -> str:
    """What an application calls somebody that nothing else does."""
    return f"{int.from_bytes(name.encode()) % 99_999_989:08}"


def _email(person: int) -> str:
    return f"p{person}.tern@northmere.example"


def _tries(draw: random.Random, regime: Regime, people: int, apps: int, count: int):
    """Sign-ins by day, some tried again within minutes; half of those who fail do so again."""
    made = 0
    weights = list(accumulate(1 / (1 + rank) ** 0.6 for rank in range(people)))
    while made < count:
        person = draw.choices(range(people), cum_weights=weights)[0]
        app = int(draw.random() ** 2 * apps)
        day = draw.choice([0, 1, 2, 3, 4, 7, 8, 9, 10, 11, draw.randrange(14)])
        at = BEGIN.timestamp() + day * 86_400 + min(max(draw.gauss(11.5, 2.5), 0.1), 23.9) * 3600
        good = draw.random() < 0.85
        address = f"192.0.2.{person // regime.shared % 250}"
        session = f"s-{made}"
        left = 20 if draw.random() < regime.storms else 0
        while True:
            yield _Try(f"t{made}", at, person, app, good, address, session)
            made += 1
            if left:
                left -= 1
                at += 0.5 + draw.expovariate(1 / 4)
                good = left == 0 and draw.random() < 0.5
                continue
            if good and draw.random() < 0.94:
                break
            if not good and draw.random() < 0.5:
                break
            at += 8 + draw.expovariate(1 / 70)
            good = draw.random() < 0.6


def _events_of(draw: random.Random, regime: Regime, one: _Try):
    """What three systems write of one attempt: each within its own while, some of it not at all."""

    def ids() -> list[str]:
        own = one.session if regime.sessions else f"r-{one.key}"
        return [own] if draw.random() < regime.ids else []

    code = None if one.good else draw.choice(("D-1", "D-2"))
    outcome = "success" if one.good else "failure"
    name, app = _email(one.person), f"app-{one.app}"
    base = {"user": name, "app": app, "outcome": outcome, "code": code, "ip": one.address}
    if draw.random() < 0.99:
        yield one.at - draw.gammavariate(2, 0.3) * regime.slow, base | {"source": "id-log", "ids": ids()}, one.key
    if draw.random() < 0.4:
        second = base | {"source": "id-log", "code": "second factor", "outcome": "other", "ids": ids()}
        yield one.at - 1 - draw.gammavariate(2, 1.5), second, one.key
    if draw.random() < 0.97:
        bare = base | {"source": "app-log", "user": name.partition("@")[0], "ids": ids()}
        yield one.at + draw.gammavariate(2, 0.5) * regime.slow, bare, one.key
    if draw.random() < 0.95:
        yield (
            one.at + draw.gammavariate(2, 0.2) * regime.slow,
            base | {"source": "edge-log", "app": None, "ids": ids()},
            one.key,
        )


def _noise(draw: random.Random, people: int, apps: int):
    """Something else that a system writes about somebody."""
    source = draw.choice(_WRITERS)
    person = draw.randrange(people)
    at = BEGIN.timestamp() + draw.randrange(14) * 86_400 + min(max(draw.gauss(12, 3), 0.1), 23.9) * 3600
    name = _email(person) if source != "app-log" else _email(person).partition("@")[0]
    row = {
        "source": source,
        "user": name,
        "app": f"app-{draw.randrange(apps)}",
        "outcome": "other",
        "code": "page",
        "ip": f"192.0.2.{person % 250}",
        "ids": [f"n{draw.getrandbits(40)}"],
    }
    return at, row, ""


def workspace_of(apps: int = 24, folder: Path | None = None) -> Workspace:
    """A workspace that knows the applications; in a temporary folder where none is told."""
    folder = folder or Path(tempfile.mkdtemp())
    (folder / "trace-lens.toml").write_text("")
    (folder / "apps").mkdir()
    (folder / "providers").mkdir()
    (folder / "providers/northmere-id.toml").write_text('entity_id = "https://id.northmere.example/saml"\n')
    for number in range(apps):
        (folder / f"apps/app-{number}.toml").write_text(
            f'name = "App {number}"\nprotocol = "saml"\nprovider = "northmere-id"\n'
            f'[application]\nentity_id = "https://a{number}.northmere.example/saml"\n'
        )
    from trace_lens.workspace.loading import load_workspace

    return load_workspace(folder)


SOURCES = {
    name: LogSource(name, f"logs/{name}.toml", read_table(LogSettings, {"role": role, "format": "csv"}))
    for name, role in ROLES.items()
}


def content_of(key: str, source: str, written: Written, lines: int) -> Content:
    """A content whose part was written without a log file."""
    return Content(
        id=key,
        source=source,
        names=(),
        file=FileFacts(1, key, beginning="", lines=lines),
        rows=written.rows,
        loaded_at=BEGIN,
        first=written.first,
        last=written.last,
        part=written.part,
    )


def put(store: EventStore, events: Iterable[Event]) -> None:
    """Put events into a store that is open for writing, a content for each file."""
    writer = Writer(store.duck, store.folder)
    by_file: dict[tuple[str, str], list[Event]] = {}
    for event in events:
        by_file.setdefault((event.source, event.file), []).append(event)
    for number, ((source, file), some) in enumerate(by_file.items()):
        key = f"c{number}"
        written, _ = writer.write_events(key, some)
        content = content_of(key, source, written, max(event.line for event in some))
        store.manifest.put(content)
        store.manifest.point(file, key)
    for content in writer.keep(list(store.manifest)):
        store.manifest.put(content)
    store.manifest.write(store.folder)


def run(world: World, store: EventStore, workspace: Workspace) -> Correlation:
    """Correlate a world that is in a store."""
    people = People(workspace, [one.names for one in world.seen])
    return correlate(store, SOURCES, world.seen, people, Names(workspace))


class Score(NamedTuple):
    """Precision, recall, expected calibration error, and how many of the clocks lay within their interval."""

    precision: float
    recall: float
    calibration: float
    clocks_held: int
    clocks: int


def score(world: World, found: Correlation) -> Score:
    """Hold a result against the truth."""
    given = [(one.event.file, one.event.line, key) for key, some in found.matched.items() for one in some]
    right = sum(world.owner.get((file, line)) == key for file, line, key in given)
    told = [
        (one.probability, world.owner.get((one.event.file, one.event.line)) == key)
        for part in (found.matched, found.possible)
        for key, some in part.items()
        for one in some
    ]
    error = 0.0
    for low in range(10):
        inside = [(chance, holds) for chance, holds in told if low / 10 <= chance < (low + 1) / 10 + (low == 9)]
        if inside:
            mean = sum(chance for chance, _ in inside) / len(inside)
            error += abs(mean - sum(holds for _, holds in inside) / len(inside)) * len(inside) / len(told)
    held = 0
    for clock in found.clocks:
        log = Path(clock.files[0]).stem if clock.files else clock.source
        if any(Path(file).stem == log for other in found.clocks for file in other.files if other is not clock):
            log = f"{log}-2"
        days = (clock.middle - BEGIN.timestamp() - SPAN / 2) / 86_400
        held += clock.low is not None and clock.low <= world.offsets[log] + world.drift[log] * days <= clock.high
    return Score(right / max(len(given), 1), right / len(world.owner), error, held, len(found.clocks))
