"""A browser without scripts: it follows redirects, keeps cookies as browsers do, and sends off forms; what it asks and
gets is put down as exchanges.

The cookie store is the one by which captures are judged. Only hosts that are allowed are asked.
"""

from __future__ import annotations

import re
import time
from collections.abc import Callable
from datetime import UTC, datetime
from urllib.parse import urlencode

from lxml import html as pages

from trace_lens.attempts.cookies import CookieStore, kept_back
from trace_lens.common.addresses import host_of, parts_of, resolved
from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import Exchange, jumps_of
from trace_lens.live.recording import Passed
from trace_lens.live.transport import Answer, Transport, Unreachable

_KEEP_METHOD = (307, 308)
_WORDS = {
    "name-not-resolved": "net::ERR_NAME_NOT_RESOLVED",
    "port-unreachable": "net::ERR_CONNECTION_REFUSED",
    "tls-refused": "net::ERR_SSL_PROTOCOL_ERROR",
    "tls-untrusted": "net::ERR_CERT_AUTHORITY_INVALID",
    "tls-name-mismatch": "net::ERR_CERT_COMMON_NAME_INVALID",
    "tls-certificate-expired": "net::ERR_CERT_DATE_INVALID",
}
"""How a browser's export says what failed, by the code."""
_HIDDEN = ("hidden", "submit", "button", "image", "reset")
_REFUSING = expression(r"deny|cancel|reject|abort|decline|\bno\b|back", re.IGNORECASE)
_NAMED = expression(r"user|login|mail|ident|account|name|upn", re.IGNORECASE)


class NotAllowed(Exception):
    """A host that is not among those that may be spoken to."""

    def __init__(self, host: str) -> None:
        super().__init__(host)
        self.host = host


class FormShown(NamedTuple):
    """A form of a page: where it goes, its values as they are, and its fields that a person fills in."""

    action: str
    method: str
    values: tuple[tuple[str, str], ...]
    user: str | None
    password: str | None
    others: tuple[str, ...]
    buttons: tuple[tuple[str, str, str], ...]

    @property
    def is_hidden(self) -> bool:
        """Whether nothing in it is for a person to fill in."""
        return not self.user and not self.password and not self.others


class Shown(NamedTuple):
    """A page as it came, with its forms; `sends` says that a script sends a form off, `scripts` that it holds any."""

    answer: Answer
    exchange: Exchange
    forms: tuple[FormShown, ...]
    sends: bool
    scripts: bool

    @property
    def jump(self) -> str | None:
        """Where the page sends the browser by itself."""
        return next(iter(jumps_of(self.exchange)), None)


class Browser:
    """Asks addresses as a browser does; `passed` is what was asked and answered so far."""

    def __init__(self, transport: Transport, allowed: Callable[[str], bool]) -> None:
        self.transport, self.allowed = transport, allowed
        self.cookies = CookieStore()
        self.passed: list[Passed] = []

    def open(self, url: str, came_from: str | None = None, *, redirected: bool = False) -> Shown:
        """Open an address. Raises NotAllowed, Unreachable."""
        return self._ask("GET", url, None, came_from, redirected=redirected)

    def send(self, form: FormShown, values: list[tuple[str, str]], came_from: str) -> Shown:
        """Send a form off. Raises NotAllowed, Unreachable."""
        if form.method == "POST":
            return self._ask("POST", form.action, urlencode(values).encode(), came_from)
        joint = "&" if "?" in form.action else "?"
        return self._ask("GET", f"{form.action}{joint}{urlencode(values)}", None, came_from)

    def onward(self, shown: Shown) -> Shown:
        """Where an answer redirects to. Raises NotAllowed, Unreachable."""
        target = shown.answer.onward or ""
        method, body = ("GET", None)
        last = self.passed[-1]
        if shown.answer.status in _KEEP_METHOD:
            method, body = last.method, last.body
        return self._ask(method, target, body, _origin_page(self.passed), redirected=True)

    def _ask(
        self, method: str, url: str, body: bytes | None, came_from: str | None, *, redirected: bool = False
    ) -> Shown:
        if not self.allowed(host_of(url)):
            raise NotAllowed(host_of(url))
        at = time.time()
        number = len(self.passed) + 1
        asking = Exchange(number, f"entry {number}", method, url, at=datetime.fromtimestamp(at, UTC))
        headers = {"Accept": "text/html,application/xhtml+xml;q=0.9,*/*;q=0.8", "Host": parts_of(url).netloc}
        sent = [
            cookie for cookie in self.cookies if kept_back(cookie, asking, came_from, redirected=redirected) is None
        ]
        if sent:
            headers["Cookie"] = "; ".join(f"{cookie.name}={cookie.value}" for cookie in sent)
        if came_from:
            headers["Referer"] = came_from.partition("#")[0]
        if body is not None:
            headers["Content-Type"] = "application/x-www-form-urlencoded"
            headers["Origin"] = f"{parts_of(came_from or url).scheme}://{parts_of(came_from or url).netloc}"
        told = tuple(headers.items())
        try:
            answer = self.transport.ask(url, method, headers, body)
        except Unreachable as error:
            self.passed.append(Passed(method, url, told, body, at, None, _WORDS.get(error.code, error.because)))
            raise
        self.passed.append(Passed(method, url, told, body, at, answer))
        exchange = asking._replace(status=answer.status, sent=told, received=answer.headers, answer=answer.data)
        self.cookies.receive(Exchange(*exchange))
        return _shown(answer, Exchange(*exchange))


