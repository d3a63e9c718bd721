"""Given this capture and these settings, the finding is this: the table of `cases`, row by row."""

from __future__ import annotations

from pathlib import Path

import pytest

from cases import CASES, Case
from kit import judge, response, workspace
from laws import contradictions
from trace_lens.common import catalogue
from trace_lens.common.findings import SIGN_IN_STAGES, Severity, Stage


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_case(case: Case, tmp_path: Path) -> None:
    folder = workspace(tmp_path, case.app, case.files, case.provider, case.main)
    found = judge(response(**case.message), folder, case.at)
    seen = {one.code: one.severity for one in found.findings}
    assert (found.first_break.code if found.first_break else None) == case.first, seen
    assert found.outcome == case.expected_outcome, seen
    assert case.codes.items() <= {**seen}.items(), seen
    assert not set(case.absent) & set(seen)
    for effect, cause in case.because.items():
        assert {one.because_of for one in found.findings if one.code == effect} == {cause}
        assert effect not in found.next_breaks
    first = found.first_break
    if first:
        assert (case.difference or first.difference, case.value or first.value_to_set, case.side or first.side) == (
            first.difference,
            first.value_to_set,
            first.side,
        )
        assert first.code not in found.next_breaks


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_what_holds_of_every_diagnosis(case: Case, tmp_path: Path) -> None:
    """Stages and findings stand in order, each finding is complete, and a status follows from its findings."""
    folder = workspace(tmp_path, case.app, case.files, case.provider, case.main)
    found = judge(response(**case.message), folder, case.at)
    assert [result.stage for result in found.stages] == list(SIGN_IN_STAGES)
    order = [(list(Stage).index(one.stage), list(Severity).index(one.severity)) for one in found.findings]
    assert order == sorted(order)
    for one in found.findings:
        entry = catalogue.entry(one.code)
        assert one.title == entry.title
        assert one.detail.endswith((".", "?"))
        assert one.remedy
        assert one.reference
        assert all(item.source and item.where for item in one.evidence), one
    for result in found.stages:
        severities = {one.severity for one in result.findings}
        worst = next((one for one in ("break", "risk") if one in severities), None)
        assert result.status == worst or (worst is None and result.status in ("ok", "unchecked"))
    assert all(one.because for one in found.unchecked)
    assert contradictions(found) == []
