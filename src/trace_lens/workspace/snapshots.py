"""Documents as they were: metadata, discovery documents and key sets, kept with their date and digest.

    .trace-lens/snapshots/NAME-DIGEST/document.txt               which document: a file of the workspace, or an address
    .trace-lens/snapshots/NAME-DIGEST/20261117T050000Z-SHA256    its octets as of a moment

A snapshot is never overwritten, and one that holds the same as the newest is not kept again.
"""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterator
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.own_files import OWN_FOLDER, own_folder, refuse_link, write_privately

FOLDER = "snapshots"
_NAME_FILE = "document.txt"
_FORM = "%Y%m%dT%H%M%S.%fZ"
_SNAPSHOT = expression(r"(\d{8}T\d{6}\.\d{6}Z)-([0-9a-f]{64})")
_LOOPBACK = ("localhost", "127.0.0.1", "[::1]")


class Snapshot(NamedTuple):
    """A document as it was at a moment: its name, the SHA-256 of its octets, and the file that holds these."""

    document: str
    at: datetime
    sha256: str
    path: Path

    def read(self) -> bytes:
        """Its octets. Raises OSError."""
        return self.path.read_bytes()


def is_address(name: str) -> bool:
    """Whether a document is named by an address rather than as a file: https, or http on loopback."""
    scheme, found, rest = name.partition("://")
    host = re.sub(r":\d*$", "", re.split(r"[/?#]", rest, maxsplit=1)[0]).lower()
    return bool(found) and (scheme.lower() == "https" or (scheme.lower() == "http" and host in _LOOPBACK))


def snapshots_of(root: Path, document: str) -> tuple[Snapshot, ...]:
    """The snapshots of a document, the oldest first; empty where there are none."""
    return tuple(_in_folder(_folder_of(root, document), document))


def newest(root: Path, document: str) -> Snapshot | None:
    """The newest snapshot of a document."""
    return next(reversed(snapshots_of(root, document)), None)


def earlier(root: Path, document: str) -> tuple[Snapshot, ...]:
    """All snapshots of a document, the oldest first; nothing is looked for where none were ever kept."""
    return snapshots_of(root, document) if (root / OWN_FOLDER / FOLDER).is_dir() else ()


def documents(root: Path) -> tuple[str, ...]:
    """The names of all documents with snapshots."""
    folder = root / OWN_FOLDER / FOLDER
    if not folder.is_dir() or folder.is_symlink():
        return ()
    names = (file.read_text("utf-8") for file in sorted(folder.glob(f"*/{_NAME_FILE}")) if not file.is_symlink())
    return tuple(name for name in names if name)


def keep(root: Path, document: str, data: bytes, at: datetime) -> Snapshot:
    """Keep a document as of a moment; where the newest snapshot up to then is the same, that one. Raises OSError."""
    digest = hashlib.sha256(data).hexdigest()
    before = [snapshot for snapshot in snapshots_of(root, document) if snapshot.at <= at]
    if before and before[-1].sha256 == digest:
        return before[-1]
    above = own_folder(root) / FOLDER
    folder = _folder_of(root, document)
    for place in (above, folder):
        refuse_link(place)
        place.mkdir(mode=0o700, exist_ok=True)
    if not (folder / _NAME_FILE).exists():
        write_privately(folder / _NAME_FILE, document.encode())
    path = folder / f"{at.astimezone(UTC).strftime(_FORM)}-{digest}"
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0), 0o600)
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
    except BaseException:
        path.unlink(missing_ok=True)
        raise
    return Snapshot(document, at, digest, path)


def _folder_of(root: Path, document: str) -> Path:
    slug = re.sub(r"[^A-Za-z0-9]+", "-", document.removeprefix("https://"))[:48].strip("-")
    return root / OWN_FOLDER / FOLDER / f"{slug}-{hashlib.sha256(document.encode()).hexdigest()[:12]}"


def _in_folder(folder: Path, document: str) -> Iterator[Snapshot]:
    if folder.is_symlink() or not folder.is_dir():
        return
    for path in sorted(folder.iterdir()):
        match = _SNAPSHOT.fullmatch(path.name)
        if match and path.is_file() and not path.is_symlink():
            yield Snapshot(document, _moment(match[1]), match[2], path)


@lru_cache(maxsize=4096)
def _moment(text: str) -> datetime:
    return datetime.strptime(text, _FORM).replace(tzinfo=UTC)
