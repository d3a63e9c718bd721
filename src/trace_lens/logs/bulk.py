"""Well-formed CSV in bulk: read, mapped and stored by the database itself, as one Ibis expression.

It serves files in which nothing is out of the ordinary: as many rows as lines, one form of time throughout, no change
of clocks in their span. Whatever is out of the ordinary is left to the reader that goes line by line, so that both give
the same events.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta, tzinfo
from pathlib import Path
from typing import TYPE_CHECKING, Any

from trace_lens.logs.events import FIELDS, field_paths
from trace_lens.logs.seen import FAILURE, OTHER, SUCCESS
from trace_lens.workspace.log_sources import LogSource

if TYPE_CHECKING:
    import ibis.expr.types as ir

_ISO = re.compile(r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(?:\.\d{1,6})?")
_EPOCH = re.compile(r"\d{9,18}")
_UNITS = ("s", "ms")
_DAY = timedelta(days=1)


class OutOfTheOrdinary(Exception):
    """The file has something in it that must be read line by line."""


def bulk_events(
    connection: Any, source: LogSource, path: Path, name: str, lines: int, header: Sequence[str], delimiter: str
) -> ir.Table:
    """The events of a CSV file as an expression over a connection of Ibis to DuckDB. Raises OutOfTheOrdinary.

    `lines` are the lines of the whole file; `header` and `delimiter` are as its first line shows them.
    """
    import duckdb
    import ibis

    told = source.settings
    paths = field_paths(source)
    if (
        told.format != "csv"
        or told.time_format
        or told.encoding
        or "time" not in paths
        or len(set(header)) != len(header)
    ):
        raise OutOfTheOrdinary
    if not {*paths.values(), *told.fields.ids} <= set(header):
        raise OutOfTheOrdinary
    try:
        rows = connection.read_csv(
            str(path), table_name="bulk_csv", header=True, all_varchar=True, quote='"', escape='"', strict_mode=True,
            null_padding=False, delim=delimiter,
        )  # fmt: skip
        if list(rows.columns) != list(header):
            raise OutOfTheOrdinary
        rows = connection.create_table("bulk_rows", rows.mutate(line=ibis.row_number() + 2), temp=True, overwrite=True)
        if rows.count().to_pyarrow().as_py() != lines - 1:
            raise OutOfTheOrdinary
        cells = {field: _cell(rows[column]) for field, column in paths.items()}
        moment = _moment(cells["time"], source)
        outcome = _outcome(cells.get("outcome"), source)
        nothing = ibis.null("string")
        ids = (
            ibis.array([_cell(rows[column]) for column in told.fields.ids])
            if told.fields.ids
            else ibis.array([nothing])
        )
        values = {
            "source": ibis.literal(source.id),
            "file": ibis.literal(name),
            "line": rows["line"].cast("int64"),
            "time": moment,
            **{field: cells.get(field, nothing) for field in FIELDS if field not in ("time", "outcome")},
            "outcome": outcome,
            "ids": ids.filter(lambda one: one.notnull()),
        }
        if told.app:
            values["app"] = ibis.coalesce(values["app"], ibis.literal(told.app))
        return rows.select(**values)
    except duckdb.Error:
        raise OutOfTheOrdinary from None


def _cell(column: Any) -> Any:
    """A cell as text; null where it is empty or a dash."""
    text = column.strip()
    return text.nullif("").nullif("-")


def _moment(text: Any, source: LogSource) -> Any:
    """The time as a moment in UTC. Raises OutOfTheOrdinary where some row has another form, or clocks change."""
    import ibis

    first = text.as_table().limit(1).to_pyarrow().to_pylist()
    sample = next(iter(first[0].values())) if first else None
    if sample is None:
        raise OutOfTheOrdinary
    if _EPOCH.fullmatch(sample):
        unit = source.settings.time_unit or _unit_of(sample)
        if unit not in _UNITS or not _all_fit(text, r"^\d{9,18}$"):
            raise OutOfTheOrdinary
        number = text.cast("int64")
        low, high = _ends(number)
        if source.settings.time_unit is None and len(str(low)) != len(str(high)):
            raise OutOfTheOrdinary
        return number.as_timestamp(unit)
    if not _ISO.fullmatch(sample) or not _all_fit(text, r"^\d{4}-\d\d-\d\d[ T]\d\d:\d\d:\d\d(\.\d{1,6})?$"):
        raise OutOfTheOrdinary
    local = text.try_cast("timestamp(6)")
    low, high = _ends(local)
    if low is None:
        raise OutOfTheOrdinary
    offset = _offset(low, high, source.zone or UTC)
    return local - ibis.interval(seconds=int(offset.total_seconds())) if offset else local


def _unit_of(sample: str) -> str:
    return "s" if len(sample) <= 11 else "ms" if len(sample) <= 14 else "us" if len(sample) <= 17 else "ns"


def _all_fit(text: Any, pattern: str) -> bool:
    fitting = text.re_search(pattern).fill_null(False)
    return bool(fitting.all().to_pyarrow().as_py())


def _ends(column: Any) -> tuple[Any, Any]:
    """The least and the greatest value of a column."""
    return column.min().to_pyarrow().as_py(), column.max().to_pyarrow().as_py()


def _offset(low: datetime, high: datetime, zone: tzinfo) -> timedelta:
    """The offset from UTC that holds from a day before the first to a day after the last time."""
    here = low - _DAY
    offsets = set()
    while here <= high + _DAY:
        offsets.add(here.replace(tzinfo=zone).utcoffset())
        here += timedelta(hours=6)
    if len(offsets) != 1:
        raise OutOfTheOrdinary
    return offsets.pop() or timedelta(0)


def _outcome(cell: Any, source: LogSource) -> Any:
    """The outcome by the source's words, in small letters; words of other alphabets are left to the other reader."""
    import ibis

    told = source.settings.outcomes
    words = [*((one, FAILURE) for one in told.failure), *((one, SUCCESS) for one in told.success)]
    if cell is None or not words:
        return ibis.literal(OTHER)
    if not all(word.isascii() for word, _ in words):
        raise OutOfTheOrdinary
    seen: dict[str, str] = {}
    for word, outcome in reversed(words):
        seen.setdefault(word.casefold(), outcome)
    lowered = cell.lower()
    meant = {FAILURE: [word for word, outcome in seen.items() if outcome == FAILURE],
             SUCCESS: [word for word, outcome in seen.items() if outcome == SUCCESS]}  # fmt: skip
    branches = [(lowered.isin(listed), ibis.literal(outcome)) for outcome, listed in meant.items() if listed]
    return ibis.cases(*branches, else_=ibis.literal(OTHER)).fill_null(OTHER)
