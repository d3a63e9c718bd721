"""Documents laid out for a terminal: wrapped to its width, in columns, with colour where it has any.

Every value is made visible (no control character survives) before it is laid out, and once more before it is written.
Colour is never the only sign, and only colours that can be read on a dark and on a light ground are used.
"""

from __future__ import annotations

import os
import sys
import textwrap
import unicodedata
from collections.abc import Iterable, Iterator, Sequence

from trace_lens.common.masking import visible
from trace_lens.render.document import (
    Block,
    Copied,
    Drawing,
    Fact,
    Figure,
    Gap,
    Heading,
    Line,
    LinkTo,
    OneLine,
    Paragraph,
    Rule,
    Span,
    Spans,
    Steps,
    Strip,
    Table,
    TwoValues,
    shown,
)

STYLES = {
    "break": "bold red",
    "risk": "magenta",
    "note": "",
    "ok": "green",
    "unchecked": "",
    "head": "bold",
    "mark": "bold reverse",
    "set": "bold",
    "quiet": "dim",
    "": "",
}
_NARROWEST, _WIDEST = 50, 110
_LEAST_LAST = 24
"""What the last column of a table is left at least; where it cannot be, the rows are shown one below the other."""
_ROOMY = 78
"""From this width on a table keeps its columns, and runs over where it must: events are read by their columns."""
_LEAST_CUT = 10
"""What the columns of a table of one line a row are left at least, before the most important one is cut."""
_BETWEEN = 2
"""The blanks between two columns."""
_VALUES_FROM = 12
_PIPED = 100
"""The columns where no terminal is there to ask."""


def width() -> int:
    """The columns to lay text out for: the terminal's, within reason."""
    told = os.environ.get("COLUMNS", "")
    if told.isascii() and told.isdigit() and int(told):
        columns = int(told)
    else:
        try:
            columns = os.get_terminal_size(sys.__stdout__.fileno()).columns if sys.__stdout__ else 0
        except (ValueError, OSError):  # closed, or no terminal
            columns = 0
    return max(_NARROWEST, min(columns or _PIPED, _WIDEST))


def write(document: Iterable[Block], color: str, *, to_file: bool = False) -> str:
    """The text of a document; `color` is auto, always or never.

    Whatever a span holds, no control character, escape or invisible mark of it gets through here.
    """
    lines = [
        tuple(Span(visible(span.text), span.style) for span in spans)
        for block in document
        for spans in lay_out(block, width())
    ]
    if not _colour(color, to_file):
        return "\n".join("".join(span.text for span in spans).rstrip() for spans in lines) + "\n"
    from rich.console import Console
    from rich.text import Text

    console = Console(force_terminal=True, color_system="standard", highlight=False, width=10_000, legacy_windows=False)
    with console.capture() as captured:
        for spans in lines:
            console.print(Text.assemble(*((span.text, STYLES[span.style]) for span in spans)), soft_wrap=True, end="\n")
    return captured.get()


def _colour(color: str, to_file: bool) -> bool:
    if color != "auto":
        return color == "always"
    if os.environ.get("NO_COLOR") or os.environ.get("TERM") == "dumb" or to_file:
        return False
    return sys.stdout.isatty()


def lay_out(block: Block, room: int) -> Iterable[Spans]:
    """The lines of one block, for so many columns."""
    match block:
        case Gap():
            return [()]
        case Figure():
            return []
        case Steps(items):
            width_of = len(str(len(items))) + 2
            steps = (
                Paragraph((Span(item),), 2, f"{number}. ".ljust(width_of + 1)) for number, item in enumerate(items, 1)
            )
            return [spans for step in steps for spans in lay_out(step, room)]
        case LinkTo(words, file):
            return [(Span(visible(f"{words}: {file}")),)]
        case Rule(title):
            return [(Span((f"{title} " if title else "").ljust(room, "─"), "head" if title else "quiet"),)]
        case Line(spans):
            return [tuple(Span(visible(span.text), span.style) for span in spans)]
        case Heading(spans):
            return _wrapped(spans, room, "", "")
        case Paragraph(spans, indent, first):
            return _wrapped(spans, room, " " * indent, first)
        case OneLine(spans, indent):
            return [(Span(" " * indent), *_cut_spans(spans, room - indent))]
        case Strip():
            return _strip(block, room)
        case Copied(text, _, indent, label):
            named = label.ljust(_VALUES_FROM) if label else ""
            return [(Span(" " * indent), Span(named, "quiet"), Span(visible(text), "" if block.is_command else "set"))]
        case Fact():
            return _fact(block, room)
        case TwoValues():
            return _two_values(block, room)
        case Table():
            return _table(block, room)
        case Drawing(draw):
            return draw(room)


