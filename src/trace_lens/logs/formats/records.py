"""Records of a log file, whatever its format: what each column holds, and the line on which the record begins.

A record that cannot be read is given as one that is bad, with the reason; nothing is dropped, nothing stops the rest.
Octets come in and records go out; which columns mean what is told elsewhere.
"""

from __future__ import annotations

import csv
import gzip
import io
import json
import os
import re
import shutil
import tempfile
import zlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any, BinaryIO, NamedTuple

import zstandard

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.octets import wide_encoding
from trace_lens.common.secrets_in_text import without_opaque, without_secrets
from trace_lens.logs.kept_ids import is_secret_column

if TYPE_CHECKING:
    import duckdb

Value = Any
"""A text, a number, a truth value, a list or a table, as the format has it; None where there is none."""
_COMBINED = expression(
    r"(?:(?P<vhost>[\w.-]+(?::\d+)?) )?(?P<ip>\S+) (?P<ident>\S+) (?P<user>\S+) \[(?P<time>[^\]]+)\] "
    r"\"(?P<request>(?:[^\"\\]|\\.)*)\" (?P<status>\d{3}) (?P<bytes>\S+)"
    r"(?: \"(?P<referrer>(?:[^\"\\]|\\.)*)\" \"(?P<agent>(?:[^\"\\]|\\.)*)\")?\s*(?P<rest>.*)"
)
_LOOKED_AHEAD = 64 * 1024
_SYSLOG = expression(r"(?:\d+ )?<(\d{1,3})>(\d{1,2}) (\S+) (\S+) (\S+) (\S+) (\S+) ?(.*)", re.DOTALL)
_ELEMENT = expression(r"\[([^\s=\]\"]+)((?: [^\s=\]\"]+=\"(?:[^\"\\\]]|\\.)*\")*)\]")
_PARAMETER = expression(r" ([^\s=\]\"]+)=\"((?:[^\"\\\]]|\\.)*)\"")
_PAIR = expression(r"(?<![\w.\-])([A-Za-z_][\w.\-]*)=(?:\"((?:[^\"\\]|\\.)*)\"|([^\s\",;]+))")
OCSF_AUTHENTICATION = 3002
"""The class of Authentication events in the Open Cybersecurity Schema Framework."""


DAMAGED = (EOFError, OSError, zlib.error, zstandard.ZstdError)
"""What reading a damaged or cut stream of gzip or Zstandard raises."""


class Record(NamedTuple):
    """One record: the line where it begins (from 1), its values by column, and its text as far as that is shown."""

    line: int
    values: Mapping[str, Value]
    text: str = ""


class BadRow(NamedTuple):
    """A record that cannot be read, and why."""

    line: int
    because: str
    text: str


class Unreadable(ValueError):
    """A file that cannot be read as this format at all; says why."""


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
                yield from _json_or_lines(stream, rows, of_ocsf=form == "ocsf")
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
        stream = io.BufferedReader(_Rejoined(head, stream))
    lines = io.TextIOWrapper(stream, told, errors="replace", newline="")
    readers: dict[str, Callable[[], Iterator[Record | BadRow]]] = {
        "csv": lambda: _csv(lines, delimiter),
        "jsonl": lambda: _json_lines(_bounded(lines)),
        "syslog": lambda: _syslog(_bounded(lines)),
        "w3c": lambda: _w3c(_bounded(lines)),
        "combined": lambda: _combined(_bounded(lines)),
    }
    try:
        yield from readers[form]()
    except DAMAGED as error:
        raise Unreadable(f"it is damaged ({error})") from None
    finally:
        lines.detach()


def _short(text: str) -> str:
    text = text.rstrip("\r\n")
    return text if len(text) <= limits.SHOWN_VALUE else text[: limits.SHOWN_VALUE] + "…"


def _bad(line: int, because: str, text: str, *, columns: Iterable[str] = ()) -> BadRow:
    """A bad row, with the secrets in its text hidden.

    Where one of its columns is a secret, and nobody can tell which cell is of which column, whatever looks like an id
    is hidden too.
    """
    hide = without_opaque if any(map(is_secret_column, columns)) else without_secrets
    return BadRow(line, without_secrets(because), hide(_short(text)))


def bad_record(record: Record, because: str) -> BadRow:
    """A record that turned out bad, with what its secret columns hold, and the secrets in its text, hidden."""
    text = record.text
    for column, value in record.values.items():
        if isinstance(value, str) and value and is_secret_column(column):
            text = text.replace(value, "[secret]")
    return _bad(record.line, because, text)


def _bounded(lines: io.TextIOWrapper) -> Iterator[str]:
    """The lines of a stream; of one that is longer than any record of a log its beginning only, which is then bad."""
    while line := lines.readline(limits.LOG_LINE):
        yield line
        while len(line) == limits.LOG_LINE and not line.endswith("\n"):
            line = lines.readline(limits.LOG_LINE)


