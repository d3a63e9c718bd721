"""What is read of a log file before it is loaded: how long it is, its digest and those of its beginnings, its lines."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, BinaryIO, NamedTuple

from trace_lens.logs.formats.records import DAMAGED, Unreadable
from trace_lens.logs.store.bulk import ANY, NONE, SPACES
from trace_lens.logs.store.manifest import BEGINNING

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

_CHUNK = 1 << 20
_OTHER_SPACE = tuple(bytes([octet]) for octet in (0x09, 0x0B, 0x0C, 0x1C, 0x1D, 0x1E, 0x1F, 0xC2, 0xE1, 0xE2, 0xE3))
"""The octets with which white space begins, in UTF-8, other than spaces and the ends of lines."""
_ESCAPED = (b"\\u", b"\\t", b"\\n", b"\\r", b"\\f", b"\\b")
"""How JSON may write white space."""
_AFTER_TEXT, _BEFORE_TEXT = tuple(b":,}]"), tuple(b":,{[")
"""What stands in JSON after and before a space that is between texts, not in one."""


class Facts(NamedTuple):
    """What a file is: its octets, their SHA-256, that of its beginning, its whole lines, whether the last one ends.

    `until` are the digests of its first octets, by their number, as far as these were asked for. `white` says what
    white space there may be around its cells.
    """

    octets: int
    digest: str
    beginning: str
    lines: int
    ends: bool
    white: str
    until: dict[int, str]


def facts_of(
    stream: BinaryIO,
    lengths: Callable[[bytes], Iterable[int]],
    form: str,
    delimiter: str | None = None,
    told: Callable[[int], None] | None = None,
) -> Facts:
    """Read a decompressed stream to its end; `told` hears how many octets were read. Raises Unreadable.

    `lengths` gives, for the first octets, how long the contents are that it may have grown from.
    """
    whole = hashlib.sha256()
    until: dict[int, str] = {}
    octets = lines = 0
    looking = _White(form, delimiter)
    try:
        chunk = head = _head(stream)
        wanted = sorted({length for length in lengths(head) if length > 0}, reverse=True)
        while chunk:
            while wanted and wanted[-1] <= octets + len(chunk):
                length = wanted.pop()
                part = whole.copy()
                part.update(chunk[: length - octets])
                until[length] = part.hexdigest()
            whole.update(chunk)
            octets += len(chunk)
            lines += chunk.count(b"\n")
            looking.see(chunk)
            last = chunk[-1:]
            if told:
                told(octets)
            chunk = stream.read(_CHUNK)
    except DAMAGED as error:
        raise Unreadable(f"it is damaged ({error})") from None
    looking.end()
    return Facts(
        octets=octets,
        digest=whole.hexdigest(),
        beginning=hashlib.sha256(head[:BEGINNING]).hexdigest(),
        lines=lines,
        ends=not octets or last == b"\n",
        white=looking.found,
        until=until,
    )


def _head(stream: BinaryIO) -> bytes:
    """The first octets of a stream: those of a beginning at least, where it has so many."""
    head = b""
    while len(head) < BEGINNING and (more := stream.read(_CHUNK)):
        head += more
    return head


class _White:
    """Sees whether cells have white space around them, without taking them apart: where in doubt they have."""

    def __init__(self, form: str, delimiter: str | None) -> None:
        self.found = NONE if form in ("csv", "jsonl") else ANY
        self._json = form == "jsonl"
        self._sides = self._tables(delimiter)
        self._carried = b"\n"

    def _tables(self, delimiter: str | None) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
        """Which octets before a space, and which after it, make it one at the edge of a cell."""
        import numpy as np

        before, after = np.zeros(256, dtype=bool), np.zeros(256, dtype=bool)
        if self._json:
            before[ord('"')] = after[ord('"')] = True
        else:
            edges = [ord(sign) for sign in (delimiter or ",;\t|") if ord(sign) < 256]
            before[[*edges, 0x0A, 0x0D, 0x22]] = after[[*edges, 0x0A, 0x0D, 0x22]] = True
        return before, after

    def see(self, chunk: bytes) -> None:
        """Look at the next octets, and again at the two before them."""
        import numpy as np

        if self.found == ANY:
            return
        seen, self._carried = self._carried + chunk, (self._carried + chunk)[-2:]
        if any(octet in seen for octet in _OTHER_SPACE) or (self._json and any(sign in seen for sign in _ESCAPED)):
            self.found = ANY
            return
        octets = np.frombuffer(seen, dtype=np.uint8)
        spaces = np.flatnonzero(octets == 0x20)
        inner = spaces[(spaces > 0) & (spaces < len(octets) - 1)]
        before, after = octets[inner - 1], octets[inner + 1]
        at_edge = self._sides[0][before] | self._sides[1][after]
        if self._json:
            between = np.isin(after, _AFTER_TEXT) & (before == 0x22) | np.isin(before, _BEFORE_TEXT) & (after == 0x22)
            at_edge = at_edge & ~between | (before == 0x20) | (after == 0x20)
        if at_edge.any():
            self.found = SPACES

    def end(self) -> None:
        """The octets have come to their end: what stands last is at the edge of a cell."""
        if self.found == NONE and self._carried.endswith(b" "):
            self.found = SPACES
