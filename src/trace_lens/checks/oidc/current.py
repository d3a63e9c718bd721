"""Current: the moment of the attempt lies in the token's time window, and the authentication is recent enough.

Windows are half open: expired when at ≥ exp + skew, not yet valid when at < nbf − skew (RFC 7519 §4.1.4, §4.1.5).
"""

from __future__ import annotations

import operator
from datetime import timedelta
from functools import partial

from trace_lens.checks.checking import Answer, check
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.way.clocks import clock_to_set
from trace_lens.common import limits
from trace_lens.common.findings import Unchecked
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say

_UNSEEN = "the capture does not tell when the token arrived; judged as of the moment it was issued"
_DIGITS = 9
"""Most digits of a number of seconds that is asked for."""
_NO_MOMENT = "nothing tells the moment of the attempt"
_TO_THE_SECOND = "the moment is known to the second only, and the window ended within it"


@check("not-yet-valid")
def begun(case: OidcCase) -> Answer:
    """Had the token's time begun?"""
    start = case.token.at("nbf") if case.token else None
    if case.at is None:
        yield Unchecked("not-yet-valid", _NO_MOMENT)
        return
    if case.at_from == "message":
        yield Unchecked("not-yet-valid", _UNSEEN)
    if start and (case.latest or case.at) < start - case.skew:
        side, remedy = clock_to_set(case, partial(operator.le, start - case.skew)) or (None, None)
        yield finding(
            "not-yet-valid",
            say(
                "The token becomes valid only {start} after the attempt (with {skew} of clock skew "
                "allowed); one of the two clocks is wrong.",
                start=show_duration(start - case.at),
                skew=show_duration(case.skew),
            ),
            side=side,
            remedy=remedy,
            expected=f"not before {show_moment(start)}",
            actual=show_moment(case.at),
            evidence=case.of_token("nbf", "nbf"),
            compared=False,
        )


@check("expired")
def ended(case: OidcCase) -> Answer:
    """Was the token still good?"""
    end = case.token.at("exp") if case.token else None
    if case.at is None:
        yield Unchecked("expired", _NO_MOMENT)
        return
    if case.at_from == "message":
        yield Unchecked("expired", _UNSEEN)
    if end and case.at < end + case.skew <= (case.latest or case.at):
        yield Unchecked("expired", _TO_THE_SECOND)
    if end and case.at >= end + case.skew:
        side, remedy = clock_to_set(case, partial(operator.gt, end + case.skew)) or (None, None)
        yield finding(
            "expired",
            say(
                "The token ended {at} before the attempt (with {skew} of clock skew allowed).",
                at=show_duration(case.at - end),
                skew=show_duration(case.skew),
            ),
            side=side,
            remedy=remedy,
            expected=f"before {show_moment(end)}",
            actual=show_moment(case.at),
            evidence=case.of_token("exp", "exp"),
            compared=False,
        )


@check("issued-in-future")
def issued(case: OidcCase) -> Answer:
    """Was it issued before it arrived?"""
    made = case.token.at("iat") if case.token else None
    if case.at and made and made > (case.latest or case.at) + case.skew:
        yield finding(
            "issued-in-future",
            say(
                "It says that it was issued {made} after the attempt: the clock of the provider is "
                "ahead, or that of the application behind.",
                made=show_duration(made - case.at),
            ),
            expected=f"not after {show_moment(case.at)}",
            actual=show_moment(made),
            evidence=case.of_token("iat", "iat"),
            compared=False,
        )


