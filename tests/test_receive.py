"""`trace-lens receive`: a sign-in caught on loopback from a provider on loopback, and judged by an application's rules."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import http.server
import json
import re
import socket
import ssl
import subprocess
import sys
import threading
import time
import xml.etree.ElementTree as ElementTree
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx
import pytest
from cryptography.hazmat.primitives import serialization
from werkzeug.test import EnvironBuilder

from kit import Done, certificate, idp_metadata, key, pem, posted, response, run, run_program
from live_kit import Held, issued, serving
from strict_schemas import conforms
from trace_lens.common.moments import show_moment
from trace_lens.demo.tokens import public_jwk, sign
from trace_lens.live.listening import Invitations
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
        code = f"code-{len(self.codes)}"
        self.codes[code] = told
        return self._to(told["redirect_uri"], code=code, state=told["state"])

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
        signer = "other" if self.fault == "key" else "oidc"
        token = sign(claims | self.claims, key(signer), "RS256", kid=signer)
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
    assert "opaque-canary" not in har.read_text()


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


@pytest.mark.parametrize(
    ("fault", "wanted"), [("audience", "audience-mismatch"), ("denied", "provider-refused"), ("key", "key-id-unknown")]
)
def test_what_breaks_is_told(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch, fault: str, wanted: str
) -> None:
    code, told, _ = catch(house, authority, monkeypatch, fault, {})
    assert (code, told["attempts"][0]["first_break"]) == (1, wanted)
    sides = {item["code"]: item["side"] for item in told["attempts"][0]["findings"]}
    assert wanted != "key-id-unknown" or sides[wanted] == "provider"


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
        assert b"Nobody came within 1 second." in done.stderr
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


# -- for a user elsewhere, by a link that works once


@contextmanager
def listening(house: Path, *options: str) -> Iterator[tuple[subprocess.Popen[bytes], Iterator[str]]]:
    """The command with --listen as a process: the process, and the links that it tells, as they come."""
    program = Path(sys.executable).with_name("trace-lens")
    with subprocess.Popen(
        [str(program), "receive", "--client-id", "try-out", "--port", str(free_port()), "--timeout", "20", *options],
        cwd=house,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
    ) as process:
        assert process.stderr is not None
        said = iter(process.stderr.readline, b"")
        links = (found[0] for line in said if (found := re.search(r"https://\S+/in/\S+", line.decode())))
        try:
            yield process, links
        finally:
            process.kill()


@contextmanager
def provided(house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A provider that signs everybody in at once, on record."""
    monkeypatch.setenv("SSL_CERT_FILE", str(authority[0]))
    port: list[int] = []
    claims = {"email": "m.tern@northmere.example", "role": "mate"}
    handler = type("Here", (Provider,), {"port": port, "codes": {}, "claims": claims, "fault": ""})
    with serving(house, issued("here", authority[1], "localhost"), handler) as number:
        port.append(number)
        (house / "providers/id.toml").write_text(f'issuer = "https://localhost:{number}"\n')
        yield


def visitor() -> httpx.Client:
    """A browser that goes on where its certificate warning is."""
    return httpx.Client(verify=False, follow_redirects=True)


def test_a_link_brings_one_sign_in_of_a_user_elsewhere(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch
) -> None:
    with (
        provided(house, authority, monkeypatch),
        listening(house, "--listen", "127.0.0.1", "--format", "json") as (
            process,
            links,
        ),
    ):
        link = next(links)
        base = link.partition("/in/")[0]
        with visitor() as stranger, visitor() as user:
            for path in ("/", "/in/", "/in/guessed", "/callback?code=x&state=y", "/saml/metadata"):
                assert stranger.get(base + path).status_code == 404
            assert user.head(link).status_code == 404
            user.follow_redirects = False
            begun = user.get(link)
            answered = user.get(begun.headers["location"])
            assert stranger.get(answered.headers["location"]).status_code == 404
            page = user.get(answered.headers["location"])
            assert (page.status_code, "You can close this window" in page.text) == (200, True)
            assert "tern" not in page.text
            with contextlib.suppress(httpx.TransportError):  # the receiver may have ended already
                assert user.get(link).status_code == 404
        out = process.stdout.read() if process.stdout else b""
        told = json.loads(out)
        conforms(told, "diagnosis")
        (attempt,) = told["attempts"]
        assert (process.wait(10), attempt["outcome"]) == (0, "sound"), attempt["cause"]
        har = Path(told["har"]).read_text()
        assert link.rpartition("/")[2] not in har
        assert "__Host-" not in har