def _wrapped(spans: Spans, room: int, indent: str, first: str) -> Iterator[Spans]:
    """Spans wrapped as one text; identifiers are not broken, and each letter keeps its style."""
    pieces = [Span(visible(span.text), span.style) for span in spans]
    text = "".join(piece.text for piece in pieces)
    beside = " " * len(first)
    rows = _words_in(text, max(20, room - len(indent)), first)
    begin = Span(first, pieces[0].style if pieces else "")
    at = 0
    for number, row in enumerate(rows or [first]):
        words = row[len(first) :]
        at = text.index(words, at)
        yield Span(indent), Span(beside) if number else begin, *_styled(words, at, pieces)
        at += len(words)


def _words_in(text: str, room: int, first: str = "") -> list[str]:
    """A text in rows of whole words; `first` begins the first, and the others are indented by its width."""
    return textwrap.wrap(
        text,
        room,
        initial_indent=first,
        subsequent_indent=" " * len(first),
        break_long_words=False,
        break_on_hyphens=False,
    )


def _styled(words: str, at: int, pieces: list[Span]) -> Iterator[Span]:
    """A part, which begins `at`, of the text that the pieces make, cut where its style changes."""
    begin = 0
    for piece in pieces:
        start, end = max(at, begin), min(at + len(words), begin + len(piece.text))
        if start < end:
            yield Span(words[start - at : end - at], piece.style)
        begin += len(piece.text)


def _cut_spans(spans: Spans, room: int) -> Iterator[Span]:
    """Spans, as far as the room goes; where something is left out, the last character says so."""
    pieces = [Span(visible(span.text), span.style) for span in spans]
    left = room
    for number, piece in enumerate(pieces):
        whole = cells(piece.text) <= left and (number == len(pieces) - 1 or left > 1)
        text = piece.text if whole else cut_end(piece.text, left)
        yield Span(text, piece.style)
        left -= cells(text)
        if not whole:
            return


def cut_end(text: str, room: int) -> str:
    """A text in so many columns; where it is longer, its end is left out."""
    if cells(text) <= room:
        return text
    kept = ""
    for char in text:
        if cells(kept + char) >= room:
            break
        kept += char
    return kept + "…"


def _strip(block: Strip, room: int) -> Iterator[Spans]:
    """Items side by side, as many as a line holds."""
    line: list[Span] = [Span(" " * block.indent)]
    used = block.indent
    for item in block.items:
        length = sum(cells(visible(span.text)) for span in item)
        if used > block.indent and used + 3 + length > room:
            yield tuple(line)
            line, used = [Span(" " * block.indent)], block.indent
        if used > block.indent:
            line.append(Span(" · ", "quiet"))
            used += 3
        line += [Span(visible(span.text), span.style) for span in item]
        used += length
    yield tuple(line)


def _fact(fact: Fact, room: int) -> Iterator[Spans]:
    """A name and a value side by side; a value of several words is wrapped beside its name."""
    rows = _words_in(shown(fact.value), max(20, room - fact.indent - fact.column))
    for number, row in enumerate(rows or [""]):
        name = "" if number else fact.name
        yield Span(" " * fact.indent), Span(name.ljust(fact.column), "quiet"), Span(row, fact.style)


def _two_values(two: TwoValues, room: int) -> Iterator[Spans]:
    """Two values under each other with the differing place marked, in the values and by a pointer below them."""
    room = room - two.indent - _VALUES_FROM
    pointers: list[tuple[int, int]] = []
    for label, value, (start, end) in zip(two.labels, two.values, two.places, strict=True):
        before, middle, after = visible(value[:start]), visible(value[start:end]), visible(value[end:])
        if len(before) + len(middle) + len(after) > room and len(before) > 24:
            before = "…" + before[-(24 - 1) :]
        if len(before) + len(middle) + len(after) > room:
            middle = middle if len(middle) <= room // 2 else middle[: room // 2] + "…"
            keep = max(0, room - len(before) - len(middle) - 1)
            after = after if len(after) <= keep else after[:keep] + "…"
        yield (
            Span(" " * two.indent),
            Span(label.ljust(_VALUES_FROM), "quiet"),
            Span(before),
            Span(middle, "mark"),
            Span(after),
        )
        pointers.append((cells(before), max(1, cells(middle))))
    column, length = max(pointers, key=lambda pointer: pointer[1])
    yield Span(" " * (two.indent + _VALUES_FROM + column)), Span("^" * min(length, 60), "break"), Span(f" {two.kind}")


