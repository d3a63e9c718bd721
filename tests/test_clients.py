"""Settings of OpenID Connect clients, their two sides, comparisons and additions, and the built program on tokens."""

from __future__ import annotations

import json
import tomllib
from pathlib import Path
from typing import Any

import pytest

from kit import NOW, certificate, key, pem, private_pem, run, run_json
from oidc_kit import (
    CLIENT,
    ISSUER,
    REDIRECT,
    answer,
    capture,
    client_workspace,
    request,
    token,
    token_request,
    token_response,
)
from test_program import conforms
from trace_lens.demo.tokens import encrypt, public_jwk
from trace_lens.diagnosis.judging import check_settings
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.problems import SettingsError

DOCUMENT = {
    "issuer": ISSUER,
    "authorization_endpoint": f"{ISSUER}/authorize",
    "token_endpoint": f"{ISSUER}/token",
    "jwks_uri": f"{ISSUER}/keys",
    "response_types_supported": ["code", "id_token token"],
    "subject_types_supported": ["public"],
    "id_token_signing_alg_values_supported": ["RS256", "EdDSA"],
    "token_endpoint_auth_methods_supported": ["client_secret_basic"],
    "scopes_supported": ["openid", "email", "profile"],
    "code_challenge_methods_supported": ["S256"],
}
FOUND = 'discovery = "discovery/id.json"'


def document(**changes: Any) -> dict[str, str]:
    """The discovery document as a file."""
    made = {name: value for name, value in {**DOCUMENT, **changes}.items() if value is not None}
    return {"discovery/id.json": json.dumps(made)}


BARE = 'protocol = "oidc"\nprovider = "northmere-id"\n'
SETTINGS: list[tuple[str, dict[str, Any], dict[str, str]]] = [
    ("all agrees", {"provider": FOUND, "files": document()}, {"sign-in-left-open": "risk"}),
    (
        "another algorithm name",
        {"provider": FOUND, "files": document(), "application": 'token_algorithm = "Ed25519"'},
        {},
    ),
    (
        "another order of response type",
        {"provider": FOUND, "files": document(), "application": 'response_type = "token id_token"'},
        {},
    ),
    (
        "a response type not offered",
        {"provider": FOUND, "files": document(), "application": 'response_type = "code token"'},
        {"settings-disagree": "break"},
    ),
    (
        "a method not offered",
        {"provider": FOUND, "files": document(), "application": 'client_authentication = "client_secret_post"'},
        {"settings-disagree": "break"},
    ),
    (
        "an algorithm not offered",
        {"provider": FOUND, "files": document(), "application": 'token_algorithm = "ES256"'},
        {"settings-disagree": "break"},
    ),
    (
        "PKCE not offered",
        {
            "provider": FOUND,
            "files": document(code_challenge_methods_supported=["plain"]),
            "application": "requires_pkce = true",
        },
        {"settings-disagree": "break"},
    ),
    (
        "a scope not granted",
        {"provider_setup": 'scopes_granted = ["openid", "profile"]'},
        {"settings-disagree": "break"},
    ),
    ("no token endpoint", {"provider": FOUND, "files": document(token_endpoint=None)}, {"endpoint-missing": "risk"}),
    (
        "no sign-out",
        {
            "provider": FOUND,
            "files": document(),
            "application": 'sign_out_url = "https://berths.northmere.example/out"',
        },
        {"endpoint-missing": "risk"},
    ),
    (
        "an endpoint made up",
        {"provider": FOUND, "files": document(), "application": f'provider_sso_url = "{ISSUER}/oauth2/authorize"'},
        {"endpoint-guessed": "risk"},
    ),
    (
        "a discovery address of another",
        {
            "provider": FOUND,
            "files": document(),
            "application": f'discovery_url = "{ISSUER}/v2/.well-known/openid-configuration"',
        },
        {"discovery-issuer-mismatch": "break"},
    ),
    (
        "the right discovery address",
        {
            "provider": FOUND,
            "files": document(),
            "application": f'discovery_url = "{ISSUER}/.well-known/openid-configuration"',
        },
        {},
    ),
    (
        "a document of another",
        {"provider": FOUND, "files": document(issuer="https://other.example")},
        {"discovery-issuer-mismatch": "break"},
    ),
    ("the secret had ended", {"application": "secret_expires = 2026-11-13"}, {"client-secret-expired": "risk"}),
    ("the secret ends soon", {"application": 'secret_expires = "2026-12-01"'}, {"client-secret-expiring": "risk"}),
    (
        "another redirect URI",
        {
            "files": {
                "apps/berth-planner.toml": BARE + f'[application]\nclient_id = "c"\nredirect_uris = ["{REDIRECT}/"]\n'
                f'[provider_setup]\nredirect_uris = ["{REDIRECT}"]\n'
            }
        },
        {"settings-disagree": "break"},
    ),
    (
        "another client_id",
        {
            "files": {
                "apps/berth-planner.toml": BARE + f'[application]\nclient_id = "c"\nredirect_uris = ["{REDIRECT}"]\n'
                '[provider_setup]\nclient_id = "d"\n'
            }
        },
        {"settings-disagree": "break"},
    ),
    (
        "another issuer",
        {
            "files": {
                "apps/berth-planner.toml": BARE + f'[application]\nclient_id = "c"\nredirect_uris = ["{REDIRECT}"]\n'
                f'provider_issuer = "{ISSUER}/"\n'
            }
        },
        {"settings-disagree": "break"},
    ),
    (
        "the redirect URI as issuer",
        {
            "files": {
                "apps/berth-planner.toml": BARE + f'[application]\nclient_id = "c"\nredirect_uris = ["{REDIRECT}"]\n'
                f'provider_issuer = "{REDIRECT}"\n'
            }
        },
        {"setting-misplaced": "break"},
    ),
    ("nothing on record", {"files": {"apps/berth-planner.toml": BARE}, "keys": []}, {"setting-missing": "risk"}),
    (
        "one identifier for two",
        {
            "files": {
                "apps/other.toml": BARE + f'[application]\nclient_id = "{CLIENT}"\nredirect_uris = ["{REDIRECT}"]\n'
            }
        },
        {"identifier-shared": "risk"},
    ),
]


