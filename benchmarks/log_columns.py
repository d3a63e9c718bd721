"""How well the columns of log files are recognised that no description names: made-up exports, column by column.

    python benchmarks/log_columns.py [SEEDS] [--show]

For each export: of the fields that it tells, those whose column was found; those that were read from a wrong column, or
that it does not tell; of its columns of ids, those found; whether the words of the outcome are right, and whose log it
is. With --show, what is wrong is named.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

from trace_lens.diagnosis.carried import carried_by_captures
from trace_lens.logs.recognising.checking import check
from trace_lens.logs.recognising.known import Known, known_to
from trace_lens.workspace.loading import load_workspace
from unknown_exports import Export, exports, nameless


class Score(NamedTuple):
    """What is right of one export: counts of fields told, found, and wrong; of ids; words; owner."""

    told: int
    found: int
    wrong: int
    ids: int
    ids_found: int
    words: bool
    owner: bool


def scored(export: Export, known: Known | None, folder: Path) -> tuple[Score, list[str]]:
    """How well one export was recognised, and what of it is wrong."""
    path = folder / export.file
    path.write_bytes(export.content)
    proposal = check(path, None, known).proposal
    assert proposal is not None
    settings = proposal.settings()
    fields = dict(settings["fields"])
    ids = fields.pop("ids", [])
    got = {field: " ".join(column) if isinstance(column, list) else column for field, column in fields.items()}
    faults = [
        f"{field}: {got.get(field)} instead of {' or '.join(columns)}"
        for field, columns in export.fields.items()
        if got.get(field) not in columns
    ]
    # a column may be read as a second field (a status as outcome and code); what no column tells must not be told
    extra = [
        f"{field}: {column}, which it does not hold" for field, column in got.items() if field not in export.fields
    ]
    wrong = sum(field in got and got[field] not in columns for field, columns in export.fields.items()) + len(extra)
    outcomes = settings.get("outcomes", {"success": [], "failure": []})
    said = (set(outcomes["success"]), set(outcomes["failure"]))
    words = said == (set(export.success), set(export.failure))
    owner = settings["role"] == export.role and settings.get("app") == export.app
    faults += extra
    faults += [] if words else [f"words: {said}"]
    faults += [] if owner else [f"owner: {proposal.owner}"]
    faults += [f"ids: {column} not found" for column in export.ids if column not in ids]
    score = Score(
        told=len(export.fields),
        found=sum(got.get(field) in columns for field, columns in export.fields.items()),
        wrong=wrong,
        ids=len(export.ids),
        ids_found=sum(column in ids for column in export.ids),
        words=words,
        owner=owner,
    )
    return score, faults


def main() -> None:
    numbers = [int(word) for word in sys.argv[1:] if word.isdigit()]
    seeds, show = (numbers or [5])[0], "--show" in sys.argv
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        subprocess.run(
            [sys.executable, "-m", "trace_lens", "demo", "story"], cwd=folder, check=True, capture_output=True
        )
        workspace = load_workspace(folder / "story")
        now = datetime(2026, 11, 28, tzinfo=UTC)
        carried = carried_by_captures(workspace, now)
        here = known_to(workspace, carried)
        ways = (
            ("on record", here, False),
            ("on record, columns without names", here, True),
            ("no workspace", None, False),
        )
        for what, known, blind in ways:
            totals: list[Score] = []
            print(f"\n{what}\n{'export':28} {'fields':>9} {'wrong':>5} {'ids':>7} words owner")
            by_name: dict[str, list[Score]] = {}
            for seed in range(1, seeds + 1):
                for named in exports(workspace, sorted(carried), seed):
                    export = nameless(named) if blind else named
                    if export is None:
                        continue
                    score, faults = scored(export, known, folder)
                    by_name.setdefault(export.name, []).append(score)
                    for fault in faults if show else ():
                        print(f"  {export.name}, seed {seed}: {fault}")
            for export_name, some in by_name.items():
                print(line(export_name, some))
                totals += some
            print(line("all", totals))


def line(name: str, some: list[Score]) -> str:
    """One line of the table."""

    def total(key: str) -> int:
        return sum(getattr(score, key) for score in some)

    return (
        f"{name:28} {total('found'):4}/{total('told'):<4} {total('wrong'):5} {total('ids_found'):3}/{total('ids'):<3} "
        f"{total('words'):2}/{len(some):<2} {total('owner'):2}/{len(some):<2}"
    )


if __name__ == "__main__":
    main()
