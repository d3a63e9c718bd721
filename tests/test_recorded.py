"""The recorded sign-ins are judged as an expert judges them, and changes that captures go through never mislead."""

from __future__ import annotations

import os
import random
import re
from collections.abc import Iterator
from datetime import datetime, timedelta
from pathlib import Path

import pytest

from capture_changes import LEFT_OUT, SAME, as_bytes, as_dump, as_message, halves, without_one
from laws import contradictions, named_in
from recorded_kit import (
    EXPECTED,
    NOW,
    OTHER_RECORDS,
    export_of,
    judged,
    mistakes,
    source_of,
    stale,
    workspace_of,
)
from trace_lens.checks.case import Case
from trace_lens.common import limits
from trace_lens.common.findings import Finding
from trace_lens.diagnosis import proving
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.workspace.sources import SourceFile
from trace_lens.workspace.trial_settings import TrialSetting, with_trial_settings

EVERY = bool(os.environ.get("EVERY_CAPTURE"))
"""Whether the laws are asked of every recording (a stage of its own), not of a sample."""
NAMES = sorted(EXPECTED)
OVERCOME = ("more-acs-gateway", "more-callback-gateway")
"""Here a first error was overcome by loading again: without that the sign-in did fail."""
SAMPLE = [name for name in (NAMES if EVERY else NAMES[::14]) if name not in OVERCOME]
SOUND = [name for name in NAMES if EXPECTED[name]["works"] and name not in OVERCOME]
SOUND_SAMPLE = SOUND if EVERY else SOUND[::19]


@pytest.mark.parametrize("name", NAMES)
def test_as_an_expert_says(name: str) -> None:
    """So the diagnosis says; it does not contradict itself, and names nobody once people are replaced."""
    diagnoses = judged(name)
    assert mistakes(name, diagnoses) == []
    for wanted, diagnosis in zip(EXPECTED[name]["expect"], diagnoses, strict=True):
        assert contradictions(diagnosis, let_in=True if wanted["outcome"] == "sound" else None) == []
    accounts = [row for app in workspace_of(name).apps.values() for row in app.accounts or ()]
    people = {spelling.casefold() for row in accounts for spelling in row.spellings}
    people |= {diagnosis.subject.casefold() for diagnosis in diagnoses if diagnosis.subject}
    assert named_in(diagnoses, {name for name in people if len(name) > 4}) == []


def told(diagnoses: tuple[Diagnosis, ...]) -> list[tuple[str, str | None, str | None]]:
    return [(one.outcome, one.first_break.code if one.first_break else None, one.app) for one in diagnoses]


@pytest.mark.parametrize("change", SAME)
@pytest.mark.parametrize("name", SAMPLE)
def test_order_and_noise_change_nothing(name: str, change: str) -> None:
    if (name, change) == ("shell-says-nobody-round-firefox", "without referrers"):
        pytest.skip("the export lost its first round: that the second goes on from it shows in a referrer only")
    assert told(judged(name, source_of(name, SAME[change](export_of(name))))) == told(judged(name))


def settings_of(name: str) -> tuple[object, object]:
    return EXPECTED[name].get("keys"), EXPECTED[name].get("record")


@pytest.mark.parametrize(
    "partner", ["saml-roster", "oidc-code", "saml-galley", "spa-code", "shell-works", "more-chooser"]
)
@pytest.mark.parametrize("name", SAMPLE)
def test_another_sign_in_in_the_same_export_changes_neither(name: str, partner: str) -> None:
    """But for a try given up before it of the same application, and a silent request before one that may ask."""
    begins = [export_of(one)["log"]["entries"][0]["startedDateTime"] for one in (name, partner)]
    apart = abs(datetime.fromisoformat(begins[0]) - datetime.fromisoformat(begins[1]))
    if settings_of(name) != settings_of(partner) or apart < timedelta(minutes=2):
        return
    both = export_of(name)
    both["log"]["entries"] += export_of(partner)["log"]["entries"]
    both["log"]["entries"].sort(key=lambda entry: entry["startedDateTime"])
    alone = [each for one in (name, partner) for each in told(judged(one))]
    found = told(judged(name, source_of(name, both)))
    may_be_part = {"no-answer", "provider-refused", "tls-untrusted"}
    assert [one for one in alone if one not in found and one[1] not in may_be_part] == []
    assert [one for one in found if one not in alone] == []


