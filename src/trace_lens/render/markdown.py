"""Documents as Markdown (CommonMark, with the tables of GitHub Flavored Markdown), to paste into a ticket.

Whatever a value holds, it stays text: marks of Markdown are escaped, addresses are code and never become links, and
what a terminal would obey is made visible. What stands in columns is a block of code.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator

from trace_lens.common.expressions import expression
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
    Spans,
    Steps,
    Strip,
    Table,
    TwoValues,
    shown,
)
from trace_lens.render.terminal.writing import lay_out

_WIDTH = 100
_MARKS = expression(r"([\\`*\[\]<>|~&#]|(?<![^\W_])_|_(?![^\W_]))")
_BULLET, _NUMBER = re.compile(r"^([-+=])"), re.compile(r"^(\d+)([.)])(?=\s|$)")
_LINKED = expression(r"://|@|^www\.", re.IGNORECASE)


def write(document: Iterable[Block]) -> str:
    """The Markdown text of a document."""
    text: list[str] = []
    facts = False
    for block in document:
        is_fact = isinstance(block, Fact | OneLine) or (isinstance(block, Paragraph) and bool(block.first))
        if text and text[-1] and not (facts and is_fact):
            text.append("")
        facts = is_fact
        text += _of(block)
    return "\n".join(text).strip("\n") + "\n"


def _of(block: Block) -> Iterator[str]:
    """The lines of one block."""
    match block:
        case Gap() | Figure():
            return
        case Rule(title):
            yield "---"
            if title:
                yield f"\n# {_words(title)}"
        case Heading(spans, level):
            yield f"{'#' * level} {_text(spans)}"
        case Paragraph((head, rest), _, ""):
            yield f"**{_words(head.text)}**{_words(rest.text)}"
        case Steps(items):
            yield from (f"{number}. {_words(item)}" for number, item in enumerate(items, 1))
        case LinkTo(words, file):
            yield f"- [{_words(words)}](<{visible(file)}>)"
        case OneLine(spans):
            yield f"- {_text(spans)}"
        case Strip(items):
            yield _words(" · ".join("".join(span.text for span in item) for item in items))
        case Line(spans) | Paragraph(spans, _, ""):
            yield _text(spans)
        case Paragraph(spans, _, first):
            yield f"- {_words('' if first == '- ' else first)}{_text(spans)}"
        case Fact(name, value):
            yield f"- {_words(name)}: {_words(shown(value))}" if name else f"  {_words(shown(value))}"
        case Copied(text, _, _, label):
            if label:
                yield f"{_words(label)}:\n"
            yield from _code([visible(text)])
        case Table(titles, rows):
            yield from _table(titles, rows)
        case TwoValues() | Drawing():
            yield from _code("".join(span.text for span in spans).rstrip() for spans in lay_out(block, _WIDTH))


def _table(titles: tuple[str, ...], rows: tuple[Spans, ...]) -> Iterator[str]:
    if not rows:
        return
    yield f"| {' | '.join(map(_words, titles))} |"
    yield f"|{' --- |' * len(titles)}"
    for row in rows:
        yield f"| {' | '.join(_cell(shown(cell.text).strip()) for cell in row)} |"


def _cell(text: str) -> str:
    """A cell of a table, in which a bar is escaped even within code."""
    return re.sub(r"(?<!\\)\|", r"\\|", _words(text))


def _code(lines: Iterable[str]) -> Iterator[str]:
    """A block of code; its fence is longer than any run of backticks in it."""
    rows = [visible(row) for row in lines]
    fence = "`" * (_longest_run("\n".join(rows), least=2) + 1)
    yield fence + "text"
    yield from rows
    yield fence


def _text(spans: Spans) -> str:
    return _words("".join(span.text for span in spans).strip(" "))


def _words(text: str) -> str:
    """Text that no reader of Markdown takes for anything else; words that would become links are code."""
    escaped = " ".join(_word(word) for word in visible(text).split(" "))
    return _NUMBER.sub(r"\1\\\2", _BULLET.sub(r"\\\1", escaped))


def _word(word: str) -> str:
    if not _LINKED.search(word):
        return _MARKS.sub(r"\\\1", word)
    start = re.match(r"^[(\"'“]*", word)
    begin = start.end() if start else 0
    end = len(word.rstrip(".,;:)\"'”"))
    if end <= begin:
        return _MARKS.sub(r"\\\1", word)
    fence = "`" * (_longest_run(word[begin:end], least=0) + 1)
    pad = " " if "`" in word[begin:end] else ""
    middle = f"{fence}{pad}{word[begin:end]}{pad}{fence}"
    return _MARKS.sub(r"\\\1", word[:begin]) + middle + _MARKS.sub(r"\\\1", word[end:])


def _longest_run(text: str, least: int) -> int:
    """The length of the longest run of backticks, at least `least`."""
    return max([least, *(len(run) for run in re.findall(r"`+", text))])
