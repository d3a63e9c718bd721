"""Log files into the store: what is known adds nothing, what has grown adds its new rows, names follow their content.

Told apart by content, whatever its name: a file whose octets are those of one that was loaded is that one; a file that
begins with them is that one grown. A last line without an end may have been cut off; it is read again when the file
has grown.
"""

from __future__ import annotations

import errno
import hashlib
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path

from trace_lens.common.guarding import Meant, why
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import Event
from trace_lens.logs.formats.events import events_of, rows_of, time_form
from trace_lens.logs.formats.records import unpacked
from trace_lens.logs.formats.rows import DAMAGED, BadRow, Unreadable
from trace_lens.logs.formats.times import TimeReader
from trace_lens.logs.store.bulk import HEADERS, OutOfTheOrdinary, bulk_events, edges_of, holds_beside, supposed_white
from trace_lens.logs.store.duck import problem_of
from trace_lens.logs.store.facts import ANY, Facts, facts_of, head_of
from trace_lens.logs.store.manifest import BAD_ROWS, COUNTS, IDS, PARTS, Content, DiskFull, StoreProblem
from trace_lens.logs.store.shapes import descending, is_packed, is_whole, named_as_packed, steady_in
from trace_lens.logs.store.side_by_side import Overlap, lay_side_by_side
from trace_lens.logs.store.store import EventStore
from trace_lens.logs.store.writing import Writer, Written
from trace_lens.workspace.log_sources import LogSource

NEW, GROWN, SAME = "new", "grown", "same"
_HEAD = 64 * 1024
_WORTH_TWO = 32_000_000
"""Files of more octets than this that are new for sure are read twice at once."""
_WORTH_BULK = 2_000
"""Files of fewer lines are read line by line: that takes no longer."""
_ARRAYS = ("json", "parquet")
"""Formats in which a file that has grown is written anew, to its end."""
_EVERY = 1.0
"""Seconds after which what was loaded meanwhile is put into the manifest."""
_READ_STILL = timedelta(minutes=10)
"""So long a file of the store that no longer counts is left for whoever reads it."""

Watch = Callable[[str, int, int], None]
"""What hears of a load: a phase (`reading`, `storing`, `rows`), how much is done, and of how much (0: not known)."""


class Loaded(NamedTuple):
    """What came of loading one file: `new`, `grown` or `same`, or the `problem` why it could not be read.

    `again` are those of the new rows that stand in other files too and count there: `again_in`.
    """

    source: str
    file: str
    state: str
    rows: int = 0
    bad: int = 0
    examples: tuple[BadRow, ...] = ()
    ambiguous: int = 0
    problem: str | None = None
    again: int = 0
    again_in: tuple[str, ...] = ()


def load_all(
    store: EventStore,
    sources: Iterable[LogSource],
    root: Path,
    watch: Callable[[str], Watch | None] = lambda name: None,
) -> list[Loaded]:
    """Load every file that some sources name; `watch` gives, for the name of a file, what hears of its progress.

    What was loaded up to an interruption stays loaded. Raises StoreProblem.
    """
    loaded = []
    with Loader(store) as loader:
        for source in sources:
            files = source.files_in(root)
            if not files:
                told = ", ".join(source.settings.files)
                loaded.append(Loaded(source.id, told, NEW, problem="no file matches"))
            names = [_named(file, root) for file in files]
            for file, name in zip(files, names, strict=True):
                loaded.append(loader.load(source, file, name, datetime.now(UTC), watch(name)))
            if files:
                store.manifest.forget_names(source.id, set(names))
    return [loader.settled(item) for item in loaded]


def load_file(store: EventStore, source: LogSource, path: Path, name: str, now: datetime) -> Loaded:
    """Load one file of a source under a name. Raises StoreProblem."""
    with Loader(store) as loader:
        loaded = loader.load(source, path, name, now)
    return loader.settled(loaded)


def _named(file: Path, root: Path) -> str:
    place, base = file.resolve(), root.resolve()
    return (place.relative_to(base) if place.is_relative_to(base) else place).as_posix()


class _Read(NamedTuple):
    """What was written of a file, how many of its rows are new, its bad rows, and how many times are ambiguous."""

    written: Written
    rows: int
    bad: Sequence[BadRow] = ()
    ambiguous: int = 0


