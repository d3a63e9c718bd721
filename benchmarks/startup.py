"""Start-up and whole-process time against bare imports; the fastest of several runs of each, taken in turn."""

from __future__ import annotations

import compileall
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import trace_lens
from trace_lens.demo.workspace import write_demo

RUNS = 25


def milliseconds(commands: dict[str, list[str]], folder: Path) -> dict[str, float]:
    """The fastest wall time of each command in milliseconds; the commands take turns, so that noise hits all alike."""
    best = dict.fromkeys(commands, float("inf"))
    for _ in range(RUNS):
        for name, command in commands.items():
            start = time.perf_counter()
            subprocess.run(command, cwd=folder, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False)
            best[name] = min(best[name], (time.perf_counter() - start) * 1000)
    return best


def main() -> None:
    """Measure and print."""
    compileall.compile_dir(Path(trace_lens.__file__).parent, quiet=1)
    program = str(Path(sys.executable).with_name("trace-lens"))
    capture = "captures/01-crew-roster-works.txt"
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "demo"
        write_demo(folder)
        subprocess.run([program, "diagnose", capture], cwd=folder, stdout=subprocess.DEVNULL, check=True)
        times = milliseconds(
            {
                "import click": [sys.executable, "-c", "import click"],
                "trace-lens --version": [program, "--version"],
                "import click, lxml.etree, cryptography.x509": [
                    sys.executable,
                    "-c",
                    "import click, lxml.etree, cryptography.x509",
                ],
                "diagnose, text": [program, "diagnose", capture],
                "diagnose, JSON": [program, "diagnose", capture, "--format", "json"],
                "diagnose, an ID token": [program, "diagnose", "captures/47-deck-log-works-powerful.txt"],
                "diagnose, text, one that breaks": [program, "diagnose", "captures/04-crew-roster-slash-lost.txt"],
            },
            folder,
        )
    floors = {"trace-lens --version": ("import click", 1.5)}
    for name, value in times.items():
        floor, reach = floors.get(name, ("import click, lxml.etree, cryptography.x509", 2.5))
        ratio = f"{value / times[floor]:.2f} times the floor (to reach: {reach})" if "import" not in name else "floor"
        print(f"{value:8.1f} ms  {name:48} {ratio}")


if __name__ == "__main__":
    main()
