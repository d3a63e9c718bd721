"""Settings files that were found valid before, remembered in the user's own cache."""

from __future__ import annotations

import hashlib
import os
from functools import cache
from pathlib import Path

from trace_lens.common import limits
from trace_lens.common.version import __version__
from trace_lens.workspace.own_files import cache_folder, write_privately


class SettingsSeen:
    """The settings files that were found valid before, by their hash, kept in the user's own cache.

    Validating takes far longer than reading, and settings change rarely. Where the cache cannot be written, they are
    validated each time. What a workspace brings along is never believed. `part` keeps files apart that are not always
    read with the others.
    """

    def __init__(self, root: Path, part: str = "") -> None:
        name = hashlib.sha256(os.fsencode(root.absolute()) + part.encode()).hexdigest()[:24]
        self._now: set[str] = set()
        try:
            self._file: Path | None = cache_folder() / "settings" / name
        except RuntimeError:  # there is no home
            self._file = None
            self._before: set[str] = set()
            return
        try:
            self._before = set(self._file.read_text("ascii").split())
        except (OSError, UnicodeDecodeError):
            self._before = set()

    def valid(self, kind: str, text: str) -> bool:
        """Whether this very text was found valid as this kind of file by this very code."""
        mark = hashlib.sha256(f"{_schema()}\0{kind}\0{text}".encode()).hexdigest()
        self._now.add(mark)
        return mark in self._before

    def keep(self) -> None:
        """Remember the files asked for, all of which have turned out valid."""
        if self._now == self._before or self._file is None:
            return
        try:
            self._file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            write_privately(self._file, ("\n".join(sorted(self._now)) + "\n").encode("ascii"))
            _forget_the_oldest(self._file.parent)
        except OSError:
            return


def _forget_the_oldest(folder: Path) -> None:
    """Keep as many as are remembered; a few more may gather first, so that their dates are rarely looked at."""
    kept = list(folder.iterdir())
    if len(kept) > limits.REMEMBERED_WORKSPACES * 5 // 4:
        for file in sorted(kept, key=lambda file: file.stat().st_mtime)[: -limits.REMEMBERED_WORKSPACES]:
            file.unlink(missing_ok=True)


@cache
def _schema() -> str:
    """A digest of the code that says what is valid, so that no other version of it is believed."""
    folder = Path(__file__).parent
    names = ("settings", "log_settings", "validation", "problems")
    code = b"".join((folder / f"{name}.py").read_bytes() for name in names)
    return hashlib.sha256(__version__.encode() + code).hexdigest()
