"""HTTP Archive 1.2, as network panels export it: read as a stream, one entry at a time, and kept as exchanges.

Every browser writes it a little differently, and some leave out what could be secret; each member is taken where it is
and missed where it is not. What is no part of a sign-in (images, styles, fonts) keeps its address and its cookies only.
"""

from __future__ import annotations

import io
import re
import sys
import zlib
from functools import lru_cache
from itertools import pairwise
from operator import is_
from typing import Any, BinaryIO

from trace_lens.common import limits
from trace_lens.common.addresses import plain, usual
from trace_lens.common.expressions import expression
from trace_lens.intake.carried import is_worth_reading
from trace_lens.intake.exchanges import CALL, PAGE, STATIC, STATIC_END, Capture, Exchange
from trace_lens.intake.har_entries import entries_of
from trace_lens.intake.har_fields import (
    Headers,
    address_of_pseudo,
    by_name,
    from_base64,
    headers_of,
    initiator_of,
    moment_of,
    object_of,
    phases_of,
    request_body,
    response_body,
    seconds_of,
    set_cookie_of,
    text_of,
    those_of,
    whole_of,
)
from trace_lens.intake.mended import Mended

_MANY = 1_000
"""From so many entries on it pays to make ready what takes longer at first."""
_HEAD = 64 * 1024
_STARTS = expression(rb"^(?:\xef\xbb\xbf)?\s*\{")
_LOG = expression(rb'"log"\s*:\s*\{')
_CREATOR = expression(rb'"creator"\s*:\s*\{[^{}]*?"name"\s*:\s*"([^"]{1,80})"')
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
_NO_REQUESTS = ("data:", "blob:", "ws:", "wss:")
_STATIC_MEDIA = expression(
    r"^(?:image/|font/|audio/|video/|text/css|application/font|(?:text|application)/(?:x-)?(?:java|ecma)script)"
)
_LEADS_ON = (b"<form", b"http-equiv", b"location")
_CALL_TYPES = {"xhr", "fetch", "preflight", "eventsource", "other-call"}
_SET = ("set-cookie",)
_CALL_SENT = ("cookie", "authorization", "origin", "referer", "sec-fetch-mode", "sec-fetch-site")
_CALL_RECEIVED = ("set-cookie", "www-authenticate", "content-type", "date", "access-control-allow-origin", "location")
"""What is kept of a call that carries no message: whether it was let through, with which cookies, and what it said."""
_SECRETS = (b"passw", b"passphrase", b"pwd", b"passcode", b"passord", b"kennwort", b"mdp", b"senha", b"losenord")
_HANDS_ON = b'"code"'
"""How a call names a code that a page hands on to its own server."""
_FRAMES = {"iframe", "frame", "embed", "object"}


def is_static_media(media: str) -> bool:
    """Whether a media type is that of an image, a style, a font or a script: no part of a sign-in."""
    return _STATIC_MEDIA.match(media) is not None


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
            exchange = _exchange(number, entry, budget)
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
    if any(exchange.at is None for exchange in kept):
        return tuple(kept)
    by_time = sorted(kept, key=lambda item: (item.at, item.number))
    if all(map(is_, by_time, kept)):
        return _numbered(kept)
    place = {exchange.number: position for position, exchange in enumerate(by_time)}
    for exchange, following in pairwise(kept):
        backwards = exchange.redirects_to == following.url and place[exchange.number] > place[following.number]
        if backwards and all(later.url != following.url for later in by_time[place[exchange.number] :]):
            notes.append("its times go backwards; the order of the file was kept")
            return tuple(kept)
    return _numbered(by_time)


def _numbered(exchanges: list[Exchange]) -> tuple[Exchange, ...]:
    return tuple(
        exchange if exchange.number == number else exchange._replace(number=number)
        for number, exchange in enumerate(exchanges, 1)
    )


def _lacks_zone(entry: dict[str, Any]) -> bool:
    told = entry.get("startedDateTime")
    if not isinstance(told, str) or told.endswith("Z"):
        return False
    return moment_of(told) is not None and not re.search(r"(?:Z|[+-]\d\d:?\d\d)$", told.strip())


def _with_cookies_set(response: dict[str, Any], received: Headers) -> Headers:
    """The header fields of a response, with the cookies that an export lists elsewhere only."""
    listed = response.get("cookies")
    if listed and isinstance(listed, list) and not those_of(received, _SET):
        received += tuple(
            ("Set-Cookie", set_cookie_of(item)) for item in listed if isinstance(item, dict) and item.get("name")
        )
    return received


