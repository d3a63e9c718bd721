"""Measures the two engines of the store on the same parts: the embedded database, and Spark on this machine.

    python benchmarks/engines.py [--rows 10000000]

One log of so many rows is loaded; then both are asked for the events of a person, of a code and a day, and for those of
1,000 people around a moment each. The first question to Spark includes the beginning of its session. By the clock.
"""

from __future__ import annotations

import argparse
import os
import tempfile
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from loading import NOW, make, source
from trace_lens.logs.store.candidates import Window, by_windows
from trace_lens.logs.store.loading import load_file
from trace_lens.logs.store.searching import Wanted, search
from trace_lens.logs.store.store import EventStore
from trace_lens.workspace.loading import load_workspace

BEGIN = datetime(2026, 11, 9, tzinfo=UTC).timestamp()
WINDOWS = [
    Window("id", f"p{number}.tern@northmere.example", BEGIN + 600 * number, BEGIN + 600 * number + 3_600)
    for number in range(1_000)
]
DAY = {"since": datetime(2026, 11, 12, tzinfo=UTC), "until": datetime(2026, 11, 13, tzinfo=UTC)}


def questions(store: EventStore, root: Path) -> dict[str, Callable[[], int]]:
    """What is asked; each tells how many events it found."""
    known = load_workspace(root)
    return {
        "one person": lambda: len(search(store, Wanted(user="p77.tern@northmere.example"), known)),
        "one person, again": lambda: len(search(store, Wanted(user="p78.tern@northmere.example"), known)),
        "a code, one day": lambda: len(search(store, Wanted(code="D-1001", user="p5.tern", **DAY), known)),
        "1,000 windows": lambda: len(by_windows(store, "user", WINDOWS)),
    }


def main() -> None:
    parser = argparse.ArgumentParser()
    parser.add_argument("--rows", type=int, default=10_000_000)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        root = Path(name)
        (root / "trace-lens.toml").write_text("")
        file = root / "id.csv"
        make(file, options.rows, "csv")
        with EventStore(root, writing=True, files=[file]) as store:
            assert load_file(store, source("csv"), file, "id.csv", NOW).rows == options.rows
        took: dict[str, dict[str, float]] = {}
        found: dict[str, set[int]] = {}
        for engine, setting in (("DuckDB", "duckdb"), ("Spark", "spark://local[*]")):
            with EventStore(root, setting) as store:
                for question, asked in questions(store, root).items():
                    begin = time.perf_counter()
                    count = asked()
                    took.setdefault(question, {})[engine] = time.perf_counter() - begin
                    found.setdefault(question, set()).add(count)
        assert all(len(counts) == 1 for counts in found.values()), found
    print(f"{options.rows:,} rows, {os.cpu_count()} cores")
    for question, by_engine in took.items():
        told = ", ".join(f"{engine} {seconds:.2f} s" for engine, seconds in by_engine.items())
        print(f"  {question}: {min(found[question]):,} events; {told}")


if __name__ == "__main__":
    main()