@pytest.mark.parametrize(("name", "settings", "codes"), SETTINGS, ids=[one[0] for one in SETTINGS])
def test_settings(name: str, settings: dict[str, Any], codes: dict[str, str], tmp_path: Path) -> None:
    found = load_workspace(client_workspace(tmp_path, **settings))
    ((_, findings),) = check_settings([found.apps["berth-planner"]], found, NOW)
    seen = {one.code: str(one.severity) for one in findings}
    assert {code: level for code, level in seen.items() if code != "sign-in-left-open" or code in codes} == codes
    assert all(item.source and item.where for one in findings for item in one.evidence)


@pytest.mark.parametrize(
    ("name", "text", "words"),
    [
        ("discovery/id.json", "{", "no JSON"),
        ("discovery/id.json", "{}", "no discovery document"),
        ("discovery/keys.json", '{"a": 1}', "no key set"),
    ],
)
def test_documents_that_cannot_be_used(name: str, text: str, words: str, tmp_path: Path) -> None:
    found = load_workspace(client_workspace(tmp_path, provider=FOUND, files={**document(), name: text}))
    with pytest.raises(SettingsError, match=words):
        check_settings(list(found.apps.values()), found, NOW)


def verdicts(found: dict[str, Any]) -> dict[str, str]:
    """The verdict of each row."""
    return {one["item"]: one["verdict"] for one in found["items"]}


def test_the_two_sides_of_a_client(tmp_path: Path) -> None:
    folder = client_workspace(
        tmp_path, provider=FOUND, files=document(), more='[[claims]]\nname = "email"\n[[claims]]\nname = "rank"\n'
    )
    (folder / "good.txt").write_text(capture(request(), answer(), token_request(), token_response()))
    status, found = run_json("sides", "berth-planner", "good.txt", folder=folder)
    conforms(found, "sides")
    assert (status, found["findings"]) == (0, [])
    good = verdicts(found)
    assert {
        good[item]
        for item in ("client_id", "redirect_uris", "issuer", "scopes", "token_algorithm", "keys", "claim email")
    } == {"equal"}
    assert good["claim rank"] == "alone"
    (folder / "bad.txt").write_text(
        capture(request(redirect_uri=REDIRECT + "/", scope="openid"), token(iss=ISSUER + "/", signer="other"))
    )
    _, found = run_json("sides", "berth-planner", "bad.txt", folder=folder)
    bad = verdicts(found)
    assert (bad["redirect_uris"], bad["issuer"], bad["scopes"], bad["keys"]) == (
        "near",
        "near",
        "different",
        "different",
    )


