"""Bytes to an XML tree, refusing what no sign-in message may hold, and saying how a damaged one is damaged.

SAML 2.0 messages carry no document type declaration; entities, external references and deep nesting are refused
before anything is read.
"""

from __future__ import annotations

import codecs
import re
from enum import StrEnum
from functools import cache, lru_cache
from xml.parsers import expat

from lxml import etree

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.locations import Location
from trace_lens.saml.names import PREFIXES

_PROLOG_START = expression(rb"(?:\xef\xbb\xbf|\xfe\xff|\xff\xfe)?[ \t\r\n]*+")
_PROLOG_PARTS = ((b"<!--", b"-->"), (b"<?", b"?>"))
_PROLOG_DOCTYPE = expression(rb"<!(?:DOCTYPE|ENTITY)", re.IGNORECASE)
_BYTE_ORDER_MARKS = (codecs.BOM_UTF8, codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE)
_ENDED_EARLY = {
    expat.errors.codes[text]
    for text in (
        expat.errors.XML_ERROR_NO_ELEMENTS,
        expat.errors.XML_ERROR_UNCLOSED_TOKEN,
        expat.errors.XML_ERROR_PARTIAL_CHAR,
        expat.errors.XML_ERROR_UNCLOSED_CDATA_SECTION,
    )
}


class Damage(StrEnum):
    """The ways in which XML cannot be read; the values are the codes of the findings."""

    TRUNCATED = "capture-truncated"
    MALFORMED = "malformed-message"
    UNSAFE = "unsafe-xml"


class XMLDamaged(ValueError):
    """The bytes are no XML that may be read. `damage` says in which way, `line` and `column` (from 1) where."""

    def __init__(self, damage: Damage, reason: str, line: int = 0, column: int = 0) -> None:
        super().__init__(reason)
        self.damage = damage
        self.reason = reason
        self.line = line
        self.column = column


def parse(data: bytes, most: int = limits.XML_BYTES) -> etree._Element:
    """The root element of a message of at most `most` bytes. Raises XMLDamaged."""
    if len(data) > most:
        raise XMLDamaged(Damage.UNSAFE, f"{len(data):,} bytes of XML; at most {most:,} are read as one message")
    tags = data.count(b"<")
    if most <= limits.XML_BYTES and tags > limits.XML_TAGS:
        raise XMLDamaged(Damage.UNSAFE, f"it has {tags:,} tags; at most {limits.XML_TAGS:,} are read in one message")
    refuse_doctype(data)
    try:
        root = etree.fromstring(data, _parser(huge=most > limits.XML_BYTES))
    except etree.XMLSyntaxError as error:
        raise damage_of(data, error) from None
    except (LookupError, ValueError) as error:
        raise XMLDamaged(Damage.MALFORMED, f"it names an encoding that is not known ({error})", 1) from None
    if root.getroottree().docinfo.internalDTD is not None:
        raise XMLDamaged(Damage.UNSAFE, "it holds a document type declaration, which no SAML message may have")
    if tags > limits.XML_DEPTH:
        _refuse_depth(root)
    return root


@cache
def _parser(*, huge: bool) -> etree.XMLParser:
    return etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, dtd_validation=False, huge_tree=huge
    )


def refuse_doctype(data: bytes) -> None:
    """Raise XMLDamaged where a document type or an entity is declared: before the root element, nowhere else is one
    (XML 1.0 §2.8). In a comment or a CDATA section the same letters are text.
    """
    text = data if data[:2] not in _BYTE_ORDER_MARKS else data.replace(b"\0", b"")
    position = _PROLOG_START.match(text).end()  # type: ignore[union-attr]  # it matches nothing, too
    while True:
        skipped = next((end for begin, end in _PROLOG_PARTS if text.startswith(begin, position)), None)
        if skipped is None:
            break
        after = text.find(skipped, position)
        if after < 0:
            return
        position = _PROLOG_START.match(text, after + len(skipped)).end()  # type: ignore[union-attr]
    declared = _PROLOG_DOCTYPE.match(text, position)
    if declared:
        line = text.count(b"\n", 0, declared.start()) + 1
        word = declared.group().decode()[2:].upper()
        raise XMLDamaged(Damage.UNSAFE, f"it holds a <!{word}> declaration, which no SAML message may have", line)


