"""DuckDB in memory, over the parts: embedded, and closed off from everything but the store and the files to be read.

Where the machine's memory does not do, it puts what it works on into a folder of the store.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from trace_lens.logs.store.engine import COLUMNS, Given, named, quoted, select_of
from trace_lens.logs.store.manifest import DiskFull, StoreProblem
from trace_lens.workspace.own_files import for_user_only

if TYPE_CHECKING:
    import duckdb
    from numpy.typing import NDArray

_CLOSED: dict[str, str | bool | int | float | list[str]] = {
    "autoinstall_known_extensions": "false",
    "autoload_known_extensions": "false",
    "allow_community_extensions": "false",
    "allow_unsigned_extensions": "false",
    "python_enable_replacements": "false",
}
"""How the database is opened: without extensions from anywhere, and blind for what Python's variables are called."""
_KINDS = {"VARCHAR": "VARCHAR", "VARCHAR[]": ["VARCHAR"], "BIGINT": "BIGINT", "TIMESTAMP": "BIGINT"}
"""What each kind of column is in the JSON that rows are handed over as, in one text.

Arrays of Python's objects, and each value that is bound, would be looked at one by one, each with a search for a module
that need not be there.
"""
_FEW = 300
"""So many rows at most are written out in a statement."""
_FULL = ("no space left", "disk full", "errno 28", "could not write all bytes", "disk quota")


class Duck:
    """The database. Raises StoreProblem where it cannot be opened."""

    def __init__(self, folder: Path, files: Iterable[Path] = (), threads: int | None = None) -> None:
        import duckdb

        self.folder = folder
        self._given: dict[str, str | None] = {}
        self.connection = duckdb.connect(":memory:", config=_CLOSED | ({"threads": threads} if threads else {}))
        spill = folder / "spill"
        listed = ", ".join(quoted(str(file.resolve())) for file in files)
        for statement in (
            f"SET temp_directory = {quoted(str(spill))}",
            f"SET allowed_directories = [{quoted(str(folder.resolve()))}]",
            *([f"SET allowed_paths = [{listed}]"] if listed else []),
            "SET enable_external_access = false",
            "SET lock_configuration = true",
        ):
            self.connection.execute(statement)

    def close(self) -> None:
        """Close the database."""
        self.connection.close()

    def ask(
        self, statement: str, parts: Sequence[Path], given: Mapping[str, Given] | None = None
    ) -> list[tuple[Any, ...]]:
        """The rows that a statement gives; the events of the parts are `events` in it. Raises StoreProblem."""
        with self.meaning():
            return self._prepared(statement, parts, given).fetchall()

    def arrays(
        self, statement: str, parts: Sequence[Path], given: Mapping[str, Given] | None = None
    ) -> dict[str, NDArray[Any]]:
        """The columns that a statement gives, as arrays. Raises StoreProblem."""
        with self.meaning():
            return self._prepared(statement, parts, given).fetchnumpy()

    def _prepared(
        self, statement: str, parts: Sequence[Path], given: Mapping[str, Given] | None
    ) -> duckdb.DuckDBPyConnection:
        beside = []
        if parts or "events" in statement:  # no view, which would look into every part when it is made, and again
            beside.append(f"events AS NOT MATERIALIZED ({events_in_parts(parts)})")
        for name, rows in (given or {}).items():
            written = _written_out(rows)
            if written is None:
                self.give(name, rows)
            else:
                beside.append(f"{name} AS ({written})")
        if beside:
            more = f", {statement[5:]}" if statement.startswith("WITH ") else f" {statement}"
            statement = f"WITH {', '.join(beside)}{more}"
        return self.connection.execute(statement)

    def give(self, name: str, rows: Given) -> None:
        """Make rows known under a name."""
        written = _written_out(rows)
        if written is not None and self._given.get(name) == written:
            return
        with self.handed_over(rows) as query:
            self.connection.execute(f"CREATE OR REPLACE TEMP TABLE {name} AS {query}")
        self._given[name] = written

    @contextmanager
    def handed_over(self, rows: Given) -> Iterator[str]:
        """A query that gives some rows, as long as the block lasts."""
        written = _written_out(rows)
        if written is not None:
            yield written
            return
        import json

        form = json.dumps({key: [_KINDS[kind]] for key, kind in rows.types.items()})
        columns = (
            f"make_timestamp(unnest(held.{named(key)}))" if kind == "TIMESTAMP" else f"unnest(held.{named(key)})"
            for key, kind in rows.types.items()
        )
        listed = ", ".join(f"{column} AS {named(key)}" for column, key in zip(columns, rows.types, strict=True))
        self.connection.execute(
            f"CREATE OR REPLACE TEMP TABLE handed_over AS SELECT {listed} "
            f"FROM (SELECT from_json(?, {quoted(form)}) AS held)",
            [_as_json(rows)],
        )
        try:
            yield "SELECT * FROM handed_over"
        finally:
            self.connection.execute("DROP TABLE IF EXISTS handed_over")

    def do(self, statement: str) -> None:
        """Carry out a statement; files that it writes are for the user only. Raises StoreProblem."""
        with self.meaning(), for_user_only():
            self.connection.execute(statement)

    @contextmanager
    def meaning(self) -> Iterator[None]:
        """What the database refuses, told as a problem of the store."""
        import duckdb

        try:
            yield
        except duckdb.Error as error:
            raise problem_of(error, self.folder) from None


