"""JSON documents of OpenID Connect and OAuth 2.0, told apart by their members.

Sources: OpenID Connect Discovery 1.0 §3; RFC 7517 §5; RFC 6749 §5.1, §5.2; RFC 7662 §2.2; RFC 7591 §3.2.1; OpenID
Connect Core 1.0 §5.3.2; RFC 9126 §2.2 (pushed requests).
"""

from __future__ import annotations

from typing import Any

from trace_lens.oidc.errors import meaning_of

DISCOVERY, KEY_SET, JWK, TOKEN_RESPONSE, INTROSPECTION, REGISTRATION, USERINFO = (
    "discovery-document",
    "key-set",
    "jwk",
    "token-response",
    "introspection",
    "client-registration",
    "userinfo",
)

ENDPOINTS = (
    "authorization_endpoint",
    "token_endpoint",
    "userinfo_endpoint",
    "jwks_uri",
    "end_session_endpoint",
    "introspection_endpoint",
    "revocation_endpoint",
    "pushed_authorization_request_endpoint",
    "registration_endpoint",
    "device_authorization_endpoint",
    "check_session_iframe",
)
"""Members of a discovery document that are addresses."""

STANDARD_SCOPES: dict[str, tuple[str, ...]] = {
    "profile": (
        "name",
        "family_name",
        "given_name",
        "middle_name",
        "nickname",
        "preferred_username",
        "profile",
        "picture",
        "website",
        "gender",
        "birthdate",
        "zoneinfo",
        "locale",
        "updated_at",
    ),
    "email": ("email", "email_verified"),
    "address": ("address",),
    "phone": ("phone_number", "phone_number_verified"),
}
"""The claims that follow from a scope (OpenID Connect Core 1.0 §5.4)."""
SCOPE_OF = {claim: scope for scope, claims in STANDARD_SCOPES.items() for claim in claims}


def kind_of(document: Any) -> str | None:
    """The kind of document that an object is; None where it is none that is known."""
    if not isinstance(document, dict):
        return None
    has = document.keys()
    if "issuer" in has and has & {"jwks_uri", "authorization_endpoint", "token_endpoint"}:
        return DISCOVERY
    if isinstance(document.get("keys"), list) and all(isinstance(item, dict) for item in document["keys"]):
        return KEY_SET
    if "kty" in has:
        return JWK
    if isinstance(document.get("active"), bool) and not has & {"userName", "schemas"}:
        return INTROSPECTION
    if "access_token" in has or ("id_token" in has and "token_type" in has):
        return TOKEN_RESPONSE
    if isinstance(document.get("error"), str) and ("error_description" in has or meaning_of(document["error"])):
        return TOKEN_RESPONSE
    if "request_uri" in has and "expires_in" in has:
        return TOKEN_RESPONSE
    if "client_id" in has and has & {"redirect_uris", "client_secret", "token_endpoint_auth_method", "grant_types"}:
        return REGISTRATION
    if isinstance(document.get("sub"), str) and not has & {"exp", "userName"}:
        return USERINFO
    return None
