"""One bad source never stops the rest: whatever fails is told with its source, and the others are done."""

from __future__ import annotations

import base64
import gzip
import json
import os
import socket
from pathlib import Path
from typing import Any

import pytest
import zstandard

from kit import posted, response, run, run_json, run_program, workspace
from trace_lens.common import limits
from trace_lens.demo.tokens import compact
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile, read_sources

ODD: tuple[Any, ...] = ([], {}, 1, None, True, "x", -1, 2**70, ["a"], {"a": 1})
"""A value of each type that JSON has."""
HEADERS = (
    "p2c",
    "crit",
    "alg",
    "enc",
    "zip",
    "kid",
    "epk",
    "iv",
    "tag",
    "apu",
    "p2s",
    "typ",
    "jwk",
    "x5c",
    "b64",
    "cty",
)
CLAIMS = (
    "iss",
    "sub",
    "aud",
    "exp",
    "iat",
    "nbf",
    "auth_time",
    "nonce",
    "azp",
    "acr",
    "amr",
    "groups",
    "_claim_names",
    "_claim_sources",
    "events",
    "sid",
    "at_hash",
    "scope",
    "email_verified",
)
_CLAIMS = {"iss": "https://id.northmere.example", "sub": "m.tern", "aud": "a", "exp": 1795161600, "iat": 1795161000}


def judged(folder: Path, *sources: bytes) -> Any:
    """The result of sources beside each other, in a workspace."""
    from datetime import UTC, datetime

    known = load_workspace(folder)
    named = [SourceFile(f"{number}.txt", data) for number, data in enumerate(sources)]
    return diagnose_sources(named, known, Options(datetime(2026, 11, 20, 9, tzinfo=UTC), prove=True), workers=1)


