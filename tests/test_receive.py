"""`trace-lens receive`: a sign-in caught on loopback from a provider on loopback, and judged by an application's rules."""

from __future__ import annotations

import base64
import hashlib
import http.server
import json
import re
import socket
import ssl
import threading
import time
import xml.etree.ElementTree as ElementTree
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx
import pytest

from kit import Done, certificate, idp_metadata, key, pem, posted, response, run, run_program
from live_kit import Held, issued, serving
from strict_schemas import conforms
from trace_lens.common.moments import show_moment
from trace_lens.demo.tokens import public_jwk, sign
from trace_lens.live.receiver_keys import metadata_of, receiver_key


def b64(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()


class Provider(http.server.BaseHTTPRequestHandler):
    """An OpenID Connect provider that signs everybody in at once."""

    port: list[int]
    codes: dict[str, dict[str, str]]
    claims: dict[str, Any]
    fault = ""

    @property
    def base(self) -> str:
        return f"https://localhost:{self.port[0]}"

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        told = {name: values[0] for name, values in parse_qs(parts.query).items()}
        if parts.path == "/.well-known/openid-configuration":
            names = {
                "authorization_endpoint": "/auth",
                "token_endpoint": "/token",
                "userinfo_endpoint": "/me",
                "jwks_uri": "/keys",
            }
            return self._json({"issuer": self.base} | {name: self.base + path for name, path in names.items()})
        if parts.path == "/keys":
            return self._json({"keys": [public_jwk(key("oidc"), "oidc")]})
        if parts.path == "/me":
            return self._json({"sub": "m.tern", "email": "m.tern@northmere.example"})
        if self.fault == "denied":
            return self._to(
                told["redirect_uri"], error="access_denied", error_description="not assigned", state=told["state"]
            )
        self.codes["code-1"] = told
        return self._to(told["redirect_uri"], code="code-1", state=told["state"])

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"])).decode()
        sent = {name: values[0] for name, values in parse_qs(body).items()}
        asked = self.codes[sent["code"]]
        assert b64(hashlib.sha256(sent["code_verifier"].encode()).digest()) == asked["code_challenge"]
        now = int(time.time())
        audience = "somebody-else" if self.fault == "audience" else sent["client_id"]
        claims = {
            "iss": self.base,
            "aud": audience,
            "sub": "m.tern",
            "nonce": asked["nonce"],
            "iat": now,
            "exp": now + 300,
        }
        token = sign(claims | self.claims, key("oidc"), "RS256", kid="oidc")
        self._json({"access_token": "opaque-canary", "token_type": "Bearer", "expires_in": 300, "id_token": token})

    def _json(self, told: dict[str, Any]) -> None:
        data = json.dumps(told).encode()
        self.send_response(200)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def _to(self, address: str, **told: str) -> None:
        self.send_response(303)
        self.send_header("Location", f"{address}?{urlencode(told)}")
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: object) -> None:
        """Say nothing."""


def free_port() -> int:
    with socket.socket() as held:
        held.bind(("127.0.0.1", 0))
        return int(held.getsockname()[1])


@contextmanager
def receiving(folder: Path, port: int, *options: str) -> Iterator[list[Done]]:
    """The command, running until the block ends; what it wrote is in the list then."""
    done: list[Done] = []
    thread = threading.Thread(
        target=lambda: done.append(run_program("receive", "--port", str(port), *options, folder=folder))
    )
    thread.start()
    for _ in range(200):
        with socket.socket() as tried:
            if tried.connect_ex(("127.0.0.1", port)) == 0:
                break
        time.sleep(0.05)
    yield done
    thread.join(20)
    assert done


@pytest.fixture
def house(tmp_path: Path) -> Path:
    for folder in ("apps", "providers", "certs", "accounts"):
        (tmp_path / folder).mkdir()
    (tmp_path / "trace-lens.toml").write_text("")
    (tmp_path / "apps/roster.toml").write_text(
        'name = "Roster"\nprotocol = "oidc"\nprovider = "id"\n[application]\nclient_id = "roster"\n'
        'redirect_uris = ["https://roster.northmere.example/callback"]\nscopes = ["openid", "email"]\n'
        '[account]\nfrom = "email"\nlist = "accounts/roster.csv"\n[[claims]]\nname = "role"\nneed = "must"\n'
    )
    (tmp_path / "accounts/roster.csv").write_text("user\nm.tern@northmere.example\n")
    return tmp_path


def catch(
    house: Path,
    authority: tuple[Path, Held],
    monkeypatch: pytest.MonkeyPatch,
    fault: str,
    claims: dict[str, Any],
    *options: str,
) -> tuple[int, dict[str, Any], str]:
    """A whole sign-in through the receiver: exit status, what it wrote, what it said."""
    monkeypatch.setenv("SSL_CERT_FILE", str(authority[0]))
    port: list[int] = []
    handler = type("Here", (Provider,), {"port": port, "codes": {}, "claims": claims, "fault": fault})
    with serving(house, issued("here", authority[1], "localhost"), handler) as number:
        port.append(number)
        (house / "providers/id.toml").write_text(f'issuer = "https://localhost:{number}"\n')
        mine = free_port()
        with receiving(house, mine, "--client-id", "try-out", "--format", "json", "--timeout", "15", *options) as done:
            forged = httpx.get(f"http://127.0.0.1:{mine}/callback?code=x&state=made-up")
            assert forged.status_code == 400
            page = httpx.get(
                f"http://127.0.0.1:{mine}/",
                follow_redirects=True,
                verify=ssl.create_default_context(cafile=authority[0]),
            )
            assert "You can close this window" in page.text
    told = json.loads(done[0].stdout)
    conforms(told, "diagnosis")
    return done[0].returncode, told, done[0].stderr.decode()


