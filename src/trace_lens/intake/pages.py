"""What a page shows its reader: title, headings, alerts, links, its text. No judgement of them lives here."""

from __future__ import annotations

import re
from functools import lru_cache
from typing import NamedTuple

from trace_lens.common import limits
from trace_lens.common.addresses import resolved
from trace_lens.common.expressions import expression
from trace_lens.intake.exchanges import Exchange
from trace_lens.intake.markup import without_tags

_PAGE = expression(r"<(?:!doctype|html|head|body|title|h1|form|p|div)\b", re.IGNORECASE)
_UNSEEN = ("script", "style", "noscript", "template", "head")
_ALERT = expression(r"(?:^|[\s_-])(?:alert|error|errors|danger|warning|failure|invalid-feedback)(?:$|[\s_-])")


class Link(NamedTuple):
    """Where a link, a button or a form leads, and the words on it."""

    target: str
    words: str


class PageText(NamedTuple):
    """What a page shows. `alerts` are what it marks as such (role `alert`, or a class of that name)."""

    title: str = ""
    headings: tuple[str, ...] = ()
    alerts: tuple[str, ...] = ()
    links: tuple[Link, ...] = ()
    text: str = ""

    @property
    def said_loudly(self) -> tuple[str, ...]:
        """Title, headings and alerts: what a page says of itself, not what it is about."""
        return tuple(text for text in (self.title, *self.headings, *self.alerts) if text)


def page_of(exchange: Exchange) -> PageText:
    """What the page that an exchange brought shows; empty where it brought none, or the capture left it out."""
    if not exchange.answer:
        return PageText()
    return _read(exchange.text, exchange.url, (exchange.response("content-type") or "").lower())


@lru_cache(maxsize=512)
def _read(text: str, url: str, media: str) -> PageText:
    if "html" not in media and not _PAGE.search(text[:4096]):
        return PageText(text=_joined(text)) if media.startswith("text/plain") else PageText()
    from lxml import etree, html

    try:
        root = html.document_fromstring(text.encode("utf-8", "replace"), parser=html.HTMLParser(encoding="utf-8"))
    except (etree.LxmlError, ValueError, AssertionError):
        return PageText(text=_joined(without_tags(text)))
    title = root.find(".//title")
    headings = [_words(element) for element in root.iter("h1", "h2")]
    alerts = [_words(element) for element in root.iter() if isinstance(element.tag, str) and _is_alert(element)]
    links = [Link(resolved(url, (element.get("href") or "").strip()), _words(element)) for element in root.iter("a")]
    links += [Link(resolved(url, (element.get("action") or url).strip()), "") for element in root.iter("form")]
    links += [Link("", _words(element)) for element in root.iter("button")]
    body = root.find("body")
    return PageText(
        title=_words(title) if title is not None else "",
        headings=tuple(dict.fromkeys(heading for heading in headings if heading)),
        alerts=tuple(dict.fromkeys(alert for alert in alerts if alert)),
        links=tuple(links[: limits.PAGE_LINKS]),
        text=_words(body if body is not None else root),
    )


def _is_alert(element: object) -> bool:
    get = element.get  # type: ignore[attr-defined]
    if (get("role") or "").lower() == "alert":
        return True
    return element.tag in ("p", "div", "span", "li", "section") and bool(_ALERT.search((get("class") or "").lower()))  # type: ignore[attr-defined]


def _words(element: object) -> str:
    """The text of an element without what a reader does not see."""
    pieces: list[str] = []

    def walk(start: object) -> None:
        stack: list[object] = [start]
        while stack:
            here = stack.pop()
            if isinstance(here, str):
                pieces.append(here)
                continue
            tag = here.tag  # type: ignore[attr-defined]
            if isinstance(tag, str) and tag not in _UNSEEN:
                for child in reversed(here):  # type: ignore[call-overload]
                    if child.tail:
                        stack.append(child.tail)
                    stack.append(child)
                if here.text:  # type: ignore[attr-defined]
                    pieces.append(here.text)  # type: ignore[attr-defined]

    walk(element)
    return _joined(" ".join(pieces))


def _joined(text: str) -> str:
    return " ".join(text.split())[: limits.PAGE_TEXT]
