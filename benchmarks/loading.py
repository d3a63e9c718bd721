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

from trace_lens.logs.store.loading import load_file
from trace_lens.logs.store.store import EventStore
from trace_lens.workspace.log_sources import LogSettings, LogSource

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
    return LogSource("id", "logs/id.toml", LogSettings.model_validate(told))


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


def measure(rows: int, form: str) -> None:
    """One file, by DuckDB alone and by the store."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / f"id.{form}"
        make(file, rows, form)
        begin = time.perf_counter()
        with duckdb.connect(f"{folder}/floor.duckdb") as bare:
            bare.execute(f"CREATE TABLE events AS SELECT * FROM read_{form if form == 'csv' else 'json'}('{file}')")
        floor = time.perf_counter() - begin
        with EventStore(Path(folder), writing=True, files=[file]) as store:
            begin = time.perf_counter()
            loaded = load_file(store, source(form), file, f"id.{form}", NOW)
            seconds = time.perf_counter() - begin
        assert (loaded.problem, loaded.rows, loaded.bad) == (None, rows, 0), loaded
        megabytes = file.stat().st_size / 1e6
    reach = " (to reach: 1.5)" if form == "csv" else ""
    print(
        f"{form}: {rows:,} rows, {megabytes:,.0f} MB: {seconds:.1f} s, {rows / seconds:,.0f} rows a second; "
        f"DuckDB alone {floor:.1f} s: {seconds / floor:.2f} times{reach}"
    )


if __name__ == "__main__":
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=10_000_000)
    options = parser.parse_args()
    measure(options.rows, "csv")
    measure(min(options.rows, 1_000_000), "jsonl")
    print(f"memory at the most: {resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024:,.0f} MB")
