"""Documents as one self-contained HTML page: no script, nothing from elsewhere, for the screen, a reader and paper.

Whatever a value holds, it stays text: it is escaped when it is put into the page, and what a reader cannot see (control
characters, bidirectional marks) is made visible before. Sections begin at headings of level 1 and 2.

Sources: HTML Living Standard §4; WAI-ARIA 1.2; Web Content Accessibility Guidelines 2.2 (1.3.1, 1.4.1, 1.4.3, 2.1.1).
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Iterable, Sequence
from functools import cache
from importlib.resources import files
from typing import TYPE_CHECKING

from markupsafe import Markup

from trace_lens.common.masking import visible
from trace_lens.common.tuples import NamedTuple
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

if TYPE_CHECKING:
    from jinja2 import Template

_COLUMNS = 100
"""The columns that drawings of text are laid out for."""
_NO_STYLE = ("", "note", "unchecked", "mark")


class Page(NamedTuple):
    """A page: its title, a line below that, what it says, and the words at its foot."""

    title: str
    lead: str
    document: Iterable[Block]
    foot: str


class _Part(NamedTuple):
    """A section under its heading."""

    id: str
    title: str
    body: Markup


def write(page: Page) -> str:
    """The HTML of a page."""
    parts: list[_Part] = []
    title, held = "", list[Block]()
    for block in page.document:
        if isinstance(block, Heading) and block.level <= 2:
            _close(parts, title, held)
            title, held = _plain(block.spans), []
        else:
            held.append(block)
    _close(parts, title, held)
    text = _template().render(
        title=visible(page.title), lead=visible(page.lead), parts=parts, foot=visible(page.foot), style=_style()
    )
    return re.sub(r"\n{2,}", "\n", text)


def _close(parts: list[_Part], title: str, held: Sequence[Block]) -> None:
    if title or any(not isinstance(block, Gap) for block in held):
        parts.append(_Part(f"part-{len(parts) + 1}", title or "Summary", _body(held)))


@cache
def _template() -> Template:
    from jinja2 import Environment, StrictUndefined

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True)
    return environment.from_string(_file("page.html.j2"))


def _style() -> Markup:
    return Markup(_file("page.css").strip())


def _file(name: str) -> str:
    return files("trace_lens.render").joinpath("templates", name).read_text("utf-8")


def _body(blocks: Sequence[Block]) -> Markup:
    """What stands in a section; facts that follow each other are one list."""
    made: list[Markup] = []
    facts: list[Fact] = []
    for block in [*blocks, Gap()]:
        if isinstance(block, Fact):
            facts.append(block)
            continue
        if facts and not isinstance(block, Gap):
            made.append(_facts(facts))
            facts = []
        made.append(_of(block))
    if facts:
        made.append(_facts(facts))
    return Markup("\n").join(part for part in made if part)


def _of(block: Block) -> Markup:
    match block:
        case Heading(spans):
            return Markup("<h3>{}</h3>").format(_spans(spans))
        case Paragraph(spans, _, first):
            before = Markup('<span class="quiet">{}</span> ').format(visible(first.strip())) if first.strip() else ""
            return Markup("<p>{}{}</p>").format(before, _spans(spans))
        case Steps(items):
            listed = Markup("\n").join(Markup("<li>{}</li>").format(visible(item)) for item in items)
            return Markup("<ol>\n{}\n</ol>").format(listed)
        case LinkTo(words, file):
            return Markup('<p><a href="{}">{}</a></p>').format(file, visible(words))
        case Line(spans) | OneLine(spans):
            return Markup("<p>{}</p>").format(_spans(spans))
        case Strip(items):
            return _list(_spans(item) for item in items)
        case Copied(text, _, _, label):
            before = Markup("<p>{}:</p>\n").format(visible(label)) if label else ""
            return Markup('{}<pre class="value" tabindex="0"><code>{}</code></pre>').format(before, visible(text))
        case Table(titles, rows):
            return _table(titles, rows)
        case TwoValues():
            return _two_values(block)
        case Drawing():
            from trace_lens.render.terminal.writing import lay_out

            lines = Markup("\n").join(_spans(spans, stripped=False) for spans in lay_out(block, _COLUMNS))
            return Markup('<pre tabindex="0">{}</pre>').format(lines)
        case Figure(svg, words):
            return _figure(svg, words)
        case Rule(title):
            return Markup('<hr>\n<p class="head">{}</p>').format(visible(title)) if title else Markup("<hr>")
        case _:
            return Markup("")


def _spans(spans: Spans, *, stripped: bool = True) -> Markup:
    made = Markup("").join(_span(span) for span in spans)
    return Markup(made.strip()) if stripped else made


def _span(span: Span) -> Markup:
    text = visible(span.text)
    if span.style == "mark":
        return Markup("<mark>{}</mark>").format(text)
    return (
        Markup('<span class="{}">{}</span>').format(span.style, text)
        if span.style not in _NO_STYLE
        else Markup.escape(text)
    )


def _plain(spans: Spans) -> str:
    return visible("".join(span.text for span in spans).strip())


def _list(items: Iterable[Markup]) -> Markup:
    return Markup("<ul>\n{}\n</ul>").format(Markup("\n").join(Markup("<li>{}</li>").format(item) for item in items))


def _facts(facts: Sequence[Fact]) -> Markup:
    rows = []
    for fact in facts:
        name = Markup("<dt>{}</dt>").format(visible(fact.name)) if fact.name else ""
        rows.append(Markup("{}<dd>{}</dd>").format(name, _span(Span(shown(fact.value), fact.style))))
    return Markup("<dl>\n{}\n</dl>").format(Markup("\n").join(rows))


def _table(titles: Sequence[str], rows: Sequence[Spans]) -> Markup:
    """A table; the first cell of a row is its header. One without titles has none that could be read aloud."""
    if not rows:
        return Markup("")
    heads = Markup("").join(Markup('<th scope="col">{}</th>').format(visible(title)) for title in titles)
    top = Markup("<thead><tr>{}</tr></thead>\n").format(heads) if any(titles) else ""
    lines = []
    for first, *rest in rows:
        cells = Markup("").join(
            Markup("<td>{}</td>").format(_span(Span(shown(cell.text), cell.style))) for cell in rest
        )
        head = _span(Span(shown(first.text), first.style))
        lines.append(Markup('<tr><th scope="row">{}</th>{}</tr>').format(head, cells))
    body = Markup("\n").join(lines)
    return Markup('<div class="wide" tabindex="0"><table>\n{}<tbody>\n{}\n</tbody>\n</table></div>').format(top, body)


def _two_values(block: TwoValues) -> Markup:
    rows = []
    for label, value, (start, end) in zip(block.labels, block.values, block.places, strict=True):
        marked = Markup("{}<mark>{}</mark>{}").format(
            visible(value[:start]), visible(value[start:end]) or "∅", visible(value[end:])
        )
        rows.append(Markup('<tr><th scope="row">{}</th><td><code>{}</code></td></tr>').format(visible(label), marked))
    return Markup(
        "<table>\n<tbody>\n{}\n</tbody>\n</table>\n<p>They differ by: {}. What differs is marked.</p>"
    ).format(Markup("\n").join(rows), visible(block.kind))


def _figure(svg: str, words: str) -> Markup:
    """A figure of this program as part of the page, with its words for those who do not see it.

    What it names in itself gets a name of its own, since a page may hold several figures.
    """
    before, opened, rest = svg[svg.index("<svg") :].partition("<metadata>")
    bare = before + rest.partition("</metadata>")[2] if opened else before
    bare = re.sub(r"<svg\b", '<svg role="img" aria-label="' + str(Markup.escape(visible(words))) + '"', bare, count=1)
    mark = hashlib.sha256(svg.encode()).hexdigest()[:8]
    bare = re.sub(r'(\bid="|href="#|url\(#)', rf"\g<1>{mark}-", bare)
    return Markup("<figure>\n{}\n<figcaption>{}</figcaption>\n</figure>").format(Markup(bare), visible(words))
