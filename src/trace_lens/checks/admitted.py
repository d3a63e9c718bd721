"""Admitted: the application let the user in, as far as anything tells."""

from __future__ import annotations

from trace_lens.checks.asking import NOTHING, Answer, asks
from trace_lens.checks.case import Case
from trace_lens.checks.logged import let_in_by_log, refusal
from trace_lens.checks.way.signs import outcome_of
from trace_lens.common.findings import Stage, Unchecked
from trace_lens.logs.event import APPLICATION

_STAGE = Stage.ADMITTED


@asks(_STAGE, "outcome-unknown", needs=NOTHING)
def outcome(case: Case) -> Answer:
    """Does anything say how it ended?"""
    if outcome_of(case).let_in is not None:
        return
    if let_in_by_log(case) or refusal(case, APPLICATION):
        return
    yield case.finding(
        "outcome-unknown",
        _STAGE,
        "Nothing here says whether the application let the user in: that would stand in a capture of the page that "
        "followed, or in the application's log.",
    )
    yield Unchecked("outcome-unknown", "neither the page that followed nor a log is at hand")
