"""What the tests of OpenID Connect build with: tokens, answers and a workspace with one client."""

from __future__ import annotations

import json
from datetime import datetime
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from kit import NOW, TERN, key
from trace_lens.demo.tokens import public_jwk, sign
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile

ISSUER = "https://id.northmere.example"
CLIENT = "berth-planner-web"
REDIRECT = "https://berths.northmere.example/callback"
IAT = 1763626443
"""2025-11-20T08:14:03Z, in seconds since 1970."""
API = "https://api.northmere.example/berths"
VERIFIER = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
CHALLENGE = "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"
"""The pair of RFC 7636, Appendix B."""


def claims(**changes: Any) -> dict[str, Any]:
    """The claims of an ID token that works; a change to None takes a claim out."""
    made = {
        "iss": ISSUER,
        "sub": "40117",
        "aud": CLIENT,
        "iat": IAT,
        "exp": IAT + 3600,
        "auth_time": IAT - 20,
        "nonce": "n-1",
        "email": TERN,
        "name": "M. Tern",
        "groups": ["grp-deck"],
        **changes,
    }
    return {name: value for name, value in made.items() if value is not None}


def token(
    algorithm: str = "RS256",
    signer: str = "oidc",
    kind: str = "rsa-2048",
    header: dict[str, Any] | None = None,
    **changes: Any,
) -> str:
    """A signed ID token."""
    return sign(claims(**changes), key(signer, kind), algorithm, **{"kid": signer, **(header or {})})


def request(**changes: str | None) -> str:
    """The address of an authorization request that works."""
    made = {
        "response_type": "code",
        "client_id": CLIENT,
        "redirect_uri": REDIRECT,
        "scope": "openid email profile",
        "state": "s-1",
        "nonce": "n-1",
        "code_challenge": CHALLENGE,
        "code_challenge_method": "S256",
        **changes,
    }
    kept = {name: value for name, value in made.items() if value is not None}
    return f"{ISSUER}/authorize?{urlencode(kept)}"


def answer(carried: str = "?", **changes: str | None) -> str:
    """The address that the browser comes back to."""
    made = {"code": "SplxlOBeZQQYbYS6WxSbIA", "state": "s-1", **changes}
    kept = {name: value for name, value in made.items() if value is not None}
    return f"{REDIRECT}{carried}{urlencode(kept)}"


def token_request(**changes: str | None) -> str:
    """The body of a token request that works."""
    made = {
        "grant_type": "authorization_code",
        "code": "SplxlOBeZQQYbYS6WxSbIA",
        "redirect_uri": REDIRECT,
        "client_id": CLIENT,
        "code_verifier": VERIFIER,
        **changes,
    }
    return urlencode({name: value for name, value in made.items() if value is not None})


def token_response(**changes: Any) -> str:
    """A token response that works; its ID token is signed unless another is told."""
    made = {
        "access_token": "2YotnFZFEjr1zCsicMWpAA",
        "token_type": "Bearer",
        "expires_in": 3600,
        "refresh_token": "tGzv3JOkF0XG5Qx2TlKWIA",
        "id_token": token(),
        **changes,
    }
    return json.dumps({name: value for name, value in made.items() if value is not None})


def capture(*parts: str) -> str:
    """Messages of one capture, one below the other."""
    return "\n\n".join(parts) + "\n"


APP = """name = "Berth Planner"
protocol = "oidc"
provider = "northmere-id"
[application]
client_id = "berth-planner-web"
redirect_uris = ["https://berths.northmere.example/callback"]
scopes = ["openid", "email", "profile"]
provider_issuer = "https://id.northmere.example"
{application}
[provider_setup]
client_id = "berth-planner-web"
redirect_uris = ["https://berths.northmere.example/callback"]
assigned = "everyone"
{provider_setup}
{more}
"""
PROVIDER = """name = "Northmere ID"
issuer = "https://id.northmere.example"
key_set = "discovery/keys.json"
{more}
"""


def client_workspace(
    folder: Path,
    *,
    application: str = "",
    provider_setup: str = "",
    more: str = "",
    provider: str = "",
    files: dict[str, str] | None = None,
    keys: list[dict[str, Any]] | None = None,
) -> Path:
    """A workspace with one client of OpenID Connect."""
    found = keys if keys is not None else [public_jwk(key("oidc"), "oidc")]
    written = {
        "trace-lens.toml": "",
        "providers/northmere-id.toml": PROVIDER.format(more=provider),
        "apps/berth-planner.toml": APP.format(application=application, provider_setup=provider_setup, more=more),
        "discovery/keys.json": json.dumps({"keys": found}),
        **(files or {}),
    }
    for name, text in written.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text, "utf-8")
    return folder


def judge_texts(folder: Path, *texts: str, at: datetime | None = None, app: str | None = None) -> list[Diagnosis]:
    """The diagnoses of captures, each a source of its own."""
    sources = [SourceFile(f"{number}.txt", text.encode()) for number, text in enumerate(texts, 1)]
    options = Options(NOW, at=at, app=app)
    return list(diagnose_sources(sources, load_workspace(folder), options, 1).diagnoses)
