"""A result as a document: headings, paragraphs, facts, tables, two values side by side, what is to be copied.

Commands build documents from these blocks; the terminal and Markdown writers lay them out, each knowing its width, its
colours and its escapes. No block knows how it will look. What depends on the room there is (a ladder of hops, lanes of
a timeline) is a Drawing: it is asked for its lines once the width is known.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence

from trace_lens.common import limits
from trace_lens.common.masking import visible
from trace_lens.common.tuples import NamedTuple


class Span(NamedTuple):
    """A piece of text in one style: break, risk, note, ok, unchecked, head, mark, set, quiet, or none."""

    text: str
    style: str = ""


Spans = tuple[Span, ...]


class Gap(NamedTuple):
    """An empty line."""


class Rule(NamedTuple):
    """A line between two parts, with the title of the second where it has one."""

    title: str = ""


class Heading(NamedTuple):
    """The title of what follows; `level` 1 is that of a part, 2 of a section, 3 of a finding."""

    spans: Spans
    level: int = 2


class Paragraph(NamedTuple):
    """Words that are wrapped. `first` begins the first line; the following lines are indented by its width."""

    spans: Spans
    indent: int = 0
    first: str = ""


class Line(NamedTuple):
    """Words on a line of their own, never wrapped."""

    spans: Spans


class OneLine(NamedTuple):
    """Words on one line: what has no room is cut off, and marked as that."""

    spans: Spans
    indent: int = 0


class Strip(NamedTuple):
    """Short items one after the other, on as few lines as they need; none is divided."""

    items: tuple[Spans, ...]
    indent: int = 2


class Fact(NamedTuple):
    """A value under its name; a further value of the same name has an empty one. `column` is where values begin."""

    name: str
    value: str
    indent: int = 2
    column: int = 12
    style: str = ""


class TwoValues(NamedTuple):
    """Two values that differ: `places` are the beginning and end of what differs in each, `kind` says how."""

    labels: tuple[str, str]
    values: tuple[str, str]
    places: tuple[tuple[int, int], tuple[int, int]]
    kind: str
    indent: int = 2


class Table(NamedTuple):
    """Rows of cells; a table whose titles are all empty is shown without them.

    `one_line`: no row takes more than a line; what has no room in its column is cut, last of all in the column `whole`.
    """

    titles: tuple[str, ...]
    rows: tuple[Spans, ...]
    indent: int = 2
    one_line: bool = False
    whole: int = 0


class Copied(NamedTuple):
    """A value, or a command (`is_command`), that people copy: on a line of its own, whole, after its label."""

    text: str
    is_command: bool = False
    indent: int = 4
    label: str = ""


class Drawing(NamedTuple):
    """Lines that only make sense one under the other: `draw` makes them for a width in columns."""

    draw: Callable[[int], Iterable[Spans]]


class LinkTo(NamedTuple):
    """A way to another page that is made together with this one: its words, and the file beside this one."""

    words: str
    file: str


class Steps(NamedTuple):
    """What is to be done, one thing after the other."""

    items: tuple[str, ...]


class Figure(NamedTuple):
    """A drawing of this program as SVG, and in words what it shows; writers of text leave it out."""

    svg: str
    words: str


Block = (
    Figure
    | LinkTo
    | Steps
    | Gap
    | Rule
    | Heading
    | Paragraph
    | Line
    | OneLine
    | Strip
    | Fact
    | TwoValues
    | Table
    | Copied
    | Drawing
)
Document = Iterator[Block]
BLANK = Gap()


def spans_of(*parts: Span | str) -> Spans:
    """Spans; bare text has no style."""
    return tuple(Span(part) if isinstance(part, str) else part for part in parts)


def line(*parts: Span | str) -> Line:
    """Words on a line of their own."""
    return Line(spans_of(*parts))


def heading(first: Span | str, *more: Span | str, level: int = 2) -> Heading:
    """The title of what follows; bare text is marked as a title where it comes first, and has no style after that."""
    return Heading((first if isinstance(first, Span) else Span(first, "head"), *spans_of(*more)), level)


def prose(text: str, indent: int = 0, style: str = "", first: str = "") -> Paragraph:
    """Words that are wrapped, in one style."""
    return Paragraph((Span(text, style),), indent, first)


def answer(head: str, style: str, rest: str) -> Paragraph:
    """The first words of a document: the answer in its style, and what belongs to it."""
    return Paragraph((Span(head, style), Span(rest)))


def table(
    titles: Sequence[str],
    rows: Iterable[Sequence[Span | str]],
    indent: int = 2,
    *,
    one_line: bool = False,
    whole: int = 0,
) -> Table:
    """A table; bare cells have no style."""
    return Table(tuple(titles), tuple(spans_of(*row) for row in rows), indent, one_line, whole)


def shown(value: str) -> str:
    """A value made visible, and cut where it is very long."""
    text = visible(value)
    if len(text) > limits.SHOWN_VALUE:
        return f"{text[: limits.SHOWN_VALUE]}… ({len(text):,} characters)"
    return text
