"""The event store on Spark, where logs outgrow one machine: the same tables as Parquet files, the same expressions.

Rows lie in a folder that all of Spark's machines reach; asking takes `trace-lens[spark]` and a Java runtime. Loading
needs no Spark: it writes Parquet. What counts as loaded is what the manifests of `files` name, one for each log file,
and a manifest is put in place at once; so an interruption leaves the store as it was.

    about.json                    the version
    files/FILE.parquet            one row: the file, its octets and digest, and the parts that hold its rows
    events/FILE-NUMBER.parquet    rows, with the columns of the events
    bad_rows/FILE-NUMBER.parquet  rows that could not be read
"""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import sys
from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from datetime import UTC
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any, BinaryIO

from trace_lens.logs.event import Event
from trace_lens.logs.formats.records import BadRow
from trace_lens.logs.kept_ids import kept_ids
from trace_lens.logs.store.bulk import OutOfTheOrdinary
from trace_lens.logs.store.store import (
    BATCH,
    TABLES,
    VERSION,
    EventStore,
    LoadedFile,
    StoreProblem,
    as_columns,
    bad_columns,
)
from trace_lens.workspace.log_sources import LogSource
from trace_lens.workspace.own_files import OWN_FOLDER, own_folder, write_privately

if TYPE_CHECKING:
    import ibis.expr.types as ir
    import pyarrow as pa

SCHEME = "spark://"
_PARTS = {"parts": "array<string>", "bad_parts": "array<string>"}


def place_of(setting: str, root: Path) -> tuple[str, Path]:
    """Spark's master and the folder of the rows, as `store` says: `spark://HOST:PORT/FOLDER` or `spark://local[2]`.

    Without a folder the rows lie in the workspace.
    """
    where, slash, folder = setting.removeprefix(SCHEME).partition("/")
    master = where if where.startswith("local") else SCHEME + where
    return master, Path(slash + folder) if folder else root / OWN_FOLDER / "parquet"


