"""Whole captures in all the forms in which people hand them over: decoded, compared, drawn, listed."""

from __future__ import annotations

import io
import json
import random
import shlex
from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest
from hypothesis import given, strategies

import oidc_kit
from kit import ACS, NOW, authn_request, posted, redirect, response, run, run_json, workspace
from oidc_kit import client_workspace
from strict_schemas import conforms
from trace_lens.demo.recording import Recording, page
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.intake.captures import capture_in
from trace_lens.intake.commands import read_commands
from trace_lens.intake.heads import read_heads
from trace_lens.intake.mended import Mended
from trace_lens.intake.peeling import peel
from trace_lens.intake.shell_words import shell_words
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile
from way_kit import APP, ELSEWHERE, PROVIDER, REFUSAL, SESSION, START, har, later, oidc_trip, saml_trip

LOST = {
    "sets": ("rsid=a1b2; Path=/; Secure; SameSite=Lax",),
    "cookie": None,
    "status": 403,
    "shown": REFUSAL,
    "after": (),
    "provider": ELSEWHERE,
}
FIELDS = posted(response(), RelayState="ss:4d1f").decode()
ASKED = redirect(authn_request()).decode()


COMMANDS = [
    (
        "POSIX quoting",
        f"curl 'https://roster.northmere.example/saml/acs' \\\n  -H 'Content-Type: application/x-www-form-urlencoded' \\\n"
        f"  -b 'rsid=a1b2' \\\n  --data-raw '{FIELDS}' \\\n  --compressed\n",
        "POST",
        {"rsid": "a1b2"},
    ),
    (
        "an ANSI string",
        f"curl $'https://roster.northmere.example/saml/acs' -X POST -H $'Cookie: rsid=a\\u0031' --data-raw $'{FIELDS}'",
        "POST",
        {"rsid": "a1"},
    ),
    (
        "the Windows command line",
        f'curl ^"https://roster.northmere.example/saml/acs^" ^\n  -H ^"Cookie: rsid=a1b2^" ^\n  --data-raw ^"{FIELDS.replace("&", "^&").replace("%", "^%")}^"',
        "POST",
        {"rsid": "a1b2"},
    ),
    (
        "PowerShell",
        ["$session = New-Object Microsoft.PowerShell.Commands.WebRequestSession", "Invoke-WebRequest"][1]
        + f' -UseBasicParsing -Uri "https://roster.northmere.example/saml/acs" `\n-Method "POST" `\n-Headers @{{\n  "Cookie"="rsid=a1b2"\n}} `\n-Body "{FIELDS}"',
        "POST",
        {"rsid": "a1b2"},
    ),
    (
        "a script",
        'fetch("https://roster.northmere.example/saml/acs", '
        + json.dumps(
            {
                "method": "POST",
                "headers": {"cookie": "rsid=a1b2"},
                "referrer": "https://id.northmere.example/",
                "body": FIELDS,
            }
        )
        + ");",
        "POST",
        {"rsid": "a1b2"},
    ),
]


@pytest.mark.parametrize(("name", "text", "method", "cookies"), COMMANDS, ids=[one[0] for one in COMMANDS])
def test_request_commands(name: str, text: str, method: str, cookies: dict[str, str]) -> None:
    """They are read, never run; the message in the body is found."""
    capture = read_commands(text.encode())
    assert capture is not None
    only = capture.exchanges[0]
    assert (only.method, only.url, only.cookies) == (method, ACS, cookies)
    assert "saml-response" in {one.kind for one in peel(text.encode()).found}


SHELL_TEXT = strategies.text(strategies.sampled_from("ab '\"\\$\t-="), max_size=30)


@given(SHELL_TEXT.filter(lambda text: "$" not in text))
def test_shell_words_are_those_of_the_standard_library(text: str) -> None:
    """Where no string is written as `$'…'`, the words are those that shlex finds, and so are texts that are none."""
    try:
        expected = shlex.split(text)
    except ValueError:
        with pytest.raises(ValueError, match="no end"):
            shell_words(text)
        return
    assert shell_words(text) == expected


