"""`trace-lens fleet`: what counts as a sign-in in the logs, what is said of all applications, and odd input."""

from __future__ import annotations

import json
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from kit import run, run_json
from strict_schemas import conforms

BEGIN = datetime(2026, 11, 9, 8, tzinfo=UTC)
NOW = "2026-11-22T12:00:00Z"
_FIELDS = (
    '[fields]\ntime = "at"\nuser = "user"\napp = "app"\noutcome = "result"\ncode = "code"\nip = "ip"\nids = ["id"]\n'
)
_OUTCOMES = '[outcomes]\nsuccess = ["ok"]\nfailure = ["no"]\n'
Row = tuple[float, str, str, str]
"""Seconds after the begin, user, application, result."""


@pytest.fixture
def house(tmp_path: Path) -> Path:
    for folder in ("apps", "providers", "logs"):
        (tmp_path / folder).mkdir()
    (tmp_path / "trace-lens.toml").write_text("")
    (tmp_path / "providers/id.toml").write_text('name = "ID"\nentity_id = "https://id.northmere.example/saml"\n')
    for name in ("roster", "desk", "unused"):
        (tmp_path / f"apps/{name}.toml").write_text(
            f'name = "The {name.title()}"\nprotocol = "saml"\nprovider = "id"\n[application]\n'
            f'entity_id = "https://{name}.northmere.example/saml"\nacs_urls = ["https://{name}.northmere.example/acs"]\n'
        )
    return tmp_path


def log(folder: Path, name: str, role: str, rows: Sequence[Sequence[Any]], ahead: float = 0.0) -> None:
    """A log of the house: `rows` are seconds, user, application, result, and if wanted code, address and id."""
    owner = 'provider = "id"\n' if role == "provider" else ""
    (folder / f"logs/{name}.toml").write_text(
        f'role = "{role}"\n{owner}files = ["logs/{name}.csv"]\nformat = "csv"\n{_FIELDS}{_OUTCOMES}'
        '[codes]\n"A-1" = { means = "no account", stage = "identified", side = "application" }\n'
    )
    lines = ["at,user,app,result,code,ip,id"]
    for seconds, *told in rows:
        at = BEGIN + timedelta(seconds=seconds + ahead)
        lines.append(",".join([at.strftime("%Y-%m-%dT%H:%M:%S.%fZ"), *map(str, told), *[""] * (6 - len(told))]))
    (folder / f"logs/{name}.csv").write_text("\n".join(lines) + "\n")


def fleet(folder: Path, *options: str, load: bool = True) -> dict[str, Any]:
    if load:
        assert run("logs", "load", folder=folder).returncode == 0
    code, told = run_json("fleet", "--now", NOW, *options, folder=folder)
    assert code == 0
    conforms(told, "fleet")
    return dict(told)


def counts(told: dict[str, Any], app: str) -> tuple[int, int]:
    (state,) = [state for state in told["applications"] if state["app"] == app]
    return state["attempts"], state["failures"]


@pytest.mark.parametrize(
    ("theirs", "ours", "wanted"),
    [
        pytest.param(
            [(0, "m.tern", "roster", "ok"), (5, "m.tern", "roster", "no")], [], (2, 1), id="one log, two rows"
        ),
        pytest.param(
            [(0, "m.tern", "roster", "ok")], [(1, "m.tern", "roster", "no")], (1, 1), id="let by, then refused"
        ),
        pytest.param([(0, "m.tern", "roster", "ok")], [(1, "m.tern", "roster", "ok")], (1, 0), id="both say yes"),
        pytest.param([(0, "m.tern", "roster", "no")], [], (1, 1), id="the provider refuses"),
        pytest.param(
            [(0, "m.tern", "roster", "no"), (9, "m.tern", "roster", "ok")],
            [(10, "m.tern", "roster", "ok")],
            (2, 1),
            id="the second try",
        ),
        pytest.param(
            [(0, "m.tern", "roster", "ok")], [(61, "m.tern", "roster", "no")], (2, 1), id="more than a minute"
        ),
        pytest.param([(0, "m.tern", "roster", "ok")], [(1, "a.fulmar", "roster", "no")], (2, 1), id="somebody else"),
        pytest.param([(0, "m.tern", "desk", "ok")], [(1, "m.tern", "roster", "no")], (1, 1), id="another application"),
        pytest.param(
            [(0, "m.tern", "roster", "ok")],
            [(1, "m.tern", "roster", "no"), (8, "m.tern", "roster", "ok")],
            (1, 0),
            id="refused, then let in",
        ),
        pytest.param(
            [(0, "m.tern", "roster", "ok")],
            [(1, "m.tern", "roster", "ok"), (8, "m.tern", "roster", "no")],
            (1, 1),
            id="the last word counts",
        ),
        pytest.param([(0, "", "roster", "ok")], [(1, "", "roster", "no")], (2, 1), id="nobody is named"),
        pytest.param(
            [], [(0, "m.tern", "roster", "ok"), (3, "m.tern", "roster", "ok")], (2, 0), id="only the application"
        ),
        pytest.param([(0, "m.tern", "roster", "renewed")], [], (0, 0), id="no sign-in"),
        pytest.param(
            [(0, "m.tern@northmere.example", "The Roster", "ok")],
            [(1, "M.Tern", "https://roster.northmere.example/saml", "no")],
            (1, 1),
            id="other spellings",
        ),
        pytest.param(
            [(0, "m.tern", "roster", "no", "X", "", "r1"), (0, "m.tern", "roster", "no", "X", "", "r1")],
            [],
            (1, 1),
            id="one line twice, with its id",
        ),
        pytest.param(
            [(0, "m.tern", "roster", "no", "X"), (0, "m.tern", "roster", "no", "X")],
            [],
            (2, 2),
            id="two lines alike, without an id",
        ),
    ],
)
def test_what_is_one_sign_in(house: Path, theirs: list[Row], ours: list[Row], wanted: tuple[int, int]) -> None:
    log(house, "id", "provider", theirs)
    log(house, "apps", "application", ours)
    assert counts(fleet(house), "roster") == wanted


