"""The event store: what was loaded from log files, one Parquet part for each, and a manifest that says what holds.

    manifest.json            the contents with their names, digests and counts; replaced at once
    parts/CONTENT-….parquet  the events of one content, in the order of its file
    bad-rows/….parquet       rows that could not be read
    ids/….npy, counts/….parquet   what is kept to find events fast; made from the parts

Parts are never changed: what grows gets a new one, and the old one stays for whoever reads it still. So readers work
during a load. One program writes at a time. By default DuckDB reads the parts, embedded; `spark://` in the settings has
Spark read the same.
"""

from __future__ import annotations

import fcntl
from collections.abc import Iterable, Mapping, Sequence
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import Any, BinaryIO

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import Event, Place
from trace_lens.logs.formats.rows import BadRow
from trace_lens.logs.kept_ids import KeptIds, kept_ids
from trace_lens.logs.store.duck import Duck, problem_of
from trace_lens.logs.store.engine import BAD_COLUMNS, COLUMNS, Engine, Given, quoted, select_of
from trace_lens.logs.store.manifest import (
    BAD_ROWS,
    COUNTS,
    IDS,
    MANIFEST,
    PARTS,
    Content,
    Manifest,
    StoreProblem,
    read_manifest,
)
from trace_lens.workspace.own_files import OWN_FOLDER, for_user_only, own_folder, refuse_link
from trace_lens.workspace.records import LOGS_FOLDER

LOCK = ".lock"
SCHEME = "spark://"
_FEW_ROWS = 1_000_000
"""Up to so many a question has one thread: what others would spare in time they cost in starting and waiting."""


class LoadedFile(NamedTuple):
    """A file that was loaded: how many octets of it, their SHA-256, its whole lines, its rows, how many were bad.

    `again` are the rows that stand in another file too; `generation` is None where the file still has this content.
    """

    source: str
    file: str
    octets: int
    digest: str
    lines: int
    rows: int
    bad: int
    loaded_at: datetime
    again: int = 0
    generation: int | None = None


def place_of(setting: str, root: Path) -> tuple[str | None, Path]:
    """Spark's master, None without one, and the folder of the store, as the setting `store` says.

    `duckdb`, or `spark://HOST:PORT/FOLDER`, `spark://local[2]`; without a folder the parts lie in the workspace.
    """
    own = root / OWN_FOLDER / LOGS_FOLDER
    if not setting.startswith(SCHEME):
        return None, own
    where, slash, folder = setting.removeprefix(SCHEME).partition("/")
    master = where if where.startswith("local") else SCHEME + where
    return master, Path(slash + folder) if folder else own


