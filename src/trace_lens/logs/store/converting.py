"""Stores of the earlier formats, converted with their events: the log files they were made from may be gone.

Two there are: one database file with tables, and a folder of Parquet files with a manifest for each log file. Both hold
the same columns. What they held is written as parts; they are left where they are, under another name.
"""

from __future__ import annotations

from collections.abc import Sequence
from datetime import UTC
from pathlib import Path
from typing import Any

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.formats.rows import BadRow
from trace_lens.logs.store.duck import Duck, problem_of
from trace_lens.logs.store.engine import COLUMNS, named, quoted
from trace_lens.logs.store.manifest import Content, FileFacts, Manifest, StoreProblem
from trace_lens.logs.store.writing import Writer
from trace_lens.workspace.own_files import OWN_FOLDER, refuse_link
from trace_lens.workspace.records import EARLIER_EVENTS

_VERSION = "2"
_FOLDER = "parquet"
_CONVERTED = ".converted"
_STRANGE = """
SELECT 'view', view_name FROM duckdb_views() WHERE NOT internal AND database_name = 'earlier'
UNION ALL SELECT 'macro', function_name FROM duckdb_functions() WHERE NOT internal AND database_name = 'earlier'
UNION ALL SELECT 'table', table_name FROM duckdb_tables() WHERE NOT internal AND database_name = 'earlier'
    AND table_name NOT IN ('events', 'files', 'bad_rows', 'about')
"""


class Earlier(NamedTuple):
    """A store of an earlier format: its file, or its folder."""

    path: Path
    is_folder: bool


def earlier_store(root: Path, folder: Path) -> Earlier | None:
    """The store of an earlier format that is where this one belongs; None where there is none."""
    if folder.parent.name != OWN_FOLDER:
        return Earlier(folder, is_folder=True) if (folder / "about.json").exists() else None
    if (folder.parent / EARLIER_EVENTS).exists():
        return Earlier(folder.parent / EARLIER_EVENTS, is_folder=False)
    there = folder.parent / _FOLDER
    return Earlier(there, is_folder=True) if (there / "about.json").exists() else None


def convert(folder: Path, earlier: Earlier) -> None:
    """Write what an earlier store held into a new one that is open for writing. Raises StoreProblem, OSError."""
    refuse_link(earlier.path)
    duck = Duck(folder, _readable(earlier))
    try:
        if not earlier.is_folder:
            _attach(duck, earlier.path)
        _write(folder, duck, _in_folder(duck, earlier.path) if earlier.is_folder else _in_database(duck))
    except StoreProblem as problem:
        raise StoreProblem(
            f"the store of logs in {earlier.path} cannot be read ({problem}); move it away and run trace-lens logs "
            "load again: it is made from the log files"
        ) from None
    finally:
        duck.close()
    if not earlier.is_folder:
        earlier.path.rename(earlier.path.with_name(earlier.path.name + _CONVERTED))
    elif earlier.path == folder:
        (earlier.path / "about.json").rename(earlier.path / f"about.json{_CONVERTED}")
    else:
        earlier.path.rename(earlier.path.with_name(_FOLDER + _CONVERTED))


def _readable(earlier: Earlier) -> list[Path]:
    if not earlier.is_folder:
        return [earlier.path, earlier.path.with_name(earlier.path.name + ".wal")]
    return sorted(file for name in ("files", "events", "bad_rows") for file in (earlier.path / name).glob("*.parquet"))


def _attach(duck: Duck, path: Path) -> None:
    """Open a database file beside the own. Raises StoreProblem where it is none of an earlier store."""
    duck.do(f"ATTACH {quoted(str(path.resolve()))} AS earlier (READ_ONLY)")
    strange = duck.ask(_STRANGE, [])
    if strange:
        told = ", the ".join(f"{kind} {name}" for kind, name in strange[:3])
        raise StoreProblem(f"it was not made by this program: it holds the {told}")
    rows = duck.ask("SELECT value FROM earlier.about WHERE key = 'version'", [])
    if [row[0] for row in rows] != [_VERSION]:
        version = rows[0][0] if rows else "none"
        raise StoreProblem(f"it is of version {version}, which cannot be converted")


class _File(NamedTuple):
    """A log file of an earlier store: what was known of it, and what stands after FROM for its rows and bad rows."""

    told: dict[str, Any]
    events: str
    bad_rows: str


_FIELDS = ("source", "file", "octets", "digest", "lines", "loaded_at")


def _in_database(duck: Duck) -> list[_File]:
    listed = ", ".join(map(named, _FIELDS))
    rows = duck.ask(f"SELECT {listed} FROM earlier.files ORDER BY loaded_at, source, file", [])
    found = []
    for row in rows:
        told = dict(zip(_FIELDS, row, strict=True))
        of_file = f"WHERE source = {quoted(told['source'])} AND file = {quoted(told['file'])}"
        found.append(_File(told, f"earlier.events {of_file}", f"earlier.bad_rows {of_file}"))
    return found


def _in_folder(duck: Duck, folder: Path) -> list[_File]:
    """What the manifests of a folder name; what they do not name was never whole."""
    files = sorted((folder / "files").glob("*.parquet"))
    if not files:
        return []
    listed = ", ".join(map(named, (*_FIELDS, "parts", "bad_parts")))
    among = ", ".join(quoted(str(file.resolve())) for file in files)
    rows = duck.ask(f"SELECT {listed} FROM read_parquet([{among}]) ORDER BY loaded_at, source, file", [])

    def parts(name: str, of_it: Sequence[str] | None) -> str:
        paths = [folder / name / Path(part).name for part in of_it or ()]
        return f"read_parquet([{', '.join(quoted(str(path.resolve())) for path in paths)}])" if paths else ""

    return [
        _File(dict(zip(_FIELDS, row, strict=False)), parts("events", row[-2]), parts("bad_rows", row[-1]))
        for row in rows
    ]


def _write(folder: Path, duck: Duck, files: Sequence[_File]) -> None:
    writer, manifest = Writer(duck, folder), Manifest()
    for number, (told, events, bad_rows) in enumerate(files):
        key = f"{told['digest'][:16]}-{number}"
        written = writer.write(key, _events_query(events, key)) if events else None
        bad = (
            [BadRow(*row) for row in duck.ask(f"SELECT line, because, text FROM {bad_rows} ORDER BY line", [])]
            if bad_rows
            else []
        )
        manifest.put(
            Content(
                id=key,
                source=told["source"],
                names=(),
                file=FileFacts(told["octets"], told["digest"], beginning="", lines=told["lines"]),
                rows=written.rows if written else 0,
                loaded_at=told["loaded_at"].replace(tzinfo=UTC),
                first=written.first if written else None,
                last=written.last if written else None,
                part=written.part if written else None,
                bad=writer.write_bad(key, bad),
            )
        )
        manifest.point(told["file"], key)
    for content in writer.keep(list(manifest)):
        manifest.put(content)
    try:
        manifest.write(folder)
    except OSError as error:
        raise problem_of(error, folder) from None


def _events_query(events: str, key: str) -> str:
    """The events of one file, as a part has them."""
    own = {"content": quoted(key), "same_content": "NULL", "same_line": "NULL"}
    listed = ", ".join(f"{own.get(name, named(name))}::{kind} AS {named(name)}" for name, kind in COLUMNS.items())
    return f"SELECT {listed} FROM {events} ORDER BY line"
