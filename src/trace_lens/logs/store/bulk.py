"""Well-formed CSV and JSON Lines in bulk: read, mapped and stored by the database itself, as one Ibis expression.

It serves files in which nothing is out of the ordinary: as many rows as lines, one form of time throughout, no change
of clocks in their span. Whatever is out of the ordinary is left to the reader that goes line by line, so that both give
the same events.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Mapping
from datetime import datetime, timedelta, tzinfo
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from trace_lens.common.secrets_in_text import RULES
from trace_lens.logs.event import FAILURE, FIELDS, OTHER, SUCCESS
from trace_lens.logs.formats.events import field_paths
from trace_lens.logs.formats.records import path_parts_joined, sniffed, value_at
from trace_lens.logs.kept_ids import DIGITS, MARK, KeptIds, is_secret_id
from trace_lens.workspace.log_sources import LogSource

if TYPE_CHECKING:
    import ibis.expr.types as ir

_ISO = re.compile(r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(?:\.\d{1,6})?Z?")
_EPOCH = re.compile(r"\d{9,18}")
_UNITS = ("s", "ms")
_WHITE = "".join(chr(number) for number in range(0x3001) if chr(number).isspace())
"""All white space, as the other reader takes it away."""
HEADERS = {"csv": 1, "jsonl": 0}
"""The formats that can be read in bulk, and how many lines stand before their rows."""
_DAY = timedelta(days=1)
_LONGEST = timedelta(days=1_000)


class OutOfTheOrdinary(Exception):
    """The file has something in it that must be read line by line."""


class Bulk(NamedTuple):
    """The events of a file as an expression, and what must hold of them once they are in the store.

    Lines are 0 in it: numbering them while they are read would make the database read them one after the other.

    `first` and `last` bound the times, in UTC, between which the clocks of the source's zone did not change; None where
    times carry their own zone or have none to mind.
    """

    events: ir.Table
    source: str
    file: str
    first: datetime | None
    last: datetime | None


class _Opened(NamedTuple):
    """A file that is about to be read: its rows, the text at each path, the time in the first row.

    `odd` says of a row that something in it has no plain text.
    """

    rows: ir.Table
    texts: Mapping[str, Any]
    sample: str
    odd: Any = None


def bulk_events(
    connection: Any,
    source: LogSource,
    path: Path,
    name: str,
    head: str,
    *,
    plain: bool = False,
    kept: KeptIds | None = None,
) -> Bulk:
    """The events of a file of CSV or JSON Lines as an expression over a connection of Ibis to DuckDB.

    `head` are the first lines of the file. Nothing is read yet: a row that is out of the ordinary gets no time, or ends
    the reading with an error. `plain` says that all white space in the file is spaces and ends of lines: then cells are
    freed of it faster. Raises OutOfTheOrdinary.
    """
    import duckdb
    import ibis

    told = source.settings
    paths = field_paths(source)
    if told.format not in HEADERS or told.time_format or told.encoding or "time" not in paths:
        raise OutOfTheOrdinary
    wanted = sorted({*paths.values(), *told.fields.ids})
    try:
        opened = (_csv if told.format == "csv" else _json_lines)(connection, source, path, head, wanted, paths["time"])
    except (duckdb.Error, ValueError):
        raise OutOfTheOrdinary from None
    texts = {column: _cell(text, plain=plain) for column, text in opened.texts.items()}
    cells = {field: texts[column] for field, column in paths.items()}
    moment, first, last = _moment(cells["time"], opened.sample, source)
    if opened.odd is not None:
        moment = ibis.ifelse(opened.odd, ibis.null("timestamp(6)"), moment)
    nothing = ibis.null("string")
    values = {
        "source": ibis.literal(source.id),
        "file": ibis.literal(name),
        "line": ibis.literal(0, "int64"),
        "time": moment,
        **{field: cells.get(field, nothing) for field in FIELDS if field not in ("time", "outcome")},
        "outcome": _outcome(cells.get("outcome"), source),
        "ids": _listed([_kept(texts[column], column, kept or KeptIds()) for column in told.fields.ids]),
    }
    if "reason" in cells:
        values["reason"] = _without_secrets(cells["reason"])
    if told.app:
        values["app"] = ibis.coalesce(values["app"], ibis.literal(told.app))
    return Bulk(events=opened.rows.select(**values), source=source.id, file=name, first=first, last=last)


def _kept(cell: Any, column: str, kept: KeptIds) -> Any:
    """An id as the store keeps it: the digest of `KeptIds.digest` where its column is secret."""
    import ibis

    if not kept.key or not is_secret_id(column):
        return cell
    digest = (ibis.literal(kept.key) + cell).hexdigest("sha256").substr(0, DIGITS)
    return ibis.ifelse(cell.notnull(), ibis.literal(MARK) + digest, ibis.null("string"))


def _without_secrets(cell: Any) -> Any:
    """A text with the secrets in it hidden, by the same rules as elsewhere."""
    for pattern, put in RULES:
        cell = cell.re_replace(pattern, put)
    return cell


def _csv(connection: Any, source: LogSource, path: Path, head: str, wanted: list[str], time: str) -> _Opened:
    delimiter = source.settings.delimiter or sniffed("\n".join(head.splitlines()[:21]) + "\n")
    lines = csv.reader(io.StringIO(head), delimiter=delimiter)
    header, first = [cell.strip() for cell in next(lines, [])], next(lines, [])
    if len(set(header)) != len(header) or not set(wanted) <= set(header) or len(first) != len(header):
        raise OutOfTheOrdinary
    rows = connection.read_csv(
        str(path.resolve()),
        table_name="bulk_rows",
        header=True,
        all_varchar=True,
        quote='"',
        escape='"',
        strict_mode=True,
        null_padding=False,
        delim=delimiter,
    )
    if list(rows.columns) != header:
        raise OutOfTheOrdinary
    return _Opened(rows, {column: rows[column] for column in wanted}, first[header.index(time)].strip())


def _json_lines(connection: Any, source: LogSource, path: Path, head: str, wanted: list[str], time: str) -> _Opened:
    """Texts and whole numbers have a plain text; fractions and truth values are left to the other reader."""
    import ibis

    parts = {text: path_parts_joined(text).split(".") for text in wanted}
    first = json.loads(head.partition("\n")[0])
    dotted = {text for line in head.splitlines()[:200] for text in wanted if "." in text and f'"{text}"' in line}
    if (
        not isinstance(first, dict)
        or dotted
        or any(text.lstrip("-").isdigit() for some in parts.values() for text in some)
    ):
        raise OutOfTheOrdinary
    columns = dict.fromkeys(sorted({some[0] for some in parts.values()}), "JSON")
    rows = connection.read_json(
        str(path.resolve()), table_name="bulk_rows", format="newline_delimited", columns=columns
    )
    texts, odd = {}, ibis.literal(False)
    for word, some in parts.items():
        value = rows[some[0]]
        for part in some[1:]:
            value = value[part]
        there = value.cast("string").nullif("null").notnull()
        text, number = value.unwrap_as("string"), value.unwrap_as("int64").cast("string")
        texts[word] = ibis.coalesce(text, number)
        odd = odd | (there & text.isnull() & number.isnull())
    return _Opened(rows, texts, str(value_at(first, time) or "").strip(), odd)


def all_in_order(bulk: Bulk, events: ir.Table, rows: int) -> None:
    """See that as many events are in the store as the file has rows, each with a time. Raises OutOfTheOrdinary."""
    mine = events.filter(events["source"] == bulk.source, events["file"] == bulk.file)
    times = mine.aggregate(
        rows=mine.count(), timed=mine["time"].count(), low=mine["time"].min(), high=mine["time"].max()
    )
    (told,) = times.to_pyarrow().to_pylist()
    if told["rows"] != rows or told["timed"] != rows:
        raise OutOfTheOrdinary
    if bulk.first and bulk.last and not bulk.first <= told["low"] <= told["high"] <= bulk.last:
        raise OutOfTheOrdinary


def _cell(column: Any, *, plain: bool) -> Any:
    """A cell as text; null where it is empty or a dash."""
    import ibis

    @ibis.udf.scalar.builtin(name="trim")  # type: ignore[untyped-decorator]
    def without_spaces(text: str) -> str:
        """Without spaces around it; the database's own."""
        raise NotImplementedError

    @ibis.udf.scalar.builtin(name="trim")  # type: ignore[untyped-decorator]
    def without(text: str, signs: str) -> str:
        """Without some signs around it; the database's own."""
        raise NotImplementedError

    text = without_spaces(column) if plain else without(column, _WHITE)
    return text.nullif("").nullif("-")