class EventStore:
    """The store of a workspace; a context manager. Times are kept as UTC without a zone. Raises StoreProblem.

    The database reads nothing but the store and, while it is written, the `files` that are loaded.
    """

    def __init__(
        self, root: Path, setting: str = "duckdb", *, writing: bool = False, files: Iterable[Path] = ()
    ) -> None:
        self.root = root
        self.master, self.folder = place_of(setting, root)
        self.kept_ids = KeptIds()
        self.manifest = Manifest()
        self._files = tuple(files)
        self._writing = writing
        self._lock: BinaryIO | None = None
        self._duck: Duck | None = None
        self._spark: Engine | None = None

    @property
    def exists(self) -> bool:
        """Whether anything was ever loaded."""
        from trace_lens.logs.store.converting import earlier_store

        return (self.folder / MANIFEST).exists() or earlier_store(self.root, self.folder) is not None

    def __enter__(self) -> EventStore:
        from trace_lens.logs.store.converting import convert, earlier_store

        try:
            earlier = None if (self.folder / MANIFEST).exists() else earlier_store(self.root, self.folder)
            if self._writing or earlier is not None:
                self._begin_writing()
            self._refuse_links()
            self.kept_ids = kept_ids(self._keys(), make=self._writing)
            if earlier is not None and not (self.folder / MANIFEST).exists():
                convert(self.folder, earlier)
            if (self.folder / MANIFEST).exists():
                self.manifest = read_manifest(self.folder)
            elif not self._writing:
                raise StoreProblem(f"there is no store of logs in {self.folder}; run trace-lens logs load")
        except StoreProblem:
            self.__exit__(None, None, None)
            raise
        except OSError as error:
            self.__exit__(None, None, None)
            raise problem_of(error, self.folder) from None
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, _: object) -> None:
        for engine in (self._duck, self._spark):
            if engine is not None:
                engine.close()
        self._duck = self._spark = None
        if self._lock:
            self._lock.close()
            self._lock = None

    def _begin_writing(self) -> None:
        """Make the folders, and see that nobody else writes. Raises OSError, StoreProblem."""
        if self.folder.parent.name == OWN_FOLDER:
            own_folder(self.root)
        self._refuse_links()
        with for_user_only():
            for name in (PARTS, BAD_ROWS, IDS, COUNTS):
                (self.folder / name).mkdir(parents=True, exist_ok=True)
            self._lock = (self.folder / LOCK).open("wb")
        try:
            fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            raise StoreProblem("another trace-lens is loading logs; try again when it has ended") from None

    def _refuse_links(self) -> None:
        for path in (self.folder.parent, self.folder, *(self.folder / name for name in (PARTS, BAD_ROWS, IDS, COUNTS))):
            refuse_link(path)

    def _keys(self) -> Path:
        """The folder that holds the key of the secret ids."""
        return self.folder.parent if self.folder.parent.name == OWN_FOLDER else self.folder

    @property
    def duck(self) -> Duck:
        """The database, opened when it is first asked. Raises StoreProblem."""
        if self._duck is None:
            # Lines are numbered one after the other, and of few rows no thread has much to do: others would only wait.
            few = sum(content.rows for content in self.manifest) < _FEW_ROWS
            self._duck = Duck(self.folder, self._files, threads=1 if self._writing or few else None)
        return self._duck

    @property
    def engine(self) -> Engine:
        """What asks the parts: the database, or Spark where the settings say so. Raises StoreProblem."""
        if self.master is None:
            return self.duck
        if self._spark is None:
            from trace_lens.logs.store.spark import Spark

            self._spark = Spark(self.master, self.folder)
        return self._spark

    def part(self, content: Content) -> Path:
        """The file of the events of a content."""
        return self.folder / PARTS / (content.part or "")

    def parts(self, contents: Iterable[Content]) -> list[Path]:
        """The files of the events of some contents."""
        return [self.part(content) for content in contents if content.part]

    # -- what was loaded

    def files(self) -> list[LoadedFile]:
        """The files that were loaded, in the order of their loading."""
        found = [
            LoadedFile(
                source=content.source,
                file=name.file,
                octets=content.file.octets,
                digest=content.file.digest,
                lines=content.file.lines,
                rows=content.rows,
                bad=content.bad.rows,
                loaded_at=content.loaded_at,
                again=content.again,
                generation=None if name.current else name.generation,
            )
            for content in self.manifest
            for name in content.names[: None if content.name.current else 1]
        ]
        return sorted(found, key=lambda file: (file.loaded_at, file.source, file.file))

    def bad_rows(self, source: str | None = None) -> list[tuple[str, BadRow]]:
        """The bad rows that were kept aside, with their files. Raises StoreProblem."""
        found = []
        for content in self.manifest:
            if content.bad.part and source in (None, content.source):
                part = self.folder / BAD_ROWS / content.bad.part
                rows = self.duck.ask(f"SELECT {select_of(BAD_COLUMNS)} FROM read_parquet({quoted(str(part))})", [])
                found += [(content.name.file, BadRow(*row)) for row in rows]
        return sorted(found, key=lambda pair: (pair[0], pair[1].line))

    # -- events

    def ask(
        self, statement: str, contents: Iterable[Content] | None = None, given: Mapping[str, Given] | None = None
    ) -> list[tuple[Any, ...]]:
        """The rows that a statement gives; `events` in it are those of some contents, of all by default.

        Raises StoreProblem.
        """
        return self.engine.ask(statement, self.parts(self.manifest if contents is None else contents), given)

    def events(self, rows: Sequence[tuple[Any, ...]]) -> list[Event]:
        """Rows with the columns of a part, and whether each is doubled where that was asked, as events.

        Raises StoreProblem.
        """
        also = self._also(rows)
        made = []
        for source, content, line, time, user, app, outcome, code, reason, ip, ids, _, _, *doubled in rows:
            file, _, generation = self._file_of[content]
            made.append(
                Event(
                    source=source,
                    file=file,
                    line=line,
                    time=time.replace(tzinfo=UTC),
                    user=user,
                    app=app,
                    outcome=outcome,
                    code=code,
                    reason=reason,
                    ip=ip,
                    ids=tuple(ids or ()),
                    doubled=bool(doubled and doubled[0]),
                    also=tuple(sorted(also.get((content, line), ()))) if also else (),
                    generation=generation,
                )
            )
        return made

    @cached_property
    def _file_of(self) -> dict[str, Place]:
        """The file that each content is told by."""
        return {
            content.id: Place(content.name.file, 0, None if content.name.current else content.name.generation)
            for content in self.manifest
        }

    def _also(self, rows: Sequence[tuple[Any, ...]]) -> dict[tuple[str, int], list[Place]]:
        """The further places of the events in some rows: copies of their file, and files that overlap with it."""
        found: dict[tuple[str, int], list[Place]] = {}
        copied = {content.id: content.others for content in self.manifest if content.others}
        for row in rows:
            for name in copied.get(row[1], ()):
                found.setdefault((row[1], row[2]), []).append(Place(name.file, row[2]))
        overlapping = [content for content in self.manifest if content.again]
        if not overlapping or not rows:
            return found
        places = Given(
            {"in_content": "VARCHAR", "at_line": "BIGINT"},
            {"in_content": [row[1] for row in rows], "at_line": [row[2] for row in rows]},
        )
        statement = (
            "SELECT e.same_content, e.same_line, e.content, e.line FROM events e "
            "JOIN places p ON e.same_content = p.in_content AND e.same_line = p.at_line"
        )
        for content, line, other, other_line in self.ask(statement, overlapping, {"places": places}):
            held = self.manifest[other]
            for name in (held.name, *held.others):
                place = Place(name.file, other_line, None if name.current else name.generation)
                found.setdefault((content, line), []).append(place)
        return found


EVENT_COLUMNS = ", ".join(f'e."{name}"' for name in COLUMNS)
"""The columns of an event in a statement that calls the events `e`."""