@pytest.mark.parametrize("left_out", LEFT_OUT)
@pytest.mark.parametrize("name", SOUND_SAMPLE)
def test_what_works_is_not_broken_for_what_is_left_out(name: str, left_out: str) -> None:
    found = judged(name, source_of(name, LEFT_OUT[left_out](export_of(name))))
    assert [one.first_break.code for one in found if one.first_break] == []


@pytest.mark.parametrize("name", SOUND_SAMPLE)
def test_what_works_is_not_broken_without_one_entry(name: str) -> None:
    """But for the end of the way itself, without which nothing tells that the user was let in against the record."""
    if name == "shell-ends-later":
        pytest.skip("that its session was known shows in one call")
    overruled = {code for one in judged(name) for each in one.findings for code in each.overrules}
    for number, export in without_one(export_of(name)):
        codes = {one.first_break.code for one in judged(name, source_of(name, export)) if one.first_break}
        assert codes <= {"no-answer", *overruled}, (number, codes)


@pytest.mark.parametrize("name", [name for name in SOUND_SAMPLE if name != "oidc-two-tabs"])
def test_who_was_let_in_was_let_in_whatever_is_on_record(name: str, tmp_path: Path) -> None:
    """But for pages that got tokens, which they may have refused."""
    found = judged(name)
    for app in {one.app for one in found if one.app and one.cause.endswith("let the user in.")}:
        for key in OTHER_RECORDS:
            known = stale(tmp_path / f"{app} {key}", name, app, key)
            again = diagnose_sources([source_of(name)], known, Options(NOW), 1).diagnoses if known else ()
            assert [(key, one.first_break.code) for one in again if one.first_break] == []


ANOTHER_TAB = ("oidc-two-tabs-one-cookie", "more-code-again", "shell-round")
"""Here a cookie comes back that another round set: without that round it is an older one."""


@pytest.mark.parametrize("name", SAMPLE)
def test_what_an_export_lost_makes_no_request_another(name: str) -> None:
    """Without so many of its entries an answer may have lost its request; it is none to the one that is left."""
    whole = judged(name)
    may = {each.code for one in whole for each in one.findings if each.severity != "note"} | {"no-answer"}
    may |= {code for one in whole for each in one.findings for code in each.overrules}
    may |= {"provider-refused"} if re.search("silent|passive", name) else set()
    may |= {"session-cookie-lost"} if name in ANOTHER_TAB else set()
    for seed in range(4):
        draw = random.Random(f"{name} {seed}")
        export = export_of(name)
        export["log"]["entries"] = [entry for entry in export["log"]["entries"] if draw.random() > 0.3]
        found = judged(name, source_of(name, export))
        assert {one.first_break.code for one in found if one.first_break} <= may, seed


