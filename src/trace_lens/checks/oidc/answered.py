"""Answered: neither endpoint of the provider said no, and the ID token came (RFC 6749 §4.1.2.1, §5.2)."""

from __future__ import annotations

import re

from trace_lens.attempts.cookies import Cookie, Kept
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.way.cookies import kept_from_frame
from trace_lens.checks.way.ending import cookie_shown
from trace_lens.checks.way.parties import at_hop
from trace_lens.checks.way.topics import advice_by_words
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Evidence, Finding, Severity, Side
from trace_lens.common.kinds import quoted_at_end
from trace_lens.common.moments import MomentError, read_moment_or_date, show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.intake.exchanges import Exchange
from trace_lens.oidc import errors

_REGISTERED = (
    "Send the request as the provider has the client registered: client_id, redirect URI, scopes, response type."
)
_MAY_ASK = (
    "Start at the application with a sign-in that may ask: the request forbade the provider to ask anything "
    "(prompt=none)."
)
_CLIENT_ERRORS = ("invalid_client", "unauthorized_client", "access_denied")
_SECRET_WORDS = expression(r"secret|credential|authenticat", re.IGNORECASE)


def described(message: OidcMessage, code: str) -> str:
    """An error in words: the standard's meaning, and what the provider adds."""
    meaning = errors.meaning_of(code)
    words = (
        say("{code}: {meaning}", code=code, meaning=meaning.meaning)
        if meaning
        else say("{code}: a code of this provider's own", code=code)
    )
    adds = message.get("error_description")
    return say(
        "{words}.{words_2}",
        words=words,
        words_2=say(" It adds: {quoted}", quoted=quoted_at_end(adds)) if adds and adds.strip() else "",
    )


def shown_error(case: OidcCase, message: OidcMessage) -> list[Evidence]:
    """The error and its description as evidence."""
    return [item for name in ("error", "error_description", "error_uri") for item in case.parameter(message, name)]


@check("provider-refused", "request-rejected", "consent-missing", requires=Need.MESSAGE)
def authorization_error(case: OidcCase) -> Answer:
    """Did the authorization endpoint answer with an error? If so: what does it mean, and whose move is it?"""
    answer = case.attempt.answer
    code = answer.get("error") if answer else None
    if answer is None or code is None:
        return
    meaning = errors.meaning_of(code)
    consent = case.app.settings.provider_setup.consent if case.app else None
    if code == "consent_required" or (code in ("interaction_required", "access_denied") and consent == "none"):
        asked = case.asked("scope")
        yield finding(
            "consent-missing",
            say("The provider asks for consent that nobody has given. {described}", described=described(answer, code))
            + (say(" The scopes asked for: {asked}.", asked=asked) if asked else ""),
            actual=code,
            value_to_set=asked,
            evidence=[*shown_error(case, answer), *case.parameter(case.attempt.request, "scope")],
        )
        return
    usual = say(" The usual cause: {cause}.", cause=meaning.cause) if meaning else ""
    framed = kept_from_frame(case) if meaning and meaning.silent else None
    if framed:
        yield _in_a_frame(case, answer, code, *framed)
        return
    advice = advice_by_words(answer.get("error_description"))
    rejects = bool(meaning and meaning.rejects_request) or code == "invalid_client"  # no client authenticates here
    yield finding(
        "request-rejected" if rejects else "provider-refused",
        say(
            "The provider answered with an error instead of a code or token. {described}{usual}",
            described=described(answer, code),
            usual=usual,
        ),
        side=Side(meaning.side) if meaning else Side.PROVIDER,
        remedy=_REGISTERED
        if meaning and rejects and meaning.side == Side.APPLICATION
        else _MAY_ASK
        if meaning and meaning.silent and case.asked("prompt") == "none"
        else advice[0]
        if advice
        else None,
        actual=code,
        evidence=shown_error(case, answer),
    )


def _in_a_frame(
    case: OidcCase, answer: OidcMessage, code: str, cookie: Cookie, kept: Kept | None, exchange: Exchange
) -> Finding:
    """A silent request in a frame, to which the provider's own session cookie did not go: it cannot know the user."""
    why = (
        say("{reason}", reason=kept.reason)
        if kept
        else "nothing in its attributes keeps it back: the browser sends no cookies into a frame of another site"
    )
    return finding(
        "provider-refused",
        say(
            "The renewal in a frame failed: the provider's cookie {cookie_name} was not sent, so it "
            "saw no session. {upper}{why}. {described}",
            cookie_name=cookie.name,
            upper=why[:1].upper(),
            why=why[1:],
            described=described(answer, code),
        ),
        side=Side.PROVIDER if kept else Side.APPLICATION,
        actual=code,
        value_to_set=kept.set_to if kept else None,
        remedy="Set the provider's session cookie with these attributes, so that browsers send it into a frame."
        if kept and kept.set_to
        else kept.advice
        if kept
        else "Renew with a refresh token instead of a frame, or let provider and application be of one site.",
        evidence=[
            *shown_error(case, answer),
            *cookie_shown(case, cookie),
            at_hop(case, "request in the frame", exchange.plain_url, exchange),
        ],
        compared=False,
    )


