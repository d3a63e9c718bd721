"""The record beside redacted copies: which files it is about, and what arithmetic had said of their originals.

It may have come with a ticket, so it is read as anything from a stranger is: with bounds, and never as a reason to
trust. Each file is bound by its SHA-256 digest; a copy that was changed since has no record.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import json
import os
from functools import lru_cache
from pathlib import Path
from typing import Any

from trace_lens.common.recorded import Verdicts
from trace_lens.common.tuples import NamedTuple

FILE = "redaction.json"
SCHEMA = "trace-lens/redaction/1"
_MOST_BYTES = 64 * 1024 * 1024


class Recorded(NamedTuple):
    """What one record says: the folder it lies in, the digest of each file by its name, the files of settings beside
    them, the marks of what held, what was inside.
    """

    folder: Path
    digests: dict[str, str]
    settings: tuple[str, ...]
    held: frozenset[str]
    inside: dict[str, bytes | None]

    @property
    def files(self) -> tuple[str, ...]:
        """The names of the copies."""
        return tuple(self.digests)


def recorded_in(folder: str | Path) -> Recorded | None:
    """The record in a folder; None where none is there that can be read."""
    path = os.path.join(folder, FILE)  # asked of every source: a Path takes longer than the question
    try:
        found = os.stat(path)
    except OSError:
        return None
    if found.st_size > _MOST_BYTES:
        return None
    return _read(Path(path), found.st_mtime_ns, found.st_size)


def record_of(path: str | Path, data: bytes | None = None) -> Recorded | None:
    """The record of a copy; None where there is none, or it is about another content. Raises OSError."""
    recorded = recorded_in(os.path.dirname(path) or os.curdir)
    digest = recorded.digests.get(os.path.basename(path)) if recorded else None
    if digest is None:
        return None
    if data is not None:
        own = hashlib.sha256(data).hexdigest()
    else:
        with open(path, "rb") as stream:
            own = hashlib.file_digest(stream, "sha256").hexdigest()
    return recorded if own == digest else None


def verdicts_of(records: list[Recorded]) -> Verdicts | None:
    """The verdicts of some records together; None where there are no records."""
    if not records:
        return None
    held = frozenset().union(*(record.held for record in records))
    return Verdicts(held, {mark: told for record in records for mark, told in record.inside.items()})


@lru_cache(maxsize=64)
def _read(path: Path, _: int, __: int) -> Recorded | None:
    try:
        told = json.loads(path.read_bytes())
    except (OSError, ValueError, RecursionError):
        return None
    if not isinstance(told, dict) or told.get("schema") != SCHEMA:
        return None
    verdicts = told.get("verdicts")
    verdicts = verdicts if isinstance(verdicts, dict) else {}
    digests = {
        str(file["written"]): str(file.get("sha256"))
        for file in _dicts(told.get("files"))
        if isinstance(file.get("written"), str)
    }
    held = verdicts.get("held")
    settings = told.get("settings")
    return Recorded(
        path.parent.resolve(),
        digests,
        tuple(name for name in settings if isinstance(name, str)) if isinstance(settings, list) else (),
        frozenset(mark for mark in held if isinstance(mark, str)) if isinstance(held, list) else frozenset(),
        dict(_inside(verdicts.get("inside"))),
    )


def _dicts(value: Any) -> list[dict[str, Any]]:
    return [item for item in value if isinstance(item, dict)] if isinstance(value, list) else []


def _inside(value: Any) -> list[tuple[str, bytes | None]]:
    found: list[tuple[str, bytes | None]] = []
    for mark, text in value.items() if isinstance(value, dict) else ():
        if text is None:
            found.append((mark, None))
        elif isinstance(text, str):
            try:
                found.append((mark, base64.b64decode(text, validate=True)))
            except (binascii.Error, ValueError):
                continue
    return found
