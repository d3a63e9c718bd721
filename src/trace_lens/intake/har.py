"""HTTP Archive 1.2, as network panels export it: read as a stream, one entry at a time, and kept as exchanges.

Every browser writes it a little differently, and some leave out what could be secret; each member is taken where it is
and missed where it is not. What is no part of a sign-in (images, styles, fonts) keeps its address and its cookies only.
"""

from __future__ import annotations

import base64
import binascii
import io
import re
import zlib
from datetime import UTC, datetime
from itertools import pairwise
from typing import Any, BinaryIO
from urllib.parse import quote_plus

from trace_lens.common import limits
from trace_lens.intake.carried import is_worth_reading
from trace_lens.intake.exchanges import CALL, PAGE, STATIC, Capture, Exchange, Header, Phases

_HEAD = 64 * 1024
_STARTS = re.compile(rb"^(?:\xef\xbb\xbf)?\s*\{")
_LOG = re.compile(rb'"log"\s*:\s*\{')
_CREATOR = re.compile(rb'"creator"\s*:\s*\{[^{}]*?"name"\s*:\s*"([^"]{1,80})"')
_STATIC_TYPES = {
    "image",
    "stylesheet",
    "font",
    "media",
    "websocket",
    "manifest",
    "texttrack",
    "ping",
    "script",
    "imageset",
    "beacon",
    "csp_report",
}
_STATIC_MEDIA = re.compile(
    r"^(?:image/|font/|audio/|video/|text/css|application/font|(?:text|application)/(?:x-)?(?:java|ecma)script)"
)
_LEADS_ON = re.compile(rb"<form|http-equiv|location", re.IGNORECASE)
_CALL_TYPES = {"xhr", "fetch", "preflight", "eventsource", "other-call"}
_CALL_SENT = ("cookie", "authorization", "origin", "referer", "sec-fetch-mode", "sec-fetch-site")
_CALL_RECEIVED = ("set-cookie", "www-authenticate", "content-type", "date", "access-control-allow-origin", "location")
"""What is kept of a call that carries no message: whether it was let through, with which cookies, and what it said."""
_SECRETS = (b"passw", b"passphrase", b"pwd", b"passcode")
_LONGEST = 24 * 3600 * 1000
"""Most milliseconds that one exchange can have taken; what says more is no measurement."""
_FRAMES = {"iframe", "frame", "embed", "object"}


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
    if cut and "UTF-8" in cut:
        kept.clear()
        notes.clear()
        opened.seek(start)
        cut, beyond = _read_into(kept, notes, budget, io.BufferedReader(_Mended(opened)))
        notes.append("it holds octets that are no UTF-8; they were replaced")
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


class _Mended(io.RawIOBase):
    """A stream of octets with those that are no UTF-8 replaced."""

    def __init__(self, stream: BinaryIO) -> None:
        import codecs

        self._stream = stream
        self._decoder = codecs.getincrementaldecoder("utf-8")("replace")
        self._waiting = b""

    def readable(self) -> bool:
        return True

    def readinto(self, buffer: Any) -> int:
        while not self._waiting:
            data = self._stream.read(65536)
            self._waiting = self._decoder.decode(data, not data).encode()
            if not data:
                break
        size = min(len(buffer), len(self._waiting))
        buffer[:size] = self._waiting[:size]
        self._waiting = self._waiting[size:]
        return size


def _read_into(
    kept: list[Exchange], notes: list[str], budget: list[int], stream: BinaryIO
) -> tuple[str | None, str | None]:
    """Read the entries; what is lost where the export breaks off, and what lies beyond the limit, or None.

    `budget` holds the octets of pages that may still be kept, and whether any entry shows cookies.
    """
    import ijson

    skipped = 0
    zoneless = False
    number = 0
    try:
        for number, entry in enumerate(ijson.items(_Bounded(stream), "log.entries.item", use_float=True), 1):
            if number > limits.CAPTURE_EXCHANGES:
                return None, f"only its first {limits.CAPTURE_EXCHANGES:,} entries were read"
            exchange = _exchange(number, entry, budget)
            if exchange is None:
                skipped += 1
                continue
            zoneless = zoneless or _lacks_zone(entry)
            budget[1] |= _shows_cookies(entry)
            kept.append(exchange)
    except ijson.IncompleteJSONError as error:
        if "UTF8" in str(error) or "UTF-8" in str(error):
            return "octets that are no UTF-8", None
        return f"it breaks off in entry {number + 1}; {number} before it are whole", None
    except (ijson.JSONError, EOFError, OSError, zlib.error, ValueError) as error:
        first = str(error).splitlines()[0] if str(error) else type(error).__name__
        return f"it is broken in entry {number + 1} ({first}); {number} before it are whole", None
    finally:
        if skipped:
            notes.append(f"{skipped} entries hold no request and were passed over")
        if zoneless:
            notes.append("its times carry no zone and were read as UTC")
    return None, None


