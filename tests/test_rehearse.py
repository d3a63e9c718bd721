"""`trace-lens rehearse`: a sign-in with a test account between an application and a provider on loopback."""

from __future__ import annotations

import http.server
import json
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlencode, urlsplit

import pytest

from kit import Done, run
from live_kit import Held, issued, serving
from strict_schemas import conforms
from trace_lens.intake.exchanges import Exchange
from trace_lens.live.browsing import FormShown, _shown, filled
from trace_lens.live.transport import Answer

SECRET = "canary pass&word"


class Both(http.server.BaseHTTPRequestHandler):
    """An application at 127.0.0.1 and a provider at localhost, told apart by the host that is asked."""

    fault = ""
    posted: list[dict[str, str]]

    def do_GET(self) -> None:
        parts = urlsplit(self.path)
        told = {name: values[0] for name, values in parse_qs(parts.query).items()}
        port = self.server.server_address[1]
        there, here = f"https://localhost:{port}", f"https://127.0.0.1:{port}"
        match parts.path:
            case "/login":
                asked = {
                    "response_type": "code",
                    "client_id": "web",
                    "redirect_uri": f"{here}/callback",
                    "scope": "openid",
                    "state": "s-1",
                }
                self._go(f"{there}/auth?{urlencode(asked)}", "app=s-1; Path=/; Secure; HttpOnly; SameSite=Lax")
            case "/auth" if self.fault == "script":
                self._page("<script src='/app.js'></script><div id='root'></div>")
            case "/auth" if self.fault == "huge":
                self._page("<p>long</p>" * 10_000_000)
            case "/auth" if self.fault == "loop":
                self._go(f"{here}/login")
            case "/auth" if self.fault == "elsewhere":
                self._go("https://elsewhere.northmere.invalid/")
            case "/auth":
                self._page(
                    '<form method="post" action="/name"><input type="hidden" name="tx" value="7"><input name="identifier" autocomplete="username"><button>Next</button></form>'
                )
            case "/callback" if self.fault == "callback":
                self._page("<h1>Something went wrong</h1>", 500)
            case "/callback":
                assert (told["code"], told["state"], self.headers["Cookie"]) == ("c-1", "s-1", "app=s-1")
                self._go("/home", "session=in; Path=/; Secure; HttpOnly")
            case "/home":
                assert "session=in" in self.headers["Cookie"]
                self._page('<h1>Welcome</h1><a href="/logout">Sign out</a>')
            case _:
                self._page("nothing", 404)

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers["Content-Length"])).decode()
        told = {name: values[0] for name, values in parse_qs(body, keep_blank_values=True).items()}
        self.posted.append({"path": self.path, **told})
        here = f"https://127.0.0.1:{self.server.server_address[1]}"
        password = '<form method="post" action="/password"><input type="hidden" name="tx" value="7"><input type="password" name="pw"><button name="go" value="1">Sign in</button></form>'
        match self.path:
            case "/name":
                self._page(password)
            case "/password" if told["pw"] != SECRET or self.fault == "second factor":
                self._page(f"<p>Wrong password</p>{password}")
            case "/password":
                self._page(
                    '<form method="post" action="/consent"><input type="hidden" name="tx" value="7"><button name="answer" value="deny">Deny</button><button name="answer" value="allow">Allow</button></form>'
                )
            case "/consent" if told["answer"] == "allow":
                self._go(f"{here}/callback?{urlencode({'code': 'c-1', 'state': 's-1'})}")
            case _:
                self._page("denied", 403)

    def _page(self, text: str, status: int = 200) -> None:
        data = f"<!doctype html><html><body>{text}</body></html>".encode()
        self.send_response(status)
        self.send_header("Content-Type", "text/html")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def _go(self, address: str, cookie: str = "") -> None:
        self.send_response(303)
        self.send_header("Location", address)
        if cookie:
            self.send_header("Set-Cookie", cookie)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, *_: object) -> None:
        """Say nothing."""


