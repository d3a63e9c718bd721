"""Delivered: the answer came to the address asked for, in the way asked for, and belongs to the request.

Sources: OpenID Connect Core 1.0 §3.1.2; RFC 6749 §4.1; RFC 7636 §4.6; RFC 8252 §7.3; RFC 9207 §2.4; OAuth 2.0 Multiple
Response Type Encoding Practices; OAuth 2.0 Form Post Response Mode 1.0.
"""

from __future__ import annotations

import re

from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.oidc.redirected import at_address
from trace_lens.checks.way.parties import return_hop
from trace_lens.common.addresses import parts_of
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Allows, Evidence, Finding, Severity, Side, Unchecked, lack
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.oidc.tokens import code_challenge

_PKCE_WORDS = expression(r"pkce|code.?challenge|proof key", re.IGNORECASE)
_WAYS = {"query": "in the query", "fragment": "in the fragment", "form": "as a form post"}


@check("wrong-binding", requires=Need.MESSAGE)
def response_mode(case: OidcCase) -> Answer:
    """Did the answer come in the way that was asked for?"""
    answer = case.attempt.answer
    carried = answer.parameters.carried if answer and answer.parameters else None
    if answer is None or carried not in _WAYS:
        return
    told = case.app.settings.application if case.app else None
    kinds = (case.asked("response_type") or (told.oidc.response_type if told else None) or "").split()
    mode = case.asked("response_mode") or (told.oidc.response_mode if told else None)
    tokens = bool({"id_token", "token"} & set(kinds)) or bool(answer.get("id_token") or answer.get("access_token"))
    wanted = {"form_post": "form"}.get(mode or "", mode) or ("fragment" if tokens else "query" if kinds else None)
    if wanted not in _WAYS or (mode is None and carried == "form" and case.request is None):
        return
    if carried == wanted == "fragment" and not tokens and _server_refused(case):
        yield _unseen_by_server(case, answer)
    if carried != wanted:
        how = mode or say("the default of response_type {kinds}", kinds=" ".join(kinds))
        yield finding(
            "wrong-binding",
            say(
                "The answer was to come {WAYS} ({how}); it came {WAYS_2}.",
                WAYS=_WAYS[wanted],
                how=how,
                WAYS_2=_WAYS[carried],
            ),
            side=Side.PROVIDER if case.asked("response_mode") else Side.APPLICATION,
            remedy="Send the answer in the way that response_mode of the request names."
            if case.asked("response_mode")
            else say(
                "Name the way in the request: response_mode={mode}.", mode={"form": "form_post"}.get(wanted, wanted)
            ),
            expected=mode or wanted,
            actual={"form": "form_post"}.get(carried, carried),
            value_to_set={"form": "form_post"}.get(wanted, wanted),
            evidence=[
                Evidence("carried", _WAYS[carried], answer.source, answer.place, exchange=answer.exchange),
                *case.parameter(case.attempt.request, "response_mode"),
            ],
            compared=False,
        )


def _server_refused(case: OidcCase) -> bool:
    """Whether the application's server itself answered, with an error, where the answer was sent in a fragment.

    A page that redeems its code by itself reads the fragment, whatever status its host gives it.
    """
    back = return_hop(case)
    return back is not None and back.exchange.status >= 400 and not case.attempt.code_requests


def _unseen_by_server(case: OidcCase, answer: OidcMessage) -> Finding:
    return finding(
        "wrong-binding",
        "The answer was asked for, and sent, in the fragment: what stands after # in an address never reaches a "
        "server, and it is a server that answered here.",
        side=Side.APPLICATION,
        remedy="Ask for the answer in the query, or by form_post (response_mode).",
        expected="query",
        actual="fragment",
        value_to_set="query",
        evidence=[
            Evidence("carried", _WAYS["fragment"], answer.source, answer.place, exchange=answer.exchange),
            *case.parameter(case.attempt.request, "response_mode"),
        ],
        compared=False,
    )


@check("state-mismatch", requires=Need.MESSAGE)
def state(case: OidcCase) -> Answer:
    """Did the state come back that was sent?"""
    answer = case.attempt.answer
    if answer is None or not (case.request or case.attempt.request_object):
        missing = "the authorization request" if answer else "the authorization answer"
        yield Unchecked("state-mismatch", lack(f"{missing} is not in this capture", Allows.RECORDING))
        return
    sent, came = case.asked("state"), answer.get("state")
    if sent is None:
        return
    if came != sent:
        yield finding(
            "state-mismatch",
            "The answer brings another state than the one sent: it answers another request, or is a forgery."
            if came
            else "The answer brings no state, though one was sent.",
            side=Side.APPLICATION if came else Side.PROVIDER,
            remedy=None if came else "Send the state of the request back with the answer.",
            expected=sent,
            actual=came,
            evidence=[*case.parameter(answer, "state"), *case.parameter(case.attempt.request, "state")],
            compared=False,
        )


