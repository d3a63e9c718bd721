"""Log files into the store: the same content again adds nothing, a grown file adds its new rows.

Told apart by content: the octets that were read before and their SHA-256. A last line without an end may have been cut
off; it is read again when the file has grown.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO, NamedTuple

from trace_lens.common.guarding import Meant, why
from trace_lens.logs.event import Event
from trace_lens.logs.formats.checking import rows_of
from trace_lens.logs.formats.events import events_of, field_paths, time_form
from trace_lens.logs.formats.records import DAMAGED, BadRow, Record, Unreadable, unpacked, value_at
from trace_lens.logs.formats.times import TimeReader, is_descending
from trace_lens.logs.store.bulk import HEADERS, OutOfTheOrdinary
from trace_lens.logs.store.store import EventStore, LoadedFile
from trace_lens.workspace.log_sources import LogSource

NEW, GROWN, SAME = "new", "grown", "same"
_CHUNK = 1 << 20
_LOOKED_AT = 300
_HEAD = 64 * 1024
_OTHER_SPACE = tuple(bytes([literal]) for literal in (0x09, 0x0B, 0x0C, 0x1C, 0x1D, 0x1E, 0x1F, 0xC2, 0xE1, 0xE2, 0xE3))
"""The octets with which white space begins, in UTF-8, other than spaces and the ends of lines."""
_WORTH_BULK = 2_000
"""Files of fewer lines are read line by line: that takes no longer."""
_ARRAYS = ("json", "parquet")
"""Formats in which a file that has grown is another one: it is taken out and read anew."""


class Loaded(NamedTuple):
    """What came of loading one file: `new`, `grown` or `same`, or the `problem` why it could not be read."""

    source: str
    file: str
    state: str
    rows: int = 0
    bad: int = 0
    examples: tuple[BadRow, ...] = ()
    ambiguous: int = 0
    problem: str | None = None


class _Content(NamedTuple):
    octets: int
    digest: str
    before: str | None
    lines: int
    plain: bool


def load_all(
    store: EventStore,
    sources: Iterable[LogSource],
    root: Path,
    watch: Callable[[str], Callable[[int], None] | None] = lambda name: None,
) -> list[Loaded]:
    """Load every file that some sources name; `watch` gives, for the name of a file, what is told of its rows so far.

    Raises StoreProblem.
    """
    loaded = []
    for source in sources:
        files = source.files_in(root)
        if not files:
            loaded.append(Loaded(source.id, ", ".join(source.settings.files), NEW, problem="no file matches"))
        for file in files:
            name = _named(file, root)
            loaded.append(load_file(store, source, file, name, datetime.now(UTC), watch(name)))
    return loaded


def _named(file: Path, root: Path) -> str:
    place, base = file.resolve(), root.resolve()
    return (place.relative_to(base) if place.is_relative_to(base) else place).as_posix()


def load_file(
    store: EventStore,
    source: LogSource,
    path: Path,
    name: str,
    now: datetime,
    told: Callable[[int], None] | None = None,
) -> Loaded:
    """Load one file of a source under a name, in one transaction; `told` is called with the rows read so far.

    Raises StoreProblem. A file that cannot be read at all gives the reason.
    """
    known = [file for file in store.files() if file.source == source.id]
    try:
        before = next((file for file in known if file.file == name), None)
        with path.open("rb") as stream:
            content = _content(unpacked(stream), before.octets if before else None)
        if any(file.digest == content.digest for file in known):
            return Loaded(source.id, name, SAME)
        grown = before is not None and content.before == before.digest
        if before and source.settings.format in _ARRAYS:
            grown, first_line = True, 0
        else:
            first_line = before.lines + 1 if grown and before else 1
        if not grown and _add_at_once(store, source, path, name, content, now):
            return Loaded(source.id, name, NEW, content.lines - HEADERS[source.settings.format])
        with store.transaction():
            if grown:
                store.take_out_from(source.id, name, first_line)
            return _load(store, source, path, name, first_line, content, now, told, GROWN if grown else NEW)
    except (Unreadable, OSError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        return Loaded(source.id, name, NEW, problem=reason)
    except Meant:
        raise
    except Exception as error:
        return Loaded(source.id, name, NEW, problem=why(error, "reading it"))


def _content(stream: BinaryIO, until: int | None) -> _Content:
    """Length, digest and lines of the content, and the digest of its first octets up to `until`.

    It is plain where no white space but that of ASCII can be in it, and of that only spaces and the ends of lines.
    """
    whole = hashlib.sha256()
    before: str | None = None
    octets = lines = 0
    plain = True
    try:
        while chunk := stream.read(_CHUNK):
            if until is not None and octets < until <= octets + len(chunk):
                part = whole.copy()
                part.update(chunk[: until - octets])
                before = part.hexdigest()
            whole.update(chunk)
            octets += len(chunk)
            lines += chunk.count(b"\n")
            plain = plain and not any(text in chunk for text in _OTHER_SPACE)
    except DAMAGED as error:
        raise Unreadable(f"it is damaged ({error})") from None
    return _Content(octets, whole.hexdigest(), before, lines, plain)


def _load(
    store: EventStore,
    source: LogSource,
    path: Path,
    name: str,
    first_line: int,
    content: _Content,
    now: datetime,
    told: Callable[[int], None] | None,
    state: str,
) -> Loaded:
    bad: list[BadRow] = []
    reader = TimeReader(time_form(source), descending=_descending(source, path))
    with path.open("rb") as stream:
        rows = events_of(source, name, rows_of(unpacked(stream), source), reader, store.kept_ids)
        count = store.add(_only_events(rows, bad, first_line, told))
    store.add_bad(source.id, name, bad)
    held, held_bad = store.counts(source.id, name)
    digest = content.digest
    store.remember(
        LoadedFile(
            source=source.id,
            file=name,
            octets=content.octets,
            digest=digest,
            lines=content.lines,
            rows=held,
            bad=held_bad,
            loaded_at=now.astimezone(UTC),
        )
    )
    return Loaded(
        source=source.id,
        file=name,
        state=state,
        rows=count,
        bad=len(bad),
        examples=tuple(bad[:5]),
        ambiguous=reader.ambiguous,
    )


def _add_at_once(store: EventStore, source: LogSource, path: Path, name: str, content: _Content, now: datetime) -> bool:
    """Add a well-formed file at once, in one transaction; False where it must be read line by line."""
    if source.settings.format not in HEADERS or content.lines < _WORTH_BULK:
        return False
    with path.open("rb") as stream:
        packed = stream.read(4)
        stream.seek(0)
        head = unpacked(stream).read(_HEAD).decode("utf-8-sig", "replace")
    if packed[:2] == b"\x1f\x8b" and path.suffix != ".gz":
        return False
    if packed == b"\x28\xb5\x2f\xfd" and path.suffix != ".zst":
        return False
    rows = content.lines - HEADERS[source.settings.format]
    told = LoadedFile(
        source=source.id,
        file=name,
        octets=content.octets,
        digest=content.digest,
        lines=content.lines,
        rows=rows,
        bad=0,
        loaded_at=now.astimezone(UTC),
    )
    try:
        with store.transaction():
            store.add_file(source, path, name, head, rows, plain=content.plain)
            store.remember(told)
    except OutOfTheOrdinary:
        return False
    return True


def _only_events(
    rows: Iterator[Event | BadRow], bad: list[BadRow], first_line: int, told: Callable[[int], None] | None
) -> Iterator[Event]:
    for number, row in enumerate(rows, 1):
        if told and number % 10_000 == 0:
            told(number)
        if row.line < first_line:
            continue
        if isinstance(row, BadRow):
            bad.append(row)
        else:
            yield row


def _descending(source: LogSource, path: Path) -> bool:
    """Whether the file stands newest first; only a zone whose clocks change makes that matter."""
    time_path = field_paths(source).get("time")
    if source.zone is None or time_path is None:
        return False
    values: list[Any] = []
    with path.open("rb") as stream:
        for row in rows_of(unpacked(stream), source):
            if isinstance(row, Record):
                values.append(value_at(row.values, time_path))
            if len(values) >= _LOOKED_AT:
                break
    return is_descending(values, time_form(source))
