"""Text as files hold it: UTF-8, or UTF-16 and UTF-32 told by a byte order mark, as some systems write them."""

from __future__ import annotations

import codecs

_MARKS = (
    (codecs.BOM_UTF32_LE, "utf-32"),
    (codecs.BOM_UTF32_BE, "utf-32"),
    (codecs.BOM_UTF16_LE, "utf-16"),
    (codecs.BOM_UTF16_BE, "utf-16"),
)


def wide_encoding(head: bytes) -> str | None:
    """The encoding that a byte order mark of UTF-16 or UTF-32 at the beginning tells; None where there is none."""
    return next((name for mark, name in _MARKS if head.startswith(mark)), None)


def as_utf8(data: bytes) -> bytes:
    """The octets as UTF-8, where a byte order mark says that they are of a wider encoding; else as they are."""
    wide = wide_encoding(data[:4])
    return data.decode(wide, "replace").encode("utf-8") if wide else data
