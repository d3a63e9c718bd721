"""The certificates of the stand-in: an authority of its own, one below it, and what servers show, sound or at fault."""

from __future__ import annotations

import ssl
from datetime import UTC, datetime, timedelta
from pathlib import Path

from trace_lens.live.certificates import make_certificate, server_context

SOUND, OTHER_NAME, ENDED, ALONE = "sound", "tls-name", "tls-expired", "tls-no-intermediate"
_DAY = timedelta(days=1)


def make_contexts(folder: Path) -> dict[str, ssl.SSLContext]:
    """The authority's certificate as `authority.pem` in a folder, and what a server shows, by what is wrong with it."""
    now = datetime.now(UTC)
    root = make_certificate("Authority of the stand-in", None, now - _DAY, now + 3650 * _DAY, ca=True)
    between = make_certificate("Intermediate of the stand-in", root, now - _DAY, now + 3650 * _DAY, ca=True)
    (folder / "authority.pem").write_bytes(root.pem)
    names, other = ("localhost", "127.0.0.1"), ("other.northmere.example",)
    sound = make_certificate("stand-in", between, now - _DAY, now + 90 * _DAY, names)
    shown = {
        SOUND: (sound, between.pem),
        OTHER_NAME: (make_certificate("other", between, now - _DAY, now + 90 * _DAY, other), between.pem),
        ENDED: (make_certificate("stand-in", between, now - 90 * _DAY, now - 2 * _DAY, names), between.pem),
        ALONE: (make_certificate("stand-in", between, now - _DAY, now + 90 * _DAY, names), b""),
    }
    return {name: server_context(folder / f"{name}.pem", held, chain) for name, (held, chain) in shown.items()}
