"""The logs beside an attempt, by the built program: what they decide in a diagnosis, timelines, attempts rebuilt."""

from __future__ import annotations

import json
import xml.etree.ElementTree as ElementTree
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from cases import _audiences
from kit import ISSUED, response, run, run_json, workspace
from test_program import conforms

ID_LOG = """role = "provider"
provider = "northmere-id"
files = ["logs/id.csv"]
format = "csv"
[fields]
time = "when"
user = "who"
app = "target"
outcome = "result"
code = "code"
ip = "from"
ids = ["request"]
[outcomes]
success = ["granted"]
failure = ["denied"]
[codes]
"N-2207" = { means = "nobody is assigned", stage = "entitled", side = "provider" }
"""
APP_LOG = """role = "application"
app = "crew-roster"
files = ["logs/app.csv"]
format = "csv"
[fields]
time = "when"
user = "who"
outcome = "result"
code = "code"
reason = "why"
ids = ["request"]
[outcomes]
success = ["ok"]
failure = ["no"]
[codes]
"A-41" = { means = "no account of that name", stage = "identified", side = "application" }
"""
WEB_LOG = """role = "application"
app = "crew-roster"
files = ["logs/web.log"]
format = "combined"
"""
AT = datetime.fromisoformat(ISSUED).astimezone(UTC)
ME = "m.tern@northmere.example"


def when(seconds: float) -> str:
    """A time, so many seconds after the response was issued."""
    return (AT + timedelta(seconds=seconds)).strftime("%Y-%m-%dT%H:%M:%SZ")


def loaded(
    folder: Path,
    *,
    provider: str = "granted,",
    app: str | None = "ok,,",
    off: float = 0.0,
    request: str = "_rq1",
    settings: dict[str, Any] | None = None,
    more: dict[str, str] | None = None,
    web: str | None = None,
) -> Path:
    """A workspace whose two logs hold one sign-in, and forty others by which the clocks can be told."""
    ids = ["when,who,target,result,code,from,request"]
    apps = ["when,who,result,code,why,request"]
    for number in range(40):
        other = f"b{number}.auk"
        ids.append(f"{when(-7000 + 170 * number)},{other}@northmere.example,Crew Roster,granted,,192.0.2.7,")
        apps.append(f"{when(-6999 + 170 * number + off)},{other},ok,,,")
    if provider:
        ids.append(f"{when(0)},{ME},Crew Roster,{provider},192.0.2.9,{request}")
    if app:
        apps.append(f"{when(1 + off)},m.tern,{app},{request}")
    logs = {"logs/id.toml": ID_LOG, "logs/id.csv": "\n".join(ids) + "\n"}
    if web is None:
        logs |= {"logs/app.toml": APP_LOG, "logs/app.csv": "\n".join(apps) + "\n"}
    else:
        logs |= {"logs/web.toml": WEB_LOG, "logs/web.log": web}
    workspace(folder, settings, {**logs, **(more or {})})
    done = run("logs", "load", folder=folder)
    assert done.returncode == 0, done.stderr
    return folder


def judged(folder: Path, data: bytes | None = None) -> dict[str, Any]:
    """The one attempt of a response, with the logs beside it."""
    _, document = run_json("diagnose", "-", folder=folder, stdin=response() if data is None else data)
    conforms(document, "diagnosis")
    (attempt,) = document["attempts"]
    return dict(attempt)


def codes(attempt: dict[str, Any]) -> dict[str, Any]:
    """The findings by code."""
    return {one["code"]: one for one in attempt["findings"]}


def stages(attempt: dict[str, Any]) -> dict[str, str]:
    """The status of each stage."""
    return {one["stage"]: one["status"] for one in attempt["stages"]}


def test_the_log_tells_the_moment_and_that_the_user_was_let_in(tmp_path: Path) -> None:
    attempt = judged(loaded(tmp_path))
    assert (attempt["outcome"], attempt["at_from"], stages(attempt)["admitted"]) == ("sound", "log", "ok")
    assert "outcome-unknown" not in codes(attempt)
    assert "Crew Roster let the user in" in attempt["cause"]
    assert abs(datetime.fromisoformat(attempt["at"]) - AT) < timedelta(seconds=3)
    assert {(one["source"], one["line"]) for one in attempt["events"]} == {("id", 42), ("app", 42)}
    assert all("id" in one["because"] and one["probability"] > 0.9 for one in attempt["events"])


