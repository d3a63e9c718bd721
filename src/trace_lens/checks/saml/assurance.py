"""Whether the user was authenticated as strongly as the request, or the application, demands."""

from __future__ import annotations

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.saml.case import SamlCase
from trace_lens.common.findings import Allows, Side, Unchecked, lack
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.saml.messages import RequestedAuthnContext
from trace_lens.saml.names import short

_CLASSES = "urn:oasis:names:tc:SAML:2.0:ac:classes:"


_STRENGTH = {
    _CLASSES + name: strength
    for strength, names in enumerate(
        (
            ("unspecified", "PreviousSession"),
            ("InternetProtocol",),
            ("Password", "InternetProtocolPassword"),
            ("PasswordProtectedTransport", "SecureRemotePassword", "Kerberos"),
            ("MobileOneFactorUnregistered", "MobileOneFactorContract", "TLSClient", "X509", "PGP", "SPKI", "XMLDSig"),
            ("MobileTwoFactorUnregistered", "MobileTwoFactorContract", "TimeSyncToken", "SoftwarePKI"),
            ("Smartcard",),
            ("SmartcardPKI",),
        )
    )
    for name in names
}
"""The classes of SAML 2.0 Authentication Context §3.4, from weak to strong. The standard leaves their order to the
parties; this is the usual one, and a class that is not here compares only as equal."""


@check("assurance-too-low", requires=Need.ASSERTION)
def strong_enough(case: SamlCase) -> Answer:
    """Was the user authenticated as strongly as the request's comparison demands (Core §3.3.2.2.1)?"""
    demanded = case.app.settings.application.saml.authn_contexts if case.app else ()
    if demanded and (case.request is None or case.request.requested_context is None):
        yield from _as_on_record(case, demanded)
        return
    if case.request is None:
        if not case.is_ws_federation:
            yield Unchecked(
                "assurance-too-low",
                lack("the request is not in this capture, so what it demands is not known", Allows.RECORDING),
                needs="the request is not in this capture",
            )
        return
    wanted = case.request.requested_context
    statements = case.assertion.authn_statements if case.assertion else ()
    if wanted is None or not statements:
        return
    actual = statements[0].context_class
    listed = ", ".join(short(value.value) for value in wanted.classes) or "a declaration"
    if actual is None:
        holds: bool | None = False
    else:
        holds = _satisfies(wanted, actual.value)
    if holds is None:
        yield Unchecked(
            "assurance-too-low",
            f"nothing says how {short(actual.value) if actual else ''} compares with {listed} ({wanted.comparison})",
        )
    elif not holds:
        given = short(actual.value) if actual else "none"
        yield finding(
            "assurance-too-low",
            say(
                "The request demands an authentication of {get} {listed}; the answer says {given}.",
                get=_WORDS.get(wanted.comparison, wanted.comparison),
                listed=listed,
                given=given,
            ),
            side=Side.PROVIDER,
            expected=", ".join(value.value for value in wanted.classes),
            actual=actual.value if actual else None,
            value_to_set=wanted.classes[0].value if wanted.classes else None,
            evidence=[
                *(item for value in wanted.classes for item in case.asked("AuthnContextClassRef asked for", value)),
                *case.shown("AuthnContextClassRef", actual),
            ],
            compared=False,
        )


def _as_on_record(case: SamlCase, demanded: tuple[str, ...]) -> Answer:
    """Is the user's authentication one of the classes that the application demands by its settings?"""
    statements = case.assertion.authn_statements if case.assertion else ()
    actual = statements[0].context_class if statements else None
    if not statements or (actual and actual.value in demanded):
        return
    yield finding(
        "assurance-too-low",
        say(
            "The application demands an authentication of {listed}; the answer says {given}.",
            listed=" or ".join(short(text) for text in demanded),
            given=short(actual.value) if actual else "none",
        ),
        side=Side.PROVIDER,
        expected=", ".join(demanded),
        actual=actual.value if actual else None,
        value_to_set=demanded[0],
        evidence=[
            *case.shown("AuthnContextClassRef", actual),
            case.set_in_app("authn_contexts", ", ".join(demanded), "application", "authn_contexts"),
        ],
        compared=False,
    )


_WORDS = {"exact": "exactly", "minimum": "at least", "maximum": "at most", "better": "more than"}


def _satisfies(wanted: RequestedAuthnContext, actual: str) -> bool | None:
    """Whether a class is as demanded; None where nothing orders the classes named."""
    classes = [value.value for value in wanted.classes]
    if not classes:
        return None
    if actual in classes and wanted.comparison in ("exact", "minimum", "maximum"):
        return True
    if wanted.comparison == "exact":
        return False
    if actual in classes and len(classes) == 1:
        return False
    if actual not in _STRENGTH or any(text not in _STRENGTH for text in classes):
        return None
    ranks = [_STRENGTH[text] for text in classes]
    match wanted.comparison:
        case "minimum":
            return _STRENGTH[actual] >= min(ranks)
        case "maximum":
            return _STRENGTH[actual] <= max(ranks)
        case "better":
            return _STRENGTH[actual] > max(ranks)
    return None


CHECKS = (strong_enough,)
