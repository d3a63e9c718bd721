"""The store read through Spark, in local mode and on a cluster of its own: the same answers as from DuckDB."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

import pytest

import correlation_world
from kit import run, run_json, workspace
from trace_lens.logs.store.candidates import Window, by_ids, by_windows, survey, tally, written_as
from trace_lens.logs.store.loading import load_all
from trace_lens.logs.store.manifest import StoreProblem
from trace_lens.logs.store.searching import Wanted, search
from trace_lens.logs.store.store import EventStore, place_of
from trace_lens.workspace.log_settings import LogSettings
from trace_lens.workspace.log_sources import LogSource
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.settings import read_table

needs_java = pytest.mark.skipif(shutil.which("java") is None, reason="Spark needs a Java runtime")
pytestmark = [pytest.mark.spark, pytest.mark.filterwarnings("ignore::ResourceWarning", "ignore::DeprecationWarning")]
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
SOURCE = LogSource("id", "logs/id.toml", read_table(LogSettings, SETTINGS))


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
def root(tmp_path: Path) -> Path:
    """A workspace with a store: a file that grew between two loads, and one that overlaps with it."""
    (tmp_path / "logs").mkdir()
    for hours in (2, 4):
        (tmp_path / "logs/a.csv").write_text(rows(hours)[:-9] if hours == 2 else rows(hours))
        (tmp_path / "logs/b.csv").write_text(LOG + "".join(rows(5).splitlines(keepends=True)[-14:]))
        with EventStore(tmp_path, writing=True) as store:
            assert [loaded.problem for loaded in load_all(store, [SOURCE], tmp_path)] == [None, None]
    return tmp_path


SEARCHES = (
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
    Wanted(user="fulmar", code="none"),
    Wanted(ip="192.0.2.3", app="Crew Roster", source="id"),
    Wanted(text="r4"),
)
WINDOW = Window(
    "id", "m.tern", datetime(2026, 11, 20, tzinfo=UTC).timestamp(), datetime(2026, 11, 21, tzinfo=UTC).timestamp()
)


def answers(root: Path, setting: str) -> list[object]:
    """What a store answers to everything that is asked."""
    with EventStore(root, setting) as store:
        found: list[object] = [search(store, wanted, Workspace()) for wanted in SEARCHES]
        carried, spread = by_ids(store, ["r23 r2", "r14 r1", "nothing"])
        found += [sorted(carried, key=repr), spread, survey(store), by_windows(store, "user", [WINDOW])]
        return [*found, tally(store, "ip", ["192.0.2.3"]), written_as(store, ["m.tern"]), store.bad_rows()]


@needs_java
def test_both_engines_answer_alike(root: Path) -> None:
    expected = answers(root, "duckdb")
    spark_root = root.parent / "other"
    shutil.copytree(root, spark_root)
    assert answers(spark_root, LOCAL) == expected
    everything = expected[0]
    assert isinstance(everything, list)
    assert len(everything) == 30
    assert sum(event.doubled for event in everything) == 5
    assert sum(len(event.also) for event in everything) == 6


@needs_java
def test_both_engines_correlate_alike(tmp_path: Path) -> None:
    apps = correlation_world.workspace_of()
    world = correlation_world.make(correlation_world.REGIMES[1], 2, 12, people=100, sign_ins=400)
    with EventStore(tmp_path, writing=True) as store:
        correlation_world.put(store, world.events)
    found = []
    for setting in ("duckdb", LOCAL):
        with EventStore(tmp_path, setting) as store:
            told = correlation_world.run(world, store, apps)
            matched = {
                key: [(one.event, round(one.probability, 6), one.because) for one in some]
                for key, some in told.matched.items()
            }
            found.append((matched, [(one.source, round(one.offset, 6), one.basis, one.pairs) for one in told.clocks]))
    assert found[0] == found[1]
    assert found[0][0]


@pytest.mark.parametrize(
    ("setting", "master", "folder"),
    [
        ("duckdb", None, None),
        ("spark://local[2]", "local[2]", None),
        ("spark://one.example:7077", "spark://one.example:7077", None),
        ("spark://one.example:7077/srv/logs", "spark://one.example:7077", "/srv/logs"),
    ],
)
def test_where_a_store_is(setting: str, master: str | None, folder: str | None, tmp_path: Path) -> None:
    assert place_of(setting, tmp_path) == (master, Path(folder) if folder else tmp_path / ".trace-lens/logs")


def test_the_setting(tmp_path: Path) -> None:
    folder = workspace(tmp_path, main='store = "sparkle"\n')
    done = run("apps", "list", folder=folder)
    assert (done.returncode, b'must be "duckdb"' in done.stderr) == (2, True)
    folder = workspace(tmp_path / "b", main=f'store = "{LOCAL}"\n')
    status, document = run_json("logs", "list", folder=folder)
    assert (status, document["files"]) == (0, [])


@needs_java
def test_a_master_that_nobody_reaches(root: Path, tmp_path: Path) -> None:
    code = (
        "from pathlib import Path; from trace_lens.logs.store.store import EventStore\n"
        f"with EventStore(Path({str(root)!r}), 'spark://nowhere') as store: store.ask('SELECT 1 FROM events')"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, timeout=300)
    assert StoreProblem.__name__ in done.stderr
    assert "cannot be used" in done.stderr


# -- a cluster


def _free_port() -> int:
    with socket.socket() as held:
        held.bind(("127.0.0.1", 0))
        return int(held.getsockname()[1])


@contextmanager
def cluster(folder: Path) -> Iterator[str]:
    """A standalone cluster on loopback: a master and two workers from the package; the master's address."""
    import pyspark

    home = Path(pyspark.__file__).parent
    port = _free_port()
    master = f"spark://127.0.0.1:{port}"
    settings = {**os.environ, "SPARK_HOME": str(home), "SPARK_LOCAL_IP": "127.0.0.1", "SPARK_LOCAL_DIRS": str(folder)}
    settings |= {"PYSPARK_PYTHON": sys.executable, "SPARK_NO_DAEMONIZE": "1"}
    script = str(home / "bin/spark-class")
    classes = "org.apache.spark.deploy"
    calls = [
        [script, f"{classes}.master.Master", "--host", "127.0.0.1", "--port", str(port), "--webui-port", "0"],
        *(
            [
                script,
                f"{classes}.worker.Worker",
                "--host",
                "127.0.0.1",
                "--cores",
                "1",
                "--memory",
                "1g",
                "--webui-port",
                "0",
                "--work-dir",
                str(folder / f"work-{number}"),
                master,
            ]
            for number in (1, 2)
        ),
    ]
    running = []
    try:
        for number, call in enumerate(calls):
            with (folder / f"{number}.log").open("wb") as log:
                running.append(subprocess.Popen(call, env=settings, stdout=log, stderr=subprocess.STDOUT))
            time.sleep(6 if number == 0 else 0)
        _wait_for(folder / "0.log", "Registering worker", 2)
        yield master
    finally:
        for process in running:
            process.terminate()
        for process in running:
            process.wait(30)


