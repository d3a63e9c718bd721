"""Records of JSON Lines, and of a JSON document with an array of them at some depth."""

from __future__ import annotations

import io
import json
from collections.abc import Iterable, Iterator
from typing import Any, BinaryIO

from trace_lens.logs.formats.delimited import LOOKED_AHEAD, bounded_lines
from trace_lens.logs.formats.rows import BadRow, Record, Unreadable, bad_row, path_parts_joined, shortened


def json_lines(lines: Iterable[str]) -> Iterator[Record | BadRow]:
    for number, line in enumerate(lines, 1):
        if line.strip():
            yield _json_row(number, line)


def _json_row(number: int, line: str) -> Record | BadRow:
    try:
        value = json.loads(line)
    except (ValueError, RecursionError) as error:
        return bad_row(number, f"it is no JSON: {str(error).partition(':')[0].lower()}", line)
    if not isinstance(value, dict):
        return bad_row(number, "it is no JSON object", line)
    return Record(number, value, shortened(line))


def json_or_lines(stream: BinaryIO, rows: str | None, *, of_ocsf: bool) -> Iterator[Record | BadRow]:
    """A JSON array, at the top or at the path `rows`, or (as OCSF is exported too) objects line by line."""
    head = stream.read(4096)
    rest = Rejoined(head, stream)
    bare = head.lstrip(b"\xef\xbb\xbf \t\r\n")
    if bare[:1] == b"{" and not rows:
        lines = io.TextIOWrapper(io.BufferedReader(rest), "utf-8-sig", errors="replace", newline="")
        found = json_lines(bounded_lines(lines))
    else:
        found = _json_array(io.BufferedReader(rest), rows)
    yield from (authentication(row) for row in found) if of_ocsf else found


class Rejoined(io.RawIOBase):
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

    head = stream.read(LOOKED_AHEAD)
    path = path_parts_joined(rows) if rows else ""
    prefix = next((found for found, keys in arrays_in(head) if keys == path), f"{path}.item".lstrip("."))
    stream = io.BufferedReader(Rejoined(head, stream))
    number = 0
    try:
        for number, value in enumerate(ijson.items(stream, prefix, use_float=True), 1):
            if isinstance(value, dict):
                yield Record(number, value, shortened(json.dumps(value, ensure_ascii=False, default=str)))
            else:
                yield bad_row(number, "it is no JSON object", str(value))
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


OCSF_AUTHENTICATION = 3002
"""The class of Authentication events in the Open Cybersecurity Schema Framework."""


def authentication(row: Record | BadRow) -> Record | BadRow:
    """An OCSF record that is no Authentication event is told as such."""
    if isinstance(row, Record):
        kind = row.values.get("class_uid")
        if kind is not None and kind != OCSF_AUTHENTICATION:
            because = f"its class_uid is {kind}; Authentication events have {OCSF_AUTHENTICATION}"
            return bad_row(row.line, because, row.text)
    return row
