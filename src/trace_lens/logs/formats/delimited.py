"""Records of a file of columns with a delimiter (RFC 4180): the delimiter told or sniffed, quoted line ends kept."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.logs.formats.rows import BadRow, Record, bad_row, shortened

LOOKED_AHEAD = 64 * 1024
_MOMENT = expression(
    r"\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d)?(?:[.,]\d+)?(?: ?(?:Z|[+-]\d\d:?\d\d))?"
    r"|\d{1,2}[./]\d{1,2}[./]\d{4},? \d{1,2}:\d\d(?::\d\d)?(?: [AP]M)?"
)


def bounded_lines(lines: io.TextIOWrapper) -> Iterator[str]:
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


def csv_rows(lines: io.TextIOWrapper, delimiter: str | None) -> Iterator[Record | BadRow]:
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
            yield bad_row(line, f"it is no CSV: {error}", "".join(source.taken))
            continue
        text = "".join(source.taken)
        if not any(cell.strip() for cell in row):
            continue
        if header is None and len(row) < width:
            yield bad_row(line, f"it stands before the header, with {len(row)} columns where that has {width}", text)
            continue
        if header is None and _is_data(row):  # no header at all: columns are called by their place
            header = [f"column {place}" for place, _ in enumerate(row, 1)]
        if header is None:
            header = [cell.strip() for cell in row]
            continue
        if len(row) != len(header) and not (len(row) > len(header) and not any(row[len(header) :])):
            yield bad_row(line, f"it has {len(row)} columns where the header has {len(header)}", text, columns=header)
            continue
        yield Record(line, dict(zip(header, row, strict=False)), shortened(text))


def _is_data(row: list[str]) -> bool:
    """Whether a row that stands where a header is holds a moment: no column is called so."""
    return any(_MOMENT.fullmatch(cell.strip()) for cell in row)


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
