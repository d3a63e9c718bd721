"""What a message goes through on its way into a ticket: hex dumps, marks before each line, escapes of programs, and
characters that nobody sees. Each takes one of these off, as a layer does.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.intake.reading import Reading

_UNSEEN = {
    "\u200b": "",
    "\u200c": "",
    "\u200d": "",
    "\u2060": "",
    "\ufeff": "",
    "\u00ad": "",
    "\u00a0": " ",
    "\u202f": " ",
}
_UNSEEN_OCTETS = tuple(char.encode() for char in _UNSEEN)
_DUMP_LINE = expression(
    rb"[ \t]*(?:0x)?[0-9A-Fa-f]{4,16}:?[ \t]{1,3}"
    rb"((?:[0-9A-Fa-f]{2}[ \t]{1,3}){1,32}|(?:[0-9A-Fa-f]{4}[ \t]{1,2}){1,16})"
)
_HEX = expression(rb"[0-9A-Fa-f\s:]{64,}")
_FEW = 3
"""A form of lines shows in so many of them at least."""


def unseen(data: bytes) -> Iterator[Reading]:
    """A text with characters in it that take no room, or look like a blank, and that no encoding of a message has."""
    if b"<" in data or not any(octets in data for octets in _UNSEEN_OCTETS):
        return
    text = data.decode("utf-8", "replace")
    blank = " " if re.search(r"[ \t]", text) else ""  # in a run of characters they are no blanks between words
    text = text.translate({ord(char): put and blank for char, put in _UNSEEN.items()})
    yield Reading("", text.encode(), ("characters that nobody sees",))


def is_escaped(data: bytes) -> bool:
    """Whether every attribute in a text has its quotation marks behind backslashes."""
    return b'=\\"' in data and b'="' not in data


def escaped(data: bytes) -> Iterator[Reading]:
    """XML as the text of a program has it: its quotation marks behind backslashes, its brackets by their numbers."""
    text = data
    if rb"\u003c" in data or rb"\u003C" in data:
        numbered = data.decode("utf-8", "surrogateescape")
        plain = re.sub(r"\\u([0-9a-fA-F]{4})", lambda match: chr(int(match[1], 16)), numbered)
        text = plain.encode("utf-8", "surrogatepass")
    if is_escaped(text):
        text = text.replace(b"\\\\", b"\0").replace(b'\\"', b'"').replace(b"\\/", b"/")
        text = text.replace(rb"\r", b"\r").replace(rb"\n", b"\n").replace(rb"\t", b"\t").replace(b"\0", b"\\")
    if text is not data:
        start, end = text.find(b"<"), text.rfind(b">") + 1
        yield Reading("", text[start:end] if 0 <= start < end else text, ("escapes of a program",), cost=2)


def after_marks(data: bytes) -> Iterator[Reading]:
    """XML over many lines, each behind what a log or a viewer puts before it: a moment, a name, a number."""
    lines = data.split(b"\n")
    if not _FEW < len(lines) <= limits.PASTED_LINES:
        return
    place = next((number for number, line in enumerate(lines) if b"<" in line), None)
    mark = lines[place].partition(b"<")[0] if place is not None else b""
    if place is None or not mark.strip() or len(mark) > 200:
        return
    pattern = re.compile(rb"".join(map(_alike, re.findall(rb"\d+|[ \t]+|[^\d \t]+", mark))))
    rest = [line for line in lines[place:] if line.strip()]
    if sum(pattern.match(line) is not None for line in rest) * 10 < len(rest) * 9 or len(rest) < _FEW:
        return
    bare = [line[match.end() :] if (match := pattern.match(line)) else line for line in lines[place:]]
    yield Reading("", b"\n".join(bare), ("what stands before each line",), cost=2)


def _alike(part: bytes) -> bytes:
    """A part of a mark, as it may be before the other lines."""
    if part.isdigit():
        return rb"\d+"
    return rb"[ \t]*" if not part.strip() else re.escape(part)


def hex_dump(data: bytes) -> Iterator[Reading]:
    """Octets written as hexadecimal digits: in lines with their offsets, or in one run."""
    text = data.strip()
    if not text[:4].isalnum():
        return
    lines = [line for line in text.split(b"\n", limits.PASTED_LINES) if line.strip()]
    digits = b""
    if _FEW < len(lines) <= limits.PASTED_LINES:
        found = [match[1] for line in lines if (match := _DUMP_LINE.match(line + b" "))]
        if len(found) * 10 >= len(lines) * 9:
            digits = b"".join(b"".join(part.split()) for part in found)
    elif _HEX.fullmatch(text):
        digits = re.sub(rb"[\s:]", b"", text)
    if digits and len(digits) % 2 == 0:
        octets = bytes.fromhex(digits.decode())
        if octets.isascii() or octets[:1] == b"<":
            yield Reading("hex", octets)


def without_dumps(text: str) -> str:
    """A text with each dump of octets in it, in lines with their offsets, put as the text that it is a dump of."""
    whole = next(hex_dump(text.encode("utf-8", "replace")), None)
    if whole:
        return whole.data.decode("utf-8", "replace")
    made: list[str] = []
    run: list[str] = []
    for line in [*text.splitlines(keepends=True), ""]:
        if line and _DUMP_LINE.match(line.encode("utf-8", "replace") + b" "):
            run.append(line)
            continue
        held = "".join(run)
        dumped = next(hex_dump(held.encode("utf-8", "replace")), None) if len(run) > _FEW else None
        made += [dumped.data.decode("utf-8", "replace") + "\n" if dumped else held, line]
        run = []
    return "".join(made)
