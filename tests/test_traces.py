"""What an attempt shows that logs may show too: ids, names, addresses, moments; and the words that a log comes out as."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

import way_kit
from kit import TERN, authn_request, redirect, response, run_json, workspace
from oidc_kit import answer, client_workspace, request, token, token_response
from trace_lens.checks.logged import says_no_account
from trace_lens.demo.captures import captures
from trace_lens.demo.log_descriptions import CODES, PROVIDER_CODES
from trace_lens.demo.logs import AHEAD, log_files
from trace_lens.demo.workspace import make_keys
from trace_lens.diagnosis.gathering import attempts_of
from trace_lens.diagnosis.judging import Options, case_of
from trace_lens.diagnosis.traces import seen_of
from trace_lens.logs.event import Event
from trace_lens.logs.matching.seen import Matched, Seen
from trace_lens.logs.store.candidates import Window, _merged
from trace_lens.render.timeline_words import written
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.log_settings import LogCode
from trace_lens.workspace.log_sources import read_description
from trace_lens.workspace.sources import SourceFile

NOW = datetime(2026, 11, 22, tzinfo=UTC)


def seen(folder: Path, *data: bytes) -> Seen:
    """What the one attempt in some sources shows."""
    sources = [SourceFile(f"capture-{number}", one) for number, one in enumerate(data)]
    attempts, failed = attempts_of(sources)
    assert failed == []
    (attempt,) = attempts
    return seen_of(case_of(attempt, load_workspace(folder), Options(NOW)), "1")


def test_a_response(tmp_path: Path) -> None:
    found = seen(workspace(tmp_path), response())
    assert {"_rs1", "_as1", "_rq1"} <= found.ids
    assert TERN in found.names
    assert (found.app, found.provider, found.answered, found.let_in) == ("crew-roster", "northmere-id", True, None)
    assert found.at == found.moments[0].at == datetime(2026, 11, 20, 8, 14, 3, tzinfo=UTC)


def test_claims_that_are_names_and_those_that_are_not(tmp_path: Path) -> None:
    attributes = "".join(
        f'<saml:Attribute Name="{name}"><saml:AttributeValue>{value}</saml:AttributeValue></saml:Attribute>'
        for name, value in (
            ("https://schemas.northmere.example/emailAddress", "tern@home.example"),
            ("uid", "mtern"),
            ("department", "harbour"),
            ("upn", "m.tern@corp.example"),
        )
    )
    found = seen(workspace(tmp_path), response(attributes=attributes))
    assert {"tern@home.example", "mtern", "m.tern@corp.example"} <= found.names
    assert "harbour" not in found.names


def test_a_refusal(tmp_path: Path) -> None:
    found = seen(workspace(tmp_path), response(signed="none", status=("Responder", "AuthnFailed")))
    assert (found.answered, found.names) == (False, frozenset())
    assert "_rs1" in found.ids


def test_a_request_alone(tmp_path: Path) -> None:
    found = seen(workspace(tmp_path), redirect(authn_request()))
    assert (found.answered, "_rq1" in found.ids) == (None, True)


def test_a_whole_way(tmp_path: Path) -> None:
    trip = way_kit.saml_trip()
    trip_entries = trip.document()["log"]["entries"]
    trip_entries[0]["response"]["headers"].append({"name": "X-Request-ID", "value": "hop-4411"})
    found = seen(workspace(tmp_path), json.dumps({"log": {**trip.document()["log"], "entries": trip_entries}}).encode())
    assert "hop-4411" in found.ids
    assert found.let_in is True
    sides = {one.side for one in found.moments}
    assert {"application", "provider"} <= sides
    assert [one.at for one in found.moments] == sorted(one.at for one in found.moments)


def test_a_reference_on_an_error_page(tmp_path: Path) -> None:
    page = "<html><title>Sign-in failed</title><body><p>Reference e7a1-44c0-9d21, please quote it.</p></body></html>"
    found = seen(workspace(tmp_path), way_kit.har(way_kit.saml_trip(status=403, to=None, after=(), shown=page)))
    assert "e7a1-44c0-9d21" in found.ids
    assert found.let_in is False


def test_messages_of_openid_connect(tmp_path: Path) -> None:
    text = "\n\n".join((request(login_hint="m.tern@northmere.example"), answer(), token_response(id_token=token())))
    found = seen(client_workspace(tmp_path), text.encode())
    assert found.answered is True
    assert "m.tern@northmere.example" in found.names
    assert found.ids
    secret = {"code_verifier", "client_secret"}
    assert not any(name in one for one in found.ids for name in secret)


@pytest.mark.parametrize(
    ("means", "stage", "expected"),
    [
        ("no account of that name", "identified", True),
        ("unknown user", None, True),
        ("the account was not found", "identified", True),
        ("no account of that name", "authentic", False),
        ("the account is locked", "identified", False),
        ("nobody is assigned", "entitled", False),
    ],
)
def test_codes_that_mean_no_account(means: str, stage: Any, expected: bool) -> None:
    assert says_no_account(LogCode(means=means, stage=stage)) is expected
    assert says_no_account(None) is False


def test_windows_are_put_together() -> None:
    windows = [Window("a", "x", 0, 10), Window("a", "x", 5, 20), Window("a", "x", 30, 40), Window("a", "y", 0, 10)]
    assert _merged(reversed(windows)) == [Window("a", "x", 0, 20), Window("a", "x", 30, 40), Window("a", "y", 0, 10)]


@pytest.mark.parametrize(
    ("off", "words"), [(0.2, "line 7; 0.93 by id, time"), (540, "written 08:23:00, line 7; 0.93 by id, time")]
)
def test_where_an_event_stands(off: float, words: str) -> None:
    at = datetime(2026, 11, 20, 8, 14, tzinfo=UTC)
    event = Event(
        source="gate",
        file="gate.log",
        line=7,
        time=at + timedelta(seconds=off),
        user=None,
        app=None,
        outcome="other",
        code=None,
        reason=None,
        ip=None,
        ids=(),
    )
    assert (
        written(Matched(event=event, corrected=at, probability=0.934, because=("id", "time"), role="gateway")) == words
    )


def test_the_logs_of_the_demo_are_as_their_descriptions_say(tmp_path: Path) -> None:
    files = log_files(captures(make_keys()))
    for name, data in files.items():
        if name.endswith(".toml"):
            problems: list[Any] = []
            assert read_description(data.decode(), Path(name).stem, name, problems), problems
    told = {name: data for name, data in files.items() if not name.endswith((".toml", ".gz"))}
    lines = {name: data.decode().splitlines() for name, data in told.items()}
    rows = [json.loads(one) for one in lines["logs/platform.jsonl"]]
    assert [one["ts"] for one in rows] == sorted(one["ts"] for one in rows)
    assert {one["error"]["code"] for one in rows if "error" in one} <= set(CODES)
    assert len(lines["logs/harbour-gate.log"]) > 10_000
    assert timedelta(minutes=9, seconds=4) == AHEAD
    assert all(stage and side for _, stage, side in (*CODES.values(), *PROVIDER_CODES.values()))
    again = log_files(captures(make_keys()))
    assert {name for name in files if files[name] != again[name]} == set(), "the story is the same each time"


def test_a_timeline_of_several_sources_keeps_their_order(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "b.xml").write_bytes(response())
    (folder / "a.xml").write_bytes(response(signed="none", status=("Responder", "AuthnFailed"), response_id="_rs2"))
    status, document = run_json("timeline", "b.xml", "a.xml", folder=folder)
    assert (status, [one["source"] for one in document["attempts"]]) == (0, ["b.xml", "a.xml"])
    assert [one["id"] for one in document["attempts"]] == ["1", "2"]
