"""Sign-outs: logout tokens and logout requests, judged by themselves and held against the sign-in that they end.

Beside a sign-in in the same capture nothing here breaks that sign-in. Sources: OpenID Connect Back-Channel Logout 1.0
§2.4 to §2.6; Front-Channel Logout 1.0 §2; RP-Initiated Logout 1.0 §2.
"""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import differs
from trace_lens.checks.oidc.case import OidcCase, values_of
from trace_lens.checks.oidc.signatures import SIGNED_OTHERWISE
from trace_lens.checks.oidc.verified import KNOWN, TRUSTED, judge
from trace_lens.common.findings import Allows, Evidence, Severity, Side, Unchecked, lack
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.oidc.tokens import LOGOUT_EVENT, Token

_UNMATCHED = "sign-out-unmatched"


def _tokens(case: OidcCase) -> Iterator[tuple[OidcMessage, Token]]:
    for message in case.attempt.sign_outs:
        if message.token:
            yield message, message.token


def _severity(case: OidcCase) -> Severity:
    return Severity.RISK if case.attempt.kind == "answer" else Severity.BREAK


def _of(case: OidcCase, message: OidcMessage, token: Token, name: str) -> list[Evidence]:
    return case.shown(message, name, values_of(token.claims.get(name, "not there")), Location(field=f"payload /{name}"))


@check("malformed-message", requires=Need.SIGN_OUT)
def form(case: OidcCase) -> Answer:
    """Does a logout token hold what it must, and nothing that it must not (Back-Channel Logout 1.0 §2.4)?"""
    for message, token in _tokens(case):
        claims = token.claims
        wrong = [f"it has no {name}" for name in ("iss", "aud", "iat", "exp", "jti") if name not in claims]
        if "sub" not in claims and "sid" not in claims:
            wrong.append("it names neither a subject (sub) nor a session (sid)")
        events = claims.get("events")
        if not isinstance(events, dict) or LOGOUT_EVENT not in events:
            wrong.append("its events claim does not say logout")
        if "nonce" in claims:
            wrong.append("it holds a nonce, which it must not")
        if wrong:
            yield finding(
                "malformed-message",
                say("The logout token has the wrong form: {wrong}.", wrong="; ".join(wrong)),
                severity=_severity(case),
                side=Side.PROVIDER,
                evidence=_of(case, message, token, "events"),
            )


@check("algorithm-none", "signature-value-invalid", requires=Need.SIGN_OUT)
def signed(case: OidcCase) -> Answer:
    """Is the logout token signed by the provider's key (Back-Channel Logout 1.0 §2.6)?"""
    for message, token in _tokens(case):
        jws = token.jws
        header = case.shown(message, "alg", (jws.algorithm,), Location(field="header /alg"))
        if jws.algorithm.strip().casefold() == "none":
            yield finding(
                "algorithm-none",
                "The logout token is not signed: anybody could sign people out with it.",
                severity=_severity(case),
                actual=jws.algorithm,
                evidence=header,
            )
            continue
        verdict = judge(jws, case.provider, case.workspace)
        if not verdict.keys:
            yield Unchecked("signature-value-invalid", "no key of the provider is on record", decides=True)
        elif verdict.standing != TRUSTED:
            known = verdict.key if verdict.standing == KNOWN else None
            fits = say("{known_words} fits it", known_words=known.words) if known else ""
            yield finding(
                "signature-value-invalid",
                "No key of the provider verifies the logout token" + (say("; {fits}.", fits=fits) if fits else "."),
                severity=_severity(case),
                side=Side.PROVIDER,
                remedy=SIGNED_OTHERWISE,
                evidence=[
                    *header,
                    *case.shown(message, "kid", (jws.key_id or "not there",), Location(field="header /kid")),
                ],
            )


