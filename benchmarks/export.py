"""Memory and time for a browser export of 500 MB with 200,000 entries and three sign-ins in it.

Prints the size, the seconds, entries a second, the ratio to ijson alone over the same file, and the peak memory of the
process. Run: .venv/bin/python benchmarks/export.py [MEGABYTES] [ENTRIES]
"""

from __future__ import annotations

import base64
import json
import os
import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import IO, Any

from trace_lens.demo.captures import captures
from trace_lens.demo.workspace import make_keys, write_settings

PROGRAM = Path(sys.executable).with_name("trace-lens")
KINDS = (
    ("image", "image/png", 0.4),
    ("script", "text/javascript", 0.15),
    ("xhr", "application/json", 0.35),
    ("document", "text/html", 0.1),
)


def write_export(stream: IO[str], entries: list[dict[str, Any]], megabytes: int, count: int) -> None:
    """The sign-ins' entries spread over a long export of a browser at work."""
    draw = random.Random(7)
    size = megabytes * 1_000_000 // count
    blob = base64.b64encode(draw.randbytes(1_000_000)).decode()
    rows = json.dumps([{"id": n, "name": f"berth {n}", "code": "x" * 20} for n in range(2000)])
    stream.write('{"log": {"version": "1.2", "creator": {"name": "panel 1", "version": "1"}, "entries": [\n')
    begin = time.mktime((2026, 11, 18, 6, 0, 0, 0, 0, 0))
    every = count // len(entries)
    left = list(entries)
    for number in range(count):
        if number % every == every - 1 and left:
            stream.write(json.dumps(left.pop(0)) + ",\n")
        kind, media, _ = draw.choices(KINDS, [share for *_, share in KINDS])[0]
        length = draw.randrange(size // 2, size * 3 // 2)
        text = (blob if kind == "image" else rows)[:length]
        moment = time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(begin + number)) + f".{number % 1000:03d}Z"
        entry = {
            "startedDateTime": moment,
            "time": 31.5,
            "request": {
                "method": "GET",
                "url": f"https://berths.northmere.example/{kind}/{number}",
                "headers": [{"name": "Accept", "value": "*/*"}, {"name": "Cookie", "value": "bsid=1"}],
                "cookies": [],
                "queryString": [],
                "headersSize": -1,
                "bodySize": 0,
            },
            "response": {
                "status": 200,
                "statusText": "",
                "headers": [{"name": "Content-Type", "value": media}],
                "cookies": [],
                "redirectURL": "",
                "content": {
                    "size": length,
                    "mimeType": media,
                    "text": text,
                    **({"encoding": "base64"} if kind == "image" else {}),
                },
            },
            "timings": {"send": 0, "wait": 30, "receive": 1.5},
            "_resourceType": kind,
        }
        stream.write(json.dumps(entry) + (",\n" if number < count - 1 else "\n"))
    stream.write("]}}\n")


def peak_and_seconds(command: list[str], folder: Path) -> tuple[float, float, bytes]:
    """Peak memory in MB, seconds and output of a process."""
    begin = time.perf_counter()
    done = subprocess.Popen(command, cwd=folder, stdout=subprocess.PIPE)
    out = done.stdout.read() if done.stdout else b""
    _, _, used = os.wait4(done.pid, 0)
    return used.ru_maxrss / 1024, time.perf_counter() - begin, out


def main() -> None:
    """Make the export, read it, print the figures."""
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    count = int(sys.argv[2]) if len(sys.argv) > 2 else 200_000
    keys = make_keys()
    signs = [one.data for one, _ in captures(keys) if one.file[:2] in ("50", "51", "55")]
    entries = [entry for data in signs for entry in json.loads(data)["log"]["entries"]]
    entries.sort(key=lambda one: str(one["startedDateTime"]))
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        write_settings(folder, keys)
        file = folder / "long.har"
        with file.open("w") as stream:
            write_export(stream, entries, megabytes, count)
        size = file.stat().st_size / 1_000_000
        bare = "import ijson; f = open('long.har', 'rb'); print(sum(1 for _ in ijson.items(f, 'log.entries.item')))"
        floor_memory, floor, _ = peak_and_seconds([sys.executable, "-c", bare], folder)
        memory, seconds, out = peak_and_seconds([str(PROGRAM), "diagnose", "long.har", "--format", "json"], folder)
        found = json.loads(out)["attempts"]
    told = [(one["app"], one["first_break"], len(one["hops"])) for one in found]
    print(f"export: {size:.0f} MB, {count + len(entries):,} entries, {len(found)} sign-ins found: {told}")
    print(f"ijson alone: {floor:.1f} s, {floor_memory:.0f} MB")
    print(f"diagnose: {seconds:.1f} s ({seconds / floor:.2f} x ijson alone), {size / seconds:.0f} MB/s")
    print(f"peak memory: {memory:.0f} MB (to reach: under 300)")
    if memory > 300:
        sys.exit(1)


if __name__ == "__main__":
    main()