@given(strategies.lists(strategies.text(max_size=12)))
def test_shell_words_give_back_what_was_quoted(words: list[str]) -> None:
    assert shell_words(shlex.join(words)) == words


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("a $'b\\'c\\n' \"$'d'\"", ["a", "b'c\n", "$'d'"]),
        ("a$'\\u0041\\x42'c $d", ["aABc", "$d"]),
        ("a \\\n b ''", ["a", "", "b", ""]),
    ],
)
def test_shell_words_of_quoting(text: str, words: list[str]) -> None:
    assert shell_words(text) == words


@pytest.mark.parametrize(
    ("written", "moment"),
    [
        ("20/Nov/2026:09:13:30 +0100", datetime(2026, 11, 20, 8, 13, 30, tzinfo=UTC)),
        ("01/Jan/2026:00:30:00 +0530", datetime(2025, 12, 31, 19, 0, tzinfo=UTC)),
        ("20/nov/2026:23:30:00 -0330", datetime(2026, 11, 21, 3, 0, tzinfo=UTC)),
        ("20/Nov/2026:09:13:30 Z", datetime(2026, 11, 20, 9, 13, 30, tzinfo=UTC)),
        ("31/Feb/2026:00:00:00 +0000", None),
        ("01/Jan/0001:00:00:00 +0100", None),
        ("20/Mai/2026:00:00:00 +0000", None),
    ],
)
def test_moments_of_log_lines(written: str, moment: datetime | None) -> None:
    line = f'192.0.2.4 - - [{written}] "GET /a HTTP/1.1" 302 5\n'
    capture = read_commands(line.encode())
    assert capture is not None
    assert capture.exchanges[0].at == moment


def test_several_commands_make_a_way(tmp_path: Path) -> None:
    text = f"curl '{APP}/' -H 'Accept: */*'\n\ncurl '{ASKED}' -H 'Referer: {APP}/'\n\ncurl '{ACS}' -b 'rsid=1' --data-raw '{FIELDS}'\n"
    (workspace(tmp_path) / "c.txt").write_text(text)
    status, document = run_json("diagnose", "c.txt", folder=tmp_path)
    assert status == 0
    assert [hop["method"] for hop in document["attempts"][0]["hops"]][-1] == "POST"


LOG = """\
192.0.2.4 - - [20/Nov/2026:09:13:30 +0100] "GET / HTTP/1.1" 302 5 "-" "Panel/1.0"
192.0.2.4 - - [20/Nov/2026:09:13:50 +0100] "GET /callback?code=SplxlOBeZQQYbYS6WxSbIA&state=s-1 HTTP/1.1" 302 5 "https://id.northmere.example/" "Panel/1.0"
192.0.2.4 - - [20/Nov/2026:09:13:51 +0100] "GET /home HTTP/2" 200 900 "-" "Panel/1.0"
"""


def test_lines_of_a_web_server() -> None:
    capture = capture_in(LOG.encode())
    assert capture is not None
    assert [(one.method, one.status, one.place) for one in capture.exchanges] == [
        ("GET", 302, "line 1"),
        ("GET", 302, "line 2"),
        ("GET", 200, "line 3"),
    ]
    assert str(capture.exchanges[1].at) == "2026-11-20 08:13:50+00:00"
    assert "authorization-response" in {one.kind for one in peel(LOG.encode()).found}


def test_a_list_of_set_cookie_lines(tmp_path: Path) -> None:
    (tmp_path / "s.txt").write_text("Set-Cookie: rsid=a1b2; Path=/; SameSite=None\nSet-Cookie: tour=1; Path=/tour\n")
    status, document = run_json("decode", "s.txt", folder=tmp_path)
    assert status == 0
    conforms(document, "decode")
    rows = document["messages"][0]["content"]["cookies"]
    assert [(one["name"], one["refused"] is not None) for one in rows] == [("rsid", True), ("tour", False)]
    assert "a1b2" not in json.dumps(document)


