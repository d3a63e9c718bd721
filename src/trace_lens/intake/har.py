"""HTTP Archive 1.2, as network panels export it: read as a stream, one entry at a time, and kept as exchanges.

Every browser writes it a little differently, and some leave out what could be secret; each member is taken where it is
and missed where it is not. What is no part of a sign-in (images, styles, fonts) keeps its address and its cookies only.
"""

from __future__ import annotations

import io
import re
import zlib
from itertools import count, pairwise
from operator import attrgetter, eq
from typing import Any, BinaryIO

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.intake.exchanges import STATIC, Capture, Exchange
from trace_lens.intake.har_entries import entries_of
from trace_lens.intake.har_exchange import exchange_of
from trace_lens.intake.har_fields import by_name, headers_of, moment_of, object_of
from trace_lens.intake.mended import Mended

_HEAD = 64 * 1024
_STARTS = expression(rb"^(?:\xef\xbb\xbf)?\s*\{")
_LOG = expression(rb'"log"\s*:\s*\{')
_CREATOR = expression(rb'"creator"\s*:\s*\{[^{}]*?"name"\s*:\s*"([^"]{1,80})"')


class NoHar(Exception):
    """A source that looks like a browser export and is none; says why."""


def is_har(head: bytes) -> bool:
    """Whether the beginning of a source is that of a HAR, or of one compressed."""
    if _STARTS.match(head):
        return _LOG.search(head[:_HEAD]) is not None
    if head[:2] == b"\x1f\x8b":
        start = zlib.decompressobj(31)
        try:
            return is_har(start.decompress(head, _HEAD) or b"x")
        except zlib.error:
            return False
    return head[:4] == b"PK\x03\x04" and re.match(rb".{26}..\S{0,200}\.har", head, re.DOTALL) is not None


_HALF = "halves of characters"
"""What JSON may name by an escape and no text can hold (RFC 8259 §8.2)."""


def read_har(stream: BinaryIO) -> Capture:
    """All exchanges of a HAR, in the order in which they happened. `stream` must be seekable.

    Raises NoHar. One that breaks off gives what is whole of it.
    """
    head = stream.read(8)
    stream.seek(0)
    opened = _unpacked(stream, head)
    beginning = opened.read(_HEAD)
    maker = _CREATOR.search(beginning)
    start = 3 if beginning[:3] == b"\xef\xbb\xbf" else 0
    opened.seek(start)
    kept: list[Exchange] = []
    notes: list[str] = []
    budget = [limits.KEPT_PAGES_BYTES, 0]
    cut, beyond = _read_into(kept, notes, budget, opened)
    if cut and ("UTF-8" in cut or _HALF in cut):
        kept.clear()
        notes.clear()
        opened.seek(start)
        told = _HALF if _HALF in cut else "octets that are no UTF-8"
        budget[0] = limits.KEPT_PAGES_BYTES
        cut, beyond = _read_into(kept, notes, budget, io.BufferedReader(Mended(opened)))
        notes.append(f"it holds {told}; they were replaced")
    if not kept and cut is None:
        raise NoHar("it is JSON with a log, but without entries: no HAR, or an empty one")
    if not kept:
        raise NoHar(f"it is a HAR that breaks off before its first entry ends ({cut})")
    made_by = maker[1].decode("utf-8", "replace") if maker else ""
    return Capture("har", _in_order(kept, notes), made_by, cut, tuple(notes), bool(budget[1]), beyond)


def _unpacked(stream: BinaryIO, head: bytes) -> BinaryIO:
    if head[:2] == b"\x1f\x8b":
        import gzip

        return gzip.GzipFile(fileobj=stream)  # type: ignore[return-value]
    if head[:4] == b"PK\x03\x04":
        import zipfile

        try:
            archive = zipfile.ZipFile(stream)
            names = [text for text in archive.namelist() if text.lower().endswith(".har")]
            if len(names) == 1:
                return archive.open(names[0])  # type: ignore[return-value]
        except zipfile.BadZipFile as error:
            raise NoHar(f"it is a damaged ZIP archive ({error})") from None
        raise NoHar(f"the ZIP archive holds {len(names)} HAR files; unpack the one that is meant")
    return stream


class _Bounded:
    """A stream that refuses to give more than the limit: a compressed export may unfold to anything."""

    def __init__(self, stream: BinaryIO) -> None:
        self._stream = stream
        self._left = limits.CAPTURE_BYTES

    def read(self, size: int = -1) -> bytes:
        data = self._stream.read(size if size >= 0 else 65536)
        self._left -= len(data)
        if self._left < 0:
            raise NoHar(f"it unfolds to more than {limits.CAPTURE_BYTES:,} bytes")
        return data


