"""XML and HTML rewritten where they stand: texts, values of attributes and comments get what a visitor makes of them.

Read by its tags, not as a document, so that what is cut off, nested wrongly or no XML at all stays as it was.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from html import unescape

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple

_PIECE = expression(
    r"<!--(?:(?!-->).)*+(?:-->|$)|<!\[CDATA\[(?:(?!\]\]>).)*+(?:\]\]>|$)|<\?(?:(?!\?>).)*+(?:\?>|$)|<![A-Za-z][^>]*+>?"
    r"|</?[A-Za-z_](?:[^<>\"']|\"[^\"]*+(?:\"|$)|'[^']*+(?:'|$))*+>?",
    re.DOTALL,
)
_ATTRIBUTE = expression(r"(?<![^\s<>/\"'=])([^\s=<>/\"']++)(\s*+=\s*+)(\"[^\"]*+(?:\"|$)|'[^']*+(?:'|$)|[^\s\"'<>]+)")
_NAME = expression(r"</?([^\s/>]+)")
_RAW = ("script", "style")
_END_OF_RAW = expression(r"</(?:script|style)", re.IGNORECASE)
_ABOVE = 24
"""So many of the elements above a text are told."""
_TAG = expression(r"</?[A-Za-z][\w:.-]*+(?:\s[^<>]*+)?>")
_NEVER_CLOSED = frozenset(
    ["area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "source", "track", "wbr"]
)


class Piece(NamedTuple):
    """A text in markup: that of an element, of an attribute (`attribute` names it) or a comment.

    `element` is the name of the innermost element without its prefix, `above` are those around it, outermost first.
    `attributes` are those of the element, or of the tag that the attribute stands in.
    """

    text: str
    element: str
    above: tuple[str, ...]
    attributes: dict[str, str]
    attribute: str | None = None
    is_comment: bool = False


Visit = Callable[[Piece], str]


def looks_like(text: str) -> bool:
    """Whether a text is markup: it begins with a tag, or holds one and begins before it with none of JSON's signs."""
    start = text.lstrip()[:2]
    if start[:1] == "<" and (start[1:].isalpha() or start[1:] in ("!", "?", "/", "_")):
        return True
    return start[:1] not in ("{", "[", '"') and _TAG.search(text) is not None


def rewritten(text: str, visit: Visit) -> str:
    """Markup with what the visitor makes of each text in it.

    The text of an element that comments part is given to the visitor as one, since readers take it as one.
    """
    return _Rewriting(text, visit).whole()


