"""Writes the examples of JSON in docs/examples that come from the demo: `python tools/examples.py`, then reference.py.

Each is the output of a command, shortened: of a list of objects the first few stay.
"""

from __future__ import annotations

import gzip
import json
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

PLACE = Path(__file__).resolve().parent.parent / "docs/examples"
CAPTURE = "captures/51-shore-tours-cookie-samesite.har"
COMMANDS = {
    "diagnosis": ("diagnose", CAPTURE),
    "timeline": ("timeline", CAPTURE),
    "log-check": ("logs", "check", "export.csv"),
    "expiry": ("expiry", "--now", "2026-11-22T00:00Z"),
    "fleet": ("fleet", "--now", "2026-11-22T00:00Z"),
    "drift": ("drift", "metadata/northmere-id.xml", "--since", "2026-11-16T12:00Z", "--now", "2026-11-22T00:00Z"),
    "events": ("logs", "search", "--user", "a.fulmar", "--app", "shore-tours", "--since", "2026-11-18"),
}
EXPORT = "Zeitpunkt,Konto,Ziel,Ergebnis,Nr,Text,Von,Anfrage,Sitzung"
"""The columns of an export that no description names: the provider's log in other words."""
KEEP = {
    "hops": 2,
    "findings": 1,
    "unchecked": 1,
    "evidence": 1,
    "events": 2,
    "clocks": 2,
    "windows": 1,
    "claims": 2,
    "columns": 3,
    "dates": 2,
    "hits": 2,
    "apps": 3,
    "applications": 1,
    "causes": 2,
    "near": 2,
}


def shortened(value: Any, name: str = "") -> Any:
    """A document with its lists of objects cut."""
    if isinstance(value, dict):
        return {key: shortened(one, key) for key, one in value.items()}
    if isinstance(value, list):
        objects = bool(value) and isinstance(value[0], dict)
        return [shortened(one) for one in value[: KEEP.get(name, len(value)) if objects else len(value)]]
    return value


def main() -> None:
    """Make the demo in a temporary folder and write the examples."""
    program = str(Path(sys.executable).with_name("trace-lens"))
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([program, "demo", "demo"], cwd=folder, check=True, capture_output=True)
        rows = gzip.decompress(Path(folder, "demo/logs/northmere-id-2026-11.csv.gz").read_bytes()).splitlines()[1:400]
        Path(folder, "demo/export.csv").write_bytes(b"\n".join([EXPORT.encode(), *rows, b""]))
        for name, command in COMMANDS.items():
            line = [program, *command, "--format", "json"]
            done = subprocess.run(line, cwd=f"{folder}/demo", check=False, capture_output=True)
            text = json.dumps(shortened(json.loads(done.stdout)), indent=1, ensure_ascii=False)
            (PLACE / f"{name}.json").write_text(text + "\n", "utf-8")
        line = [program, "redact", CAPTURE, "--output", "copy", "--key-file", "redaction.key"]
        subprocess.run(line, cwd=f"{folder}/demo", check=True, capture_output=True)
        record = shortened(json.loads(Path(folder, "demo/copy/redaction.json").read_text("utf-8")))
        record["verdicts"]["held"] = record["verdicts"]["held"][:2]
        (PLACE / "redaction.json").write_text(json.dumps(record, indent=1, ensure_ascii=False) + "\n", "utf-8")


if __name__ == "__main__":
    main()
