"""What the token endpoint says of why it refused, in `error_description` (RFC 6749 §5.2): read where it names one
reason only, and where the capture does not show that very thing itself.
"""

from __future__ import annotations

import re
from collections.abc import Callable

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.oidc.answered import secret_finding
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Side
from trace_lens.common.kinds import quoted_at_end
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple

_GRANT = ("invalid_grant", "invalid_request")
_CLIENT = ("invalid_client", "unauthorized_client", "invalid_request")


class Reason(NamedTuple):
    """A finding that a description may name: by which errors, in which words, and what those mean.

    `shown` tells whether the capture shows the thing itself: then it is judged by that.
    """

    code: str
    errors: tuple[str, ...]
    words: re.Pattern[str]
    meaning: str
    shown: Callable[[OidcCase], bool]
    side: Side | None = None


def _shows_redemptions(case: OidcCase) -> bool:
    codes = [request.get("code") for request in case.attempt.code_requests if request.get("code")]
    return len(set(codes)) != len(codes)


def _redeems(case: OidcCase) -> bool:
    return any(request.get("code") for request in case.attempt.code_requests)


def _shows_verifier(case: OidcCase) -> bool:
    return case.asked("code_challenge") is not None and _redeems(case)


def _shows_redirect_uris(case: OidcCase) -> bool:
    return case.asked("redirect_uri") is not None and _redeems(case)


def _knows_secret(case: OidcCase) -> bool:
    found = secret_finding(case)
    return found is not None and found.breaks


REASONS = (
    Reason(
        "code-too-old",
        ("invalid_grant",),
        expression(r"expired|too old|too late|lifetime|timed? ?out", re.IGNORECASE),
        "The code was redeemed too late",
        _shows_redemptions,
    ),
    Reason(
        "code-reused",
        ("invalid_grant",),
        expression(
            r"\b(?:already|previously)(?: been)? (?:used|redeemed|consumed|exchanged)"
            r"|\bused (?:before|twice|again|more than once)|\bre-?used?\b|\b(?:redeemed|consumed) (?:before|twice)",
            re.IGNORECASE,
        ),
        "The code had been redeemed before",
        _shows_redemptions,
    ),
    Reason(
        "code-verifier-mismatch",
        _GRANT,
        expression(r"\bPKCE\b|code[_ ]?(?:verifier|challenge)", re.IGNORECASE),
        "The code verifier does not satisfy the provider",
        _shows_verifier,
    ),
    Reason(
        "redirect-uri-mismatch",
        _GRANT,
        expression(r"redirect(?:ion)?[_ -]?ur[il]", re.IGNORECASE),
        "The redirect URI of the token request is not the one that the code was given for",
        _shows_redirect_uris,
        Side.APPLICATION,
    ),
    Reason(
        "client-secret-expired",
        _CLIENT,
        expression(
            r"\b(?:secret|credential)s?\b.{0,40}\b(?:expired|ended|outdated)|\bexpired\b.{0,20}\bsecret", re.IGNORECASE
        ),
        "The client secret has ended",
        _knows_secret,
    ),
)
_OTHERS = expression(
    r"\brevoked\b|\binvalid\b|\bissued to another\b|\bdoes not match\b|\bmismatch\b|\bused\b|redeemed|consumed",
    re.IGNORECASE,
)
"""What else a description may name; beside a code that has expired it tells no single reason."""


@check(*(reason.code for reason in REASONS), requires=Need.MESSAGE)
def reason_told(case: OidcCase) -> Answer:
    """Does the token endpoint say why it refused?"""
    response = case.attempt.token_response
    error = response.get("error") if response else None
    words = response.get("error_description") if response else None
    if response is None or error is None or not words:
        return
    named = [reason for reason in REASONS if error in reason.errors and reason.words.search(words)]
    if len(named) != 1 or named[0].shown(case):
        return
    (reason,) = named
    if reason.code == "code-too-old" and _OTHERS.search(words):
        return
    yield finding(
        reason.code,
        say("{meaning}; the provider says: {quoted}", meaning=reason.meaning, quoted=quoted_at_end(words)),
        side=reason.side,
        evidence=[*case.parameter(response, "error_description"), *case.parameter(response, "error")],
    )


CHECKS = (reason_told,)
