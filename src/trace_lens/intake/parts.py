"""Several messages in one text, told apart: form fields, XML documents or blobs of base64 one after the other.

A part is the line on which it begins and its octets. A text that plainly holds one message gives no parts.
"""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterable
from xml.parsers import expat

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.intake.layers import FIELD, MESSAGE, may_hold_fields
from trace_lens.intake.line_numbers import LineNumbers
from trace_lens.intake.markup import after_prolog, first_element

Part = tuple[int, bytes]
_LISTED = expression(rb"^[ \t]*(SAMLResponse|SAMLRequest|SAMLart|wresult)[ \t]*[:\t]", re.MULTILINE)
_RUN = expression(rb"[A-Za-z0-9+/_\-]{40,}+(?:[ \t]*+\r?\n[A-Za-z0-9+/_\-]{20,}+)*+[A-Za-z0-9+/_\-]*+={0,2}")
_WHOLE = expression(rb"<(?:[\w.\-]++:)?+(?:Response|(?:Authn|Logout)Request|LogoutResponse|Artifact\w+)\s")
"""The tag of a message that no other one holds, but an artifact's answer."""
_CLOSING = ord(">")


def parts_of(data: bytes) -> list[Part]:
    """The parts of a text in which several messages plainly stand; empty where that is not plain."""
    if data.lstrip()[:1] == b"<" and b"<input" not in data[:65536].lower():
        return _documents(data)
    starts: list[int] = []
    if may_hold_fields(data):
        starts = _word_starts(data, (match.start(1) for match in FIELD.finditer(data)))
        starts = starts or [match.start() for match in _LISTED.finditer(data)]
    if len(starts) > 1:
        numbers = LineNumbers(data)
        return [
            (numbers.at(begin), data[begin:end].strip())
            for begin, end in zip([0, *starts[1:]], [*starts[1:], len(data)], strict=True)
        ]
    return [] if starts else _blobs(data) or _documents(data)


def runs_of(data: bytes) -> list[Part]:
    """Every long run of base64 in a text, joined over line ends."""
    numbers = LineNumbers(data)
    return [(numbers.at(match.start()), match[0]) for match in _RUN.finditer(data) if len(match[0]) >= 100]


def _word_starts(data: bytes, positions: Iterable[int]) -> list[int]:
    """Where the words or addresses begin that fields stand in, each once; positions come in order.

    An address may follow an HTTP method on its line.
    """
    found: list[int] = []
    start = behind = 0
    for position in positions:
        start = max(start, *(data.rfind(white, behind, position) + 1 for white in (b" ", b"\n", b"\t", b"\r")))
        behind = position
        if not found or found[-1] != start:
            found.append(start)
    return found


def _documents(data: bytes) -> list[Part]:
    """XML documents one after the other, and messages with words before, between and after them.

    One that is cut off or broken ends where the next one begins; none where that cannot be told. At most one more than
    may be taken apart.
    """
    begin = _next_message(data, 0)
    root = first_element(data, begin)
    end = b"</" + b"".join(root) + b">" if root else b""
    if root is None or (data.rstrip().endswith(end) and data.count(end) == 1):
        return []
    found: list[Part] = []
    numbers = LineNumbers(data)
    while begin < len(data) and len(found) <= limits.PARTS:
        length = _document_length(memoryview(data)[begin:])
        following = _next_message(data, begin + length) if length is not None else _next_apart(data, begin)
        if following is None:
            return []
        found.append((numbers.at(begin), data[begin : following if length is None else begin + length].strip()))
        begin = following
    return found if len(found) > 1 else []


def _next_apart(data: bytes, begin: int) -> int | None:
    """Where the next message begins behind one that does not end; None where it is no message that begins there.

    What the broken one holds cannot be told from what follows it but by a declaration, a blank line, or by words or a
    cut-off tag before it; and an assertion, or the metadata of one entity, may be of the broken one all the same.
    """
    if MESSAGE.match(data, after_prolog(data, begin)) is None:
        return None
    for message in MESSAGE.finditer(data, after_prolog(data, begin) + 1):
        end = message.start()
        while data[end - 1 : end].isspace():
            end -= 1
        if data[end - 2 : end] == b"?>":
            return data.rindex(b"<?", begin, end)
        apart = data[end - 1 : end] != b">" or data.count(b"\n", end, message.start()) > 1
        if apart and _WHOLE.match(data, message.start()):
            return message.start()
    return len(data)


def _next_message(data: bytes, position: int) -> int:
    """Where the next document begins: at once, or at a message behind words; the end of the data where none does."""
    while data[position : position + 1].isspace():  # no declaration may have white space before it
        position += 1
    if first_element(data, position) is not None:
        return position
    message = MESSAGE.search(data, position)
    if message is None:
        return len(data)
    declared = data.rfind(b"<?xml", position, message.start())
    return declared if declared >= 0 and after_prolog(data, declared) == message.start() else message.start()


def _document_length(data: memoryview) -> int | None:
    """The octets of the first document, up to the end of its root; None where it is broken.

    It is handed to the parser piece by piece, so that what comes after it is not read for each document anew.
    """
    parser = expat.ParserCreate()
    depth, last = 0, -1

    def opened(name: str, attributes: dict[str, str]) -> None:
        nonlocal depth
        depth += 1

    def closed(name: str) -> None:
        nonlocal depth, last
        depth -= 1
        if depth == 0:
            last = parser.CurrentByteIndex

    parser.StartElementHandler, parser.EndElementHandler = opened, closed
    begin, size = 0, 4096
    try:
        while begin < len(data) and last < 0:
            parser.Parse(data[begin : begin + size], False)
            begin, size = begin + size, size * 2
    except expat.ExpatError:
        pass  # what stands behind the root is no part of it
    except (ValueError, LookupError):  # an encoding that it does not know
        return None
    if last < 0:
        return None
    if data[last : last + 2].tobytes() != b"</":  # the end of a tag that is empty: the parser stands behind it
        return last
    while data[last] != _CLOSING:
        last += 1
    return last + 1


def _blobs(data: bytes) -> list[Part]:
    """Blobs of base64, each beginning an XML document, one a line or with blank lines between them."""
    for separator in (rb"\r?\n[ \t]*\r?\n", rb"\r?\n"):
        blobs = [part for part in re.split(separator, data.strip()) if part.strip()]
        if len(blobs) > 1 and all(_begins_xml(blob) for blob in blobs):
            position, found, numbers = 0, [], LineNumbers(data)
            for blob in blobs:
                position = data.index(blob, position)
                found.append((numbers.at(position), blob))
                position += len(blob)
            return found
    return []


def _begins_xml(blob: bytes) -> bool:
    head = blob.strip()[:16]
    if len(blob) < 60 or head[:1] != b"P":
        return False
    try:
        return re.match(rb"<[A-Za-z?!]", base64.b64decode(head, validate=True)) is not None
    except (binascii.Error, ValueError):
        return False
