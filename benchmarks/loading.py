"""Measures the loading of logs against DuckDB's own load of the same file.

python benchmarks/loading.py [--rows 10000000]
"""

from __future__ import annotations

import argparse
import resource
import tempfile
import time
from datetime import UTC, datetime
from pathlib import Path

import duckdb

from trace_lens.logs.store.loading import Loader, load_file
from trace_lens.logs.store.store import EventStore
from trace_lens.workspace.log_settings import LogSettings
from trace_lens.workspace.log_sources import LogSource
from trace_lens.workspace.settings import read_table

REACH = {"csv": 1.0, "jsonl": 1.2}
NOW = datetime(2026, 11, 25, tzinfo=UTC)
FIELDS = {
    "time": "When",
    "user": "Account",
    "app": "Target",
    "outcome": "Result",
    "code": "Code",
    "ip": "From",
    "ids": ["Request"],
}


def source(form: str) -> LogSource:
    """A source of this format."""
    told = {
        "role": "provider",
        "format": form,
        "time_zone": "Europe/Oslo",
        "fields": FIELDS,
        "outcomes": {"success": ["granted"], "failure": ["denied"]},
    }
    return LogSource("id", "logs/id.toml", read_table(LogSettings, told))


def make(path: Path, rows: int, form: str) -> None:
    """A log of so many rows over eight days of November."""
    how = "FORMAT csv, HEADER" if form == "csv" else "FORMAT json"
    duckdb.sql(
        "COPY (SELECT strftime(TIMESTAMP '2026-11-09' + to_microseconds(i * 690000000000 // " + str(rows) + "), "
        "'%Y-%m-%d %H:%M:%S') AS \"When\", 'p' || hash(i) % 20000 || '.tern@northmere.example' AS Account, "
        "'App ' || i % 24 AS Target, CASE WHEN i % 9 = 0 THEN 'denied' ELSE 'granted' END AS Result, "
        "CASE WHEN i % 9 = 0 THEN 'D-1001' END AS Code, '192.0.2.' || i % 250 AS \"From\", "
        f"'_rq' || md5(i::VARCHAR) AS Request FROM range({rows}) t(i)) TO '{path}' ({how})"
    )


def cpu() -> float:
    """The processor time of this process so far, of user and system, in seconds."""
    used = resource.getrusage(resource.RUSAGE_SELF)
    return used.ru_utime + used.ru_stime


def measure(rows: int, form: str) -> float:
    """One file, by DuckDB alone and by the store: the ratio of their processor times."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / f"id.{form}"
        make(file, rows, form)
        begin, clock = cpu(), time.perf_counter()
        with duckdb.connect(f"{folder}/floor.duckdb") as bare:
            bare.execute(f"CREATE TABLE events AS SELECT * FROM read_{form if form == 'csv' else 'json'}('{file}')")
        floor, floor_clock = cpu() - begin, time.perf_counter() - clock
        begin, clock = cpu(), time.perf_counter()
        with EventStore(Path(folder), writing=True, files=[file]) as store:
            loaded = load_file(store, source(form), file, f"id.{form}", NOW)
        used, used_clock = cpu() - begin, time.perf_counter() - clock
        assert (loaded.problem, loaded.rows, loaded.bad) == (None, rows, 0), loaded
        megabytes = file.stat().st_size / 1e6
    reach = REACH[form]
    print(
        f"{form}: {rows:,} rows, {megabytes:,.0f} MB: {used:.1f} s of processor, {used_clock:.1f} s by the clock, "
        f"{rows / used_clock:,.0f} rows a second; DuckDB alone {floor:.1f} s, {floor_clock:.1f} s: "
        f"{used / floor:.2f} times its processor, {used_clock / floor_clock:.2f} times its clock (to reach: {reach})",
        flush=True,
    )
    return used / floor


def small(files: int) -> None:
    """Many small files of one source, each of the same span of time."""
    with tempfile.TemporaryDirectory() as folder:
        paths = []
        for number in range(files):
            path = Path(folder) / f"id-{number}.csv"
            lines = ["When,Account,Target,Result,Code,From,Request"]
            lines += [
                f"2026-11-{9 + row % 5:02d} 08:{row:02d}:{number % 60:02d},p{number}.tern@northmere.example,"
                f"App {row % 24},granted,,192.0.2.{row},_rq{number}-{row}"
                for row in range(30)
            ]
            path.write_text("\n".join(lines) + "\n")
            paths.append(path)
        described = source("csv")
        begin, clock = cpu(), time.perf_counter()
        with EventStore(Path(folder), writing=True, files=paths) as store, Loader(store) as loader:
            for path in paths:
                loaded = loader.load(described, path, path.name, NOW)
                assert (loaded.problem, loaded.rows) == (None, 30), loaded
        used, used_clock = cpu() - begin, time.perf_counter() - clock
    print(f"{files:,} files of 30 rows: {used:.1f} s of processor, {used_clock:.1f} s by the clock (to reach: 60 s)")


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=10_000_000)
    parser.add_argument("--small", type=int, default=5_000)
    options = parser.parse_args()
    for form in REACH:
        rows = options.rows // 100
        while rows <= options.rows:
            measure(rows, form)
            rows *= 10
    small(options.small)
    print(f"memory at the most: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:,.0f} MB")
