"""The stand-in's provider: OpenID Connect (authorization code, PKCE, form post, userinfo, logout) and SAML 2.0 (
redirect and POST in, POST out, encrypted assertions, sign-ins that begin there), with one plain sign-in page for both.
"""

from __future__ import annotations

import base64
import hashlib
import random
import secrets
import time
import zlib
from collections.abc import Callable, Iterable
from datetime import UTC, datetime, timedelta
from html import escape
from typing import Any
from urllib.parse import urlencode

from lxml import etree
from werkzeug.utils import redirect
from werkzeug.wrappers import Request, Response

from trace_lens.common.tuples import NamedTuple
from trace_lens.demo import tokens
from trace_lens.demo.exchanges import encrypt
from trace_lens.demo.keys import SigningKey, make_key
from trace_lens.demo.messages import Answer, response
from trace_lens.live.stand_in.faults import Faults

USER, PASSWORD = "try.out", "correct-horse"
EMAIL = "try.out@northmere.example"
_SAML = "urn:oasis:names:tc:SAML:2.0:"
_AHEAD = 600


class Service(NamedTuple):
    """An application that uses SAML: its entity ID, its ACS URL, and the key that assertions are encrypted to."""

    entity_id: str
    acs_url: str
    key: SigningKey


class Client(NamedTuple):
    """A client of OpenID Connect."""

    client_id: str
    redirect_uris: tuple[str, ...]


