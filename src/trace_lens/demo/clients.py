"""The applications of Northmere Ferries that sign in by OpenID Connect: their settings, as data and as files."""

from __future__ import annotations

import json
from dataclasses import dataclass
from typing import Any

from trace_lens.demo.keys import SigningKey
from trace_lens.demo.scenario import HOME, PEOPLE
from trace_lens.demo.tokens import public_jwk

ISSUER = f"https://id.{HOME}"
AUTHORIZE, TOKEN, LOGOUT = f"{ISSUER}/oidc/authorize", f"{ISSUER}/oidc/token", f"{ISSUER}/oidc/logout"
CURRENT, RETIRED = "nm-2026-11", "nm-2026-05"
"""Ids of the keys that tokens are signed with: since the Tuesday of the change, and before."""


@dataclass(frozen=True, slots=True)
class Client:
    """One client: what stands in its settings beside what all have."""

    id: str
    name: str
    host: str
    users: int
    scopes: tuple[str, ...] = ("openid", "profile", "email")
    redirect: str = ""
    application: tuple[str, ...] = ()
    setup: tuple[str, ...] = ()
    account: tuple[str, ...] = ('from = "email"',)
    claims: tuple[str, ...] = ()

    @property
    def client_id(self) -> str:
        """Its identifier at the provider."""
        return f"{self.id}-web"

    @property
    def redirect_uri(self) -> str:
        """Where answers come back to."""
        return self.redirect or f"https://{self.host}.{HOME}/callback"


CLIENTS = (
    Client(
        "slip-booking",
        "Slip Booking",
        "slips",
        410,
        application=("requires_pkce = true",),
        claims=('name = "name"', 'need = "should"'),
    ),
    Client(
        "weather-desk",
        "Weather Desk",
        "weather",
        75,
        scopes=("openid", "profile", "email", "groups"),
        claims=(
            'name = "groups"',
            'need = "must"',
            "[claims.maps]",
            '"grp-charts" = "forecaster"',
            '"grp-staff" = "reader"',
        ),
    ),
    Client(
        "rope-store",
        "Rope Store",
        "ropes",
        22,
        application=('client_authentication = "client_secret_basic"', "secret_expires = 2026-11-13"),
    ),
    Client(
        "gangway",
        "Gangway",
        "gangway",
        1200,
        redirect="http://127.0.0.1/callback",
        application=("requires_pkce = true",),
    ),
    Client(
        "night-watch",
        "Night Watch",
        "watch",
        35,
        account=('from = "sub"', 'column = "id"'),
        application=('decryption_key = "keys/night-watch.key"', 'acr_values = ["two-factors"]'),
    ),
    Client(
        "parcel-lockers",
        "Parcel Lockers",
        "parcels",
        140,
        application=(f'api_audience = "https://api.parcels.{HOME}"',),
        account=('from = "email"', "created_at_first_sign_in = true"),
    ),
    Client(
        "deck-log",
        "Deck Logbook",
        "log",
        260,
        redirect=f"https://log.{HOME}:8443/callback",
        claims=(
            'name = "role"',
            'need = "must"',
            'one_of = ["master", "chief-mate"]',
            'elevated = ["master", "chief-mate"]',
        ),
    ),
)
CLIENT = {client.id: client for client in CLIENTS}


def client_files(keys: dict[str, SigningKey]) -> dict[str, str]:
    """The settings of all clients, the provider's discovery document, its key set and the one before."""
    files = {
        "discovery/northmere-id.json": _text(discovery()),
        "discovery/northmere-id.keys.json": _text({"keys": [public_jwk(keys[CURRENT].private, CURRENT, alg="RS256")]}),
        "discovery/northmere-id.keys-2026-05.json": _text(
            {"keys": [public_jwk(keys[RETIRED].private, RETIRED, alg="RS256")]}
        ),
        "keys/night-watch.key": keys["night-watch"].private_pem,
    }
    for client in CLIENTS:
        files[f"apps/{client.id}.toml"] = "\n".join(_app(client)) + "\n"
        files[f"accounts/{client.id}.csv"] = _accounts()
    return files


def discovery() -> dict[str, Any]:
    """The discovery document of Northmere ID."""
    return {
        "issuer": ISSUER,
        "authorization_endpoint": AUTHORIZE,
        "token_endpoint": TOKEN,
        "userinfo_endpoint": f"{ISSUER}/oidc/userinfo",
        "jwks_uri": f"{ISSUER}/oidc/keys",
        "end_session_endpoint": LOGOUT,
        "scopes_supported": ["openid", "profile", "email", "groups", "offline_access"],
        "response_types_supported": ["code", "id_token", "code id_token"],
        "response_modes_supported": ["query", "fragment", "form_post"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["RS256"],
        "token_endpoint_auth_methods_supported": ["client_secret_basic", "client_secret_post", "none"],
        "code_challenge_methods_supported": ["S256"],
        "acr_values_supported": ["password", "two-factors"],
    }


def subject_of(email: str) -> str:
    """The provider's id of a person: the number of the account."""
    return next(str(40100 + number) for number, person in enumerate(PEOPLE) if person.email == email)


def _text(document: dict[str, Any]) -> str:
    return json.dumps(document, indent=2) + "\n"


def _app(client: Client) -> list[str]:
    scopes = ", ".join(f'"{scope}"' for scope in client.scopes)
    claims = ["", "[[claims]]", *client.claims] if client.claims else []
    return [
        f'name = "{client.name}"',
        'protocol = "oidc"',
        'provider = "northmere-id"',
        'owner = "crew-systems@northmere.example"',
        f"users = {client.users}",
        "",
        "[application]",
        f'client_id = "{client.client_id}"',
        f'redirect_uris = ["{client.redirect_uri}"]',
        f'sign_in_url = "https://{client.host}.{HOME}/"',
        f"scopes = [{scopes}]",
        f'provider_issuer = "{ISSUER}"',
        f'discovery_url = "{ISSUER}/.well-known/openid-configuration"',
        *client.application,
        "",
        "[provider_setup]",
        f'client_id = "{client.client_id}"',
        f'redirect_uris = ["{client.redirect_uri}"]',
        f"scopes_granted = [{scopes}]",
        *client.setup,
        "",
        "[account]",
        *client.account,
        f'list = "accounts/{client.id}.csv"',
        *claims,
    ]


def _accounts() -> str:
    rows = [f"{person.email},{person.email},{person.login},{subject_of(person.email)},yes" for person in PEOPLE]
    return "\n".join(["user,email,login,id,active", *rows]) + "\n"
