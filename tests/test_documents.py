"""Documents in the terminal and in Markdown: the same words in both, whatever the values hold."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from markdown_it import MarkdownIt

from kit import Done, run
from trace_lens.common.masking import visible
from trace_lens.render import markdown
from trace_lens.render.document import (
    Copied,
    Drawing,
    Fact,
    Span,
    TwoValues,
    answer,
    heading,
    line,
    prose,
    spans_of,
    table,
)
from trace_lens.render.terminal.writing import cells, lay_out

READER = MarkdownIt("commonmark").enable(["table"])
HOSTILE = (
    "<script>alert(1)</script> | *bold* _it_ `x` [a](javascript:b) ![i](j) & &amp; # - 1. ~~s~~",
    "https://a.example/?x=`|` www.a.example a@b.example",
    "``` ~~~ ````",
    "- + = 1. 2) #",
    "\\",
)


def rendered(text: str) -> tuple[str, set[str]]:
    """What a reader of Markdown shows, and the kinds of marks that it saw."""
    words, kinds = [], set()
    for token in READER.parse(text):
        for inner in token.children or [token]:
            kinds.add(inner.type)
            if inner.type in ("text", "code_inline", "fence", "text_special"):
                words.append(inner.content)
    return "".join(words), kinds


def squeezed(text: str) -> str:
    return "".join(visible(text).split())


@given(st.text(max_size=60))
@example(HOSTILE[0])
@example(HOSTILE[1])
@example(HOSTILE[2])
@example(HOSTILE[3])
@example(HOSTILE[4])
def test_markdown_shows_every_value_as_it_is(value: str) -> None:
    for block in (
        prose(value),
        line(value),
        heading(value),
        Fact("name", value),
        Copied(value),
        answer("NO", "", value),
    ):
        told, kinds = rendered(markdown.write([block]))
        assert squeezed(value) in squeezed(told)
        assert not kinds & {"html_inline", "html_block", "link_open", "image", "em_open", "hr", "blockquote_open"}


@given(st.lists(st.text(max_size=20), min_size=2, max_size=2))
@example(["a|b", "https://a.example/|"])
def test_a_table_in_markdown_keeps_its_cells(row: list[str]) -> None:
    tokens = READER.parse(markdown.write([table(("left", "right"), [row])]))
    assert [token.type for token in tokens].count("td_open") == 2
    if "\\" not in "".join(row):
        told = "".join(child.content for token in tokens[-8:] for child in token.children or ())
        assert squeezed("".join(row)) == squeezed(told)
    assert not {child.type for token in tokens for child in token.children or ()} & {
        "html_inline",
        "link_open",
        "image",
    }


@given(st.lists(st.tuples(st.text(max_size=30), st.text(max_size=30), st.text(max_size=90)), min_size=1, max_size=5))
def test_a_table_loses_nothing_at_any_width(rows: list[tuple[str, str, str]]) -> None:
    for room in (40, 80, 110):
        text = "".join(span.text for spans in lay_out(table(("", "", ""), rows), room) for span in spans)
        for letter in set("".join(map(squeezed, (cell for row in rows for cell in row)))):
            count = sum(squeezed(cell).count(letter) for row in rows for cell in row)
            assert text.count(letter) >= count


@pytest.mark.parametrize("room", [50, 60, 100])
def test_words_that_can_be_wrapped_stay_within_the_width(room: int) -> None:
    words = "one two three four five six seven eight nine ten " * 6
    blocks = (prose(words, 4), heading(words), Fact("name", words), table(("a", "b", "c"), [(words, words, words)]))
    for block in blocks:
        for spans in lay_out(block, room):
            assert cells("".join(span.text for span in spans)) <= room


def test_each_letter_keeps_its_style_when_words_are_wrapped() -> None:
    rows = list(lay_out(answer("BROKEN at intended", "break", ": the audience is another one than is set"), 24))
    marked = "".join(span.text for spans in rows for span in spans if span.style == "break")
    assert marked == "BROKEN at intended"
    assert len(rows) == 3


def test_drawings_and_two_values_are_blocks_of_code() -> None:
    drawn = Drawing(lambda width: [spans_of(Span("a ``` b", "head")), spans_of(" " * 4, f"{width}")])
    two = TwoValues(("left", "right"), ("x/", "x"), ((1, 2), (1, 1)), "trailing-slash")
    told, kinds = rendered(markdown.write([drawn, two]))
    assert kinds == {"fence"}
    assert "a ``` b\n    100\n" in told
    assert "trailing-slash" in told


@pytest.mark.parametrize(
    ("words", "status"),
    [
        (("diagnose", "captures/04-crew-roster-slash-lost.txt"), 1),
        (("diagnose", "captures/55-weather-desk-loop.har", "captures/01-crew-roster-works.txt"), 1),
        (("sides", "crew-roster"), 1),
        (("compare", "captures/04-crew-roster-slash-lost.txt", "captures/19-crew-roster-works-again.txt"), 1),
        (("apps", "check"), 1),
        (("identify", "claims-office"), 1),
        (("certs", "certs"), 0),
    ],
)
def test_commands_write_markdown_with_the_words_of_the_terminal(
    shown_demo: tuple[Done, Path], words: tuple[str, ...], status: int
) -> None:
    _, folder = shown_demo
    now = () if words[0] == "identify" else ("--now", "2026-11-21T00:00:00Z")
    text = run(*words, *now, folder=folder)
    done = run(*words, *now, "--format", "markdown", folder=folder)
    assert (done.returncode, text.returncode) == (status, status)
    told, kinds = rendered(done.stdout.decode())
    assert "heading_open" in kinds
    first = text.stdout.decode().partition("\n")[0]
    assert squeezed(first) in squeezed(told)
