"""The error codes of OAuth 2.0 and OpenID Connect in plain words, each with its usual cause and the side to act.

Sources: RFC 6749 §4.1.2.1, §5.2; OpenID Connect Core 1.0 §3.1.2.6; RFC 6750 §3.1; RFC 9101 §7; RFC 9126 §2.3.
"""

from __future__ import annotations

from trace_lens.common.tuples import NamedTuple


class ErrorMeaning(NamedTuple):
    """What an error code says. `silent` marks those that only mean that the user would have to be asked;
    `rejects_request` those by which a provider says that it could not take the request itself.
    """

    meaning: str
    cause: str
    side: str
    silent: bool = False
    rejects_request: bool = False


TO_REDEEM: dict[str, str] = {
    "invalid_client": "Set the client's current secret and the method by which the provider expects it.",
    "invalid_grant": "Redeem each code at once and only once, with the redirect URI and the code verifier of its own "
    "request.",
    "unauthorized_client": "Allow this grant for the client at the provider.",
    "unsupported_grant_type": "Ask for tokens by a grant that the discovery document offers.",
    "invalid_scope": "Ask only for scopes that the client is granted.",
    "invalid_request": "Send the request for tokens with every parameter that the provider demands.",
    "access_denied": "Ask the provider's administrators which rule refuses tokens to this client or person.",
    "server_error": "Look up this moment in the provider's log: the request itself may be right.",
    "temporarily_unavailable": "Try again later, and look up this moment in the provider's log if it goes on.",
}
"""What to do where a token endpoint refuses to redeem a code, by the error that it gives (RFC 6749 §5.2)."""

_MEANINGS: dict[str, ErrorMeaning] = {
    "invalid_request": ErrorMeaning(
        "the request lacks a parameter, holds one twice, or is malformed",
        "a parameter that the provider demands",
        "application",
        rejects_request=True,
    ),
    "unauthorized_client": ErrorMeaning(
        "this client may not use this way",
        "the response type or grant is not switched on for the client",
        "provider",
        rejects_request=True,
    ),
    "access_denied": ErrorMeaning(
        "the user or the provider said no", "the user is not assigned, a rule of access, or consent refused", "provider"
    ),
    "unsupported_response_type": ErrorMeaning(
        "the provider does not offer this response type",
        "response_type against the discovery document",
        "application",
        rejects_request=True,
    ),
    "invalid_scope": ErrorMeaning(
        "a scope is unknown, or not allowed for the client",
        "scope against what is granted",
        "application",
        rejects_request=True,
    ),
    "server_error": ErrorMeaning("the provider failed", "an error at the provider", "provider"),
    "temporarily_unavailable": ErrorMeaning("the provider is overloaded or down", "load or maintenance", "provider"),
    "interaction_required": ErrorMeaning(
        "the user would have to be asked, and the request forbade that", "prompt=none", "user", silent=True
    ),
    "login_required": ErrorMeaning(
        "the user would have to sign in, and the request forbade that",
        "no session at the provider, and prompt=none",
        "user",
        silent=True,
    ),
    "account_selection_required": ErrorMeaning(
        "the user would have to choose an account, and the request forbade that",
        "several sessions, and prompt=none",
        "user",
        silent=True,
    ),
    "consent_required": ErrorMeaning(
        "the user or an administrator has not consented", "a scope without consent", "provider", silent=True
    ),
    "invalid_request_uri": ErrorMeaning(
        "the provider cannot fetch the request object", "request_uri", "application", rejects_request=True
    ),
    "invalid_request_object": ErrorMeaning(
        "the request object cannot be read or verified",
        "its signature, its age, or the client's key on record",
        "application",
        rejects_request=True,
    ),
    "request_not_supported": ErrorMeaning(
        "the provider takes no request objects", "the parameter request", "application", rejects_request=True
    ),
    "request_uri_not_supported": ErrorMeaning(
        "the provider takes no request_uri", "the parameter request_uri", "application", rejects_request=True
    ),
    "registration_not_supported": ErrorMeaning(
        "the provider takes no registration in the request",
        "the parameter registration",
        "application",
        rejects_request=True,
    ),
    "invalid_client": ErrorMeaning(
        "the client could not be authenticated",
        "a client secret that ended or was mistyped, another method of authentication, or an unknown client",
        "application",
    ),
    "invalid_grant": ErrorMeaning(
        "the code or refresh token is not good (any more)",
        "a code used twice or too late, another redirect URI, or a code verifier that does not fit",
        "application",
    ),
    "unsupported_grant_type": ErrorMeaning(
        "the provider does not offer this grant", "grant_type against the discovery document", "application"
    ),
    "invalid_token": ErrorMeaning(
        "the access token is not good (any more)",
        "it has ended, was revoked, or is meant for another API",
        "application",
    ),
    "insufficient_scope": ErrorMeaning(
        "the access token does not reach that far", "a scope that was not asked for or not granted", "application"
    ),
}


def meaning_of(code: str) -> ErrorMeaning | None:
    """What an error code says; None for a code that is not of the standards."""
    return _MEANINGS.get(code)
