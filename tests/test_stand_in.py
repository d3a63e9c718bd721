"""The stand-in that ships: sound without a fault, and each of its faults told by what is tried live.

The table in `docs/live-faults.md` is made by the test over all faults: run it with WRITE_TABLE=1 and `-m live`.
"""

from __future__ import annotations

import base64
import itertools
import json
import os
import re
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from kit import run
from trace_lens.live import judging
from trace_lens.live.browsing import Browser
from trace_lens.live.rehearsing import Account, go_from
from trace_lens.live.requests import authn_request
from trace_lens.live.stand_in.faults import FAULTS
from trace_lens.live.stand_in.provider import PASSWORD, USER
from trace_lens.live.stand_in.serving import StandIn, serving
from trace_lens.live.transport import Transport
from trace_lens.workspace.loading import load_workspace

WEB, DESK = "stand-in-web", "stand-in-desk"
TABLE = Path(__file__).resolve().parent.parent / "docs" / "live-faults.md"
COMMANDS = ("probe --all-apps", f"rehearse {WEB}", f"rehearse {DESK}", f"receive --as {WEB}")
WELL = "all well"
_ALWAYS = {"session-ends-early"}
"""What is told of the stand-in without a fault, too."""


@pytest.fixture(autouse=True)
def no_pauses(monkeypatch: pytest.MonkeyPatch) -> None:
    """Clocks are sampled without a pause."""
    monkeypatch.setattr(judging, "_BETWEEN_SAMPLES", 0.01)


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[StandIn]:
    with serving(tmp_path_factory.mktemp("stand-in"), []) as made:
        yield made


@pytest.fixture
def made(running: StandIn, monkeypatch: pytest.MonkeyPatch) -> Iterator[StandIn]:
    monkeypatch.setenv("SSL_CERT_FILE", str(running.authority))
    yield running
    running.set([])


def probed(made: StandIn) -> list[dict[str, Any]]:
    done = run("probe", "--all-apps", "--format", "json", folder=made.folder)
    steps: list[dict[str, Any]] = json.loads(done.stdout)["steps"]
    assert done.returncode == any(step["status"] == "failed" for step in steps)
    return steps


def found_in(steps: list[dict[str, Any]]) -> list[tuple[str, str]]:
    """What failed or is at risk, and where, without the port."""
    return [(step["finding"]["code"], re.sub(r":\d{4,5}\b", "", step["id"])) for step in steps if step["finding"]]


def roots(steps: list[dict[str, Any]], step: dict[str, Any]) -> set[str]:
    """The failed steps that a blocked one leads back to."""
    before = {other["id"]: other for other in steps}
    if step["status"] != "blocked":
        return {step["id"]}
    return {root for name in step["blocked_by"] for root in roots(steps, before[name])}


def rehearsed(made: StandIn, app: str) -> dict[str, Any]:
    options = ("--user", USER, "--format", "json")
    done = run("rehearse", app, *options, folder=made.folder, TRACE_LENS_PASSWORD=PASSWORD)
    told: dict[str, Any] = json.loads(done.stdout)
    assert done.returncode == any(attempt["first_break"] for attempt in told["attempts"])
    return told


def first_break(told: dict[str, Any]) -> str:
    """The first break of the first attempt that has one; without one, whether all is known to be well."""
    broken = [attempt["first_break"] for attempt in told["attempts"] if attempt["first_break"]]
    others = {attempt["outcome"] for attempt in told["attempts"]} - {"sound"}
    findings = [item for attempt in told["attempts"] for item in attempt["findings"]]
    risks = sorted({item["code"] for item in findings if item["severity"] == "risk"} - _ALWAYS)
    return broken[0] if broken else ", ".join(sorted(others)) or ", at risk: ".join([WELL, *risks[:1]])


