"""The sources that a user names, as octets: a file, a folder, a glob, or text that was handed in."""

from __future__ import annotations

import glob
import stat
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple, Protocol

from trace_lens.common import limits
from trace_lens.common.guarding import why
from trace_lens.intake.har import is_har
from trace_lens.intake.peeling import Peeled, peel, peel_stream
from trace_lens.workspace.redactions import Recorded, record_of, recorded_in

_HEAD = 64 * 1024


class SourceFile(NamedTuple):
    """One source: `data` is None where it could not be read, and `problem` then says why.

    A large browser export is not read whole: its `path` is kept instead, to be streamed. `redaction` is the record that
    lies beside it, where it is a redacted copy.
    """

    name: str
    data: bytes | None
    problem: str | None = None
    path: Path | None = None
    redaction: Recorded | None = None

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
            files = _files_of(path)
            if not files:
                yield SourceFile(name, None, "this folder holds no files")
            for file in files:
                yield _read(str(file), file)
        elif path.exists():
            yield _read(name, path)
        else:
            matches = sorted(glob.glob(name, recursive=True)) if glob.has_magic(name) else []
            files = [Path(match) for match in matches if not Path(match).is_dir()]
            if not files:
                yield SourceFile(name, None, "no file matches" if glob.has_magic(name) else "there is no such file")
            for file in files:
                yield _read(str(file), file)


def _files_of(folder: Path) -> list[Path]:
    """The files of a folder; of one with redacted copies these, and not the settings that came with them."""
    recorded = recorded_in(folder)
    if recorded is not None:
        return [folder / name for name in recorded.files if (folder / name).is_file()]
    return sorted(file for file in folder.rglob("*") if not file.is_dir() and not _hidden(file, folder))


def _hidden(file: Path, folder: Path) -> bool:
    return any(part.startswith(".") for part in file.relative_to(folder).parts)


_KINDS = (
    (stat.S_ISFIFO, "a pipe with a name"),
    (stat.S_ISSOCK, "a socket"),
    (stat.S_ISCHR, "a device"),
    (stat.S_ISBLK, "a device"),
)


_HANDED = ("/dev/fd/", "/dev/stdin", "/proc/self/fd/")
"""What the shell itself hands over, as `<(command)` does: a pipe that ends, unlike one that has a name."""


def _read(name: str, path: Path) -> SourceFile:
    """A file, opened only where it is a regular one: what else there is may give for ever, or never."""
    try:
        mode = path.stat().st_mode
        handed = str(path).startswith(_HANDED)
        kind = None if handed else next((words for holds, words in _KINDS if holds(mode)), None)
        if kind:
            hint = "; send its content to standard input, and name - as the source"
            return SourceFile(name, None, f"it is {kind}, not a file{hint}")
        with path.open("rb") as stream:
            if handed and not stat.S_ISREG(mode):
                return bounded(name, stream)
            if path.stat().st_size > limits.STREAMED_BYTES and is_har(stream.read(_HEAD)):
                return SourceFile(name, None, None, path, record_of(path))
            stream.seek(0)
            read = bounded(name, stream)
            return read._replace(redaction=record_of(path, read.data)) if read.data is not None else read
    except OSError as error:
        return SourceFile(name, None, f"it cannot be read: {(error.strerror or str(error)).lower()}")


class Readable(Protocol):
    """An open stream of octets."""

    def read(self, size: int, /) -> bytes: ...


def bounded(name: str, stream: Readable) -> SourceFile:
    """A source of an open stream, of which no more is read than the limit and one byte."""
    data = stream.read(limits.SOURCE_BYTES + 1)
    if len(data) > limits.SOURCE_BYTES:
        return SourceFile(name, None, f"it is longer than {limits.SOURCE_BYTES:,} bytes, the most that is read")
    return SourceFile(name, data)
