"""Systems on Python libraries: a SAML provider and a SAML application on pysaml2, an OpenID Connect application and a
provider on Authlib. Started with one JSON object of settings as its argument; all hosts of it on one port of loopback.
"""

from __future__ import annotations

import json
import os
import secrets
import socket
import sys
import time
from pathlib import Path
from types import SimpleNamespace

from flask import Flask, make_response, redirect, request, session
from werkzeug.middleware.proxy_fix import ProxyFix

SETTINGS = json.loads(sys.argv[1])
FOLDER = Path(SETTINGS["keys"])
os.environ["REQUESTS_CA_BUNDLE"] = str(FOLDER / "ca.pem")
EMAIL = "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"
PEOPLE = {"m.tern": "m.tern@northmere.example", "a.fulmar": "a.fulmar@northmere.example"}
_lookup = socket.getaddrinfo
socket.getaddrinfo = lambda host, port, *rest, **more: _lookup(
    "127.0.0.1" if str(host).endswith(".example") else host, port, *rest, **more
)


def page(title: str, body: str, status: int = 200):
    answer = make_response(
        f"<!doctype html><html><head><title>{title}</title></head><body>{body}</body></html>", status
    )
    answer.headers["Content-Type"] = "text/html; charset=utf-8"
    return answer


def sign_in(target: str, wrong: bool = False) -> str:
    said = '<p role="alert">That did not match.</p>' if wrong else ""
    return (
        f'<h1>Sign in to Harbour Key</h1>{said}<form method="post" action="/sign-in?to={target}"><input name="username">'
        '<input type="password" name="password"><button id="go">Sign in</button></form>'
    )


