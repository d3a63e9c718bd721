"""Delivered: the message came to the right address, in answer to the right request, by a binding that carries it."""

from __future__ import annotations

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import closest, differs
from trace_lens.checks.saml.case import SamlCase
from trace_lens.common import limits
from trace_lens.common.addresses import parts_of
from trace_lens.common.findings import Allows, Severity, Side, Unchecked, lack
from trace_lens.common.raising import finding
from trace_lens.common.secret_names import relay_words
from trace_lens.common.sentences import say
from trace_lens.saml.messages import SubjectConfirmation, Text
from trace_lens.saml.names import (
    BEARER,
    BINDING_ARTIFACT,
    BINDING_POST,
    BINDING_REDIRECT,
    BINDING_SIMPLE_SIGN,
    short,
)

_LOOPBACK = ("localhost", "::1")


def bearers(case: SamlCase) -> list[SubjectConfirmation]:
    """Every bearer confirmation of the judged assertion."""
    subject = case.assertion.subject if case.assertion else None
    return (
        [
            confirmation
            for confirmation in subject.confirmations
            if confirmation.method and confirmation.method.value == BEARER
        ]
        if subject
        else []
    )


@check("destination-mismatch", requires=Need.MESSAGE)
def destination(case: SamlCase) -> Answer:
    """Is Destination an ACS URL of the application (SAML 2.0 Core §3.2.2)?"""
    if case.response is None or case.response.destination is None:
        return
    if case.app is None or not case.app.acs_urls:
        yield Unchecked("destination-mismatch", _no_acs(case))
        return
    actual = case.supposed.get("provider_setup.acs_url", case.response.destination.value)
    expected = closest(actual, case.app.acs_urls)
    severity = differs(expected, actual)
    if severity:
        yield finding(
            "destination-mismatch",
            say(
                "The response is addressed to {actual}, which is no ACS URL of {app_name}",
                actual=actual,
                app_name=case.app.name,
            )
            + (": it is its entity ID, which belongs into another field." if actual == case.app.entity_id else "."),
            severity=severity,
            expected=expected,
            actual=actual,
            value_to_set=expected,
            evidence=[
                *case.shown("Destination", case.response.destination),
                case.set_in_app("ACS URL", expected, "application", "acs_urls"),
            ],
        )


@check("recipient-mismatch")
def recipient(case: SamlCase) -> Answer:
    """Is the bearer confirmation's Recipient an ACS URL of the application (SAML 2.0 Profiles §4.1.4.2)?"""
    data = case.bearer.data if case.bearer else None
    actual = data.recipient if data else None
    if actual is None:
        return
    if case.app is None or not case.app.acs_urls:
        yield Unchecked("recipient-mismatch", _no_acs(case))
        return
    if case.supposed.get("provider_setup.acs_url") in case.app.acs_urls:
        return
    expected = closest(actual.value, case.app.acs_urls)
    severity = differs(expected, actual.value)
    if severity is None:
        return
    yield finding(
        "recipient-mismatch",
        say(
            "The assertion is made out to {actual_value}, which is no ACS URL of {app_name}.",
            actual_value=actual.value,
            app_name=case.app.name,
        ),
        severity=severity,
        expected=expected,
        actual=actual.value,
        value_to_set=expected,
        evidence=[
            *case.shown("Recipient", actual),
            case.set_in_app("ACS URL", expected, "application", "acs_urls"),
        ],
    )


def _no_acs(case: SamlCase) -> str:
    return (
        say("no acs_urls on record for {app_id}", app_id=case.app.id)
        if case.app
        else "no application is known for this message"
    )


@check("wrong-binding", requires=Need.MESSAGE)
def binding(case: SamlCase) -> Answer:
    """Did the response come by a binding that may carry it, and that was asked for (SAML 2.0 Profiles §4.1.2)?"""
    came = case.attempt.main.binding
    asked = case.request.protocol_binding if case.request else None
    if came == BINDING_REDIRECT and case.response:
        yield finding(
            "wrong-binding",
            "The response came compressed in the address of a redirect; a sign-in response must be posted.",
            side=Side.PROVIDER,
            value_to_set=BINDING_POST,
            evidence=case.shown("Response ID", case.response.id),
        )
    elif asked and asked.value == BINDING_REDIRECT:
        yield finding(
            "wrong-binding",
            "The request asks for the answer in a redirect, which may not carry a sign-in response.",
            side=Side.APPLICATION,
            value_to_set=BINDING_POST,
            evidence=case.asked("ProtocolBinding", asked),
        )
    elif asked and _other_binding(asked.value, came, case):
        yield finding(
            "wrong-binding",
            say(
                "The request asks for the answer by {asked_value}; it came by {came}.",
                asked_value=short(asked.value),
                came=short(came or ""),
            ),
            side=Side.PROVIDER,
            expected=asked.value,
            actual=came,
            value_to_set=asked.value,
            evidence=case.asked("ProtocolBinding", asked),
            compared=False,
        )