def _wait_for(log: Path, words: str, times: int) -> None:
    end = time.monotonic() + 120
    while time.monotonic() < end:
        if log.read_text("utf-8", "replace").count(words) >= times:
            return
        time.sleep(0.5)
    raise AssertionError(log.read_text("utf-8", "replace")[-2000:])


@needs_java
def test_a_cluster_answers_alike(root: Path, tmp_path_factory: pytest.TempPathFactory) -> None:
    """Two workers of a standalone cluster read the parts from a folder that all see."""
    folder = tmp_path_factory.mktemp("cluster")
    parts = folder / "shared"
    shutil.copytree(root / ".trace-lens/logs", parts)
    for key in (root / ".trace-lens").glob("*.key"):
        shutil.copy(key, parts)
    asked = "import sys; sys.path[:0] = sys.argv[3:]; from pathlib import Path; import test_spark\n"
    asked += "print(repr(test_spark.answers(Path(sys.argv[1]), sys.argv[2])))"
    with cluster(folder) as master:
        modules = [Path(__file__).parent, Path(__file__).parents[1] / "benchmarks"]
        call = [sys.executable, "-c", asked, str(root), f"{master}{parts}", *map(str, modules)]
        done = subprocess.run(call, capture_output=True, text=True, timeout=300)
        workers = (folder / "0.log").read_text("utf-8", "replace").count("Registering worker")
    assert done.returncode == 0, done.stderr[-3000:]
    assert done.stdout.strip().splitlines()[-1] == repr(answers(root, "duckdb"))
    assert workers == 2
