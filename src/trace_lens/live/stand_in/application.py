"""The stand-in's application: one door by OpenID Connect (`/login`), one by SAML (`/saml/login`), and a page.

It takes what the provider sends if that holds and answers what it asked; SAML also unasked.
"""

from __future__ import annotations

import secrets
import ssl
import time
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from typing import Any
from urllib.parse import urlencode

from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
from lxml import etree
from werkzeug.utils import redirect
from werkzeug.wrappers import Request, Response

from trace_lens.live.requests import authn_request, authorization_request
from trace_lens.live.stand_in.faults import Faults
from trace_lens.live.stand_in.verifying import Refused, assertion_of, claims_of, octets, signers

CLIENT_ID = "stand-in-web"
_COOKIE = "sign_in"
_SESSION = "session"


class Application:
    """The application as a WSGI application; `provider` is the provider's address, `trusted` for its TLS.

    `key` decrypts assertions; `metadata` is the provider's, read once, as an application does where it is set up.
    """

    def __init__(
        self, base: str, provider: str, trusted: ssl.SSLContext, faults: Faults, key: RSAPrivateKey, metadata: bytes
    ) -> None:
        self.base, self.provider, self.trusted, self.faults = base, provider, trusted, faults
        self._key, self._signers = key, signers(metadata)
        self._waiting: dict[str, tuple[str, str]] = {}
        self._sessions: dict[str, str] = {}

    @property
    def entity_id(self) -> str:
        """Its entity ID."""
        return f"{self.base}/saml"

    @property
    def acs_url(self) -> str:
        """Its ACS URL."""
        return f"{self.base}/saml/acs"

    @property
    def redirect_uri(self) -> str:
        """Its redirect URI."""
        return f"{self.base}/callback"

    def __call__(self, environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        request = Request(environ)
        routes: dict[str, Callable[[Request], Response]] = {
            "/": lambda _: _page("<h1>Stand-in desk</h1><a href='/login'>Sign in</a>"),
            "/login": self._login,
            "/callback": self._callback,
            "/saml/login": self._saml_login,
            "/saml/acs": self._acs,
            "/home": self._home,
            "/logout": self._logout,
        }
        route = routes.get(request.path)
        answer: Response = route(request) if route else _page("<h1>Not found</h1>", 404)
        return answer(environ, start)

    # -- OpenID Connect

    def _login(self, _: Request) -> Response:
        sent = authorization_request(f"{self.provider}/auth", CLIENT_ID, self.redirect_uri, response_mode="form_post")
        self._waiting[sent.state] = (sent.nonce, sent.verifier)
        answer = redirect(sent.url, 302)
        lost = "cookie-lost" in self.faults
        answer.set_cookie(
            _COOKIE,
            sent.state,
            secure=True,
            httponly=True,
            samesite="Strict" if lost else "None",
            path="/" if not lost else "/elsewhere",
        )
        return answer

    def _callback(self, request: Request) -> Response:
        if "callback-500" in self.faults:
            return _page("<h1>Something went wrong</h1>", 500)
        told = {**request.args.to_dict(), **request.form.to_dict()}
        if "error" in told:
            return _page("<h1>Sign-in failed</h1><p>The provider refused.</p>", 403)
        state = told.get("state", "")
        if not state or request.cookies.get(_COOKIE) != state or state not in self._waiting:
            return _page("<h1>Sign-in failed</h1><p>The browser brought no sign-in of ours back.</p>", 400)
        nonce, verifier = self._waiting.pop(state)
        try:
            self._redeem(told.get("code", ""), verifier, nonce)
        except Refused as error:
            return _page(f"<h1>Sign-in failed</h1><p>{error}</p>", 403)
        return self._let_in("/login")

    def _redeem(self, code: str, verifier: str, nonce: str) -> None:
        """Get the ID token for a code and verify it by the documents as they are now. Raises Refused."""
        import httpx

        form = {
            "grant_type": "authorization_code",
            "code": code,
            "redirect_uri": self.redirect_uri,
            "client_id": CLIENT_ID,
            "code_verifier": verifier,
        }
        try:
            with httpx.Client(verify=self.trusted, trust_env=False, timeout=10) as client:
                discovery = client.get(f"{self.provider}/.well-known/openid-configuration").json()
                keys = client.get(discovery["jwks_uri"]).json()
                token = client.post(discovery["token_endpoint"], data=form).json()["id_token"]
        except (httpx.HTTPError, ValueError, KeyError):
            raise Refused("The provider did not give what was asked for.") from None
        if discovery["issuer"] != self.provider:
            raise Refused("The discovery document is of another issuer.")
        claims_of(token, keys, self.provider, CLIENT_ID, nonce, time.time())

    # -- SAML

    def _saml_login(self, _: Request) -> Response:
        url = authn_request(f"{self.provider}/saml/sso", self.entity_id, self.acs_url, datetime.now(UTC))
        return redirect(url, 302)

    def _acs(self, request: Request) -> Response:
        if request.method != "POST":
            return _page("<h1>Method not allowed</h1>", 405)
        if "callback-500" in self.faults:
            return _page("<h1>Something went wrong</h1>", 500)
        try:
            data = octets(request.form.get("SAMLResponse", ""))
            root = etree.fromstring(data, etree.XMLParser(resolve_entities=False, no_network=True))
            if root.get("Destination") != self.acs_url:
                raise Refused("The response is for another address.")
            assertion_of(root, self._key, self._signers, self.entity_id, time.time())
        except etree.XMLSyntaxError:
            return _page("<h1>Sign-in failed</h1><p>There is no response here.</p>", 400)
        except Refused as error:
            return _page(f"<h1>Sign-in failed</h1><p>{error}</p>", 403)
        return self._let_in("/saml/login")

    # -- behind the doors

    def _let_in(self, door: str) -> Response:
        number = secrets.token_urlsafe(18)
        self._sessions[number] = door
        answer = redirect(f"{self.base}/home", 303)
        answer.set_cookie(_SESSION, number, secure=True, httponly=True, samesite="Lax", path="/")
        return answer

    def _home(self, request: Request) -> Response:
        """The page for those who are signed in; others are sent to the door that they came by."""
        door = self._sessions.get(request.cookies.get(_SESSION, ""))
        if door is None or "loop" in self.faults:
            return redirect(f"{self.base}{door or '/login'}", 302)
        return _page("<h1>Welcome</h1><p>You are signed in.</p><a href='/logout'>Sign out</a>")

    def _logout(self, request: Request) -> Response:
        """End the session here, and that at the provider (OpenID Connect RP-Initiated Logout §2)."""
        self._sessions.pop(request.cookies.get(_SESSION, ""), None)
        answer = redirect(f"{self.provider}/logout?{urlencode({'post_logout_redirect_uri': self.base + '/'})}", 302)
        answer.delete_cookie(_SESSION, path="/")
        return answer


def _page(body: str, status: int = 200) -> Response:
    text = f"<!doctype html><html lang=en><head><title>Stand-in desk</title></head><body>{body}</body></html>"
    return Response(text, status, content_type="text/html; charset=utf-8")