NOT_HEADS = [
    b"HTTP/1.1 is a protocol of which RFC 9112 tells",
    b"GET the ball",
    b"Set-Cookie",
    b"",
    b"\x00HTTP/1.1 200\x00",
]


@pytest.mark.parametrize("data", NOT_HEADS)
def test_what_is_no_dump(data: bytes) -> None:
    assert read_heads(data) is None


def test_folded_and_doubled_header_fields() -> None:
    text = f"GET / HTTP/1.1\nHost: roster.northmere.example\nX-Long: one\n two\nCookie: a=1\nCookie: b=2\n\nHTTP/1.1 302 Found\nLocation: {ASKED}\nSet-Cookie: c=1\nSet-Cookie: d=2\n"
    capture = read_heads(text.encode())
    assert capture is not None
    only = capture.exchanges[0]
    assert only.cookies == {"a": "1", "b": "2"}
    assert only.request("x-long") == "one two"
    assert [line.split("=")[0] for line in only.set_cookies] == ["c", "d"]


def test_decoding_an_export(tmp_path: Path) -> None:
    (tmp_path / "a.har").write_bytes(har(saml_trip(**LOST)))
    status, document = run_json("decode", "a.har", folder=tmp_path)
    assert status == 0
    conforms(document, "decode")
    assert [one["kind"] for one in document["messages"]] == ["har", "saml-authn-request", "saml-response"]
    whole, _, answer = document["messages"]
    assert whole["summary"]["entries"] == 7
    assert [one["carries"] for one in whole["content"]["hops"]] == [[], ["saml-authn-request"], [], ["saml-response"]]
    assert (answer["layers"], answer["where"].split(" › ")[:2]) == (
        ["har", "form", "base64"],
        ["entry 7", "request body"],
    )
    text = run("decode", "a.har", folder=tmp_path).stdout.decode()
    assert "Browser export (HAR)" in text
    assert "a1b2" not in text


def test_a_redirect_without_an_entry_of_its_own(tmp_path: Path) -> None:
    """The request is read from where the redirect leads."""
    one = saml_trip()
    entries = one.document()["log"]["entries"]
    del entries[1]
    folder = workspace(tmp_path)
    (folder / "a.har").write_bytes(har(one))
    _, document = run_json("diagnose", "a.har", folder=folder)
    attempt = document["attempts"][0]
    assert attempt["outcome"] == "sound"
    assert attempt["hops"][0]["shows"] == ["saml-authn-request"]


def test_what_cannot_be_placed_is_listed(tmp_path: Path) -> None:
    one = Recording(START)
    one.step("GET", "https://news.northmere.example/", 200, page=page("News", "Fog on Tuesday"))
    later(one, 3)
    saml_trip(recording=one)
    folder = workspace(tmp_path)
    (folder / "a.har").write_bytes(har(one))
    _, document = run_json("diagnose", "a.har", folder=folder)
    conforms(document, "diagnosis")
    assert [each["url"] for each in document["unplaced"]] == ["https://news.northmere.example/"]
    assert "1 step that belongs to no sign-in" in run("diagnose", "a.har", folder=folder).stdout.decode()