def saml_provider(told: dict) -> Flask:
    from saml2 import BINDING_HTTP_POST, BINDING_HTTP_REDIRECT
    from saml2.config import IdPConfig
    from saml2.saml import NAMEID_FORMAT_EMAILADDRESS, NameID
    from saml2.server import Server

    host = "https://idp.harbourkey.example"
    key = told.get("sign_with", "harbourkey")
    config = IdPConfig().load(
        {
            "entityid": f"{host}/saml",
            "name": "Harbour Key",
            "xmlsec_binary": "/usr/bin/xmlsec1",
            "key_file": str(FOLDER / f"{key}.key"),
            "cert_file": str(FOLDER / f"{key}.pem"),
            "metadata": {"inline": told["metadata"]},
            "service": {
                "idp": {
                    "endpoints": {
                        "single_sign_on_service": [
                            (f"{host}/sso", BINDING_HTTP_REDIRECT),
                            (f"{host}/sso/post", BINDING_HTTP_POST),
                        ],
                        "single_logout_service": [(f"{host}/slo", BINDING_HTTP_REDIRECT)],
                    },
                    "policy": {
                        "default": {
                            "lifetime": {"minutes": told.get("minutes", 15)},
                            "attribute_restrictions": None,
                            "name_form": "urn:oasis:names:tc:SAML:2.0:attrname-format:uri",
                        }
                    },
                    "want_authn_requests_signed": told.get("want_signed", False),
                    "name_id_format": [NAMEID_FORMAT_EMAILADDRESS],
                }
            },
        }
    )
    server = Server(config=config)
    app = Flask("idp")
    app.secret_key = "recording"
    waiting: dict[str, tuple] = {}

    def answer(name: str, parsed, relay: str | None):
        binding = BINDING_HTTP_POST
        made = server.response_args(parsed.message)
        made.pop("binding", None)
        destination = told.get("destination") or made["destination"]
        response = server.create_authn_response(
            {"mail": [PEOPLE[name]], "uid": [name], "displayName": ["A member of the crew"]},
            userid=name,
            name_id=NameID(format=told.get("format", EMAIL), text=told.get("names", PEOPLE)[name]),
            authn={
                "class_ref": "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport",
                "authn_auth": host,
            },
            sign_assertion=told.get("sign_assertion", True),
            sign_response=told.get("sign_response", False),
            encrypt_assertion=told.get("encrypt", False),
            encrypted_advice_attributes=False,
            sign_alg="http://www.w3.org/2001/04/xmldsig-more#rsa-sha256",
            digest_alg="http://www.w3.org/2001/04/xmlenc#sha256",
            in_response_to=made["in_response_to"],
            destination=destination,
            sp_entity_id=made["sp_entity_id"],
        )
        sent = server.apply_binding(binding, str(response), destination, relay or "", response=True)
        return make_response(sent["data"], 200, {"Content-Type": "text/html"})

    @app.route("/sso")
    @app.route("/sso/post", methods=["GET", "POST"])
    def sso():
        given = request.form if request.method == "POST" else request.args
        binding = BINDING_HTTP_POST if request.method == "POST" else BINDING_HTTP_REDIRECT
        try:
            parsed = server.parse_authn_request(
                given["SAMLRequest"],
                binding,
                relay_state=given.get("RelayState"),
                sigalg=given.get("SigAlg"),
                signature=given.get("Signature"),
            )
            server.response_args(parsed.message)
        except Exception as error:
            return page(
                "Harbour Key", f"<h1>The request cannot be served</h1><p>{type(error).__name__}: {error}</p>", 400
            )
        if parsed.message.is_passive == "true" and "who" not in session:
            made = server.response_args(parsed.message)
            made.pop("binding", None)
            from saml2.s_utils import UnknownPrincipal  # noqa: F401

            refused = server.create_error_response(
                made["in_response_to"],
                made["destination"],
                info=("urn:oasis:names:tc:SAML:2.0:status:NoPassive", "Passive authentication not supported."),
                sign=False,
            )
            sent = server.apply_binding(
                BINDING_HTTP_POST, str(refused), made["destination"], given.get("RelayState", ""), response=True
            )
            return make_response(sent["data"], 200, {"Content-Type": "text/html"})
        if told.get("refuse"):
            made = server.response_args(parsed.message)
            refused = server.create_error_response(
                made["in_response_to"],
                made["destination"],
                info=(f"urn:oasis:names:tc:SAML:2.0:status:{told['refuse']}", told.get("refuse_words", "")),
                sign=False,
            )
            sent = server.apply_binding(
                BINDING_HTTP_POST, str(refused), made["destination"], given.get("RelayState", ""), response=True
            )
            return make_response(sent["data"], 200, {"Content-Type": "text/html"})
        if "who" in session and parsed.message.force_authn != "true":
            return answer(session["who"], parsed, given.get("RelayState"))
        name = secrets.token_hex(8)
        waiting[name] = (parsed, given.get("RelayState"))
        return redirect(f"/sign-in?to={name}")

    @app.route("/sign-in", methods=["GET", "POST"])
    def signing_in():
        target = request.args["to"]
        if request.method == "GET":
            return page("Harbour Key", sign_in(target))
        name = request.form["username"]
        if name not in PEOPLE or request.form["password"] != "correct-horse":
            return page("Harbour Key", sign_in(target, True))
        if name in told.get("not_assigned", []):
            return page(
                "Harbour Key",
                f"<h1>Not allowed</h1><p>{PEOPLE[name]} has not been assigned to this application.</p>",
                403,
            )
        session["who"] = name
        parsed, relay = waiting[target]
        return answer(name, parsed, relay)

    @app.route("/slo")
    def slo():
        parsed = server.parse_logout_request(request.args["SAMLRequest"], BINDING_HTTP_REDIRECT)
        session.clear()
        made = server.create_logout_response(parsed.message, [BINDING_HTTP_REDIRECT], sign=False)
        where = server.metadata.single_logout_service(parsed.message.issuer.text, BINDING_HTTP_REDIRECT, "spsso")[0][
            "location"
        ]
        sent = server.apply_binding(
            BINDING_HTTP_REDIRECT, str(made), where, request.args.get("RelayState", ""), response=True
        )
        return redirect(dict(sent["headers"])["Location"])

    return app