def _origin_page(passed: list[Passed]) -> str | None:
    """The page that a chain of redirects began at."""
    for item in reversed(passed):
        if item.answer is not None and item.answer.onward is None:
            return item.url
    return None


def _shown(answer: Answer, exchange: Exchange) -> Shown:
    """An answer as a page."""
    if not answer.data or "html" not in (answer.content_type or "html"):
        return Shown(answer, exchange, (), sends=False, scripts=False)
    try:
        tree = pages.fromstring(answer.data)
    except (ValueError, pages.etree.ParserError):
        return Shown(answer, exchange, (), sends=False, scripts=False)
    text = answer.data.decode("utf-8", "replace")
    forms = tuple(_form(form, answer.url) for form in tree.iter("form"))
    sends = re.search(r"\.submit\s*+\(", text) is not None
    return Shown(answer, exchange, forms, sends=sends, scripts=next(tree.iter("script"), None) is not None)


def _form(form: pages.HtmlElement, url: str) -> FormShown:
    values: list[tuple[str, str]] = []
    users: list[str] = []
    others: list[str] = []
    password = None
    buttons: list[tuple[str, str, str]] = []
    for field in form.iter("input", "button", "textarea", "select"):
        name = field.get("name") or ""
        own = {"button": "submit", "select": "select", "textarea": "textarea"}.get(str(field.tag))
        kind = (field.get("type") if own in (None, "submit") else None) or own or "text"
        kind = kind.lower()
        if kind in ("submit", "image") or field.tag == "button":
            words = field.get("value") or (field.text_content() if field.tag == "button" else "") or ""
            buttons.append((name, field.get("value") or "", f"{name} {words} {field.get('id') or ''}".strip()))
        elif not name:
            continue
        elif kind == "password":
            password = name
        elif kind in ("text", "email", "tel", "search") and field.get("disabled") is None:
            told = " ".join(
                filter(None, (name, field.get("id"), field.get("autocomplete"), field.get("placeholder"), kind))
            )
            (users if _NAMED.search(told) else others).append(name)
            values.append((name, field.get("value") or ""))
        elif kind not in ("checkbox", "radio") or field.get("checked") is not None:
            values.append((name, _value_of(field)))
    user = users[0] if users else others.pop(0) if others and password else None
    return FormShown(
        action=resolved(url, form.get("action") or url),
        method=(form.get("method") or "get").upper(),
        values=tuple(values),
        user=user,
        password=password,
        others=(*users[1:], *others),
        buttons=tuple(buttons),
    )


def _value_of(field: pages.HtmlElement) -> str:
    if field.tag == "select":
        chosen = [option for option in field.iter("option") if option.get("selected") is not None]
        first = next(iter(chosen or field.iter("option")), None)
        return "" if first is None else str(first.get("value") or first.text or "")
    if field.tag == "textarea":
        return str(field.text or "")
    return str(field.get("value") or ("on" if field.get("type") in ("checkbox", "radio") else ""))


def filled(form: FormShown, user: str | None, password: str | None) -> list[tuple[str, str]]:
    """The values of a form as it is sent: filled in, with the first button that refuses nothing."""
    told = [(name, value) for name, value in form.values if name != form.user or user is None]
    if form.user and user is not None:
        told.append((form.user, user))
    if form.password and password is not None:
        told.append((form.password, password))
    agreeing = next((button for button in form.buttons if not _REFUSING.search(button[2])), None)
    if agreeing and agreeing[0]:
        told.append((agreeing[0], agreeing[1]))
    return told
