"""The built program on files in a temporary folder: what it writes, its exit status, and what bad input does to it."""

from __future__ import annotations

import base64
import json
import os
import zlib
from importlib.resources import files
from pathlib import Path
from typing import Any
from urllib.parse import quote

import jsonschema_rs
import pytest

from cases import CASES, CREW, LISTED
from kit import (
    APP,
    AUDIENCE,
    ISSUED,
    TERN,
    Done,
    attribute,
    certificate,
    pem,
    response,
    run,
    run_json,
    run_program,
    toml,
    workspace,
)
from strict_schemas import conforms
from trace_lens import __version__
from trace_lens.demo.workspace import write_demo

KEYLESS = ("apps/crew-roster.toml", "accounts/crew-roster.csv", "logs/platform.jsonl", "README.md")
"""Files of the demo in which nothing depends on its keys."""
B64 = base64.b64encode(response())


def test_version_and_help() -> None:
    assert run("--version").stdout.decode() == f"trace-lens {__version__}\n"
    for words in (
        [],
        ["diagnose"],
        ["decode"],
        ["certs"],
        ["apps"],
        ["apps", "check"],
        ["explain"],
        ["init"],
        ["demo"],
    ):
        done = run(*words, "--help")
        assert done.returncode == 0
        assert b"Usage: trace-lens" in done.stdout
    completion = run_program(_TRACE_LENS_COMPLETE="bash_source")
    assert b"complete" in completion.stdout


def test_a_diagnosis_as_json(tmp_path: Path) -> None:
    """The document of the contract, key by key."""
    folder = workspace(tmp_path, {"claims": [{"name": "role", "one_of": ["mate"]}]})
    broken = response(
        audiences=f"<saml:AudienceRestriction><saml:Audience>{AUDIENCE[:-1]}</saml:Audience></saml:AudienceRestriction>"
    )
    (folder / "0142.txt").write_bytes(b"RelayState=x&SAMLResponse=" + quote(base64.b64encode(broken), safe="").encode())
    status, document = run_json("diagnose", "0142.txt", "--at", ISSUED, folder=folder)
    conforms(document, "diagnosis")
    (attempt,) = document["attempts"]
    assert status == 1
    assert document["unreadable"] == []
    expected = {
        "id": "1",
        "source": "0142.txt",
        "protocol": "saml",
        "started_by": "application",
        "app": "crew-roster",
        "provider": "northmere-id",
        "subject": TERN,
        "at": ISSUED,
        "at_from": "option",
        "chosen_by": "audience",
        "outcome": "broken",
        "first_break": "audience-mismatch",
        "next_breaks": [],
        "hops": [],
        "claims": [{"name": "role", "values": ["mate"], "from": "assertion", "use": "used"}],
    }
    assert {key: attempt[key] for key in expected} == expected
    found = next(one for one in attempt["findings"] if one["code"] == "audience-mismatch")
    assert (found["expected"], found["actual"], found["difference"], found["side"], found["value_to_set"]) == (
        AUDIENCE,
        AUDIENCE[:-1],
        "trailing-slash",
        "provider",
        AUDIENCE,
    )
    assert found["evidence"][0]["label"] == "Audience"
    assert found["evidence"][0]["where"].startswith("field SAMLResponse › line 1 › /samlp:Response/saml:Assertion")
    assert found["evidence"][1]["source"] == "apps/crew-roster.toml"
    assert [one["stage"] for one in attempt["stages"]][4] == "intended"
    assert attempt["stages"][4]["status"] == "break"


@pytest.mark.parametrize("case", CASES[::6], ids=lambda case: case.name)
def test_every_diagnosis_conforms_to_its_schema(case: Any, tmp_path: Path) -> None:
    folder = workspace(tmp_path, case.app, case.files, case.provider, case.main)
    (folder / "message.xml").write_bytes(response(**case.message))
    told = ["--at", case.at] if case.at else []
    status, document = run_json("diagnose", "message.xml", *told, "--now", "2026-11-22", folder=folder)
    conforms(document, "diagnosis")
    assert status == (case.first is not None)
    assert document["attempts"][0]["first_break"] == case.first


