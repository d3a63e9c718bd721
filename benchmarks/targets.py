"""All targets of speed in one table: each figure beside its floor, by processor time, with what is to be reached.

Run: benchmarks/run [--instructions] [--long]. With `--instructions` the rates are measured a second time in
instructions, where valgrind is there (minutes): these do not depend on what else the machine does.
"""

from __future__ import annotations

import base64
import compileall
import os
import re
import resource
import shutil
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from functools import partial
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple
from urllib.parse import unquote_to_bytes

import trace_lens
import worlds
from trace_lens.cli import collect_rarely

PROGRAM = str(Path(sys.executable).with_name("trace-lens"))
IMPORTS = [sys.executable, "-c", "import click, lxml.etree, cryptography.x509"]
MESSAGES, ROUNDS = 400, 7


class Row(NamedTuple):
    """One line of the table: what was measured, beside what, the ratio, and what is to be reached."""

    what: str
    measured: str
    ratio: float
    reach: float
    more_is_better: bool = False

    @property
    def line(self) -> str:
        """The line as it is printed."""
        sign = ">=" if self.more_is_better else "<="
        held = self.ratio >= self.reach if self.more_is_better else self.ratio <= self.reach
        return (
            f"| {self.what} | {self.measured} | {self.ratio:.2f} | {sign} {self.reach:g} | {'yes' if held else 'no'} |"
        )


