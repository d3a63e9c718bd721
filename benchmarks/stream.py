"""Very many captures as JSON Lines and as text: when the first line comes, how many a second, the memory of all.

Run: benchmarks/stream.py [NUMBER] [FORMAT…], 100,000 as jsonl and as text unless told. Memory is what each process has
for itself and its share of what several have (PSS), summed; one captured sign-in in twenty is broken.
"""

from __future__ import annotations

import os
import random
import re
import subprocess
import sys
import tempfile
import threading
import time
from datetime import timedelta
from functools import partial
from multiprocessing import get_context
from pathlib import Path

from lxml import etree

import worlds
from trace_lens.demo.keys import SigningKey
from trace_lens.demo.messages import Answer, response
from trace_lens.demo.scenario import BY_ID, PROVIDER
from trace_lens.demo.workspace import make_keys, write_settings

PROGRAM = str(Path(sys.executable).with_name("trace-lens"))
IN_A_FOLDER = 1_000
PEOPLE, BROKEN = 3_000, 0.05
DAY = 86_400


_keys: dict[str, SigningKey] = {}
"""The keys that sign: set before the processes are made, since keys cannot be handed over."""


def make(folder: Path, number: int) -> None:
    """The captures of one folder: form posts, each of a response of its own."""
    draw, app = random.Random(number), BY_ID["crew-roster"]
    room = folder / f"captures/{number:03d}"
    room.mkdir(parents=True)
    for count in range(IN_A_FOLDER):
        lost = draw.random() < BROKEN
        answer = Answer(
            issuer=PROVIDER,
            audience=app.entity_id[:-1] if lost else app.entity_id,
            acs_url=app.acs_url,
            name_id=f"p{draw.randrange(PEOPLE)}@northmere.example",
            issued=worlds.AT + timedelta(seconds=draw.randrange(DAY)),
            attributes={"role": ["mate"]},
        )
        (room / f"{count:05d}.txt").write_bytes(worlds.form(etree.tostring(response(answer, _keys["id-2026"], draw))))


def world(folder: Path, count: int) -> None:
    """A workspace without lists of people, and the captures."""
    _keys.update(make_keys())
    write_settings(folder, _keys)
    app = folder / "apps/crew-roster.toml"
    app.write_text(re.sub(r"(?m)^(?:list|assigned) .*$", "", app.read_text()))
    with get_context("fork").Pool() as pool:
        pool.map(partial(make, folder), range(count // IN_A_FOLDER), chunksize=1)


def memory_of(process: int) -> int:
    """Kilobytes that a process and those that it began hold."""
    told = subprocess.run(["ps", "--ppid", str(process), "-o", "pid="], capture_output=True, text=True, check=False)
    total = 0
    for one in (process, *map(int, told.stdout.split())):
        try:
            text = Path(f"/proc/{one}/smaps_rollup").read_text()
        except OSError:
            continue
        total += int(re.search(r"(?m)^Pss:\s+(\d+)", text)[1])  # type: ignore[index]
    return total


def main() -> None:
    """Make, run, and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 100_000
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        world(folder, count)
        for form in sys.argv[2:] or ("jsonl", "text"):
            measure(folder, count, form)


def measure(folder: Path, count: int, form: str) -> None:
    """Diagnose all captures in one form, and print what it took."""
    begin = time.monotonic()
    run = subprocess.Popen(
        [PROGRAM, "diagnose", "captures", "--format", form],
        cwd=folder,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
    )
    most = [0]
    told = threading.Event()

    def watch() -> None:
        told.wait(2)  # asking for the memory of processes takes a tenth of a second of their time
        while run.poll() is None:
            most[0] = max(most[0], memory_of(run.pid))
            time.sleep(0.5)

    threading.Thread(target=watch, daemon=True).start()
    lines, first = 0, 0.0
    assert run.stdout is not None
    for _ in run.stdout:
        lines += 1
        first = first or time.monotonic() - begin
        told.set()
    run.wait()
    whole = time.monotonic() - begin
    print(
        f"{form}: {lines:,} lines of {count:,} captures, the first after {first:.2f} s, {count / whole:,.0f} captures "
        f"a second on {os.cpu_count()} cores, {whole:.0f} s in all, at most {most[0] / 1024:.0f} MB",
        flush=True,
    )


if __name__ == "__main__":
    main()