def _with_cookies_sent(request: dict[str, Any], sent: Headers, names: dict[str, str]) -> Headers:
    """The header fields of a request, with the cookies that an export lists elsewhere only."""
    carried = request.get("cookies")
    if carried and isinstance(carried, list) and "cookie" not in names:
        pairs = [
            f"{text_of(item, 'name')}={text_of(item, 'value') or ''}" for item in carried if isinstance(item, dict)
        ]
        sent += (("Cookie", "; ".join(pairs)),)
    return sent


_SLIM_URL = 2000
"""How much of an address is kept of an exchange of which only what a later question may need is kept."""


def _exchange(number: int, entry: Any, budget: list[int]) -> Exchange | None:
    request, response = object_of(entry, "request"), object_of(entry, "response")
    url, told = text_of(request, "url"), (text_of(entry, "_resourceType") or "").lower()
    if url and _is_noise(told, url):
        return _static(number, entry, usual(url), response)
    sent, received = headers_of(request), headers_of(response)
    asked, answered = by_name(sent), by_name(received)
    url = url or address_of_pseudo(asked)
    if not url:
        return None
    url = usual(url)
    content = object_of(response, "content")
    media = (text_of(content, "mimeType") or answered.get("content-type") or "").lower()
    kind = STATIC if _is_noise(told, url) else _kind(told, request, url, asked, media)
    if kind == STATIC:
        return _static(number, entry, url, response)
    slim = _slim(number, entry, url, kind)
    received = _with_cookies_set(response, received)
    sent = _with_cookies_sent(request, sent, asked)
    target = text_of(response, "redirectURL")
    if target and "location" not in answered:
        received += (("Location", target),)
    body, request_left_out = request_body(request)
    problem = _problem(entry, response)
    if kind == CALL and not _may_matter(url, asked, body, content, of_many=number > _MANY):
        answer = _head_of(content, budget)
        return slim._replace(
            sent=_shared(those_of(sent, _CALL_SENT)),
            received=_shared(those_of(received, _CALL_RECEIVED)),
            body=body[: limits.PAGE_HEAD_BYTES] if body and answer else None,
            answer=answer,
            problem=problem,
        )
    answer, response_left_out = response_body(content)
    initiator = object_of(entry, "_initiator")
    return slim._replace(
        url=url,
        sent=sent,
        received=received,
        body=body,
        answer=_what_serves(
            answer,
            kind,
            told=slim.status >= 400 or (answer or b"")[:64].lstrip()[:1] == b"{" or _HANDS_ON in (body or b""),
            budget=budget,
            number=number,
        ),
        frame=asked.get("sec-fetch-dest", "").lower() in _FRAMES,
        by_script=text_of(initiator, "type") == "script",
        caused_by=initiator_of(initiator),
        problem=problem,
        body_left_out=request_left_out or response_left_out,
        phases=phases_of(entry),
    )


def _slim(number: int, entry: dict[str, Any], url: str, kind: str, place: str | None = None) -> Exchange:
    """What every exchange has."""
    request, response = object_of(entry, "request"), object_of(entry, "response")
    return Exchange(
        number,
        f"entry {number}" if place is None else place,
        (text_of(request, "method") or "GET").upper(),
        url[:_SLIM_URL],
        max(whole_of(response.get("status")), 0),
        moment_of(text_of(entry, "startedDateTime") or ""),
        seconds_of(entry),
        kind=kind,
    )


def _static(number: int, entry: dict[str, Any], url: str, response: dict[str, Any]) -> Exchange:
    """What is kept of a picture, a style, a script: the cookies that came with it."""
    slim = _slim(number, entry, _only_origin(url[:_SLIM_URL]), STATIC, "")
    if not _sets_cookies(response):
        return slim
    set_by_it = those_of(_with_cookies_set(response, headers_of(response)), _SET)
    return slim._replace(url=url[:_SLIM_URL], place=f"entry {number}", received=set_by_it) if set_by_it else slim


def _sets_cookies(response: dict[str, Any]) -> bool:
    """Whether a response may have set cookies; a quick look, for thousands of entries set none."""
    listed = response.get("headers")
    if response.get("cookies") or type(listed) is not list:
        return True
    return any([type(item) is not dict or str(item.get("name")).lower() in _SET for item in listed])  # noqa: C419