def test_two_people_of_one_name_at_two_domains_are_two(house: Path) -> None:
    rows = [(0, "m.tern@northmere.example", "roster", "ok"), (1, "m.tern@skerry-pilots.example", "roster", "ok")]
    log(house, "id", "provider", rows)
    log(house, "apps", "application", [(2, "m.tern@skerry-pilots.example", "roster", "no")])
    assert counts(fleet(house), "roster") == (2, 1)


def test_a_gateway_is_not_asked_and_an_unknown_application_is_told(house: Path) -> None:
    log(house, "gate", "gateway", [(0, "m.tern", "roster", "ok")])
    log(house, "id", "provider", [(0, "m.tern", "billing", "no"), (1, "m.tern", "roster", "ok")])
    told = fleet(house)
    assert counts(told, "roster") == (1, 0)
    assert [(item["app"], item["attempts"], item["failures"]) for item in told["not_on_record"]] == [("billing", 1, 1)]
    assert [item["source"] for item in told["logs"]["left_out"]] == ["gate"]


def test_of_a_web_servers_log_only_the_sign_ins_count(house: Path) -> None:
    (house / "logs/web.toml").write_text(
        'role = "application"\napp = "roster"\nfiles = ["logs/web.log"]\nformat = "combined"\n'
    )
    (house / "logs/web.log").write_text(
        "".join(
            f'192.0.2.7 - m.tern [09/Nov/2026:08:00:{second:02} +0000] "{request} HTTP/1.1" {status} 12 "-" "-"\n'
            for second, request, status in (
                (1, "GET /", 302),
                (2, "POST /acs", 302),
                (3, "GET /home", 200),
                (4, "POST /acs?again=1", 403),
                (5, "GET /missing", 404),
            )
        )
    )
    assert counts(fleet(house), "roster") == (2, 1)


def test_clocks_that_are_off_are_corrected_before_rows_are_joined(house: Path) -> None:
    """The application's clock is nine minutes ahead: without that, no two rows would be within a minute."""
    names = [f"p{number}" for number in range(40)]
    theirs = [(1_000 * number + 7 * (number % 13), name, "roster", "ok") for number, name in enumerate(names * 3)]
    log(house, "id", "provider", theirs)
    log(house, "apps", "application", [(seconds + 1, user, app, "no") for seconds, user, app, _ in theirs], ahead=540.0)
    assert counts(fleet(house), "roster") == (120, 120)


def rollover(house: Path, changes: bool = True) -> None:
    """Two applications fail for all from the fourth day on; `roster` is repaired two days later."""
    rows: list[tuple[Any, ...]] = []
    for number in range(1_200):
        at, user = 700.0 * number, f"p{number % 61}"
        for app, until in (("roster", 6 * 86_400), ("desk", 99 * 86_400)):
            broken = 4 * 86_400 <= at < until
            rows.append(
                (
                    at + (app == "desk") * 40,
                    user,
                    app,
                    "no" if broken or number % 40 == 3 else "ok",
                    "A-1" if broken else "",
                )
            )
    log(
        house,
        "apps",
        "application",
        [(at, user, app, result, code if result == "no" else "") for at, user, app, result, code in rows],
    )
    if changes:
        (house / "changes.csv").write_text(
            "at,app,what\n2026-11-13T07:30:00Z,id,key rolled over\n2026-11-13T07:40:00Z,unused,nothing\n"
        )


