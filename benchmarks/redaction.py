"""Memory and time for redacting a browser export of 500 MB with 150,000 entries and three sign-ins in it.

Prints the sizes, the seconds, MB a second, the peak memory of the process, and whether the copy diagnoses the same.
Run: .venv/bin/python benchmarks/redaction.py [MEGABYTES OF BODIES] [ENTRIES]
"""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path

from export import PROGRAM, peak_and_seconds, write_export
from trace_lens.demo.captures import captures
from trace_lens.demo.workspace import make_keys, write_settings

MOST_MEMORY = 400


def main() -> None:
    """Make the export, redact it, print the figures."""
    megabytes = int(sys.argv[1]) if len(sys.argv) > 1 else 375
    count = int(sys.argv[2]) if len(sys.argv) > 2 else 150_000
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
        command = [str(PROGRAM), "redact", "long.har", "--output", "copy", "--with-settings"]
        memory, seconds, _ = peak_and_seconds(command, folder)
        record = json.loads((folder / "copy" / "redaction.json").read_text())
        size, made = (path.stat().st_size / 1_000_000 for path in (file, folder / "copy" / "long.har"))
    print(f"export: {size:.0f} MB, {count + len(entries):,} entries; copy: {made:.0f} MB")
    print(f"redact: {seconds:.1f} s, {size / seconds:.1f} MB/s; diagnoses the same: {record['diagnosis']['same']}")
    print(f"peak memory: {memory:.0f} MB (to reach: under {MOST_MEMORY})")
    if memory > MOST_MEMORY or not record["diagnosis"]["same"]:
        sys.exit(1)


if __name__ == "__main__":
    main()