def sniffed(sample: str) -> str:
    """The delimiter of a CSV text: the one by which most of its rows have as many columns as the first, and several."""
    best, most = ",", 0.0
    for candidate in ",;\t|":
        try:
            rows = [row for row in csv.reader(io.StringIO(sample, newline=""), delimiter=candidate) if row][:20]
        except csv.Error:
            continue
        if not rows or len(rows[0]) < 2:
            continue
        alike = sum(len(row) == len(rows[0]) for row in rows) / len(rows)
        if alike > 0.5 and alike * len(rows[0]) > most:
            best, most = candidate, alike * len(rows[0])
    return best


def _csv(lines: io.TextIOWrapper, delimiter: str | None) -> Iterator[Record | BadRow]:
    """RFC 4180 and its relatives. A row with another number of columns than the header is bad."""
    csv.field_size_limit(limits.KEPT_BODY_BYTES)
    first = lines.readline(limits.LOG_LINE)
    ahead = 20
    sample = first + "".join(lines.readline(limits.LOG_LINE) for _ in range(ahead))
    source = _Chained(sample, lines)
    reader = csv.reader(source, delimiter=delimiter or sniffed(sample), strict=False)
    header: list[str] | None = None
    width = _usual_width(sample, delimiter or sniffed(sample))
    while True:
        line = reader.line_num + 1
        source.taken.clear()
        try:
            row = next(reader)
        except StopIteration:
            return
        except csv.Error as error:
            yield _bad(line, f"it is no CSV: {error}", "".join(source.taken))
            continue
        text = "".join(source.taken)
        if not any(cell.strip() for cell in row):
            continue
        if header is None and len(row) < width:
            yield _bad(line, f"it stands before the header, with {len(row)} columns where that has {width}", text)
            continue
        if header is None:
            header = [cell.strip() for cell in row]
            continue
        if len(row) != len(header) and not (len(row) > len(header) and not any(row[len(header) :])):
            yield _bad(line, f"it has {len(row)} columns where the header has {len(header)}", text, columns=header)
            continue
        yield Record(line, dict(zip(header, row, strict=False)), _short(text))


def _usual_width(sample: str, delimiter: str) -> int:
    """The number of columns that most rows of a sample have, where the first has fewer; else 0.

    An export may begin with a title and the like; its header is the first row that is as wide as those that follow.
    """
    try:
        rows = [row for row in csv.reader(io.StringIO(sample, newline=""), delimiter=delimiter) if any(row)]
    except csv.Error:
        return 0
    widths = [len(row) for row in rows]
    usual = max(set(widths), key=widths.count, default=0)
    return usual if widths and widths[0] < usual and widths.count(usual) * 2 > len(widths) else 0


class _Chained:
    """Lines read ahead, then the rest; `taken` are those handed out since it was last cleared."""

    def __init__(self, sample: str, lines: io.TextIOWrapper) -> None:
        self._ahead = iter(io.StringIO(sample, newline=""))
        self._lines = lines
        self.taken: list[str] = []

    def __iter__(self) -> _Chained:
        return self

    def __next__(self) -> str:
        line = next(self._ahead, None)
        if line is None:
            line = self._lines.readline(limits.LOG_LINE)
            if not line:
                raise StopIteration
        self.taken.append(line)
        return line.replace("\0", "\ufffd")


def _json_lines(lines: Iterable[str]) -> Iterator[Record | BadRow]:
    for number, line in enumerate(lines, 1):
        if line.strip():
            yield _json_row(number, line)


def _json_row(number: int, line: str) -> Record | BadRow:
    try:
        value = json.loads(line)
    except (ValueError, RecursionError) as error:
        return _bad(number, f"it is no JSON: {str(error).partition(':')[0].lower()}", line)
    if not isinstance(value, dict):
        return _bad(number, "it is no JSON object", line)
    return Record(number, value, _short(line))


def _json_or_lines(stream: BinaryIO, rows: str | None, *, of_ocsf: bool) -> Iterator[Record | BadRow]:
    """A JSON array, at the top or at the path `rows`, or (as OCSF is exported too) objects line by line."""
    head = stream.read(4096)
    rest = _Rejoined(head, stream)
    bare = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    if bare[:1] == b"{" and not rows:
        lines = io.TextIOWrapper(io.BufferedReader(rest), "utf-8-sig", errors="replace", newline="")
        found = _json_lines(_bounded(lines))
    else:
        found = _json_array(io.BufferedReader(rest), rows)
    yield from (_authentication(row) for row in found) if of_ocsf else found


class _Rejoined(io.RawIOBase):
    """What was read ahead of a stream, and then the stream."""

    def __init__(self, head: bytes, stream: BinaryIO) -> None:
        self._head = head
        self._stream = stream

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        data = self._head[: len(buffer)] or self._stream.read(len(buffer))
        self._head = self._head[len(data) :] if self._head else b""
        buffer[: len(data)] = data
        return len(data)


