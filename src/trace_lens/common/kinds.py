"""What people call each kind of message, and how their words are quoted."""

from __future__ import annotations

from trace_lens.common.sentences import Quotation, say

KIND_WORDS = {
    "saml-response": "SAML response",
    "saml-assertion": "SAML assertion",
    "saml-authn-request": "SAML authentication request",
    "saml-logout-request": "SAML logout request",
    "saml-logout-response": "SAML logout response",
    "saml-artifact": "SAML artifact",
    "saml-artifact-resolve": "SAML artifact resolve request",
    "saml-artifact-response": "SAML artifact response",
    "saml-name-id-request": "SAML name identifier management",
    "ws-federation-response": "WS-Federation sign-in response",
    "saml-metadata": "SAML metadata",
    "id-token": "ID token",
    "access-token": "Access token",
    "logout-token": "Logout token",
    "jwt": "Signed token (JWT)",
    "jwe": "Encrypted token (JWE)",
    "key-set": "Key set",
    "jwk": "Key (JWK)",
    "discovery-document": "Discovery document",
    "authorization-request": "Authorization request",
    "authorization-response": "Authorization response",
    "token-request": "Token request",
    "token-response": "Token response",
    "logout-request": "Logout request",
    "userinfo": "Userinfo",
    "introspection": "Introspection response",
    "client-registration": "Client registration",
    "certificate": "Certificate",
    "private-key": "Private key",
    "har": "Browser export (HAR)",
    "header-dump": "Heads of requests and responses",
}


def in_a_sentence(kind: str) -> str:
    """The words for a kind as they stand within a sentence: small letters, but for abbreviations."""
    words = KIND_WORDS.get(kind, kind.replace("-", " "))
    return words if words[1:2].isupper() else words[:1].lower() + words[1:]


def quoted_at_end(words: str) -> str:
    """Words of others in quotation marks, as a sentence ends with them: one full stop, not two."""
    said = words.strip()
    return say('"{said}"' if said.endswith((".", "!", "?", "…")) else '"{said}".', said=Quotation(said))


TOKEN_KINDS = ("id-token", "access-token", "logout-token", "jwt")


PARAMETER_KINDS = ("authorization-request", "authorization-response", "token-request", "logout-request")


DOCUMENT_KINDS = (
    "token-response",
    "userinfo",
    "introspection",
    "client-registration",
    "discovery-document",
    "key-set",
    "jwk",
)


KINDS = (*TOKEN_KINDS, "jwe", *PARAMETER_KINDS, *DOCUMENT_KINDS)
