"""Admitted: the application let the user in, as far as anything tells."""

from __future__ import annotations

from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.logged import let_in_by_log, refusal
from trace_lens.checks.way.signs import outcome_of
from trace_lens.common.findings import Allows, Unchecked, lack
from trace_lens.common.raising import finding
from trace_lens.logs.event import APPLICATION


@check("outcome-unknown", requires=Need.NOTHING)
def outcome(case: Case) -> Answer:
    """Does anything say how it ended?"""
    if outcome_of(case).let_in is not None:
        return
    if let_in_by_log(case) or refusal(case, APPLICATION):
        return
    yield finding(
        "outcome-unknown",
        "Nothing here says whether the application let the user in. A capture of the page that followed would show it, "
        "or the application's log.",
    )
    yield Unchecked("outcome-unknown", lack("neither the page that followed nor a log is at hand", Allows.RECORDING))


CHECKS = (outcome,)