class Loader:
    """Loads files into a store that is open for writing; a context manager, at whose end all is in the manifest."""

    def __init__(self, store: EventStore) -> None:
        self.store = store
        self.writer = Writer(store.duck, store.folder)
        self._fresh: dict[str, int] = {}
        self._found: dict[tuple[str, str], Overlap] = {}
        self._told = time.monotonic()
        self._took = 0.0

    def __enter__(self) -> Loader:
        self._sweep()
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, _: object) -> None:
        if kind is None or not issubclass(kind, StoreProblem):
            self.commit()

    def _sweep(self) -> None:
        """Take away what no manifest names, if nobody can be reading it still."""
        held, now = self.store.manifest.files(), time.time()
        for folder in (PARTS, BAD_ROWS, IDS, COUNTS):
            for file in (self.store.folder / folder).iterdir():
                if f"{folder}/{file.name}" not in held and now - file.stat().st_mtime > _READ_STILL.total_seconds():
                    file.unlink(missing_ok=True)

    def commit(self) -> None:
        """Put into the manifest what was loaded since the last time. Raises StoreProblem."""
        begin = time.monotonic()
        manifest = self.store.manifest
        try:
            lay_side_by_side(self.store, self.writer, self._fresh, self._found)
            for content in self.writer.keep([manifest[key] for key in self._fresh if key in manifest]):
                manifest.put(content)
            manifest.write(self.store.folder)
        except OSError as error:
            raise problem_of(error, self.store.folder) from None
        self._fresh.clear()
        self._told = time.monotonic()
        self._took = self._told - begin

    def settled(self, loaded: Loaded) -> Loaded:
        """What came of a file, with what is known of it once all was laid side by side."""
        found = self._found.get((loaded.source, loaded.file))
        if found is None:
            return loaded
        state = GROWN if found.instead else loaded.state
        again = sum(found.again.values())
        return loaded._replace(
            state=state, rows=loaded.rows - found.instead, again=again, again_in=tuple(sorted(found.again))
        )

    def load(self, source: LogSource, path: Path, name: str, now: datetime, watch: Watch | None = None) -> Loaded:
        """Load one file of a source under a name. Raises StoreProblem.

        A file that cannot be read at all gives the reason.
        """
        try:
            loaded = self._load(source, path, name, now, watch)
        except (Unreadable, OSError) as error:
            if isinstance(error, OSError) and error.errno == errno.ENOSPC:
                raise problem_of(error, self.store.folder) from None
            return Loaded(source.id, name, NEW, problem=getattr(error, "strerror", None) or str(error))
        except Meant:
            raise
        except Exception as error:
            return Loaded(source.id, name, NEW, problem=why(error, "reading it"))
        if time.monotonic() - self._told > max(_EVERY, 10 * self._took):
            self.commit()
        return loaded

    def _load(self, source: LogSource, path: Path, name: str, now: datetime, watch: Watch | None) -> Loaded:
        manifest = self.store.manifest
        size = 0 if is_packed(path) else path.stat().st_size
        key = self._new_id(source, path, name)
        written: Written | None = None
        if size >= _WORTH_TWO and not manifest.begun(source.id, head_of(path)):
            facts, written = self._read_twice_at_once(source, path, key, watch)
        else:
            facts = self._facts(source, path, size, watch)
        same = manifest.known(source.id, facts.file.digest)
        if same is not None:
            if written:
                self.writer.drop(written.part)
            manifest.point(name, same.id)
            return Loaded(source.id, name, SAME)
        before = self._grown_from(source, facts)
        if before is not None and before.id in self._fresh:
            self.commit()
            before = self._grown_from(source, facts)
        if before is not None:
            key = before.id
        elif written is None:
            written = self._write_at_once(source, path, key, facts, watch)
        read = (
            self._line_by_line(source, path, name, key, before, watch)
            if written is None
            else _Read(written, written.rows)
        )
        first_line = self._hold(source, key, facts, read, before, now)
        manifest.point(name, key, alone=True)
        self._fresh[key] = first_line
        return Loaded(
            source=source.id,
            file=name,
            state=GROWN if before else NEW,
            rows=read.rows,
            bad=len(read.bad),
            examples=tuple(read.bad[:5]),
            ambiguous=read.ambiguous,
        )

    def _hold(
        self, source: LogSource, key: str, facts: Facts, read: _Read, before: Content | None, now: datetime
    ) -> int:
        """Put what was read of a file into the manifest; the line from which on it is new."""
        first_line = before.file.lines + 1 if before else 1
        kept_bad = self.store.folder / BAD_ROWS / before.bad.part if before and before.bad.part else None
        written = read.written
        self.store.manifest.put(
            Content(
                id=key,
                source=source.id,
                names=before.names if before else (),
                file=facts.file,
                rows=written.rows,
                loaded_at=now.astimezone(UTC),
                again=before.again if before else 0,
                first=written.first,
                last=written.last,
                part=written.part,
                bad=self.writer.write_bad(key, read.bad, kept_bad, first_line),
            )
        )
        return first_line

    def _line_by_line(
        self, source: LogSource, path: Path, name: str, key: str, before: Content | None, watch: Watch | None
    ) -> _Read:
        """Write what is new in a file, read line by line."""
        bad: list[BadRow] = []
        first_line = before.file.lines + 1 if before else 1
        reader = TimeReader(time_form(source), descending=descending(source, path))
        with path.open("rb") as stream:
            read = events_of(source, name, rows_of(unpacked(stream), source), reader, self.store.kept_ids)
            kept = self.store.part(before) if before and before.part else None
            new = _only_events(read, bad, first_line, watch)
            written, rows = self.writer.write_events(key, new, kept, first_line)
        return _Read(written, rows, bad, reader.ambiguous)

    def _grown_from(self, source: LogSource, facts: Facts) -> Content | None:
        """The longest content that a file begins with."""
        if source.settings.format in _ARRAYS:
            return None
        known = (self.store.manifest.known(source.id, digest) for digest in facts.until.values())
        return max((content for content in known if content), key=lambda content: content.file.octets, default=None)

    def _new_id(self, source: LogSource, path: Path, name: str) -> str:
        told = hashlib.sha256(f"{source.id}\0{name}\0".encode("utf-8", "surrogatepass") + head_of(path)).hexdigest()[
            :16
        ]
        number, made = 1, told
        while made in self.store.manifest:
            number += 1
            made = f"{told}-{number}"
        return made

    def _facts(self, source: LogSource, path: Path, size: int, watch: Watch | None) -> Facts:
        manifest = self.store.manifest
        with path.open("rb") as stream:
            return facts_of(
                unpacked(stream),
                lambda head: (content.file.octets for content in manifest.begun(source.id, head)),
                (lambda done: watch("reading", done, size)) if watch else None,
                edges_of(source, _text(_beginning(path))),
            )

    def _read_twice_at_once(
        self, source: LogSource, path: Path, content: str, watch: Watch | None
    ) -> tuple[Facts, Written | None]:
        """Read a large file, which is a new one, for its digest while the database reads it for its events."""
        with ThreadPoolExecutor(1) as beside:
            reading = beside.submit(self._facts, source, path, 0, None)
            written, supposed = self._bulk(source, path, content, None, watch)
            facts = reading.result()
        if written is not None and not (holds_beside(supposed, facts.white) and is_whole(source, facts, written)):
            self.writer.drop(written.part)
            written = None
        return facts, written

    def _write_at_once(
        self, source: LogSource, path: Path, content: str, facts: Facts, watch: Watch | None
    ) -> Written | None:
        """Write a well-formed file at once; None where it must be read line by line."""
        if source.settings.format not in HEADERS or facts.file.lines < _WORTH_BULK:
            return None
        written, _ = self._bulk(source, path, content, facts, watch)
        if written is not None and not is_whole(source, facts, written):
            self.writer.drop(written.part)
            return None
        return written

    def _bulk(
        self, source: LogSource, path: Path, content: str, facts: Facts | None, watch: Watch | None
    ) -> tuple[Written | None, str]:
        """Write the events of a file by the database alone, as far as it can; None where it cannot.

        Where the file's facts are not known yet, its white space is supposed to be as in its head: told beside it.
        """
        if source.settings.format not in HEADERS or not named_as_packed(path):
            return None, ANY
        octets = _beginning(path)
        for white in supposed_white(source, octets, facts.white if facts else None):
            try:
                bulk = bulk_events(source, path, content, _text(octets), white=white, kept=self.store.kept_ids)
                written = self._watched(partial(self.writer.write, content, bulk.query), watch, path.stat().st_size)
            except (OutOfTheOrdinary, StoreProblem) as problem:
                if isinstance(problem, DiskFull):
                    raise
                return None, ANY
            if written.timed == written.rows and steady_in(bulk, written):
                return written, white
            self.writer.drop(written.part)
        return None, ANY

    def _watched(self, work: Callable[[], Written], watch: Watch | None, size: int) -> Written:
        """Do some work of the database, and tell how far it is."""
        if watch is None:
            return work()
        import threading

        done = threading.Event()
        connection = self.store.duck.connection

        def look() -> None:
            while not done.wait(0.2):
                share = connection.query_progress()
                if 0 <= share <= 100:
                    watch("storing", int(size * share / 100), size)

        looking = threading.Thread(target=look, daemon=True)
        looking.start()
        try:
            return work()
        finally:
            done.set()
            looking.join()


def _beginning(path: Path) -> bytes:
    """The first octets of a file, decompressed as far as they can be."""
    with path.open("rb") as stream:
        try:
            return unpacked(stream).read(_HEAD)
        except DAMAGED:
            return b""


def _text(octets: bytes) -> str:
    return octets.decode("utf-8-sig", "replace")


def _only_events(
    rows: Iterator[Event | BadRow], bad: list[BadRow], first_line: int, watch: Watch | None
) -> Iterator[Event]:
    for number, row in enumerate(rows, 1):
        if watch and number % 10_000 == 0:
            watch("rows", number, 0)
        if row.line < first_line:
            continue
        if isinstance(row, BadRow):
            bad.append(row)
        else:
            yield row
