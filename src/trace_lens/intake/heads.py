"""Plain text in which the heads of requests and responses stand one after the other, as exchanges.

People paste them from proxies, command lines, browser panels and extensions. Understood are HTTP/1.1 heads, heads with
a mark or a time before each line, an address on a line of its own before a head, absolute request lines, the pseudo
header fields of HTTP/2, and the panels' lists of "Request URL" and "Status Code"; also lists of Set-Cookie lines.
Bodies are what stands between a head's blank line and the next head.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import islice

from trace_lens.common import limits
from trace_lens.common.addresses import plain, resolved
from trace_lens.common.expressions import expression
from trace_lens.common.limits import Refused
from trace_lens.intake.effort import most_messages
from trace_lens.intake.exchanges import CALL, PAGE, STATIC, STATIC_END, Capture, Exchange, Header

_MARK = expression(
    r"^\s*(?:[\[(]?(?P<time>\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d+)?(?:Z|[+-]\d\d:?\d\d)?"
    r"|\d\d:\d\d:\d\d(?:[.,]\d+)?)"
    r"[\])]?[\s:|-]*)?(?P<mark>(?:[<>*|#→←]{1,3}|-->|<--|\{|\})(?=[ \t]|$))?[ \t]?"
)
_METHODS = "GET|POST|PUT|HEAD|OPTIONS|DELETE|PATCH|CONNECT"
_REQUEST = expression(rf"^({_METHODS}) (\S+)(?:\s+(HTTP/[\d.]+))?\s*$")
_STATUS = expression(r"^HTTP/[\d.x]+[ \t]+(\d{3})\b")
_HEADER = expression(r"^(:?[!#$%&'*+.^_`|~0-9A-Za-z-]+)[ \t]*:[ \t]*(.*)$")
_ADDRESS = expression(r"^https?://\S+$", re.IGNORECASE)
_LISTED = {
    "request url": "url",
    "request method": "method",
    "status code": "status",
    "remote address": "",
    "referrer policy": "",
    "status": "status",
    "version": "",
    "transferred": "",
}
_SECTION = expression(r"^(?:general|response headers|request headers|(?:raw )?headers)\b[^:]*:?$", re.IGNORECASE)
_ENOUGH = expression(
    rb"(?m)^[^\n]{0,60}?(?:(?:GET|POST|PUT|HEAD|OPTIONS) \S+ HTTP/[\d.]+\s*$|HTTP/[\d.]+ \d{3}\b|:method[: ]"
    rb"|:status[: ]|Request URL[:\s]|Set-Cookie:)",
    re.IGNORECASE,
)
_SIGNS = (b"HTTP/", b":method", b":status", b"equest URL", b"EQUEST URL", b"et-Cookie:", b"et-cookie:")


@dataclass(eq=False, repr=False)
class _Head:
    """One exchange while its lines are being read."""

    line: int
    method: str = "GET"
    url: str = ""
    status: int = 0
    at: datetime | None = None
    sent: list[Header] = field(default_factory=list)
    received: list[Header] = field(default_factory=list)
    body: list[str] = field(default_factory=list)
    answer: list[str] = field(default_factory=list)
    answered: bool = False
    folded: dict[tuple[bool, int], list[str]] = field(default_factory=dict)
    """What further lines add to a field (obsolete line folding, RFC 9112 §5.2), by side and place."""

    @property
    def lines(self) -> list[Header]:
        return self.received if self.answered else self.sent


def looks_like_heads(data: bytes) -> bool:
    """Whether it is worth reading a text as heads."""
    head = data[: limits.SOURCE_BYTES]
    return any(sign in head for sign in _SIGNS) and _ENOUGH.search(head) is not None


def read_heads(data: bytes) -> Capture | None:
    """The exchanges of a text of heads; None where it holds none."""
    text = data.decode("utf-8-sig", "replace")
    most = most_messages(len(text))
    read = list(islice(_heads(_unfolded(text)), most + 1))
    beyond = f"only the first {most:,} exchanges are read" if len(read) > most else None
    heads = [head for head in read[:most] if head.url or head.status or head.received]
    if not heads or not any(head.sent or head.received for head in heads):
        return None
    notes = ("it holds no times",) if not any(_moment_of(head) for head in heads) else ()
    exchanges = tuple(_exchange(number, head) for number, head in enumerate(heads, 1))
    return Capture("header-dump", exchanges, notes=notes, beyond=beyond)


def _unfolded(text: str) -> Iterator[tuple[int, str, str, datetime | None]]:
    """Each line with its number, its mark, and its moment; a name and its value on two lines are joined."""
    lines = text.splitlines()
    number = 0
    in_pairs = False
    while number < len(lines):
        line = lines[number]
        match = _MARK.match(line)
        mark, told = (match["mark"] or "", match["time"]) if match else ("", None)
        rest = line[match.end() :] if match and (mark or told) else line.strip()
        number += 1
        name = rest.strip().removesuffix(":").strip() if not rest.startswith(":") else rest.strip()
        in_pairs = in_pairs or name.lower() == "request url"
        paired = name in _PSEUDO or (in_pairs and (name.lower() in _LISTED or _NAME.fullmatch(name)))
        if paired and number < len(lines) and not _SECTION.match(name):
            value = lines[number].strip()
            number += 1
            yield number - 1, mark, f"{name}: {value}", _at(told)
            continue
        yield number, mark, rest.rstrip(), _at(told)


_PSEUDO = {":authority", ":method", ":path", ":scheme", ":status"}
_NAME = expression(r"[A-Za-z][A-Za-z0-9]*(?:-[A-Za-z0-9]+)*")


def _at(told: str | None) -> datetime | None:
    if told is None or "-" not in told[:8]:
        return None
    try:
        moment = datetime.fromisoformat(told.replace(",", "."))
    except ValueError:
        return None
    return moment.astimezone(UTC) if moment.tzinfo else moment.replace(tzinfo=UTC)


def _heads(lines: Iterator[tuple[int, str, str, datetime | None]]) -> Iterator[_Head]:
    head: _Head | None = None
    address: tuple[int, str] | None = None
    in_body = False
    for number, mark, line, at in lines:
        if mark in ("*", "{", "}"):
            continue
        start = _start(line, head, in_body)
        if start in ("request", "pseudo-request", "listed"):
            if head:
                yield head
            head = _Head(number, at=at)
            in_body = False
            if address and start == "request":
                head.url, head.line = address[1], address[0]
            address = None
            _begin(head, line, start)
        elif start == "status":
            if head is None or (head.answered and _STATUS.match(line)):
                if head and not (100 <= head.status < 200):
                    yield head
                    head = None
                head = head or _Head(number, at=at)
                head.received, head.answer = [], []
            head.answered = True
            in_body = False
            _answer(head, line)
        elif _ADDRESS.match(line) and (head is None or in_body or not line):
            address = (number, line)
        elif head is None:
            header = _HEADER.match(line)
            if header and header[1].lower() == "set-cookie":
                head = _Head(number, answered=True)
                head.received.append((header[1], header[2]))
        elif _SECTION.match(line):
            _field(head, line)
            in_body = False
        elif not line.strip():
            in_body = in_body or bool(head.lines) or head.answered
        elif in_body:
            (head.answer if head.answered else head.body).append(line)
        else:
            _field(head, line)
    if head:
        yield head


def _start(line: str, head: _Head | None, in_body: bool) -> str:
    """What a line begins: a request, a response, or nothing."""
    request = _REQUEST.match(line)
    if request and (request[3] or request[2][:4] == "http"):
        return "request"
    if _STATUS.match(line):
        return "status"
    header = _HEADER.match(line)
    if header:
        name = header[1].lower()
        if name == ":method" or (name in (":authority", ":path", ":scheme") and _is_new(head, name, in_body)):
            return "pseudo-request" if _is_new(head, name, in_body) else ""
        if name == ":status":
            return "status"
    if re.match(r"^request url\s*+:?\s*+https?://", line, re.IGNORECASE):
        return "listed"
    return ""


def _is_new(head: _Head | None, name: str, in_body: bool) -> bool:
    """Whether a pseudo header field begins another request, or goes on with the one at hand."""
    if head is None or in_body or any(text == name for text, _ in head.sent):
        return True
    return head.answered and bool(head.sent) and any(text.startswith(":") for text, _ in head.sent)


def _begin(head: _Head, line: str, start: str) -> None:
    request = _REQUEST.match(line)
    if start == "request" and request:
        head.method = request[1]
        target = request[2]
        head.url = (
            target if target[:4].lower() == "http" else resolved(head.url, target.strip()) if head.url else target
        )
    elif start == "pseudo-request":
        _field(head, line)
    else:
        head.url = (
            re.split(r"[:\s]\s*", line, maxsplit=2)[2].strip()
            if ":" not in line[:12]
            else line.split(":", 1)[1].strip()
        )


def _answer(head: _Head, line: str) -> None:
    status = _STATUS.match(line) or re.match(r"^:status\s*:\s*(\d{3})", line)
    head.status = int(status[1]) if status else 0


def _field(head: _Head, line: str) -> None:
    if _SECTION.match(line):
        head.answered = line.lower().startswith("response") or (
            head.answered and not line.lower().startswith("request")
        )
        return
    name, _, value = (
        line.partition(":")
        if not line.startswith(":")
        else (":" + line[1:].partition(":")[0], "", line[1:].partition(":")[2])
    )
    listed = _LISTED.get(name.strip().lower())
    if listed is not None and not head.received:
        if listed == "method":
            head.method = value.strip().upper()
        elif listed == "status" and re.match(r"\s*\d{3}", value):
            head.status = int(value.split()[0][:3])
        return
    header = _HEADER.match(line)
    if header:
        if len(head.lines) >= limits.HEADER_FIELDS:
            raise Refused(f"the head at line {head.line:,} has more than {limits.HEADER_FIELDS:,} header fields")
        head.lines.append((header[1], header[2]))
    elif head.lines:
        more = head.folded.setdefault((head.answered, len(head.lines) - 1), [])
        if len(more) >= limits.HEADER_FIELDS:
            raise Refused(f"a header field at line {head.line:,} goes over more than {limits.HEADER_FIELDS:,} lines")
        more.append(line.strip())


def _exchange(number: int, head: _Head) -> Exchange:
    for (answered, place), more in head.folded.items():
        lines = head.received if answered else head.sent
        if place < len(lines):
            lines[place] = (lines[place][0], " ".join([lines[place][1], *more]))
    pseudo = {name: value for name, value in head.sent if name.startswith(":")}
    method = pseudo.get(":method", head.method).upper()
    host = pseudo.get(":authority") or next((value for name, value in head.sent if name.lower() == "host"), None)
    url = head.url or pseudo.get(":path", "")
    if host and url[:4].lower() != "http":
        url = f"{pseudo.get(':scheme') or _scheme(head)}://{host.strip()}{url if url.startswith('/') else '/' + url}"
    body = "\n".join(head.body).strip().encode("utf-8", "surrogatepass")[: limits.KEPT_BODY_BYTES] or None
    answer = "\n".join(head.answer).strip().encode("utf-8", "surrogatepass")[: limits.KEPT_BODY_BYTES] or None
    sent = tuple(pair for pair in head.sent if not pair[0].startswith(":"))
    return Exchange(
        number=number,
        place=f"line {head.line}",
        method=method,
        url=url,
        status=head.status,
        at=_moment_of(head),
        seconds=None,
        sent=sent,
        received=tuple(head.received),
        body=body,
        answer=answer,
        kind=_kind(sent, head, url),
    )


def _scheme(head: _Head) -> str:
    """A request line without a scheme says nothing of it; what the page came from does, else https is taken."""
    told = next((value for name, value in head.sent if name.lower() in ("origin",)), "")
    return "http" if told.startswith("http://") and plain(told).endswith(_host(head)) else "https"


def _host(head: _Head) -> str:
    return next((value.strip() for name, value in head.sent if name.lower() == "host"), "\0")


def _kind(sent: tuple[Header, ...], head: _Head, url: str) -> str:
    wanted = next((value.lower() for name, value in sent if name.lower() == "sec-fetch-dest"), "")
    if wanted in ("empty",):
        return CALL
    if wanted in ("image", "style", "script", "font") or STATIC_END.search(plain(url)):
        return STATIC
    media = next((value.lower() for name, value in head.received if name.lower() == "content-type"), "")
    return CALL if "json" in media else PAGE


def _moment_of(head: _Head) -> datetime | None:
    """Its own moment, else the one that the server wrote under Date (RFC 9110 §6.6.1)."""
    from email.utils import parsedate_to_datetime

    if head.at:
        return head.at
    told = next((value for name, value in head.received if name.lower() == "date"), None)
    try:
        moment = parsedate_to_datetime(told) if told else None
    except (ValueError, TypeError):
        return None
    return moment.astimezone(UTC) if moment and moment.tzinfo else None
