"""The event store: what was loaded from log files, as tables, worked on through Ibis expressions.

DuckDB keeps them in one file of the workspace. A file is loaded in one transaction, so that an interruption leaves the
store as it was. What is in it can always be made anew from the log files.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from trace_lens.common.guarding import Meant
from trace_lens.logs.event import Event
from trace_lens.logs.formats.records import BadRow
from trace_lens.logs.kept_ids import KeptIds, kept_ids
from trace_lens.workspace.log_sources import LogSource
from trace_lens.workspace.own_files import OWN_FOLDER, for_user_only, own_folder, refuse_link
from trace_lens.workspace.records import EVENTS_FILE

if TYPE_CHECKING:
    import ibis.expr.types as ir

VERSION = "2"
BATCH = 50_000
_NUMBER_LINES = """UPDATE events SET line = rowid + ? - (SELECT min(rowid) FROM events WHERE source = ? AND file = ?)
WHERE source = ? AND file = ?"""
"""The rows of a file stand in its order, one after the other."""
_CLOSED = {
    "autoinstall_known_extensions": "false",
    "autoload_known_extensions": "false",
    "allow_community_extensions": "false",
    "allow_unsigned_extensions": "false",
}
"""How the database is opened: without extensions from anywhere."""
_STRANGE = """
SELECT 'table', table_name FROM duckdb_tables() WHERE NOT internal AND database_name = current_database()
UNION ALL SELECT 'view', view_name FROM duckdb_views() WHERE NOT internal AND database_name = current_database()
UNION ALL SELECT 'macro', function_name FROM duckdb_functions()
    WHERE NOT internal AND database_name = current_database()
UNION ALL SELECT 'sequence', sequence_name FROM duckdb_sequences() WHERE database_name = current_database()
UNION ALL SELECT 'type', type_name FROM duckdb_types() WHERE NOT internal AND database_name = current_database()
UNION ALL SELECT 'schema', schema_name FROM duckdb_schemas()
    WHERE NOT internal AND schema_name <> 'main' AND database_name = current_database()
