"""Tables as CSV (RFC 4180), for spreadsheets: nothing that a cell holds becomes a formula there."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Sequence

from trace_lens.common.masking import visible

_FORMULA = ("=", "+", "-", "@", "\t", "\r")


def write_rows(rows: Iterable[Sequence[object]]) -> str:
    """The text of a table, its titles first; a cell that a spreadsheet would compute begins with an apostrophe."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for row in rows:
        writer.writerow([_cell(value) for value in row])
    return out.getvalue()


def _cell(value: object) -> str:
    text = "" if value is None else visible(str(value))
    return f"'{text}" if text.startswith(_FORMULA) and not _is_number(text) else text


def _is_number(text: str) -> bool:
    try:
        float(text)
    except ValueError:
        return False
    return True