def received(made: StandIn, seconds: str = "8") -> str:
    """What the receiver tells of one sign-in, or that it ended without one."""
    with socket.socket() as held:
        held.bind(("127.0.0.1", 0))
        port = held.getsockname()[1]

    def visit() -> None:
        for _ in range(100):
            with socket.socket() as tried:
                if tried.connect_ex(("127.0.0.1", port)) == 0:
                    break
            time.sleep(0.05)
        else:
            return
        with Transport() as transport:
            browser = Browser(transport, lambda host: True)
            go_from(
                f"http://127.0.0.1:{port}/", browser, Account(USER, PASSWORD), load_workspace(made.folder).apps[WEB]
            )

    thread = threading.Thread(target=visit)
    thread.start()
    options = ("--as", WEB, "--client-id", WEB, "--port", str(port), "--timeout", seconds, "--format", "json")
    done = run("receive", *options, folder=made.folder)
    thread.join(30)
    told = json.loads(done.stdout) if done.stdout.strip() else {"attempts": []}
    heard = re.findall(rb"cannot be had now: (?:([a-z-]+): )?", done.stderr)
    because = sorted({code.decode() or "what is there is no such document" for code in heard})
    cell = first_break(told) if told["attempts"] else "nobody sent back"
    assert (done.returncode == 0) is cell.startswith((WELL, "inconclusive"))
    return "; ".join((cell, *because))


def test_it_is_sound(made: StandIn) -> None:
    steps = probed(made)
    assert {step["status"] for step in steps} == {"ok"}
    assert {step["what"] for step in steps} >= {"dns", "tcp", "tls", "document", "keys", "endpoint", "clock", "request"}
    for app in (WEB, DESK):
        told = rehearsed(made, app)
        assert (told["ended"], [a["outcome"] for a in told["attempts"]]) == ("arrived", ["sound"]), app
        assert PASSWORD not in Path(told["har"]).read_text()
    assert received(made) == WELL


@pytest.mark.parametrize(
    ("fault", "code", "blocks"),
    [
        ("tls-name", "tls-name-mismatch", True),
        ("tls-no-intermediate", "tls-untrusted", True),
        ("closed", "port-unreachable", True),
        ("wrong-issuer", "discovery-issuer-mismatch", False),
        ("clock", "clock-offset", False),
    ],
)
def test_one_cause_and_the_rest_blocked(made: StandIn, fault: str, code: str, blocks: bool) -> None:
    made.set([fault])
    steps = probed(made)
    assert [found for found, _ in found_in(steps)] == [code]
    cause = next(step["id"] for step in steps if step["finding"])
    blocked = [step for step in steps if step["status"] == "blocked"]
    assert bool(blocked) is blocks
    assert all(roots(steps, step) == {cause} for step in blocked)


def test_a_fault_that_comes_and_goes_is_told(made: StandIn, monkeypatch: pytest.MonkeyPatch) -> None:
    from trace_lens.cli import probe as command
    from trace_lens.live import probing

    runs, once = itertools.cycle([["wrong-issuer"], []]), probing.probe

    def with_its_faults(*told: Any, **more: Any) -> probing.Probe:
        made.set(next(runs))
        return once(*told, **more)

    monkeypatch.setattr(command, "_PAUSE", 0.01)
    monkeypatch.setattr(probing, "probe", with_its_faults)
    done = run("probe", WEB, "--repeat", "2", "--format", "json", folder=made.folder)
    steps = json.loads(done.stdout)["steps"]
    (failed,) = [step for step in steps if step["status"] == "failed"]
    assert (done.returncode, failed["finding"]["code"]) == (1, "discovery-issuer-mismatch")
    assert [time["status"] for time in failed["repeats"]] == ["failed", "ok"]
    text = " ".join(run("probe", WEB, "--repeat", "2", folder=made.folder).stdout.decode().split())
    assert text.startswith("1 FAILED: ")
    assert "failed 1 of 2 times, at " in text
    assert text.count("of 2 times") == 1


