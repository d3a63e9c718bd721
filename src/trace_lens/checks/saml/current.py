"""Current: the moment of the attempt lies in every time window, widened by the clock skew allowed.

Windows are half open: expired when at ≥ end + skew, not yet valid when at < start − skew (SAML 2.0 Core §2.5.1.2).
"""

from __future__ import annotations

import operator
from collections.abc import Iterator
from datetime import datetime, timedelta
from functools import partial

from trace_lens.checks.checking import Answer, check
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.way.clocks import clock_to_set
from trace_lens.common import limits
from trace_lens.common.findings import Unchecked
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.saml.messages import Instant

_UNSEEN = "the capture does not tell when the message arrived; judged as of the moment it was issued"
_NO_MOMENT = "nothing tells the moment of the attempt"
_TO_THE_SECOND = "the moment is known to the second only, and the window ended within it"


class Window(NamedTuple):
    """One time window of the assertion."""

    what: str
    start: Instant | None
    end: Instant | None


def windows(case: SamlCase) -> Iterator[Window]:
    """The assertion's own window and that of the bearer confirmation that is judged."""
    assertion = case.assertion
    if assertion is None:
        return
    if assertion.conditions:
        yield Window("assertion", assertion.conditions.not_before, assertion.conditions.not_on_or_after)
    if case.bearer and case.bearer.data:
        yield Window("subject confirmation", case.bearer.data.not_before, case.bearer.data.not_on_or_after)


def _allowing(skew: timedelta) -> str:
    return say(" (with {skew} of clock skew allowed)", skew=show_duration(skew)) if skew else ""


@check("not-yet-valid")
def begun(case: SamlCase) -> Answer:
    """Had every window begun?"""
    if case.at is None:
        yield Unchecked("not-yet-valid", _NO_MOMENT)
        return
    if case.at_from == "message":
        yield Unchecked("not-yet-valid", _UNSEEN)
    skew = case.skew
    for window in windows(case):
        start = window.start.moment if window.start else None
        if start and (case.latest or case.at) < start - skew:
            side, remedy = clock_to_set(case, partial(operator.le, start - skew)) or (None, None)
            yield finding(
                "not-yet-valid",
                say(
                    "The {what} becomes valid only {start} after the attempt{allowing}; one of the two "
                    "clocks is wrong.",
                    what=window.what,
                    start=show_duration(start - case.at),
                    allowing=_allowing(skew),
                ),
                side=side,
                remedy=remedy,
                expected=f"not before {show_moment(start)}",
                actual=show_moment(case.at),
                evidence=case.shown("NotBefore", window.start),
                compared=False,
            )
            return


@check("expired")
def ended(case: SamlCase) -> Answer:
    """Was every window still open?"""
    if case.at is None:
        yield Unchecked("expired", _NO_MOMENT)
        return
    if case.at_from == "message":
        yield Unchecked("expired", _UNSEEN)
    skew = case.skew
    for window in windows(case):
        end = window.end.moment if window.end else None
        if end and case.at < end + skew <= (case.latest or case.at):
            yield Unchecked("expired", _TO_THE_SECOND)
        if end and case.at >= end + skew:
            side, remedy = clock_to_set(case, partial(operator.gt, end + skew)) or (None, None)
            yield finding(
                "expired",
                say(
                    "The {what} ended {at} before the attempt{allowing}.",
                    what=window.what,
                    at=show_duration(case.at - end),
                    allowing=_allowing(skew),
                ),
                side=side,
                remedy=remedy,
                expected=f"before {show_moment(end)}",
                actual=show_moment(case.at),
                evidence=case.shown("NotOnOrAfter", window.end),
                compared=False,
            )
            return


@check("issued-in-future")
def issued(case: SamlCase) -> Answer:
    """Was it issued before it arrived?"""
    if case.at is None or case.assertion is None:
        return
    skew = case.skew
    both = (case.assertion.issue_instant, case.response.issue_instant if case.response else None)
    for instant in both:
        if instant and instant.moment and instant.moment > (case.latest or case.at) + skew:
            yield finding(
                "issued-in-future",
                say(
                    "It says that it was issued {moment} after the attempt: the clock of the provider is "
                    "ahead, or that of the application behind.",
                    moment=show_duration(instant.moment - case.at),
                ),
                expected=f"not after {show_moment(case.at)}",
                actual=show_moment(instant.moment),
                evidence=case.shown("IssueInstant", instant),
                compared=False,
            )
            return


