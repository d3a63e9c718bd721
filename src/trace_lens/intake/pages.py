"""What a page shows its reader: title, headings, alerts, links, its text. No judgement of them lives here."""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import TYPE_CHECKING

from trace_lens.common import limits
from trace_lens.common.addresses import resolved
from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import Exchange
from trace_lens.intake.field_names import NAME_FIELD, OTHER_FORM, SIGN_IN
from trace_lens.intake.markup import without_tags

if TYPE_CHECKING:
    from lxml.etree import _Element as Element

_PAGE = expression(r"<(?:!doctype|html|head|body|title|h1|form|p|div)\b", re.IGNORECASE)
_UNSEEN = ("script", "style", "noscript", "template", "head")
_ALERT = expression(r"(?:^|[\s_-])(?:alert|error|errors|danger|warning|failure|invalid-feedback)(?:$|[\s_-])")
_BREAK = "\x1f"
_INLINE = {
    "a",
    "abbr",
    "b",
    "bdi",
    "cite",
    "code",
    "data",
    "em",
    "font",
    "i",
    "kbd",
    "label",
    "mark",
    "q",
    "s",
    "small",
}
_INLINE |= {"span", "strong", "sub", "sup", "time", "tt", "u", "var", "wbr"}
"""Elements within a line of text."""
_NOT_SHOWN = expression(r"display\s*:\s*none|visibility\s*:\s*hidden", re.IGNORECASE)
_HIDING = {"hidden", "d-none", "hide", "is-hidden", "invisible", "sr-only", "visually-hidden", "modal"}
"""Classes of what is not shown until a script takes them away, as style sheets of all kinds name it."""
_OPEN = {"show", "shown", "open", "in", "active", "is-active", "is-open", "visible"}
_AT_SOME_WIDTH = expression(r"(?:sm|md|lg|xl|2xl):(?:block|flex|grid|inline)|d-(?:sm|md|lg|xl)-(?:block|flex|inline)")
"""Classes by which what is hidden is shown on wider screens."""


class Link(NamedTuple):
    """Where a link, a button or a form leads, and the words on it."""

    target: str
    words: str


class PageText(NamedTuple):
    """What a page shows. `alerts` are what it marks as such (role `alert`, or a class of that name); `blocks` are the
    parts of its text that stand by themselves: a paragraph, a cell, an item.
    """

    title: str = ""
    headings: tuple[str, ...] = ()
    alerts: tuple[str, ...] = ()
    links: tuple[Link, ...] = ()
    text: str = ""
    asks_to_sign_in: bool = False
    blocks: tuple[str, ...] = ()

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
        return PageText(text=_joined(text), blocks=(_joined(text),)) if media.startswith("text/plain") else PageText()
    from lxml import etree, html

    try:
        root = html.document_fromstring(text.encode("utf-8", "replace"), parser=html.HTMLParser(encoding="utf-8"))
    except (etree.LxmlError, ValueError, AssertionError):
        bare = _joined(without_tags(text))
        return PageText(text=bare, blocks=(bare,))
    title = root.find(".//head/title")
    body = root.find("body")
    seen = list(_within(body if body is not None else root))
    headings = [_words(element) for element in seen if element.tag in ("h1", "h2")]
    alerts = [_words(element) for element in seen if _is_alert(element)]
    links = list(_links(url, list(_within(root, hidden_too=True))))
    return PageText(
        title=_words(title) if title is not None else "",
        headings=tuple(dict.fromkeys(heading for heading in headings if heading)),
        alerts=tuple(dict.fromkeys(alert for alert in alerts if alert)),
        links=tuple(links[: limits.PAGE_LINKS]),
        text=_words(body if body is not None else root),
        asks_to_sign_in=_asks_to_sign_in(seen),
        blocks=tuple(_blocks(body if body is not None else root)),
    )


def _links(url: str, elements: list[Element]) -> Iterator[Link]:
    """Where links, forms and buttons lead, those in closed menus too: what a page offers is there behind a click."""
    for tag, member in (("a", "href"), ("form", "action"), ("button", "")):
        for element in elements:
            if element.tag == tag:
                target = (element.get(member) or (url if tag == "form" else "")).strip() if member else ""
                yield Link(resolved(url, target) if member else "", "" if tag == "form" else _words(element))


