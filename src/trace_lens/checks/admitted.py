"""Admitted: the application let the user in, as far as anything tells."""

from __future__ import annotations

from trace_lens.checks.asking import NOTHING, Answer, asks
from trace_lens.checks.case import Case
from trace_lens.common import limits
from trace_lens.common.findings import Stage, Unchecked
from trace_lens.common.moments import show_duration, show_moment

_STAGE = Stage.ADMITTED


@asks(_STAGE, "application-refused", needs=NOTHING)
def application_log(case: Case) -> Answer:
    """Does the application's log say no?"""
    yield Unchecked("application-refused", "no log of the application is loaded")


@asks(_STAGE, "provider-log-refused", needs=NOTHING)
def provider_log(case: Case) -> Answer:
    """Does the provider's log say no?"""
    yield Unchecked("provider-log-refused", "no log of the provider is loaded")


@asks(_STAGE, "session-ends-early")
def session_length(case: Case) -> Answer:
    """Does the session last as long as people expect?"""
    assertion = case.assertion
    issued = assertion.issue_instant.moment if assertion and assertion.issue_instant else None
    for statement in assertion.authn_statements if assertion else ():
        end = statement.session_not_on_or_after
        if not (issued and end and end.moment):
            continue
        length = (end.moment - issued).total_seconds()
        if 0 < length < limits.SHORT_SESSION_SECONDS:
            yield case.finding(
                "session-ends-early",
                _STAGE,
                f"The provider ends the session {show_duration(end.moment - issued)} after this sign-in "
                "(SessionNotOnOrAfter), and an application that obeys it signs the user out then.",
                actual=show_moment(end.moment),
                evidence=case.shown("SessionNotOnOrAfter", end),
            )
            return
    yield Unchecked("session-ends-early", "the capture shows no session cookie of the application")


@asks(_STAGE, "outcome-unknown", needs=NOTHING)
def outcome(case: Case) -> Answer:
    """Does anything say how it ended?"""
    yield case.finding(
        "outcome-unknown",
        _STAGE,
        "Nothing here says whether the application let the user in: that would stand in a capture of the page that "
        "followed, or in the application's log.",
    )
    yield Unchecked("outcome-unknown", "neither the page that followed nor a log is at hand")