@pytest.mark.parametrize("name", SOUND_SAMPLE)
def test_what_lies_beyond_a_limit_breaks_nothing(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """An end that was not read did not fail: only what is doubtful in the whole may stop what is left of it."""
    whole = judged(name)
    may = {each.code for one in whole for each in one.findings if each.severity != "note"}
    may |= {"provider-refused"} if re.search("silent|passive", name) else set()
    count = len(export_of(name)["log"]["entries"])
    for most in (count // 3, count // 2, count - 1):
        monkeypatch.setattr(limits, "CAPTURE_EXCHANGES", max(1, most))
        found = judged(name)
        assert {one.first_break.code for one in found if one.first_break} <= may, most
        assert not any(each.code == "capture-truncated" for one in found for each in one.findings)


@pytest.mark.parametrize("name", SAMPLE)
def test_a_divided_export_never_turns_a_break_into_another(name: str) -> None:
    whole = judged(name)
    may = {each.code for one in whole for each in one.findings if each.severity != "note"} | {"no-answer"}
    may |= {"provider-refused"} if re.search("silent|passive", name) else set()
    for first, second in halves(export_of(name)):
        sources = [SourceFile("1.har", as_bytes(first)), SourceFile("2.har", as_bytes(second))]
        result = diagnose_sources(sources, workspace_of(name), Options(whole[0].at or NOW), workers=1)
        assert {one.first_break.code for one in result.diagnoses if one.first_break} <= may


@pytest.mark.parametrize(
    ("name", "lost"), [("more-post-redirected", True), ("saml-page-breaks", False), ("saml-acs-gone", False)]
)
def test_a_post_is_called_lost_only_where_it_was(name: str, lost: bool) -> None:
    """A redirect to another page after the answer was taken is the usual way on."""
    (found,) = judged(name)
    told = [each for each in found.findings if each.code == "http-error"]
    assert [("without what was posted" in each.detail, "307" in each.remedy) for each in told] == [(lost, lost)]


def forms(name: str) -> Iterator[tuple[str, bytes]]:
    export = export_of(name)
    yield "dump", as_dump(export)
    message = as_message(export)
    if message:
        yield "message", message


@pytest.mark.parametrize("name", SAMPLE)
def test_no_question_is_well_in_one_form_and_broken_in_another(name: str) -> None:
    """The same sign-in as an export, a dump of header fields and a bare message."""
    if len(EXPECTED[name]["expect"]) != 1:
        return
    (whole,) = judged(name)
    of_whole = {each.code for each in whole.findings} | {each.code for each in whole.unchecked}
    for form, data in forms(name):
        for one in judged(name, SourceFile(f"{name}.{form}", data), app=EXPECTED[name]["expect"][0]["app"]):
            broken = {each.code for each in one.findings if each.breaks}
            assert broken <= of_whole, form
            fine = {each.code for each in one.findings} | {each.code for each in one.unchecked}
            assert {each.code for each in whole.findings if each.breaks} <= fine | WAY, form


WAY = {
    "no-answer",
    "session-not-started",
    "session-cookie-lost",
    "http-error",
    "redirect-loop",
    "blocked-by-browser",
    "state-mismatch",
    "response-to-unknown-request",
    "api-refused",
    "replayed-message",
    "name-not-resolved",
    "port-unreachable",
    "tls-untrusted",
    "request-rejected",
    "not-assigned",
    "account-disabled",
    "authentication-too-old",
    "clock-offset",
    "code-reused",
    "redirect-uri-mismatch",
    "acs-not-registered",
    "request-unsigned",
    "account-not-found",
    "token-request-refused",
    "scope-not-granted",
    "issuer-mismatch",
    "identifier-in-request-unknown",
    "code-challenge-missing",
    "other-user-answered",
}
"""What only the way, or a page on it, shows: a form that has no way cannot have asked."""


def test_what_is_tried_out_could_stand_in_the_settings(monkeypatch: pytest.MonkeyPatch) -> None:
    """A value that is proposed is not validated when it is tried; so each must be valid."""
    tried: list[str] = []
    setting_for = proving._setting_for

    def checked(case: Case, finding: Finding) -> TrialSetting | None:
        setting = setting_for(case, finding)
        if setting is not None and case.app is not None:
            with_trial_settings(case.workspace, case.app, (setting._replace(proposed=False),))
            tried.append(setting.key)
        return setting

    monkeypatch.setattr(proving, "_setting_for", checked)
    for name in NAMES:
        if not EXPECTED[name]["works"]:
            diagnose_sources((source_of(name),), workspace_of(name), Options(NOW, prove=True), workers=1)
    assert {"provider_setup.audience", "application.trusted_certificates"} <= set(tried)
