"""Admitted, as far as it is SAML's own: how long the session lasts that the assertion opens (SAML 2.0 Core §2.7.2)."""

from __future__ import annotations

from trace_lens.checks.checking import Answer, check
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.way.signs import shows_cookies
from trace_lens.common import limits
from trace_lens.common.findings import Allows, Unchecked, lack
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say


@check("session-ends-early")
def session_length(case: SamlCase) -> Answer:
    """Does the session last as long as people expect?"""
    assertion = case.assertion
    issued = assertion.issue_instant.moment if assertion and assertion.issue_instant else None
    for statement in assertion.authn_statements if assertion else ():
        end = statement.session_not_on_or_after
        if not (issued and end and end.moment):
            continue
        length = (end.moment - issued).total_seconds()
        if 0 < length < limits.SHORT_SESSION_SECONDS:
            yield finding(
                "session-ends-early",
                say(
                    "The provider ends the session {moment} after this sign-in (SessionNotOnOrAfter), and an "
                    "application that obeys it signs the user out then.",
                    moment=show_duration(end.moment - issued),
                ),
                actual=show_moment(end.moment),
                evidence=case.shown("SessionNotOnOrAfter", end),
            )
            return
    if not shows_cookies(case):
        yield Unchecked(
            "session-ends-early", lack("the capture shows no session cookie of the application", Allows.RECORDING)
        )


CHECKS = (session_length,)
