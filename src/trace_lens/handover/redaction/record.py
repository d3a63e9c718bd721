"""What is told of copies: `redaction.json`, which lies beside them (`trace-lens/redaction/1`)."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable
from datetime import datetime
from typing import Any

from trace_lens.common.recorded import Replaying
from trace_lens.common.tuples import NamedTuple
from trace_lens.common.version import __version__
from trace_lens.workspace.redactions import SCHEMA


class CopiedFile(NamedTuple):
    """One copy: the name of its source and its own, both without people, its SHA-256 digest, and how often what was
    replaced in it, by kind.
    """

    source: str
    written: str
    sha256: str
    kinds: dict[str, int]


class Copies(NamedTuple):
    """What came of a redaction. `leaks` are what the last search found; nothing is written then.

    `left_out` are sources that were not copied, with the reason. `settings` are the files of the small workspace.
    `same` says whether the copies diagnose as their originals; None where there was nothing to diagnose. `differing`
    says in what they do not. `without` is what neither was asked of, since it is not handed over.
    """

    files: tuple[CopiedFile, ...]
    leaks: tuple[str, ...]
    left_out: tuple[tuple[str, str], ...]
    settings: tuple[str, ...]
    same: bool | None
    differing: tuple[str, ...]
    without: tuple[str, ...] = ()


def record_text(copies: Copies, replaying: Replaying, now: datetime) -> str:
    """The record, as JSON."""
    told = {
        "schema": SCHEMA,
        "made_at": now.strftime("%Y-%m-%dT%H:%M:%SZ"),
        "made_by": f"trace-lens {__version__}",
        "files": [file._asdict() for file in copies.files],
        "leaks": len(copies.leaks),
        "left_out": [{"source": source, "because": because} for source, because in copies.left_out],
        "settings": list(copies.settings),
        "diagnosis": {"same": copies.same, "differing": list(copies.differing), "without": list(copies.without)},
        "verdicts": {
            "held": sorted(replaying.held),
            "inside": {
                mark: None if octets is None else base64.b64encode(octets).decode()
                for mark, octets in sorted(replaying.inside.items())
            },
        },
    }
    return _text(told)


def with_earlier(new: str, earlier: str, there: Callable[[str], bool]) -> str:
    """A record with what an earlier one in the same folder says of copies that are still `there`."""
    told, before = json.loads(new), json.loads(earlier)
    fresh = {file["written"] for file in told["files"]}
    kept = [file for file in before["files"] if file["written"] not in fresh and there(file["written"])]
    if not kept:
        return new
    told["files"] = [*kept, *told["files"]]
    told["settings"] = sorted({*before.get("settings", ()), *told["settings"]})
    own, other = told["verdicts"], before.get("verdicts", {})
    own["held"] = sorted({*other.get("held", ()), *own["held"]})
    own["inside"] = {**other.get("inside", {}), **own["inside"]}
    return _text(told)


def without_names(record: str) -> str:
    """A record without the names of files: out of these people were taken, and whoever named them chose the rest."""
    told = json.loads(record)
    told["files"] = [{**file, "source": "", "written": ""} for file in told["files"]]
    told["left_out"] = [{**one, "source": ""} for one in told["left_out"]]
    return _text(told)


def _text(told: dict[str, Any]) -> str:
    return json.dumps(told, indent=1, ensure_ascii=False) + "\n"
