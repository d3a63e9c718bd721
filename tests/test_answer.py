"""The answer first: what the first lines of a diagnosis say, and what a run over many attempts shows."""

from __future__ import annotations

import csv
import io
import json
from pathlib import Path

import pytest

from kit import AUDIENCE, response, run, workspace
from trace_lens.common.findings import Side
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.grouping import causes_of
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.render.documents.diagnosis import one
from trace_lens.render.terminal import writing
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import read_sources

ELSEWHERE = "https://other.northmere.example/"
OTHER = f"<saml:AudienceRestriction><saml:Audience>{ELSEWHERE}</saml:Audience></saml:AudienceRestriction>"
AT_SIDES = {Side.APPLICATION: "At the application", Side.PROVIDER: "At the provider", Side.USER: "By the user"}


@pytest.fixture(scope="module")
def diagnosed(demo: Path) -> tuple[Diagnosis, ...]:
    from datetime import UTC, datetime

    options = Options(datetime(2026, 11, 21, tzinfo=UTC), prove=True)
    return diagnose_sources(list(read_sources((str(demo / "captures"),))), load_workspace(demo), options).diagnoses


def test_the_first_twelve_lines_are_the_answer(
    diagnosed: tuple[Diagnosis, ...], monkeypatch: pytest.MonkeyPatch
) -> None:
    """For every sign-in of the demo: cause, side, value, what comes after, how sure, and the moment."""
    monkeypatch.setenv("COLUMNS", "80")
    for diagnosis in diagnosed:
        head = writing.write(one(diagnosis), "never").splitlines()[:12]
        text = " ".join(" ".join(head).split())
        assert " ".join(diagnosis.cause.split())[:120] in text, diagnosis.source
        first = diagnosis.first_break
        if first:
            assert f"{diagnosis.outcome.upper()}" in head[0]
            assert AT_SIDES[first.side] in text if first.side in AT_SIDES else True
            assert first.value_to_set is None or f"    {first.value_to_set}" in head, diagnosis.source
            assert diagnosis.proposal is None or "trace-lens diagnose" in text
        assert "how sure" in text or diagnosis.outcome == "inconclusive", diagnosis.source
        assert diagnosis.at is None or "judged at" in text, diagnosis.source


def test_effects_stand_below_their_cause(diagnosed: tuple[Diagnosis, ...]) -> None:
    seen = 0
    for diagnosis in diagnosed:
        text = writing.write(one(diagnosis), "never")
        for finding in diagnosis.findings:
            if finding.breaks and finding.because_of and finding.stage != "settings":
                assert text.index(f"\n{finding.because_of}  break in") < text.index(f"so also {finding.code}")
                seen += 1
    assert seen > 10


def test_in_full_every_finding_has_its_evidence(diagnosed: tuple[Diagnosis, ...]) -> None:
    for diagnosis in diagnosed[:12]:
        text = writing.write(one(diagnosis, full=True), "never")
        for finding in diagnosis.findings:
            if finding.severity != "note":
                assert f"\n{finding.code}  {finding.severity} in {finding.stage}" in text
        for question in diagnosis.unchecked:
            assert question.code in text


def test_several_are_a_table_and_causes_are_told_once(demo: Path) -> None:
    """One screen for many captures, each on one line; details for -v, or where one source is named."""
    done = run("diagnose", "captures/1*", folder=demo, COLUMNS="80")
    lines = done.stdout.decode().splitlines()
    count = len(list((demo / "captures").glob("1*")))
    assert max(map(len, lines[:count])) <= 80
    assert len([line for line in lines if line.strip()[:1].isdigit() and "×" not in line]) == count + 1
    assert "BROKEN at" not in done.stdout.decode()
    assert "BROKEN at" in run("diagnose", "captures/1*", "-v", folder=demo).stdout.decode()
    assert "BROKEN at" in run("diagnose", "captures/04-crew-roster-slash-lost.txt", folder=demo).stdout.decode()