def cells(text: str) -> int:
    """The columns that a text takes in a terminal."""
    return sum(
        2 if unicodedata.east_asian_width(char) in "WF" else 0 if unicodedata.combining(char) else 1 for char in text
    )


def _table(block: Table, room: int) -> Iterator[Spans]:
    """Columns as wide as their content, or as the room allows; what then does not fit is wrapped within its column."""
    body = [tuple(Span(shown(cell.text), cell.style) for cell in row) for row in block.rows]
    titled = any(block.titles)
    rows = [tuple(Span(title, "quiet") for title in block.titles), *body] if titled else body
    if not rows:
        return
    if block.one_line and room >= _ROOMY:
        yield from _cut_table(rows, block.indent, room, block.whole)
        return
    widths = _fitted([[row[place].text for row in rows] for place in range(len(rows[0]))], room - block.indent)
    if widths is None:
        yield from _row_by_row(block.titles, body, block.indent, room)
        return
    for row in rows:
        yield from _columns(row, widths, block.indent)


def _cut_table(rows: Sequence[Spans], indent: int, room: int, whole: int) -> Iterator[Spans]:
    """Rows of one line each: the widest columns give way first, and what has no room is cut at its end."""
    widths = [max(cells(row[place].text) for row in rows) for place in range(len(rows[0]))]
    room -= indent + _BETWEEN * (len(widths) - 1)
    while sum(widths) > room:
        others = [place for place in range(len(widths)) if place != whole and widths[place] > _LEAST_CUT]
        widths[max(others or [whole], key=lambda place: (widths[place], place))] -= 1
    for row in rows:
        spans = [Span(" " * indent)]
        for place, (cell, width_of) in enumerate(zip(row, widths, strict=True)):
            text = cut_end(cell.text, width_of)
            pad = "" if place == len(row) - 1 else " " * (width_of - cells(text) + _BETWEEN)
            spans += [Span(text, cell.style), Span(pad)]
        yield tuple(spans)


def _fitted(columns: list[list[str]], room: int) -> list[int] | None:
    """The width of each column; None where they do not fit side by side.

    The widest one gives way first, down to its longest word. Where the last one cannot be wrapped, it runs over.
    """
    widths = [max(cells(text) for text in column) for column in columns]
    least = [max((cells(word) for text in column for word in text.split(" ")), default=0) for column in columns]
    between = _BETWEEN * (len(widths) - 1)
    if sum(least) + between > room:
        left = room - sum(widths[:-1]) - between
        return (
            None
            if left < _LEAST_LAST and room < _ROOMY
            else [*widths[:-1], left if left >= _LEAST_LAST else widths[-1]]
        )
    too_much = sum(widths) + between - room
    while too_much > 0:
        place = max(range(len(widths)), key=lambda place: (widths[place] - least[place], place))
        spare = widths[place] - least[place]
        others = [width - least[other] for other, width in enumerate(widths) if other != place]
        step = min(too_much, max(1, spare - max(others, default=0)), spare)
        widths[place] -= step
        too_much -= step
    return widths


def _columns(row: Spans, widths: list[int], indent: int) -> Iterator[Spans]:
    """One row of a table, on as many lines as its longest cell needs."""
    wrapped = [
        [cell.text] if cells(cell.text) <= room else _words_in(cell.text, max(1, room)) or [""]
        for cell, room in zip(row, widths, strict=True)
    ]
    for number in range(max(map(len, wrapped))):
        spans = [Span(" " * indent)]
        for place, (cell, lines) in enumerate(zip(row, wrapped, strict=True)):
            text = lines[number] if number < len(lines) else ""
            pad = "" if place == len(row) - 1 else " " * (widths[place] - cells(text) + _BETWEEN)
            spans += [Span(text, cell.style), Span(pad)]
        yield tuple(spans)


def _row_by_row(titles: tuple[str, ...], rows: list[Spans], indent: int, room: int) -> Iterator[Spans]:
    """The rows of a table that is too wide: the first cell on a line, the others below it with their titles."""
    for row in rows:
        first, *others = row
        yield Span(" " * indent), Span(first.text, first.style or "head")
        for title, cell in zip(titles[1:], others, strict=True):
            if cell.text:
                name = f"{title}: " if title else ""
                yield from _wrapped((cell,), room, " " * (indent + 4), name)
