"""CPU time and memory of a command for ten megabytes of every hostile text.

`python benchmarks/hostile.py [COMMAND] [MB] [NAME…]`; the command is `decode` unless it is named.

Each text of tests/hostile_texts.py is written to a file and read by the program as a process of its own. Printed are
the CPU seconds, the largest memory in MB, the exit status, and what was beyond a limit; at the end those that took
longer than 10 s or more than 500 MB, and the exit status is 1 where there is one.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

from hostile_texts import HOSTILE

LONGEST, LARGEST = 10.0, 500.0


def measure(arguments: list[str]) -> tuple[float, float, int, bytes]:
    """CPU seconds, largest memory in MB, exit status and standard output of one run of the program."""
    with tempfile.TemporaryFile() as output, tempfile.TemporaryFile() as errors:
        process = os.posix_spawn(
            sys.executable,
            [sys.executable, "-m", "trace_lens", *arguments],
            os.environ,
            file_actions=[(os.POSIX_SPAWN_DUP2, output.fileno(), 1), (os.POSIX_SPAWN_DUP2, errors.fileno(), 2)],
        )
        _, status, used = os.wait4(process, 0)
        output.seek(0)
        return used.ru_utime + used.ru_stime, used.ru_maxrss / 1024, os.waitstatus_to_exitcode(status), output.read()


def _write(path: Path, make: Callable[[int], bytes], octets: int) -> None:
    """Make the text in a process of its own: what a process has used counts for those that it starts, too."""
    path.write_bytes(make(octets)[:octets])


def main() -> None:
    """Measure every text, or those whose names are given."""
    words = sys.argv[1:]
    command = words.pop(0) if words and words[0].isalpha() else "decode"
    octets = int(float(words.pop(0)) * 1_000_000) if words else 10_000_000
    beyond = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "hostile.txt"
        for name, make in HOSTILE.items():
            if words and name not in words:
                continue
            making = multiprocessing.Process(target=_write, args=(path, make, octets))
            making.start()
            making.join()
            seconds, megabytes, status, output = measure([command, str(path), "--format", "json"])
            told = json.loads(output)["unreadable"] if status in (0, 1, 3) else [{"because": "no result"}]
            because = "; ".join(entry["because"] for entry in told)[:100]
            figures = f"{seconds:7.1f} s {megabytes:7.0f} MB  exit {status}  {len(output):>9,} bytes"
            print(f"{name:36}{figures}  {because}", flush=True)
            if seconds > LONGEST or megabytes > LARGEST or status not in (0, 1, 3):
                beyond.append(name)
    print("beyond the law:", ", ".join(beyond) or "none")
    raise SystemExit(bool(beyond))


if __name__ == "__main__":
    main()
