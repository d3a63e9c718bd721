"""One entry of a browser's export as an exchange: what it is, and as much of it as may serve.

An export has tens of thousands of entries, and all but a few are noise or calls that carry nothing: what is done for
each of these is done in as few steps as there can be.
"""

from __future__ import annotations

import sys
from functools import lru_cache
from typing import Any

from trace_lens.common import limits
from trace_lens.common.addresses import plain, usual
from trace_lens.common.expressions import expression
from trace_lens.intake.carried import is_worth_reading
from trace_lens.intake.exchanges import CALL, PAGE, STATIC, STATIC_END, Exchange
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

_MANY = 1_000
"""From so many entries on it pays to make ready what takes longer at first."""
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
_SHOWN = {"document", *_FRAMES}
_SLIM_URL = 2000
"""How much of an address is kept of an exchange of which only what a later question may need is kept."""
_TROUBLES = ("_error", "_failureText", "_errorText")
"""The members in which browsers say why a request got no answer."""
_ANY_TROUBLE = {*_TROUBLES, "_blockedReason"}


def is_static_media(media: str) -> bool:
    """Whether a media type is that of an image, a style, a font or a script: no part of a sign-in."""
    return _STATIC_MEDIA.match(media) is not None


def exchange_of(number: int, entry: Any, budget: list[int]) -> Exchange | None:
    """The exchange that an entry tells of; None where it holds no request with an address.

    `number` is its place in the export. `budget` holds the octets that may still be kept of pages and answers, and what
    is kept is taken from it.
    """
    request, response = object_of(entry, "request"), object_of(entry, "response")
    url, told = request.get("url"), entry.get("_resourceType") if request else None
    url, told = url if type(url) is str else "", told.lower() if type(told) is str else ""
    if url and _is_noise(told, url):
        return _static(number, entry, usual(url), request, response)
    sent = headers_of(request)
    asked = by_name(sent)
    if not url:
        url = address_of_pseudo(asked) or ""
        if not url:
            return None
        if _is_noise(told, url):
            return _static(number, entry, usual(url), request, response)
    url = usual(url)
    content = object_of(response, "content")
    kind = _kind(told, request, url, asked, content, response)
    if kind == STATIC:
        return _static(number, entry, url, request, response)
    received = _received(response)
    sent = _with_cookies_sent(request, sent, asked)
    body, request_left_out = request_body(request)
    method, status = (text_of(request, "method") or "GET").upper(), _status(response)
    at, seconds = moment_of(text_of(entry, "startedDateTime") or ""), seconds_of(entry)
    problem = _problem(entry, response)
    if kind == CALL and not _may_matter(url, asked, body, content, of_many=number > _MANY):
        answer = _head_of(content, budget)
        return Exchange(
            number,
            f"entry {number}",
            method,
            url[:_SLIM_URL],
            status,
            at,
            seconds,
            _shared(those_of(sent, _CALL_SENT)),
            _shared(those_of(received, _CALL_RECEIVED)),
            body[: limits.PAGE_HEAD_BYTES] if body and answer else None,
            answer,
            CALL,
            problem=problem,
        )
    answer, response_left_out = response_body(content)
    initiator = object_of(entry, "_initiator")
    tells = status >= 400 or (answer or b"")[:64].lstrip()[:1] == b"{" or _HANDS_ON in (body or b"")
    return Exchange(
        number,
        f"entry {number}",
        method,
        url,
        status,
        at,
        seconds,
        sent,
        received,
        body,
        _what_serves(answer, kind, told=tells, budget=budget, number=number),
        kind,
        frame=asked.get("sec-fetch-dest", "").lower() in _FRAMES,
        by_script=text_of(initiator, "type") == "script",
        caused_by=initiator_of(initiator),
        problem=problem,
        body_left_out=request_left_out or response_left_out,
        phases=phases_of(entry),
    )


def _static(
    number: int, entry: dict[str, Any], url: str, request: dict[str, Any], response: dict[str, Any]
) -> Exchange:
    """What is kept of a picture, a style, a script: when it came, whence, and the cookies that came with it."""
    url = url[:_SLIM_URL]
    set_by_it: Headers = ()
    if _may_set_cookies(response):
        set_by_it = those_of(_with_cookies_set(response, headers_of(response)), _SET)
    return Exchange(
        number,
        f"entry {number}" if set_by_it else "",
        (text_of(request, "method") or "GET").upper(),
        url if set_by_it else _only_origin(url),
        _status(response),
        moment_of(text_of(entry, "startedDateTime") or ""),
        seconds_of(entry),
        received=set_by_it,
        kind=STATIC,
    )