def test_without_logs_nothing_changes(tmp_path: Path) -> None:
    attempt = judged(workspace(tmp_path))
    assert (attempt["at_from"], attempt["events"]) == ("message", [])
    assert "outcome-unknown" in codes(attempt)


def test_the_application_says_no(tmp_path: Path) -> None:
    attempt = judged(loaded(tmp_path, app="no,A-77,the moon is full"))
    found = codes(attempt)["application-refused"]
    assert (attempt["first_break"], found["stage"], found["actual"]) == ("application-refused", "admitted", "A-77")
    assert "the moon is full" in found["detail"]
    assert (found["evidence"][0]["source"], found["evidence"][0]["where"]) == ("logs/app.csv", "line 42")


@pytest.mark.parametrize(
    ("said", "remedy"),
    [
        ("no,A-77,the moon is full", 'Act on the reason that the log gives: "the moon is full".'),
        ("no,A-41,", "Act on what the code A-41 means: no account of that name."),
        ("no,A-77,", "Find out what the code A-77 means, and put it on record under [codes] in logs/app.toml."),
        ("no,,", "Look up this moment in the log: its event gives neither a code nor a reason."),
    ],
)
def test_what_to_do_about_a_refusal(said: str, remedy: str, tmp_path: Path) -> None:
    assert codes(judged(loaded(tmp_path, app=said)))["application-refused"]["remedy"] == remedy


def test_what_was_found_explains_the_refusal(tmp_path: Path) -> None:
    attempt = judged(
        loaded(tmp_path, app="no,A-77,"), response(audiences=_audiences("https://roster.northmere.example/saml"))
    )
    assert attempt["first_break"] == "audience-mismatch"
    assert codes(attempt)["application-refused"]["because_of"] == "audience-mismatch"


def test_a_refusal_that_was_followed_by_a_yes_is_none(tmp_path: Path) -> None:
    folder = loaded(tmp_path, app="no,A-77,")
    with (folder / "logs/app.csv").open("a") as file:
        file.write(f"{when(3)},m.tern,ok,,,_rq1\n")
    run("logs", "load", folder=folder)
    assert judged(folder)["outcome"] == "sound"


@pytest.mark.parametrize(("listed", "severity"), [(None, "break"), ("user\nsomebody@northmere.example\n", "break")])
def test_no_account_by_the_log(listed: str | None, severity: str, tmp_path: Path) -> None:
    settings = {"account": {"list": "accounts.csv"}} if listed else None
    folder = loaded(tmp_path, app="no,A-41,", settings=settings, more={"accounts.csv": listed} if listed else {})
    found = codes(judged(folder))
    assert found["account-not-found"]["severity"] == severity
    assert any(one["source"] == "logs/app.csv" for one in found["account-not-found"]["evidence"])
    assert found["application-refused"]["because_of"] == "account-not-found"


def test_a_list_that_is_older_than_what_the_log_says(tmp_path: Path) -> None:
    settings = {"account": {"list": "accounts.csv"}}
    folder = loaded(tmp_path, settings=settings, more={"accounts.csv": "user\nsomebody@northmere.example\n"})
    attempt = judged(folder)
    assert codes(attempt)["account-not-found"]["severity"] == "risk"
    assert attempt["outcome"] == "sound"


def test_the_provider_says_no_and_its_code_stands_beside_the_status(tmp_path: Path) -> None:
    folder = loaded(tmp_path, provider="denied,N-2207", app=None)
    attempt = judged(folder, response(signed="none", status=("Responder", "RequestDenied")))
    found = codes(attempt)
    assert attempt["first_break"] == "provider-refused"
    assert "N-2207 (nobody is assigned)" in found["provider-refused"]["detail"]
    assert stages(attempt)["admitted"] != "ok"
    refused = found["provider-log-refused"]
    assert (refused["stage"], refused["side"], refused["because_of"]) == ("entitled", "provider", "provider-refused")