def _read_into(
    kept: list[Exchange], notes: list[str], budget: list[int], stream: BinaryIO
) -> tuple[str | None, str | None]:
    """Read the entries; what is lost where the export breaks off, and what lies beyond the limit, or None.

    `budget` holds the octets of pages that may still be kept, and whether any entry shows cookies.
    """
    import ijson

    skipped = again = 0
    zoneless = False
    seen: dict[int, Exchange] = {}
    number = 0
    try:
        for number, entry in enumerate(entries_of(_Bounded(stream)), 1):
            if number > limits.CAPTURE_EXCHANGES:
                return None, f"only its first {limits.CAPTURE_EXCHANGES:,} entries were read"
            exchange = exchange_of(number, entry, budget)
            if exchange is None:
                skipped += 1
                continue
            zoneless = zoneless or _lacks_zone(entry)
            if not budget[1]:
                budget[1] = _shows_cookies(entry)
            if exchange.at is not None and exchange.kind != STATIC:
                key = hash((exchange.url, exchange.method, exchange.at, exchange.seconds))
                first = seen.setdefault(key, exchange)
                if first is not exchange and first == exchange._replace(number=first.number, place=first.place):
                    again += 1
                    continue
            kept.append(exchange)
    except ijson.IncompleteJSONError as error:
        if "UTF8" in _words(error) or "UTF-8" in _words(error):
            return "octets that are no UTF-8", None
        return f"it breaks off in entry {number + 1}; {number} before it are whole", None
    except UnicodeDecodeError:
        return _HALF, None
    except (ijson.JSONError, EOFError, OSError, zlib.error, ValueError) as error:
        return f"it is broken in entry {number + 1} ({_words(error)}); {number} before it are whole", None
    finally:
        if skipped:
            notes.append(f"{skipped} entries hold no request and were passed over")
        if again:
            told = (
                "1 entry stands in it twice, to the letter, and counts"
                if again == 1
                else (f"{again} entries stand in it twice, to the letter, and count")
            )
            notes.append(f"{told} once")
        if zoneless:
            notes.append("its times carry no zone and were read as UTC")
    return None, None


def _words(error: Exception) -> str:
    """What an error says, without the excerpt below it; where that is cut within a letter, ijson gives octets."""
    told = error.args[0] if error.args else ""
    text = told.decode("utf-8", "replace") if isinstance(told, bytes) else str(error)
    return text.splitlines()[0] if text else type(error).__name__


def _in_order(kept: list[Exchange], notes: list[str]) -> tuple[Exchange, ...]:
    """By their times, unless some lack one, or a redirect would then come before what sent it on; numbered so."""
    moments = [exchange.at for exchange in kept]
    if None in moments:
        return tuple(kept)
    if moments == sorted(moments):  # type: ignore[type-var]  # none is None
        return _numbered(kept)
    by_time = sorted(kept, key=lambda item: (item.at, item.number))
    place = {exchange.number: position for position, exchange in enumerate(by_time)}
    for exchange, following in pairwise(kept):
        backwards = exchange.redirects_to == following.url and place[exchange.number] > place[following.number]
        if backwards and all(later.url != following.url for later in by_time[place[exchange.number] :]):
            notes.append("its times go backwards; the order of the file was kept")
            return tuple(kept)
    return _numbered(by_time)


def _numbered(exchanges: list[Exchange]) -> tuple[Exchange, ...]:
    if all(map(eq, map(attrgetter("number"), exchanges), count(1))):
        return tuple(exchanges)
    return tuple(
        exchange if exchange.number == number else exchange._replace(number=number)
        for number, exchange in enumerate(exchanges, 1)
    )


def _lacks_zone(entry: dict[str, Any]) -> bool:
    told = entry.get("startedDateTime")
    if not isinstance(told, str) or told.endswith("Z"):
        return False
    return moment_of(told) is not None and not re.search(r"(?:Z|[+-]\d\d:?\d\d)$", told.strip())


def _shows_cookies(entry: dict[str, Any]) -> bool:
    sides = (object_of(entry, "request"), object_of(entry, "response"))
    return any(
        side.get("cookies") or name in by_name(headers_of(side))
        for side, name in zip(sides, ("cookie", "set-cookie"), strict=True)
    )
