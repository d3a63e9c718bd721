"""Messages that are alike to the byte but for their values: read by one comparison with a message that was parsed.

One provider writes all its responses in one way. So of a message of the usual shape its text is kept, with gaps where
its values stand, and the canonical forms of what was signed with the same gaps. Why what is read of another message by
that text is what a parser would read of it:

- All between the gaps is the same, to the byte. The gaps are values of attributes, and texts of elements without
  children; what fills them is printable ASCII without quotes, ampersand and angle brackets (in base64 line feeds too).
  Neither the rules of XML nor canonicalisation look at these characters: the tree is the same tree with other values,
  and so are its canonical octets (XML 1.0 §2.4, §3.3.3; Exclusive XML Canonicalization 1.0).
- So every question about the shape, the attributes that are there, and the values that are no gaps has the answer that
  it had. All others are asked of each message anew, and digest and signature are taken of its own octets.
- A text is kept only if it gives back, of the message that it was made from, what the parser read and canonicalised.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from itertools import count
from operator import itemgetter
from typing import Any

from lxml import etree

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.saml.algorithms import SignatureAlgorithm

_DECLARATION = expression(
    r"<\?xml version=[\"']1\.0[\"'](?: encoding=[\"'](?:UTF|utf)-8[\"'])?(?: standalone=[\"']\w+[\"'])? ?\?>\s*+"
)
_TAG = expression(
    r"<(/?)[A-Za-z_][\w.:-]*+((?:\s++[A-Za-z_][\w.:-]*+\s*+=\s*+(?:\"[^\"<]*+\"|'[^'<]*+'))*+)\s*+(/?)>", re.ASCII
)
_ATTRIBUTE = expression(r"(?<![\w.:-])([A-Za-z_][\w.:-]*+)\s*+=\s*+(?:\"([^\"]*+)\"|'([^']*+)')", re.ASCII)
_PLAIN, _WRAPPED = r"([ !#$%(-;=?-~]*+)", r"([ !#$%(-;=?-~\n]*+)"
_MOST, _AT_FIRST, _PAYS = 8, 4, 200
"""Texts that are kept of one number of tags; how many are made at once; messages asked for each one made from then on.
"""
_IN_ALL, _LONGEST = 64, 16 * 1024
"""Texts that are kept in all; octets up to which a message has its text kept: longer expressions take long to make."""

Place = tuple[etree._Element, str | None]
"""Where a value stands: an attribute of an element, or its text."""


class Said(NamedTuple):
    """What a response says where messages differ; None where it does not say it."""

    id: str
    destination: str
    issued: str
    asked: str | None
    issuer: str
    assertion_id: str
    made: str
    assertion_issuer: str
    name: str
    recipient: str
    confirmed_until: str
    confirmed: str | None
    begins: str | None
    ends: str | None
    audience: str
    authenticated: str
    session: str | None
    session_ends: str | None
    context: str
    reference: str
    digest: str
    signature: str


class Shape(NamedTuple):
    """What messages that are alike share: the part that is signed, how, and the format of the name."""

    part: str
    name_format: str
    hash: str
    algorithm: SignatureAlgorithm


class Held(NamedTuple):
    """A response of the usual shape: its values, its attributes with theirs, and what was signed, canonicalised.

    `written` is the number of the text that it was read by, and `values` all that differs from that; 0 and empty where
    it was parsed.
    """

    shape: Shape
    said: Said
    attributes: list[tuple[str, list[str]]]
    signed_info: Callable[[], bytes]
    signed: Callable[[], bytes]
    written: int = 0
    values: tuple[str | None, ...] = ()


class Original(NamedTuple):
    """A sound message as the parser read it: its text, its elements, those that were signed (the signature left out),
    their canonical octets, and the places of its values and of those of its attributes.
    """

    held: Held
    elements: Sequence[etree._Element]
    info: etree._Element
    holder: etree._Element
    places: Mapping[str, Place]
    attributes: Sequence[tuple[str, Sequence[etree._Element]]]


class Alike:
    """The texts that messages were found to be written by, by their number of tags."""

    def __init__(self) -> None:
        self._texts: dict[int, list[_Text]] = {}
        self._made = self._asked = 0

    def read(self, data: bytes) -> Held | None:
        """What a message says that is written as a sound one was; None where none is known."""
        self._asked += 1
        known = self._texts.get(data.count(b"<"))
        if not known:
            return None
        written = data.decode("latin-1")
        for position, text in enumerate(known):
            found = text.expression.fullmatch(written)
            if found:
                if position:
                    known.insert(0, known.pop(position))
                return text.read((*found.groups(), None))
        return None

    def learn(self, data: bytes, original: Original) -> bool:
        """Keep how a message is written; whether that was possible, and worth it."""
        if len(data) > _LONGEST or (self._made >= _AT_FIRST and self._asked < _PAYS * self._made):
            return False
        self._made += 1
        text = _text_of(data, original)
        if text:
            if sum(map(len, self._texts.values())) >= _IN_ALL:
                self._texts.clear()
            self._texts[data.count(b"<")] = [text, *self._texts.get(data.count(b"<"), ())][:_MOST]
        return text is not None


_NUMBERS = count(1)


class _Text:
    """How one message is written: what fills its gaps are groups of the expression, and one None after them."""

    def __init__(
        self,
        written: str,
        shape: Shape,
        said: Sequence[int],
        attributes: Sequence[tuple[str, Sequence[int]]],
        octets: Sequence[tuple[list[str], Sequence[int]]],
    ) -> None:
        self.expression = re.compile(written)
        self._number = next(_NUMBERS)
        self._shape, self._attributes = shape, attributes
        self._said: Callable[[Any], Any] = itemgetter(*said)
        (self._info, self._in_info), (self._holder, self._in_holder) = (
            (parts, itemgetter(*groups, -1)) for parts, groups in octets
        )

    def read(self, values: Sequence[Any]) -> Held:
        """A message by what fills the gaps."""

        def filled(parts: list[str], those: Callable[[Any], Any]) -> bytes:
            parts = parts.copy()
            parts[1::2] = those(values)[:-1]
            return "".join(parts).encode("latin-1")

        return Held(
            self._shape,
            Said._make(self._said(values)),
            [(name, [values[group] or "" for group in groups]) for name, groups in self._attributes],
            lambda: filled(self._info, self._in_info),
            lambda: filled(self._holder, self._in_holder),
            self._number,
            tuple(values),
        )


def _text_of(data: bytes, original: Original) -> _Text | None:
    """How a message is written; None where its values cannot be told from the rest of it."""
    held = original.held
    fields = [(original.places[name], name) for name in Said._fields if name in original.places]
    values = [((element, None), "") for _, elements in original.attributes for element in elements if element.text]
    wrapped = {place for place, name in fields if name in ("digest", "signature")}
    wanted = {place for place, _ in (*fields, *values)}
    written = data.decode("latin-1")
    gaps = _gaps(written, original.elements, wanted)
    if gaps is None or len(gaps) != len(wanted):
        return None
    group = {place: number for number, (_, _, place) in enumerate(gaps)}
    pieces = _between(written, gaps)
    like = [re.escape(pieces[0])]
    for piece, (_, _, place) in zip(pieces[1:], gaps, strict=True):
        like += (_WRAPPED if place in wrapped else _PLAIN, re.escape(piece))
    octets = []
    for signed, top in ((held.signed_info(), original.info), (held.signed(), original.holder)):
        canonical = signed.decode("latin-1")
        there = _gaps(canonical, list(top.iter()), wanted)
        if there is None:
            return None
        parts = [""] * (2 * len(there) + 1)
        parts[::2] = _between(canonical, there)
        octets.append((parts, [group[place] for _, _, place in there]))
    text = _Text(
        "".join(like),
        held.shape,
        [group[original.places[name]] if name in original.places else -1 for name in Said._fields],
        [(name, [group.get((one, None), -1) for one in those]) for name, those in original.attributes],
        octets,
    )
    found = text.expression.fullmatch(written)
    again = text.read((*found.groups(), None)) if found else None
    same = again and (again.said, again.attributes) == (held.said, held.attributes)
    return text if again and same and _octets(again) == _octets(held) else None


def _octets(held: Held) -> tuple[bytes, bytes]:
    return held.signed_info(), held.signed()


def _between(text: str, gaps: Sequence[tuple[int, int, Place]]) -> list[str]:
    begins = [0, *(end for _, end, _ in gaps)]
    return [text[begin:end] for begin, end in zip(begins, [*(start for start, _, _ in gaps), len(text)], strict=True)]


def _gaps(text: str, elements: Sequence[etree._Element], wanted: set[Place]) -> list[tuple[int, int, Place]] | None:
    """Where wanted values stand in the text of some elements, given in their order; None where it is not plain."""
    declaration = _DECLARATION.match(text)
    position = declaration.end() if declaration else 0
    left = iter(elements)
    found: list[tuple[int, int, Place]] = []
    while position < len(text):
        tag = _TAG.match(text, position)
        if tag is None:
            return None
        after = text.find("<", tag.end())
        after = len(text) if after < 0 else after
        if not tag[1]:
            element = next(left, None)
            if element is None:
                return None
            found += _in_tag(tag, element, wanted)
            if (element, None) in wanted and not tag[3]:
                if not text.startswith("</", after):
                    return None
                found.append((tag.end(), after, (element, None)))
        position = after
    return found if next(left, None) is None else None


def _in_tag(tag: re.Match[str], element: etree._Element, wanted: set[Place]) -> Iterator[tuple[int, int, Place]]:
    for attribute in _ATTRIBUTE.finditer(tag.string, tag.start(2), tag.end(2)):
        if (element, attribute[1]) in wanted:
            group = 2 if attribute[2] is not None else 3
            yield attribute.start(group), attribute.end(group), (element, attribute[1])