@pytest.mark.parametrize(
    ("fault", "app", "code"),
    [
        ("rolled-key", DESK, "signed-by-untrusted-key"),
        ("clock", DESK, "not-yet-valid"),
        ("loop", WEB, "session-not-started"),
        ("cookie-lost", WEB, "session-cookie-lost"),
        ("callback-500", DESK, "http-error"),
        ("second-page", WEB, WELL),
    ],
)
def test_where_a_sign_in_breaks(made: StandIn, fault: str, app: str, code: str) -> None:
    made.set([fault])
    assert first_break(rehearsed(made, app)) == code


def test_the_receiver_says_what_it_cannot_have(made: StandIn) -> None:
    made.set(["closed"])
    assert received(made, "2") == "nobody sent back; port-unreachable"
    made.set(["empty-key-set"])
    assert received(made) == "inconclusive; what is there is no such document"


def _posted(made: StandIn, transport: Transport, address: str, fields: dict[str, str]) -> str:
    from urllib.parse import urlencode

    form = {"Content-Type": "application/x-www-form-urlencoded"}
    return transport.ask(address, "POST", headers=form, body=urlencode(fields).encode()).data.decode()


def test_both_ways_of_starting_and_both_bindings(made: StandIn) -> None:
    there, desk = made.provider.base, load_workspace(made.folder).apps[DESK]
    with Transport() as transport:
        for start in (f"{there}/saml/start", f"{made.application.base}/saml/login"):
            way = go_from(start, Browser(transport, lambda host: True), Account(USER, PASSWORD), desk)
            assert way.how == "arrived", start
        from datetime import UTC, datetime
        from urllib.parse import parse_qs, urlsplit
        from zlib import decompress

        url = authn_request(
            f"{there}/saml/sso", made.application.entity_id, made.application.acs_url, datetime.now(UTC)
        )
        (packed,) = parse_qs(urlsplit(url).query)["SAMLRequest"]
        request = base64.b64encode(decompress(base64.b64decode(packed), -15)).decode()
        assert 'type="password"' in _posted(made, transport, f"{there}/saml/sso", {"SAMLRequest": request})
        assert "no SAML request" in _posted(made, transport, f"{there}/saml/sso", {"SAMLRequest": "x"})
        assert "Sign-in failed" in _posted(made, transport, made.application.acs_url, {"SAMLResponse": "x"})


@pytest.mark.parametrize(
    ("body", "status", "on"),
    [
        (b'["clock", "loop"]', 200, ["clock", "loop"]),
        (b'{"faults": ["slow"]}', 200, ["slow"]),
        (b"clock\nslow\n", 200, ["clock", "slow"]),
        (b"", 200, []),
        (b"sunshine", 400, None),
        (b"[", 400, None),
    ],
)
def test_the_switch(made: StandIn, body: bytes, status: int, on: list[str] | None) -> None:
    with Transport() as transport:
        answer = transport.ask(made.switch, "POST", body=body)
        told = json.loads(answer.data)
        assert (answer.status, told.get("on")) == (status, on)
        assert on is not None or told["error"]
        shown = json.loads(transport.ask(made.switch).data)
        assert shown == {"on": on or [], "there_are": FAULTS}


def test_the_program_serves_until_it_is_stopped(tmp_path: Path) -> None:
    program = Path(sys.executable).with_name("trace-lens")
    arguments = [str(program), "demo", "--serve", "here", "--fault", "clock", "--fault", "slow"]
    with subprocess.Popen(arguments, cwd=tmp_path, stdout=subprocess.PIPE, stderr=subprocess.PIPE) as process:
        assert process.stdout
        told = json.loads(process.stdout.readline())
        try:
            with Transport() as transport:
                assert json.loads(transport.ask(told["faults"]).data)["on"] == ["clock", "slow"]
        finally:
            process.send_signal(signal.SIGINT)
        assert process.wait(10) == 0
    assert sorted(load_workspace(tmp_path / "here").apps) == sorted(told["apps"]) == [DESK, WEB]
    assert Path(told["authority"]).read_text().startswith("-----BEGIN CERTIFICATE")
    for folder, options, words in (
        ("here", ("--serve",), b"is not empty"),
        ("new", ("--serve", "--fault", "sunshine"), b"no fault"),
        ("new", ("--fault", "clock"), b"--fault goes with --serve"),
    ):
        done = run("demo", folder, *options, folder=tmp_path)
        assert done.returncode == 2
        assert words in done.stderr
    assert not (tmp_path / "new").exists()


