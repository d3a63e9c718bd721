"""The parts of an entry of a browser's export: header fields, bodies, times, and what began it."""

from __future__ import annotations

import base64
import binascii
import re
from datetime import UTC, datetime
from itertools import chain
from typing import Any
from urllib.parse import quote_plus

from trace_lens.common import limits
from trace_lens.intake.exchanges import Header, Phases

Headers = tuple[Header, ...]


_LONGEST = 24 * 3600 * 1000
"""Most milliseconds that one exchange can have taken; what says more is no measurement."""


_MICROSECONDS = len("2026-11-20T08:14:03.123456Z")
"""A moment that is longer may have a finer part than Python reads."""


def object_of(holder: Any, name: str) -> dict[str, Any]:
    value = holder.get(name) if type(holder) is dict else None  # readers of JSON make no others
    return value if type(value) is dict else {}


def text_of(holder: Any, name: str) -> str | None:
    value = holder.get(name) if type(holder) is dict else None
    return value if type(value) is str else None


def whole_of(value: Any) -> int:
    try:
        return int(value or 0)
    except (TypeError, ValueError, OverflowError):
        return 0


def headers_of(holder: dict[str, Any]) -> tuple[Header, ...]:
    listed = holder.get("headers")
    if isinstance(listed, dict):
        return tuple((str(name), str(value)) for name, value in listed.items())
    if not isinstance(listed, list):
        return ()
    try:  # as nearly all are written; thousands of entries have dozens of them
        fields = tuple([(item["name"], item["value"]) for item in listed])
        "".join(chain.from_iterable(fields))
    except (KeyError, TypeError):
        pass  # one lacks a part, or one is no text
    else:
        return fields
    return tuple((str(item.get("name", "")), str(item.get("value", ""))) for item in listed if isinstance(item, dict))


def those_of(fields: tuple[Header, ...], names: tuple[str, ...]) -> tuple[Header, ...]:
    return tuple([field for field in fields if field[0].lower() in names])


def by_name(fields: tuple[Header, ...]) -> dict[str, str]:
    """The value of each header field by its name in small letters; of several of one name the first."""
    return {name.lower(): value for name, value in reversed(fields)}


def address_of_pseudo(sent: dict[str, str]) -> str | None:
    """An address put together from the pseudo header fields of HTTP/2 (RFC 9113 §8.3.1)."""
    host, path = sent.get(":authority"), sent.get(":path")
    return f"{sent.get(':scheme') or 'https'}://{host}{path or '/'}" if host else None


def set_cookie_of(cookie: dict[str, Any]) -> str:
    """A cookie of the list as the header field that it stands for."""
    line = f"{cookie['name']}={cookie.get('value', '')}"
    for member, attribute in (("path", "Path"), ("domain", "Domain"), ("expires", "Expires"), ("sameSite", "SameSite")):
        value = cookie.get(member)
        if isinstance(value, str) and value:
            moment = moment_of(value) if member == "expires" else None
            line += f"; {attribute}={moment.strftime('%a, %d %b %Y %H:%M:%S GMT') if moment else value}"
    line += "; Secure" if cookie.get("secure") is True else ""
    return line + ("; HttpOnly" if cookie.get("httpOnly") is True else "")


def moment_of(text: str) -> datetime | None:
    text = text.strip()
    if len(text) > _MICROSECONDS:
        text = re.sub(r"(\.\d{6})\d+", r"\1", text)
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    if moment.tzinfo is UTC:
        return moment
    try:
        return moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)
    except OverflowError:
        return None


def seconds_of(entry: dict[str, Any]) -> float | None:
    """Seconds in all; HAR counts milliseconds, and −1 for what does not apply."""
    told = entry.get("time")
    if (type(told) is float or isinstance(told, int)) and 0 <= told <= _LONGEST:
        return told / 1000
    phases = phases_of(entry)
    return sum(phases) if phases else None


def phases_of(entry: dict[str, Any]) -> Phases | None:
    """Seconds by phases."""
    timings = object_of(entry, "timings")
    spent = {
        name: float(item) / 1000
        for name, item in timings.items()
        if isinstance(item, int | float) and 0 <= item <= _LONGEST
    }
    if not spent:
        return None
    before = sum(spent.get(name, 0.0) for name in ("blocked", "dns", "connect", "send"))
    return Phases(before, spent.get("wait", 0.0), spent.get("receive", 0.0))


def initiator_of(initiator: dict[str, Any]) -> str | None:
    url = text_of(initiator, "url")
    frames = object_of(initiator, "stack").get("callFrames")
    if not url and isinstance(frames, list) and frames and isinstance(frames[0], dict):
        url = text_of(frames[0], "url")
    return url or None


def request_body(request: dict[str, Any]) -> tuple[bytes | None, bool]:
    posted = object_of(request, "postData") if "postData" in request else {}
    text = text_of(posted, "text") if posted else None
    if text:
        if text_of(posted, "encoding") == "base64":
            return from_base64(text), False
        return text.encode("utf-8", "surrogatepass")[: limits.KEPT_BODY_BYTES], False
    listed = posted.get("params") if posted else None
    if isinstance(listed, list) and listed:
        return "&".join(_pair(item) for item in listed if isinstance(item, dict)).encode(), False
    size = request.get("bodySize")
    return None, bool(size) and isinstance(size, int | float) and size > 0 and text_of(request, "method") == "POST"


def _pair(document: dict[str, Any]) -> str:
    """A parameter of the list as a form carries it; some browsers list them decoded, some as they were sent."""
    name, value = str(document.get("name", "")), str(document.get("value", ""))
    plain = re.fullmatch(r"(?:[A-Za-z0-9._~*+-]|%[0-9A-Fa-f]{2})*", value) is not None and "%" in value
    return f"{quote_plus(name)}={value if plain else quote_plus(value)}"


def response_body(content: dict[str, Any]) -> tuple[bytes | None, bool]:
    text = text_of(content, "text")
    if text:
        if text_of(content, "encoding") == "base64":
            return from_base64(text), False
        return text.encode("utf-8", "surrogatepass")[: limits.KEPT_BODY_BYTES], False
    size = content.get("size")
    return None, isinstance(size, int | float) and size > 0


def from_base64(text: str) -> bytes | None:
    try:
        return base64.b64decode(text[: limits.KEPT_BODY_BYTES])
    except (binascii.Error, ValueError):
        return None
