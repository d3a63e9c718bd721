"""The format of a file by its first octets: which, with which delimiter, where its rows are, in which encoding."""

from __future__ import annotations

import codecs
import json
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from trace_lens.common.octets import as_utf8, wide_encoding
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.formats.delimited import sniffed
from trace_lens.logs.formats.json_rows import OCSF_AUTHENTICATION, arrays_in
from trace_lens.logs.formats.pairs import SEVERAL, count_of

_WESTERN = "cp1252"
_SEVERAL = 3


class Form(NamedTuple):
    """A format with its settings: delimiter of CSV, path of the rows in JSON, encoding where it is not Unicode."""

    format: str
    delimiter: str | None = None
    rows: str | None = None
    encoding: str | None = None


def form_of(head: bytes) -> Form:
    """The form by the beginning of a decompressed file (some thousand octets)."""
    if head[:4] == b"PAR1":
        return Form("parquet")
    encoding = None if wide_encoding(head[:4]) or _is_utf8(head) else _WESTERN
    text = head.decode(_WESTERN, "replace") if encoding else as_utf8(head).decode("utf-8-sig", "replace")
    bare = text.lstrip()
    lines = [line for line in text.splitlines() if line.strip()]
    if bare[:1] in ("{", "["):
        return _json_form(bare, lines)
    if any(line.lower().startswith("#fields:") for line in lines[:20]):
        return Form("w3c", encoding=encoding)
    if lines and re.match(r"(?:\d+ )?<\d{1,3}>\d ", lines[0]):
        return Form("syslog", encoding=encoding)
    if lines and re.match(r"(?:\S+ )?\S+ \S+ \S+ \[[^\]]+\] \"[A-Z]+ \S+", lines[0]):
        return Form("combined", encoding=encoding)
    with_pairs = sum(count_of(line) >= SEVERAL for line in lines[:20])
    if lines and count_of(lines[0]) >= SEVERAL and with_pairs * 10 >= len(lines[:20]) * 8:
        return Form("pairs", encoding=encoding)
    return Form("csv", sniffed("\n".join(lines[:41]) + "\n"), None, encoding)


def _is_utf8(head: bytes) -> bool:
    """Whether octets are UTF-8, the last character possibly cut."""
    try:
        codecs.getincrementaldecoder("utf-8")().decode(head)
    except UnicodeDecodeError:
        return False
    return True


def _json_form(bare: str, lines: Sequence[str]) -> Form:
    if bare[:1] == "[":
        ocsf = re.search(rf'"class_uid"\s*:\s*{OCSF_AUTHENTICATION}\b', bare)
        return Form("ocsf") if ocsf else Form("json", rows=_array_in(bare))
    read = [_object_in(line) for line in lines[:2]]
    first = read[0] if read else None
    if first is not None and ((len(read) == 2 and read[1] is not None) or not _holds_rows(first)):
        return Form("ocsf" if first.get("class_uid") == OCSF_AUTHENTICATION else "jsonl")
    return Form("json", rows=_array_in(bare))


def _object_in(line: str) -> dict[str, Any] | None:
    try:
        value = json.loads(line)
    except ValueError:
        return None
    return value if isinstance(value, dict) else None


def _holds_rows(value: Mapping[str, Any]) -> bool:
    """Whether a list of tables stands somewhere in a table."""
    for item in value.values():
        while isinstance(item, list) and item and isinstance(item[0], list):
            item = item[0]
        if isinstance(item, list) and item and isinstance(item[0], dict):
            return True
        if isinstance(item, dict) and _holds_rows(item):
            return True
    return False


def _array_in(text: str) -> str | None:
    """The path of the rows in a JSON text that may be cut off: the outermost array of several objects, or the largest.

    None for the array at the top.

    An array of pages has few objects, which hold the array of rows.
    """
    counts = Counter(path for _, path in arrays_in(text.encode()))
    several = [path for path, count in counts.items() if count >= _SEVERAL]
    outermost = min(several, key=_depth, default=None)
    longest = max(counts, key=lambda path: counts[path], default=None)
    return (outermost if outermost is not None else longest) or None


def _depth(path: str) -> int:
    return len(path.split(".")) if path else 0