def in_turns(bare: Callable[[], float], whole: Callable[[], float], rounds: int = ROUNDS) -> tuple[float, float]:
    """Seconds of both, one right after the other, so many times: of these pairs the one with the middle ratio. Where a
    machine stalls, the least of each may be of different hours.
    """
    pairs = sorted(((bare(), whole()) for _ in range(rounds)), key=lambda pair: pair[1] / pair[0])
    return pairs[rounds // 2]


def cpu_of(command: list[str], folder: Path) -> float:
    """Processor seconds of a process, user and system."""
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


def processes(folder: Path, loaded: Path) -> Iterator[Row]:
    """Whole processes, each against bare imports."""
    response, token = "captures/01-crew-roster-works.txt", "captures/47-deck-log-works-powerful.txt"
    commands = {
        "trace-lens --version": ([PROGRAM, "--version"], folder, 1.0),
        "trace-lens explain": ([PROGRAM, "explain", "audience-mismatch"], folder, 1.0),
        "trace-lens apps list": ([PROGRAM, "apps", "list"], folder, 1.0),
        "diagnose one SAML response": ([PROGRAM, "diagnose", response], folder, 2.0),
        "diagnose one ID token": ([PROGRAM, "diagnose", token], folder, 2.0),
        "the response beside the demo's logs": ([PROGRAM, "diagnose", response], loaded, 4.5),
    }
    for what, (command, there, reach) in commands.items():
        bare, whole = in_turns(partial(cpu_of, IMPORTS, folder), partial(cpu_of, command, there))
        yield Row(what, f"{whole * 1000:.0f} ms, imports {bare * 1000:.0f} ms", whole / bare, reach)


def rates(world: worlds.World) -> Iterator[Row]:
    """Messages a second on one core, each kind against the form floor."""
    kinds: dict[str, tuple[Callable[[], object], float]] = {
        "sound forms, in a summary": (lambda: world.judge(world.forms, brief=True), 0.5),
        "sound XML, in a summary": (lambda: world.judge(world.xml, brief=True), 0.5),
        "broken forms, all for one cause, in a summary": (lambda: world.judge(world.broken, brief=True), 0.15),
        "ID tokens, in a summary": (lambda: world.judge(world.tokens, brief=True), 0.3),
        "sound forms, as JSON Lines": (lambda: world.lines(world.forms), 0.5),
        "broken forms, as JSON Lines": (lambda: world.lines(world.broken), 0.15),
        "ID tokens, as JSON Lines": (lambda: world.lines(world.tokens), 0.3),
        "sound forms, each of another person, as JSON Lines": (lambda: world.lines(world.messages["people"]), 0.5),
    }
    for what, (work, _) in kinds.items():
        told = work()
        assert isinstance(told, int) or told == {"broken" if what.startswith("broken") else "sound"}, what
    for what, (work, reach) in kinds.items():
        bare, spent = in_turns(partial(timed, partial(floor, world)), partial(timed, work))
        shown = f"{spent / MESSAGES * 1e6:.0f} us each, form floor {bare / MESSAGES * 1e6:.0f} us"
        yield Row(what, shown, bare / spent, reach, more_is_better=True)


def floor(world: worlds.World) -> None:
    """URL- and base64-decode, parse, canonicalise, digest, verify, in a bare loop."""
    for form in world.forms:
        worlds.bare(base64.b64decode(unquote_to_bytes(form.partition(b"=")[2])), world.key)


def growth(folder: Path) -> Iterator[Row]:
    """The most that processor time grows by with each of five doublings, from a size that takes long enough; of
    each size the least of five, a pass over all sizes at a time.
    """
    for what, make in worlds.GROWING.items():
        sizes = [make(folder, 2**doubling) for doubling in range(6)]
        passes = [[timed(work) for work in sizes] for _ in range(5)]
        spent = [min(taken) for taken in zip(*passes, strict=True)]
        factors = [after / before for before, after in pairwise(spent)]
        shown = ", ".join(f"{seconds * 1000:.0f}" for seconds in spent)
        yield Row(f"doubling {what}", f"{shown} ms", max(factors), 2.2)


def timed(work: Callable[[], object]) -> float:
    """Processor seconds of some work."""
    begin = time.process_time()
    work()
    return time.process_time() - begin


def flatness(folder: Path) -> Iterator[Row]:
    """Processor time a message with 1,000 applications on record against that with 20."""
    few, many = (worlds.make(folder / str(count), MESSAGES, count) for count in (20, 1_000))
    for kind in ("forms", "broken"):
        judging = [partial(world.judge, world.messages[kind]) for world in (few, many)]
        for judge in judging:
            judge()  # the settings are compared by then
        bare, spent = in_turns(*(partial(timed, judge) for judge in judging))
        shown = f"{spent / MESSAGES * 1e6:.0f} us each, {bare / MESSAGES * 1e6:.0f} us with 20"
        yield Row(f"{kind} with 1,000 applications against 20", shown, spent / bare, 1.1)


def export(folder: Path) -> Iterator[Row]:
    """An export of 100 MB against ijson alone."""
    worlds.long_export(folder / "long.har", 100, 24_000)
    bare = "import ijson; sum(1 for _ in ijson.items(open('long.har', 'rb'), 'log.entries.item'))"
    commands = [sys.executable, "-c", bare], [PROGRAM, "diagnose", "long.har"]
    alone, whole = in_turns(*(partial(cpu_of, command, folder) for command in commands), rounds=5)
    yield Row("an export of 100 MB", f"{whole:.1f} s, ijson {alone:.1f} s", whole / alone, 2.5)


def instructions() -> Iterator[str]:
    """Instructions a message, from the difference of two runs, and the ratio to the form floor."""
    if not shutil.which("valgrind"):
        yield "valgrind is not there, so no instructions were counted"
        return
    with tempfile.TemporaryDirectory() as name:
        worlds.make(Path(name), worlds.SUMMARY + 120, 20).keep()
        counted = {what: _count(name, what) for what in ("floor", *worlds.KINDS)}
    for what, count in counted.items():
        yield f"| {what} | {count / 1e6:.2f} million | {counted['floor'] / count:.2f} |"


def _count(folder: str, what: str) -> float:
    few, many = 20, 120
    told = []
    for number in (few, many):
        command = ["valgrind", "--tool=cachegrind", "--cache-sim=no", "--cachegrind-out-file=/dev/null", sys.executable]
        command += [str(Path(worlds.__file__)), folder, what, str(number)]
        done = subprocess.run(command, capture_output=True, text=True, check=True)
        found = re.search(r"I\s+refs:\s+([\d,]+)", done.stderr)
        assert found, done.stderr
        told.append(int(found[1].replace(",", "")))
    return (told[1] - told[0]) / (many - few)


def main() -> None:
    """Measure and print."""
    collect_rarely()  # as the program itself does
    compileall.compile_dir(Path(trace_lens.__file__).parent, quiet=1)
    os.environ["XDG_CACHE_HOME"] = tempfile.mkdtemp(prefix="trace-lens-bench-")
    print("| what | measured | ratio | to reach | reached |\n|---|---|---|---|---|")
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        plain, loaded = worlds.demo(folder / "plain", logs=False), worlds.demo(folder / "loaded", logs=True)
        world = worlds.make(folder / "many", MESSAGES, 20)
        parts = (processes(plain, loaded), rates(world), flatness(folder), growth(folder), export(world.folder))
        for row in (row for part in parts for row in part):
            print(row.line, flush=True)
    if "--instructions" in sys.argv:
        print("\n| what | instructions a message | of the form floor |\n|---|---|---|")
        for line in instructions():
            print(line, flush=True)


if __name__ == "__main__":
    main()