# -- every fault under every command: minutes, as some of them are waits


def _row(made: StandIn, fault: str) -> tuple[str, ...]:
    made.set([fault] if fault else [])
    told = list(dict.fromkeys(code for code, _ in found_in(probed(made)))) or [WELL]
    return (", ".join(told), *(first_break(rehearsed(made, app)) for app in (WEB, DESK)), received(made))


@pytest.mark.live
@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")  # ssl leaves a socket that was cut open
def test_the_table_of_the_guide(made: StandIn) -> None:
    rows = {name: _row(made, name) for name in ("", *FAULTS)}
    lines = [
        "# Faults of the stand-in, and what is told of each\n",
        "`trace-lens demo --serve DIR --fault NAME` runs a small provider and a small application with a fault. The table is",
        "made by the test that runs each command against each fault: the codes found, or `all well`. What one command cannot",
        "see, another can: `probe` signs nobody in, `rehearse` sees what a browser sees, `receive` what the provider sends.",
        "Behind a semicolon is what `receive` says beforehand of a document that it cannot have.\n",
        f"| fault | what is wrong | {' | '.join(f'`{command}`' for command in COMMANDS)} |",
        "|" + " --- |" * (2 + len(COMMANDS)),
        *(f"| {name or 'none'} | {FAULTS.get(name, '')} | {' | '.join(row)} |" for name, row in rows.items()),
    ]
    text = "\n".join(lines) + "\n"
    if os.environ.get("WRITE_TABLE"):
        TABLE.write_text(text)
    assert rows[""] == (WELL,) * len(COMMANDS)
    unseen = {"slow", "second-page"}
    assert all(set(row) != {WELL} for name, row in rows.items() if name and name not in unseen)
    assert TABLE.read_text() == text


@pytest.mark.live
@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")  # ssl leaves a socket that was cut open
def test_faults_in_pairs(made: StandIn) -> None:
    names = [*FAULTS]
    alone: dict[str, set[str]] = {}
    for name in names:
        made.set([name])
        alone[name] = {code for code, _ in found_in(probed(made))}
    for one, other in itertools.combinations(names, 2):
        made.set([one, other])
        steps = probed(made)
        both = found_in(steps)
        told = {code for code, _ in both}
        assert told <= alone[one] | alone[other], (one, other)
        assert told or not alone[one] | alone[other], (one, other)
        failed = {step["id"] for step in steps if step["status"] == "failed"}
        assert not any(set(step["after"]) & failed for step in steps if step["id"] in failed), (one, other)
        blocked = [step for step in steps if step["status"] == "blocked"]
        assert all(roots(steps, step) and roots(steps, step) <= failed for step in blocked), (one, other)


@pytest.mark.live
@pytest.mark.filterwarnings("ignore::pytest.PytestUnraisableExceptionWarning")  # ssl leaves a socket that was cut open
@pytest.mark.parametrize("app", [WEB, DESK])
def test_sign_ins_with_faults_in_pairs(made: StandIn, app: str) -> None:
    """Two faults at once: one first break, which is that of one of them; none where neither has any."""
    names = [name for name in FAULTS if name not in ("hang", "slow")]
    alone: dict[str, str] = {}
    for name in names:
        made.set([name])
        alone[name] = first_break(rehearsed(made, app))
    for one, other in itertools.combinations(names, 2):
        made.set([one, other])
        told = first_break(rehearsed(made, app))
        wanted = {alone[one], alone[other]}
        assert told in (wanted - {WELL} or wanted), (one, other, told)
