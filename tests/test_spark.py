"""The store on Spark, in local mode: the same events in, the same answers out as from DuckDB."""

from __future__ import annotations

import shutil
import warnings
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest

import correlation_world
from kit import run, run_json, workspace
from trace_lens.logs.store.candidates import by_ids, survey
from trace_lens.logs.store.loading import load_all
from trace_lens.logs.store.searching import Wanted, search
from trace_lens.logs.store.spark import SparkStore, place_of, store_of
from trace_lens.logs.store.store import EventStore, LoadedFile, StoreProblem
from trace_lens.workspace.log_sources import LogSettings, LogSource
from trace_lens.workspace.records import Workspace

needs_java = pytest.mark.skipif(shutil.which("java") is None, reason="Spark needs a Java runtime")
pytestmark = pytest.mark.spark
LOCAL = "spark://local[1]"
LOG = "when,who,target,result,code,from,request\n"
ROW = "2026-11-20 0{hour}:14:0{second},{who},Crew Roster,{result},,192.0.2.{second},r{hour}{second} r{hour}\n"
SETTINGS = {
    "role": "provider",
    "format": "csv",
    "files": ["logs/*.csv"],
    "outcomes": {"success": ["yes"], "failure": ["no"]},
    "fields": {
        "time": "when",
        "user": "who",
        "app": "target",
        "outcome": "result",
        "code": "code",
        "ip": "from",
        "ids": ["request"],
    },
}
SOURCE = LogSource("id", "logs/id.toml", LogSettings.model_validate(SETTINGS))


def rows(hours: int) -> str:
    """Rows of some hours; every hour has one that is bad and one that stands twice."""
    text = LOG
    for hour in range(hours):
        for second in range(5):
            who = ("m.tern", "M.Tern@northmere.example", "", "a.fulmar", "-")[second]
            text += ROW.format(hour=hour, second=second, who=who, result="no" if second % 2 else "yes")
        text += text.splitlines(keepends=True)[-1] + "never,nobody,x,yes,,,\n"
    return text


@pytest.fixture
def both(tmp_path: Path) -> list[EventStore]:
    """A store of each kind in a workspace of its own, with the same rows loaded; the file grew between two loads."""
    stores = []
    for name, setting in (("duck", "duckdb"), ("spark", LOCAL)):
        root = tmp_path / name
        (root / "logs").mkdir(parents=True)
        for hours in (2, 4):
            (root / "logs/a.csv").write_text(rows(hours)[:-9] if hours == 2 else rows(hours))
            with store_of(root, setting, writing=True) as store:
                (loaded,) = load_all(store, [SOURCE], root)
                assert loaded.problem is None
            stores.append(store_of(root, setting)) if hours == 4 else None
    return stores


def open_one(store: EventStore) -> Iterator[EventStore]:
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with store as opened:
            yield opened


def test_what_was_loaded_is_told_without_spark(both: list[EventStore]) -> None:
    told = []
    for one in both:
        with one as store:
            (file,) = store.files()
            told.append((file.source, file.file, file.octets, file.digest, file.rows, file.bad, store.bad_rows()))
    assert told[0] == told[1]
    assert (told[0][4], told[0][5]) == (24, 4)


@needs_java
def test_both_stores_answer_alike(both: list[EventStore]) -> None:
    everything = []
    for one in both:
        for store in open_one(one):
            found = [
                search(store.events(), wanted, Workspace())
                for wanted in (
                    Wanted(),
                    Wanted(
                        user="m.tern",
                        outcome="success",
                        ip="192.0.2.0/24",
                        text="TERN",
                        since=datetime(2026, 11, 20, 1, tzinfo=UTC),
                        until=datetime(2026, 11, 20, 3, tzinfo=UTC),
                    ),
                    Wanted(id="r23 r2"),
                )
            ]
            carried, spread = by_ids(store.plain_events(), ["r23 r2", "r14 r1", "nothing"])
            everything.append((found, sorted(carried, key=repr), spread, survey(store.plain_events())))
    assert everything[0] == everything[1]
    assert len(everything[0][0][0]) == 24
    assert sum(one.doubled for one in everything[0][0][0]) == 4


