"""A real request of an application to its provider: an authorization request, or an AuthnRequest by redirect.

Sources: OpenID Connect Core 1.0 §3.1.2.1, RFC 7636 §4 (PKCE), SAML 2.0 Core §3.4.1, Bindings §3.4 (HTTP-Redirect).
"""

from __future__ import annotations

import base64
import hashlib
import secrets
import zlib
from datetime import UTC, datetime
from urllib.parse import urlencode
from xml.sax.saxutils import quoteattr

from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.records import App

_PROTOCOL = "urn:oasis:names:tc:SAML:2.0:protocol"
_ASSERTION = "urn:oasis:names:tc:SAML:2.0:assertion"
_POST = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"
_SCOPES = ("openid", "profile", "email")


class Sent(NamedTuple):
    """A request as an address, and what was made for it: the secrets that the answer must fit."""

    url: str
    state: str
    nonce: str
    verifier: str


def authorization_request(
    endpoint: str, client_id: str, redirect_uri: str, scopes: tuple[str, ...] = (), **more: str
) -> Sent:
    """An authorization request by code with PKCE; `more` are further parameters."""
    state, nonce, verifier = (secrets.token_urlsafe(32) for _ in range(3))
    challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
    told = {
        "response_type": "code",
        "client_id": client_id,
        "redirect_uri": redirect_uri,
        "scope": " ".join(scopes or _SCOPES),
        "state": state,
        "nonce": nonce,
        "code_challenge": challenge,
        "code_challenge_method": "S256",
        **more,
    }
    return Sent(_with_query(endpoint, told), state, nonce, verifier)


def of_client(app: App, endpoint: str) -> Sent | None:
    """The authorization request that an application on record makes; None where its record does not hold enough."""
    told = app.settings.application.oidc
    redirect = next(iter(told.redirect_uris or app.settings.provider_setup.redirect_uris), None)
    if not told.client_id or not redirect:
        return None
    more = {"response_type": told.response_type} if told.response_type else {}
    more |= {"response_mode": told.response_mode} if told.response_mode else {}
    return authorization_request(endpoint, told.client_id, redirect, tuple(told.scopes), **more)


def authn_request(
    destination: str, issuer: str, acs_url: str | None, now: datetime, relay_state: str | None = None
) -> str:
    """An AuthnRequest by HTTP-Redirect, unsigned, as an address; without a relay state one is made."""
    where = f" AssertionConsumerServiceURL={quoteattr(acs_url)} ProtocolBinding={quoteattr(_POST)}" if acs_url else ""
    text = (
        f'<samlp:AuthnRequest xmlns:samlp="{_PROTOCOL}" xmlns:saml="{_ASSERTION}" ID="_{secrets.token_hex(20)}" '
        f'Version="2.0" IssueInstant="{now.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}" Destination={quoteattr(destination)}'
        f"{where}><saml:Issuer>{_text(issuer)}</saml:Issuer></samlp:AuthnRequest>"
    )
    packed = zlib.compress(text.encode(), 9)[2:-4]
    return _with_query(
        destination,
        {"SAMLRequest": base64.b64encode(packed).decode(), "RelayState": relay_state or secrets.token_hex(8)},
    )


def _text(value: str) -> str:
    return value.replace("&", "&amp;").replace("<", "&lt;")


def _with_query(endpoint: str, told: dict[str, str]) -> str:
    return f"{endpoint}{'&' if '?' in endpoint else '?'}{urlencode(told)}"