def _in_order(kept: list[Exchange], notes: list[str]) -> tuple[Exchange, ...]:
    """By their times, unless some lack one, or a redirect would then come before what sent it on; numbered so."""
    if any(exchange.at is None for exchange in kept):
        return tuple(kept)
    by_time = sorted(kept, key=lambda item: (item.at, item.number))
    place = {exchange.number: position for position, exchange in enumerate(by_time)}
    for exchange, following in pairwise(kept):
        backwards = exchange.redirects_to == following.url and place[exchange.number] > place[following.number]
        if backwards and all(later.url != following.url for later in by_time[place[exchange.number] :]):
            notes.append("its times go backwards; the order of the file was kept")
            return tuple(kept)
    return tuple(
        exchange if exchange.number == number else exchange._replace(number=number)
        for number, exchange in enumerate(by_time, 1)
    )


def _lacks_zone(entry: dict[str, Any]) -> bool:
    told = entry.get("startedDateTime")
    return isinstance(told, str) and _moment(told) is not None and not re.search(r"(?:Z|[+-]\d\d:?\d\d)$", told.strip())


def _exchange(number: int, entry: Any, budget: list[int]) -> Exchange | None:
    request = _object(entry, "request")
    response = _object(entry, "response")
    sent = _headers(request)
    url = _text(request, "url") or _from_pseudo(sent)
    if not url:
        return None
    received = _headers(response)
    content = _object(response, "content")
    media = (_text(content, "mimeType") or _value(received, "content-type") or "").lower()
    kind = _kind(entry, url, sent, media)
    at = _moment(_text(entry, "startedDateTime") or "")
    status = max(_whole(response.get("status")), 0)
    place = f"entry {number}"
    method = (_text(request, "method") or "GET").upper()
    listed = response.get("cookies")
    if not _has(received, "set-cookie") and isinstance(listed, list):
        received += tuple(
            ("Set-Cookie", _set_cookie(item)) for item in listed if isinstance(item, dict) and item.get("name")
        )
    seconds, phases = _timing(entry)
    if kind == STATIC:
        cookies = tuple(pair for pair in received if pair[0].lower() == "set-cookie")
        return Exchange(
            number=number,
            place=place,
            method=method,
            url=url[:2000],
            status=status,
            at=at,
            seconds=seconds,
            sent=(),
            received=cookies,
            kind=STATIC,
        )
    carried = request.get("cookies")
    if not _has(sent, "cookie") and isinstance(carried, list) and carried:
        pairs = [f"{_text(item, 'name')}={_text(item, 'value') or ''}" for item in carried if isinstance(item, dict)]
        sent += (("Cookie", "; ".join(pairs)),)
    target = _text(response, "redirectURL")
    if target and not _has(received, "location"):
        received += (("Location", target),)
    body, request_left_out = _request_body(request)
    if kind == CALL and not _may_matter(url, sent, body, content):
        return Exchange(
            number=number,
            place=place,
            method=method,
            url=url[:2000],
            status=status,
            at=at,
            seconds=seconds,
            sent=_those(sent, _CALL_SENT),
            received=_those(received, _CALL_RECEIVED),
            kind=CALL,
            problem=_problem(entry, response),
        )
    answer, response_left_out = _response_body(content)
    answer = _what_serves(answer, kind, status, budget)
    initiator = _object(entry, "_initiator")
    return Exchange(
        number=number,
        place=place,
        method=method,
        url=url,
        status=status,
        at=at,
        seconds=seconds,
        sent=sent,
        received=received,
        body=body,
        answer=answer,
        kind=kind,
        frame=(_value(sent, "sec-fetch-dest") or "").lower() in _FRAMES,
        by_script=_text(initiator, "type") == "script",
        caused_by=_initiating(initiator),
        problem=_problem(entry, response),
        body_left_out=request_left_out or response_left_out,
        phases=phases,
    )