def test_comparing_two_sign_ins(tmp_path: Path) -> None:
    folder = client_workspace(tmp_path, more='[[claims]]\nname = "email"\n')
    (folder / "a.txt").write_text(
        capture(request(scope="openid"), answer(), token_request(), token_response(id_token=token(email=None)))
    )
    (folder / "b.txt").write_text(capture(request(), answer(), token_request(), token_response()))
    status, found = run_json("compare", "a.txt", "b.txt", folder=folder)
    conforms(found, "compare")
    assert status == 1
    matters = {one["item"] for one in found["differences"] if one["matters"]}
    assert {"request: scope", "claim email"} <= matters
    status, found = run_json("compare", "b.txt", "b.txt", folder=folder)
    assert (status, found["differences"]) == (0, [])


def test_comparing_documents(tmp_path: Path) -> None:
    folder = client_workspace(tmp_path)
    (folder / "a.json").write_text(json.dumps(DOCUMENT))
    (folder / "b.json").write_text(
        json.dumps({**DOCUMENT, "issuer": ISSUER + "/", "op_tos_uri": "https://id.northmere.example/tos"})
    )
    status, found = run_json("compare", "a.json", "b.json", folder=folder)
    conforms(found, "compare")
    assert (status, found["kind"]) == (1, "discovery documents")
    assert {one["item"]: (one["matters"], one["hits"]) for one in found["differences"]} == {
        "issuer": (True, ["berth-planner"]),
        "op_tos_uri": (False, []),
    }
    (folder / "new.json").write_text(json.dumps({"keys": [public_jwk(key("next"), "next")]}))
    status, found = run_json("compare", "discovery/keys.json", "new.json", folder=folder)
    assert (status, found["kind"]) == (1, "key sets")
    assert {one["item"]: one["matters"] for one in found["differences"]} == {"key oidc": True, "key next": False}


def test_adding_clients(tmp_path: Path) -> None:
    folder = client_workspace(tmp_path)
    registration = {
        "client_id": "tides-web",
        "client_secret": "do not write this",
        "redirect_uris": ["https://tides.northmere.example/cb"],
        "client_name": "Tide Tables",
        "client_secret_expires_at": 1796083200,
        "token_endpoint_auth_method": "client_secret_post",
        "response_types": ["code"],
        "scope": "openid email",
    }
    (folder / "r.json").write_text(json.dumps(registration))
    done = run("apps", "add", "--from", "r.json", "--provider", "northmere-id", folder=folder)
    assert done.returncode == 0, done.stderr
    text = (folder / "apps/tide-tables.toml").read_text()
    made = tomllib.loads(text)
    assert "do not write" not in text
    setup = made["provider_setup"]
    assert (made["protocol"], setup["client_id"], setup["scopes_granted"]) == ("oidc", "tides-web", ["openid", "email"])
    assert "client_id" not in made["application"], "a registration is the provider's record"
    assert made["application"]["secret_expires"] == "2026-12-01"
    done = run(
        "apps",
        "add",
        "ropes",
        "--client-id",
        "ropes-web",
        "--redirect-uri",
        "https://ropes.northmere.example/cb",
        folder=folder,
    )
    assert done.returncode == 0, done.stderr
    (folder / "d.json").write_text(json.dumps(DOCUMENT))
    done = run("apps", "add", "other-id", "--from", "d.json", folder=folder)
    assert done.returncode == 0, done.stderr
    assert load_workspace(folder).providers["other-id"].issuer == ISSUER
    assert {*load_workspace(folder).apps} == {"berth-planner", "ropes", "tide-tables"}
    assert run("apps", "add", "--from", "d.json", "--as", "app", folder=folder).returncode == 2