def _only_origin(url: str) -> str:
    """The origin of an address, as one object for all of the same."""
    return sys.intern("/".join(url.split("/", 3)[:3]))


@lru_cache(maxsize=1024)
def _shared(fields: Headers) -> Headers:
    """The same header fields as one object: thousands of calls bring and are answered with the same."""
    return fields


def _problem(entry: dict[str, Any], response: dict[str, Any]) -> str | None:
    """What the browser says of a request that got no answer, in whichever member it writes it."""
    for holder in (response, entry):
        for name in ("_error", "_failureText", "_errorText"):
            told = text_of(holder, name) if name in holder else None
            if told:
                return told
    blocked = text_of(entry, "_blockedReason") or text_of(response, "_blockedReason")
    return blocked or (text_of(response, "statusText") if not whole_of(response.get("status")) else None) or None


def _shows_cookies(entry: dict[str, Any]) -> bool:
    sides = (object_of(entry, "request"), object_of(entry, "response"))
    return any(
        side.get("cookies") or name in by_name(headers_of(side))
        for side, name in zip(sides, ("cookie", "set-cookie"), strict=True)
    )


def _may_matter(url: str, sent: dict[str, str], body: bytes | None, content: dict[str, Any], *, of_many: bool) -> bool:
    """Whether a request that a script made may be part of a sign-in."""
    texts = (url, sent.get("authorization") or "", text_of(content, "text") or "")
    if body and (is_worth_reading(body) or any(word in body.lower() for word in (*_SECRETS, _HANDS_ON))):
        return True
    octets = (text.encode("utf-8", "surrogatepass") for text in texts if text)
    return any(is_worth_reading(text, of_many=of_many) for text in octets)


def _what_serves(answer: bytes | None, kind: str, *, told: bool, budget: list[int], number: int) -> bytes | None:
    """As much of a response body as serves: all where a message may stand in it, a page's while there is room for
    pages, else its beginning, which holds its title. `told` says that what a call answered may tell how a sign-in
    ended; `budget` holds the octets that are left.
    """
    if answer is None or is_worth_reading(answer, of_many=number > _MANY):
        return answer
    if kind != PAGE:
        return answer[: limits.PAGE_HEAD_BYTES] if told else None
    small = answer.lower()
    leads_on = any(word in small for word in _LEADS_ON)
    size = min(len(answer), limits.PAGE_BYTES if leads_on else limits.PLAIN_PAGE_BYTES)
    if budget[0] < size:
        return answer[: limits.PAGE_HEAD_BYTES]
    budget[0] -= size
    return answer[:size]


def _head_of(content: dict[str, Any], budget: list[int]) -> bytes | None:
    """The beginning of a JSON object that a call was answered with: it may say who is there."""
    text = text_of(content, "text")
    coded = text_of(content, "encoding") == "base64"
    if not text or budget[0] < limits.PAGE_HEAD_BYTES or not (coded or text[:64].lstrip()[:1] == "{"):
        return None
    text = text[: limits.PAGE_HEAD_BYTES]
    head = from_base64(text) if coded else text.encode("utf-8", "replace")
    budget[0] -= len(head or b"")
    return head


def _is_noise(told: str, url: str) -> bool:
    """Whether the browser's own word for an exchange, or its address, says that it is no part of a sign-in."""
    return told in _STATIC_TYPES or url[:5].lower().startswith(_NO_REQUESTS)


def _kind(told: str, request: dict[str, Any], url: str, sent: dict[str, str], media: str) -> str:
    """Told by the browser's own word for it, by what the request says it is for, else by what came."""
    wanted = sent.get("sec-fetch-dest", "").lower()
    if told == "document" or wanted in ("document", *_FRAMES):
        return PAGE
    if wanted and wanted != "empty":
        return STATIC
    if told in _CALL_TYPES or wanted == "empty" or sent.get("x-requested-with"):
        return CALL
    if _STATIC_MEDIA.match(media) or STATIC_END.search(plain(url)):
        return STATIC
    return CALL if "json" in media or _only_scripts_send(request, sent) else PAGE


def _only_scripts_send(request: dict[str, Any], sent: dict[str, str]) -> bool:
    """Whether a request is one that no window or frame makes: with a token, or for tokens."""
    if sent.get("authorization", "")[:7].lower() == "bearer ":
        return True
    posted = object_of(request, "postData")
    return "grant_type=" in (text_of(posted, "text") or "")[:4096]