def test_changes_with_what_happened_near_and_causes(house: Path) -> None:
    rollover(house)
    told = fleet(house)
    roster, desk = (next(item for item in told["applications"] if item["app"] == app) for app in ("roster", "desk"))
    assert len(roster["changes"]) == 2
    assert len(desk["changes"]) == 1
    first = roster["changes"][0]
    assert first["earliest"] <= "2026-11-13T08:00:00Z" <= first["latest"]
    assert first["at"].startswith("2026-11-13T08")
    assert first["before"] < 0.05
    assert first["after"] == 1.0
    near = [item["what"] for item in first["near"]]
    assert "changes.csv: key rolled over" in near
    assert "The Roster: the first A-1 in apps" in near
    assert not any("nothing" in what for what in near)
    assert roster["changes"][1]["after"] < 0.1
    assert roster["first_break"] == "A-1"
    cause = told["causes"][0]
    assert (cause["code"], cause["side"], cause["what"], cause["from"]) == ("A-1", "application", "no account", "logs")
    assert cause["apps"] == ["desk", "roster"]
    assert cause["example"].startswith("apps.csv:") or cause["example"].startswith("logs/apps.csv:")
    text = run("fleet", "--now", NOW, folder=house).stdout.decode()
    assert text.startswith("1 FAILS MORE THAN BEFORE: The Desk.")
    assert "2 applications: worse between" in text


def test_one_office_is_told_by_its_address(house: Path) -> None:
    rows = []
    for number in range(900):
        office = number % 3
        refused = office == 1 and number % 10 < 8
        rows.append(
            (300.0 * number, f"p{number % 97}-{office}", "roster", "no" if refused else "ok", "", f"192.0.2.{office}")
        )
    log(house, "apps", "application", rows)
    told = fleet(house)
    (state,) = [item for item in told["applications"] if item["app"] == "roster"]
    assert [(item["what"], item["value"], item["failures"]) for item in state["apart"]] == [
        ("address", "192.0.2.1", 240)
    ]
    assert state["changes"] == []
    assert (
        "ONE PLACE ONLY: The Roster fails for address 192.0.2.1"
        in run("fleet", "--now", NOW, folder=house).stdout.decode()
    )


def test_without_logs_the_settings_are_told_and_rates_are_null(house: Path) -> None:
    told = fleet(house, load=False)
    assert {item["app"] for item in told["applications"]} == {"roster", "desk", "unused"}
    for item in told["applications"]:
        assert (item["attempts"], item["failure_rate"], item["low"], item["high"], item["trend"]) == (
            0,
            None,
            None,
            None,
            None,
        )
        assert item["changes"] == []
    assert run("fleet", folder=house).stdout.decode().startswith("NO SIGN-INS: 3 applications on record")


@pytest.mark.parametrize(
    "rows",
    [
        pytest.param([], id="an empty log"),
        pytest.param([(0, "m.tern", "roster", "no")], id="one sign-in"),
        pytest.param([(0, "m.tern", "roster", "no")] * 30, id="all at one moment"),
        pytest.param(
            [(251_000_000_000.0, "m.tern", "roster", "ok"), (0, "m.tern", "roster", "no")], id="the year 9980"
        ),
    ],
)
def test_odd_logs(house: Path, rows: list[Row]) -> None:
    log(house, "apps", "application", rows)
    for form in ("text", "csv", "markdown", "jsonl"):
        done = run("fleet", "--now", NOW, "--format", form, folder=house)
        assert done.returncode == 0
    assert counts(fleet(house), "roster")[0] == len(rows)


def test_logs_that_overlap_count_once(house: Path) -> None:
    log(house, "apps", "application", [(60.0 * number, f"p{number}", "roster", "ok") for number in range(50)])
    text = (house / "logs/apps.toml").read_text().replace('"logs/apps.csv"', '"logs/apps*.csv"')
    (house / "logs/apps.toml").write_text(text)
    lines = (house / "logs/apps.csv").read_text().splitlines(keepends=True)
    (house / "logs/apps-2.csv").write_text("".join([lines[0], *lines[21:]]))
    assert counts(fleet(house), "roster") == (50, 0)


def test_the_time_that_is_asked_for(house: Path) -> None:
    log(house, "apps", "application", [(3_600.0 * number, f"p{number}", "roster", "ok") for number in range(48)])
    assert counts(fleet(house, "--since", "2026-11-10T08:00Z"), "roster") == (24, 0)
    assert counts(fleet(house, "--until", "2026-11-09T11:00Z", load=False), "roster") == (3, 0)