def test_as_of_when(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "m.xml").write_bytes(response())
    _, document = run_json("diagnose", "m.xml", folder=folder)
    (attempt,) = document["attempts"]
    assert (attempt["at"], attempt["at_from"]) == (ISSUED, "message")
    assert {"expired", "not-yet-valid"} <= {one["code"] for one in attempt["unchecked"]}
    _, document = run_json("diagnose", "m.xml", "--at", "2026-11-20T08:15:00+00:00", folder=folder)
    assert "expired" not in {one["code"] for one in document["attempts"][0]["unchecked"]}


def test_strict_and_now(tmp_path: Path) -> None:
    folder = workspace(tmp_path, {"application": {"trusted_certificates": None}}, provider='name = "X"\n')
    (folder / "m.xml").write_bytes(response())
    assert run("diagnose", "m.xml", folder=folder).returncode == 0
    assert run("diagnose", "m.xml", "--strict", folder=folder).returncode == 1
    _, document = run_json("diagnose", "m.xml", "--now", "2026-11-20T08:15:00Z", folder=folder)
    assert "still-valid" in {one["code"] for one in document["attempts"][0]["findings"]}


def test_without_a_workspace(tmp_path: Path) -> None:
    (tmp_path / "m.xml").write_bytes(response())
    status, document = run_json("diagnose", "m.xml", folder=tmp_path)
    (attempt,) = document["attempts"]
    assert (status, attempt["outcome"], attempt["app"]) == (0, "inconclusive", None)
    assert {"application-unknown", "no-trusted-key"} <= {one["code"] for one in attempt["findings"]}


def test_choosing_the_application(tmp_path: Path) -> None:
    other = {**APP, "name": "Other", "application": {**APP["application"], "entity_id": "https://other.example/saml"}}
    folder = workspace(tmp_path, files={"apps/other.toml": toml(other)})
    (folder / "m.xml").write_bytes(response())
    chosen = [("m.xml", [], "crew-roster", "audience"), ("m.xml", ["--app", "other"], "other", "option")]
    for source, told, app, by in chosen:
        _, document = run_json("diagnose", source, *told, folder=folder)
        assert (document["attempts"][0]["app"], document["attempts"][0]["chosen_by"]) == (app, by)
    unknown = run("diagnose", "m.xml", "--app", "crew-rooster", folder=folder)
    assert unknown.returncode == 2
    assert b"Did you mean crew-roster?" in unknown.stderr