@needs_java
def test_both_stores_correlate_alike(tmp_path: Path) -> None:
    apps = correlation_world.workspace_of()
    world = correlation_world.make(correlation_world.REGIMES[1], 2, 12, people=100, sign_ins=400)
    found = []
    for setting in ("duckdb", LOCAL):
        (tmp_path / setting[:5]).mkdir()
        with store_of(tmp_path / setting[:5], setting, writing=True) as store, store.transaction():
            by_file: dict[str, list[correlation_world.Event]] = {}
            for event in world.events:
                by_file.setdefault(event.file, []).append(event)
            for name, events in by_file.items():
                store.add(events)
                loaded = LoadedFile(
                    source=events[0].source,
                    file=name,
                    octets=1,
                    digest=name,
                    lines=1,
                    rows=len(events),
                    bad=0,
                    loaded_at=correlation_world.BEGIN,
                )
                store.remember(loaded)
        for opened in open_one(store_of(tmp_path / setting[:5], setting)):
            told = correlation_world.run(world, opened, apps)
            matched = {
                key: [(one.event, round(one.probability, 6), one.because) for one in some]
                for key, some in told.matched.items()
            }
            found.append((matched, [(one.source, round(one.offset, 6), one.basis, one.pairs) for one in told.clocks]))
    assert found[0] == found[1]
    assert found[0][0]


def test_nothing_is_lost_by_an_interruption(tmp_path: Path) -> None:
    (tmp_path / "logs").mkdir()
    (tmp_path / "logs/a.csv").write_text(rows(2))
    with store_of(tmp_path, LOCAL, writing=True) as store:
        load_all(store, [SOURCE], tmp_path)
        before = store.files()

        def half_way() -> None:
            with store.transaction():
                store.take_out_from("id", "logs/a.csv", 3)
                store.remember(before[0]._replace(rows=1))
                raise KeyboardInterrupt

        with pytest.raises(KeyboardInterrupt):
            half_way()
        assert (store.files(), store.counts("id", "logs/a.csv")) == (before, (12, 2))


@pytest.mark.parametrize(
    ("setting", "master", "folder"),
    [
        ("spark://local[2]", "local[2]", None),
        ("spark://one.example:7077", "spark://one.example:7077", None),
        ("spark://one.example:7077/srv/logs", "spark://one.example:7077", "/srv/logs"),
    ],
)
def test_where_a_store_on_spark_is(setting: str, master: str, folder: str | None, tmp_path: Path) -> None:
    assert place_of(setting, tmp_path) == (master, Path(folder) if folder else tmp_path / ".trace-lens/parquet")


def test_stores_that_cannot_be_used(tmp_path: Path) -> None:
    with store_of(tmp_path, LOCAL, writing=True):
        again = SparkStore(tmp_path, LOCAL, writing=True)
        with pytest.raises(StoreProblem, match="another trace-lens"):
            again.__enter__()
    about = tmp_path / ".trace-lens/parquet/about.json"
    about.write_text('{"version": "0"}')
    with pytest.raises(StoreProblem, match="version 0"):
        store_of(tmp_path, LOCAL).__enter__()
    about.write_text("{")
    with pytest.raises(StoreProblem, match="cannot be used"):
        store_of(tmp_path, LOCAL).__enter__()


def test_the_setting(tmp_path: Path) -> None:
    folder = workspace(tmp_path, main='store = "sparkle"\n')
    done = run("apps", "list", folder=folder)
    assert (done.returncode, b'must be "duckdb"' in done.stderr) == (2, True)
    folder = workspace(tmp_path / "b", main=f'store = "{LOCAL}"\n')
    status, document = run_json("logs", "list", folder=folder)
    assert (status, document["files"]) == (0, [])
