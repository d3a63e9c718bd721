"""Well-formed CSV and JSON Lines in bulk: read, mapped and written by the database itself, as one query.

It serves files in which nothing is out of the ordinary: as many rows as lines, one form of time throughout, no change
of clocks in their span. Whatever is out of the ordinary is left to the reader that goes line by line, so that both give
the same events.
"""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Mapping, Sequence
from datetime import UTC, datetime, timedelta, tzinfo
from pathlib import Path

from trace_lens.common.expressions import expression
from trace_lens.common.secrets_in_text import RULES
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import FAILURE, FIELDS, OTHER, SUCCESS
from trace_lens.logs.formats.delimited import sniffed
from trace_lens.logs.formats.events import field_paths
from trace_lens.logs.formats.rows import path_parts_joined, value_at
from trace_lens.logs.kept_ids import DIGITS, MARK, KeptIds, is_secret_id
from trace_lens.logs.store.engine import COLUMNS, named, quoted
from trace_lens.logs.store.facts import ANY, NONE, SPACES, white_in
from trace_lens.workspace.log_sources import LogSource

_ISO = expression(r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(?:\.\d{1,6})?Z?")
_EPOCH = expression(r"\d{9,18}")
_UNITS = {"s": "make_timestamp({} * 1000000)", "ms": "make_timestamp_ms({})"}
_WHITE = "".join(chr(number) for number in range(0x3001) if chr(number).isspace())
"""All white space, as the other reader takes it away."""
_AT_EDGE = r"^[\s\x1c-\x1f\x{80}-\x{10ffff}]|[\s\x1c-\x1f\x{80}-\x{10ffff}]$"
"""What may be white space at the edge of a cell."""
HEADERS = {"csv": 1, "jsonl": 0}
"""The formats that can be read in bulk, and how many lines stand before their rows."""
_FRACTION = "-?[0-9]+([.][0-9]+([eE][+-]?[0-9]+)?|[eE][+-]?[0-9]+)|-0"
"""Numbers that the database and the other reader may write differently."""
_DAY = timedelta(days=1)
_LONGEST = timedelta(days=1_000)
WATCHED = "watched"
"""Supposed is that there is no white space around cells; a row that has some is out of the ordinary."""


def edges_of(source: LogSource, head: str) -> bytes:
    """The octets that stand between cells; none where white space at the edges of cells does not tell itself so."""
    if source.settings.format != "csv":
        return b""
    delimiter = delimiter_of(source, head)
    return (delimiter + '"').encode() if delimiter.isascii() else b""


def supposed_white(source: LogSource, octets: bytes, known: str | None) -> tuple[str, ...]:
    """What to suppose of the white space around the cells of a file, one after the other, by its first octets; `known`
    is what the whole of it tells.
    """
    edges = edges_of(source, octets.decode("utf-8-sig", "replace"))
    white = known or white_in(octets, edges)
    if white == ANY or (source.settings.format == "jsonl" and b"\\" in octets):
        return (ANY,)
    return (NONE,) if white == NONE and edges else (WATCHED, SPACES)


def holds_beside(supposed: str, white: str) -> bool:
    """Whether what was supposed of the white space of a file holds beside what the whole of it tells."""
    return supposed == ANY or white == NONE or (white == SPACES and supposed != NONE)


class OutOfTheOrdinary(Exception):
    """The file has something in it that must be read line by line."""


class Bulk(NamedTuple):
    """The query that gives the events of a file, and what must hold of them once they are written.

    `first` and `last` bound the times, in UTC, between which the clocks of the source's zone did not change; None where
    times carry their own zone or have none to mind.
    """

    query: str
    first: datetime | None
    last: datetime | None


class _Opened(NamedTuple):
    """A file that is about to be read: what gives its rows, the text at each path, the time in the first row.

    `odd` says of a row that something in it has no plain text; `nulls` that empty cells and dashes are null already.
    """

    rows: str
    texts: Mapping[str, str]
    sample: str
    odd: str | None = None
    nulls: bool = False


def bulk_events(
    source: LogSource, path: Path, content: str, head: str, *, white: str = ANY, kept: KeptIds | None = None
) -> Bulk:
    """The events of a file of CSV or JSON Lines as a query with the columns of a part.

    `head` are the first lines of the file. Nothing is read yet: a row that is out of the ordinary gets no time, or ends
    the reading with an error. `white` says what white space there may be around cells (NONE, WATCHED,
    SPACES, ANY). Raises OutOfTheOrdinary.
    """
    told = source.settings
    paths = field_paths(source)
    if told.format not in HEADERS or told.time_format or told.encoding or "time" not in paths:
        raise OutOfTheOrdinary
    wanted = sorted({*paths.values(), *told.fields.ids})
    try:
        reader = _csv if told.format == "csv" else _json_lines
        opened = reader(source, path, head, wanted, paths["time"], white)
    except (ValueError, RecursionError):
        raise OutOfTheOrdinary from None
    texts = {column: _cell(text, white, nulls=opened.nulls) for column, text in opened.texts.items()}
    cells = {field: texts[column] for field, column in paths.items()}
    moment, first, last = _moment(cells["time"], opened.sample, source)
    odd = [opened.odd] if opened.odd else []
    if white == WATCHED:
        odd += [_is_padded(text) for text in opened.texts.values()]
    if odd:
        moment = f"CASE WHEN NOT coalesce({' OR '.join(odd)}, false) THEN {moment} END"
    values = {
        "source": quoted(source.id),
        "content": quoted(content),
        "line": f"row_number() OVER () + {HEADERS[told.format]}",
        "time": moment,
        **{field: cells.get(field, "NULL") for field in FIELDS if field not in ("time", "outcome")},
        "outcome": _outcome(cells.get("outcome"), source),
        "ids": _listed([_kept(texts[column], column, kept or KeptIds()) for column in told.fields.ids]),
    }
    if "ip" in cells:
        values["ip"] = _client_address(cells["ip"])
    if "reason" in cells:
        values["reason"] = _without_secrets(cells["reason"])
    if told.app:
        values["app"] = f"coalesce({values['app']}, {quoted(told.app)})"
    listed = ", ".join(f"({values.get(name, 'NULL')})::{kind} AS {named(name)}" for name, kind in COLUMNS.items())
    return Bulk(query=f"SELECT {listed} FROM {opened.rows}", first=first, last=last)


def _kept(cell: str, column: str, kept: KeptIds) -> str:
    """An id as the store keeps it: the digest of `KeptIds.digest` where its column is secret."""
    if not kept.key or not is_secret_id(column):
        return cell
    return f"({quoted(MARK)} || substr(sha256({quoted(kept.key)} || {cell}), 1, {DIGITS}))"


def _client_address(cell: str) -> str:
    """The address of the client alone, as `client_address` gives it."""
    bare = f"trim(split_part({cell}, ',', 1))"
    for pattern in (r"^(\d+\.\d+\.\d+\.\d+):\d+$", r"^\[([0-9A-Fa-f:.%]+)\](:\d+)?$"):
        bare = f"regexp_replace({bare}, {quoted(pattern)}, '\\1')"
    return f"CASE WHEN {cell} LIKE '%.%:%' OR {cell} LIKE '[%' OR {cell} LIKE '%,%' THEN {bare} ELSE {cell} END"


def _without_secrets(cell: str) -> str:
    """A text with the secrets in it hidden, by the same rules as elsewhere."""
    for pattern, put in RULES:
        cell = f"regexp_replace({cell}, {quoted(pattern)}, {quoted(put)}, 'g')"
    return cell


def delimiter_of(source: LogSource, head: str) -> str:
    """What stands between the cells of a CSV file."""
    return source.settings.delimiter or sniffed("\n".join(head.splitlines()[:21]) + "\n")


def _csv(source: LogSource, path: Path, head: str, wanted: list[str], time: str, white: str) -> _Opened:
    delimiter = delimiter_of(source, head)
    lines = csv.reader(io.StringIO(head), delimiter=delimiter)
    header, first = [cell.strip() for cell in next(lines, [])], next(lines, [])
    same = len({name.casefold() for name in header}) != len(header)
    if same or not set(wanted) <= set(header) or len(first) != len(header):
        raise OutOfTheOrdinary
    columns = ", ".join(f"{quoted(name)}: 'VARCHAR'" for name in header)
    nulls = white in (NONE, WATCHED)
    rows = (
        f"read_csv({quoted(str(path.resolve()))}, auto_detect = false, header = true, delim = {quoted(delimiter)}, "
        f"quote = '\"', escape = '\"', strict_mode = true, null_padding = false, columns = {{{columns}}}"
        + (", nullstr = ['', '-'])" if nulls else ")")
    )
    return _Opened(rows, {column: named(column) for column in wanted}, first[header.index(time)].strip(), nulls=nulls)


def _json_lines(source: LogSource, path: Path, head: str, wanted: list[str], time: str, white: str) -> _Opened:
    """Values as texts. Tables, lists and fractions, which have no plain text, are left to the other reader."""
    parts = {text: path_parts_joined(text).split(".") for text in wanted}
    first = json.loads(head.partition("\n")[0])
    if not isinstance(first, dict) or any(text.lstrip("-").isdigit() for some in parts.values() for text in some):
        raise OutOfTheOrdinary
    tree: dict[str, dict[str, object] | None] = {}
    for some in parts.values():
        _grow(tree, some)
    dotted = [text for text in wanted if len(parts[text]) > 1 or parts[text][0] != text]
    names = [*tree, *dotted]
    if len({name.casefold() for name in names}) != len(names):
        raise OutOfTheOrdinary
    columns = ", ".join(
        [*(f"{quoted(name)}: {quoted(_type(below))}" for name, below in tree.items())]
        + [f"{quoted(text)}: 'VARCHAR'" for text in dotted]
    )
    rows = f"read_json({quoted(str(path.resolve()))}, format = 'newline_delimited', columns = {{{columns}}})"
    texts = {word: ".".join(map(named, some)) for word, some in parts.items()}
    odd = [f"{named(text)} IS NOT NULL" for text in dotted]
    odd += [_has_no_text(text) for word, text in texts.items() if word != time]
    return _Opened(rows, texts, str(value_at(first, time) or "").strip(), " OR ".join(odd) or None)


def _grow(tree: dict[str, dict[str, object] | None], path: Sequence[str]) -> None:
    """Add a path to a tree of names; raise OutOfTheOrdinary where one path is the beginning of another."""
    here: dict[str, object] = tree  # type: ignore[assignment]
    for part in path[:-1]:
        below = here.setdefault(part, {})
        if not isinstance(below, dict):
            raise OutOfTheOrdinary
        here = below
    if here.get(path[-1], None) is not None or any(part.casefold() == path[-1].casefold() for part in here):
        raise OutOfTheOrdinary
    here[path[-1]] = None


def _type(below: object) -> str:
    if not isinstance(below, dict):
        return "VARCHAR"
    return "STRUCT(" + ", ".join(f"{named(name)} {_type(more)}" for name, more in below.items()) + ")"


def _has_no_text(text: str) -> str:
    """Whether a value may be a table, a list, or a number with a fraction."""
    number = f"CASE WHEN {text} < ':' THEN regexp_full_match({text}, {quoted(_FRACTION)}) ELSE false END"
    return f"coalesce({text} BETWEEN '[' AND '\\' OR {text} BETWEEN '{{' AND '|' OR {number}, false)"


def _cell(text: str, white: str, *, nulls: bool) -> str:
    """A cell as text; null where it is empty or a dash."""
    if nulls:
        return text
    trimmed = (
        f"CASE WHEN regexp_matches({text}, {quoted(_AT_EDGE)}) THEN trim({text}, {quoted(_WHITE)}) ELSE {text} END"
    )
    bare = {NONE: text, WATCHED: text, SPACES: f"trim({text})", ANY: trimmed}[white]
    return f"nullif(nullif({bare}, ''), '-')"


def _is_padded(text: str) -> str:
    """Whether a cell has a space at an end, where no other white space can be."""
    return f"{text} LIKE ' %' OR {text} LIKE '% '"


def _listed(cells: list[str]) -> str:
    """The cells that are not null, as a list."""
    if not cells:
        return "[]::VARCHAR[]"
    if len(cells) == 1:
        return f"CASE WHEN {cells[0]} IS NULL THEN []::VARCHAR[] ELSE [{cells[0]}] END"
    return f"list_filter([{', '.join(cells)}], x -> x IS NOT NULL)"


def _moment(text: str, sample: str, source: LogSource) -> tuple[str, datetime | None, datetime | None]:
    """The time as a moment in UTC, null where a row has another form than the first; and between which moments that is
    so without a change of clocks. Raises OutOfTheOrdinary where the first is of none that can be read at once.
    """
    if _EPOCH.fullmatch(sample):
        unit = source.settings.time_unit or _unit_of(sample)
        if unit not in _UNITS:
            raise OutOfTheOrdinary
        digits = "^[0-9]{9,18}$" if source.settings.time_unit else f"^[0-9]{{{len(sample)}}}$"
        number = f"CASE WHEN regexp_matches({text}, {quoted(digits)}) THEN {text}::BIGINT END"
        return _UNITS[unit].format(f"({number})"), None, None
    if not _ISO.fullmatch(sample):
        raise OutOfTheOrdinary
    in_utc = sample.endswith("Z")
    form = r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(\.\d{1,6})?" + ("Z" if in_utc else "")
    cast = f"try_cast({text} AS TIMESTAMP)"
    other = f"CASE WHEN regexp_full_match({text}, {quoted(form)}) THEN {cast} END"
    local = f"CASE WHEN {text} LIKE {quoted(re.sub('[0-9]', '_', sample))} THEN {cast} ELSE {other} END"
    if source.zone is None or in_utc:
        return local, None, None
    try:
        begin = datetime.fromisoformat(sample)
    except ValueError:
        raise OutOfTheOrdinary from None
    offset, first, last = _steady(begin, source.zone)
    return (f"({local}) - to_seconds({int(offset.total_seconds())})" if offset else local), first, last


def _steady(local: datetime, zone: tzinfo) -> tuple[timedelta, datetime, datetime]:
    """The offset from UTC at a local time, and the UTC moments around it between which it holds, a day less each."""
    offset = local.replace(tzinfo=zone).utcoffset() or timedelta(0)
    ends = []
    for step in (-_DAY, _DAY):
        here = local
        while abs(here - local) < _LONGEST and (here + step).replace(tzinfo=zone).utcoffset() == offset:
            here += step
        ends.append((here - offset).replace(tzinfo=UTC))
    return offset, ends[0], ends[1]


def _unit_of(sample: str) -> str:
    return "s" if len(sample) <= 11 else "ms" if len(sample) <= 14 else "us" if len(sample) <= 17 else "ns"


def _outcome(cell: str | None, source: LogSource) -> str:
    """The outcome by the source's words, in small letters; words of other alphabets are left to the other reader."""
    told = source.settings.outcomes
    words = [*((text, FAILURE) for text in told.failure), *((item, SUCCESS) for item in told.success)]
    if cell is None or not words:
        return quoted(OTHER)
    if not all(word.isascii() for word, _ in words):
        raise OutOfTheOrdinary
    seen: dict[str, str] = {}
    for word, outcome in reversed(words):
        seen.setdefault(word.casefold(), outcome)
    spelled = {word: seen[word.casefold()] for word, _ in words}
    branches = ""
    for told_as, known in ((cell, spelled), (f"lower({cell})", seen)):  # as they are spelled first: that is faster
        for outcome in (FAILURE, SUCCESS):
            listed = ", ".join(quoted(word) for word, meant in known.items() if meant == outcome)
            if listed:
                branches += f" WHEN {told_as} IN ({listed}) THEN {quoted(outcome)}"
    return f"CASE{branches} ELSE {quoted(OTHER)} END"