def _listed(cells: list[Any]) -> Any:
    """The cells that are not null, as a list."""
    import ibis

    nothing = ibis.array([ibis.null("string")]).filter(lambda item: item.notnull())
    if not cells:
        return nothing
    if len(cells) == 1:
        return ibis.ifelse(cells[0].notnull(), ibis.array(cells), nothing)
    return ibis.array(cells).filter(lambda member: member.notnull())


def _moment(text: Any, sample: str, source: LogSource) -> tuple[Any, datetime | None, datetime | None]:
    """The time as a moment in UTC, null where a row has another form than the first; and between which moments that is
    so without a change of clocks. Raises OutOfTheOrdinary where the first is of none that can be read at once.
    """
    import ibis

    if _EPOCH.fullmatch(sample):
        unit = source.settings.time_unit or _unit_of(sample)
        if unit not in _UNITS:
            raise OutOfTheOrdinary
        digits = r"^\d{9,18}$" if source.settings.time_unit else rf"^\d{{{len(sample)}}}$"
        fitting = ibis.ifelse(text.re_search(digits), text, ibis.null("string"))
        return fitting.cast("int64").as_timestamp(unit), None, None
    if not _ISO.fullmatch(sample):
        raise OutOfTheOrdinary
    in_utc = sample.endswith("Z")
    form = r"^\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(\.\d{1,6})?" + ("Z$" if in_utc else "$")
    bare = text.re_replace("Z$", "") if in_utc else text
    local = ibis.ifelse(text.re_search(form), bare, ibis.null("string")).try_cast("timestamp(6)")
    zone = source.zone
    if zone is None or in_utc:
        return local, None, None
    try:
        begin = datetime.fromisoformat(sample)
    except ValueError:
        raise OutOfTheOrdinary from None
    offset, first, last = _steady(begin, zone)
    return (local - ibis.interval(seconds=int(offset.total_seconds())) if offset else local), first, last