@check("issuer-mismatch", requires=Need.SIGN_OUT)
def from_provider(case: OidcCase) -> Answer:
    """Is the sign-out from the provider that the application trusts?"""
    expected = case.expected_issuer
    for message in case.attempt.sign_outs:
        came = message.get("iss")
        severity = differs(expected, came) if expected and came else None
        if severity and expected and came:
            yield finding(
                "issuer-mismatch",
                say("The sign-out is from {came}; the application trusts {expected}.", came=came, expected=expected),
                severity=Severity.RISK if case.attempt.kind == "answer" else severity,
                expected=expected,
                actual=came,
                evidence=case.shown(
                    message,
                    "iss",
                    (came,),
                    Location(field="payload /iss") if message.token else Location(field="parameter iss"),
                ),
            )


@check("audience-mismatch", requires=Need.SIGN_OUT)
def for_client(case: OidcCase) -> Answer:
    """Is the logout token made out to this client?"""
    expected = case.client_id
    if case.supposed.get("provider_setup.client_id") == expected:
        return
    for message, token in _tokens(case):
        if expected and token.audience and expected not in token.audience:
            yield finding(
                "audience-mismatch",
                say(
                    "The logout token is made out to {audience}; the application is {expected}.",
                    audience=", ".join(token.audience),
                    expected=expected,
                ),
                severity=_severity(case),
                remedy="Issue logout tokens for the client_id that the application has.",
                expected=expected,
                actual=token.audience[0],
                value_to_set=expected,
                evidence=_of(case, message, token, "aud"),
            )


@check("expired", requires=Need.SIGN_OUT)
def in_time(case: OidcCase) -> Answer:
    """Was the logout token still good?"""
    for message, token in _tokens(case):
        end = token.at("exp")
        if case.at and end and case.at >= end + case.skew:
            yield finding(
                "expired",
                say("The logout token ended {at} before.", at=show_duration(case.at - end)),
                severity=_severity(case),
                expected=f"before {show_moment(end)}",
                actual=show_moment(case.at),
                evidence=_of(case, message, token, "exp"),
                compared=False,
            )


@check(_UNMATCHED, requires=Need.SIGN_OUT)
def session_known(case: OidcCase) -> Answer:
    """Does the sign-out name the session or subject of the sign-in?"""
    token = case.token
    if token is None or case.attempt.kind == "sign-out":
        yield Unchecked(_UNMATCHED, lack("the sign-in that it ends is not in this capture", Allows.RECORDING))
        return
    for message in case.attempt.sign_outs:
        sid, sub = message.get("sid"), message.get("sub")
        for name, named in (("sid", sid), ("sub", sub)):
            known = token.text(name)
            if named is None or named == known:
                continue
            yield finding(
                _UNMATCHED,
                say(
                    "The sign-out names the {words} {named}; the sign-in was ",
                    words="session" if name == "sid" else "subject",
                    named=named,
                )
                + (
                    say("{known}.", known=known)
                    if known
                    else say("without a {name}, so the application cannot know it.", name=name)
                ),
                remedy="Keep subject and session (sid) of each sign-in, and end the session that a sign-out names.",
                expected=known,
                actual=named,
                evidence=[
                    *case.shown(
                        message,
                        name,
                        (named,),
                        Location(field=f"payload /{name}") if message.token else Location(field=f"parameter {name}"),
                    ),
                    *(case.of_token(name, name) if known else ()),
                ],
            )
            break


@check(_UNMATCHED, requires=Need.SIGN_OUT)
def front_channel(case: OidcCase) -> Answer:
    """Does a sign-out through the browser name its session, or carry the ID token as a hint?"""
    for message in case.attempt.of("logout-request"):
        given = message.parameters
        if given is None:
            continue
        by_application = bool(given.get("post_logout_redirect_uri") or given.get("id_token_hint"))
        if (
            by_application
            and given.get("post_logout_redirect_uri")
            and not (given.get("id_token_hint") or given.get("client_id"))
        ):
            yield finding(
                _UNMATCHED,
                "The logout request names an address to come back to, but neither the ID token (id_token_hint) nor the "
                "client, so the provider cannot know whose session it is and need not come back.",
                side=Side.APPLICATION,
                remedy="Send the ID token of the sign-in along, as id_token_hint.",
                expected="id_token_hint",
                evidence=case.parameter(message, "post_logout_redirect_uri"),
            )


CHECKS = (
    form,
    signed,
    from_provider,
    for_client,
    in_time,
    session_known,
    front_channel,
)
