"""Why a digest does not hold: the changes that captures make to XML, each undone in turn to see whether it fits.

Formatters indent, mail programs change line ends, viewers escape twice or read UTF-8 as another code. If undoing one of
these makes the digest hold, the message itself was sound. Where the capture was plainly re-indented and that cannot be
undone, nothing can be said of the signature; everything else is a change of what was signed.
"""

from __future__ import annotations

from collections.abc import Callable

from lxml import etree

from trace_lens.common import limits
from trace_lens.common.tuples import NamedTuple
from trace_lens.saml.detached import DetachedSignature
from trace_lens.saml.parsing import parse
from trace_lens.saml.signature import XMLSignature, signature_at


class Alteration(NamedTuple):
    """A change that the capture made. `restored` is the signature with the change undone, where that made it hold.

    `what` completes the sentence "In this capture …".
    """

    what: str
    restored: XMLSignature | DetachedSignature | None = None

    @property
    def undone(self) -> bool:
        """Whether the digest holds with the change undone."""
        return self.restored is not None


def explain_digest(signature: XMLSignature, data: bytes) -> Alteration | None:
    """The change of the capture that explains a digest that does not hold; None where none does."""
    if len(data) > limits.ALTERED_BYTES:
        return None
    position = _position(signature)
    for what, undo in _UNDOINGS:
        copy = parse(data)
        if not undo(copy):
            continue
        restored = signature_at(copy, position)
        if restored and restored.digest_holds:
            return Alteration(what, restored)
    if _indented(signature.element) and _indented(signature.holder):
        return Alteration("there is white space between the elements, inside the signature too")
    return None


def compacted_signed_info(signature: XMLSignature, data: bytes) -> XMLSignature | None:
    """The same signature with the white space between elements taken out, to ask whether it was re-indented."""
    if len(data) > limits.ALTERED_BYTES:
        return None
    copy = parse(data)
    return signature_at(copy, _position(signature)) if _strip_between(copy) else None


def _position(signature: XMLSignature) -> int:
    """The place of a signature among those of its document, from 0."""
    root = signature.element.getroottree().getroot()
    return next(place for place, element in enumerate(root.iter(signature.element.tag)) if element is signature.element)


def _indented(element: etree._Element) -> bool:
    return len(element) > 0 and "\n" in (element.text or "") and not (element.text or "").strip()


def _strip_between(root: etree._Element) -> bool:
    changed = False
    for element in root.iter():
        if len(element) and element.text and not element.text.strip():
            element.text, changed = None, True
        if element is not root and element.tail and not element.tail.strip():
            element.tail, changed = None, True
    return changed


def _strip_within(root: etree._Element) -> bool:
    changed = _strip_between(root)
    for element in root.iter():
        if element.text and element.text != element.text.strip():
            element.text, changed = element.text.strip(), True
    return changed


def _each_text(change: Callable[[str], str]) -> Callable[[etree._Element], bool]:
    """An undoing that changes every text and attribute value by itself."""

    def undo(root: etree._Element) -> bool:
        changed = False
        for element in root.iter(etree.Element):
            for text, put in ((element.text, "text"), (element.tail, "tail")):
                if text and (new := change(text)) != text:
                    setattr(element, put, new)
                    changed = True
            for name, value in element.attrib.items():
                if (new := change(str(value))) != value:
                    element.set(name, new)
                    changed = True
        return changed

    return undo


def _without_carriage_returns(text: str) -> str:
    return text.replace("\r", "")


def _with_carriage_returns(text: str) -> str:
    return text.replace("\r", "").replace("\n", "\r\n") if text.strip() else text


def _reread_utf8(text: str) -> str:
    try:
        return text.encode("cp1252").decode("utf-8")
    except UnicodeError:
        return text


def _unescaped_again(text: str) -> str:
    from html import unescape

    return unescape(text)


_UNDOINGS: tuple[tuple[str, Callable[[etree._Element], bool]], ...] = (
    ("white space was put between the elements", _strip_between),
    ("white space was put between the elements and around the values", _strip_within),
    ("the line ends were changed", _each_text(_without_carriage_returns)),
    ("the line ends were changed", _each_text(_with_carriage_returns)),
    ("UTF-8 was read as another character code", _each_text(_reread_utf8)),
    ("special characters were escaped twice", _each_text(_unescaped_again)),
)