@pytest.mark.parametrize(("off", "found"), [(0.0, False), (60.0, False), (540.0, True), (-540.0, True)])
def test_clocks_that_differ(off: float, found: bool, tmp_path: Path) -> None:
    attempt = judged(loaded(tmp_path, off=off))
    told = codes(attempt).get("clock-offset")
    assert (told is not None) is found
    assert abs(datetime.fromisoformat(attempt["at"]) - AT) < timedelta(seconds=12)
    if told:
        assert (told["severity"], told["side"], attempt["outcome"]) == ("risk", "application", "sound")


@pytest.mark.parametrize(("off", "code"), [(-900.0, "not-yet-valid"), (900.0, "expired")])
def test_refused_by_its_own_clock(off: float, code: str, tmp_path: Path) -> None:
    attempt = judged(loaded(tmp_path, app="no,A-60,", off=off))
    assert (attempt["first_break"], codes(attempt)[code]["side"]) == (code, "application")
    assert codes(attempt)["application-refused"]["because_of"] == code


def test_a_web_server_never_says_that_somebody_was_let_in(tmp_path: Path) -> None:
    line = '192.0.2.9 - {user} [{at}] "{request} HTTP/1.1" {status} 512 "-" "-"\n'
    at = (AT + timedelta(seconds=1)).strftime("%d/%b/%Y:%H:%M:%S +0000")
    good = line.format(user="m.tern", at=at, request="POST /saml/acs", status=302)
    attempt = judged(loaded(tmp_path / "a", web=good))
    assert (attempt["outcome"], len(attempt["events"])) == ("sound", 2)
    assert "outcome-unknown" in codes(attempt)
    bad = line.format(user="m.tern", at=at, request="POST /saml/acs", status=403)
    bad += line.format(user="m.tern", at=at, request="GET /style.css", status=200)
    refused = judged(loaded(tmp_path / "b", web=bad))
    assert refused["first_break"] == "application-refused"
    assert "tells the status only" in codes(refused)["application-refused"]["remedy"]


def test_the_timeline_as_json(tmp_path: Path) -> None:
    folder = loaded(tmp_path, off=540.0)
    (folder / "one.xml").write_bytes(response())
    (folder / "notes.txt").write_text("nothing of a sign-in")
    status, document = run_json("timeline", "one.xml", "notes.txt", folder=folder)
    conforms(document, "timeline")
    assert (status, [one["source"] for one in document["unreadable"]]) == (3, ["notes.txt"])
    clocks = {one["source"]: one for one in document["clocks"]}
    assert clocks["app"]["low"] <= 540.0 <= clocks["app"]["high"]
    assert clocks["id"]["low"] <= 0.0 <= clocks["id"]["high"]
    (attempt,) = document["attempts"]
    for one in attempt["events"]:
        moments = [datetime.fromisoformat(one[name]) for name in ("time", "corrected_time")]
        assert (moments[0] - moments[1]).total_seconds() == pytest.approx(
            clocks[one["source"]]["offset_seconds"], abs=0.01
        )
    assert {one["what"] for one in attempt["windows"]} == {"assertion", "subject confirmation"}


def test_the_timeline_as_text_and_figure(tmp_path: Path) -> None:
    folder = loaded(tmp_path)
    (folder / "one.xml").write_bytes(response())
    for columns in ("50", "100"):
        done = run("timeline", "one.xml", "--figure", "t.svg", folder=folder, COLUMNS=columns)
        text = done.stdout.decode()
        assert (done.returncode, done.stderr) == (0, b"")
        assert "app: success" in text
        assert "Clocks" in text
        assert max(map(len, text.splitlines())) <= 110
    drawn = "".join(ElementTree.parse(folder / "t.svg").getroot().itertext())
    assert "app: success" in drawn
    assert "provider" in drawn
    done = run("timeline", "one.xml", "--figure", "t.png", folder=folder)
    assert (folder / "t.png").read_bytes().startswith(b"\x89PNG")


