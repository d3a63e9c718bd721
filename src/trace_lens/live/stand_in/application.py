"""The stand-in's application: one door by OpenID Connect (`/login`), one by SAML (`/saml/login`), and a page.

It takes what the provider sends if it answers what it asked; SAML also unasked.
"""

from __future__ import annotations

import base64
import json
import secrets
import ssl
import time
from collections.abc import Callable, Iterable
from datetime import UTC, datetime
from typing import Any

from lxml import etree
from werkzeug.utils import redirect
from werkzeug.wrappers import Request, Response

from trace_lens.live.requests import authn_request, authorization_request
from trace_lens.live.stand_in.faults import Faults

CLIENT_ID = "stand-in-web"
_COOKIE = "sign_in"
_SESSION = "session"


class Application:
    """The application as a WSGI application; `provider` is the provider's address, `trusted` for its TLS."""

    def __init__(self, base: str, provider: str, trusted: ssl.SSLContext, faults: Faults) -> None:
        self.base, self.provider, self.trusted, self.faults = base, provider, trusted, faults
        self._waiting: dict[str, tuple[str, str]] = {}
        self._asked: set[str] = set()
        self._sessions: set[str] = set()

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
        token = self._redeemed(told.get("code", ""), verifier)
        if token.get("nonce") != nonce or token.get("aud") != CLIENT_ID:
            return _page("<h1>Sign-in failed</h1><p>The token is not for this sign-in.</p>", 403)
        return self._let_in()

    def _redeemed(self, code: str, verifier: str) -> dict[str, Any]:
        """The claims of the ID token that a code gives; empty where there is none."""
        import httpx

        form = {
            "grant_type": "authorization_code",
            "code": code,
            "redirect_uri": self.redirect_uri,
            "client_id": CLIENT_ID,
            "code_verifier": verifier,
        }
        try:
            answer = httpx.post(f"{self.provider}/token", data=form, verify=self.trusted, trust_env=False, timeout=10)
            part = str(answer.json()["id_token"]).split(".")[1]
            claims = json.loads(base64.urlsafe_b64decode(part + "=" * (-len(part) % 4)))
        except (httpx.HTTPError, ValueError, KeyError, IndexError):
            return {}
        return claims if isinstance(claims, dict) else {}

    # -- SAML

    def _saml_login(self, _: Request) -> Response:
        from trace_lens.common.addresses import parts_of

        url = authn_request(f"{self.provider}/saml/sso", self.entity_id, self.acs_url, datetime.now(UTC))
        self._asked.add(parts_of(url).query)
        return redirect(url, 302)

    def _acs(self, request: Request) -> Response:
        if request.method != "POST":
            return _page("<h1>Method not allowed</h1>", 405)
        if "callback-500" in self.faults:
            return _page("<h1>Something went wrong</h1>", 500)
        try:
            root = etree.fromstring(
                base64.b64decode(request.form.get("SAMLResponse", ""), validate=True),
                etree.XMLParser(resolve_entities=False, no_network=True),
            )
        except (ValueError, etree.XMLSyntaxError):
            return _page("<h1>Sign-in failed</h1><p>There is no response here.</p>", 400)
        if root.get("Destination") != self.acs_url:
            return _page("<h1>Sign-in failed</h1><p>The response is for another address.</p>", 403)
        return self._let_in()

    # -- behind the doors

    def _let_in(self) -> Response:
        number = secrets.token_urlsafe(18)
        self._sessions.add(number)
        answer = redirect(f"{self.base}/home", 303)
        answer.set_cookie(_SESSION, number, secure=True, httponly=True, samesite="Lax", path="/")
        return answer

    def _home(self, request: Request) -> Response:
        if "loop" in self.faults or request.cookies.get(_SESSION) not in self._sessions:
            time.sleep(0.01)
            return redirect(f"{self.base}/login", 302)
        return _page("<h1>Welcome</h1><p>You are signed in.</p><a href='/logout'>Sign out</a>")


def _page(body: str, status: int = 200) -> Response:
    text = f"<!doctype html><html lang=en><head><title>Stand-in desk</title></head><body>{body}</body></html>"
    return Response(text, status, content_type="text/html; charset=utf-8")
