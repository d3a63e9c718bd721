"""Admitted, as far as it is OpenID Connect's own: how long it lasts, and whether it could be renewed (RFC 6749 §6)."""

from __future__ import annotations

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.oidc.answered import described, shown_error
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.way.signs import shows_cookies
from trace_lens.common import limits
from trace_lens.common.findings import Allows, Side, Unchecked, lack
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.oidc import errors
from trace_lens.oidc.tokens import read_numeric_date


@check("refresh-refused", requires=Need.MESSAGE)
def renewal(case: OidcCase) -> Answer:
    """Was every renewal granted?"""
    if not case.attempt.renewals:
        yield Unchecked("refresh-refused", lack("no renewal is in this capture", Allows.RECORDING))
    for request, answer in case.attempt.renewals:
        code = answer.get("error") if answer else None
        if answer is None or code is None:
            continue
        meaning = errors.meaning_of(code)
        yield finding(
            "refresh-refused",
            say("The renewal was refused. {described}", described=described(answer, code))
            + (
                " The refresh token has ended, was used before, or the session was revoked."
                if code == "invalid_grant"
                else say(" The usual cause: {cause}.", cause=meaning.cause)
                if meaning
                else ""
            ),
            side=Side.USER if code == "invalid_grant" else Side.APPLICATION,
            remedy=None
            if code == "invalid_grant"
            else "Renew as the provider has the client registered: secret, grant type, scopes.",
            actual=code,
            evidence=[*shown_error(case, answer), *case.parameter(request, "grant_type")],
        )
    yield from _renewed_token(case)


def _renewed_token(case: OidcCase) -> Answer:
    """Is a renewed ID token about the same person and client (OpenID Connect Core 1.0 §12.2)?"""
    subject, token = case.subject, case.token
    for _, answer in case.attempt.renewals:
        renewed = next(
            (message for message in case.attempt.of("id-token") if answer and message.within is answer), None
        )
        if renewed is None or renewed.token is None or renewed is case.judged or subject is None or token is None:
            continue
        for name, was in (("sub", subject.value), ("iss", token.text("iss")), ("aud", " ".join(token.audience))):
            now = " ".join(renewed.token.audience) if name == "aud" else renewed.token.text(name)
            if now != was:
                yield finding(
                    "refresh-refused",
                    say(
                        "The renewed ID token has another {name} ({now}) than the first one ({was}): the "
                        "application must refuse it.",
                        name=name,
                        now=now,
                        was=was,
                    ),
                    side=Side.PROVIDER,
                    expected=was,
                    actual=now,
                    evidence=case.shown(renewed, name, (now or "not there",), Location(field=f"payload /{name}")),
                )
                return


@check("session-ends-early", requires=Need.MESSAGE)
def session_length(case: OidcCase) -> Answer:
    """Does the session last as long as people expect, or can it be renewed?"""
    response = case.attempt.token_response
    if response is None or response.get("error"):
        yield Unchecked("session-ends-early", lack("no token response is in this capture", Allows.SERVER_MESSAGE))
        return
    if not shows_cookies(case):
        yield Unchecked(
            "session-ends-early", lack("the capture shows no session cookie of the application", Allows.RECORDING)
        )
    if response.get("refresh_token"):
        return
    lasts = response.get("expires_in")
    token = case.token
    made, end = (token.at("iat"), token.at("exp")) if token else (None, None)
    asked = (case.asked("scope") or response.get("scope") or "").split()
    hint = "" if "offline_access" in asked else " (the scope offline_access was not asked for)" if asked else ""
    moment = read_numeric_date(lasts) if lasts else None
    seconds = float(lasts) if lasts and lasts.replace(".", "", 1).isdigit() and moment else None
    if seconds is not None and seconds < limits.SHORT_SESSION_SECONDS:
        told, actual, evidence = (
            say("The access token lasts {seconds} minutes", seconds=f"{seconds / 60:g}"),
            lasts,
            case.parameter(response, "expires_in"),
        )
    elif made and end and 0 < (end - made).total_seconds() < limits.SHORT_SESSION_SECONDS and seconds is None:
        told, actual, evidence = (
            say("The ID token lasts {end}", end=show_duration(end - made)),
            show_moment(end),
            case.of_token("exp", "exp"),
        )
    else:
        return
    yield finding(
        "session-ends-early",
        say(
            "{told}, and there is no refresh token{hint}: an application whose session goes by it "
            "asks the user again then.",
            told=told,
            hint=hint,
        ),
        side=Side.APPLICATION if hint else Side.PROVIDER,
        actual=actual,
        evidence=evidence,
    )


CHECKS = (
    renewal,
    session_length,
)
