"""Lines of styled spans, and how they become text: plain, or with colour where the terminal has it.

Every value is made visible (no control character survives) before it gets into a span. Colour is never the only sign,
and only colours that can be read on a dark and on a light ground are used.
"""

from __future__ import annotations

import os
import shutil
import sys
import textwrap
import unicodedata
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from trace_lens.common import limits
from trace_lens.common.masking import visible

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


class Span(NamedTuple):
    """A piece of a line in one style (a key of STYLES)."""

    text: str
    style: str = ""


Line = tuple[Span, ...]
BLANK: Line = ()


def width() -> int:
    """The columns to lay text out for: the terminal's, within reason."""
    return max(_NARROWEST, min(shutil.get_terminal_size((100, 40)).columns, _WIDEST))


def line(*parts: Span | str) -> Line:
    """A line of spans; bare text has no style."""
    return tuple(Span(part) if isinstance(part, str) else part for part in parts)


def prose(text: str, indent: int = 0, style: str = "", first: str = "") -> list[Line]:
    """A text wrapped to the width; identifiers are not broken. `first` is put before the first line."""
    wrapped = textwrap.wrap(
        visible(text),
        max(20, width() - indent),
        break_long_words=False,
        break_on_hyphens=False,
        initial_indent=first,
        subsequent_indent=" " * len(first),
    )
    return [line(" " * indent, Span(row, style)) for row in wrapped] or [BLANK]


def row(label: str, value: str, indent: int = 2, column: int = 12, style: str = "") -> list[Line]:
    """A label and a value side by side; a value of several words is wrapped beside its label."""
    wrapped = textwrap.wrap(
        shown(value), max(20, width() - indent - column), break_long_words=False, break_on_hyphens=False
    )
    labels = [label, *[""] * len(wrapped)]
    return [
        line(" " * indent, Span(name.ljust(column), "quiet"), Span(text, style))
        for name, text in zip(labels, wrapped or [""], strict=False)
    ]


def shown(value: str) -> str:
    """A value made visible, and cut where it is very long."""
    text = visible(value)
    if len(text) > limits.SHOWN_VALUE:
        return f"{text[: limits.SHOWN_VALUE]}… ({len(text):,} characters)"
    return text


def compared(
    expected: str,
    actual: str,
    spans: tuple[tuple[int, int], tuple[int, int]],
    kind: str,
    indent: int = 2,
    labels: tuple[str, str] = ("expected", "actual"),
) -> list[Line]:
    """Two values under each other with the differing place marked, in the values and by a pointer below them."""
    room = width() - indent - 12
    rows: list[Line] = []
    pointers: list[tuple[int, int]] = []
    for label, value, (start, end) in ((labels[0], expected, spans[0]), (labels[1], actual, spans[1])):
        before, middle, after = visible(value[:start]), visible(value[start:end]), visible(value[end:])
        if len(before) + len(middle) + len(after) > room and len(before) > 24:
            before = "…" + before[-(24 - 1) :]
        if len(before) + len(middle) + len(after) > room:
            middle = middle if len(middle) <= room // 2 else middle[: room // 2] + "…"
            keep = max(0, room - len(before) - len(middle) - 1)
            after = after if len(after) <= keep else after[:keep] + "…"
        rows.append(line(" " * indent, Span(label.ljust(12), "quiet"), before, Span(middle, "mark"), after))
        pointers.append((_cells(before), max(1, _cells(middle))))
    column, length = max(pointers, key=lambda item: item[1])
    rows.append(line(" " * (indent + 12 + column), Span("^" * min(length, 60), "break"), f" {kind}"))
    return rows


def _cells(text: str) -> int:
    return sum(
        2 if unicodedata.east_asian_width(char) in "WF" else 0 if unicodedata.combining(char) else 1 for char in text
    )


def table(header: Sequence[str], rows: Iterable[Sequence[Span | str]], indent: int = 2) -> list[Line]:
    """Columns as wide as their content; the last one takes what is left."""
    body = [[Span(cell) if isinstance(cell, str) else cell for cell in row] for row in rows]
    body = [[Span(shown(cell.text), cell.style) for cell in item] for item in body]
    cells = [[Span(name, "quiet") for name in header], *body] if any(header) else body
    widths = [max(_cells(cell[i].text) for cell in cells) for i in range(len(cells[0]))] if cells else []
    made = []
    for column_cell in cells:
        spans = [Span(" " * indent)]
        for position, cell in enumerate(column_cell):
            last = position == len(column_cell) - 1
            pad = "" if last else " " * (widths[position] - _cells(cell.text) + 2)
            spans += [cell, Span(pad)]
        made.append(tuple(spans))
    return made


def render(lines: Iterable[Line], color: str, *, to_file: bool = False) -> str:
    """The text of the lines; `color` is auto, always or never.

    Whatever a span holds, no control character, escape or invisible mark of it gets through here.
    """
    lines = [tuple(Span(visible(span.text), span.style) for span in line) for line in lines]
    if not _colour(color, to_file):
        return "\n".join("".join(span.text for span in line).rstrip() for line in lines) + "\n"
    from rich.console import Console
    from rich.text import Text

    console = Console(force_terminal=True, color_system="standard", highlight=False, width=10_000, legacy_windows=False)
    with console.capture() as captured:
        for line in lines:
            console.print(Text.assemble(*((span.text, STYLES[span.style]) for span in line)), soft_wrap=True, end="\n")
    return captured.get()


def _colour(color: str, to_file: bool) -> bool:
    if color != "auto":
        return color == "always"
    if os.environ.get("NO_COLOR") or os.environ.get("TERM") == "dumb" or to_file:
        return False
    return sys.stdout.isatty()
