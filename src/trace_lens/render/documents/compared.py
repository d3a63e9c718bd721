"""Two things compared, in the terminal: the answer, the findings that came and went, then the differences."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial

from trace_lens.common.difference import difference
from trace_lens.common.findings import INFERRED, Finding
from trace_lens.common.masking import visible
from trace_lens.comparison.compared import ATTEMPTS, Compared, Differing
from trace_lens.comparison.comparing_ways import SideBySide
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.steps import Step
from trace_lens.render.document import (
    BLANK,
    Document,
    Drawing,
    Fact,
    Span,
    Spans,
    TwoValues,
    answer,
    heading,
    line,
    prose,
    spans_of,
)
from trace_lens.render.terminal.writing import lay_out

_MOST = 8


def compared_pages(found: Compared) -> Document:
    """The whole comparison."""
    yield from _headline(found)
    yield Fact("left", found.left + _outcome(found, 0))
    yield Fact("right", found.right + _outcome(found, 1))
    for note in found.notes:
        yield Fact("note", note)
    if found.kind == ATTEMPTS:
        yield from _findings(found)
    if found.ways:
        yield from _ways(found.ways)
    mattering = [difference for difference in found.differences if difference.matters]
    others = [difference for difference in found.differences if not difference.matters]
    if mattering:
        yield BLANK
        yield heading(Span("Differences that matter", "head"))
        for difference in mattering:
            yield from _difference(difference)
    if others:
        yield BLANK
        yield heading(Span("Other differences", "head"))
        for difference in others:
            yield from _difference(difference, "quiet")
    yield BLANK
    noise = ", ".join(f"{kind} ({count})" for kind, count in found.noise)
    noise = f"; left out, since they differ in any two messages: {noise}" if noise else ""
    yield prose(f"The same on both sides: {found.same} {'value' if found.same == 1 else 'values'}{noise}.", 0)


def _headline(found: Compared) -> Document:
    mattering = sum(difference.matters for difference in found.differences)
    if found.diagnoses:
        left, right = found.diagnoses
        if left.outcome != right.outcome or left.first_break != right.first_break:
            words = f"Left {_words(left)}; right {_words(right)}"
            yield answer(words, "break" if right.outcome == "broken" else "ok", ".")
            return
    if not found.differences:
        yield answer("Nothing differs.", "ok", "")
    elif mattering:
        words = "1 value that matters" if mattering == 1 else f"{mattering} values that matter"
        rest = len(found.differences) - mattering
        yield answer(f"They differ in {words}", "break", f", and in {rest} more." if rest else ".")
    else:
        yield answer("They differ in nothing that matters.", "ok", "")


def _words(diagnosis: Diagnosis) -> str:
    if diagnosis.first_break:
        likely = ", most likely" if diagnosis.first_break.certainty == INFERRED else ""
        return f"breaks at {diagnosis.first_break.stage}{likely} ({diagnosis.first_break.code})"
    return "works" if diagnosis.outcome == "sound" else "cannot be judged to the end"


def _outcome(found: Compared, side: int) -> str:
    if not found.diagnoses:
        return ""
    diagnosis = found.diagnoses[side]
    return f": {diagnosis.app or 'application not known'}, {diagnosis.subject or 'no subject'}"


def _findings(found: Compared) -> Document:
    for title, listed in (("Only left", found.went), ("Only right", found.came), ("Both", found.stayed)):
        shown = sorted(
            (finding for finding in listed if finding.code != "outcome-unknown"), key=lambda item: not item.breaks
        )
        if not shown:
            continue
        yield BLANK
        yield heading(Span(f"Findings: {title.lower()}", "head"))
        for finding in shown:
            yield from _finding(finding, short=title == "Both")


def _ways(ways: SideBySide) -> Document:
    """The hops in two columns, and where they part."""
    yield BLANK
    until = f", up to where they part: hop {ways.parts_at}" if ways.parts_at else "; they do not part"
    yield heading(Span("Hops side by side", "head"), until)
    yield Drawing(partial(_columns, ways))


def _columns(ways: SideBySide, width: int) -> Iterator[Spans]:
    column = (width - 7) // 2
    yield spans_of(" " * 6, Span("left".ljust(column), "quiet"), Span("right", "quiet"))
    for number, pair in enumerate(ways.pairs, 1):
        parts = number == ways.parts_at
        cells = [_hop(step, column - 2) for step in (pair.left, pair.right)]
        style = "break" if parts else ""
        yield spans_of(
            Span("> " if parts else "  ", "break"),
            Span(f"{number:>2}  ", "quiet"),
            Span(cells[0].ljust(column), style),
            Span(cells[1], style),
        )
        if pair.left is None or pair.right is None:
            continue
        for name in pair.differs:
            if name not in _SAID:
                values = [_of(step, name) for step in (pair.left, pair.right)]
                fact = Fact(name, f"{values[0]}  against  {values[1]}", indent=6, column=14, style="quiet")
                yield from lay_out(fact, width)


_SAID = ("address", "method", "status")


def _hop(step: Step | None, room: int) -> str:
    if step is None:
        return "(ended)"
    text = visible(f"{step.request.method} {step.request.url.partition('://')[2]}")
    status = f"  {step.answer.status or '–'}"
    return (text if len(text) + len(status) <= room else text[: room - len(status) - 1] + "…") + status


def _of(step: Step, name: str) -> str:
    values = {
        "target": (step.answer.redirects_to or "",),
        "messages": step.request.carries,
        "cookies sent": step.request.cookies_sent,
        "cookies set": step.answer.cookie_lines,
    }[name]
    return ", ".join(filter(None, values)) or "none"


def _finding(finding: Finding, *, short: bool) -> Document:
    because = f", because of {finding.because_of}" if finding.because_of else ""
    because += ", likely" if finding.certainty == INFERRED else ""
    yield line("  ", Span(finding.code, finding.severity), f"  {finding.severity} in {finding.stage}{because}")
    if not short:
        yield prose(finding.detail, 4)


def _difference(item: Differing, style: str = "") -> Document:
    hits = f"; it hits {', '.join(item.hits)}" if item.hits else ""
    yield line("  ", Span(visible(item.item), "head" if item.matters else ""), Span(f"  {item.why}{hits}", "quiet"))
    if len(item.left) == 1 and len(item.right) == 1:
        found = difference(item.left[0], item.right[0])
        if found and found.kind not in ("other", "edit"):
            yield TwoValues(
                ("left", "right"),
                (item.left[0], item.right[0]),
                (found.expected_span, found.actual_span),
                found.kind,
                indent=4,
            )
            return
    for label, values in (("left", item.left), ("right", item.right)):
        text = ", ".join(values[:_MOST]) + (f" … ({len(values)} in all)" if len(values) > _MOST else "")
        yield Fact(label, text or "(none)", indent=4, style=style)