@pytest.fixture
def house(tmp_path: Path) -> Path:
    for folder in ("apps", "providers"):
        (tmp_path / folder).mkdir()
    (tmp_path / "trace-lens.toml").write_text("")
    return tmp_path


def rehearsed(
    house: Path,
    authority: tuple[Path, Held],
    monkeypatch: pytest.MonkeyPatch,
    fault: str,
    *options: str,
    password: str = SECRET,
) -> tuple[Done, dict[str, Any], list[dict[str, str]]]:
    monkeypatch.setenv("SSL_CERT_FILE", str(authority[0]))
    posted: list[dict[str, str]] = []
    handler = type("Here", (Both,), {"fault": fault, "posted": posted})
    with serving(house, issued("here", authority[1], "localhost", "127.0.0.1"), handler) as port:
        there, here = f"https://localhost:{port}", f"https://127.0.0.1:{port}"
        (house / "providers/id.toml").write_text(f'name = "ID"\nissuer = "{there}"\n')
        (house / "apps/web.toml").write_text(
            'name = "Web"\nprotocol = "oidc"\nprovider = "id"\n[application]\nclient_id = "web"\n'
            f'redirect_uris = ["{here}/callback"]\nsign_in_url = "{here}/login"\n'
        )
        done = run(
            "rehearse",
            "web",
            "--user",
            "m.tern",
            "--format",
            "json",
            *options,
            folder=house,
            TRACE_LENS_PASSWORD=password,
        )
    assert b"canary" not in done.stdout + done.stderr
    told = json.loads(done.stdout)
    conforms(told, "diagnosis")
    return done, told, posted


def test_a_whole_sign_in(house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch) -> None:
    done, told, posted = rehearsed(house, authority, monkeypatch, "", "--expect", "ok")
    (attempt,) = told["attempts"]
    assert (done.returncode, told["ended"], attempt["outcome"]) == (0, "arrived", "sound"), attempt["cause"]
    assert [item["path"] for item in posted] == ["/name", "/password", "/consent"]
    assert posted[0]["identifier"] == "m.tern"
    assert posted[1] == {"path": "/password", "tx": "7", "pw": SECRET, "go": "1"}
    assert posted[2]["answer"] == "allow"
    har = Path(told["har"])
    assert har.is_relative_to(house / ".trace-lens")
    text = har.read_text()
    assert "canary" not in text
    assert "m.tern" not in text
    assert len(json.loads(text)["log"]["entries"]) == 7
    assert har.stat().st_mode & 0o077 == 0


@pytest.mark.parametrize(
    ("fault", "password", "ended", "outcome"),
    [
        ("", "wrong canary", "refused", "broken"),
        ("second factor", SECRET, "refused", "broken"),
        ("script", SECRET, "script", "inconclusive"),
        ("elsewhere", SECRET, "strange-host", "inconclusive"),
        ("callback", SECRET, "arrived", "broken"),
        ("huge", SECRET, "unread", "inconclusive"),
        ("loop", SECRET, "too-long", "broken"),
    ],
    ids=["wrong password", "second factor", "script", "elsewhere", "callback", "huge", "loop"],
)
def test_where_it_ends(
    house: Path,
    authority: tuple[Path, Held],
    monkeypatch: pytest.MonkeyPatch,
    fault: str,
    password: str,
    ended: str,
    outcome: str,
) -> None:
    done, told, posted = rehearsed(house, authority, monkeypatch, fault, "--expect", "ok", password=password)
    (attempt,) = told["attempts"]
    assert (told["ended"], attempt["outcome"], done.returncode) == (ended, outcome, 1), attempt["cause"]
    assert sum(item["path"] == "/password" for item in posted) <= 1
    if fault == "script":
        assert "session-not-started" in {item["code"] for item in attempt["unchecked"]}
    if fault == "elsewhere":
        assert b"--also elsewhere.northmere.invalid" in done.stderr