@check("window-empty", "validity-too-long")
def window(case: OidcCase) -> Answer:
    """Does the token's time end after it begins, and not too long after?"""
    token = case.token
    start = (token.at("nbf") or token.at("iat")) if token else None
    end = token.at("exp") if token else None
    if not (start and end):
        return
    if end <= start:
        yield finding(
            "window-empty",
            say(
                "The token ends {end}, which is not after its beginning {start}: there is no moment at "
                "which it is valid.",
                end=show_moment(end),
                start=show_moment(start),
            ),
            expected=f"after {show_moment(start)}",
            actual=show_moment(end),
            evidence=[*case.of_token("iat", "iat"), *case.of_token("exp", "exp")],
            compared=False,
        )
    elif end - start > case.longest_validity:
        yield finding(
            "validity-too-long",
            say(
                "The token is valid for {end}; the limit here is {longest_validity}.",
                end=show_duration(end - start),
                longest_validity=show_duration(case.longest_validity),
            ),
            expected=f"at most {show_duration(case.longest_validity)}",
            actual=show_duration(end - start),
            evidence=case.of_token("exp", "exp"),
            compared=False,
        )


def longest_age(case: OidcCase) -> tuple[timedelta | None, bool]:
    """How old an authentication may be, and whether the request said so: as asked, else as set."""
    asked = case.asked("max_age")
    if asked is not None and asked.isdigit() and len(asked) <= _DIGITS:
        return timedelta(seconds=int(asked)), True
    return (case.app.settings.application.oidc.max_age if case.app else None), False


@check("authentication-time-missing", "authentication-too-old")
def authentication(case: OidcCase) -> Answer:
    """Did the user authenticate recently enough (OpenID Connect Core 1.0 §3.1.2.1, §3.1.3.7)?"""
    token = case.token
    longest, asked = longest_age(case)
    anew = "login" in (case.asked("prompt") or "").split()
    if token is None or (longest is None and not anew):
        return
    demanded = (
        case.parameter(case.attempt.request, "max_age" if asked else "prompt")
        if asked or (anew and longest is None)
        else [case.set_in_app("max_age", show_duration(longest or timedelta()), "application", "max_age")]
    )
    when = token.at("auth_time")
    if when is None:
        if longest is not None:
            yield finding(
                "authentication-time-missing",
                say(
                    "The authentication may be at most {longest} old, and the token does not say when it was "
                    "(auth_time).",
                    longest=show_duration(longest),
                ),
                expected="auth_time",
                evidence=[*demanded, *case.of_token("iat", "iat")],
            )
        return
    at = token.at("iat") or case.at
    if at is None:
        return
    age = at - when
    if longest is not None and age > longest + case.skew:
        why = say("it may be at most {longest} old", longest=show_duration(longest))
    elif anew and age.total_seconds() > limits.EARLIER_SESSION_SECONDS:
        why = "the request asked to authenticate anew (prompt=login)"
    else:
        return
    yield finding(
        "authentication-too-old",
        say("The user had authenticated {age} before the token was issued; {why}.", age=show_duration(age), why=why),
        expected=show_duration(longest) if longest is not None else "a new authentication",
        actual=show_duration(age),
        evidence=[*case.of_token("auth_time", "auth_time"), *demanded],
        compared=False,
    )


@check("earlier-session-used")
def earlier_session(case: OidcCase) -> Answer:
    """Did the user authenticate for this sign-in, or earlier?"""
    token = case.token
    made, when = (token.at("iat"), token.at("auth_time")) if token else (None, None)
    if made and when and (made - when).total_seconds() > limits.EARLIER_SESSION_SECONDS:
        yield finding(
            "earlier-session-used",
            say(
                "The user had authenticated {made} before this token was issued: an open session at the "
                "provider was used, no new authentication.",
                made=show_duration(made - when),
            ),
            actual=show_moment(when),
            evidence=case.of_token("auth_time", "auth_time"),
        )


@check("still-valid")
def usable_now(case: OidcCase) -> Answer:
    """Could somebody who finds this capture still use it?"""
    end = case.token.at("exp") if case.token else None
    if end and case.now < end:
        yield finding(
            "still-valid",
            say(
                "The token in this capture can still be used, for {end} from now: handle it as a secret.",
                end=show_duration(end - case.now),
            ),
            actual=show_moment(end),
            evidence=case.of_token("exp", "exp"),
        )


CHECKS = (
    begun,
    ended,
    issued,
    window,
    authentication,
    earlier_session,
    usable_now,
)
