"""What breaks as another did is said to break so only where the full judge says the same of it, to the letter."""

from __future__ import annotations

import os
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any, NamedTuple

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cases import CASES, Case
from kit import ACS, ISSUED, NOW, TERN, attribute, response, workspace
from test_strict import SETTINGS, WIDE
from trace_lens.common.findings import Allows, Unchecked, lack
from trace_lens.common.masking import Masks
from trace_lens.diagnosis import alike, diagnosing, streaming
from trace_lens.diagnosis.gathering import Run, gather
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.diagnosis.later import LaterDiagnosis
from trace_lens.render import as_json
from trace_lens.render.attempt_lines import AttemptLines
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile

EVERY = 1 if os.environ.get("EVERY_CAPTURE") else 3
TIMES = {
    "issued": ISSUED,
    "begins": "2026-11-20T08:13:03Z",
    "ends": "2026-11-20T08:19:03Z",
    "authenticated": "2026-11-20T08:13:43Z",
    "session_end": "2026-11-20T16:14:03Z",
}
VARIATION = st.fixed_dictionaries(
    {"shift": st.sampled_from([0, 1, 40, 3_000, 9_000_000])},
    optional={
        "name_id": st.sampled_from([TERN, "M.TERN@NORTHMERE.EXAMPLE", "off", "k.gannet@northmere.example"]),
        "response_id": st.sampled_from(["_rs2", "_rs3", "9"]),
        "identifier": st.sampled_from(["_as2", "_as3"]),
        "ends": st.sampled_from(["2026-11-20T08:14:04Z", "2026-11-20T09:19:03Z", "2026-11-20T08:14:03Z"]),
        "session_end": st.sampled_from(["2026-11-20T08:14:03Z", "2026-11-21T16:14:03Z"]),
        "attributes": st.sampled_from([attribute("role", "mate"), attribute("role", "captain")]),
    },
)


def varied(told: dict[str, Any], variation: dict[str, Any]) -> bytes:
    """A message in which some values are others, and all moments lie so many minutes later."""
    told = {**told, **variation}
    later = timedelta(minutes=told.pop("shift"))
    for name, usual in TIMES.items():
        at = told.get(name, usual)
        if at and at.endswith("Z"):
            told[name] = (datetime.fromisoformat(at) + later).strftime("%Y-%m-%dT%H:%M:%SZ")
    return response(**told)


class Share(NamedTuple):
    """How many messages are said to break as others did, and how many diagnoses were told after another."""

    repeated: int
    retold: int


def share(folder: Path, messages: list[bytes], *, prove: bool = False) -> Share:
    """How many messages are judged as others were; of every one the same is said as by the full judge."""
    sources = [SourceFile(f"{number}.xml", data) for number, data in enumerate(messages)]
    options = Options(NOW, prove=prove)
    full = diagnosing.diagnose_sources(sources, load_workspace(folder), options, 1).diagnoses
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(diagnosing, "MANY", 1)
        patch.setattr(alike, "_AT_FIRST", 10**6)
        brief = diagnosing.diagnose_sources(sources, load_workspace(folder), options, 1, brief=True).diagnoses
        retold = told_again(sources, folder, options)

    def plainly(found: Diagnosis) -> Any:
        first = found.first_break and found.first_break._replace(evidence=(), proof=None)
        return found.outcome, found.parties, found.judged, first, found.proposal, found.next_breaks

    assert [plainly(one) for one in brief] == [plainly(one) for one in full]
    assert [one for judged in retold for one in judged.whole.diagnoses] == [one._replace(id="1") for one in full]
    lines = AttemptLines(Masks())
    assert [lines.line(one, 1, judged.again) for judged in retold for one in judged.diagnoses] == [
        as_json.line(as_json.attempt(one._replace(id="1"), Masks())) for one in full
    ]
    return Share(
        sum(isinstance(one, LaterDiagnosis) and one.outcome == "broken" for one in brief),
        sum(judged.again is not None for judged in retold),
    )


def told_again(sources: list[SourceFile], folder: Path, options: Options) -> list[diagnosing.Judged]:
    """The same sources as a stream judges them; the loose ends of each are what the full judge finds."""
    known = load_workspace(folder)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(streaming, "_SHARE", 1)
        found = list(streaming.Streamed(known, options).of(sources, 1))
    run = Run(dict(enumerate(sources)), known, options)
    for judged in found:
        whole = gather(run, judged.gathered.places)
        assert (set(whole.wanted), set(whole.offered)) == (set(judged.gathered.wanted), set(judged.gathered.offered))
    return found


