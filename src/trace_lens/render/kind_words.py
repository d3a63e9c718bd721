"""Kinds of messages in a word or two, as a ladder and a timeline name what a hop carries."""

from __future__ import annotations

WORDS = {
    "saml-authn-request": "SAML request",
    "saml-response": "SAML response",
    "saml-artifact": "artifact",
    "saml-logout-request": "logout request",
    "saml-logout-response": "logout response",
    "ws-federation-response": "sign-in response",
    "authorization-request": "request",
    "authorization-response": "answer",
    "token-request": "token request",
    "token-response": "tokens",
    "id-token": "ID token",
    "access-token": "access token",
    "logout-request": "logout request",
    "userinfo": "userinfo",
    "discovery-document": "discovery",
    "key-set": "key set",
}