@check("state-missing", requires=Need.REQUEST)
def state_sent(case: OidcCase) -> Answer:
    """Was a state sent (RFC 6749 §10.12)?"""
    if case.asked("state") is None and case.asked("request_uri") is None:
        yield finding(
            "state-missing",
            "The authorization request carries no state, so nothing ties the answer to this browser.",
            evidence=case.parameter(case.attempt.request, "client_id"),
        )


@check("nonce-mismatch", requires=Need.ASSERTION)
def nonce(case: OidcCase) -> Answer:
    """Does the ID token repeat the nonce that was sent (OpenID Connect Core 1.0 §3.1.3.7, point 11)?"""
    if not (case.request or case.attempt.request_object):
        yield Unchecked("nonce-mismatch", lack("the authorization request is not in this capture", Allows.RECORDING))
        return
    sent = case.asked("nonce")
    came = case.token.text("nonce") if case.token else None
    if sent == came or (case.asked("request_uri") and sent is None):
        return
    words = (
        "The ID token holds no nonce, though one was sent."
        if came is None
        else "The ID token holds a nonce, though none was sent."
        if sent is None
        else "The ID token holds another nonce than the one sent: it answers another request, or was used before."
    )
    yield finding(
        "nonce-mismatch",
        words,
        severity=Severity.RISK if sent is None else None,
        side=Side.PROVIDER if came is None else Side.APPLICATION,
        remedy="Put the nonce of the request into the ID token." if came is None else None,
        expected=sent,
        actual=came,
        evidence=[*case.of_token("nonce", "nonce"), *case.parameter(case.attempt.request, "nonce")],
        compared=False,
    )


@check("code-verifier-mismatch", requires=Need.MESSAGE)
def verifier(case: OidcCase) -> Answer:
    """Does the code verifier hash to the challenge (RFC 7636 §4.6)?"""
    requests = [request for request in case.attempt.code_requests if request.get("code")]
    challenge = case.asked("code_challenge")
    if not requests or challenge is None:
        return
    method = case.asked("code_challenge_method") or "plain"
    for request in requests:
        given = request.get("code_verifier")
        hashed = None if given is None else code_challenge(given) if method == "S256" else given
        if hashed == challenge:
            continue
        why = (
            "The token request carries no code_verifier, though the authorization request carried a challenge."
            if given is None
            else say(
                "The code verifier does not fit the challenge ({method}): its challenge would be {hashed}.",
                method=method,
                hashed=hashed,
            )
            if code_challenge(given) != challenge
            else say(
                "The verifier fits by S256, but the authorization request said the method is {method}.", method=method
            )
        )
        yield finding(
            "code-verifier-mismatch",
            why,
            expected=challenge,
            actual=hashed if method == "S256" else None,
            evidence=[
                *case.parameter(request, "code_verifier"),
                *case.parameter(case.attempt.request, "code_challenge"),
                *case.parameter(case.attempt.request, "code_challenge_method"),
            ],
            compared=False,
        )
        return


@check("code-challenge-missing", requires=Need.REQUEST)
def challenge_sent(case: OidcCase) -> Answer:
    """Was a code challenge sent, where one is asked for (RFC 7636 §4.3)?"""
    kinds = (case.asked("response_type") or "code").split()
    if "code" not in kinds or case.asked("request_uri"):
        return
    method = case.asked("code_challenge_method") or "plain"
    challenge = case.asked("code_challenge")
    if challenge and method == "S256":
        return
    error = case.error
    refused = bool(error and _PKCE_WORDS.search(error[0].get("error_description") or ""))
    client = case.app.settings.application.oidc if case.app else None
    public = bool(client and client.public and client.requires_pkce is None)
    wanted = bool(client and client.requires_pkce) or public
    useless = [request for request in case.attempt.code_requests if challenge is None and request.get("code_verifier")]
    if not refused and not wanted and not useless:
        return
    key = "public" if public else "requires_pkce"
    yield finding(
        "code-challenge-missing",
        ("No code challenge was sent" if challenge is None else "The code challenge was sent plain, not hashed")
        + (
            ", and the provider refused that."
            if refused
            else ", and a public client has nothing else that shows that the code is its own."
            if public
            else ", though the settings ask for it."
            if wanted
            else ", though the token request carries a verifier: there is nothing that it proves."
        ),
        severity=Severity.BREAK if refused else Severity.RISK,
        expected="S256",
        actual=None if challenge is None else method,
        value_to_set="S256",
        evidence=[
            *case.parameter(case.attempt.request, "code_challenge_method"),
            *(case.parameter(error[0], "error_description") if error and refused else ()),
            *([case.set_in_app(key, "true", "application", key)] if wanted else ()),
            *(item for message in useless for item in case.parameter(message, "code_verifier")),
        ],
        compared=False,
    )