def saml_application(told: dict) -> Flask:
    from saml2 import BINDING_HTTP_POST, BINDING_HTTP_REDIRECT
    from saml2.client import Saml2Client
    from saml2.config import SPConfig

    host = "https://galley.northmere.example"
    config = SPConfig().load(
        {
            "entityid": told.get("entity_id", f"{host}/metadata"),
            "xmlsec_binary": "/usr/bin/xmlsec1",
            "key_file": str(FOLDER / "galley.key"),
            "cert_file": str(FOLDER / "galley.pem"),
            "encryption_keypairs": [{"key_file": str(FOLDER / "galley.key"), "cert_file": str(FOLDER / "galley.pem")}],
            "metadata": {"inline": told["metadata"]},
            "accepted_time_diff": told.get("skew", 60),
            "service": {
                "sp": {
                    "endpoints": {
                        "assertion_consumer_service": [(f"{host}/acs", BINDING_HTTP_POST)],
                        "single_logout_service": [(f"{host}/slo", BINDING_HTTP_REDIRECT)],
                    },
                    "allow_unsolicited": told.get("unsolicited", False),
                    "authn_requests_signed": told.get("sign", False),
                    "want_assertions_signed": True,
                    "want_response_signed": False,
                    "logout_requests_signed": True,
                }
            },
        }
    )
    client = Saml2Client(config)
    app = Flask("sp")
    app.secret_key = "recording-too"
    app.config.update(
        SESSION_COOKIE_NAME="galley", SESSION_COOKIE_SECURE=True, SESSION_COOKIE_SAMESITE=told.get("same_site", "None")
    )
    outstanding: dict[str, str] = {}

    @app.route("/acs", methods=["POST"])
    def acs():
        known = outstanding if told.get("server_side", True) else {session["asked"]: "/"} if "asked" in session else {}
        try:
            found = client.parse_authn_request_response(
                request.form["SAMLResponse"], BINDING_HTTP_POST, outstanding=dict(known)
            )
        except Exception as error:
            if told.get("passive_once") and "NoPassive" in type(error).__name__:
                return redirect("/?tried=1")
            return page("Galley Orders", f"<h1>Sign-in failed</h1><p>{type(error).__name__}: {error}</p>", 400)
        if found is None:
            return page("Galley Orders", "<h1>Sign-in failed</h1><p>The response could not be used.</p>", 400)
        session["who"] = found.name_id.text
        session["index"] = str(found.name_id)
        return redirect("/")

    @app.route("/slo")
    def slo():
        session.clear()
        return page("Galley Orders", "<h1>You are signed out</h1>")

    @app.route("/logout")
    def logout():
        from saml2.saml import name_id_from_string

        name = name_id_from_string(session["index"])
        where = client.metadata.single_logout_service(told["provider"], BINDING_HTTP_REDIRECT, "idpsso")[0]["location"]
        _, made = client.create_logout_request(where, told["provider"], name_id=name, sign=False)
        sent = client.apply_binding(BINDING_HTTP_REDIRECT, str(made), where, "")
        return redirect(dict(sent["headers"])["Location"])

    @app.route("/")
    def home():
        if "who" in session:
            return page(
                "Galley Orders", f'<h1>Orders</h1><p>{session["who"]} <a id="out" href="/logout">Log out</a></p>'
            )
        more = {"is_passive": "true"} if told.get("passive") and "tried" not in request.args else {}
        if told.get("force"):
            more["force_authn"] = "true"
        asked, made = client.prepare_for_authenticate(
            entityid=told["provider"], relay_state="/", binding=BINDING_HTTP_REDIRECT, **more
        )
        outstanding[asked] = "/"
        session["asked"] = asked
        return redirect(dict(made["headers"])["Location"])

    return app