def test_a_users_way_beside_it(house: Path, authority: tuple[Path, Held], monkeypatch: pytest.MonkeyPatch) -> None:
    _, told, _ = rehearsed(house, authority, monkeypatch, "callback", "--reveal", "--har", str(house / "user.har"))
    assert json.loads((house / "user.har").read_text())["log"]["entries"]
    assert "canary" not in (house / "user.har").read_text()
    _, told, _ = rehearsed(house, authority, monkeypatch, "", "--compare", str(house / "user.har"))
    assert {item["code"] for item in told["comparison"]["findings"]["went"]} >= {"http-error"}


def test_what_is_needed(house: Path) -> None:
    (house / "providers/id.toml").write_text('issuer = "https://id.northmere.example"\n')
    (house / "apps/web.toml").write_text('protocol = "oidc"\nprovider = "id"\n[application]\nclient_id = "web"\n')
    assert b"No address to begin at" in run("rehearse", "web", "--user", "x", folder=house).stderr
    with (house / "apps/web.toml").open("a") as stream:
        stream.write('sign_in_url = "https://web.northmere.example/"\n')
    done = run("rehearse", "web", "--user", "x", folder=house)
    assert (done.returncode, b"A password is needed: TRACE_LENS_PASSWORD" in done.stderr) == (2, True)
    done = run("rehearse", "web", folder=house, TRACE_LENS_PASSWORD="x")
    assert (done.returncode, b"--user is needed" in done.stderr) == (2, True)
    done = run("rehearse", "web", "--from", "provider", "--user", "x", folder=house, TRACE_LENS_PASSWORD="x")
    assert (done.returncode, b"--start is needed" in done.stderr) == (2, True)
    done = run("rehearse", "web", "--dry-run", folder=house)
    assert (done.returncode, done.stdout.split()) == (0, [b"id.northmere.example", b"web.northmere.example"])


def test_a_password_from_a_file_descriptor(tmp_path: Path) -> None:
    import os

    from trace_lens.cli.rehearse import _account

    read, write = os.pipe()
    os.write(write, b"from a pipe\nmore\n")
    os.close(write)
    assert _account("x", read).password == "from a pipe"
    os.close(read)


def form_of(text: str) -> FormShown:
    answer = Answer("https://id.northmere.example/a/b", 200, (("Content-Type", "text/html"),), text.encode(), 0.0, 0.0)
    return _shown(answer, Exchange(1, "", "GET", answer.url, 200, answer=answer.data)).forms[0]


@pytest.mark.parametrize(
    ("text", "wanted"),
    [
        ('<form action="c"><input name=user><input type=password name=p></form>', [("user", "U"), ("p", "P")]),
        (
            "<form><input name=loginfmt><input type=password name=p><input type=checkbox name=keep></form>",
            [("loginfmt", "U"), ("p", "P")],
        ),
        (
            "<form><input type=hidden name=a value=1><input type=email name=x><input type=password name=p></form>",
            [("a", "1"), ("x", "U"), ("p", "P")],
        ),
        ("<form><input name=field1><input type=password name=p></form>", [("field1", "U"), ("p", "P")]),
        (
            "<form><input name=user value=old><input type=password name=p><select name=realm><option value=a>A<option value=b selected>B</select></form>",
            [("realm", "b"), ("user", "U"), ("p", "P")],
        ),
        (
            "<form><input type=password name=p><input type=submit name=cancel value=Cancel><input type=submit name=ok value=OK></form>",
            [("p", "P"), ("ok", "OK")],
        ),
        (
            "<form><input type=password name=p><textarea name=t>x</textarea><input type=radio name=r value=1><input type=radio name=r value=2 checked></form>",
            [("t", "x"), ("r", "2"), ("p", "P")],
        ),
    ],
)
def test_how_forms_are_filled_in(text: str, wanted: list[tuple[str, str]]) -> None:
    assert filled(form_of(text), "U", "P") == wanted


def test_where_forms_go() -> None:
    assert form_of('<form action="../c" method=post></form>').action == "https://id.northmere.example/c"
    assert form_of("<form method=POST></form>").action == "https://id.northmere.example/a/b"