class _Rewriting:
    """Markup being rewritten: what was made, the elements that are open, and the texts that wait for their element's
    end, each with its place, as plain text, and whether it stands without escapes.
    """

    def __init__(self, text: str, visit: Visit) -> None:
        self._text, self._visit = text, visit
        self._made: list[str] = []
        self._open: list[tuple[str, dict[str, str]]] = []
        self._texts: list[tuple[int, str, bool]] = []

    def whole(self) -> str:
        """All of it, rewritten."""
        position = 0
        while True:
            position = self._raw_element(position)
            match = _PIECE.search(self._text, position)
            if match is None:
                break
            self._keep(self._text[position : match.start()])
            self._take(match[0])
            position = match.end()
        self._keep(self._text[position:])
        self._flush()
        return "".join(self._made)

    def _raw_element(self, position: int) -> int:
        """Take the content of an element that holds no markup, where one is open; the place after it."""
        if not self._open or self._open[-1][0].casefold() not in _RAW:
            return position
        closing = _END_OF_RAW.search(self._text, position)
        end = closing.start() if closing else len(self._text)
        self._keep(self._text[position:end], is_raw=True)
        self._flush()
        if not closing:
            self._open = []
        return end

    def _take(self, piece: str) -> None:
        """Take one piece of markup: a comment, a section, a declaration, a tag."""
        if piece.startswith("<!--"):
            self._made.append(_comment(piece, self._visit))
        elif piece.startswith("<![CDATA["):
            inner = piece[9:].removesuffix("]]>")
            self._made.append("<![CDATA[")
            self._keep(inner, is_raw=True)
            self._made.append(piece[9 + len(inner) :])
        elif piece.startswith("</"):
            self._flush()
            self._made.append(piece)
            _close(self._open, _name(piece))
        elif piece.startswith(("<?", "<!")):
            self._flush()
            self._made.append(piece)
        else:
            self._flush()
            name, attributes = _name(piece), _attributes(piece)
            above = tuple(found for found, _ in self._open[-_ABOVE:])
            self._made.append(_tag(piece, name, above, attributes, self._visit))
            if not piece.endswith("/>") and name.casefold() not in _NEVER_CLOSED:
                self._open.append((name, attributes))

    def _keep(self, raw: str, *, is_raw: bool = False) -> None:
        if raw:
            self._made.append(raw)
            self._texts.append((len(self._made) - 1, raw if is_raw else unescape(raw), is_raw))

    def _flush(self) -> None:
        """Give the texts that waited to the visitor, as one."""
        if not self._texts:
            return
        element, attributes = self._open[-1] if self._open else ("", {})
        above = tuple(name for name, _ in self._open[-_ABOVE:-1])
        whole = "".join(plain for _, plain, _ in self._texts)
        replaced = self._visit(Piece(whole, element, above, attributes)) if whole.strip() else whole
        start = 0
        for position, (place, plain, is_raw) in enumerate(self._texts):
            end = start + len(plain) if position < len(self._texts) - 1 else len(replaced)
            if replaced[start:end] != plain:
                part = replaced[start:end]
                self._made[place] = part if is_raw else escaped(part, self._made[place])
            start = end
        self._texts.clear()


def _close(stack: list[tuple[str, dict[str, str]]], name: str) -> None:
    for place in range(len(stack) - 1, max(len(stack) - 20, -1), -1):
        if stack[place][0].casefold() == name.casefold():
            del stack[place:]
            return


def _name(tag: str) -> str:
    match = _NAME.match(tag)
    return match[1].rpartition(":")[2] if match else ""


def _attributes(tag: str) -> dict[str, str]:
    return {match[1]: unescape(_bare(match[3])) for match in _ATTRIBUTE.finditer(tag)}


def _bare(value: str) -> str:
    quote = value[:1] if value[:1] in "\"'" else ""
    return value[1:].removesuffix(quote) if quote else value


def _tag(tag: str, name: str, above: tuple[str, ...], attributes: dict[str, str], visit: Visit) -> str:
    def replaced(match: re.Match[str]) -> str:
        value = match[3]
        plain = unescape(_bare(value))
        made = visit(Piece(plain, name, above, attributes, match[1])) if plain.strip() else plain
        if made == plain:
            return match[0]
        quote = value[:1] if value[:1] in "\"'" else ""
        end = quote if quote and value[1:].endswith(quote) else ""
        text = escaped(made, value)
        text = text.replace('"', "&quot;") if quote == '"' else text.replace("'", "&#39;") if quote == "'" else text
        return f"{match[1]}{match[2]}{quote}{text}{end}"

    start = _NAME.match(tag)
    offset = start.end() if start else 0
    return tag[:offset] + _ATTRIBUTE.sub(replaced, tag[offset:])


def _comment(piece: str, visit: Visit) -> str:
    inner = piece[4:].removesuffix("-->")
    made = visit(Piece(inner, "", (), {}, is_comment=True)) if inner.strip() else inner
    return f"<!--{made.replace('--', '- ')}{piece[4 + len(inner) :]}"


def escaped(text: str, like: str) -> str:
    """A text with its signs written as references, as another one has them."""
    made = text.replace("&", "&amp;").replace("<", "&lt;")
    if "&gt;" in like or ">" not in like:
        made = made.replace(">", "&gt;")
    return made
