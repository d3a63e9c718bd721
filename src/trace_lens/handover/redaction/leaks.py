"""A last search of a copy, through every decoding, for anything that was replaced.

It shares nothing with what made the copy: it unfolds whatever unfolds, and looks for the longest run of letters and
digits of each value that was replaced.
"""

from __future__ import annotations

import base64
import binascii
import hashlib
import quopri
import re
import zlib
from collections.abc import Iterator
from html import unescape
from typing import BinaryIO
from urllib.parse import unquote_to_bytes

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.handover.redaction.kept import RUN, Kept, trade_words

_SHORTEST_NAME, _SHORTEST, _SHORTEST_NUMBER = 4, 7, 10
"""Runs of fewer characters are not looked for: of names of those concerned, of other words, of digits alone.

The more there are to look for, the more of them stand by chance in the letters of a certificate, say.
"""
_DEEPEST = 8
_PIECE = 4 * 1024 * 1024
_OVERLAP = 64 * 1024
_BASE64 = expression(rb"[A-Za-z0-9+/_-]{12,}={0,2}(?:\s{1,3}[A-Za-z0-9+/_-]{12,}={0,2})*")
_ESCAPE = expression(rb"\\u([0-9A-Fa-f]{4})|\\x([0-9A-Fa-f]{2})|\\(.)")


class Leaks:
    """What was replaced, by a digest of its longest run, and how to look for it."""

    def __init__(self, kept: Kept) -> None:
        self._kept = kept
        self._sought: set[int] = set()
        self._made: set[int] = set()
        self._shown: dict[int, str] = {}

    def add(self, value: str, stand_in: str, *, is_name: bool = False) -> None:
        """A value that was replaced, and by what."""
        for run in RUN.findall(stand_in.casefold()):
            if len(run) >= _SHORTEST_NAME:
                self._made.add(_digest(run))
        runs = sorted(RUN.findall(value.casefold()), key=len, reverse=True)
        for run in runs if is_name else runs[:1]:
            of_somebody = is_name and run in self._kept.people
            if len(run) < (_SHORTEST_NAME if of_somebody else _SHORTEST_NUMBER if run.isdigit() else _SHORTEST):
                continue
            if run in self._kept.words or run in trade_words() - self._kept.people or run in self._kept.labels:
                continue
            self._sought.add(_digest(run))

    def in_stream(self, stream: BinaryIO) -> Iterator[str]:
        """The runs of values that are found in a copy, each once."""
        found: set[str] = set()
        tail = b""
        while data := stream.read(_PIECE):
            for run in self._in_piece(tail + data):
                if run not in found:
                    found.add(run)
                    yield run
            tail = data[-_OVERLAP:]

    def _in_piece(self, data: bytes) -> Iterator[str]:
        seen: set[bytes] = set()
        waiting = [(data, 0)]
        while waiting:
            octets, depth = waiting.pop()
            print_of = hashlib.blake2b(octets, digest_size=12).digest()
            if print_of in seen:
                continue
            seen.add(print_of)
            yield from self._in_text(octets.decode("utf-8", "replace"))
            if depth < _DEEPEST:
                waiting += [(inner, depth + 1) for inner in unfolded(octets)]

    def _in_text(self, text: str) -> Iterator[str]:
        for run in set(RUN.findall(text.casefold())):
            if len(run) >= _SHORTEST_NAME:
                digest = _digest(run)
                if digest in self._sought and digest not in self._made:
                    yield run


def _digest(run: str) -> int:
    return int.from_bytes(hashlib.blake2b(run.encode("utf-8", "surrogatepass"), digest_size=8).digest())


def unfolded(octets: bytes) -> Iterator[bytes]:
    """Every way in which octets, or a part of them, may stand for others; what is no text can only be unpacked."""
    yield from _inflated(octets)
    if not _is_text(octets) and octets[:2] not in _WIDE:
        return
    if b"%" in octets:
        plain = unquote_to_bytes(octets)
        if plain != octets:
            yield plain
    if b"&" in octets and b";" in octets:
        plain = unescape(octets.decode("utf-8", "surrogateescape")).encode("utf-8", "surrogatepass")
        if plain != octets:
            yield plain
    if b"\\" in octets:
        yield _ESCAPE.sub(_unescaped, octets)
    if b"=3D" in octets or b"=\n" in octets or b"=\r\n" in octets:
        yield quopri.decodestring(octets)
    if octets[:2] in _WIDE:
        yield octets.decode("utf-16", "replace").encode("utf-8", "surrogatepass")
    for match in _BASE64.finditer(octets):
        for text in {match[0], *match[0].split()}:
            yield from _from_base64(text)


def _unescaped(match: re.Match[bytes]) -> bytes:
    code = match[1] or match[2]
    if code:
        return chr(int(code, 16)).encode("utf-8", "surrogatepass")
    return {b"n": b"\n", b"t": b"\t", b"r": b"\r"}.get(match[3], match[3])


def _from_base64(text: bytes) -> Iterator[bytes]:
    bare = b"".join(text.split()).rstrip(b"=").replace(b"-", b"+").replace(b"_", b"/").replace(b"=", b"")
    bare = bare[: len(bare) - 1] if len(bare) % 4 == 1 else bare
    try:
        octets = base64.b64decode(bare + b"=" * (-len(bare) % 4))
    except (binascii.Error, ValueError):
        return
    if octets and _is_text(octets):
        yield octets
    yield from _inflated(octets)


_MOSTLY = 0.9
_SAMPLE = 200
_WIDE = (b"\xff\xfe", b"\xfe\xff")


def _is_text(octets: bytes) -> bool:
    """Whether octets begin as a text does: with few control characters."""
    head = octets[:_SAMPLE]
    return sum(32 <= octet < 127 or octet in (9, 10, 13) or octet > 127 for octet in head) >= _MOSTLY * len(head)


def _inflated(octets: bytes) -> Iterator[bytes]:
    if len(octets) < 8:
        return
    window = 31 if octets[:2] == b"\x1f\x8b" else 15 if octets[:1] == b"\x78" else -15
    if window == -15 and octets[:1] in (b"<", b"{", b"[", b"-"):
        return
    inflater = zlib.decompressobj(window)
    try:
        plain = inflater.decompress(octets, limits.INFLATED_BYTES)
    except zlib.error:
        return
    if len(plain) >= 8:
        yield plain
