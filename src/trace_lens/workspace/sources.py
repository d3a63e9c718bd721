"""The sources that a user names, as octets: a file, a folder, a glob, or text that was handed in."""

from __future__ import annotations

import glob
import os
import stat
from collections.abc import Iterable, Iterator, Mapping
from pathlib import Path
from typing import Protocol

from trace_lens.common import limits
from trace_lens.common.guarding import why
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.har import is_har
from trace_lens.intake.peeling import Peeled, peel, peel_stream
from trace_lens.workspace.redactions import Recorded, record_of, recorded_in

_HEAD = 64 * 1024


class SourceFile(NamedTuple):
    """One source: `data` is None where it could not be read, and `problem` then says why.

    A large browser export is not read whole: its `path` is kept instead, to be streamed. `redaction` is the record that
    lies beside it, where it is a redacted copy. `again` says that a file of this name can be read once more.
    """

    name: str
    data: bytes | None
    problem: str | None = None
    path: Path | None = None
    redaction: Recorded | None = None
    again: bool = False

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
            yield from _of_folder(name, path)
        elif path.exists():
            yield _read(name, path)
        else:
            matches = sorted(glob.glob(name, recursive=True)) if glob.has_magic(name) else []
            files = [Path(match) for match in matches if not Path(match).is_dir()]
            if not files:
                yield SourceFile(name, None, "no file matches" if glob.has_magic(name) else "there is no such file")
            for file in files:
                yield _read(str(file), file)


class HeldSources(Mapping[int, SourceFile]):
    """Sources by their place. Of very many only the first are kept as they were read; the others are read again, where
    they can be.
    """

    def __init__(self, sources: Iterable[SourceFile]) -> None:
        self._held: list[SourceFile | str] = []
        for place, source in enumerate(sources):
            spared = place >= limits.SOURCES_HELD and source.again
            self._held.append(source.name if spared else source)

    def __getitem__(self, place: int) -> SourceFile:
        if not 0 <= place < len(self._held):
            raise KeyError(place)
        source = self._held[place]
        return _read(source, Path(source)) if isinstance(source, str) else source

    def __iter__(self) -> Iterator[int]:
        return iter(range(len(self._held)))

    def __len__(self) -> int:
        return len(self._held)


def _of_folder(name: str, folder: Path) -> Iterator[SourceFile]:
    """The files of a folder; of one with redacted copies these, and not the settings that came with them."""
    recorded = recorded_in(folder)
    inside = (
        (_read(str(file), file) for file in (folder / told for told in recorded.files) if file.is_file())
        if recorded is not None
        else _below(str(folder))
    )
    empty = True
    for source in inside:
        empty = False
        yield source
    if empty:
        yield SourceFile(name, None, "this folder holds no files")


def _below(folder: str) -> Iterator[SourceFile]:
    """The files below a folder in the order of their names, each looked up when it is its turn: a folder may hold very
    many. Hidden ones are left out, and links to folders are not followed.
    """
    try:
        with os.scandir(folder) as entries:
            found = sorted((entry for entry in entries if entry.name[0] != "."), key=lambda entry: entry.name)
    except OSError as error:
        yield SourceFile(folder, None, f"this folder cannot be read: {(error.strerror or str(error)).lower()}")
        return
    for entry in found:
        if entry.is_dir(follow_symlinks=False):
            yield from _below(entry.path)
        elif not entry.is_dir():
            yield _read(entry.path, entry.path)


_KINDS = (
    (stat.S_ISFIFO, "a pipe with a name"),
    (stat.S_ISSOCK, "a socket"),
    (stat.S_ISCHR, "a device"),
    (stat.S_ISBLK, "a device"),
)


_HANDED = ("/dev/fd/", "/dev/stdin", "/proc/self/fd/")
"""What the shell itself hands over, as `<(command)` does: a pipe that ends, unlike one that has a name."""


def _read(name: str, path: str | Path) -> SourceFile:
    """A file, opened only where it is a regular one: what else there is may give for ever, or never."""
    try:
        found = os.stat(path)
        mode = found.st_mode
        handed = str(path).startswith(_HANDED)
        kind = None if handed else next((words for holds, words in _KINDS if holds(mode)), None)
        if kind:
            hint = "; send its content to standard input, and name - as the source"
            return SourceFile(name, None, f"it is {kind}, not a file{hint}")
        with open(path, "rb") as stream:
            if handed and not stat.S_ISREG(mode):
                return bounded(name, stream)
            if found.st_size > limits.STREAMED_BYTES:
                if is_har(stream.read(_HEAD)):
                    return SourceFile(name, None, None, Path(path), record_of(path))
                stream.seek(0)
            read = bounded(name, stream)
            if read.data is None:
                return read
            return read._replace(redaction=record_of(path, read.data), again=not handed)
    except OSError as error:
        return SourceFile(name, None, f"it cannot be read: {(error.strerror or str(error)).lower()}")


class Readable(Protocol):
    """An open stream of octets."""

    def read(self, size: int, /) -> bytes: ...


_PIECE = 65_536


def bounded(name: str, stream: Readable) -> SourceFile:
    """A source of an open stream, of which no more is read than the limit and one byte."""
    # Piece by piece: to ask for the most that is read takes a mapping of memory each, and there are not many of those.
    pieces: list[bytes] = []
    left = limits.SOURCE_BYTES + 1
    while left and (piece := stream.read(min(left, _PIECE))):
        pieces.append(piece)
        left -= len(piece)
    data = pieces[0] if len(pieces) == 1 else b"".join(pieces)
    if len(data) > limits.SOURCE_BYTES:
        return SourceFile(name, None, f"it is longer than {limits.SOURCE_BYTES:,} bytes, the most that is read")
    return SourceFile(name, data)