@check("session-expired")
def session(case: SamlCase) -> Answer:
    """Was the provider's session still open (SAML 2.0 Core §2.7.2)?"""
    if case.at is None or case.assertion is None:
        return
    for statement in case.assertion.authn_statements:
        end = statement.session_not_on_or_after
        if end and end.moment and case.at >= end.moment + case.skew:
            yield finding(
                "session-expired",
                say(
                    "The session at the provider ended {at} before the attempt.", at=show_duration(case.at - end.moment)
                ),
                expected=f"before {show_moment(end.moment)}",
                actual=show_moment(case.at),
                evidence=case.shown("SessionNotOnOrAfter", end),
                compared=False,
            )


@check("window-empty")
def window_has_length(case: SamlCase) -> Answer:
    """Does every window end after it begins?"""
    for window in windows(case):
        start, end = (instant.moment if instant else None for instant in (window.start, window.end))
        if start and end and end <= start:
            yield finding(
                "window-empty",
                say(
                    "The {what} ends {end}, which is not after its beginning {start}: there is no moment at "
                    "which it is valid.",
                    what=window.what,
                    end=show_moment(end),
                    start=show_moment(start),
                ),
                expected=f"after {show_moment(start)}",
                actual=show_moment(end),
                evidence=[*case.shown("NotBefore", window.start), *case.shown("NotOnOrAfter", window.end)],
                compared=False,
            )


@check("validity-too-long")
def window_is_short(case: SamlCase) -> Answer:
    """Is no window longer than the limit of the workspace?"""
    assertion = case.assertion
    if assertion is None:
        return
    longest = case.longest_validity
    issued_at = assertion.issue_instant.moment if assertion.issue_instant else None
    for window in windows(case):
        start = (window.start.moment if window.start else None) or issued_at
        end = window.end.moment if window.end else None
        if start and end and end - start > longest:
            yield finding(
                "validity-too-long",
                say(
                    "The {what} is valid for {end}; the limit here is {longest}.",
                    what=window.what,
                    end=show_duration(end - start),
                    longest=show_duration(longest),
                ),
                expected=f"at most {show_duration(longest)}",
                actual=show_duration(end - start),
                evidence=case.shown("NotOnOrAfter", window.end),
                compared=False,
            )
            return


@check("earlier-session-used")
def earlier_session(case: SamlCase) -> Answer:
    """Did the user authenticate for this sign-in, or earlier?"""
    assertion = case.assertion
    issued_at = assertion.issue_instant.moment if assertion and assertion.issue_instant else None
    for statement in assertion.authn_statements if assertion else ():
        instant = statement.authn_instant
        if not (issued_at and instant and instant.moment):
            continue
        earlier = issued_at - instant.moment
        if earlier.total_seconds() > limits.EARLIER_SESSION_SECONDS:
            yield finding(
                "earlier-session-used",
                say(
                    "The user had authenticated {earlier} before this message was issued: an open session at "
                    "the provider was used, no new authentication.",
                    earlier=show_duration(earlier),
                ),
                actual=show_moment(instant.moment),
                evidence=case.shown("AuthnInstant", instant),
            )


@check("still-valid")
def usable_now(case: SamlCase) -> Answer:
    """Could somebody who finds this capture still use it?"""
    if case.assertion is None:
        return
    ends = [window.end for window in windows(case) if window.end and window.end.moment]
    first = min(ends, key=_moment, default=None)
    if first and first.moment and case.now < first.moment:
        yield finding(
            "still-valid",
            say(
                "The assertion in this capture can still be used, for {moment} from now: handle it as a secret.",
                moment=show_duration(first.moment - case.now),
            ),
            actual=show_moment(first.moment),
            evidence=case.shown("NotOnOrAfter", first),
        )


def _moment(instant: Instant) -> datetime:
    assert instant.moment is not None
    return instant.moment


CHECKS = (
    begun,
    ended,
    issued,
    session,
    window_has_length,
    window_is_short,
    earlier_session,
    usable_now,
)