FEW: list[dict[str, Any]] = [
    {"shift": 0},
    {"shift": 1, "response_id": "_rs2", "identifier": "_as2"},
    {"shift": 2, "response_id": "_rs3", "identifier": "_as3"},
    {"shift": 4, "response_id": "_rs4", "identifier": "_as4"},
    {"shift": 9_000_000, "response_id": "_rs5"},
]


@pytest.mark.parametrize("case", [one for one in CASES if one.at is None][::EVERY], ids=lambda case: case.name)
def test_what_breaks_again(case: Case, tmp_path: Path) -> None:
    folder = workspace(tmp_path, case.app, case.files, case.provider, case.main)
    share(folder, [varied(case.message, variation) for variation in FEW])


AUDIENCES = "<saml:AudienceRestriction><saml:Audience>{}</saml:Audience></saml:AudienceRestriction>"
FAULTS: dict[str, dict[str, Any]] = {
    "audience": {"audiences": AUDIENCES.format("https://roster.northmere.example/saml")},
    "another's audience": {"audiences": AUDIENCES.format("urn:nobody")},
    "destination": {"destination": ACS + "/"},
    "recipient": {"recipient": ACS.replace("https", "http")},
    "issuer": {"issuer": "https://id.northmere.example/saml/"},
    "key": {"signing": {"signer": "skerry"}},
    "key not sent": {"signing": {"signer": "skerry", "embed": False}},
    "nothing": {},
}
CHANGES = {"changes.csv": f"at,app,what\n{ISSUED},,a key\n2026-12-01T00:00:00Z,,an address\n"}


@given(
    fault=st.sampled_from(sorted(FAULTS)),
    told=SETTINGS,
    more=st.sampled_from([{}, CHANGES]),
    variations=st.lists(VARIATION, min_size=3, max_size=10),
)
@settings(max_examples=60 // EVERY, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
def test_whatever_differs(
    fault: str, told: dict[str, Any], more: dict[str, str], variations: list[dict[str, Any]], tmp_path: Path
) -> None:
    folder = workspace(tmp_path, told, {**WIDE, "changes.csv": "at,app,what\n", **more})
    share(folder, [varied(FAULTS[fault], variation) for variation in variations])


@pytest.mark.parametrize("fault", [*FAULTS])
def test_a_fair_share_is_told_without_the_full_judge(fault: str, tmp_path: Path) -> None:
    """A law that never applies shows nothing: of six, the first two are judged in full where the others are like them."""
    folder = workspace(tmp_path, {"account": {"list": "accounts/crew.csv"}}, WIDE)
    six = [{"shift": shift, "identifier": f"_a{shift}", "response_id": f"_r{shift}"} for shift in range(6)]
    wanted = {"key not sent": Share(0, 0), "nothing": Share(0, 4)}.get(fault, Share(4, 4))
    assert share(folder, [varied(FAULTS[fault], one) for one in six], prove=True) == wanted


def test_who_has_no_account_is_told_so(tmp_path: Path) -> None:
    """What was said of the others is not told again of one whom the application does not know."""
    folder = workspace(tmp_path, {"account": {"list": "accounts/crew.csv"}}, WIDE)
    names = [TERN, TERN, "k.gannet@northmere.example", "M.TERN@NORTHMERE.EXAMPLE", TERN, TERN]
    messages = [
        varied(FAULTS["audience"], {"shift": place, "identifier": f"_a{place}", "name_id": name})
        for place, name in enumerate(names)
    ]
    assert share(folder, messages) == Share(2, 2)


def test_what_was_parsed_is_like_nothing(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(alike.Alike, "learn", lambda *_: False)
    six = [varied(FAULTS["audience"], {"shift": shift, "identifier": f"_a{shift}"}) for shift in range(6)]
    assert share(workspace(tmp_path, {}, {}), six) == Share(0, 0)


def test_a_change_in_between_is_told(tmp_path: Path) -> None:
    folder = workspace(tmp_path, {}, CHANGES)
    shifts = [3, 4, 5, 6, -3, -4, -5, 100_000]
    messages = [
        varied(FAULTS["audience"], {"shift": shift, "identifier": f"_a{place}"}) for place, shift in enumerate(shifts)
    ]
    assert share(folder, messages) == Share(2, 0)


def test_what_is_lacking_in_two_files_is_not_one_part() -> None:
    """The same words, but another place to put what is lacking: parts of diagnoses are held by what they say."""
    one, other = (lack("no list is declared", Allows.RECORD, f"apps/{name}.toml", "account.list") for name in "ab")
    assert one != other
    assert len({Unchecked("account-not-found", one): 1, Unchecked("account-not-found", other): 2}) == 2
    assert one == "no list is declared"
