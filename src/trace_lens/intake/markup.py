"""Tags, elements and the beginning of a document, found by walking from front to back.

A page or a document comes from a stranger: an expression that begins anew at each `<` and looks for an end that is not
there would take time by the square of its size. What stands here goes through a text once.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache

from trace_lens.common.expressions import expression

_ATTRIBUTE = expression(r"(?<![\w-])([\w-]++)\s*+=\s*+(?:\"([^\"]*+)\"|'([^']*+)'|([^\s>\"']++))")
_UNSEEN = expression(r"<(script|style|head)\b|<!--", re.IGNORECASE)
_BLANKS = expression(rb"[ \t\r\n]*+")
_NAME = expression(rb"<((?:[\w.\-]++:)?+)([A-Za-z]\w*+)(?=[\s>/]|$)")
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"


def tags(text: str, *names: str) -> Iterator[tuple[int, int]]:
    """Where the tags of these names begin and end, in order."""
    opening = _opening(names)
    position = 0
    while match := opening.search(text, position):
        end = text.find(">", match.end())
        if end < 0:
            return
        yield match.start(), end + 1
        position = end + 1


@lru_cache(maxsize=32)
def _opening(names: tuple[str, ...]) -> re.Pattern[str]:
    return re.compile(rf"<(?:{'|'.join(names)})\b", re.IGNORECASE)


@lru_cache(maxsize=32)
def _closing(names: tuple[str, ...]) -> re.Pattern[str]:
    return re.compile(rf"</(?:{'|'.join(names)})\s*+>", re.IGNORECASE)


def attributes(tag: str) -> dict[str, str]:
    """The attributes of a tag, names in small letters, values without character references."""
    from html import unescape

    return {match[1].lower(): unescape(match[2] or match[3] or match[4] or "") for match in _ATTRIBUTE.finditer(tag)}


def elements(text: str, *names: str, unclosed: bool = False) -> Iterator[tuple[str, str]]:
    """The elements of these names, each as its opening tag and what stands up to the next closing tag.

    One that is never closed counts only where `unclosed` says so, and goes to the end of the text.
    """
    closing = _closing(names)
    position = 0
    for start, end in tags(text, *names):
        if start < position:
            continue
        closed = closing.search(text, end)
        if closed is None and not unclosed:
            return
        yield text[start:end], text[end : closed.start() if closed else len(text)]
        position = closed.end() if closed else len(text)


def without_tags(text: str) -> str:
    """The text with a blank in the place of each tag."""
    pieces, position = [], 0
    while (start := text.find("<", position)) >= 0 and (end := text.find(">", start)) >= 0:
        pieces.append(text[position:start])
        position = end + 1
    return " ".join([*pieces, text[position:]])


def without_unseen(text: str) -> str:
    """The text with a blank in the place of what a page does not show: scripts, styles, its head, comments."""
    pieces, position, search_from = [], 0, 0
    never_closed: set[str] = set()
    while match := _UNSEEN.search(text, search_from):
        name = (match[1] or "").lower()
        closed = None
        if name not in never_closed:
            if name:
                ending = _closing((name,)).search(text, match.end())
                closed = ending.end() if ending else None
            else:
                after = text.find("-->", match.end())
                closed = after + 3 if after >= 0 else None
        if closed is None:
            never_closed.add(name)
            search_from = match.end()
            continue
        pieces.append(text[position : match.start()])
        position = search_from = closed
    return " ".join([*pieces, text[position:]])


def after_prolog(data: bytes, position: int = 0) -> int:
    """Where, from a position on, something other than white space, comments, processing instructions and a document
    type declaration begins (XML 1.0 §2.8); the end of the data where nothing else does, or one of these never ends.
    """
    if data.startswith(_BYTE_ORDER_MARK, position):
        position += len(_BYTE_ORDER_MARK)
    while True:
        position = _BLANKS.match(data, position).end()  # type: ignore[union-attr]  # it matches nothing, too
        if data.startswith(b"<!--", position):
            end, size = data.find(b"-->", position + 4), 3
        elif data.startswith(b"<?", position):
            end, size = data.find(b"?>", position), 2
        elif data[position : position + 9].upper() == b"<!DOCTYPE":
            end, size = _end_of_declaration(data, position), 1
        else:
            return position
        if end < 0:
            return len(data)
        position = end + size


def _end_of_declaration(data: bytes, position: int) -> int:
    """Where a document type declaration ends: at the first `>` outside of its brackets; -1 where it does not."""
    subset = data.find(b"[", position)
    end = data.find(b">", position)
    if subset < 0 or end < subset:
        return end
    closed = data.find(b"]", subset)
    return data.find(b">", closed) if closed >= 0 else -1


def first_element(data: bytes, position: int = 0) -> tuple[bytes, bytes] | None:
    """Prefix (with its colon) and local name of the first element from a position on; None where there is none."""
    match = _NAME.match(data, after_prolog(data, position))
    return (match[1], match[2]) if match else None
