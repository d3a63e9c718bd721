"""The sources that a user names, as octets: a file, a folder, a glob, or text that was handed in."""

from __future__ import annotations

import glob
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from trace_lens.common import limits


class SourceFile(NamedTuple):
    """One source: `data` is None where it could not be read, and `problem` then says why."""

    name: str
    data: bytes | None
    problem: str | None = None


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
        if size > limits.SOURCE_BYTES:
            return SourceFile(name, None, f"it is {size:,} bytes long; at most {limits.SOURCE_BYTES:,} are read")
        return SourceFile(name, path.read_bytes())
    except OSError as error:
        return SourceFile(name, None, f"it cannot be read: {(error.strerror or str(error)).lower()}")