def test_a_program_that_takes_the_answer_by_a_scheme_of_its_own(tmp_path: Path) -> None:
    """No hop shows the handing over; the address is compared to the letter (RFC 8252 §7.1)."""
    back = "northmere-gangway://callback"
    settings = (
        'name = "Gangway"\nprotocol = "oidc"\nprovider = "northmere-id"\n[application]\nclient_id = "berth-planner-web"\n'
        f'redirect_uris = ["{back}"]\n'
    )
    folder = client_workspace(tmp_path, files={"apps/berth-planner.toml": settings})
    found = []
    for used in (back, "northmere-gangway://Callback"):
        one = Recording(START)
        asked = oidc_kit.request(redirect_uri=used)
        one.step("GET", asked, 302, to=f"{used}?code=SplxlOBeZQQYbYS6WxSbIA&state=s-1")
        options = Options(NOW)
        found.append(diagnose_sources([SourceFile("a.har", har(one))], load_workspace(folder), options, 1).diagnoses[0])
    severities = [{one.code: one.severity for one in each.findings}.get("redirect-uri-mismatch") for each in found]
    assert severities == [None, "risk"], "the provider answered all the same"
    assert "no-answer" not in {each.code for each in found[0].findings}


def test_a_large_export_is_streamed(tmp_path: Path) -> None:
    (tmp_path / "a.har").write_bytes(har(saml_trip()))
    source = SourceFile("a.har", None, None, tmp_path / "a.har")
    peeled = source.peeled()
    assert peeled is not None
    assert [one.kind for one in peeled.found] == ["har", "saml-authn-request", "saml-response"]


@pytest.mark.parametrize(
    ("put", "told"), [(b"My w\xff\xfek", "no UTF-8"), (rb"My \ude00", "halves"), (rb"\ud83dx\ude00", "halves")]
)
def test_what_no_text_can_hold_is_replaced(put: bytes, told: str) -> None:
    peeled = peel(har(saml_trip()).replace(b"My week", put, 1))
    assert peeled.capture is not None
    assert any(told in note for note in peeled.capture.notes)
    assert len(peeled.found) == 3


@given(strategies.text(strategies.sampled_from('\ud83d\ude00\u20ac"\\ua')), strategies.integers(1, 15))
def test_halves_of_characters_are_replaced_wherever_the_stream_is_cut(text: str, size: int) -> None:
    whole = io.BytesIO(json.dumps(text).encode())
    pieces = SimpleNamespace(read=lambda _: whole.read(size))
    mended = io.BufferedReader(Mended(pieces)).read()  # type: ignore[arg-type]
    assert json.loads(mended) == text.encode("utf-16", "surrogatepass").decode("utf-16", "replace")


def test_bodies_and_cookies_left_out_are_said(tmp_path: Path) -> None:
    one = saml_trip()
    for entry in one.document()["log"]["entries"]:
        entry["response"]["content"].pop("text", None)
    (tmp_path / "a.har").write_bytes(har(one))
    _, document = run_json("decode", "a.har", folder=tmp_path)
    assert document["messages"][0]["summary"]["bodies_left_out"] > 0


def test_two_exports_side_by_side(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "bad.har").write_bytes(har(saml_trip(**LOST)))
    (folder / "good.har").write_bytes(har(saml_trip(provider=ELSEWHERE)))
    status, document = run_json("compare", "bad.har", "good.har", folder=folder)
    conforms(document, "compare")
    assert (status, document["parts_at"]) == (1, 4)
    assert document["hops"][0]["differs"] == ["cookies set"]
    assert document["hops"][3]["differs"] == ["status", "target", "cookies sent", "cookies set"]
    text = run("compare", "bad.har", "good.har", folder=folder).stdout.decode()
    assert "up to where they part: hop 4" in text
    status, same = run_json("compare", "good.har", "good.har", folder=folder)
    assert (status, same["parts_at"]) == (0, None)


@pytest.mark.parametrize(("name", "begins"), [("way.png", b"\x89PNG"), ("way.svg", b"<?xml")])
def test_the_way_is_drawn(name: str, begins: bytes, tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "a.har").write_bytes(har(saml_trip(**LOST)))
    assert run("diagnose", "a.har", "--figure", name, folder=folder).returncode == 1
    drawn = (folder / name).read_bytes()
    assert drawn.startswith(begins)
    if name.endswith("svg"):
        assert all(
            word in drawn.decode() for word in ("session-cookie-lost", "roster.northmere.example", "SAML response")
        )