class SparkStore(EventStore):
    """The store in a folder of Parquet files, asked through Spark. Raises StoreProblem."""

    def __init__(self, root: Path, setting: str, *, writing: bool = False) -> None:
        super().__init__(root, writing=writing)
        self.master, self.path = place_of(setting, root)
        self._lock: BinaryIO | None = None
        self._spark: Any = None
        self._new: dict[tuple[str, str], dict[str, list[str]]] = {}
        self._manifests: dict[str, pa.Table] = {}

    @property
    def exists(self) -> bool:
        """Whether anything was ever loaded."""
        return (self.path / "about.json").exists()

    def __enter__(self) -> SparkStore:
        try:
            if self._writing:
                if self.path.parent.name == OWN_FOLDER:
                    own_folder(self.root)
                for name in ("files", "events", "bad_rows"):
                    (self.path / name).mkdir(parents=True, exist_ok=True)
                self._lock = (self.path / ".lock").open("wb")
                fcntl.flock(self._lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
                if not self.exists:
                    _put(self.path / "about.json", json.dumps({"version": VERSION}).encode())
            self.kept_ids = kept_ids(self.path, make=self._writing)
            told = json.loads((self.path / "about.json").read_bytes())
        except BlockingIOError:
            self.__exit__(None, None, None)
            raise StoreProblem("another trace-lens is loading into the store of logs; try again later") from None
        except (OSError, ValueError) as error:
            self.__exit__(None, None, None)
            raise StoreProblem(f"the store of logs in {self.path} cannot be used: {error}") from None
        if told.get("version") != VERSION:
            raise StoreProblem(
                f"the store of logs is of version {told.get('version')}, and this program works with version "
                f"{VERSION}; move {self.path} away and run trace-lens logs load again: it is made from the log files"
            )
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, _: object) -> None:
        if self._lock:
            self._lock.close()
            self._lock = None
        if kind is not None and kind.__module__.partition(".")[0] in ("pyspark", "py4j"):
            raise StoreProblem(self._unreadable(error)) from None

    def _session(self) -> Any:
        """Ibis' connection to Spark, begun once for a process."""
        if self._connection is None:
            try:
                import ibis
                from pyspark.sql import SparkSession
            except ImportError:
                raise StoreProblem("a store on Spark needs pyspark; install trace-lens[spark]") from None
            try:
                if self.master.startswith("local"):
                    os.environ.setdefault("SPARK_LOCAL_IP", "127.0.0.1")
                    os.environ.setdefault("PYSPARK_PYTHON", sys.executable)
                maker = SparkSession.builder.master(self.master).appName("trace-lens")
                for key, value in (
                    ("spark.ui.enabled", "false"),
                    ("spark.sql.session.timeZone", "UTC"),
                    ("spark.ui.showConsoleProgress", "false"),
                ):
                    maker = maker.config(key, value)
                if self.master.startswith("local"):
                    maker = maker.config("spark.sql.shuffle.partitions", "4")
                self._spark = maker.getOrCreate()
                self._spark.sparkContext.setLogLevel("ERROR")
                self._connection = ibis.pyspark.connect(self._spark)
            except Exception as error:
                reason = str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__
                raise StoreProblem(
                    f"Spark at {self.master} cannot be used ({reason}); it needs a Java runtime here, and a master "
                    "that can be reached"
                ) from None
        return self._connection

    def events(self) -> ir.Table:
        """The events, with `doubled` marking those that stand before in the same source, word for word."""
        return self.with_doubled(self.plain_events())

    def plain_events(self) -> ir.Table:
        """The events as they were loaded."""
        parts = [str(self.path / "events" / item) for row in self._rows() for item in row["parts"]]
        session = self._session()
        if not parts:
            import ibis

            return ibis.memtable([], schema=ibis.schema(TABLES["events"]))
        try:
            self._spark.read.parquet(*parts).createOrReplaceTempView("loaded_events")
            return session.table("loaded_events")
        except Exception as error:
            raise StoreProblem(self._unreadable(error)) from None

    def _unreadable(self, error: BaseException | None) -> str:
        reason = str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__
        return (
            f"the store of logs in {self.path} cannot be read ({reason}); move it away and run trace-lens logs load "
            "again: it is made from the log files, and nothing is lost"
        )

    def _rows(self) -> list[dict[str, Any]]:
        import pyarrow as pa
        import pyarrow.parquet as pq

        found = []
        for file in sorted((self.path / "files").glob("*.parquet")):
            try:
                found += pq.read_table(file).to_pylist()
            except (OSError, pa.ArrowException) as error:
                raise StoreProblem(self._unreadable(error)) from None
        return sorted(found, key=lambda row: (row["loaded_at"], row["source"], row["file"]))

    def files(self) -> list[LoadedFile]:
        """The files that were loaded, in the order of their loading."""
        return [
            LoadedFile(
                **{name: row[name] for name in LoadedFile._fields if name != "loaded_at"},
                loaded_at=row["loaded_at"].replace(tzinfo=UTC),
            )
            for row in self._rows()
        ]

    def _parts(self, source: str, file: str) -> dict[str, list[str]]:
        """The parts that hold the rows of a file, those of the transaction among them."""
        key = (source, file)
        if key not in self._new:
            row = next((row for row in self._rows() if (row["source"], row["file"]) == key), None)
            self._new[key] = {
                "events": list(row["parts"]) if row else [],
                "bad_rows": list(row["bad_parts"]) if row else [],
            }
        return self._new[key]

    def counts(self, source: str, file: str) -> tuple[int, int]:
        """How many events and bad rows of a file are in the store."""
        import pyarrow.parquet as pq

        parts = self._parts(source, file)
        events, bad = (
            sum(pq.read_metadata(self.path / kind / part).num_rows for part in parts[kind])
            for kind in ("events", "bad_rows")
        )
        return events, bad

    def bad_rows(self, source: str | None = None) -> list[tuple[str, BadRow]]:
        """The bad rows that were kept aside, with their files."""
        import pyarrow.parquet as pq

        found = []
        for row in self._rows():
            if source in (None, row["source"]):
                for part in row["bad_parts"]:
                    found += pq.read_table(self.path / "bad_rows" / part).to_pylist()
        found.sort(key=lambda row: (row["file"], row["line"]))
        return [(row["file"], BadRow(row["line"], row["because"], row["text"])) for row in found]

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All or nothing: parts count only when the manifest that names them is in place."""
        import pyarrow as pa

        self._new, self._manifests = {}, {}
        try:
            yield
            for name, table in self._manifests.items():
                _put_table(self.path / "files" / f"{name}.parquet", table)
        except (OSError, pa.ArrowException) as error:
            raise StoreProblem(f"the store of logs could not be written: {error}") from None
        finally:
            self._new, self._manifests = {}, {}

    def add(self, events: Iterable[Event]) -> int:
        """Add events; their number."""
        count = 0
        stream = iter(events)
        while batch := list(islice(stream, BATCH)):
            self._write("events", batch[0].source, batch[0].file, as_columns(batch))
            count += len(batch)
        return count

    def _write(self, kind: str, source: str, file: str, columns: dict[str, Any]) -> None:
        parts = self._parts(source, file)[kind]
        name = f"{_name(source, file)}-{hashlib.sha256(os.urandom(16)).hexdigest()[:12]}.parquet"
        _put_table(self.path / kind / name, _table(kind, columns))
        parts.append(name)

    def add_file(self, source: LogSource, path: Path, name: str, head: str, rows: int, *, plain: bool) -> None:
        """Files are read line by line here."""
        raise OutOfTheOrdinary

    def add_bad(self, source: str, file: str, rows: Iterable[BadRow]) -> None:
        """Keep bad rows aside."""
        found = list(rows)
        if found:
            self._write("bad_rows", source, file, bad_columns(source, file, found))

    def take_out_from(self, source: str, file: str, line: int) -> None:
        """Take out what stands from a line on: it was not whole when it was read."""
        import pyarrow.compute as pc
        import pyarrow.parquet as pq

        for kind, parts in self._parts(source, file).items():
            for place, part in enumerate(list(parts)):
                table = pq.read_table(self.path / kind / part)
                kept = table.filter(pc.less(table["line"], line))
                if kept.num_rows < table.num_rows:
                    name = f"{part.partition('-')[0]}-{hashlib.sha256(os.urandom(16)).hexdigest()[:12]}.parquet"
                    _put_table(self.path / kind / name, kept)
                    parts[place] = name

    def remember(self, file: LoadedFile) -> None:
        """Put down that a file was loaded, in the place of what was put down of it before."""
        parts = self._parts(file.source, file.file)
        columns = {name: [value] for name, value in file._asdict().items()}
        columns["loaded_at"] = [file.loaded_at.replace(tzinfo=None)]
        columns |= {"parts": [parts["events"]], "bad_parts": [parts["bad_rows"]]}
        self._manifests[_name(file.source, file.file)] = _table("files", columns)


def _name(source: str, file: str) -> str:
    return hashlib.sha256(f"{source}\0{file}".encode()).hexdigest()[:24]


def _table(kind: str, columns: dict[str, Any]) -> pa.Table:
    import ibis
    import pyarrow as pa

    schema = ibis.schema({**TABLES[kind], **(_PARTS if kind == "files" else {})}).to_pyarrow()
    arrays = {name: pa.array(list(columns[name]), schema.field(name).type) for name in schema.names}
    return pa.table(arrays, schema=pa.schema([pa.field(item.name, item.type) for item in schema]))


def _put_table(path: Path, table: pa.Table) -> None:
    import pyarrow.parquet as pq

    fresh = path.with_suffix(".new")
    pq.write_table(table, fresh)
    fresh.replace(path)


def _put(path: Path, data: bytes) -> None:
    write_privately(path, data)


def store_of(root: Path, setting: str, *, writing: bool = False, files: Iterable[Path] = ()) -> EventStore:
    """The store of a workspace, as `store` in its settings says; `files` are those that are to be loaded."""
    if setting.startswith(SCHEME):
        return SparkStore(root, setting, writing=writing)
    return EventStore(root, writing=writing, files=files)
