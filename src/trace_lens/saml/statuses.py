"""The status codes of SAML 2.0 (Core §3.2.2.2) in plain words, each with its usual cause and the side to act."""

from __future__ import annotations

from trace_lens.common.tuples import NamedTuple
from trace_lens.saml.names import STATUS_PREFIX


class StatusMeaning(NamedTuple):
    """What a status code says. `side` is application, provider or user; `rejects_request` marks the codes by which a
    provider says that it could not take the request itself.
    """

    meaning: str
    cause: str
    side: str
    rejects_request: bool = False


_MEANINGS: dict[str, StatusMeaning] = {
    "Requester": StatusMeaning(
        "the provider lays the fault on the request",
        "something that the application asked for, or the way it is set up at the provider",
        "application",
    ),
    "Responder": StatusMeaning("the provider could not do its part", "an error or a rule at the provider", "provider"),
    "VersionMismatch": StatusMeaning(
        "the provider does not take this version of SAML", "the request is not SAML 2.0", "application", True
    ),
    "AuthnFailed": StatusMeaning(
        "the user could not be authenticated",
        "a wrong password, a sign-in that was broken off, or a rule that kept the user out",
        "user",
    ),
    "InvalidAttrNameOrValue": StatusMeaning(
        "the request holds an attribute that the provider does not take",
        "an attribute name or value in the request that is not defined at the provider",
        "application",
    ),
    "InvalidNameIDPolicy": StatusMeaning(
        "the provider cannot make a name of the format asked for",
        "the NameIDPolicy asks for a format or qualifier that is not set up for this application",
        "application",
    ),
    "NoAuthnContext": StatusMeaning(
        "the provider cannot reach the strength of authentication asked for",
        "RequestedAuthnContext names a class that the provider does not offer, compared as exact",
        "application",
    ),
    "NoAvailableIDP": StatusMeaning(
        "none of the providers named in the request can be reached",
        "the request's list of providers",
        "application",
        True,
    ),
    "NoPassive": StatusMeaning(
        "the user would have to be asked, and the request forbade that",
        "no session at the provider, and IsPassive in the request",
        "user",
    ),
    "NoSupportedIDP": StatusMeaning(
        "none of the providers named in the request is known here",
        "the request's list of providers",
        "application",
        True,
    ),
    "PartialLogout": StatusMeaning(
        "not all sessions could be ended", "an application that did not answer the sign-out", "provider"
    ),
    "ProxyCountExceeded": StatusMeaning(
        "the request may not be passed on to another provider",
        "ProxyCount in the request is too small for the way to the user's own provider",
        "application",
    ),
    "RequestDenied": StatusMeaning(
        "the provider understood the request and will not answer it",
        "the user is not assigned to the application, or a rule of access at the provider",
        "provider",
    ),
    "RequestUnsupported": StatusMeaning(
        "the provider does not support this kind of request",
        "the request uses a feature that is not offered",
        "application",
        True,
    ),
    "RequestVersionDeprecated": StatusMeaning(
        "the request's version is no longer taken", "an outdated SAML version in the request", "application", True
    ),
    "RequestVersionTooHigh": StatusMeaning(
        "the request's version is newer than the provider's", "the Version of the request", "application", True
    ),
    "RequestVersionTooLow": StatusMeaning(
        "the request's version is older than the provider takes", "the Version of the request", "application", True
    ),
    "ResourceNotRecognized": StatusMeaning(
        "the provider does not know what the request is about",
        "the application is not registered under this identifier",
        "provider",
        True,
    ),
    "TooManyResponses": StatusMeaning(
        "there would be more answers than fit", "a query that asks for too much", "application"
    ),
    "UnknownAttrProfile": StatusMeaning(
        "the provider does not know the attribute profile asked for",
        "the attribute profile in the request",
        "application",
    ),
    "UnknownPrincipal": StatusMeaning(
        "the provider does not know the user whom the request names",
        "the Subject in the request, or a user missing from the provider's directory",
        "provider",
    ),
    "UnsupportedBinding": StatusMeaning(
        "the provider cannot answer by the binding asked for", "ProtocolBinding in the request", "application", True
    ),
}


def meaning_of(code: str) -> StatusMeaning | None:
    """What a status code says; None for a code that is not of the standard."""
    return _MEANINGS.get(code.removeprefix(STATUS_PREFIX)) if code.startswith(STATUS_PREFIX) else None