@pytest.fixture(scope="module")
def known(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return workspace(tmp_path_factory.mktemp("guard"))


@pytest.mark.parametrize("name", HEADERS)
def test_header_members_of_every_type(name: str, known: Path) -> None:
    """No type of a member of a JOSE header makes the program fail; none is taken for a good one."""
    sources = []
    for value in ODD:
        sources.append(
            (compact({"alg": "PBES2-HS256+A128KW", "enc": "A128GCM", name: value}) + ".AA.AA.AA.AA").encode()
        )
        sources.append(f"{compact({'alg': 'RS256', name: value})}.{compact(_CLAIMS)}.{'A' * 342}".encode())
    found = judged(known, *sources, posted(response()))
    assert [told for told in found.unreadable if "fault" in told[1]] == []
    assert {one.outcome for one in found.diagnoses[:-1]} <= {"broken", "inconclusive"}
    assert found.diagnoses[-1].outcome == "sound"


@pytest.mark.parametrize("name", CLAIMS)
def test_claims_of_every_type(name: str, known: Path) -> None:
    sources = [f"{compact({'alg': 'RS256'})}.{compact(_CLAIMS | {name: value})}.{'A' * 342}".encode() for value in ODD]
    found = judged(known, *sources)
    assert [told for told in found.unreadable if "fault" in told[1]] == []
    assert len(found.diagnoses) >= 5


@pytest.mark.parametrize(
    "text",
    [
        '{"access_token": "\\ud800aaaaaaaaaaaaaaaaaaaaaaaa", "token_type": "Bearer", "expires_in": "\\udfff"}',
        '{"issuer": "https://a.example/\\ud800", "jwks_uri": "\\udfff"}',
        '{"keys": [{"kty": "\\ud800", "kid": "\\udc00"}]}',
        "https://a.example/?code=%ED%A0%80&state=%FF",
        f"{compact({'alg': 'RS256'})}."
        + base64.urlsafe_b64encode(b'{"sub":"\\ud800","iss":"a","aud":"b","exp":1}').decode().rstrip("=")
        + ".AAAA",
        "curl 'https://a.example/?\udcff' -H '\\ud800: x'",
        'fetch("https://a.example/\\q", {"headers": [1]});',
        'Invoke-WebRequest -Uri "https://a.example/" -Headers @{"a"="',
        '"SAMLResponse": "\\x"',
        '<?xml version="1.0" encoding="UTF-9"?><Response/>',
        "-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIFICATE-----",
        "-----BEGIN PKCS7-----\nAAAA\n-----END PKCS7-----",
    ],
)
def test_odd_texts(text: str, known: Path, tmp_path: Path) -> None:
    (tmp_path / "odd.txt").write_bytes(text.encode("utf-8", "surrogateescape"))
    (tmp_path / "zz.txt").write_bytes(posted(response()))
    for command in (("decode",), ("diagnose",), ("certs",)):
        done = run(*command, str(tmp_path), "--format", "json", folder=known)
        told = json.loads(done.stdout)
        assert done.returncode in (0, 1, 3)
        assert [one for one in told["unreadable"] if "fault" in one["because"]] == []
        assert b"Traceback" not in done.stderr
        held = told.get("messages") or told.get("attempts") or told.get("certificates")
        assert any(str(one["source"]).endswith("zz.txt") for one in held)


def test_a_fault_in_one_source_is_told_and_the_others_go_on(known: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """A check that fails for one message only; a reader that fails for one source only."""
    from trace_lens.diagnosis import diagnosing

    whole = diagnosing.judge

    def judge(case: Any, told: Any, *more: Any) -> Any:
        if case.attempt.main.source == "1.txt":
            raise ZeroDivisionError("planted")
        return whole(case, told, *more)

    monkeypatch.setattr(diagnosing, "judge", judge)
    found = judged(
        known,
        posted(response()),
        posted(response(response_id="_rs2", identifier="_as2")),
        b"",
        posted(response(response_id="_rs3", identifier="_as3")),
    )
    assert [one.source for one in found.diagnoses] == ["0.txt", "3.txt"]
    assert [source for source, _ in found.unreadable] == ["1.txt", "2.txt"]
    assert "ZeroDivisionError: planted" in found.unreadable[0][1]
    assert found.exit_status(strict=False) == 3


def test_verbose_shows_where(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from click.testing import CliRunner

    from trace_lens.cli import group
    from trace_lens.intake import peeling

    def fail(*_: object) -> None:
        raise ZeroDivisionError("planted \x1b[31m")

    monkeypatch.setattr(peeling, "capture_in", fail)
    (tmp_path / "a.txt").write_text("x" * 40)
    for flag, shown in (((), False), (("-v",), True)):
        done = CliRunner().invoke(group, ["diagnose", *flag, str(tmp_path / "a.txt")], standalone_mode=False)
        assert "ZeroDivisionError" in done.output
        assert ("Traceback" in done.output) is shown
        assert "\x1b" not in done.output


def test_what_is_no_file(tmp_path: Path, known: Path) -> None:
    os.mkfifo(tmp_path / "a.pipe")
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(str(tmp_path / "b.socket"))
        (tmp_path / "c.txt").write_bytes(posted(response()))
        told = {
            one["source"].rpartition("/")[2]: one["because"]
            for one in run_json("decode", str(tmp_path), "/dev/zero", folder=known)[1]["unreadable"]
        }
    assert "a pipe" in told["a.pipe"]
    assert "a socket" in told["b.socket"]
    assert "a device" in told["zero"]


def test_no_more_is_read_than_the_limit(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(limits, "SOURCE_BYTES", 1000)
    (tmp_path / "a").write_bytes(b"x" * 1001)
    (tmp_path / "b").write_bytes(b"x" * 1000)
    first, second = read_sources((str(tmp_path),))
    assert (first.data, "1,000 bytes" in str(first.problem)) == (None, True)
    assert second.data is not None


def _damaged(whole: bytes) -> dict[str, bytes]:
    packed, other = gzip.compress(whole), zstandard.compress(whole)
    return {
        "cut gzip": packed[:-20],
        "broken gzip": packed[:30] + b"\xff" * 20 + packed[50:],
        "gzip of nothing": b"\x1f\x8b",
        "cut Zstandard": other[:-8],
        "broken Zstandard": other[:12] + b"\xff" * 12 + other[24:],
        "Zstandard of nothing": b"\x28\xb5\x2f\xfd",
        "nothing": b"",
        "zeros": b"\0" * 300,
        "binary": bytes(range(256)),
    }


@pytest.mark.parametrize("form", ["csv", "jsonl", "json", "ocsf", "syslog", "w3c", "combined", "parquet"])
def test_a_damaged_log_stops_no_other(form: str, tmp_path: Path) -> None:
    """In every format: the damaged files are told, and the good one beside them is loaded."""
    rows = "".join(f"2026-11-20T08:{minute:02}:00Z,m.tern,{os.urandom(30).hex()}\n" for minute in range(60))
    folder = workspace(tmp_path)
    fields = '[fields]\ntime = "time"\nuser = "user"\n'
    for name, data in _damaged(("time,user,reason\n" + rows).encode()).items():
        stem = name.replace(" ", "-")
        (folder / "logs").mkdir(exist_ok=True)
        (folder / f"logs/{stem}.log").write_bytes(data)
        (folder / f"logs/{stem}.toml").write_text(
            f'role = "provider"\nprovider = "northmere-id"\nformat = "{form}"\nfiles = ["logs/{stem}.log"]\n{fields}'
        )
    (folder / "logs/good.csv").write_text("time,user,reason\n" + rows)
    (folder / "logs/good.toml").write_text(
        f'role = "provider"\nprovider = "northmere-id"\nformat = "csv"\nfiles = ["logs/good.csv"]\n{fields}'
    )
    status, told = run_json("logs", "load", folder=folder)
    loaded = {one["source"]: one for one in told["files"]}
    assert status in (0, 3)
    assert loaded["good"]["rows"] == 60
    assert [one for one in told["files"] if "fault" in str(one.get("problem"))] == []
    assert {name for name in ("cut-gzip", "broken-gzip", "gzip-of-nothing") if not loaded[name]["problem"]} == set()


def test_settings_nested_without_end(tmp_path: Path) -> None:
    for name in ("trace-lens.toml", "apps/crew-roster.toml", "providers/northmere-id.toml", "logs/x.toml"):
        folder = workspace(tmp_path / name.replace("/", "-"))
        (folder / "logs").mkdir(exist_ok=True)
        (folder / name).write_text("a = " + "[" * 100_000 + "]" * 100_000)
        done = run("logs", "list", folder=folder)
        assert (done.returncode, b"nested too deep" in done.stderr) == (2, True), name


def test_many_with_a_bad_one_in_the_middle(known: Path) -> None:
    """Of thousands of messages in one file, each on a line, all but the bad one are judged."""
    token = [
        f"{compact({'alg': 'RS256'})}.{compact(_CLAIMS | {'jti': number, 'nonce': f'n{number}'})}.{'A' * 342}"
        for number in range(1200)
    ]
    token[600] = compact({"alg": []}) + ".!!." + "A" * 30
    found = judged(known, "\n".join(token).encode())
    assert len(found.diagnoses) >= 1199
    assert [told for told in found.unreadable if "fault" in told[1]] == []


def test_what_an_output_lists_is_bounded(tmp_path: Path) -> None:
    """Two thousand attributes that nobody reads: some are listed, and how many more there are is said."""
    more = "".join(
        f'<saml:Attribute Name="x{number}"><saml:AttributeValue>v</saml:AttributeValue></saml:Attribute>'
        for number in range(2000)
    )
    folder = workspace(tmp_path, {"claims": [{"name": "mail", "need": "may"}]})
    closing = b"</saml:AttributeStatement>"
    data = response().replace(closing, more.encode() + closing, 1)
    (folder / "m.xml").write_bytes(data)
    _, told = run_json("diagnose", "m.xml", folder=folder)
    (attempt,) = told["attempts"]
    assert attempt["more_findings"]["claim-unused"] > 1900
    assert attempt["more_claims"] > 1700
    assert len(json.dumps(told)) < 200_000
    shown = run("diagnose", "m.xml", folder=folder).stdout.decode()
    assert "more of claim-unused" in shown
    assert len(shown) < 60_000


def test_what_the_shell_hands_over_is_read(tmp_path: Path, known: Path) -> None:
    """A pipe of the shell's own, as `<(command)` makes one, ends by itself."""
    done = run_program("diagnose", "/dev/stdin", "--format", "json", folder=known, stdin=posted(response()))
    assert (done.returncode, len(json.loads(done.stdout)["attempts"])) == (0, 1)


def test_many_cut_tokens_do_not_hide_the_good_ones(known: Path) -> None:
    """Thousands of cut tokens in a log: those before the limit are judged, and that the rest was not read is told."""
    good = f"{compact({'alg': 'RS256'})}.{compact(_CLAIMS | {'nonce': 'n'})}.{'A' * 342}"
    cut = "\n".join(f"{number} eyJhbGciOiJSUzI1NiJ9.eyJpc3MiOi{number} {'in a log ' * 40}" for number in range(3200))
    peeled = SourceFile("x", f"{good}\n{cut}\n".encode()).peeled()
    assert peeled
    assert peeled.found[0].kind == "id-token"
    assert f"{limits.BARREN_PARTS:,}" in str(peeled.left_out)


def test_many_small_messages_are_no_attack(known: Path) -> None:
    """Token answers one a line, each with two tokens in it, are all read: what stands in another counts once."""
    token = f"{compact({'alg': 'RS256'})}.{compact(_CLAIMS)}.{'A' * 86}"
    line = json.dumps({"access_token": token, "id_token": token, "token_type": "Bearer", "expires_in": 60})
    peeled = SourceFile("x", "\n".join([line] * 6000).encode()).peeled()
    assert peeled
    assert (len([found for found in peeled.found if found.kind == "token-response"]), peeled.left_out) == (6000, None)


def test_a_source_read_in_part_is_told_as_that(known: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(limits, "BARREN_PARTS", 2)
    (tmp_path / "x.txt").write_bytes(b"\n".join([posted(response()), *[b"SAMLResponse=AAAA"] * 5]))
    shown = run("decode", str(tmp_path / "x.txt"), folder=known)
    assert (shown.returncode, "not all of it was read" in " ".join(shown.stdout.decode().split())) == (3, True)


def test_what_lies_beyond_a_limit_is_told_and_breaks_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(limits, "LOGGED_LINES", 3)
    log = "".join(f'192.0.2.1 - - [20/Nov/2026:08:00:0{at} +0000] "GET /{at} HTTP/1.1" 200 1\n' for at in range(5))
    (tmp_path / "whole.log").write_text("".join(log.splitlines(keepends=True)[:3]))
    (tmp_path / "long.log").write_text(log)
    status, whole = run_json("diagnose", str(tmp_path / "whole.log"))
    assert status == 0
    status, long = run_json("diagnose", str(tmp_path / "long.log"))
    assert status == 3
    assert [entry["because"] for entry in long["unreadable"]] == [
        "only its first 3 requests were read; `trace-lens logs load` reads logs of any length"
    ]
    (before,), (after,) = whole["attempts"], long["attempts"]
    assert before["outcome"] == after["outcome"] == "inconclusive"
    codes = [[(finding["code"], finding["severity"]) for finding in attempt["findings"]] for attempt in (before, after)]
    assert codes[0] == codes[1] == [("outcome-unknown", "note")]
