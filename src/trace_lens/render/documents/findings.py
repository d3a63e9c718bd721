"""Findings as blocks: in full with values and evidence, or on one line."""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.checks.claims import ClaimRow
from trace_lens.common import limits
from trace_lens.common.findings import INFERRED, Finding, Proof, Side
from trace_lens.render.document import (
    Copied,
    Document,
    Fact,
    OneLine,
    Span,
    TwoValues,
    heading,
    prose,
    shown,
    spans_of,
    table,
)

SIDE = {
    Side.APPLICATION: "At the application",
    Side.PROVIDER: "At the provider",
    Side.USER: "By the user",
    Side.NETWORK: "On the network between them",
    Side.BOTH: "On both sides",
}


def finding_lines(finding: Finding) -> Document:
    """One finding: code, detail, values, evidence."""
    because = f", because of {finding.because_of}" if finding.because_of else ""
    because += ", likely" if finding.certainty == INFERRED else ""
    because += f", in place of {', '.join(finding.overrules)}" if finding.overrules else ""
    accepted = f", accepted: {finding.accepted}" if finding.accepted else ""
    yield heading(
        Span(finding.code, finding.severity),
        Span(f"  {finding.severity} in {finding.stage}{because}{shown(accepted)}"),
        level=3,
    )
    yield prose(finding.detail, 2)
    yield from _values(finding)
    for item in finding.evidence[:4]:
        yield prose(f"{item.source}, {item.where}", 2, "quiet", first=f"{item.label + ':'} ")


def remedy_lines(finding: Finding) -> Document:
    """What repairs a finding: the side, what to do, the value, and what judging again with it gave."""
    yield prose(f"{SIDE[finding.side] if finding.side else 'To do'}: {finding.remedy}", 2)
    if finding.value_to_set:
        yield Copied(finding.value_to_set)
    if finding.proof:
        yield prose(proof_words(finding.proof), 4, "quiet")


def proof_words(proof: Proof) -> str:
    """What judging again with the value gave."""
    if proof.outcome == "broken":
        return f"Judged again with this value: {proof.first_break} is left."
    return f"Judged again with this value: {proof.outcome}."


def one_line(finding: Finding, indent: int = 2, first: str = "") -> OneLine:
    """A finding on one line: code, stage and detail."""
    accepted = f" Accepted: {finding.accepted}." if finding.accepted else ""
    style = "" if finding.accepted else finding.severity
    words = Span(f" ({finding.stage}): {finding.detail}{accepted}")
    return OneLine(spans_of(first, Span(finding.code, style), words), indent)


def _values(finding: Finding) -> Document:
    expected, actual = finding.expected, finding.actual
    whole = expected is not None and actual is not None and finding.differing == ((0, len(expected)), (0, len(actual)))
    if expected is not None and actual is not None and finding.difference and finding.differing and not whole:
        yield TwoValues(("expected", "actual"), (expected, actual), finding.differing, finding.difference)
        return
    if expected is not None:
        yield Fact("expected", expected)
    if actual is not None and finding.severity != "note":
        yield Fact("actual", actual)


def claim_lines(claims: Iterable[ClaimRow], *, app_known: bool = True) -> Document:
    """The claims table: what was sent, and what the application makes of it, where one is known."""
    unused = "nothing reads it" if app_known else "sent"
    words = {"used": "used", "unused": unused, "missing": "MISSING", "other-name": "OTHER NAME"}
    styles = {"missing": "break", "other-name": "break"}
    rows = list(claims)
    listed_rows = rows[: limits.LISTED_CLAIMS]
    yield table(
        ("", "", ""),
        [
            (row.name, Span("not sent, may be left out", "quiet"), "")
            if row.optional
            else (row.name, Span(words[row.use] + _as(row), styles.get(row.use, "")), _values_of(row))
            for row in listed_rows
        ],
    )
    if len(rows) > len(listed_rows):
        yield prose(f"… and {len(rows) - len(listed_rows):,} more claims", 2)


def _as(row: ClaimRow) -> str:
    return f" as {row.serves}" if row.serves and row.serves != row.name else ""


def _values_of(row: ClaimRow) -> str:
    values = ", ".join(row.values[:6]) + (" …" if len(row.values) > 6 else "")
    mapped = f" → {', '.join(dict.fromkeys(row.mapped[:6]))}" if row.mapped and row.mapped != row.values else ""
    return values + mapped
