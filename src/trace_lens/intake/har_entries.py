"""The entries of a HAR, read as a stream: many at a time where that is safe, else one by one.

A stretch of the text of an array that is an array of its own when put into brackets holds whole values, and nothing
else can stand there: no value of JSON is the beginning of another. So the text is cut where an entry seems to begin
(by the member that the first entry begins with), and a stretch that proves to be such an array is taken as it was
read. From one that does not, all that follows is read one by one: what is said of a file that breaks off is said there.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from trace_lens.common.expressions import expression

_ENTRIES = expression(rb'"entries"\s*+:\s*+\[')
_MEMBER = expression(rb'\s*+\{\s*+("[^"\\]{1,80}")')
_BEFORE = expression(rb",\s*+\{\s*+\Z")
_HEAD = 1 << 20
_STRETCH = 1 << 16
_LONGEST = 1 << 25
"""Octets in which another entry must begin, else they are read one by one."""
_NEAR = 256
"""Octets before a member in which its entry must begin: white space only stands between."""


def entries_of(stream: Any) -> Iterator[Any]:
    """The values of the array `entries` in the object `log` of a JSON text; `stream` has `read(size)`.

    Raises what ijson raises, where it would; but takes whole numbers beyond 64 bits.
    """
    text = stream.read(_STRETCH)
    opening = _ENTRIES.search(text)
    while opening is None and 0 < len(text) < _HEAD and (more := stream.read(len(text))):
        text += more
        opening = _ENTRIES.search(text)
    begin = text[: opening.end()] if opening else b""
    member = _MEMBER.match(text, len(begin)) if _leads_to_entries(begin) else None
    rest = text[len(begin) :]
    while member:
        cut = _last_beginning(rest, member[1])
        if cut is None:
            more = stream.read(max(_STRETCH, len(rest))) if len(rest) < _LONGEST else b""
            if not more:
                yield from _closing(begin, rest, stream)
                return
            rest += more
            continue
        held = _whole(rest[:cut])
        if held is None:
            break
        yield from held
        rest = rest[cut + 1 :] + stream.read(_STRETCH)
    yield from _one_by_one(begin + rest, stream)


def _closing(begin: bytes, rest: bytes, stream: Any) -> Iterable[Any]:
    """The values at the end of the text, which `begin` and `rest` are but for those already given."""
    held = None if b'"log"' in rest or b'"entries"' in rest else _read(begin + rest)
    return _one_by_one(begin + rest, stream) if held is None else held["log"]["entries"]


def _one_by_one(text: bytes, stream: Any) -> Iterable[Any]:
    import ijson

    found: Iterable[Any] = ijson.items(_Joined(text, stream), "log.entries.item", use_float=True)
    return found


def _read(text: bytes) -> Any:
    """The value that a text is; None where it is none, or one that only ijson should judge."""
    import orjson

    try:
        return orjson.loads(text)
    except orjson.JSONDecodeError:
        return None


def _leads_to_entries(begin: bytes) -> bool:
    """Whether a text leads into the array of entries, and to nowhere else."""
    held = _read(begin + b"]}}")
    log = held.get("log") if isinstance(held, dict) else None
    return isinstance(log, dict) and log.get("entries") == [] and next(reversed(held)) == "log"


def _last_beginning(text: bytes, member: bytes) -> int | None:
    """Where the comma stands before the last entry that begins in a text with a member, as it seems."""
    at = len(text)
    while (at := text.rfind(member, 0, at)) > 0:
        before = _BEFORE.search(text[max(0, at - _NEAR) : at])
        if before:
            return max(0, at - _NEAR) + before.start()
    return None


def _whole(stretch: bytes) -> list[Any] | None:
    """The values of a stretch of an array's text; None where it is no such stretch, or not surely."""
    held = _read(b"[" + stretch + b"]")
    return held if isinstance(held, list) and held else None


class _Joined:
    """Octets that were read already, and the stream after them."""

    def __init__(self, begin: bytes, stream: Any) -> None:
        self._begin, self._stream = begin, stream

    def read(self, size: int = -1) -> bytes:
        if not self._begin:
            data: bytes = self._stream.read(size)
            return data
        given, self._begin = (self._begin, b"") if size < 0 else (self._begin[:size], self._begin[size:])
        return given
