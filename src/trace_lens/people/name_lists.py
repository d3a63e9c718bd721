"""Names listed in a file: one a line, in a column of a CSV, or as JSON."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterator

from trace_lens.common.locations import Location
from trace_lens.common.octets import as_utf8
from trace_lens.people.names import Named

_NAME_COLUMNS = ("name", "nameid", "name_id", "subject", "user", "username", "login", "email", "mail")


def names_in(source: str, data: bytes) -> Iterator[Named]:
    """Names one a line, in a column of a CSV with a header, or as a JSON list of texts."""
    if b"\0" in data[:4096]:
        return
    text = as_utf8(data).decode("utf-8-sig", "replace")
    if text.lstrip()[:1] == "[":
        try:
            listed = json.loads(text)
        except ValueError:
            return
        for number, item in enumerate(listed, 1):
            if isinstance(item, str) and item.strip():
                yield Named(item.strip(), source, Location(entry=f"entry {number}"))
        return
    first = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=first.count)
    header = [name.strip().strip('"').casefold() for name in first.split(delimiter)]
    column = next((header.index(name) for name in _NAME_COLUMNS if name in header), None)
    if column is None:
        for number, line in enumerate(text.splitlines(), 1):
            if line.strip() and not line.startswith("#"):
                yield Named(line.strip(), source, Location(line=number))
        return
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    next(reader)
    for row in reader:
        if column < len(row) and row[column].strip():
            yield Named(row[column].strip(), source, Location(line=reader.line_num))
