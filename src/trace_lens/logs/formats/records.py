"""Records of a log file, whatever its format: what each column holds, and the line on which the record begins.

A record that cannot be read is given as one that is bad, with the reason; nothing is dropped, nothing stops the rest.
Octets come in and records go out; which columns mean what is told elsewhere.
"""

from __future__ import annotations

import gzip
import io
import json
import os
import re
import shutil
import tempfile
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, BinaryIO

import zstandard

from trace_lens.common.expressions import expression
from trace_lens.common.octets import wide_encoding

if TYPE_CHECKING:
    import duckdb
from trace_lens.logs.formats.delimited import bounded_lines, csv_rows
from trace_lens.logs.formats.json_rows import Rejoined, json_lines, json_or_lines
from trace_lens.logs.formats.pairs import pairs
from trace_lens.logs.formats.rows import DAMAGED, BadRow, Record, Unreadable, Value, bad_row, shortened

_COMBINED = expression(
    r"(?:(?P<vhost>[\w.-]+(?::\d+)?) )?(?P<ip>\S+) (?P<ident>\S+) (?P<user>\S+) \[(?P<time>[^\]]+)\] "
    r"\"(?P<request>(?:[^\"\\]|\\.)*)\" (?P<status>\d{3}) (?P<bytes>\S+)"
    r"(?: \"(?P<referrer>(?:[^\"\\]|\\.)*)\" \"(?P<agent>(?:[^\"\\]|\\.)*)\")?\s*(?P<rest>.*)"
)
_SYSLOG = expression(r"(?:\d+ )?<(\d{1,3})>(\d{1,2}) (\S+) (\S+) (\S+) (\S+) (\S+) ?(.*)", re.DOTALL)
_ELEMENT = expression(r"\[([^\s=\]\"]+)((?: [^\s=\]\"]+=\"(?:[^\"\\\]]|\\.)*\")*)\]")
_PARAMETER = expression(r" ([^\s=\]\"]+)=\"((?:[^\"\\\]]|\\.)*)\"")
_PAIR = expression(r"(?<![\w.\-])([A-Za-z_][\w.\-]*)=(?:\"((?:[^\"\\]|\\.)*)\"|([^\s\",;]+))")


def unpacked(stream: BinaryIO) -> BinaryIO:
    """The stream decompressed, where it is gzip or Zstandard, told by its first octets."""
    head = stream.read(4)
    stream.seek(0)
    if head[:2] == b"\x1f\x8b":
        return gzip.GzipFile(fileobj=stream)  # type: ignore[return-value]
    if head == b"\x28\xb5\x2f\xfd":
        reader = zstandard.ZstdDecompressor().stream_reader(stream, read_across_frames=True)
        return io.BufferedReader(reader)
    return stream


def records_of(
    stream: BinaryIO, form: str, *, delimiter: str | None = None, encoding: str | None = None, rows: str | None = None
) -> Iterator[Record | BadRow]:
    """The records of a decompressed stream in one of the formats. Raises Unreadable."""
    if form in ("parquet", "json", "ocsf"):
        try:
            if form == "parquet":
                yield from _parquet(stream)
            else:
                yield from json_or_lines(stream, rows, of_ocsf=form == "ocsf")
        except DAMAGED as error:
            raise Unreadable(f"it is damaged ({error})") from None
        return
    told = encoding
    if told is None:
        try:
            head = stream.read(4)
        except DAMAGED as error:
            raise Unreadable(f"it is damaged ({error})") from None
        told = wide_encoding(head) or "utf-8-sig"
        stream = io.BufferedReader(Rejoined(head, stream))
    lines = io.TextIOWrapper(stream, told, errors="replace", newline="")
    readers: dict[str, Callable[[], Iterator[Record | BadRow]]] = {
        "csv": lambda: csv_rows(lines, delimiter),
        "jsonl": lambda: json_lines(bounded_lines(lines)),
        "syslog": lambda: _syslog(bounded_lines(lines)),
        "w3c": lambda: _w3c(bounded_lines(lines)),
        "combined": lambda: _combined(bounded_lines(lines)),
        "pairs": lambda: pairs(bounded_lines(lines)),
    }
    try:
        yield from readers[form]()
    except DAMAGED as error:
        raise Unreadable(f"it is damaged ({error})") from None
    finally:
        lines.detach()


def _parquet(stream: BinaryIO) -> Iterator[Record]:
    """Parquet, row by row; what stands for the line is the number of the row.

    The database reads files only, so the octets are put into one of a folder that it alone sees.
    """
    import duckdb

    with tempfile.TemporaryDirectory() as folder:
        file = os.path.join(folder, "rows.parquet")
        with open(file, "wb") as copy:
            shutil.copyfileobj(stream, copy)
        try:
            with duckdb.connect(":memory:", config={"python_enable_replacements": "false"}) as connection:
                for statement in (
                    f"SET allowed_paths = ['{file}']",
                    "SET enable_external_access = false",
                    "SET lock_configuration = true",
                ):
                    connection.execute(statement)
                yield from _parquet_rows(connection, file)
        except duckdb.Error as error:
            raise Unreadable(f"it is no Parquet file that can be read ({str(error).splitlines()[0]})") from None


