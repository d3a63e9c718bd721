"""The files that the program keeps for itself: for its user only, written anew, never through a link.

What lies in a workspace may come from a stranger. A linked `.trace-lens/` would lead the program's writing elsewhere,
so it is refused. File modes and O_NOFOLLOW are those of POSIX.
"""

from __future__ import annotations

import os
import secrets
import stat
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

OWN_FOLDER = ".trace-lens"
_IGNORE = b"*\n"


class LinkRefused(OSError):
    """A place that the program would write to is a link."""

    def __init__(self, path: Path) -> None:
        super().__init__(f"{path} is a link; it is not followed. Remove it, and run the command again")


def own_folder(root: Path) -> Path:
    """The program's folder in a workspace, made where it is missing, for its user only. Raises OSError."""
    folder = root / OWN_FOLDER
    refuse_link(folder)
    folder.mkdir(mode=0o700, exist_ok=True)
    if stat.S_IMODE(folder.stat().st_mode) & 0o077:
        folder.chmod(0o700)
    ignore = folder / ".gitignore"
    if not ignore.exists():
        write_privately(ignore, _IGNORE)
    return folder


def refuse_link(path: Path) -> None:
    """Raise LinkRefused where a path is a link."""
    if path.is_symlink():
        raise LinkRefused(path)


def write_privately(path: Path, data: bytes) -> None:
    """Write a file anew for its user only, and put it in place at once. Raises OSError.

    What is there, a link too, is replaced, never written through.
    """
    fresh = path.with_name(f".{path.name}.{secrets.token_hex(6)}")
    flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
    handle = os.open(fresh, flags, 0o600)
    try:
        with os.fdopen(handle, "wb") as stream:
            stream.write(data)
        fresh.replace(path)
    except BaseException:
        fresh.unlink(missing_ok=True)
        raise


@contextmanager
def for_user_only() -> Iterator[None]:
    """Files that others (a database) make meanwhile are for the user only."""
    before = os.umask(0o077)
    try:
        yield
    finally:
        os.umask(before)


def cache_folder() -> Path:
    """Where caches belong that are about no workspace (XDG Base Directory Specification): `~/.cache/trace-lens`."""
    told = os.environ.get("XDG_CACHE_HOME", "")
    base = Path(told) if os.path.isabs(told) else Path.home() / ".cache"
    return base / "trace-lens"


def config_file() -> Path:
    """The user's own configuration: `~/.config/trace-lens/config.toml`."""
    told = os.environ.get("XDG_CONFIG_HOME", "")
    base = Path(told) if os.path.isabs(told) else Path.home() / ".config"
    return base / "trace-lens" / "config.toml"