def _within(root: Element, *, hidden_too: bool = False) -> Iterator[Element]:
    """The elements that a reader sees, in their order; with those that the page hides at first, where asked for."""
    stack = [root]
    while stack:
        here = stack.pop()
        if not isinstance(here.tag, str) or here.tag in _UNSEEN:
            continue
        if hidden_too or not _is_hidden(here):
            yield here
            stack.extend(reversed(here))


def _is_hidden(element: Element) -> bool:
    """Whether an element is not shown as the page comes: by what HTML says, or by a class that all use for that."""
    if not element.attrib and element.tag != "dialog":
        return False
    if element.tag == "dialog":
        return element.get("open") is None
    if element.get("hidden") is not None or (element.get("aria-hidden") or "").lower() == "true":
        return True
    if _NOT_SHOWN.search(element.get("style") or ""):
        return True
    classes = set((element.get("class") or "").lower().split())
    if classes & _OPEN or any(_AT_SOME_WIDTH.match(name) for name in classes):
        return False
    return bool(classes & _HIDING)


def _asks_to_sign_in(seen: list[Element]) -> bool:
    """Whether a page shows a form for signing in: for a password of one's own, or for the name that comes first."""
    forms = [element for element in seen if element.tag == "form"]
    inputs = [element for element in seen if element.tag == "input"]
    within: dict[Element | None, list[Element]] = {}
    for field in inputs:
        owner = next((above for above in field.iterancestors("form")), None)
        within.setdefault(owner if owner in forms else None, []).append(field)
    return any(_is_for_signing_in(form, fields) for form, fields in within.items())


def _is_for_signing_in(form: Element | None, fields: list[Element]) -> bool:
    kinds = {field: (field.get("type") or "text").lower() for field in fields}
    passwords = [field for field in fields if kinds[field] == "password"]
    texts = [field for field in fields if kinds[field] in ("text", "email", "tel")]
    if len(passwords) > 1 or any("new-password" in (field.get("autocomplete") or "") for field in passwords):
        return False
    told = [field.get("value") or "" for field in fields if kinds[field] in ("submit", "button", "image")]
    told += [_words(button) for button in form.iter("button")] if form is not None else []
    if any(OTHER_FORM.search(words) for words in told):
        return False
    silent = not any(words.strip() for words in told)
    told += [form.get(name) or "" for name in ("action", "id", "class", "name")] if form is not None else []
    leads_in = any(SIGN_IN.search(words) for words in told)
    called = any(NAME_FIELD.search(field.get(name) or "") for field in texts for name in ("name", "id", "autocomplete"))
    if passwords:
        return leads_in or called or (silent and not texts)
    return leads_in and called and len(texts) == 1


def _is_alert(element: Element) -> bool:
    if (element.get("role") or "").lower() == "alert":
        return True
    named = element.tag in ("p", "div", "span", "li", "section")
    return named and bool(_ALERT.search((element.get("class") or "").lower()))


def _words(element: Element) -> str:
    """The text of an element without what a reader does not see."""
    return _joined(" ".join(_pieces(element)))


def _blocks(element: Element) -> Iterator[str]:
    """The text of an element, one for each part of it that stands by itself."""
    for block in " ".join(_pieces(element)).split(_BREAK):
        if text := _joined(block):
            yield text


def _pieces(element: Element) -> Iterator[str]:
    """The texts within an element that a reader sees, with a break before and after what stands by itself."""
    stack: list[Element | str] = [element]
    while stack:
        here = stack.pop()
        if isinstance(here, str):
            yield here
        elif isinstance(here.tag, str) and here.tag not in _UNSEEN and not (here is not element and _is_hidden(here)):
            if here.tag not in _INLINE:
                yield _BREAK
                stack.append(_BREAK)
            for child in reversed(here):
                if child.tail:
                    stack.append(child.tail)
                stack.append(child)
            if here.text:
                yield here.text


def _joined(text: str) -> str:
    return " ".join(text.replace(_BREAK, " ").split())[: limits.PAGE_TEXT]