def client_application(told: dict) -> Flask:
    from authlib.integrations.flask_client import OAuth

    app = Flask("rp")
    app.secret_key = "recording-three"
    app.config.update(
        SESSION_COOKIE_NAME="fuel",
        SESSION_COOKIE_SECURE=told.get("secure", True),
        SESSION_COOKIE_SAMESITE=told.get("same_site", "Lax"),
        SESSION_COOKIE_PATH=told.get("cookie_path", "/"),
    )
    oauth = OAuth(app)
    oauth.register(
        "id",
        client_id=told.get("client_id", "fuel-ledger"),
        client_secret=told.get("secret", "fuel-ledger-secret-of-the-recording"),
        server_metadata_url=f"{told['issuer']}/.well-known/openid-configuration",
        client_kwargs={
            "scope": told.get("scope", "openid email profile"),
            "code_challenge_method": "S256",
            **told.get("client", {}),
        },
    )

    @app.route("/")
    def home():
        if "who" in session:
            return page(
                told.get("title", "Fuel Ledger"),
                f'<h1>Fuel taken in November</h1><p>{session["who"]} <a href="/logout">Log out</a></p>',
            )
        return oauth.id.authorize_redirect(
            told.get("redirect_uri", "https://fuel.northmere.example/signin-oidc"), **told.get("params", {})
        )

    @app.route("/signin-oidc", methods=["GET", "POST"])
    def back():
        try:
            token = oauth.id.authorize_access_token()
        except Exception as error:
            return page(
                "Fuel Ledger",
                f"<h1>We could not sign you in</h1><p>{error if told.get('say', True) else 'Please call the service desk.'}</p>",
                told.get("status", 400),
            )
        who = token["userinfo"]
        if told.get("group") and told["group"] not in who.get("groups", []):
            return page(
                "Fuel Ledger",
                f"<h1>No access</h1><p>You need the group {told['group']}. Your groups: {', '.join(who.get('groups', [])) or 'none'}.</p>",
                403,
            )
        session["who"] = who.get("email") or who["sub"]
        return redirect("/")

    @app.route("/logout")
    def out():
        session.clear()
        return page("Fuel Ledger", "<h1>Goodbye</h1>")

    return app


