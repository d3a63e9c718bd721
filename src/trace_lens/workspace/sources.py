"""The sources that a user names, as octets: a file, a folder, a glob, or text that was handed in."""

from __future__ import annotations

import glob
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from trace_lens.common import limits
from trace_lens.common.guarding import why
from trace_lens.intake.har import is_har
from trace_lens.intake.peeling import Peeled, peel, peel_stream

_HEAD = 64 * 1024


class SourceFile(NamedTuple):
    """One source: `data` is None where it could not be read, and `problem` then says why.

    A large browser export is not read whole: its `path` is kept instead, to be streamed.
    """

    name: str
    data: bytes | None
    problem: str | None = None
    path: Path | None = None

    def peeled(self) -> Peeled | None:
        """What stands in it; None where it could not be read."""
        try:
            if self.path is not None:
                path = self.path
                return peel_stream(lambda: path.open("rb"))
            return None if self.data is None else peel(self.data)
        except Exception as error:
            return Peeled((), failed=why(error, "reading it"))


def read_sources(names: tuple[str, ...]) -> Iterator[SourceFile]:
    """Every source that the names stand for, in order; a name that leads nowhere gives one with a problem."""
    for name in names:
        path = Path(name)
        if path.is_dir():
            files = sorted(file for file in path.rglob("*") if file.is_file() and not _hidden(file, path))
            if not files:
                yield SourceFile(name, None, "this folder holds no files")
            for file in files:
                yield _read(str(file), file)
        elif path.exists():
            yield _read(name, path)
        else:
            matches = sorted(glob.glob(name, recursive=True)) if glob.has_magic(name) else []
            files = [Path(match) for match in matches if Path(match).is_file()]
            if not files:
                yield SourceFile(name, None, "no file matches" if glob.has_magic(name) else "there is no such file")
            for file in files:
                yield _read(str(file), file)


def _hidden(file: Path, folder: Path) -> bool:
    return any(part.startswith(".") for part in file.relative_to(folder).parts)


def _read(name: str, path: Path) -> SourceFile:
    try:
        size = path.stat().st_size
        if size > limits.STREAMED_BYTES:
            with path.open("rb") as stream:
                if is_har(stream.read(_HEAD)):
                    return SourceFile(name, None, None, path)
        if size > limits.SOURCE_BYTES:
            return SourceFile(name, None, f"it is {size:,} bytes long; at most {limits.SOURCE_BYTES:,} are read")
        return SourceFile(name, path.read_bytes())
    except OSError as error:
        return SourceFile(name, None, f"it cannot be read: {(error.strerror or str(error)).lower()}")