"""
TABLES = {
    "events": {
        "source": "string",
        "file": "string",
        "line": "int64",
        "time": "timestamp(6)",
        "user": "string",
        "app": "string",
        "outcome": "string",
        "code": "string",
        "reason": "string",
        "ip": "string",
        "ids": "array<string>",
    },
    "files": {
        "source": "string",
        "file": "string",
        "octets": "int64",
        "digest": "string",
        "lines": "int64",
        "rows": "int64",
        "bad": "int64",
        "loaded_at": "timestamp(6)",
    },
    "bad_rows": {"source": "string", "file": "string", "line": "int64", "because": "string", "text": "string"},
    "about": {"key": "string", "value": "string"},
}


def _closing(files: Sequence[str]) -> Iterator[str]:
    """The statements that close the database off from everything but some files."""
    listed = ", ".join("'" + file.replace("'", "''") + "'" for file in files)
    if listed:
        yield f"SET allowed_paths = [{listed}]"
    yield "SET enable_external_access = false"
    yield "SET lock_configuration = true"


class StoreProblem(Meant):
    """The store cannot be used; says why and what to do."""


class LoadedFile(NamedTuple):
    """A file that was loaded: how many octets of it, their SHA-256, its whole lines, its rows, how many were bad."""

    source: str
    file: str
    octets: int
    digest: str
    lines: int
    rows: int
    bad: int
    loaded_at: datetime


class EventStore:
    """The store of a workspace; a context manager. Times are kept as UTC without a zone. Raises StoreProblem.

    The database reads nothing but its own file and, while it is written, the `files` that are loaded, and takes no
    extensions.
    """

    def __init__(self, root: Path, *, writing: bool = False, files: Iterable[Path] = ()) -> None:
        self.root = root
        self.path = root / OWN_FOLDER / EVENTS_FILE
        self.kept_ids = KeptIds()
        self._files = [str(file.resolve()) for file in files]
        self._writing = writing
        self._connection: Any = None

    @property
    def exists(self) -> bool:
        """Whether anything was ever loaded."""
        return self.path.exists()

    def __enter__(self) -> EventStore:
        import duckdb
        import ibis

        try:
            if self._writing:
                own_folder(self.root)
            for path in (self.path.parent, self.path):
                refuse_link(path)
            self.kept_ids = kept_ids(self.path.parent, make=self._writing)
        except OSError as error:
            raise StoreProblem(f"the store of logs cannot be used: {error}") from None
        try:
            with for_user_only():
                self._connection = ibis.duckdb.connect(str(self.path), read_only=not self._writing, **_CLOSED)
            for statement in _closing(self._files if self._writing else []):
                self._connection.raw_sql(statement)
        except duckdb.IOException as error:
            if "lock" in str(error).lower():
                raise StoreProblem(
                    "another trace-lens is using the store of logs; try again when it has ended"
                ) from None
            raise StoreProblem(self._damaged(error)) from None
        except duckdb.Error as error:
            raise StoreProblem(self._damaged(error)) from None
        try:
            self._prepare()
        except StoreProblem:
            self._connection.disconnect()
            raise
        except duckdb.Error as error:
            self._connection.disconnect()
            raise StoreProblem(self._damaged(error)) from None
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, _: object) -> None:
        import duckdb

        self._connection.disconnect()
        if isinstance(error, duckdb.Error):
            raise StoreProblem(self._damaged(error)) from None

    def _damaged(self, error: Exception) -> str:
        reason = str(error).strip().splitlines()[0] if str(error).strip() else type(error).__name__
        return (
            f"the store of logs in {OWN_FOLDER}/{EVENTS_FILE} cannot be read ({reason}); move it away and run "
            "trace-lens logs load again: it is made from the log files, and nothing is lost"
        )

    def _prepare(self) -> None:
        import ibis

        self._refuse_strange()
        there = set(self._connection.list_tables())
        if not there and self._writing:
            for name, columns in TABLES.items():
                self._connection.create_table(name, schema=ibis.schema(columns))
            self._connection.raw_sql(f"INSERT INTO about VALUES ('version', '{VERSION}')")
            return
        if not set(TABLES) <= there:
            raise StoreProblem(self._damaged(ValueError("its tables are not those of a store of logs")))
        told = self._connection.table("about").to_pyarrow().to_pylist()
        version = next((row["value"] for row in told if row["key"] == "version"), None)
        if version != VERSION:
            raise StoreProblem(
                f"the store of logs is of version {version}, and this program works with version {VERSION}; move "
                f"{OWN_FOLDER}/{EVENTS_FILE} away and run trace-lens logs load again: it is made from the log files"
            )

    def _refuse_strange(self) -> None:
        """Raise StoreProblem where the file holds anything that this program does not put there."""
        rows = self._connection.raw_sql(_STRANGE).fetchall()
        strange = [f"{kind} {name}" for kind, name in rows if not (kind == "table" and name in TABLES)]
        if strange:
            raise StoreProblem(
                f"the store of logs in {OWN_FOLDER}/{EVENTS_FILE} was not made by this program: it holds the "
                f"{', the '.join(strange[:3])}; move it away and run trace-lens logs load again"
            )

    def events(self) -> ir.Table:
        """The events, with `doubled` marking those that stand before in the same source, word for word."""
        return self.with_doubled(self._connection.table("events"))

    @staticmethod
    def with_doubled(table: ir.Table) -> ir.Table:
        """Events with `doubled`."""
        import ibis

        same = [table[name] for name in ("source", "time", "user", "app", "outcome", "code", "reason", "ip", "ids")]
        place = ibis.row_number().over(ibis.window(group_by=same, order_by=[table["file"], table["line"]]))
        return table.mutate(doubled=place > 0)

    def plain_events(self) -> ir.Table:
        """The events as they were loaded."""
        return self._connection.table("events")

    def files(self) -> list[LoadedFile]:
        """The files that were loaded, in the order of their loading."""
        rows = self._connection.table("files").order_by(["loaded_at", "source", "file"]).to_pyarrow().to_pylist()
        return [LoadedFile(**{**row, "loaded_at": row["loaded_at"].replace(tzinfo=UTC)}) for row in rows]

    def counts(self, source: str, file: str) -> tuple[int, int]:
        """How many events and bad rows of a file are in the store."""
        found = []
        for name in ("events", "bad_rows"):
            table = self._connection.table(name)
            found.append(
                int(table.filter(table["source"] == source, table["file"] == file).count().to_pyarrow().as_py())
            )
        return found[0], found[1]

    def bad_rows(self, source: str | None = None) -> list[tuple[str, BadRow]]:
        """The bad rows that were kept aside, with their files."""
        table = self._connection.table("bad_rows")
        if source is not None:
            table = table.filter(table["source"] == source)
        rows = table.order_by(["file", "line"]).to_pyarrow().to_pylist()
        return [(row["file"], BadRow(row["line"], row["because"], row["text"])) for row in rows]

    @contextmanager
    def transaction(self) -> Iterator[None]:
        """All or nothing: what is done inside is undone where it does not come to its end."""
        import duckdb

        self._connection.raw_sql("BEGIN TRANSACTION")
        try:
            yield
        except BaseException as error:
            self._connection.raw_sql("ROLLBACK")
            if isinstance(error, duckdb.Error):
                raise StoreProblem(f"the store of logs could not be written: {str(error).splitlines()[0]}") from None
            raise
        self._connection.raw_sql("COMMIT")

    def add(self, events: Iterable[Event]) -> int:
        """Add events; their number."""
        count = 0
        stream = iter(events)
        while batch := list(islice(stream, BATCH)):
            self._insert("events", as_columns(batch))
            count += len(batch)
        return count

    def add_file(self, source: LogSource, path: Path, name: str, head: str, rows: int, *, plain: bool) -> None:
        """Add the events of a whole file of so many rows at once; `head` are its first lines.

        It is `plain` where all white space in it is spaces and ends of lines.

        Raises OutOfTheOrdinary where it must be read line by line; the transaction is to be undone then.
        """
        import duckdb

        from trace_lens.logs.store.bulk import HEADERS, OutOfTheOrdinary, all_in_order, bulk_events

        bulk = bulk_events(self._connection, source, path, name, head, plain=plain, kept=self.kept_ids)
        try:
            self._connection.insert("events", bulk.events.select(*TABLES["events"]))
            self._connection.con.execute(_NUMBER_LINES, [HEADERS[source.settings.format] + 1, *[source.id, name] * 2])
        except duckdb.Error:
            raise OutOfTheOrdinary from None
        all_in_order(bulk, self._connection.table("events"), rows)

    def add_bad(self, source: str, file: str, rows: Iterable[BadRow]) -> None:
        """Keep bad rows aside."""
        found = list(rows)
        if found:
            self._insert("bad_rows", bad_columns(source, file, found))

    def remember(self, file: LoadedFile) -> None:
        """Put down that a file was loaded, in the place of what was put down of it before."""
        self._connection.con.execute("DELETE FROM files WHERE source = ? AND file = ?", [file.source, file.file])
        values = {name: [value] for name, value in file._asdict().items()}
        values["loaded_at"] = [file.loaded_at.replace(tzinfo=None)]
        self._insert("files", values)

    def take_out_from(self, source: str, file: str, line: int) -> None:
        """Take out what stands from a line on: it was not whole when it was read."""
        for table in ("events", "bad_rows"):
            statement = f"DELETE FROM {table} WHERE source = ? AND file = ? AND line >= ?"
            self._connection.con.execute(statement, [source, file, line])

    def _insert(self, name: str, columns: dict[str, Any]) -> None:
        import ibis
        import pyarrow as pa

        schema = ibis.schema(TABLES[name]).to_pyarrow()
        table = pa.table(
            {column: pa.array(list(values), schema.field(column).type) for column, values in columns.items()}
        )
        self._connection.insert(name, ibis.memtable(table))


def as_columns(events: Sequence[Event]) -> dict[str, Any]:
    """Events as the columns of their table."""
    rows = [
        (
            event.source,
            event.file,
            event.line,
            event.time.replace(tzinfo=None),
            event.user,
            event.app,
            event.outcome,
            event.code,
            event.reason,
            event.ip,
            list(event.ids),
        )
        for event in events
    ]
    return dict(zip(TABLES["events"], zip(*rows, strict=True), strict=True))


def bad_columns(source: str, file: str, rows: Sequence[BadRow]) -> dict[str, Any]:
    """Bad rows as the columns of their table."""
    return {
        "source": [source] * len(rows),
        "file": [file] * len(rows),
        "line": [row.line for row in rows],
        "because": [row.because for row in rows],
        "text": [row.text for row in rows],
    }
