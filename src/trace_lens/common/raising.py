"""Findings made in the catalogue's words."""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.common import catalogue
from trace_lens.common.difference import difference
from trace_lens.common.findings import Evidence, Finding, Severity, Side, certainty_of


def finding(
    code: str,
    detail: str,
    *,
    severity: Severity | None = None,
    side: Side | None = None,
    expected: str | None = None,
    actual: str | None = None,
    value_to_set: str | None = None,
    remedy: str | None = None,
    reference: str | None = None,
    evidence: Iterable[Evidence] = (),
    compared: bool = True,
    setting: str | None = None,
) -> Finding:
    """A finding in the catalogue's words; what is not given is the catalogue's. Raises KeyError for an unknown code.

    Where both an expected and an actual value are given, their difference is worked out, unless they are not of a kind
    that is `compared` to the letter (moments, lists).
    """
    entry = catalogue.entry(code)
    side = side or entry.side
    severity = severity or entry.severity
    found = difference(expected, actual) if compared and expected is not None and actual is not None else None
    return Finding(
        code=code,
        stage=entry.stage,
        severity=severity,
        title=entry.title,
        detail=detail,
        side=side,
        remedy=remedy or entry.remedies.get(side) or next(iter(entry.remedies.values())),
        reference=reference or entry.reference,
        expected=expected,
        actual=actual,
        difference=found.kind if found else None,
        differing=(found.expected_span, found.actual_span) if found else None,
        value_to_set=value_to_set,
        evidence=tuple(evidence),
        certainty=certainty_of(severity),
        setting=setting,
    )