def _other_binding(asked: str, came: str | None, case: SamlCase) -> bool:
    """Whether an answer plainly came by another binding than the request asked for."""
    if came is None or case.is_ws_federation:
        return False
    posts = (BINDING_POST, BINDING_SIMPLE_SIGN)
    if asked == BINDING_ARTIFACT:
        return came in posts
    return asked in posts and came not in posts


@check("response-to-unknown-request", "in-response-to-missing", requires=Need.MESSAGE)
def request_answered(case: SamlCase) -> Answer:
    """Does everything that names a request name the same one, the one that was sent?"""
    ids = case.request_ids
    sent = case.request.id if case.request else None
    if sent and case.attempt.answer and not case.attempt.damage and not case.is_ws_federation:
        yield from _answers(case, sent, ids)
        return
    if len({value.value for value in ids}) > 1:
        first = ids[0]
        other = next(value for value in ids if value.value != first.value)
        yield finding(
            "response-to-unknown-request",
            "The response and its subject confirmation answer two different requests.",
            expected=first.value,
            actual=other.value,
            evidence=[*case.shown("InResponseTo", first), *case.shown("InResponseTo", other)],
            compared=False,
        )
    elif ids:
        yield Unchecked(
            "response-to-unknown-request",
            lack("the request is not in this capture, so its ID cannot be compared", Allows.RECORDING),
            needs="the request is not in this capture",
        )


def _answers(case: SamlCase, sent: Text, ids: tuple[Text, ...]) -> Answer:
    """The request is at hand: the answer has to name it, and nothing else."""
    other = next((value for value in ids if value.value != sent.value), None)
    if other:
        yield finding(
            "response-to-unknown-request",
            say(
                "The answer is to the request {other_value}; the one sent was {sent_value}.",
                other_value=other.value,
                sent_value=sent.value,
            ),
            expected=sent.value,
            actual=other.value,
            evidence=[*case.asked("ID of the request", sent), *case.shown("InResponseTo", other)],
            compared=False,
        )
    elif not ids and not case.closed:
        yield finding(
            "in-response-to-missing",
            say(
                "The application sent the request {sent_value}, and the answer refers to none: an "
                "application that looks for its request does not find it.",
                sent_value=sent.value,
            ),
            expected=sent.value,
            evidence=[
                *case.asked("ID of the request", sent),
                *case.shown("Response ID", case.response.id if case.response else None),
            ],
        )


@check("unsolicited-not-accepted", requires=Need.MESSAGE)
def unsolicited(case: SamlCase) -> Answer:
    """Does the application accept a sign-in that it did not ask for (SAML 2.0 Profiles §4.1.5)?"""
    if case.request_ids or case.app is None or case.closed or case.refused or case.is_ws_federation or case.request:
        return
    accepts = case.app.settings.application.saml.accepts_unsolicited
    if accepts is None:
        yield Unchecked(
            "unsolicited-not-accepted",
            lack(
                f"accepts_unsolicited is not set for {case.app.id}",
                Allows.RECORD,
                case.app.source.file,
                "application.accepts_unsolicited",
            ),
        )
    elif not accepts:
        yield finding(
            "unsolicited-not-accepted",
            say(
                "The response answers no request: the sign-in was started at the provider, and "
                "{app_name} accepts only sign-ins that it started itself.",
                app_name=case.app.name,
            ),
            value_to_set="true",
            remedy=_accept_or_start(case.app.settings.application.sign_in_url),
            evidence=[
                *case.shown("Response ID", case.response.id if case.response else None),
                case.set_in_app("accepts_unsolicited", "false", "application", "accepts_unsolicited"),
            ],
        )


def _accept_or_start(sign_in_url: str | None) -> str:
    start = sign_in_url or "the application's sign-in URL"
    return say(
        "Accept sign-ins started at the provider, if that is wanted. Otherwise let the tile in "
        "the provider's portal open {start}, so that the application starts the sign-in.",
        start=start,
    )