def _json_array(stream: BinaryIO, rows: str | None) -> Iterator[Record | BadRow]:
    import ijson

    head = stream.read(_LOOKED_AHEAD)
    path = path_parts_joined(rows) if rows else ""
    prefix = next((found for found, keys in arrays_in(head) if keys == path), f"{path}.item".lstrip("."))
    stream = io.BufferedReader(_Rejoined(head, stream))
    number = 0
    try:
        for number, value in enumerate(ijson.items(stream, prefix, use_float=True), 1):
            if isinstance(value, dict):
                yield Record(number, value, _short(json.dumps(value, ensure_ascii=False, default=str)))
            else:
                yield _bad(number, "it is no JSON object", str(value))
    except ijson.JSONError as error:
        yield BadRow(number + 1, f"the file breaks off or is broken here: {str(error).splitlines()[0]}", "")
    if number == 0:
        raise Unreadable(f"it holds no array of rows{f' at {rows}' if rows else ''}")


def arrays_in(head: bytes) -> Iterator[tuple[str, str]]:
    """The objects within arrays in the beginning of a JSON text: how ijson names their place, and the path of keys.

    Arrays within arrays add nothing to the path: the rows of `{"pages": [{"rows": [{}]}]}` are at `pages.rows`.
    """
    import ijson

    keys: list[str | None] = []
    """For each open container its last key, None for an array."""
    try:
        for place, event, value in ijson.parse(io.BytesIO(head), use_float=True):
            if event == "map_key":
                keys[-1] = value
            elif event == "start_map":
                if keys and keys[-1] is None:
                    yield place, ".".join(key for key in keys if key is not None)
                keys.append("")
            elif event == "start_array":
                keys.append(None)
            elif event in ("end_map", "end_array"):
                keys.pop()
    except ijson.JSONError:
        return


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
            yield Record(number, values, _short(json.dumps(values, ensure_ascii=False, default=str)))


_ZONED = "TIMESTAMP WITH TIME ZONE"
_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def _column(name: str, kind: str) -> str:
    """A column as it is asked for: moments with a zone as their microseconds since 1970."""
    quoted = '"' + name.replace('"', '""') + '"'
    return f"epoch_us({quoted})" if kind == _ZONED else quoted


def path_parts_joined(path: str) -> str:
    """A dotted path without its leading `$.`."""
    return path.removeprefix("$").removeprefix(".")


def _authentication(row: Record | BadRow) -> Record | BadRow:
    """An OCSF record that is no Authentication event is told as such."""
    if isinstance(row, Record):
        kind = row.values.get("class_uid")
        if kind is not None and kind != OCSF_AUTHENTICATION:
            because = f"its class_uid is {kind}; Authentication events have {OCSF_AUTHENTICATION}"
            return _bad(row.line, because, row.text)
    return row


def _syslog(lines: Iterable[str]) -> Iterator[Record | BadRow]:
    """RFC 5424: the header, structured data by bare name and as `element.name`, and key=value pairs of the message."""
    for number, line in enumerate(lines, 1):
        text = line.strip("\r\n\ufeff")
        if not text.strip():
            continue
        match = _SYSLOG.fullmatch(text)
        if match is None:
            yield _bad(number, "it is no message of RFC 5424 (<priority>version time host app process id …)", text)
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
        yield Record(number, values, _short(text))


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
            yield _bad(number, "no #Fields line comes before it", text)
        elif len(cells) != len(names):
            yield _bad(number, f"it has {len(cells)} columns where #Fields names {len(names)}", text, columns=names)
        else:
            values = {name: _given(cell) for name, cell in zip(names, cells, strict=True)}
            if values.get("date") and values.get("time"):
                values["date time"] = f"{values['date']} {values['time']}Z"
            yield Record(number, values, _short(text))


def _combined(lines: Iterable[str]) -> Iterator[Record | BadRow]:
    """The combined log format of web servers."""
    for number, line in enumerate(lines, 1):
        text = line.strip("\r\n\ufeff")
        if not text.strip():
            continue
        match = _COMBINED.fullmatch(text)
        if match is None:
            yield _bad(number, "it is no line of the combined log format", text)
            continue
        values: dict[str, Value] = {
            name: None if value in (None, "-") else value for name, value in match.groupdict().items()
        }
        method, _, rest = (values["request"] or "").partition(" ")
        values |= {"method": method or None, "target": rest.rpartition(" ")[0] or rest or None}
        yield Record(number, values, _short(text))


def value_at(values: Mapping[str, Value], path: str) -> Value:
    """The value of a column, or at a dotted path (`actor.user.name`, `ids.0`); None where there is none."""
    if path in values:
        return values[path]
    here: Value = values
    for part in path_parts_joined(path).split("."):
        if isinstance(here, Mapping):
            here = here.get(part)
        elif isinstance(here, list) and part.lstrip("-").isdigit() and -len(here) <= int(part) < len(here):
            here = here[int(part)]
        else:
            return None
    return here
