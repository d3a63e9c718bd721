"""What is tried live, against real systems of others on loopback: a provider and an application of each protocol, on their
own libraries. They are reached through their public interfaces only. Run with `-m real`; needs Node.js, and root for
ports 80 and 443 of loopback.
"""

from __future__ import annotations

import json
import shutil
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from kit import run
from trace_lens.live.browsing import Browser
from trace_lens.live.rehearsing import Account, go_from
from trace_lens.live.stand_in.provider import Client, Service
from trace_lens.live.stand_in.serving import serving
from trace_lens.live.transport import Transport
from trace_lens.workspace.loading import load_workspace

pytestmark = pytest.mark.real
TOOLS = Path(__file__).resolve().parent.parent / "tools" / "record"
SSO = "https://sso.skerry.example/saml"
PASSWORD = "correct-horse"


@pytest.fixture(scope="session")
def systems(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A copy of the recording's systems with what they need installed."""
    folder = tmp_path_factory.mktemp("systems") / "record"
    shutil.copytree(TOOLS, folder, ignore=shutil.ignore_patterns("node_modules"))
    subprocess.run(
        ["npm", "install", "--no-audit", "--no-fund", "--ignore-scripts", "--silent"],
        cwd=folder,
        check=True,
        timeout=600,
    )
    return folder


@contextmanager
def running(systems: Path, told: str = "", script: str = "live.mjs") -> Iterator[Path]:
    """The systems, until the block ends; the folder of their keys. `told` is a fault, or what else the script reads."""
    keys = systems / "keys"
    process = subprocess.Popen(["node", script, str(keys), told], cwd=systems, stdout=subprocess.PIPE, text=True)
    try:
        assert process.stdout
        for line in process.stdout:
            if line.strip() == "ready":
                break
        yield keys
    finally:
        process.kill()
        process.communicate()


@pytest.fixture(autouse=True)
def names(monkeypatch: pytest.MonkeyPatch) -> None:
    """Every name under `.example` leads to this machine."""
    found = socket.getaddrinfo

    def here(host: Any, *told: Any, **more: Any) -> Any:
        return found("127.0.0.1" if str(host).endswith(".example") else host, *told, **more)

    monkeypatch.setattr(socket, "getaddrinfo", here)


@pytest.fixture
def house(tmp_path: Path, systems: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setenv("SSL_CERT_FILE", str(systems / "keys" / "ca.pem"))
    for folder in ("apps", "providers"):
        (tmp_path / folder).mkdir()
    (tmp_path / "trace-lens.toml").write_text("")
    (tmp_path / "providers/skerry.toml").write_text('name = "Skerry ID"\nissuer = "https://login.skerry.example"\n')
    (tmp_path / "providers/skerry-saml.toml").write_text(
        f'name = "Skerry SAML"\nentity_id = "{SSO}"\ncertificates = ["saml.pem"]\n'
    )
    (tmp_path / "apps/ticket-desk.toml").write_text(
        'name = "Ticket Desk"\nprotocol = "oidc"\nprovider = "skerry"\n[application]\nclient_id = "ticket-desk"\n'
        'redirect_uris = ["https://tickets.northmere.example/callback"]\nscopes = ["openid", "profile", "email"]\n'
        'sign_in_url = "https://tickets.northmere.example/login"\n'
    )
    (tmp_path / "apps/roster.toml").write_text(
        'name = "Roster"\nprotocol = "saml"\nprovider = "skerry-saml"\n[application]\n'
        'entity_id = "https://roster.northmere.example/saml"\nacs_urls = ["https://roster.northmere.example/saml/acs"]\n'
        f'sign_in_url = "https://roster.northmere.example/"\nprovider_sso_url = "{SSO}/sso"\n'
    )
    return tmp_path


def ready(house: Path, keys: Path) -> None:
    (house / "saml.pem").write_bytes((keys / "skerry-saml.pem").read_bytes())


def test_nothing_that_works_is_called_broken(house: Path, systems: Path) -> None:
    with running(systems) as keys:
        ready(house, keys)
        done = run("probe", "--all-apps", "--format", "json", folder=house)
        steps = json.loads(done.stdout)["steps"]
        assert (done.returncode, [step["id"] for step in steps if step["status"] in ("failed", "blocked")]) == (0, [])
        asked = {step["id"]: step["detail"] for step in steps if step["what"] == "request"}
        assert all("shows a page to sign in on" in words for words in asked.values())
        for app in ("ticket-desk", "roster"):
            options = ("--user", "m.tern", "--expect", "ok", "--format", "json")
            done = run("rehearse", app, *options, folder=house, TRACE_LENS_PASSWORD=PASSWORD)
            told = json.loads(done.stdout)
            assert (done.returncode, told["ended"], told["attempts"][0]["outcome"]) == (0, "arrived", "sound"), app
            assert PASSWORD not in done.stdout.decode() + Path(told["har"]).read_text()


@pytest.mark.parametrize(
    ("fault", "app", "codes"),
    [
        ("redirect-uri", "ticket-desk", {"redirect-uri-mismatch"}),
        ("unknown-client", "ticket-desk", {"request-rejected", "identifier-in-request-unknown"}),
        ("unknown-sp", "roster", {"request-rejected", "identifier-in-request-unknown"}),
    ],
)
def test_what_the_provider_does_not_know(house: Path, systems: Path, fault: str, app: str, codes: set[str]) -> None:
    with running(systems, fault) as keys:
        ready(house, keys)
        done = run("probe", app, "--format", "json", folder=house)
        failed = [step for step in json.loads(done.stdout)["steps"] if step["status"] == "failed"]
        assert [step["what"] for step in failed] == ["request"]
        assert failed[0]["finding"]["code"] in codes
        done = run("rehearse", app, "--user", "m.tern", "--format", "json", folder=house, TRACE_LENS_PASSWORD=PASSWORD)
        assert json.loads(done.stdout)["attempts"][0]["first_break"] in codes


def test_a_wrong_password_is_sent_once(house: Path, systems: Path) -> None:
    with running(systems) as keys:
        ready(house, keys)
        done = run(
            "rehearse", "ticket-desk", "--user", "m.tern", "--format", "json", folder=house, TRACE_LENS_PASSWORD="no"
        )
        assert (done.returncode, json.loads(done.stdout)["ended"]) == (1, "refused")


def received(house: Path, port: int, app: str, *options: str) -> tuple[int, dict[str, Any]]:
    """A sign-in that a real provider sends to the receiver: the exit status, and the attempt."""

    def visit() -> None:
        for _ in range(200):
            with socket.socket() as tried:
                if tried.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        with Transport() as transport:
            browser = Browser(transport, lambda host: True)
            go_from(f"http://127.0.0.1:{port}/", browser, Account("m.tern", PASSWORD), load_workspace(house).apps[app])

    thread = threading.Thread(target=visit)
    thread.start()
    options = ("--as", app, "--port", str(port), "--timeout", "20", *options)
    done = run("receive", *options, "--format", "json", folder=house)
    thread.join(20)
    (attempt,) = json.loads(done.stdout)["attempts"]
    return done.returncode, attempt


def free_port() -> int:
    with socket.socket() as held:
        held.bind(("127.0.0.1", 0))
        return int(held.getsockname()[1])


@pytest.mark.parametrize("fault", ["", "consent"])
def test_a_real_provider_sends_to_the_receiver(house: Path, systems: Path, fault: str) -> None:
    with running(systems, fault) as keys:
        ready(house, keys)
        code, attempt = received(house, free_port(), "ticket-desk", "--client-id", "try-out")
    assert (code, attempt["outcome"], attempt["subject"]) == (0, "sound", "m.tern"), attempt["cause"]


def test_a_real_saml_provider_sends_to_the_receiver(house: Path, systems: Path) -> None:
    port = free_port()
    with running(systems, f"receiver:{port}") as keys:
        ready(house, keys)
        code, attempt = received(house, port, "roster")
    assert (code, attempt["outcome"], attempt["app"]) == (0, "sound", "roster"), attempt["cause"]
    assert (attempt["subject"].startswith("m.tern"), attempt["started_by"]) == (True, "application")
    assert {stage["stage"]: stage["status"] for stage in attempt["stages"]}["authentic"] == "ok"


def test_libraries_of_others_sign_in_at_the_stand_in(
    house: Path, systems: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    desk, roster = "https://tickets.northmere.example", "https://roster.northmere.example"
    with serving(tmp_path / "try-it", []) as made:
        made.provider.clients["ticket-desk"] = Client("ticket-desk", (f"{desk}/callback",))
        made.provider.services[f"{roster}/saml"] = Service(f"{roster}/saml", f"{roster}/saml/acs", made.key)
        told = {
            "provider": made.provider.base,
            "certificate": made.provider.key.pem,
            "decrypt": {"key": made.key.private_pem, "cert": made.key.pem},
        }
        with running(systems, json.dumps(told), "against.mjs") as keys:
            (house / "saml.pem").write_text(made.provider.key.pem)
            both = tmp_path / "both.pem"
            both.write_text((keys / "ca.pem").read_text() + made.authority.read_text())
            monkeypatch.setenv("SSL_CERT_FILE", str(both))
            apps = load_workspace(house).apps

            def lets_in(start: str, app: str) -> bool:
                with Transport() as transport:
                    browser = Browser(transport, lambda host: True)
                    way = go_from(start, browser, Account("try.out", PASSWORD), apps[app])
                    return way.words.endswith("200")

            # A token that came over TLS from the token endpoint need not be verified by key (OpenID Connect Core §3.1.3.7).
            for faults, by_oidc, by_saml in (
                ([], True, True),
                (["rolled-key"], True, False),
                (["clock"], None, False),
                (["wrong-issuer"], False, True),
                ([], True, True),
            ):
                made.set(faults)
                assert lets_in(f"{roster}/", "roster") is by_saml, faults
                if by_oidc is not None:
                    assert lets_in(f"{desk}/login", "ticket-desk") is by_oidc, faults