@check("response-issuer-mismatch", requires=Need.MESSAGE)
def response_issuer(case: OidcCase) -> Answer:
    """Does the answer name the provider that was asked (RFC 9207 §2.4)?"""
    answer = case.attempt.answer
    expected = case.expected_issuer
    if answer is None or expected is None:
        return
    came = case.response_issuer
    promised = bool(
        case.provider and case.provider.discovery.get("authorization_response_iss_parameter_supported") is True
    )
    if came == expected or (came is None and not promised):
        return
    yield finding(
        "response-issuer-mismatch",
        say("The answer says that it is from {came}; asked was {expected}.", came=came, expected=expected)
        if came
        else "The answer has no iss, which this provider says it always sends: it may be from another provider.",
        severity=Severity.BREAK if came else Severity.RISK,
        expected=expected,
        actual=came,
        evidence=case.parameter(answer, "iss")
        or [Evidence("iss", "not there", answer.source, answer.place, exchange=answer.exchange)],
    )


@check("code-reused", requires=Need.MESSAGE)
def code_once(case: OidcCase) -> Answer:
    """Was the code redeemed once only (RFC 6749 §4.1.2)?"""
    requests = [request for request in case.attempt.code_requests if request.get("code")]
    codes = [request.get("code") for request in requests]
    for position, code in enumerate(codes):
        if code in codes[:position]:
            yield finding(
                "code-reused",
                say(
                    "The same authorization code was redeemed {count} times; it is good for once.",
                    count=codes.count(code),
                ),
                evidence=[item for request in requests for item in case.parameter(request, "code")],
            )
            break


@check("identifier-in-request-unknown", requires=Need.REQUEST)
def client_known(case: OidcCase) -> Answer:
    """Is the client_id of the request the one that the provider has?"""
    app = case.app
    sent = case.asked("client_id")
    if app is None or sent is None:
        return
    set_up = app.settings.provider_setup.client_id
    expected = set_up or app.settings.application.oidc.client_id
    if expected and sent != expected:
        table = "provider_setup" if set_up else "application"
        yield finding(
            "identifier-in-request-unknown",
            say("{app_name} calls itself {sent}; ", app_name=app.name, sent=sent)
            + (
                say("the provider knows it as {expected}.", expected=expected)
                if set_up
                else say("set is {expected}.", expected=expected)
            ),
            side=Side.APPLICATION,
            expected=expected,
            actual=sent,
            value_to_set=expected,
            evidence=[
                *case.parameter(case.attempt.request, "client_id"),
                case.set_in_app("client_id", expected, table, "client_id"),
            ],
        )


@check("request-unsigned", requires=Need.REQUEST)
def request_signed(case: OidcCase) -> Answer:
    """Does the provider want a signed request, and is this one (RFC 9101 §10.5)?"""
    wants = bool(case.provider and case.provider.discovery.get("require_signed_request_object") is True)
    signed = case.attempt.request_object
    alone = signed is None and case.asked("request_uri") is None
    if not wants or not (alone or (signed and signed.jws.algorithm.casefold() == "none")):
        return
    refused = bool(case.error)
    yield finding(
        "request-unsigned",
        "The provider's discovery document demands signed requests; this one is not signed.",
        remedy="Send a signed request object, and give the provider the key that verifies it.",
        severity=Severity.BREAK if refused else Severity.RISK,
        side=Side.APPLICATION,
        evidence=case.parameter(case.attempt.request, "client_id"),
    )


@check("insecure-transport", requires=Need.MESSAGE)
def over_https(case: OidcCase) -> Answer:
    """Does the answer travel over https?"""
    answer = case.attempt.answer
    address = answer.parameters.address if answer and answer.parameters else None
    if answer is None or not address or case.attempt.way:
        return
    parts = parts_of(address)
    host = parts.hostname or ""
    if parts.scheme == "http" and not (host in ("localhost", "::1") or host.startswith("127.")):
        yield finding(
            "insecure-transport",
            say("The answer came over http to {host}: who listens on the way can take the code or token.", host=host),
            actual=address,
            value_to_set=parts._replace(scheme="https").geturl(),
            evidence=at_address(answer, address),
        )


@check("credentials-in-clear", requires=Need.NOTHING)
def secrets_out_of_addresses(case: OidcCase) -> Answer:
    """Does no secret of the client, and no password, stand in an address?"""
    for message in case.attempt.messages:
        given = message.parameters
        if given is None:
            continue
        exposed = [name for name in ("client_secret", "password") if given.get(name)]
        in_address = given.carried == "query"
        if exposed and (in_address or "password" in exposed):
            kept = ", and was in an address, where every log on the way keeps it" if in_address else ""
            yield finding(
                "credentials-in-clear",
                say("{exposed} can be read in this capture{kept}.", exposed=" and ".join(exposed), kept=kept),
                evidence=[item for name in exposed for item in case.parameter(message, name)],
            )


CHECKS = (
    response_mode,
    state,
    state_sent,
    nonce,
    verifier,
    challenge_sent,
    response_issuer,
    code_once,
    client_known,
    request_signed,
    over_https,
    secrets_out_of_addresses,
)