def test_the_program_on_tokens(tmp_path: Path) -> None:
    """A token by standard input: judged, laid open, its secrets masked, its exit status told."""
    folder = client_workspace(tmp_path)
    made = token()
    done = run("diagnose", "-", "--format", "json", folder=folder, stdin=made.encode())
    attempt = json.loads(done.stdout)["attempts"][0]
    assert (done.returncode, attempt["protocol"], attempt["outcome"], attempt["subject"]) == (
        0,
        "oidc",
        "sound",
        "40117",
    )
    assert {
        "name": "email",
        "values": ["m.tern@northmere.example"],
        "from": "id-token",
        "use": "unused",
    }.items() <= attempt["claims"][0].items()
    done = run("diagnose", "-", folder=folder, stdin=token(aud="other", sub="x\x1b[31m").encode())
    assert done.returncode == 1
    assert b"\x1b" not in done.stdout
    done = run("decode", "-", "--format", "json", folder=folder, stdin=f"Bearer {made}".encode())
    assert done.returncode == 0
    assert made.rpartition(".")[2] not in done.stdout.decode()
    assert json.loads(done.stdout)["messages"][0]["kind"] == "id-token"


def test_a_setting_tried_on_a_token(tmp_path: Path) -> None:
    folder = client_workspace(tmp_path)
    (folder / "t.txt").write_text(token(aud="berth-planner-app"))
    _, found = run_json("diagnose", "t.txt", folder=folder)
    assert found["attempts"][0]["first_break"] == "audience-mismatch"
    status, found = run_json("diagnose", "t.txt", "--set", "application.client_id=berth-planner-app", folder=folder)
    assert (status, found["attempts"][0]["outcome"]) == (0, "sound")


def test_identifying_by_a_claim(tmp_path: Path) -> None:
    folder = client_workspace(
        tmp_path,
        more='[account]\nfrom = "email"\nlist = "a.csv"\n',
        files={"a.csv": "user\nm.tern@northmere.example\n"},
    )
    (folder / "t.txt").write_text(token())
    status, found = run_json("identify", "berth-planner", "t.txt", folder=folder)
    conforms(found, "identify")
    assert (status, found["names"][0]["name"], found["names"][0]["account"]) == (
        0,
        "m.tern@northmere.example",
        "m.tern@northmere.example",
    )


def test_several_attempts_in_many_sources(tmp_path: Path) -> None:
    folder = client_workspace(tmp_path)
    (folder / "c").mkdir()
    for number in range(3):
        (folder / f"c/{number}.txt").write_text(token(nonce=f"n-{number}", sid=f"s-{number}"))
    (folder / "c/keys.json").write_text(json.dumps({"keys": []}))
    status, found = run_json("diagnose", "c", folder=folder)
    conforms(found, "diagnosis")
    assert (status, len(found["attempts"])) == (3, 3)
    assert "key-set" in found["unreadable"][0]["because"]


def test_a_sealed_token_alone(tmp_path: Path) -> None:
    """The application is the one whose key opens it; what comes out keeps to the schemas."""
    folder = client_workspace(
        tmp_path, application='decryption_key = "keys/c.key"', files={"keys/c.key": private_pem(key("client"))}
    )
    (folder / "t.txt").write_text(encrypt(token(), key("client").public_key()))
    _, found = run_json("diagnose", "t.txt", folder=folder)
    conforms(found, "diagnosis")
    assert (found["attempts"][0]["outcome"], found["attempts"][0]["chosen_by"]) == ("sound", "key")
    assert (found["attempts"][0]["at"], found["attempts"][0]["at_from"]) == ("2025-11-20T08:14:03Z", "message")
    _, found = run_json("decode", "t.txt", folder=folder)
    conforms(found, "decode")


def test_a_certificate_in_a_token(tmp_path: Path) -> None:
    folder = client_workspace(tmp_path)
    der = "".join(pem(certificate("id")).splitlines()[1:-1])
    (folder / "t.txt").write_text(token(header={"x5c": [der]}))
    status, found = run_json("certs", "t.txt", folder=folder)
    assert (status, found["certificates"][0]["subject"]) == (0, "CN=id")
