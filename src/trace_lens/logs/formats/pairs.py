"""Lines of a program's own log that hold pairs: a moment, words, and `name=value`, quoted or up to the next pair."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from trace_lens.common.expressions import expression
from trace_lens.logs.formats.rows import BadRow, Record, Value, bad_row, shortened

_MOMENT = expression(
    r"\W{0,2}(\d{4}-\d\d-\d\d[T ]\d\d:\d\d(?::\d\d)?(?:[.,]\d{1,9})?(?: ?(?:Z|UTC|[+-]\d\d:?\d\d))?"
    r"|\d\d/[A-Z][a-z]{2}/\d{4}:\d\d:\d\d:\d\d [+-]\d{4}|\d\d\.\d\d\.\d{4} \d\d:\d\d(?::\d\d)?(?:[.,]\d{1,9})?)"
)
_START = expression(r"(?:(?<=[\s,;|\[({])|(?<![\s\S]))([A-Za-z_][\w.\-]*)=")
_QUOTED = expression(r"\"((?:[^\"\\]|\\.)*)\"")
_LEVEL = expression(r"\b(TRACE|DEBUG|INFO|NOTICE|WARN(?:ING)?|ERROR|SEVERE|FATAL|CRITICAL)\b")
SEVERAL = 2
"""A line of pairs has so many of them at least."""


def count_of(line: str) -> int:
    """How many pairs a line holds."""
    return sum(1 for _ in _pairs_in(line[:4_000]))


def _pairs_in(text: str) -> Iterator[tuple[str, str]]:
    """The pairs of a line: a value is quoted, or goes on to the next pair."""
    start = _START.search(text)
    while start:
        quoted = _QUOTED.match(text, start.end())
        following = _START.search(text, quoted.end() if quoted else start.end())
        value = text[start.end() : following.start() if following else len(text)]
        yield start[1], re.sub(r"\\(.)", r"\1", quoted[1]) if quoted else value.strip().rstrip(",;|])}").rstrip()
        start = following


def pairs(lines: Iterable[str]) -> Iterator[Record | BadRow]:
    """The records: the pairs by their names, `time` for a moment at the beginning, `level`, and the whole `message`.

    A pair of the same name comes before what stands around the pairs. A line of words behind a moment is a record too.
    """
    for number, line in enumerate(lines, 1):
        text = line.strip("\r\n\ufeff")
        if not text.strip():
            continue
        values: dict[str, Value] = {}
        for name, value in _pairs_in(text):
            values.setdefault(name, value or None)
        moment, level = _MOMENT.match(text), _LEVEL.search(text[:200])
        if not values and not moment:
            yield bad_row(number, "it begins with no moment and holds no pair (name=value)", text)
            continue
        if moment:
            values.setdefault("time", moment[1])
        if level:
            values.setdefault("level", level[1])
        values.setdefault("message", text[moment.end() if moment else 0 :].strip())
        yield Record(number, values, shortened(text))
