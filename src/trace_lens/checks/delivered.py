"""Delivered: the message came to the right address, in answer to the right request, by a binding that carries it."""

from __future__ import annotations

from urllib.parse import urlsplit

from trace_lens.checks.asking import MESSAGE, Answer, asks
from trace_lens.checks.case import Case
from trace_lens.checks.comparing import closest, differs
from trace_lens.common import limits
from trace_lens.common.findings import Severity, Side, Stage, Unchecked
from trace_lens.saml.messages import SubjectConfirmation
from trace_lens.saml.names import BEARER

_STAGE = Stage.DELIVERED
_LOOPBACK = ("localhost", "::1")


def _bearers(case: Case) -> list[SubjectConfirmation]:
    subject = case.assertion.subject if case.assertion else None
    return [one for one in subject.confirmations if one.method and one.method.value == BEARER] if subject else []


@asks(_STAGE, "destination-mismatch", needs=MESSAGE)
def destination(case: Case) -> Answer:
    """Is Destination an ACS URL of the application (SAML 2.0 Core §3.2.2)?"""
    if case.response is None or case.response.destination is None:
        return
    if case.app is None or not case.app.acs_urls:
        yield Unchecked("destination-mismatch", _no_acs(case))
        return
    actual = case.response.destination.value
    expected = closest(actual, case.app.acs_urls)
    severity = differs(expected, actual)
    if severity:
        yield case.finding(
            "destination-mismatch",
            _STAGE,
            f"The response is addressed to {actual}, which is no ACS URL of {case.app.name}.",
            severity=severity,
            expected=expected,
            actual=actual,
            value_to_set=expected,
            evidence=[
                *case.shown("Destination", case.response.destination),
                case.set_in_app("ACS URL", expected, "application", "acs_urls"),
            ],
        )


@asks(_STAGE, "recipient-mismatch")
def recipient(case: Case) -> Answer:
    """Is the bearer confirmation's Recipient an ACS URL of the application (SAML 2.0 Profiles §4.1.4.2)?"""
    recipients = [one.data.recipient for one in _bearers(case) if one.data and one.data.recipient]
    if not recipients:
        return
    if case.app is None or not case.app.acs_urls:
        yield Unchecked("recipient-mismatch", _no_acs(case))
        return
    judged = [(one, closest(one.value, case.app.acs_urls)) for one in recipients]
    severities = [differs(expected, one.value) for one, expected in judged]
    if None in severities:
        return
    actual, expected = judged[0]
    yield case.finding(
        "recipient-mismatch",
        _STAGE,
        f"The assertion is made out to {actual.value}, which is no ACS URL of {case.app.name}.",
        severity=Severity.RISK if Severity.RISK in severities else Severity.BREAK,
        expected=expected,
        actual=actual.value,
        value_to_set=expected,
        evidence=[
            *case.shown("Recipient", actual),
            case.set_in_app("ACS URL", expected, "application", "acs_urls"),
        ],
    )


def _no_acs(case: Case) -> str:
    return f"no acs_urls on record for {case.app.id}" if case.app else "no application is known for this message"


@asks(_STAGE, "wrong-binding", needs=MESSAGE)
def binding(case: Case) -> Answer:
    """Did the response come by a binding that may carry it (SAML 2.0 Profiles §4.1.2)?"""
    found = case.attempt.found
    if "deflate" in found.layers and "form" in found.layers:
        yield case.finding(
            "wrong-binding",
            _STAGE,
            "The response came compressed in the address of a redirect; a sign-in response must be posted.",
            side=Side.PROVIDER,
            value_to_set="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST",
        )


@asks(_STAGE, "response-to-unknown-request", needs=MESSAGE)
def request_answered(case: Case) -> Answer:
    """Does everything that names a request name the same one, the one that was sent?"""
    ids = case.request_ids
    if len({one.value for one in ids}) > 1:
        first = ids[0]
        other = next(one for one in ids if one.value != first.value)
        yield case.finding(
            "response-to-unknown-request",
            _STAGE,
            "The response and its subject confirmation answer two different requests.",
            expected=first.value,
            actual=other.value,
            evidence=[*case.shown("InResponseTo", first), *case.shown("InResponseTo", other)],
            compared=False,
        )
    elif ids:
        yield Unchecked(
            "response-to-unknown-request", "the request is not in this capture, so its ID cannot be compared"
        )