def test_a_sign_in_is_caught_and_judged(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch
) -> None:
    code, told, said = catch(house, authority, monkeypatch, "", {"email": "m.tern@northmere.example", "role": "mate"})
    (attempt,) = told["attempts"]
    assert (code, attempt["outcome"], attempt["first_break"]) == (0, "sound", None), attempt["cause"]
    assert "Visit http://127.0.0.1:" in said
    assert "whose state is none that was sent" in said
    har = Path(told["har"])
    assert har.is_absolute()
    assert har.stat().st_mode & 0o077 == 0
    assert len(json.loads(har.read_text())["log"]["entries"]) == 4
    assert "opaque-canary" not in json.dumps(told)


def test_it_is_judged_by_the_rules_of_an_application(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch
) -> None:
    before = {path: path.read_bytes() for path in house.rglob("*.toml")}
    code, told, _ = catch(
        house, authority, monkeypatch, "", {"email": "m.tern@northmere.example"}, "--as", "roster", "--once"
    )
    (attempt,) = told["attempts"]
    assert (code, attempt["app"], attempt["first_break"]) == (1, "roster", "claim-missing")
    assert {claim["name"]: claim["use"] for claim in attempt["claims"]}["role"] == "missing"
    assert {path: path.read_bytes() for path in before if path.name != "id.toml"} == {
        path: data for path, data in before.items() if path.name != "id.toml"
    }


@pytest.mark.parametrize(("fault", "wanted"), [("audience", "audience-mismatch"), ("denied", "provider-refused")])
def test_what_breaks_is_told(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch, fault: str, wanted: str
) -> None:
    code, told, _ = catch(house, authority, monkeypatch, fault, {})
    assert (code, told["attempts"][0]["first_break"]) == (1, wanted)


def test_nobody_came_and_a_port_that_is_taken(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("SSL_CERT_FILE", str(authority[0]))
    port: list[int] = []
    handler = type("Here", (Provider,), {"port": port, "codes": {}, "claims": {}, "fault": ""})
    with serving(house, issued("here", authority[1], "localhost"), handler) as number, socket.socket() as held:
        port.append(number)
        (house / "providers/id.toml").write_text(f'issuer = "https://localhost:{number}"\n')
        done = run("receive", "--client-id", "x", "--timeout", "1", "--format", "json", folder=house)
        assert (done.returncode, json.loads(done.stdout)["attempts"], json.loads(done.stdout)["har"]) == (1, [], None)
        assert b"Nobody came within 1 seconds" in done.stderr
        held.bind(("127.0.0.1", 0))
        held.listen()
        taken = held.getsockname()[1]
        done = run("receive", "--client-id", "x", "--port", str(taken), folder=house)
        assert (done.returncode, f"port {taken} is taken".encode() in done.stderr) == (2, True)
    assert run("receive", folder=house).returncode == 2
    done = run("receive", "--client-id", "x", folder=house)
    assert (done.returncode, b"port-unreachable" in done.stderr) == (3, True)


def test_a_saml_response_is_caught(house: Path) -> None:
    """The receiver's metadata is registered; a response that nobody asked for is taken, as providers' portals send it."""
    (house / "certs/id.pem").write_text(pem(certificate("id")))
    (house / "metadata").mkdir()
    (house / "metadata/id.xml").write_text(idp_metadata())
    (house / "providers/id.toml").write_text('metadata = "metadata/id.xml"\n')
    (house / "apps/roster.toml").unlink()
    port = free_port()
    done = run("receive", "--port", str(port), "--write-metadata", "receiver.xml", folder=house)
    assert done.returncode == 0
    root = ElementTree.fromstring((house / "receiver.xml").read_text())
    entity = root.attrib["entityID"]
    assert entity == f"http://127.0.0.1:{port}/saml/metadata"
    again = receiver_key(house)[1]
    assert metadata_of(f"http://127.0.0.1:{port}", again) == (house / "receiver.xml").read_bytes()
    assert (house / ".trace-lens/receiver.key").stat().st_mode & 0o077 == 0
    now = time.time()

    def moment(seconds: float) -> str:
        from datetime import UTC, datetime

        return show_moment(datetime.fromtimestamp(now + seconds, UTC).replace(microsecond=0))

    acs = f"http://127.0.0.1:{port}/saml/acs"
    audiences = f"<saml:AudienceRestriction><saml:Audience>{entity}</saml:Audience></saml:AudienceRestriction>"
    message = response(
        destination=acs,
        recipient=acs,
        audiences=audiences,
        issued=moment(0),
        begins=moment(-60),
        ends=moment(300),
        authenticated=moment(-5),
        session_end=moment(28_000),
        request="",
        response_request="",
    )
    with receiving(house, port, "--format", "json", "--timeout", "15") as caught:
        begun = httpx.get(f"http://127.0.0.1:{port}/")
        assert begun.status_code == 302
        assert re.search(r"[?&]SAMLRequest=", begun.headers["location"])
        page = httpx.post(acs, content=posted(message), headers={"Content-Type": "application/x-www-form-urlencoded"})
        assert page.status_code == 200
    told = json.loads(caught[0].stdout)
    conforms(told, "diagnosis")
    (attempt,) = told["attempts"]
    assert (caught[0].returncode, attempt["outcome"], attempt["first_break"]) == (0, "sound", None), attempt
    assert attempt["provider"] == "id"