FIGURES = [
    (("b.txt", "--figure", "x.png"), 2, "no capture here shows the way"),
    (("a.har", "--figure", "x.pdf"), 2, "must end in"),
    (("a.har", "--figure", "no/such/x.png"), 2, "cannot be written"),
]


@pytest.mark.parametrize(("arguments", "status", "words"), FIGURES)
def test_figures_that_cannot_be(arguments: tuple[str, ...], status: int, words: str, tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "a.har").write_bytes(har(saml_trip()))
    (folder / "b.txt").write_text(FIELDS)
    done = run("diagnose", *arguments, folder=folder)
    assert (done.returncode, words in done.stderr.decode()) == (status, True)


@pytest.mark.parametrize("columns", [50, 80, 110, 200])
def test_the_ladder_fits_the_terminal(columns: int, tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "a.har").write_bytes(har(saml_trip(start="https://crew.northmere.example", **LOST)))
    text = run("diagnose", "a.har", folder=folder, COLUMNS=str(columns)).stdout.decode()
    rungs = [line for line in text.splitlines() if line.rstrip().endswith(("302", "200", "403"))]
    assert len(rungs) >= 4
    assert max(map(len, rungs)) <= min(columns, 110)
    assert "session-cookie-lost" in text


def test_terminal_escapes_in_an_export_never_reach_the_terminal(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    evil = page("\x1b[2J\x1b]0;owned\x07Refused", "\x1b[31mred")
    (folder / "a.har").write_bytes(har(saml_trip(sets=(SESSION, "\x1b[31m=1"), status=403, shown=evil, after=())))
    for command in (("diagnose", "a.har"), ("decode", "a.har"), ("diagnose", "a.har", "--color", "never")):
        assert b"\x1b" not in run(*command, folder=folder).stdout


ODD: list[Any] = [
    None,
    "",
    0,
    -1,
    1e308,
    True,
    [],
    {},
    ["a"],
    "\x00\ud800",
    "https://[bad",
    "//",
    "2026-99-99T00:00:00Z",
    "http://a:99999/",
    "a=b; Max-Age=99999999999999; Expires=Thu, 99 Foo 99999",
]


def damaged(value: Any, draw: random.Random, share: float) -> Any:
    """A document in which some members are lacking, and some are anything else."""
    if isinstance(value, dict):
        kept = {name: one for name, one in value.items() if draw.random() > share}
        return {
            name: draw.choice(ODD) if draw.random() < share else damaged(one, draw, share) for name, one in kept.items()
        }
    if isinstance(value, list):
        return [
            draw.choice(ODD) if draw.random() < share else damaged(one, draw, share)
            for one in value
            if draw.random() > share
        ]
    return value


@pytest.mark.parametrize("seed", range(40))
def test_a_damaged_export_is_judged_or_refused_but_never_a_crash(seed: int, tmp_path: Path) -> None:
    draw = random.Random(seed)
    whole = (saml_trip() if seed % 2 else oidc_trip(spa=seed % 4 == 0)).document()
    data = json.dumps(damaged(whole, draw, draw.choice([0.005, 0.02, 0.06]))).encode()
    folder = workspace(tmp_path) if seed % 2 else client_workspace(tmp_path)
    result = diagnose_sources([SourceFile("a.har", data)], load_workspace(folder), Options(NOW), 1)
    assert result.diagnoses or result.unreadable
    for one in result.diagnoses:
        assert len(one.stages) == 9


def test_the_provider_is_read_off_the_messages_where_nothing_is_on_record() -> None:
    found = diagnose_sources([SourceFile("a.har", har(oidc_trip()))], Workspace(), Options(NOW), 1).diagnoses[0]
    assert [step.side for step in found.details.steps] == [
        "application",
        "provider",
        "provider",
        "application",
        "application",
    ]
    assert PROVIDER == oidc_kit.ISSUER