def _may_set_cookies(response: dict[str, Any]) -> bool:
    """Whether a response may have set cookies; a quick look, for thousands of entries set none."""
    listed = response.get("headers")
    if response.get("cookies") or type(listed) is not list:
        return True
    try:
        return "set-cookie" in " ".join([item["name"] for item in listed]).lower()
    except (KeyError, TypeError):
        return True


def _only_origin(url: str) -> str:
    """The origin of an address, as one object for all of the same."""
    return sys.intern("/".join(url.split("/", 3)[:3]))


@lru_cache(maxsize=1024)
def _shared(fields: Headers) -> Headers:
    """The same header fields as one object: thousands of calls bring and are answered with the same."""
    return fields


def _status(response: dict[str, Any]) -> int:
    told = response.get("status")
    return max(told if type(told) is int else whole_of(told), 0)


def _received(response: dict[str, Any]) -> Headers:
    """The header fields of a response, with what an export tells elsewhere only."""
    received = _with_cookies_set(response, headers_of(response))
    target = text_of(response, "redirectURL")
    if target and not those_of(received, ("location",)):
        received += (("Location", target),)
    return received


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


def _problem(entry: dict[str, Any], response: dict[str, Any]) -> str | None:
    """What the browser says of a request that got no answer, in whichever member it writes it."""
    if _status(response) and _ANY_TROUBLE.isdisjoint(response) and _ANY_TROUBLE.isdisjoint(entry):
        return None
    for holder in (response, entry):
        for name in _TROUBLES:
            if name in holder and (told := text_of(holder, name)):
                return told
    blocked = text_of(entry, "_blockedReason") or text_of(response, "_blockedReason")
    return blocked or (text_of(response, "statusText") if not whole_of(response.get("status")) else None) or None


def _may_matter(url: str, sent: dict[str, str], body: bytes | None, content: dict[str, Any], *, of_many: bool) -> bool:
    """Whether a request that a script made may be part of a sign-in."""
    if body and (is_worth_reading(body) or any(word in body.lower() for word in (*_SECRETS, _HANDS_ON))):
        return True
    texts = "\n".join((url, sent.get("authorization") or "", text_of(content, "text") or ""))  # a sign has no such end
    return is_worth_reading(texts.encode("utf-8", "surrogatepass"), of_many=of_many)


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
    text, coded = content.get("text"), content.get("encoding") == "base64"
    if not text or type(text) is not str or budget[0] < limits.PAGE_HEAD_BYTES:
        return None
    if not coded and text[:64].lstrip()[:1] != "{":
        return None
    text = text[: limits.PAGE_HEAD_BYTES]
    head = from_base64(text) if coded else text.encode("utf-8", "replace")
    budget[0] -= len(head or b"")
    return head


def _is_noise(told: str, url: str) -> bool:
    """Whether the browser's own word for an exchange, or its address, says that it is no part of a sign-in."""
    return told in _STATIC_TYPES or url[:5].lower().startswith(_NO_REQUESTS)


def _kind(
    told: str,
    request: dict[str, Any],
    url: str,
    sent: dict[str, str],
    content: dict[str, Any],
    response: dict[str, Any],
) -> str:
    """Told by the browser's own word for it, by what the request says it is for, else by what came."""
    wanted = sent.get("sec-fetch-dest", "").lower()
    if told == "document" or wanted in _SHOWN:
        return PAGE
    if wanted and wanted != "empty":
        return STATIC
    if told in _CALL_TYPES or wanted == "empty" or sent.get("x-requested-with"):
        return CALL
    media = (text_of(content, "mimeType") or by_name(headers_of(response)).get("content-type") or "").lower()
    if _STATIC_MEDIA.match(media) or STATIC_END.search(plain(url)):
        return STATIC
    return CALL if "json" in media or _only_scripts_send(request, sent) else PAGE


def _only_scripts_send(request: dict[str, Any], sent: dict[str, str]) -> bool:
    """Whether a request is one that no window or frame makes: with a token, or for tokens."""
    if sent.get("authorization", "")[:7].lower() == "bearer ":
        return True
    posted = object_of(request, "postData")
    return "grant_type=" in (text_of(posted, "text") or "")[:4096]