def _steady(local: datetime, zone: tzinfo) -> tuple[timedelta, datetime, datetime]:
    """The offset from UTC at a local time, and the UTC moments around it between which it holds, a day less each."""
    offset = local.replace(tzinfo=zone).utcoffset() or timedelta(0)
    ends = []
    for step in (-_DAY, _DAY):
        here = local
        while abs(here - local) < _LONGEST and (here + step).replace(tzinfo=zone).utcoffset() == offset:
            here += step
        ends.append(here - offset)
    return offset, ends[0], ends[1]


def _unit_of(sample: str) -> str:
    return "s" if len(sample) <= 11 else "ms" if len(sample) <= 14 else "us" if len(sample) <= 17 else "ns"


def _outcome(cell: Any, source: LogSource) -> Any:
    """The outcome by the source's words, in small letters; words of other alphabets are left to the other reader."""
    import ibis

    told = source.settings.outcomes
    words = [*((text, FAILURE) for text in told.failure), *((item, SUCCESS) for item in told.success)]
    if cell is None or not words:
        return ibis.literal(OTHER)
    if not all(word.isascii() for word, _ in words):
        raise OutOfTheOrdinary
    seen: dict[str, str] = {}
    for word, outcome in reversed(words):
        seen.setdefault(word.casefold(), outcome)
    lowered = cell.lower()
    meant = {
        FAILURE: [word for word, outcome in seen.items() if outcome == FAILURE],
        SUCCESS: [word for word, outcome in seen.items() if outcome == SUCCESS],
    }
    branches = [(lowered.isin(listed), ibis.literal(outcome)) for outcome, listed in meant.items() if listed]
    return ibis.cases(*branches, else_=ibis.literal(OTHER)).fill_null(OTHER)