def _parquet_rows(connection: duckdb.DuckDBPyConnection, file: str) -> Iterator[Record]:
    columns = connection.execute(f"DESCRIBE SELECT * FROM read_parquet('{file}')").fetchall()
    names = [str(name) for name, *_ in columns]
    listed = ", ".join(_column(name, kind) for name, kind, *_ in columns)
    asked = connection.execute(f"SELECT {listed} FROM read_parquet('{file}')")
    zoned = {place for place, (_, kind, *_) in enumerate(columns) if kind == _ZONED}
    number = 0
    while some := asked.fetchmany(10_000):
        for row in some:
            number += 1
            values: dict[str, Value] = {
                name: _EPOCH + timedelta(microseconds=value) if place in zoned and value is not None else value
                for place, (name, value) in enumerate(zip(names, row, strict=True))
            }
            yield Record(number, values, shortened(json.dumps(values, ensure_ascii=False, default=str)))


_ZONED = "TIMESTAMP WITH TIME ZONE"
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def _column(name: str, kind: str) -> str:
    """A column as it is asked for: moments with a zone as their microseconds since 1970."""
    quoted = '"' + name.replace('"', '""') + '"'
    return f"epoch_us({quoted})" if kind == _ZONED else quoted


def _syslog(lines: Iterable[str]) -> Iterator[Record | BadRow]:
    """RFC 5424: the header, structured data by bare name and as `element.name`, and key=value pairs of the message."""
    for number, line in enumerate(lines, 1):
        text = line.strip("\r\n\ufeff")
        if not text.strip():
            continue
        match = _SYSLOG.fullmatch(text)
        if match is None:
            yield bad_row(number, "it is no message of RFC 5424 (<priority>version time host app process id …)", text)
            continue
        priority, _, time, host, app, process, message_id, rest = match.groups()
        values: dict[str, Value] = {
            "time": None if time == "-" else time,
            "hostname": _given(host),
            "app-name": _given(app),
            "procid": _given(process),
            "msgid": _given(message_id),
            "severity": int(priority) % 8,
            "facility": int(priority) // 8,
        }
        message = rest
        if rest.startswith("["):
            position = 0
            while match := _ELEMENT.match(rest, position):
                for name, value in _PARAMETER.findall(match[2]):
                    plain = re.sub(r"\\([\"\\\]])", r"\1", value)
                    values.setdefault(name, plain)
                    values[f"{match[1]}.{name}"] = plain
                position = match.end()
            message = rest[position:].lstrip()
        elif rest.startswith("-"):
            message = rest[1:].lstrip()
        message = message.removeprefix("\ufeff")
        values["message"] = message
        for name, quoted, bare in _PAIR.findall(message):
            values.setdefault(name, re.sub(r"\\(.)", r"\1", quoted) if quoted else bare)
        yield Record(number, values, shortened(text))


def _given(text: str) -> str | None:
    return None if text == "-" else text


def _w3c(lines: Iterable[str]) -> Iterator[Record | BadRow]:
    """The W3C extended log format: `#Fields` names the columns, and may name others further down."""
    names: list[str] = []
    for number, line in enumerate(lines, 1):
        text = line.strip("\r\n\ufeff")
        if text.startswith("#"):
            if text.lower().startswith("#fields:"):
                names = text[8:].split()
            continue
        if not text.strip():
            continue
        cells = [match[1:-1] if match[:1] == '"' else match for match in re.findall(r"\"[^\"]*\"|\S+", text)]
        if not names:
            yield bad_row(number, "no #Fields line comes before it", text)
        elif len(cells) != len(names):
            yield bad_row(number, f"it has {len(cells)} columns where #Fields names {len(names)}", text, columns=names)
        else:
            values = {name: _given(cell) for name, cell in zip(names, cells, strict=True)}
            if values.get("date") and values.get("time"):
                values["date time"] = f"{values['date']} {values['time']}Z"
            yield Record(number, values, shortened(text))


def _combined(lines: Iterable[str]) -> Iterator[Record | BadRow]:
    """The combined log format of web servers."""
    for number, line in enumerate(lines, 1):
        text = line.strip("\r\n\ufeff")
        if not text.strip():
            continue
        match = _COMBINED.fullmatch(text)
        if match is None:
            yield bad_row(number, "it is no line of the combined log format", text)
            continue
        values: dict[str, Value] = {
            name: None if value in (None, "-") else value for name, value in match.groupdict().items()
        }
        method, _, rest = (values["request"] or "").partition(" ")
        values |= {"method": method or None, "target": rest.rpartition(" ")[0] or rest or None}
        yield Record(number, values, shortened(text))
