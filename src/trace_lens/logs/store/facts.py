"""What is read of a log file before it is loaded: how long it is, its digest and those of its beginnings, its lines."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import BinaryIO

from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.formats.records import unpacked
from trace_lens.logs.formats.rows import DAMAGED, Unreadable
from trace_lens.logs.store.manifest import BEGINNING, FileFacts

NONE, SPACES, ANY = _KINDS = "none", "spaces", "any"
"""What white space there may be around cells: none, spaces, any."""
_CHUNK = 1 << 20
_CONTROLS = tuple(bytes([octet]) for octet in (0x09, 0x0B, 0x0C, 0x1C, 0x1D, 0x1E, 0x1F))
_BEGINNINGS = tuple(bytes([octet]) for octet in (0xC2, 0xE1, 0xE2, 0xE3))
"""White space of ASCII other than spaces and the ends of lines, and the octets with which other white space begins."""


class Facts(NamedTuple):
    """What a file is, its lines counted where they end, and whether the last one does.

    `until` are the digests of its first octets, by their number, as far as these were asked for. `white` says what
    white space there may be at the edges of cells, as far as its octets tell: NONE, SPACES, ANY.
    """

    file: FileFacts
    ends: bool
    white: str
    until: dict[int, str]


def facts_of(
    stream: BinaryIO,
    lengths: Callable[[bytes], Iterable[int]],
    told: Callable[[int], None] | None = None,
    edges: bytes = b"",
) -> Facts:
    """Read a decompressed stream to its end; `told` hears how many octets were read. Raises Unreadable.

    `lengths` gives, for the first octets, how long the contents are that it may have grown from; `edges` are the octets
    between cells, beside the ends of lines, where they are known.
    """
    whole = hashlib.sha256()
    until: dict[int, str] = {}
    octets = lines = 0
    white, last = NONE if edges else SPACES, b"\n"
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
            lines += chunk.count(b"\n") if len(chunk) < _CHUNK else count_of(chunk, 0x0A)
            white = max(white, white_in(last + chunk, edges), key=_KINDS.index)
            last = chunk[-1:]
            if told:
                told(octets)
            chunk = stream.read(_CHUNK)
    except DAMAGED as error:
        raise Unreadable(f"it is damaged ({error})") from None
    return Facts(
        file=FileFacts(octets, whole.hexdigest(), hashlib.sha256(head[:BEGINNING]).hexdigest(), lines),
        ends=not octets or last == b"\n",
        white=SPACES if white == NONE and last == b" " else white,
        until=until,
    )


def head_of(path: Path) -> bytes:
    """The first octets of a file's content, decompressed. Raises OSError; empty where it cannot be decompressed."""
    with path.open("rb") as stream:
        try:
            return _head(unpacked(stream), BEGINNING)
        except DAMAGED:
            return b""


def white_in(octets: bytes, edges: bytes) -> str:
    """What white space may stand in some octets, at the edges of cells: beside one of `edges` or the end of a line."""
    import numpy as np  # quicker than going through the octets once for each question

    if any(octet in octets for octet in _CONTROLS):
        return ANY
    if not octets.isascii() and any(octet in octets for octet in _BEGINNINGS):
        return ANY
    if not edges or b" " not in octets:
        return SPACES if b" " in octets else NONE
    row = np.frombuffer(octets, dtype=np.uint8)
    spaces = np.flatnonzero(row == 0x20)
    beside = row[np.maximum(spaces - 1, 0)], row[np.minimum(spaces + 1, len(row) - 1)]
    at_edge = any(bool((some == octet).any()) for some in beside for octet in edges + b"\r\n")
    return SPACES if at_edge else NONE


def count_of(octets: bytes, octet: int) -> int:
    """How often an octet stands in many octets."""
    import numpy as np

    return int(np.count_nonzero(np.frombuffer(octets, dtype=np.uint8) == octet))


def _head(stream: BinaryIO, at_once: int = _CHUNK) -> bytes:
    """The first octets of a stream: those of a beginning at least, where it has so many."""
    head = b""
    while len(head) < BEGINNING and (more := stream.read(at_once)):
        head += more
    return head