def test_each_of_several_sign_ins_needs_a_link_of_its_own(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch
) -> None:
    options = ("--listen", "localhost", "--keep", "2", "--format", "json", "--reveal")
    with provided(house, authority, monkeypatch), listening(house, *options) as (process, links):
        first = next(links)
        with visitor() as user:
            assert user.get(first).status_code == 200
        second = next(links)
        assert second != first
        with visitor() as user:
            assert user.get(first).status_code == 404
            assert user.get(second).status_code == 200
        told = json.loads(process.stdout.read() if process.stdout else b"")
        assert [attempt["outcome"] for attempt in told["attempts"]] == ["sound", "sound"]
        assert Path(told["har"]).name == "sign-in.har"
        assert "opaque-canary" in Path(told["har"]).read_text()


def test_a_link_ends_with_the_waiting() -> None:
    heard: list[str] = []

    def receiver(environ: dict[str, Any], start: Any) -> list[bytes]:
        start("200 OK", [])
        return [b""]

    receiver.base = "https://192.0.2.7:8399"  # type: ignore[attr-defined]
    for seconds, wanted in ((60, "200 OK"), (-1, "404 NOT FOUND")):
        ends = datetime.now(UTC) + timedelta(seconds=seconds)
        invitations = Invitations(receiver, ends, heard.append, 1)  # type: ignore[arg-type]
        invitations.invite()
        status: list[str] = []
        environ = EnvironBuilder(path="/in/" + heard[-1].rpartition("/")[2]).get_environ()
        list(invitations(environ, lambda told, *_, status=status: status.append(told)))
        assert status == [wanted]
    assert len(heard[0].rpartition("/")[2]) >= 43  # 32 octets


@pytest.mark.parametrize(
    ("options", "words"),
    [
        (("--listen", "0.0.0.0"), "no address that a link can name"),
        (("--listen", "[::]"), "no address that a link can name"),
        (("--listen", "127.0.0.1:8443"), "the port with --port"),
        (("--listen", "nowhere.invalid"), "nowhere.invalid has no address"),
        (("--listen", "192.0.2.7"), "nothing can listen at 192.0.2.7"),
        (("--certificate", "trace-lens.toml"), "--certificate is for --listen"),
        (("--listen", "127.0.0.1", "--certificate", "trace-lens.toml"), "no certificate that a server can show"),
    ],
)
def test_where_it_cannot_listen_it_says_why(house: Path, options: tuple[str, ...], words: str) -> None:
    (house / "providers/id.toml").write_text('issuer = "https://localhost:1"\n')
    done = run("receive", "--client-id", "x", *options, folder=house)
    assert (done.returncode, words in done.stderr.decode()) == (2, True), done.stderr.decode()


def test_a_certificate_that_was_given_is_shown(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch
) -> None:
    mine, private = issued("mine", authority[1], "127.0.0.1")
    plain = serialization.NoEncryption()
    pem_form = serialization.Encoding.PEM
    (house / "mine.pem").write_bytes(mine.public_bytes(pem_form))
    (house / "mine.key").write_bytes(private.private_bytes(pem_form, serialization.PrivateFormat.PKCS8, plain))
    options = ("--listen", "127.0.0.1", "--certificate", "mine.pem", "--key", "mine.key")
    trusted = ssl.create_default_context(cafile=authority[0])
    with (
        provided(house, authority, monkeypatch),
        listening(house, *options) as (process, links),
        httpx.Client(verify=trusted, follow_redirects=True) as user,
    ):
        assert user.get(next(links)).status_code == 200
        assert process.wait(20) == 0


def test_a_client_that_says_nothing_holds_nobody_up(
    house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch
) -> None:
    with provided(house, authority, monkeypatch), listening(house, "--listen", "127.0.0.1") as (process, links):
        link = next(links)
        port = urlsplit(link).port or 0
        with socket.create_connection(("127.0.0.1", port)), visitor() as user:
            assert user.get(link).status_code == 200
            assert process.wait(20) == 0