class Provider:
    """The provider as a WSGI application."""

    def __init__(self, base: str, faults: Faults) -> None:
        self.base, self.faults = base, faults
        begin = datetime.now(UTC) - timedelta(days=1)
        until = begin + timedelta(days=800)
        self.key, self.other = (
            make_key(f"Stand-in {name}", begin, until, "Northmere Ferries") for name in ("one", "two")
        )
        self.clients: dict[str, Client] = {}
        self.services: dict[str, Service] = {}
        self._asked: dict[str, dict[str, str]] = {}
        self._codes: dict[str, dict[str, str]] = {}
        self._draw = random.Random(secrets.randbits(64))

    @property
    def entity_id(self) -> str:
        """Its entity ID."""
        return f"{self.base}/saml"

    def __call__(self, environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        request = Request(environ)
        if "slow" in self.faults:
            time.sleep(1)
        routes: dict[str, Callable[[Request], Response]] = {
            "/.well-known/openid-configuration": self._discovery,
            "/keys": lambda _: _json(self.key_set()),
            "/auth": self._authorize,
            "/sign-in": self._sign_in,
            "/token": self._token,
            "/me": self._userinfo,
            "/logout": self._logout,
            "/metadata": self._metadata,
            "/saml/sso": self._single_sign_on,
            "/saml/start": self._start,
            "/": lambda _: _page("Stand-in ID", "<h1>Stand-in ID</h1>"),
        }
        route = routes.get(request.path)
        answer: Response = route(request) if route else _page("Not found", "<h1>Not found</h1>", 404)
        return answer(environ, start)

    def now(self) -> float:
        """What its clock shows, in seconds since 1970."""
        return time.time() + (_AHEAD if "clock" in self.faults else 0)

    @property
    def _signing(self) -> SigningKey:
        return self.other if "rolled-key" in self.faults else self.key

    # -- documents

    def discovery(self) -> dict[str, Any]:
        """Its discovery document."""
        names = {
            "authorization_endpoint": "/auth",
            "token_endpoint": "/token",
            "userinfo_endpoint": "/me",
            "jwks_uri": "/keys",
            "end_session_endpoint": "/logout",
        }
        return {
            "issuer": self.base + ("/other" if "wrong-issuer" in self.faults else ""),
            **{name: self.base + path for name, path in names.items()},
            "response_types_supported": ["code"],
            "response_modes_supported": ["query", "form_post"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["RS256"],
            "code_challenge_methods_supported": ["S256"],
            "scopes_supported": ["openid", "profile", "email"],
            "token_endpoint_auth_methods_supported": ["none"],
        }

    def key_set(self) -> dict[str, Any]:
        """Its key set."""
        return {"keys": [] if "empty-key-set" in self.faults else [tokens.public_jwk(self.key.private, "stand-in")]}

    def metadata(self) -> str:
        """Its metadata."""
        ends = "".join(
            f'<md:SingleSignOnService Binding="{_SAML}bindings:{binding}" Location="{self.base}/saml/sso"/>'
            for binding in ("HTTP-Redirect", "HTTP-POST")
        )
        return (
            f'<md:EntityDescriptor xmlns:md="{_SAML}metadata" entityID="{self.entity_id}">'
            f'<md:IDPSSODescriptor protocolSupportEnumeration="{_SAML}protocol"><md:KeyDescriptor use="signing">'
            '<ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:X509Data>'
            f"<ds:X509Certificate>{self.key.base64}</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>"
            f"{ends}</md:IDPSSODescriptor></md:EntityDescriptor>"
        )

    def _discovery(self, _: Request) -> Response:
        return _closed() if "metadata-html" in self.faults else _json(self.discovery())

    def _metadata(self, _: Request) -> Response:
        if "metadata-html" in self.faults:
            return _closed()
        return Response(self.metadata(), content_type="application/samlmetadata+xml")

    # -- requests

    def _authorize(self, request: Request) -> Response:
        told = {**request.args.to_dict(), **request.form.to_dict()}
        client = self.clients.get(told.get("client_id", ""))
        if client is None:
            return _page("Error", "<h1>Error</h1><p>unknown client: this client_id is not registered</p>", 400)
        back = told.get("redirect_uri", "")
        if not _registered(back, client):
            return _page("Error", "<h1>Error</h1><p>This redirect_uri is not registered for the client.</p>", 400)
        if told.get("response_type") != "code" or told.get("code_challenge_method") not in (None, "S256"):
            return _back(told, error="invalid_request")
        if told.get("prompt") == "none":
            return _back(told, error="login_required")
        return self._ask({"kind": "oidc", **told})

    def _single_sign_on(self, request: Request) -> Response:
        told = request.form if request.method == "POST" else request.args
        try:
            data = base64.b64decode(told.get("SAMLRequest", ""), validate=True)
            text = data if request.method == "POST" else zlib.decompress(data, -15)
            root = etree.fromstring(text, etree.XMLParser(resolve_entities=False, no_network=True))
        except (ValueError, zlib.error, etree.XMLSyntaxError):
            return _page("Error", "<h1>Error</h1><p>There is no SAML request here.</p>", 400)
        issuer = root.findtext(f"{{{_SAML}assertion}}Issuer") or ""
        if issuer not in self.services:
            words = f"<h1>Error</h1><p>Unknown service provider: {escape(issuer)} is not registered.</p>"
            return _page("Error", words, 400)
        acs = root.get("AssertionConsumerServiceURL")
        if acs and acs != self.services[issuer].acs_url:
            words = "<h1>Error</h1><p>This assertion consumer service URL is not registered.</p>"
            return _page("Error", words, 400)
        return self._ask(
            {"kind": "saml", "service": issuer, "request": root.get("ID") or "", "relay": told.get("RelayState", "")}
        )

    def _start(self, request: Request) -> Response:
        """A sign-in that begins at the provider."""
        service = request.args.get("app", next(iter(self.services), ""))
        if service not in self.services:
            return _page("Error", "<h1>Error</h1><p>Unknown service provider.</p>", 404)
        return self._ask({"kind": "saml", "service": service, "request": "", "relay": ""})

    # -- the person

    def _ask(self, told: dict[str, str]) -> Response:
        number = secrets.token_urlsafe(12)
        self._asked[number] = told
        return self._form(number, named="second-page" not in self.faults)

    def _form(self, number: str, *, named: bool, user: str = "", words: str = "") -> Response:
        """The sign-in page; on two pages, the first asks for the name alone."""
        name = '<label>Name <input name="username" autocomplete="username"></label>'
        password = '<label>Password <input type="password" name="password" autocomplete="current-password"></label>'
        kept = f'<input type="hidden" name="username" value="{escape(user)}">' if user else name
        return _page(
            "Sign in",
            f'<h1>Sign in</h1>{words}<form method="post" action="/sign-in"><input type="hidden" name="number" '
            f'value="{escape(number)}">{kept}{password if named or user else ""}<button>Sign in</button></form>',
        )

    def _sign_in(self, request: Request) -> Response:
        number = request.form.get("number", "")
        told = self._asked.get(number)
        if told is None:
            return _page("Error", "<h1>Error</h1><p>This sign-in is over.</p>", 400)
        user = request.form.get("username", "")
        if "password" not in request.form:
            return self._form(number, named=True, user=user)
        if user not in (USER, EMAIL) or request.form["password"] != PASSWORD:
            return self._form(number, named=True, words="<p role=alert>Wrong name or password.</p>")
        del self._asked[number]
        return self._code(told) if told["kind"] == "oidc" else self._answer(told)

    # -- answers

    def _code(self, told: dict[str, str]) -> Response:
        code = secrets.token_urlsafe(24)
        self._codes[code] = told
        return _back(told, code=code)

    def _token(self, request: Request) -> Response:
        sent = request.form
        told = self._codes.pop(sent.get("code", ""), None) if request.method == "POST" else None
        if request.method != "POST":
            return _json({"error": "invalid_request"}, 405)
        if (
            told is None
            or sent.get("redirect_uri") != told["redirect_uri"]
            or sent.get("client_id") != told["client_id"]
        ):
            return _json({"error": "invalid_grant"}, 400)
        digest = hashlib.sha256(sent.get("code_verifier", "").encode()).digest()
        if tokens.to_base64url(digest) != told.get("code_challenge"):
            return _json({"error": "invalid_grant", "error_description": "the code verifier does not match"}, 400)
        now = int(self.now())
        claims = {
            "iss": self.discovery()["issuer"],
            "sub": USER,
            "aud": told["client_id"],
            "iat": now,
            "exp": now + 600,
            "email": EMAIL,
            **({"nonce": told["nonce"]} if "nonce" in told else {}),
        }
        token = tokens.sign(
            claims, self._signing.private, "RS256", kid="stand-in-2" if "rolled-key" in self.faults else "stand-in"
        )
        access = secrets.token_urlsafe(24)
        return _json(
            {
                "access_token": access,
                "token_type": "Bearer",
                "expires_in": 600,
                "id_token": token,
                "scope": told.get("scope", ""),
            }
        )

    def _logout(self, request: Request) -> Response:
        return redirect(request.args.get("post_logout_redirect_uri") or f"{self.base}/", 302)

    def _userinfo(self, request: Request) -> Response:
        if not (request.headers.get("Authorization") or "").startswith("Bearer "):
            return Response("", 401, headers={"WWW-Authenticate": "Bearer"})
        return _json({"sub": USER, "email": EMAIL})

    def _answer(self, told: dict[str, str]) -> Response:
        """A SAML response, its assertion encrypted, by a form that sends itself off."""
        service = self.services[told["service"]]
        answer = Answer(
            issuer=self.entity_id,
            audience=service.entity_id,
            acs_url=service.acs_url,
            name_id=EMAIL,
            issued=datetime.fromtimestamp(self.now(), UTC),
            answers_request=False,
        )
        root = response(answer, self._signing, self._draw, "assertion", told["request"] or None)
        text = base64.b64encode(etree.tostring(encrypt(root, service.key, first_oaep=True))).decode()
        fields = {"SAMLResponse": text, **({"RelayState": told["relay"]} if told["relay"] else {})}
        return _self_sent(service.acs_url, fields)


def _registered(address: str, client: Client) -> bool:
    """Whether a redirect URI is registered; one on a loopback literal matches any port (RFC 8252 §7.3)."""
    if address in client.redirect_uris:
        return True
    host, _, path = address.removeprefix("http://").partition("/")
    return address.startswith("http://127.0.0.1") and f"http://{host.partition(':')[0]}/{path}" in client.redirect_uris


def _back(told: dict[str, str], **values: str) -> Response:
    """Back to the client, by the address or by a form."""
    if "state" in told:
        values["state"] = told["state"]
    if told.get("response_mode") == "form_post":
        return _self_sent(told["redirect_uri"], values)
    return redirect(f"{told['redirect_uri']}?{urlencode(values)}", 303)


def _self_sent(address: str, fields: dict[str, str]) -> Response:
    rows = "".join(f'<input type="hidden" name="{name}" value="{escape(value)}">' for name, value in fields.items())
    form = f'<form method="post" action="{escape(address)}">{rows}<noscript><button>Continue</button></noscript></form>'
    return _page("One moment", f"{form}<script>document.forms[0].submit()</script>")


def _page(title: str, body: str, status: int = 200) -> Response:
    text = f"<!doctype html><html lang=en><head><title>{title}</title></head><body>{body}</body></html>"
    return Response(text, status, content_type="text/html; charset=utf-8")


def _closed() -> Response:
    return _page("Closed", "<h1>Closed for maintenance</h1>")


def _json(told: dict[str, Any], status: int = 200) -> Response:
    import json

    return Response(json.dumps(told), status, content_type="application/json")