def test_causes_count_attempts_people_and_applications(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    for name, wrong, person in (
        ("a", OTHER, "m.tern@northmere.example"),
        ("b", OTHER, "a.fulmar@northmere.example"),
        ("c", OTHER, "a.fulmar@northmere.example"),
        ("d", None, "a.fulmar@northmere.example"),
    ):
        (folder / f"{name}.xml").write_bytes(response(name_id=person, **({"audiences": wrong} if wrong else {})))
    words = ("diagnose", "a.xml", "b.xml", "c.xml", "d.xml", "--app", "crew-roster", "--format", "json")
    (cause,) = json.loads(run(*words, folder=folder).stdout)["causes"]
    assert (cause["code"], cause["attempts"], cause["people"]) == ("audience-mismatch", 3, 2)
    assert (cause["apps"], cause["example"]) == (["crew-roster"], "a.xml")
    assert cause["value_to_set"] == AUDIENCE


def test_causes_are_the_same_in_any_order(diagnosed: tuple[Diagnosis, ...]) -> None:
    def counted(found: tuple[Diagnosis, ...]) -> set[tuple[str, int, int, frozenset[str]]]:
        return {(cause.code, cause.attempts, cause.people, frozenset(cause.apps)) for cause in causes_of(found)}

    assert counted(diagnosed) == counted(tuple(reversed(diagnosed)))
    assert sum(cause.attempts for cause in causes_of(diagnosed)) == sum(
        found.outcome == "broken" for found in diagnosed
    )


def test_quiet_is_one_line_an_attempt(demo: Path) -> None:
    done = run(
        "diagnose", "-q", "captures/04-crew-roster-slash-lost.txt", "captures/01-crew-roster-works.txt", folder=demo
    )
    broken, sound = done.stdout.decode().splitlines()
    assert broken.endswith("broken audience-mismatch, provider: https://roster.northmere.example/saml/")
    assert sound.endswith("crew-roster sound")


def test_csv_has_a_row_an_attempt_and_no_formulas(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "a.xml").write_bytes(response(name_id="=cmd|'/c calc'!A1"))
    rows = list(csv.DictReader(io.StringIO(run("diagnose", "a.xml", "--format", "csv", folder=folder).stdout.decode())))
    assert [row["source"] for row in rows] == ["a.xml"]
    assert rows[0]["subject"] == "'=cmd|'/c calc'!A1"


@pytest.mark.parametrize(
    ("row", "first"),
    [
        ("2026-11-20T08:00:00Z,crew-roster,audience set anew,", "It was made 14 minutes"),
        ("2026-11-20T08:00:00Z,crew-roster,audience set anew,10m", "BROKEN at intended"),
        ("2026-11-20T05:00:00Z,crew-roster,audience set anew,", "BROKEN at intended"),
        ("2026-11-20T09:00:00Z,crew-roster,audience set anew,", "It was made 45 minutes"),
        ("2026-11-20T08:00:00Z,fuel-ledger,another application,", "BROKEN at intended"),
    ],
)
def test_changes_on_record_are_told_in_the_first_line(tmp_path: Path, row: str, first: str) -> None:
    folder = workspace(tmp_path, files={"changes.csv": f"at,app,what,takes\n{row}\n"})
    (folder / "m.xml").write_bytes(response(audiences=OTHER))
    words = ("diagnose", "m.xml", "--app", "crew-roster", "--now", "2026-11-21T00:00:00Z")
    assert run(*words, folder=folder).stdout.decode().startswith(first)


def test_a_trial_says_what_would_be(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "m.xml").write_bytes(response(audiences=OTHER))
    words = ("diagnose", "m.xml", "--app", "crew-roster", "--set", f"application.entity_id={ELSEWHERE}")
    assert run(*words, folder=folder).stdout.decode().startswith("WOULD BE SOUND: ")
    still = (*words[:-1], "application.entity_id=https://x.example/")
    assert run(*still, folder=folder).stdout.decode().startswith("WOULD STILL BREAK at intended: ")


def test_first_contact(tmp_path: Path) -> None:
    """In an empty folder: all that the message says, what cannot be known, and the command that goes on."""
    (tmp_path / "m.xml").write_bytes(response())
    done = run("diagnose", "m.xml", folder=tmp_path)
    text = done.stdout.decode()
    assert done.returncode == 0
    for value in (
        "https://id.northmere.example/saml",
        "https://roster.northmere.example/saml/",
        "https://roster.northmere.example/saml/acs",
        "m.tern@northmere.example",
        "sha256:",
        "trace-lens apps add --from m.xml",
    ):
        assert value in text, value
    stages = json.loads(run("diagnose", "m.xml", "--format", "json", folder=tmp_path).stdout)["attempts"][0]["stages"]
    unasked = {result["stage"] for result in stages if result["status"] == "ok"}
    assert unasked <= {"readable", "answered"}


def test_standing_risks_are_told_once_a_run(demo: Path) -> None:
    text = run("diagnose", "captures/0*", "-v", folder=demo).stdout.decode()
    details = [line for line in text.splitlines() if "pins a certificate that Northmere ID does not publish" in line]
    assert len(details) == len(set(details)) > 0


def test_where_several_applications_fit_it_asks_which_one(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    text = (folder / "apps/crew-roster.toml").read_text()
    (folder / "apps/fuel-ledger.toml").write_text(text.replace(f'"{AUDIENCE}"', f'"{AUDIENCE}fuel"'))
    (folder / "m.xml").write_bytes(response(audiences=OTHER))
    told = run("diagnose", "m.xml", folder=folder).stdout.decode()
    assert "fit equally well. Say which one is meant:" in told
    assert "    trace-lens diagnose m.xml --app " in told
    assert "apps add" not in told