@check("subject-confirmation-invalid")
def confirmation(case: SamlCase) -> Answer:
    """Is there a bearer confirmation with what it must hold (SAML 2.0 Profiles §4.1.4.2)?"""
    subject = case.assertion.subject if case.assertion else None
    if subject is None or case.is_ws_federation:
        return
    reason = _wrong_with(case.bearer) if case.bearer else None
    if case.bearer and reason is None:
        return
    methods = ", ".join(
        confirmation.method.value if confirmation.method else "none given" for confirmation in subject.confirmations
    )
    reason = reason or say("there is no bearer confirmation (found: {methods})", methods=methods or "none")
    shown = case.bearer.method if case.bearer else None
    yield finding(
        "subject-confirmation-invalid",
        say("The assertion cannot be used for signing in: {reason}.", reason=reason),
        evidence=case.shown("Method", shown),
    )


def _wrong_with(confirmation: SubjectConfirmation) -> str | None:
    data = confirmation.data
    if data is None:
        return "its bearer confirmation has no SubjectConfirmationData"
    if data.recipient is None:
        return "its bearer confirmation names no Recipient"
    if data.not_on_or_after is None:
        return "its bearer confirmation has no NotOnOrAfter"
    if data.not_before is not None:
        return "its bearer confirmation has a NotBefore, which is forbidden there"
    return None


def _relay_state_gone(case: SamlCase) -> Answer:
    sent = case.attempt.request.found.context.get("RelayState") if case.attempt.request else None
    answered = case.attempt.answer
    if sent and answered and answered.binding in (BINDING_POST, BINDING_REDIRECT):
        yield finding(
            "relay-state-unexpected",
            "A relay state was sent with the request, and none came back: the user may land on another page than the "
            "one asked for.",
            severity=Severity.RISK,
            side=Side.PROVIDER,
            expected=relay_words(sent),
        )


@check("relay-state-unexpected", requires=Need.MESSAGE)
def relay_state(case: SamlCase) -> Answer:
    """Is the relay state the one sent, or the default, and short enough (SAML 2.0 Bindings §3.4.3)?"""
    actual = case.attempt.relay_state
    if actual is None:
        yield from _relay_state_gone(case)
        return
    size = len(actual.encode())
    if size > limits.RELAY_STATE_BYTES:
        yield finding(
            "relay-state-unexpected",
            say(
                "The relay state is {size} bytes long; at most {RELAY_STATE_BYTES} are allowed.",
                size=size,
                RELAY_STATE_BYTES=limits.RELAY_STATE_BYTES,
            ),
            severity=Severity.RISK,
            actual=relay_words(actual),
        )
        return
    default = case.app.settings.application.saml.relay_state if case.app else None
    if case.attempt.request:
        sent = case.attempt.request.found.context.get("RelayState")
        if sent is not None and sent != actual:
            yield finding(
                "relay-state-unexpected",
                "The relay state that came back is not the one that was sent.",
                expected=relay_words(sent),
                actual=relay_words(actual),
                compared=relay_words(sent).startswith("http") and relay_words(actual).startswith("http"),
            )
        elif sent is None:
            yield Unchecked(
                "relay-state-unexpected", lack("the request was captured without its relay state", Allows.RECORDING)
            )
    elif case.request_ids:
        yield Unchecked(
            "relay-state-unexpected",
            lack("the request is not in this capture, so the relay state sent is not known", Allows.RECORDING),
            needs="the request is not in this capture",
        )
    elif default and actual != default:
        yield finding(
            "relay-state-unexpected",
            "The relay state is not the default that is set for sign-ins started at the provider.",
            expected=default,
            actual=relay_words(actual),
            value_to_set=default,
            evidence=[case.set_in_app("relay_state", default, "application", "relay_state")],
        )


@check("insecure-transport", requires=Need.MESSAGE)
def transport(case: SamlCase) -> Answer:
    """Was the message posted over https? (Loopback addresses need none.)"""
    target = case.response.destination if case.response else None
    if target is None or case.attempt.way:
        return
    if _travels_in_clear(target.value.strip()):
        yield finding(
            "insecure-transport",
            "The response travels to its destination over http, where anyone on the way can read and use it.",
            actual=target.value,
            value_to_set="https" + target.value.strip()[4:],
            evidence=case.shown("Destination", target),
        )


def _travels_in_clear(address: str) -> bool:
    parts = parts_of(address)
    host = parts.hostname or ""
    return parts.scheme.lower() == "http" and host not in _LOOPBACK and not host.startswith("127.")


CHECKS = (
    destination,
    recipient,
    binding,
    request_answered,
    unsolicited,
    confirmation,
    relay_state,
    transport,
)