@asks(_STAGE, "unsolicited-not-accepted", needs=MESSAGE)
def unsolicited(case: Case) -> Answer:
    """Does the application accept a sign-in that it did not ask for (SAML 2.0 Profiles §4.1.5)?"""
    if case.request_ids or case.app is None or case.closed or case.refused:
        return
    accepts = case.app.settings.application.accepts_unsolicited
    if accepts is None:
        yield Unchecked("unsolicited-not-accepted", f"accepts_unsolicited is not set for {case.app.id}")
    elif not accepts:
        yield case.finding(
            "unsolicited-not-accepted",
            _STAGE,
            f"The response answers no request: the sign-in was started at the provider, and {case.app.name} "
            "accepts only sign-ins that it started itself.",
            value_to_set="true",
            remedy=_accept_or_start(case.app.settings.application.sign_in_url),
            evidence=[
                *case.shown("Response ID", case.response.id if case.response else None),
                case.set_in_app("accepts_unsolicited", "false", "application", "accepts_unsolicited"),
            ],
        )


def _accept_or_start(sign_in_url: str | None) -> str:
    start = sign_in_url or "the application's sign-in URL"
    return (
        "Accept sign-ins started at the provider, if that is wanted. Otherwise let the tile in the provider's portal "
        f"open {start}, so that the application starts the sign-in."
    )


@asks(_STAGE, "subject-confirmation-invalid")
def confirmation(case: Case) -> Answer:
    """Is there a bearer confirmation with what it must hold (SAML 2.0 Profiles §4.1.4.2)?"""
    subject = case.assertion.subject if case.assertion else None
    if subject is None:
        return
    bearers = _bearers(case)
    reasons = [_wrong_with(one) for one in bearers]
    if bearers and not all(reasons):
        return
    methods = ", ".join(one.method.value if one.method else "none given" for one in subject.confirmations)
    reason = reasons[0] if reasons else f"there is no bearer confirmation (found: {methods or 'none'})"
    shown = bearers[0].method if bearers else None
    yield case.finding(
        "subject-confirmation-invalid",
        _STAGE,
        f"The assertion cannot be used for signing in: {reason}.",
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


@asks(_STAGE, "relay-state-unexpected", needs=MESSAGE)
def relay_state(case: Case) -> Answer:
    """Is the relay state the one sent, or the default, and short enough (SAML 2.0 Bindings §3.4.3)?"""
    actual = case.attempt.relay_state
    if actual is None:
        return
    size = len(actual.encode())
    if size > limits.RELAY_STATE_BYTES:
        yield case.finding(
            "relay-state-unexpected",
            _STAGE,
            f"The relay state is {size} bytes long; at most {limits.RELAY_STATE_BYTES} are allowed.",
            severity=Severity.RISK,
            actual=actual,
        )
        return
    default = case.app.settings.application.relay_state if case.app else None
    if case.request_ids:
        yield Unchecked(
            "relay-state-unexpected", "the request is not in this capture, so the relay state sent is not known"
        )
    elif default and actual != default:
        yield case.finding(
            "relay-state-unexpected",
            _STAGE,
            "The relay state is not the default that is set for sign-ins started at the provider.",
            expected=default,
            actual=actual,
            value_to_set=default,
            evidence=[case.set_in_app("relay_state", default, "application", "relay_state")],
        )


@asks(_STAGE, "insecure-transport", needs=MESSAGE)
def transport(case: Case) -> Answer:
    """Was the message posted over https? (Loopback addresses need none.)"""
    target = case.response.destination if case.response else None
    if target is None:
        return
    if _travels_in_clear(target.value.strip()):
        yield case.finding(
            "insecure-transport",
            _STAGE,
            "The response travels to its destination over http, where anyone on the way can read and use it.",
            actual=target.value,
            value_to_set="https" + target.value.strip()[4:],
            evidence=case.shown("Destination", target),
        )


def _travels_in_clear(address: str) -> bool:
    try:
        parts = urlsplit(address)
        host = parts.hostname or ""
    except ValueError:
        return False
    return parts.scheme.lower() == "http" and host not in _LOOPBACK and not host.startswith("127.")


@asks(_STAGE, "session-cookie-lost", needs=MESSAGE)
def way(case: Case) -> Answer:
    """Did the browser still know about the sign-in when it came back?"""
    yield Unchecked("session-cookie-lost", "the capture holds the message, not the hops and cookies around it")
