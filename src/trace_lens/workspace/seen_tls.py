"""The TLS certificates that the last probes saw, host by host: `.trace-lens/tls.json`."""

from __future__ import annotations

import json
from collections.abc import Iterable
from datetime import datetime
from pathlib import Path

from trace_lens.common.moments import MomentError, read_moment, show_moment
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.own_files import OWN_FOLDER, own_folder, write_privately

FILE = "tls.json"


class SeenTls(NamedTuple):
    """A certificate of a host (`host:port`): its fingerprint, its end, when it was seen, which applications use it."""

    host: str
    sha256: str
    not_after: datetime
    seen: datetime
    apps: tuple[str, ...]


def seen_tls(root: Path) -> tuple[SeenTls, ...]:
    """What was kept, by host; empty where nothing was, or it cannot be read."""
    try:
        told = json.loads((root / OWN_FOLDER / FILE).read_bytes())
        return tuple(
            SeenTls(
                host=str(item["host"]),
                sha256=str(item["sha256"]),
                not_after=read_moment(item["not_after"])[0],
                seen=read_moment(item["seen"])[0],
                apps=tuple(map(str, item["apps"])),
            )
            for item in told
        )
    except (OSError, ValueError, KeyError, TypeError, MomentError):
        return ()


def keep_seen(root: Path, found: Iterable[SeenTls]) -> None:
    """Keep what was seen now, beside that of other hosts. Raises OSError."""
    fresh = {item.host: item for item in found}
    if not fresh:
        return
    held = {item.host: item for item in seen_tls(root)}
    told = [
        {
            **item._asdict(),
            "not_after": show_moment(item.not_after),
            "seen": show_moment(item.seen),
            "apps": list(item.apps),
        }
        for _, item in sorted((held | fresh).items())
    ]
    write_privately(own_folder(root) / FILE, json.dumps(told, indent=1).encode())
