"""What passed between a browser and the hosts: requests with their responses, whatever form they were captured in.

An exchange says only what its capture says. What it does not know is None, so that a check can tell "there was no
cookie" from "the export left the cookies out".
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from datetime import datetime, timedelta
from functools import cached_property
from urllib.parse import SplitResult

from trace_lens.common import limits
from trace_lens.common.addresses import host_of, led_to, origin_of, parts_of, plain
from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.browser_words import Trouble, trouble_of
from trace_lens.intake.markup import attributes, elements, tags, without_tags, without_unseen

Header = tuple[str, str]
PAGE, CALL, STATIC = "page", "call", "static"
"""The kinds of exchanges: what a window or frame shows or is sent on by, what a script fetches, and the noise."""
STATIC_END = expression(r"\.(?:png|jpe?g|gif|svg|ico|css|js|mjs|woff2?|ttf|map)$", re.IGNORECASE)
"""How the path of a picture, style, font or script ends, where the capture does not say what was asked for."""


class Phases(NamedTuple):
    """The seconds that an exchange spent before it was sent (queue, DNS, connection, TLS), waiting, and receiving."""

    before: float
    waiting: float
    receiving: float


class _Exchange(NamedTuple):
    number: int
    place: str
    method: str
    url: str
    status: int = 0
    at: datetime | None = None
    seconds: float | None = None
    sent: tuple[Header, ...] = ()
    received: tuple[Header, ...] = ()
    body: bytes | None = None
    answer: bytes | None = None
    kind: str = PAGE
    frame: bool = False
    by_script: bool = False
    caused_by: str | None = None
    problem: str | None = None
    cookies_told: bool = True
    body_left_out: bool = False
    phases: Phases | None = None


class Exchange(_Exchange):
    """One request and its response.

    `number` is its place among all in the order in which they happened, `place` where it is in the source, in words
    (`entry 7`, `line 12`). `status` is 0
    where no response came, and `problem` then says what the browser said of it. `sent` and `received` are the header
    fields of request and response, names as they were captured. `body` is the request's, `answer` the response's;
    None where the capture has none, and `body_left_out` where it says that there was one. `frame` marks what was loaded
    into a frame, `by_script` what a script started, `caused_by` the address that the browser says started it.
    `cookies_told` is False where the capture leaves cookies out.
    """

    __slots__ = ()

    def request(self, name: str) -> str | None:
        """A header field of the request; of several, joined as RFC 9110 §5.3 allows (cookies by semicolons)."""
        return _field(self.sent, name, "; " if name == "cookie" else ", ")

    def response(self, name: str) -> str | None:
        """A header field of the response."""
        return _field(self.received, name, ", ")

    @property
    def set_cookies(self) -> list[str]:
        """Its Set-Cookie header fields, which are never joined (RFC 6265 §3)."""
        return [line for name, value in self.received if name.lower() == "set-cookie" for line in value.split("\n")]

    @property
    def cookies(self) -> dict[str, str]:
        """The cookies that the request carries, by name; of two of one name the first (RFC 6265 §4.2.2).

        What has no equals sign is the value of a cookie whose name is empty (rfc6265bis §5.7).
        """
        found: dict[str, str] = {}
        for part in (self.request("cookie") or "").split(";"):
            name, equals, value = part.strip().partition("=")
            if name:
                found.setdefault(name if equals else "", value if equals else name)
        return found

    @property
    def trouble(self) -> Trouble | None:
        """What the browser's own words say went wrong; None where it says nothing.

        A browser may refuse an answer that did come: then there is a status too.
        """
        return trouble_of(self.problem) if self.problem else None

    @property
    def parts(self) -> SplitResult:
        """The parts of its address; empty ones where that is no address."""
        return parts_of(self.url.strip())

    @property
    def host(self) -> str:
        """Its host, in small ASCII letters, without the port."""
        return host_of(self.url)

    @property
    def origin(self) -> str:
        """Scheme, host and port (RFC 6454 §4)."""
        return origin_of(self.url)

    @property
    def plain_url(self) -> str:
        """Its address without query and fragment."""
        return plain(self.url)

    @property
    def served(self) -> bool:
        """Whether it was answered with content, be it what the browser had already (304, RFC 9110 §15.4.5)."""
        return 200 <= self.status < 300 or self.status == 304

    @property
    def leads_on(self) -> bool:
        """Whether its status is that of a redirect."""
        return 300 <= self.status < 400 and self.status != 304

    @property
    def redirects_to(self) -> str | None:
        """Where a redirect sends the browser (RFC 9110 §10.2.2), resolved against its own address."""
        if not self.leads_on:
            return None
        location = self.response("location")
        return None if location is None else led_to(self.url, location.strip())

    @property
    def text(self) -> str:
        """The page that came, as text, as far as it is looked at."""
        return (self.answer or b"")[: limits.PAGE_BYTES].decode("utf-8", "replace")


def _field(fields: Iterable[Header], name: str, joint: str) -> str | None:
    found = [value for text, value in fields if text.lower() == name]
    return joint.join(found) if found else None


def clock_ahead(exchange: Exchange) -> float | None:
    """By how many seconds the server's clock is ahead of the browser's, give or take the time of the exchange."""
    from email.utils import parsedate_to_datetime

    told = exchange.response("date")
    if told is None or exchange.at is None:
        return None
    try:
        moment = parsedate_to_datetime(told)
    except (ValueError, TypeError):
        return None
    if moment.tzinfo is None:
        return None
    middle = exchange.at + timedelta(seconds=(exchange.seconds or 0.0) / 2)
    return (moment - middle).total_seconds() + 0.5


class _Capture(NamedTuple):
    form: str
    exchanges: tuple[Exchange, ...]
    made_by: str = ""
    cut: str | None = None
    notes: tuple[str, ...] = ()
    cookies_seen: bool = False
    beyond: str | None = None


class Capture(_Capture):
    """All that one capture holds, in the order in which it happened.

    `form` is `har` or `header-dump`; `made_by` what wrote it. `cut` says what is lost where it breaks off, `beyond`
    what was not read because it lies beyond a limit; `notes` what else its reader should know. `cookies_seen` says
    that its reader met cookies.
    """

    @cached_property
    def setting_cookies(self) -> tuple[Exchange, ...]:
        """The exchanges whose response sets cookies: of thousands, few."""
        return tuple(exchange for exchange in self.exchanges if exchange.received and exchange.set_cookies)

    @cached_property
    def places(self) -> dict[int, int]:
        """The place of each exchange among all, by its number."""
        return {exchange.number: place for place, exchange in enumerate(self.exchanges)}

    @cached_property
    def telling(self) -> tuple[Exchange, ...]:
        """The exchanges that are no noise, or whose response sets cookies."""
        setting = {exchange.number for exchange in self.setting_cookies}
        return tuple(one for one in self.exchanges if one.kind != STATIC or one.number in setting)

    @property
    def is_whole(self) -> bool:
        """Whether all of it was read: what is missing in it did not happen."""
        return self.cut is None and self.beyond is None

    @property
    def tells_cookies(self) -> bool:
        """Whether any exchange shows a cookie header: where none does, the export left them out."""
        return self.cookies_seen or any(
            exchange.request("cookie") is not None or exchange.set_cookies for exchange in self.exchanges
        )


_JUMP = expression(r"(?:location(?:\.href)?\s*+=|location\.(?:replace|assign)\s*+\()\s*+[\"']([^\"']++)[\"']")


class Form(NamedTuple):
    """A form of a page: where it goes, how, its fields, whether it sends itself off, whether it asks for a password."""

    action: str
    method: str
    fields: tuple[str, ...]
    by_itself: bool
    asks_password: bool = False


def forms_of(page: Exchange) -> list[Form]:
    """The forms of a page, their actions resolved against its address."""
    if not page.answer:
        return []
    text = page.text
    sends = re.search(r"\.submit\s*+\(", text) is not None
    found = []
    for opening, content in elements(text, "form", unclosed=True):
        own = attributes(opening)
        inputs = [attributes(content[start:end]) for start, end in tags(content, "input", "button")]
        action = led_to(page.url, (own.get("action") or page.url).strip())
        names = tuple(field["name"] for field in inputs if field.get("name"))
        typed = [attributes(content[start:end]) for start, end in tags(content, "input")]
        asks = any(field.get("type", "text").lower() in ("text", "password", "email") for field in typed)
        password = any(field.get("type", "").lower() == "password" for field in typed)
        found.append(
            Form(
                action=action,
                method=own.get("method", "get").upper(),
                fields=names,
                by_itself=sends and not asks,
                asks_password=password,
            )
        )
    return found


def jumps_of(page: Exchange) -> list[str]:
    """Where a page sends the browser by itself: meta refresh, or a script that sets the location."""
    if page.status and not page.served and not 400 <= page.status < 600:
        return []
    refresh = page.response("refresh")
    if not page.answer and not refresh:
        return []
    text = page.text
    found = []
    contents = [refresh] if refresh else []
    for start, end in tags(text, "meta"):
        told = attributes(text[start:end])
        if told.get("http-equiv", "").lower() == "refresh" and "content" in told:
            contents.append(told["content"])
    for content_text in contents:
        _, _, target = content_text.partition("=")
        if target:
            found.append(led_to(page.url, target.strip(" '\"")))
    found += [led_to(page.url, match[1].replace("\\/", "/")) for match in _JUMP.finditer(text)]
    return found


class Words(NamedTuple):
    """What a page says to its reader: its title, and the beginning of its text."""

    title: str
    text: str

    def __str__(self) -> str:
        return ": ".join(filter(None, (self.title, self.text if self.text != self.title else "")))


def words_of(page: Exchange) -> Words:
    """Title and text of a page, shortened; empty where it is no page or was left out of the capture."""
    from html import unescape

    text = page.text
    kind = (page.response("content-type") or "").lower()
    if "html" not in kind and not re.search(r"<(?:html|body|title|h1)\b", text, re.IGNORECASE):
        bare = text.strip() if "text/plain" in kind else ""
        return Words("", _short(bare))

    def clean(piece: str) -> str:
        return " ".join(unescape(without_tags(piece)).split())

    title = next(elements(text, "title"), None) or next(elements(text, "h1", "h2"), ("", ""))
    body = clean(without_unseen(text))
    name = clean(title[1])
    return Words(_short(name), _short(body.removeprefix(name).strip()))


def _short(text: str) -> str:
    return text if len(text) <= limits.PAGE_WORDS else text[: limits.PAGE_WORDS].rsplit(" ", 1)[0] + " …"