def _refuse_depth(root: etree._Element) -> None:
    level = [root]
    for _ in range(limits.XML_DEPTH):
        level = [child for element in level for child in element if len(child) or child.text]
        if not level:
            return
    raise XMLDamaged(Damage.UNSAFE, f"its elements are nested more than {limits.XML_DEPTH} deep", _line(level[0]))


def damage_of(data: bytes, error: etree.XMLSyntaxError) -> XMLDamaged:
    """How and where a document that the parser gave up on is broken."""
    line, column = error.position if error.position and error.position[0] else (error.lineno or 0, 0)
    if "depth" in str(error).lower() or "huge" in str(error).lower():
        return XMLDamaged(Damage.UNSAFE, f"its elements are nested more than {limits.XML_DEPTH} deep", line, column)
    reader = expat.ParserCreate()
    try:
        reader.Parse(data, True)
    except expat.ExpatError as second:
        line, column = second.lineno, second.offset + 1
        if second.code in _ENDED_EARLY:
            return XMLDamaged(Damage.TRUNCATED, f"it stops in line {line} before its elements are closed", line, column)
        words = expat.ErrorString(second.code)
        return XMLDamaged(Damage.MALFORMED, f"it is broken at line {line}, column {column}: {words}", line, column)
    except (ValueError, LookupError):  # an encoding that it does not know
        pass
    message = re.sub(r"(?<!\s)\s*+\(<string>.*$|, line \d+, column \d+", "", str(error))
    return XMLDamaged(Damage.MALFORMED, f"it is broken at line {line}: {message}", line, column)


def _line(element: etree._Element) -> int:
    """The line of an element, from 1; 0 where the parser did not keep it."""
    line: int | None = element.sourceline  # type: ignore[assignment]  # the stubs have no type for it
    return line or 0


def where(element: etree._Element, attribute: str | None = None) -> Location:
    """The place of an element or attribute for a person: its line and its path, with the usual prefixes."""
    steps: list[str] = []
    for node in (element, *element.iterancestors()):
        steps.append(_step(node))
    path = "/" + "/".join(reversed(steps)) + (f"/@{attribute}" if attribute else "")
    return Location(line=_line(element) or None, path=path)


def _step(node: etree._Element) -> str:
    namespace, _, local = node.tag.rpartition("}")
    prefix = PREFIXES.get(namespace[1:]) or node.prefix
    parent = node.getparent()
    known = _among_siblings(parent) if parent is not None else {}
    if parent is not None and node not in known:
        known = _counted(parent)
    place, many = known.get(node, (1, 1))
    position = f"[{place}]" if many > 1 else ""
    return f"{prefix}:{local}{position}" if prefix else f"{local}{position}"


@lru_cache(maxsize=8)
def _among_siblings(parent: etree._Element) -> dict[etree._Element, tuple[int, int]]:
    """The places of all children, counted once, since there may be very many, and each may be asked for.

    A tree that is still being read may have got further children since.
    """
    return _counted(parent)


def _counted(parent: etree._Element) -> dict[etree._Element, tuple[int, int]]:
    """For each child its place among those of the same name, from 1, and how many these are."""
    places: list[tuple[etree._Element, int]] = []
    counts: dict[object, int] = {}
    for child in parent:
        counts[child.tag] = counts.get(child.tag, 0) + 1
        places.append((child, counts[child.tag]))
    return {child: (place, counts[child.tag]) for child, place in places}


def text_of(element: etree._Element) -> str:
    """The whole text content of an element, comments and processing instructions removed.

    Never the part before a comment only: two readers must not see two names (SAML 2.0 Core §1.3.1).
    """
    if len(element) == 0:
        return element.text or ""
    parts = [element.text or ""]
    for child in element:
        if isinstance(child.tag, str):
            parts.append(text_of(child))
        parts.append(child.tail or "")
    return "".join(parts)


def holds_comment(element: etree._Element) -> bool:
    """Whether a comment or processing instruction stands inside an element's text."""
    return any(not isinstance(child.tag, str) for child in element)