def test_paste_and_forms_of_input(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    for arguments in (["diagnose", "-"], ["diagnose"]):
        status, document = run_json(*arguments, folder=folder, stdin=B64)
        assert (status, document["attempts"][0]["source"]) == (0, "-")
    (folder / "captures").mkdir()
    for name in ("a.txt", "b.txt"):
        (folder / "captures" / name).write_bytes(B64)
    for arguments in (["captures"], ["captures/*.txt"], ["captures/a.txt", "captures/b.txt"]):
        _, document = run_json("diagnose", *arguments, folder=folder)
        assert [one["source"] for one in document["attempts"]] == ["captures/a.txt", "captures/b.txt"]
        assert [one["id"] for one in document["attempts"]] == ["1", "2"]
    lines = run("diagnose", "captures", "--format", "jsonl", folder=folder).stdout.decode().splitlines()
    assert [json.loads(one)["outcome"] for one in lines] == ["sound", "sound"]


def test_many_sources_on_all_cores_give_the_same(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "captures").mkdir()
    for number in range(230):
        audience = (
            ""
            if number % 3
            else "<saml:AudienceRestriction><saml:Audience>x</saml:Audience></saml:AudienceRestriction>"
        )
        data = response(signed="none", audiences=audience) if number < 12 else B64
        (folder / "captures" / f"{number:04}.txt").write_bytes(data)
    _, document = run_json("diagnose", "captures", folder=folder)
    assert [one["id"] for one in document["attempts"]] == [str(number) for number in range(1, 231)]
    assert [one["source"][-8:-4] for one in document["attempts"]] == [f"{number:04}" for number in range(230)]
    assert {one["outcome"] for one in document["attempts"][12:]} == {"sound"}
    assert {one["first_break"] for one in document["attempts"][:12]} == {"not-signed"}


def test_text_is_plain_in_a_pipe_and_coloured_on_demand(tmp_path: Path) -> None:
    folder = workspace(tmp_path, LISTED, CREW)
    (folder / "m.xml").write_bytes(response(name_id="M.Tern@northmere.example"))
    plain = run("diagnose", "m.xml", folder=folder, COLUMNS="80").stdout.decode()
    first, *rest = plain.splitlines()
    assert first.startswith("BROKEN at identified: There is no account named M.Tern@northmere.example")
    assert "\x1b" not in plain
    assert any("^" in line and line.endswith("case") for line in rest)
    assert "    m.tern@northmere.example" in rest
    prose = [line for line in plain.splitlines() if "/" not in line and "urn:" not in line and "--set" not in line]
    assert max(map(len, prose)) <= 80
    coloured = run("diagnose", "m.xml", "--color", "always", folder=folder).stdout.decode()
    assert "\x1b[" in coloured
    ascii_only = run_program("diagnose", "m.xml", folder=folder, PYTHONIOENCODING="ascii")
    assert ascii_only.returncode == 1
    ascii_only.stdout.decode("ascii")


def test_terminal_escapes_in_values_never_arrive_raw(tmp_path: Path) -> None:
    folder = workspace(tmp_path, LISTED, CREW)
    name = "m.tern\u202e\u200b\u009b31m@northmere.example"
    (folder / "m.xml").write_bytes(response(name_id=name, attributes=attribute("x\u009by", "\u0085z")))
    for command in (["diagnose", "m.xml"], ["decode", "m.xml"]):
        text = run(*command, folder=folder).stdout.decode()
        assert not {"\u202e", "\u200b", "\u009b", "\u0085"} & set(text)
        assert "\\u{202e}" in text


def test_output_file(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "m.xml").write_bytes(response())
    done = run("diagnose", "m.xml", "--format", "json", "--output", "out.json", folder=folder)
    assert (done.returncode, done.stdout) == (0, b"")
    conforms(json.loads((folder / "out.json").read_bytes()), "diagnosis")
    assert run("diagnose", "m.xml", "--output", "no/such/out.json", folder=folder).returncode == 2


def test_relay_state(tmp_path: Path) -> None:
    folder = workspace(tmp_path, {"application": {"relay_state": "https://roster.northmere.example/home"}})
    unasked = quote(base64.b64encode(response(request=None, response_request="")), safe="").encode()
    cases = [
        (b"https%3A%2F%2Froster.northmere.example%2Fhome", False),
        (b"elsewhere", True),
        (b"x" * 81, True),
        (b"", False),
    ]
    for state, told in cases:
        _, document = run_json("diagnose", folder=folder, stdin=b"SAMLResponse=" + unasked + b"&RelayState=" + state)
        codes = {one["code"] for one in document["attempts"][0]["findings"]}
        assert ("relay-state-unexpected" in codes) == (told or state == b""), state
        assert document["attempts"][0]["started_by"] == "provider"


def test_accepted_risks_stay_in_sight(tmp_path: Path) -> None:
    accepted = [
        {"code": "domain-not-routed", "reason": "one person with two addresses", "until": "2026-12-31"},
        {"code": "claim-missing", "reason": "old", "until": "2026-01-01"},
    ]
    folder = workspace(tmp_path, {"accepted": accepted, "claims": [{"name": "x", "need": "should"}]})
    (folder / "m.xml").write_bytes(response(name_id="m.tern@elsewhere.example"))
    _, document = run_json("diagnose", "m.xml", folder=folder)
    (attempt,) = document["attempts"]
    reasons = {one["code"]: one["accepted"] for one in attempt["findings"]}
    assert reasons["domain-not-routed"] == "one person with two addresses"
    assert reasons["claim-missing"] is None
    status = {one["stage"]: one["status"] for one in attempt["stages"]}
    assert (status["identified"], status["entitled"]) == ("unchecked", "risk")


BAD: list[tuple[str, bytes, int, str | None, str]] = [
    ("not XML", b"this is a note about something", 3, None, "no reading of it ends in a message"),
    ("empty", b"", 3, None, "it is empty"),
    ("binary", bytes(range(256)), 3, None, "binary data"),
    ("zeros", base64.b64encode(bytes(1_500_000)), 3, None, "all zero"),
    ("other XML", b"<html/>", 3, None, "root element html"),
    ("a certificate", pem(certificate("id")).encode(), 3, None, "no message of a sign-in"),
    ("cut off", response()[:1500], 1, "capture-truncated", "it stops"),
    ("cut off in base64", B64[:2001], 1, "capture-truncated", "it stops"),
    (
        "broken in the middle",
        response().replace(b"</saml:Issuer>", b"</saml:Isuer>", 1),
        1,
        "malformed-message",
        "broken at line",
    ),
    ("a document type", b'<!DOCTYPE x SYSTEM "file:///etc/passwd">' + response(), 1, "unsafe-xml", "DOCTYPE"),
    (
        "an entity bomb",
        b'<!DOCTYPE x [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;">]>'
        + response().replace(b">mate<", b">&b;<"),
        1,
        "unsafe-xml",
        "DOCTYPE",
    ),
    ("deep", response().replace(b">mate<", b">" + b"<x>" * 150 + b"</x>" * 150 + b"<"), 1, "unsafe-xml", "nested"),
    (
        "very deep",
        response().replace(b">mate<", b">" + b"<x>" * 5000 + b"</x>" * 5000 + b"<"),
        1,
        "unsafe-xml",
        "nested",
    ),
]


@pytest.mark.parametrize(("name", "data", "status", "code", "words"), BAD, ids=[one[0] for one in BAD])
def test_bad_input(name: str, data: bytes, status: int, code: str | None, words: str, tmp_path: Path) -> None:
    """A clear sentence, the right exit status, no traceback, and the other source is still done."""
    folder = workspace(tmp_path)
    (folder / "good.txt").write_bytes(B64)
    (folder / "bad.bin").write_bytes(data)
    done = run("diagnose", "bad.bin", "good.txt", folder=folder)
    assert done.returncode == status, done.stderr
    assert b"Traceback" not in done.stderr + done.stdout
    assert words in done.stdout.decode()
    _, document = run_json("diagnose", "bad.bin", "good.txt", folder=folder)
    conforms(document, "diagnosis")
    good = document["attempts"][-1]
    assert (good["source"], good["outcome"]) == ("good.txt", "sound")
    if code:
        assert (document["attempts"][0]["first_break"], document["attempts"][0]["stages"][0]["status"]) == (
            code,
            "break",
        )
    else:
        assert [one["source"] for one in document["unreadable"]] == ["bad.bin"]
    assert run("decode", "bad.bin", folder=folder).returncode == (0 if code or name == "a certificate" else 3)


def test_sources_that_are_not_there(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "empty").mkdir()
    (folder / "good.txt").write_bytes(B64)
    for name, words in (("nothing.txt", "no such file"), ("empty", "holds no files"), ("*.har", "no file matches")):
        status, document = run_json("diagnose", name, "good.txt", folder=folder)
        assert status == 3
        assert words in document["unreadable"][0]["because"]
        assert document["attempts"][0]["outcome"] == "sound"
    if os.geteuid() != 0:
        (folder / "good.txt").chmod(0)
        assert run("diagnose", "good.txt", folder=folder).returncode == 3


def test_decode(tmp_path: Path) -> None:
    (tmp_path / "m.txt").write_bytes(b"SAMLResponse=" + quote(B64, safe="").encode() + b"&RelayState=home")
    status, document = run_json("decode", "m.txt", folder=tmp_path)
    conforms(document, "decode")
    (message,) = document["messages"]
    assert (status, message["kind"], message["layers"]) == (0, "saml-response", ["form", "base64"])
    summary = message["summary"]
    assert (summary["issuer"], summary["audience"], summary["subject"], summary["recipient"]) == (
        "https://id.northmere.example/saml",
        [AUDIENCE],
        TERN,
        "https://roster.northmere.example/saml/acs",
    )
    assert (summary["valid_from"], summary["valid_until"]) == ("2026-11-20T08:13:03Z", "2026-11-20T08:19:03Z")
    assert (summary["signed_parts"], summary["status"]) == (["assertion"], ["Success"])
    assert summary["relay_state"] == "[secret 1, 4 characters]"
    assert summary["attributes"] == {"role": ["mate"]}


def test_signature_values_are_masked_unless_revealed(tmp_path: Path) -> None:
    data = response(signed="both")
    value = data.decode().split("<ds:SignatureValue>")[1].split("<")[0]
    for form in ("text", "json"):
        hidden = run("decode", "-", "--format", form, stdin=data).stdout.decode()
        assert value not in hidden
        assert "[secret 1, 344 characters]" in hidden
        assert "[secret 2, 344 characters]" in hidden
        assert value in run("decode", "-", "--format", form, "--reveal", stdin=data).stdout.decode()


def test_explain() -> None:
    text = run("explain", "audience-mismatch").stdout.decode()
    assert text.startswith("audience-mismatch: The audience is not this application's identifier")
    status, document = run_json("explain", "rolled", "key")
    conforms(document, "explain")
    assert (status, "fingerprint-mismatch" in {one["code"] for one in document["findings"]}) == (0, True)
    assert len(run_json("explain")[1]["findings"]) >= 143
    wrong = run("explain", "audience-mismach")
    assert (wrong.returncode, b"Did you mean audience-mismatch?" in wrong.stderr) == (2, True)
    for path in files("trace_lens.render").joinpath("schemas").iterdir():
        schema = json.loads(run("explain", "--schema", path.name.removesuffix(".json")).stdout)
        jsonschema_rs.meta.validate(schema)


def test_certs(tmp_path: Path) -> None:
    folder = workspace(tmp_path, files={"metadata/x.xml": response().decode(), "notes.txt": "nothing here, only words"})
    status, document = run_json("certs", "certs/id.pem", "metadata/x.xml", "--now", "2026-11-22", folder=folder)
    conforms(document, "certs")
    (one,) = document["certificates"]
    assert (status, one["subject"], one["used_by"], one["key"]) == (0, "CN=id", ["crew-roster"], "RSA 2048")
    assert one["not_after"] == "2027-12-31T00:00:00Z"
    ending = one["sha256"][-14:]
    assert run("certs", "certs/id.pem", "--expect", ending, folder=folder).returncode == 0
    assert run("certs", "certs/id.pem", "--expect", "00:11:22:33", folder=folder).returncode == 1
    assert run("certs", "certs/id.pem", "--expect", "xyz", folder=folder).returncode == 2
    assert run("certs", "notes.txt", folder=folder).returncode == 3
    codes = {
        code["code"]
        for now in ("2027-12-20", "2028-02-01", "2025-01-01")
        for one in run_json("certs", "certs/id.pem", "--now", now, folder=folder)[1]["certificates"]
        for code in one["findings"]
    }
    assert codes == {"certificate-expiring", "certificate-expired", "certificate-not-yet-valid"}


def test_apps(tmp_path: Path) -> None:
    folder = workspace(
        tmp_path,
        {
            "provider_setup": {"audience": AUDIENCE[:-1], "assigned": "everyone"},
            "application": {"password_sign_in": True},
        },
    )
    status, document = run_json("apps", "list", folder=folder)
    conforms(document, "apps")
    assert (status, document["applications"][0]["entity_id"]) == (0, AUDIENCE)
    assert (
        run_json("apps", "show", "crew-roster", folder=folder)[1]["applications"][0]["settings"]["name"]
        == "Crew Roster"
    )
    status, document = run_json("apps", "check", "--now", "2026-11-22", folder=folder)
    conforms(document, "check")
    (app,) = document["applications"]
    assert (status, app["breaks"], app["risks"]) == (1, 1, 2)
    assert [one["code"] for one in app["findings"]] == [
        "settings-disagree",
        "password-sign-in-open",
        "sign-in-left-open",
    ]
    assert app["findings"][0]["value_to_set"] == AUDIENCE
    assert run("apps", "check", "nobody", folder=folder).returncode == 2
    assert b"Crew Roster" in run("apps", "show", "crew-roster", folder=folder).stdout


def test_init_makes_a_workspace_that_is_valid(tmp_path: Path) -> None:
    assert run("init", "new", folder=tmp_path).returncode == 0
    status, document = run_json("apps", "check", "--workspace", "new", folder=tmp_path)
    assert (status, document["applications"][0]["app"]) == (0, "example-app")
    again = run("init", "new", folder=tmp_path)
    assert (again.returncode, b"nothing is overwritten" in again.stderr) == (2, True)


def test_demo(shown_demo: tuple[Done, Path]) -> None:
    done, story = shown_demo
    assert done.returncode == 0, done.stderr
    text = done.stdout.decode()
    assert "69 sign-ins in captures/: 40 broken, 28 sound, 1 inconclusive." in text
    assert text.count("\n  trace-lens ") == 9
    assert "42,359 events in the logs of four systems" in text.replace("\n", " ")
    assert "harbour-gate  9 minutes 4 seconds ahead" in text
    _, document = run_json("diagnose", "captures", folder=story)
    conforms(document, "diagnosis")
    found = {one["source"][9:11]: (one["outcome"], one["first_break"]) for one in document["attempts"]}
    beside = {one["source"][9:11]: len(one["events"]) for one in document["attempts"]}
    assert {number for number, count in beside.items() if count == 0} == {"18", "29"}
    assert found["04"] == ("broken", "audience-mismatch")
    assert found["09"] == ("broken", "signed-by-other-known-key")
    assert found["16"] == ("broken", "signature-wrapping")
    assert found["22"] == ("broken", "encrypted-to-other-key")
    assert found["25"] == ("broken", "assurance-too-low")
    assert found["29"] == ("inconclusive", None)
    assert found["31"] == ("broken", "code-verifier-mismatch")
    assert found["36"] == ("broken", "signed-by-other-known-key")
    assert found["43"] == ("broken", "wrong-token-kind")
    assert [found[number][1] for number in ("51", "52", "53", "54")] == ["session-cookie-lost"] * 4
    assert [found[number][1] for number in ("55", "57", "59", "60")] == [
        "session-not-started",
        "code-verifier-mismatch",
        "not-assigned",
        "http-error",
    ]
    assert {number for number, one in found.items() if number >= "50" and one[0] == "sound"} == {
        "50",
        "56",
        "58",
        "61",
        "62",
        "63",
        "64",
        "67",
    }
    assert {number for number, one in found.items() if one[0] == "sound"} >= {
        "01",
        "02",
        "03",
        "11",
        "19",
        "20",
        "21",
        "24",
        "26",
        "27",
        "30",
        "34",
        "39",
        "41",
        "44",
    }
    assert len({first for _, first in found.values() if first}) >= 20
    again = run("demo", str(story))
    assert (again.returncode, b"not empty" in again.stderr) == (2, True)


def test_the_demo_is_the_same_each_time_but_for_the_keys(demo: Path, tmp_path: Path) -> None:
    write_demo(tmp_path / "again")
    summaries = []
    for folder in (demo, tmp_path / "again"):
        _, document = run_json("decode", "captures/02-fuel-ledger-works.xml", folder=folder)
        summaries.append([message["summary"] for message in document["messages"]])
    assert summaries[0] == summaries[1]
    assert [(demo / path).read_bytes() for path in KEYLESS] == [
        (tmp_path / "again" / path).read_bytes() for path in KEYLESS
    ]


def test_how_the_message_came_is_judged_too(tmp_path: Path) -> None:
    """A response in a redirect, and one that decodes only after a repair."""
    squeezer = zlib.compressobj(9, zlib.DEFLATED, -15)
    query = quote(base64.b64encode(squeezer.compress(response()) + squeezer.flush()), safe="").encode()
    cases = [
        (b"https://roster.northmere.example/saml/acs?SAMLResponse=" + query, 1, "wrong-binding", "break"),
        (B64[:500] + b"\n" + B64[500:], 0, "repaired-encoding", "note"),
    ]
    folder = workspace(tmp_path)
    for data, status, code, severity in cases:
        done, document = run_json("diagnose", "-", folder=folder, stdin=data)
        (attempt,) = document["attempts"]
        assert done == status
        assert (code, severity) in {(one["code"], one["severity"]) for one in attempt["findings"]}
        assert attempt["first_break"] == (code if status else None)


def test_an_error_answer_needs_no_signature(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    refused = response(signed="none", status=("Responder", "AuthnFailed"))
    status, document = run_json("diagnose", "-", folder=folder, stdin=refused)
    (attempt,) = document["attempts"]
    stages = {one["stage"]: one["status"] for one in attempt["stages"]}
    assert (status, attempt["first_break"], stages["authentic"]) == (1, "provider-refused", "unchecked")
    assert (stages["identified"], stages["entitled"], stages["admitted"]) == ("unchecked",) * 3