def test_the_rows_of_a_table_and_a_figure(house: Path) -> None:
    rollover(house)
    assert run("logs", "load", folder=house).returncode == 0
    done = run("fleet", "--now", NOW, "--format", "csv", "--figure", str(house / "fleet.png"), folder=house)
    assert done.returncode == 0
    head, *rows = done.stdout.decode().splitlines()
    assert head.startswith("app,attempts,failures,failure_rate,low,high")
    assert {row.partition(",")[0] for row in rows} == {"roster", "desk", "unused"}
    assert (house / "fleet.png").read_bytes().startswith(b"\x89PNG")
    lines = [json.loads(row) for row in run("fleet", "--format", "jsonl", folder=house).stdout.decode().splitlines()]
    assert [line["app"] for line in lines] == ["desk", "roster", "unused"]


def test_captures_name_causes_too(house: Path, demo: Path) -> None:
    code, told = run_json("fleet", "--now", NOW, folder=demo)
    assert code == 0
    conforms(told, "fleet")
    assert told["captured_attempts"] > 60
    assert {cause["from"] for cause in told["causes"]} == {"captures", "logs"}
    planner = next(item for item in told["applications"] if item["app"] == "berth-planner")
    assert (planner["first_break"], planner["first_break_from"]) == ("signed-by-other-known-key", "captures")
    code, without = run_json("fleet", "--now", NOW, "--no-captures", folder=demo)
    assert without["captured_attempts"] == 0


def test_the_fortnight_of_the_demo(demo: Path) -> None:
    """The rollover breaks three applications within the hour, one recovers, one slopes, one fails for one office."""
    _, told = run_json("fleet", "--now", NOW, "--no-captures", folder=demo)
    states = {item["app"]: item for item in told["applications"]}
    rolled = "2026-11-17T05:00:00Z"
    for app in ("berth-planner", "fuel-ledger", "weather-desk"):
        first = states[app]["changes"][0]
        assert first["earliest"] <= rolled <= first["latest"], app
        assert any("signing key" in item["what"] for item in first["near"]), app
    assert len(states["weather-desk"]["changes"]) == 2
    assert states["weather-desk"]["changes"][1]["after"] < 0.2
    assert [(item["what"], item["value"]) for item in states["slip-booking"]["apart"]] == [("address", "192.0.2.20")]
    assert states["ticket-desk"]["changes"] == []
    assert states["ticket-desk"]["trend"]["low"] > 0
    changed = {app for app, item in states.items() if item["changes"]}
    assert changed == {"berth-planner", "fuel-ledger", "weather-desk"}
    assert states["fog-signals"]["failure_rate"] is None


def test_of_very_many_captures_the_causes_are_told(demo: Path, tmp_path: Path) -> None:
    """The largest first, with an example and what to do; the order is stable, and shared out or not is all the same."""
    whole = (demo / "captures/04-crew-roster-slash-lost.txt").read_bytes()
    cut = (demo / "captures/18-ticket-desk-cut-off.txt").read_bytes()
    for number in range(152):
        (tmp_path / f"{number:03}.txt").write_bytes(cut if number % 4 == 0 else whole)
    text = run("diagnose", str(tmp_path), folder=demo).stdout.decode()
    head, _, rest = text.partition("Causes, the largest first")
    assert head.startswith("152 sign-ins in ")
    assert head.split()[-2:] == ["152", "broken."]
    assert rest.index("114 × audience-mismatch") < rest.index("38 × capture-truncated")
    assert f"for example {tmp_path}/001.txt" in " ".join(rest.split())
    assert "Set the audience" in rest
    assert "https://roster.northmere.example/saml/" in rest
    assert len(rest.splitlines()) < 20
    for number in range(40, 152):
        (tmp_path / f"{number:03}.txt").unlink()
    lines = run("diagnose", str(tmp_path), "-q", folder=demo).stdout.decode().splitlines()
    assert [line.partition(":")[0][-7:] for line in lines] == [f"{number:03}.txt" for number in range(40)]


def test_progress_is_told_to_who_watches(monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    from trace_lens.cli import progress

    monkeypatch.setattr(progress.sys.stderr, "isatty", lambda: True, raising=False)
    monkeypatch.setattr(progress, "_AFTER", 0.0)
    monkeypatch.setattr(progress, "_EVERY", 0.0)
    with progress.watched("sources") as told:
        assert told is not None
        told(50, 200)
    assert "50 of 200 sources" in capsys.readouterr().err
    monkeypatch.setattr(progress.sys.stderr, "isatty", lambda: False, raising=False)
    with progress.watched("sources") as told:
        assert told is None
