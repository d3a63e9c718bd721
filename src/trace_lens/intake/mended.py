"""JSON that names what no text can hold, made readable while it is streamed."""

from __future__ import annotations

import io
import re
from typing import Any, BinaryIO

from trace_lens.common.expressions import expression

_ESCAPES = expression(
    rb"\\(?:u[dD][89abAB][0-9a-fA-F]{2}\\u[dD][c-fC-F][0-9a-fA-F]{2}|(u[dD][89a-fA-F][0-9a-fA-F]{2})|.|\Z)", re.DOTALL
)
_LONGEST_ESCAPE = 12


class Mended(io.RawIOBase):
    """A stream of JSON with octets that are no UTF-8, and halves of characters, replaced (RFC 8259 §8.2)."""

    def __init__(self, stream: BinaryIO) -> None:
        import codecs

        self._stream = stream
        self._decoder = codecs.getincrementaldecoder("utf-8")("replace")
        self._held = b""
        self._waiting = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._waiting:
            data = self._stream.read(65536)
            self._held += self._decoder.decode(data, not data).encode()
            self._waiting = self._whole(last=not data)
            if not data:
                break
        size = min(len(buffer), len(self._waiting))
        buffer[:size] = self._waiting[:size]
        self._waiting = self._waiting[size:]
        return size

    def _whole(self, *, last: bool) -> bytes:
        """What is held up to an escape that may go on after it; what is put in place of a half is as long as it."""
        size = len(self._held)
        end = size

        def mended(match: re.Match[bytes]) -> bytes:
            nonlocal end
            if not last and match.start() + _LONGEST_ESCAPE > size:
                end = min(end, match.start())
            return b"\\ufffd" if match[1] else match[0]

        made = _ESCAPES.sub(mended, self._held)
        self._held = self._held[end:]
        return made[:end]