def _problem(entry: dict[str, Any], response: dict[str, Any]) -> str | None:
    """What the browser says of a request that got no answer, in whichever member it writes it."""
    held = (_text(holder, name) for holder in (response, entry) for name in ("_error", "_failureText", "_errorText"))
    told = next((text for text in held if text), None)
    blocked = _text(entry, "_blockedReason") or _text(response, "_blockedReason")
    if blocked and not told:
        return blocked
    return told or (_text(response, "statusText") if not _whole(response.get("status")) else None) or None


def _shows_cookies(entry: dict[str, Any]) -> bool:
    sides = (_object(entry, "request"), _object(entry, "response"))
    return any(
        side.get("cookies") or _has(_headers(side), name)
        for side, name in zip(sides, ("cookie", "set-cookie"), strict=True)
    )


def _may_matter(url: str, sent: tuple[Header, ...], body: bytes | None, content: dict[str, Any]) -> bool:
    """Whether a request that a script made may be part of a sign-in."""
    texts = (url, _value(sent, "authorization") or "", _text(content, "text") or "")
    if body and (is_worth_reading(body) or any(word in body.lower() for word in _SECRETS)):
        return True
    return any(is_worth_reading(text.encode("utf-8", "surrogatepass")) for text in texts)


def _what_serves(answer: bytes | None, kind: str, status: int, budget: list[int]) -> bytes | None:
    """As much of a response body as serves: all where a message may stand in it, a page's while there is room for
    pages, else its beginning, which holds its title. `budget` holds the octets that are left.
    """
    if answer is None or is_worth_reading(answer):
        return answer
    if kind != PAGE:
        return answer[: limits.PAGE_HEAD_BYTES] if status >= 400 else None
    size = min(len(answer), limits.PAGE_BYTES if _LEADS_ON.search(answer) else limits.PLAIN_PAGE_BYTES)
    if budget[0] < size:
        return answer[: limits.PAGE_HEAD_BYTES]
    budget[0] -= size
    return answer[:size]


def _kind(entry: dict[str, Any], url: str, sent: tuple[Header, ...], media: str) -> str:
    """Told by the browser's own word for it, by what the request says it is for, else by what came."""
    told = (_text(entry, "_resourceType") or "").lower()
    wanted = (_value(sent, "sec-fetch-dest") or "").lower()
    if told in _STATIC_TYPES or url[:5].lower() in ("data:", "blob:") or url[:3].lower() == "ws:" or url[:4] == "wss:":
        return STATIC
    if told == "document" or wanted in ("document", *_FRAMES):
        return PAGE
    if wanted and wanted not in ("empty", ""):
        return STATIC
    if told in _CALL_TYPES or wanted == "empty" or _value(sent, "x-requested-with"):
        return CALL
    if _STATIC_MEDIA.match(media):
        return STATIC
    return CALL if "json" in media else PAGE


def _object(holder: Any, name: str) -> dict[str, Any]:
    value = holder.get(name) if isinstance(holder, dict) else None
    return value if isinstance(value, dict) else {}


def _text(holder: Any, name: str) -> str | None:
    value = holder.get(name) if isinstance(holder, dict) else None
    return value if isinstance(value, str) else None


def _whole(value: Any) -> int:
    try:
        return int(value or 0)
    except (TypeError, ValueError, OverflowError):
        return 0


def _headers(holder: dict[str, Any]) -> tuple[Header, ...]:
    listed = holder.get("headers")
    if isinstance(listed, dict):
        return tuple((str(name), str(value)) for name, value in listed.items())
    if not isinstance(listed, list):
        return ()
    return tuple((str(item.get("name", "")), str(item.get("value", ""))) for item in listed if isinstance(item, dict))


def _those(fields: tuple[Header, ...], names: tuple[str, ...]) -> tuple[Header, ...]:
    return tuple(field for field in fields if field[0].lower() in names)