def client_provider(told: dict) -> Flask:
    """A small provider on Authlib: code flow, one user after the other."""
    from authlib.integrations.flask_oauth2 import AuthorizationServer
    from authlib.jose import JsonWebKey
    from authlib.oauth2.rfc6749 import grants
    from authlib.oauth2.rfc6749.models import AuthorizationCodeMixin, ClientMixin
    from authlib.oidc.core import UserInfo
    from authlib.oidc.core import grants as oidc_grants

    host = "https://accounts.tidewater.example"
    key = JsonWebKey.import_key((FOLDER / "tidewater.key").read_bytes(), {"kty": "RSA"})
    public = {**json.loads(key.as_json(is_private=False)), "kid": "tide-1", "use": "sig", "alg": "RS256"}

    class Client(ClientMixin):
        def __init__(self, name, secret, uris):
            self.client_id, self.secret, self.uris = name, secret, uris

        def get_client_id(self):
            return self.client_id

        def get_default_redirect_uri(self):
            return self.uris[0]

        def get_allowed_scope(self, scope):
            return scope or ""

        def check_redirect_uri(self, uri):
            return uri in self.uris

        def check_client_secret(self, secret):
            return secret == self.secret

        def check_endpoint_auth_method(self, method, endpoint):
            return True

        def check_response_type(self, kind):
            return kind == "code"

        def check_grant_type(self, kind):
            return kind == "authorization_code"

    class Code(SimpleNamespace, AuthorizationCodeMixin):
        def get_redirect_uri(self):
            return self.redirect_uri

        def get_scope(self):
            return self.scope

        def get_nonce(self):
            return self.nonce

        def get_auth_time(self):
            return self.auth_time

        def get_acr(self):
            return None

        def get_amr(self):
            return None

    clients = {name: Client(name, one["secret"], one["redirect_uris"]) for name, one in told["clients"].items()}
    codes: dict[str, Code] = {}
    app = Flask("op")
    app.secret_key = "recording-four"
    server = AuthorizationServer(app, query_client=clients.get, save_token=lambda token, request: None)

    class CodeGrant(grants.AuthorizationCodeGrant):
        TOKEN_ENDPOINT_AUTH_METHODS = ["client_secret_basic", "client_secret_post", "none"]

        def save_authorization_code(self, code, asked):
            codes[code] = Code(
                code=code,
                client_id=asked.client.client_id,
                redirect_uri=asked.payload.redirect_uri,
                scope=asked.payload.scope,
                nonce=asked.payload.data.get("nonce"),
                auth_time=int(time.time()),
                user=asked.user,
            )

        def query_authorization_code(self, code, client):
            found = codes.get(code)
            return found if found and found.client_id == client.client_id else None

        def delete_authorization_code(self, code):
            codes.pop(code.code, None)

        def authenticate_user(self, code):
            return code.user

    class IdToken(oidc_grants.OpenIDCode):
        def exists_nonce(self, nonce, asked):
            return False

        def get_jwt_config(self, grant):
            return {
                "key": (FOLDER / "tidewater.key").read_text(),
                "alg": "RS256",
                "iss": told.get("issuer_in_token", host),
                "exp": 3600,
            }

        def generate_user_info(self, user, scope):
            return UserInfo(sub=user.name, email=PEOPLE[user.name])

    server.register_grant(CodeGrant, [IdToken(require_nonce=False)])

    @app.route("/.well-known/openid-configuration")
    def discovery():
        return {
            "issuer": told.get("issuer", host),
            "authorization_endpoint": f"{host}/authorize",
            "token_endpoint": f"{host}/token",
            "jwks_uri": f"{host}/keys",
            "response_types_supported": ["code"],
            "subject_types_supported": ["public"],
            "id_token_signing_alg_values_supported": ["RS256"],
            "code_challenge_methods_supported": ["S256"],
        }

    @app.route("/keys")
    def keys():
        return {"keys": [public]}

    @app.route("/authorize", methods=["GET", "POST"])
    def authorize():
        if request.method == "POST":
            session["who"] = request.form["username"]
            if session["who"] not in PEOPLE:
                session.clear()
                return page("Tidewater", "<h1>Sign in</h1><p role='alert'>Unknown name.</p>" + sign_form())
            return redirect(request.url)
        try:
            grant = server.get_consent_grant(end_user=None)
        except Exception as error:
            return page("Tidewater accounts", f"<h1>This request is not valid</h1><p>{error}</p>", 400)
        if "who" not in session:
            return page("Tidewater accounts", "<h1>Sign in</h1>" + sign_form())
        user = SimpleNamespace(name=session["who"], get_user_id=lambda: session["who"])
        return server.create_authorization_response(grant_user=user, grant=grant)

    def sign_form():
        return f'<form method="post" action="{request.full_path}"><input name="username"><input type="password" name="password"><button id="go">Sign in</button></form>'

    @app.route("/token", methods=["POST"])
    def token():
        return server.create_token_response()

    return app


MAKERS = {
    "idp.harbourkey.example": saml_provider,
    "galley.northmere.example": saml_application,
    "fuel.northmere.example": client_application,
    "accounts.tidewater.example": client_provider,
}


def main() -> None:
    apps = {host: ProxyFix(MAKERS[host](told), x_proto=1, x_host=0) for host, told in SETTINGS["hosts"].items()}

    def front(environ, start_response):
        return apps[environ["HTTP_HOST"].split(":")[0]](environ, start_response)

    from werkzeug.serving import make_server

    server = make_server("127.0.0.1", SETTINGS["port"], front, threaded=True)
    print("ready", flush=True)
    server.serve_forever()


main()