@check("token-request-refused", requires=Need.MESSAGE)
def token_error(case: OidcCase) -> Answer:
    """Did the token endpoint answer with an error?"""
    for answer in _token_answers(case):
        code = answer.get("error")
        if code is None:
            continue
        meaning = errors.meaning_of(code)
        usual = say(" The usual cause: {cause}.", cause=meaning.cause) if meaning else ""
        yield finding(
            "token-request-refused",
            say(
                "The token endpoint refused the application's request. {described}{usual}",
                described=described(answer, code),
                usual=usual,
            ),
            side=Side.BOTH if code == "invalid_client" else Side(meaning.side) if meaning else None,
            remedy=errors.TO_REDEEM.get(code),
            actual=code,
            evidence=shown_error(case, answer),
        )
        return


def _token_answers(case: OidcCase) -> list[OidcMessage]:
    """The token responses that answer a code, not a renewal."""
    renewing = [id(answer) for _, answer in case.attempt.renewals if answer]
    return [message for message in case.attempt.of("token-response") if id(message) not in renewing]


@check("token-missing", requires=Need.MESSAGE)
def token_there(case: OidcCase) -> Answer:
    """Does the answer hold an ID token (OpenID Connect Core 1.0 §3.1.3.3)?"""
    response = case.attempt.token_response
    kinds = (case.asked("response_type") or "").split()
    if response is None:
        response = case.attempt.answer if "id_token" in kinds else None
    if response is None or response.get("error") or response.get("request_uri") or response.get("id_token"):
        return
    grants = [request.get("grant_type") for request in case.attempt.code_requests]
    if case.judged is not None or "client_credentials" in grants:
        return
    asked = (case.asked("scope") or "").split() or list(case.app.settings.application.oidc.scopes if case.app else ())
    without = bool(asked) and "openid" not in asked
    why = say(" The scope openid was not asked for ({asked}).", asked=" ".join(asked)) if without else ""
    yield finding(
        "token-missing",
        say("The provider answered without an ID token, so nothing says who signed in.{why}", why=why),
        side=Side.APPLICATION if without else Side.PROVIDER,
        expected="id_token",
        actual=", ".join(sorted(response.parameters.names if response.parameters else response.document)),
        value_to_set=" ".join(["openid", *asked]) if without else None,
        remedy=None if without else "Let the client have ID tokens: set it up for OpenID Connect, not for OAuth alone.",
        evidence=[*case.parameter(response, "scope"), *case.parameter(case.attempt.request, "scope")],
        compared=False,
    )


@check("client-secret-expired", "client-secret-expiring", requires=Need.MESSAGE)
def secret(case: OidcCase) -> Answer:
    """Had the client's secret ended, or does it end soon?"""
    found = secret_finding(case)
    if found:
        yield found


def secret_finding(case: OidcCase) -> Finding | None:
    """What the end of the client's secret means for the attempt; a break where a request was refused for the client."""
    app = case.app
    told = app.settings.application.oidc.secret_expires if app else None
    if app is None or told is None:
        return None
    try:
        ends = read_moment_or_date(str(told))
    except MomentError:
        return None
    at = (case.at or case.now).replace(microsecond=0)
    evidence = [case.set_in_app("secret_expires", str(told), "application", "secret_expires")]
    if at < ends:
        if ends - at > app.warn_before:
            return None
        return finding(
            "client-secret-expiring",
            say(
                "The client secret of {app_name} ends in {ends} ({ends_2}).",
                app_name=app.name,
                ends=show_duration(ends - at),
                ends_2=show_moment(ends),
            ),
            actual=show_moment(ends),
            evidence=evidence,
            compared=False,
        )
    refused = [message for message in case.attempt.of("token-response") if message.get("error")]
    blamed = [message for message in refused if _blames_client(message)]
    entry = finding(
        "client-secret-expired",
        say(
            "The client secret of {app_name} ended {ends}, {at} before ",
            app_name=app.name,
            ends=show_moment(ends),
            at=show_duration(at - ends),
        )
        + ("the attempt" if case.at else "today (nothing tells the moment of the attempt)")
        + (
            say(", and the token endpoint said {get}.", get=blamed[0].get("error"))
            if blamed
            else "; yet nothing was refused here."
        ),
        expected=f"after {show_moment(at)}",
        actual=show_moment(ends),
        evidence=[*evidence, *(item for message in blamed for item in shown_error(case, message))],
        compared=False,
    )
    return entry if blamed else entry._replace(severity=Severity.RISK)


def _blames_client(message: OidcMessage) -> bool:
    code = message.get("error")
    return code in _CLIENT_ERRORS or bool(
        code == "invalid_request" and _SECRET_WORDS.search(message.get("error_description") or "")
    )


CHECKS = (
    authorization_error,
    token_error,
    token_there,
    secret,
)