def test_lines_of_one_second_with_and_without_an_application(tmp_path: Path) -> None:
    folder = loaded(tmp_path, request="")
    with (folder / "logs/id.csv").open("a") as file:
        for number in range(40):
            file.write(f"{when(-7000 + 170 * number)},b{number}.auk@northmere.example,,renewed,,192.0.2.7,\n")
            file.write(
                f"{when(-7000 + 170 * number)},b{number}.auk@northmere.example,Crew Roster,renewed,,192.0.2.7,\n"
            )
    with (folder / "logs/app.csv").open("a") as file:
        file.writelines(f"{when(-6999 + 170 * number)},b{number}.auk,ok,,,\n" for number in range(40))
    run("logs", "load", folder=folder)
    assert {one["source"] for one in judged(folder)["events"]} == {"id", "app"}


def test_a_clock_that_is_off_by_a_zone_is_asked_about(tmp_path: Path) -> None:
    folder = loaded(tmp_path, off=7200.0)
    (folder / "one.xml").write_bytes(response())
    text = run("timeline", "one.xml", folder=folder).stdout.decode()
    assert "2 hours ahead" in text
    assert "is time_zone right?" in text


def test_attempts_rebuilt_from_the_logs(tmp_path: Path) -> None:
    folder = loaded(tmp_path, off=540.0)
    status, document = run_json("timeline", "--user", "m.tern", "--around", when(60), folder=folder)
    conforms(document, "timeline")
    (attempt,) = document["attempts"]
    assert (status, attempt["app"], attempt["at_from"], attempt["outcome"]) == (0, "crew-roster", "log", None)
    assert {(one["source"], one["line"]) for one in attempt["events"]} == {("id", 42), ("app", 42)}
    nobody = run("timeline", "--user", "x.nobody", "--around", when(60), folder=folder)
    assert (nobody.returncode, b"No loaded log event" in nobody.stdout) == (0, True)


@pytest.mark.parametrize(
    ("arguments", "words"),
    [
        (["--user", "m.tern"], "go together"),
        (["--user", "m.tern", "--around", "2026-11-20", "one.xml"], "takes no SOURCE"),
        (["one.xml", "--within", "soon"], "not a duration"),
        (["one.xml", "--figure", "t.pdf"], "must end in .png or .svg"),
        (["one.xml", "--app", "crew-rooster"], "Did you mean crew-roster?"),
    ],
)
def test_timelines_that_cannot_be(arguments: list[str], words: str, tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "one.xml").write_bytes(response())
    done = run("timeline", *arguments, folder=folder)
    assert (done.returncode, words in done.stderr.decode()) == (2, True)


def test_no_logs_loaded(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "one.xml").write_bytes(response())
    done = run("timeline", "one.xml", "--format", "json", folder=folder)
    assert (done.returncode, b"logs load" in done.stderr) == (0, True)
    assert json.loads(done.stdout)["clocks"] == []
    assert run("timeline", "--user", "m.tern", "--around", "2026-11-20", folder=folder).returncode == 2


def test_a_damaged_store_does_not_stop_a_diagnosis(tmp_path: Path) -> None:
    folder = loaded(tmp_path)
    (folder / ".trace-lens/logs/manifest.json").write_bytes(b"no manifest" * 400)
    done = run("diagnose", "-", folder=folder, stdin=response())
    assert (done.returncode, b"Without the logs" in done.stderr, b"SOUND" in done.stdout) == (0, True, True)


def test_wrong_descriptions_stop_a_diagnosis(tmp_path: Path) -> None:
    folder = loaded(tmp_path)
    (folder / "logs/id.toml").write_text(ID_LOG.replace('role = "provider"', 'rule = "provider"'))
    done = run("diagnose", "-", folder=folder, stdin=response())
    assert (done.returncode, b"logs/id.toml" in done.stderr) == (2, True)


def test_events_of_other_people_and_of_retries_stay_apart(tmp_path: Path) -> None:
    folder = loaded(tmp_path, request="")
    with (folder / "logs/app.csv").open("a") as file:
        file.write(f"{when(95)},m.tern,no,A-77,,_other\n{when(1)},k.tern,no,A-77,,\n")
    run("logs", "load", folder=folder)
    attempt = judged(folder)
    assert {(one["source"], one["line"]) for one in attempt["events"]} == {("id", 42), ("app", 42)}
    assert attempt["outcome"] == "sound"