def problem_of(error: BaseException, folder: Path) -> StoreProblem:
    """What an error of the database or of the file system means for the store."""
    reason = str(error).strip().partition("\n")[0] or type(error).__name__
    if (isinstance(error, OSError) and error.errno == 28) or any(words in reason.lower() for words in _FULL):
        return DiskFull(
            f"the disk is full: nothing more can be written to the store of logs in {folder}; what was loaded before "
            "is whole. Make room and run trace-lens logs load again"
        )
    return StoreProblem(
        f"the store of logs in {folder} cannot be used ({reason}); if it is damaged, move it away and run trace-lens "
        "logs load again: it is made from the log files, and nothing is lost"
    )


def events_in_parts(parts: Sequence[Path]) -> str:
    """The query that gives the events of some parts."""
    if not parts:
        nothing = ", ".join(f"NULL::{kind} AS {named(name)}" for name, kind in COLUMNS.items())
        return f"SELECT {nothing} WHERE false"
    listed = ", ".join(quoted(str(part)) for part in parts)
    return f"SELECT {select_of(COLUMNS)} FROM read_parquet([{listed}])"


def _written_out(rows: Given) -> str | None:
    """A query that has a few rows written out, which begins faster than handing them over; None where it cannot."""
    count = len(next(iter(rows.columns.values()), ()))
    if count > _FEW or any(kind == "VARCHAR[]" for kind in rows.types.values()):
        return None
    if any("\0" in value for column in rows.columns.values() for value in column if isinstance(value, str)):
        return None
    if not count:
        nothing = ", ".join(f"NULL::{kind} AS {named(key)}" for key, kind in rows.types.items())
        return f"SELECT {nothing} WHERE false"
    lines = zip(*(rows.columns[key] for key in rows.types), strict=True)
    values = ", ".join(f"({', '.join(map(_literal, line))})" for line in lines)
    cast = ", ".join(f"{named(key)}::{kind} AS {named(key)}" for key, kind in rows.types.items())
    return f"SELECT {cast} FROM (VALUES {values}) v({', '.join(map(named, rows.types))})"


def _literal(value: Any) -> str:
    if value is None:
        return "NULL"
    return str(value) if isinstance(value, int) else quoted(str(value))


def _as_json(rows: Given) -> str:
    """Rows as one JSON object of columns: moments as microseconds since 1970, half characters of UTF-16 replaced."""
    import json

    columns = {key: _plain(rows.columns[key], kind) for key, kind in rows.types.items()}
    text = json.dumps(columns, separators=(",", ":"), ensure_ascii=False)
    try:
        text.encode()
    except UnicodeEncodeError:
        text = text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")
    return text


def _plain(values: Sequence[Any], kind: str) -> Sequence[Any]:
    """The values of a column as JSON has them."""
    if kind == "TIMESTAMP":
        import numpy as np

        found = np.array(values, dtype="datetime64[us]").astype(np.int64).tolist()
        return [None if value is None else number for value, number in zip(values, found, strict=True)]
    if kind == "VARCHAR[]":
        return [value or () for value in values]
    return [None if value is None else int(value) for value in values] if kind == "BIGINT" else values