def _value(fields: tuple[Header, ...], name: str) -> str | None:
    return next((value for text, value in fields if text.lower() == name), None)


def _has(fields: tuple[Header, ...], name: str) -> bool:
    return any(text.lower() == name for text, _ in fields)


def _from_pseudo(sent: tuple[Header, ...]) -> str | None:
    """An address put together from the pseudo header fields of HTTP/2 (RFC 9113 §8.3.1)."""
    host, path = _value(sent, ":authority"), _value(sent, ":path")
    return f"{_value(sent, ':scheme') or 'https'}://{host}{path or '/'}" if host else None


def _set_cookie(cookie: dict[str, Any]) -> str:
    """A cookie of the list as the header field that it stands for."""
    line = f"{cookie['name']}={cookie.get('value', '')}"
    for member, attribute in (("path", "Path"), ("domain", "Domain"), ("expires", "Expires"), ("sameSite", "SameSite")):
        value = cookie.get(member)
        if isinstance(value, str) and value:
            moment = _moment(value) if member == "expires" else None
            line += f"; {attribute}={moment.strftime('%a, %d %b %Y %H:%M:%S GMT') if moment else value}"
    line += "; Secure" if cookie.get("secure") is True else ""
    return line + ("; HttpOnly" if cookie.get("httpOnly") is True else "")


def _moment(text: str) -> datetime | None:
    text = re.sub(r"(\.\d{6})\d+", r"\1", text.strip())
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    try:
        return moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)
    except OverflowError:
        return None


def _timing(entry: dict[str, Any]) -> tuple[float | None, Phases | None]:
    """Seconds in all, and by phases; HAR counts milliseconds, and −1 for what does not apply."""
    told = entry.get("time")
    total = told / 1000 if isinstance(told, int | float) and 0 <= told <= _LONGEST else None
    timings = _object(entry, "timings")
    spent = {
        name: float(item) / 1000
        for name, item in timings.items()
        if isinstance(item, int | float) and 0 <= item <= _LONGEST
    }
    if not spent:
        return total, None
    before = sum(spent.get(name, 0.0) for name in ("blocked", "dns", "connect", "send"))
    phases = Phases(before, spent.get("wait", 0.0), spent.get("receive", 0.0))
    return (sum(phases) if total is None else total), phases


def _initiating(initiator: dict[str, Any]) -> str | None:
    url = _text(initiator, "url")
    frames = _object(initiator, "stack").get("callFrames")
    if not url and isinstance(frames, list) and frames and isinstance(frames[0], dict):
        url = _text(frames[0], "url")
    return url or None


def _request_body(request: dict[str, Any]) -> tuple[bytes | None, bool]:
    posted = _object(request, "postData")
    text = _text(posted, "text")
    if text:
        if _text(posted, "encoding") == "base64":
            return _from_base64(text), False
        return text.encode("utf-8", "surrogatepass")[: limits.KEPT_BODY_BYTES], False
    listed = posted.get("params")
    if isinstance(listed, list) and listed:
        return "&".join(_pair(item) for item in listed if isinstance(item, dict)).encode(), False
    size = request.get("bodySize")
    return None, isinstance(size, int | float) and size > 0 and _text(request, "method") == "POST"


def _pair(document: dict[str, Any]) -> str:
    """A parameter of the list as a form carries it; some browsers list them decoded, some as they were sent."""
    name, value = str(document.get("name", "")), str(document.get("value", ""))
    plain = re.fullmatch(r"(?:[A-Za-z0-9._~*+-]|%[0-9A-Fa-f]{2})*", value) is not None and "%" in value
    return f"{quote_plus(name)}={value if plain else quote_plus(value)}"


def _response_body(content: dict[str, Any]) -> tuple[bytes | None, bool]:
    text = _text(content, "text")
    if text:
        if _text(content, "encoding") == "base64":
            return _from_base64(text), False
        return text.encode("utf-8", "surrogatepass")[: limits.KEPT_BODY_BYTES], False
    size = content.get("size")
    return None, isinstance(size, int | float) and size > 0


def _from_base64(text: str) -> bytes | None:
    try:
        return base64.b64decode(text[: limits.KEPT_BODY_BYTES])
    except (binascii.Error, ValueError):
        return None
