"""The strict path says sound only where the full judge does, and of the same application, person and moment."""

from __future__ import annotations

import gzip
import json
import os
import random
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from cases import CASES, Case
from kit import (
    ACS,
    EMAIL,
    NOW,
    PERSISTENT,
    TERN,
    attempts_in,
    attribute,
    judge,
    posted,
    response,
    workspace,
)
from recorded_kit import EXPECTED, FOLDER, workspace_of
from trace_lens.common.masking import Masks
from trace_lens.diagnosis import alike
from trace_lens.diagnosis.alike import Alike
from trace_lens.diagnosis.diagnosing import MANY, diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.diagnosis.later import LaterDiagnosis
from trace_lens.diagnosis.sound import Sound
from trace_lens.diagnosis.strict import _Walk, sound
from trace_lens.intake.peeling import peel
from trace_lens.render import as_json
from trace_lens.saml.parsing import parse
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile

ACCOUNTS = f"user,email,active,sign_in\n{TERN},{TERN},yes,federated\nM.TERN@NORTHMERE.EXAMPLE,,yes,federated\noff,,no,federated\n"
WIDE = {
    "accounts/crew.csv": ACCOUNTS,
    "assignments/crew.csv": f"user,group\n{TERN},\n,grp-deck\n",
}


SEEN = Alike()
"""How all messages were written that were found sound so far."""


def _plainly(told: Sound | None) -> tuple[Any, ...] | None:
    return told and (told.app.id, told.provider.id, *told[2:])


def agrees(data: bytes, folder: Path) -> bool:
    """Whether the strict path judges a message; where it does, the full judge says the same."""
    known = load_workspace(folder)
    told = sound(data, known)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(alike, "_AT_FIRST", 10**6)
        warm = load_workspace(folder)
        warm.once("written alike", lambda: SEEN)
        assert _plainly(sound(data, warm)) == _plainly(told)
    if told is None:
        return False
    found = judge(data, folder)
    (attempt,) = attempts_in(data)
    assert found.outcome == "sound", (found.cause, data)
    assert (found.app, found.provider, found.subject) == (told.app.id, told.provider.id, told.subject)
    assert (found.parties.started_by, found.parties.chosen_by) == (told.started_by, "audience")
    assert (found.at, found.judged.at_from) == (told.at, "message")
    assert attempt.open_ends == (set(told.wanted), set(told.offered))
    return True


@pytest.mark.parametrize("signed", ["assertion", "response"])
@pytest.mark.parametrize("request_id", ["_rq1", ""])
def test_what_works_is_judged(signed: str, request_id: str, tmp_path: Path) -> None:
    folder = workspace(tmp_path, {"account": {"list": "accounts/crew.csv"}}, WIDE)
    assert agrees(response(signed=signed, request=request_id, response_request=request_id), folder)


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_it_says_no_more_than_the_full_judge(case: Case, tmp_path: Path) -> None:
    folder = workspace(tmp_path, case.app, case.files, case.provider, case.main)
    judged = agrees(response(**case.message), folder)
    assert not (judged and case.first and case.at is None)


MOMENTS = st.sampled_from(
    [
        "2026-11-20T08:14:03Z",
        "2026-11-20T08:09:03Z",
        "2026-11-20T08:17:03.5Z",
        "2026-11-20T08:17:02Z",
        "2026-11-20T08:14:03",
        "2026-11-20T08:20:00+00:00",
    ]
)
MESSAGES = st.fixed_dictionaries(
    {},
    optional={
        "signed": st.sampled_from(["assertion", "response", "both", "none"]),
        "name_id": st.sampled_from(
            [TERN, TERN.upper(), " " + TERN, "off", "m.tern", "", "m.tern_partner.example~guest@northmere.example"]
        ),
        "name_format": st.sampled_from([None, EMAIL, PERSISTENT, "urn:x"]),
        "request": st.sampled_from(["_rq1", "_rq2", ""]),
        "response_request": st.sampled_from(["_rq1", ""]),
        "begins": MOMENTS,
        "ends": MOMENTS,
        "confirmed_until": MOMENTS,
        "session_end": MOMENTS,
        "issued": MOMENTS,
        "destination": st.sampled_from([ACS, ACS + "/", ACS.replace("https", "http"), None]),
        "recipient": st.sampled_from([ACS, ACS + "/", None]),
        "response_id": st.sampled_from(["_rs1", "_as1", "9", "_ä"]),
        "attributes": st.sampled_from(
            [
                "",
                attribute("role", "mate"),
                attribute("role", "captain"),
                attribute("Role", "mate"),
                attribute("role", ""),
                attribute("role", "mate") + attribute("role", "x"),
                attribute("groups", "grp-deck"),
                attribute("groups_elsewhere", "1") + attribute("role", "mate"),
                attribute("role", "grp-bridge") + attribute("mail", TERN),
            ]
        ),
    },
)
CLAIM = {"name": "role", "need": "must"}
SETTINGS = st.fixed_dictionaries(
    {},
    optional={
        "application": st.fixed_dictionaries(
            {},
            optional={
                "signed_part": st.sampled_from(["assertion", "response", "both", "either"]),
                "accepts_unsolicited": st.sampled_from([True, False, None]),
                "name_id_format": st.sampled_from([EMAIL, PERSISTENT, None]),
                "acs_urls": st.sampled_from([[ACS], [ACS + "/"], [ACS, ACS + "/"]]),
                "authn_contexts": st.sampled_from([["urn:oasis:names:tc:SAML:2.0:ac:classes:Password"], ["urn:x"]]),
                "clock_skew": st.sampled_from(["0s", "3m", "10m"]),
                "trust_from": st.just("metadata"),
            },
        ),
        "account": st.sampled_from(
            [
                {"list": "accounts/crew.csv"},
                {"list": "accounts/crew.csv", "compare": "ignore-case"},
                {"list": "accounts/crew.csv", "from": "mail"},
                {"list": "accounts/crew.csv", "rewrite": [{"case": "upper"}]},
                {"list": "accounts/crew.csv", "created_at_first_sign_in": True, "creates_from": "application"},
                {"from": "role"},
            ]
        ),
        "provider_setup": st.sampled_from([{"assigned": "assignments/crew.csv"}, {"assigned": "everyone"}]),
        "claims": st.sampled_from(
            [
                [CLAIM],
                [{**CLAIM, "one_of": ["mate", "deckhand"], "single": True}],
                [{**CLAIM, "maps": {"grp-bridge": "mate"}, "one_of": ["mate"]}],
                [{**CLAIM, "maps": {"grp-bridge": "mate"}}],
                [{"name": "rank", "need": "must", "also_as": ["role"]}],
                [{"name": "groups", "need": "should", "maps": {"grp-bridge": "mate"}}],
                [{"name": "groups", "need": "may", "one_of": ["40117a00-0000-4000-8000-000000000001"]}, CLAIM],
                [{**CLAIM, "need": "may", "one_of": ["mate"]}],
            ]
        ),
    },
)


@given(message=MESSAGES, told=SETTINGS)
@settings(max_examples=120, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
def test_whatever_differs(message: dict[str, Any], told: dict[str, Any], tmp_path: Path) -> None:
    """Messages signed as they are, and settings, put together in all ways."""
    agrees(response(**message), workspace(tmp_path, told, WIDE))


@pytest.mark.parametrize(("group", "judged"), [("grp-deck", True), ("grp-bridge", False), ("mate", True), ("x", False)])
def test_a_map_must_lead_to_a_value_that_is_known(group: str, judged: bool, tmp_path: Path) -> None:
    claim = {
        "name": "groups",
        "kind": "role",
        "maps": {"grp-deck": "mate", "grp-bridge": "captain"},
        "one_of": ["mate"],
    }
    folder = workspace(tmp_path, {"claims": [claim]}, {})
    message = response(attributes=attribute("groups", group))
    assert agrees(message, folder) is judged
    assert (judge(message, folder).outcome == "sound") is judged


def test_it_judges_a_fair_share(tmp_path: Path) -> None:
    """Of messages that work it judges all but those of another shape: a law that never applies shows nothing."""
    folder = workspace(tmp_path, {"account": {"list": "accounts/crew.csv"}, "claims": [CLAIM]}, WIDE)
    messages: list[dict[str, Any]] = [
        {},
        {"signed": "response"},
        {"attributes": attribute("role", "mate") + attribute("x", "y")},
    ]
    assert all(agrees(response(**message), folder) for message in messages)
    assert not agrees(response(signed="both"), folder)
    assert not agrees(response(name_id="off"), folder)


WRITTEN = [response(signed=part, attributes=attribute("role", "mate")) for part in ("assertion", "response")]


@pytest.mark.parametrize("data", WRITTEN, ids=["assertion", "response"])
@given(
    changes=st.lists(
        st.tuples(
            st.floats(0, 1, exclude_max=True), st.integers(0, 9), st.text("<>&\"'=a9 /\n\r\t\0;]#x:-æ", max_size=3)
        ),
        min_size=1,
        max_size=3,
    )
)
@settings(max_examples=300, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_what_is_written_alike_is_read_as_a_parser_reads_it(
    data: bytes, changes: list[tuple[float, int, str]], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Octets put in, taken out or put in the place of others, anywhere: it is left to the parser, or read as by it."""
    known = _known(data, tmp_path_factory)
    for place, gone, put_in in changes:
        at = int(place * len(data))
        data = data[:at] + put_in.encode() + data[at + gone :]
    held = known.read(data)
    if held:
        by_parser = _Walk(parse(data)).held()
        assert held[:3] == by_parser[:3]
        assert (held.signed_info(), held.signed()) == (by_parser.signed_info(), by_parser.signed())


@pytest.mark.parametrize("part", ["assertion", "response"])
def test_what_is_written_alike_is_read(part: str, tmp_path_factory: pytest.TempPathFactory) -> None:
    known = _known(WRITTEN[part == "response"], tmp_path_factory)
    other = response(signed=part, attributes=attribute("role", "x.y"), name_id="q", response_id="_z")
    held = known.read(other)
    assert held
    assert (held.said.id, held.said.name, held.attributes) == ("_z", "q", [("role", ["x.y"])])
    for change in (b">q&amp;<", b">q<!-- -->z<", b">q\xc3\xa6<", b"><x/>q<", b"><![CDATA[q]]><", b">q\r<"):
        assert known.read(other.replace(b">q<", change)) is None


_KNOWN: dict[bytes, Alike] = {}


def _known(data: bytes, folders: pytest.TempPathFactory) -> Alike:
    """What knows how a message is written that is sound."""
    if data not in _KNOWN:
        judged_by = load_workspace(workspace(folders.mktemp("known"), {}, {}))
        assert sound(data, judged_by)
        _KNOWN[data] = judged_by.once("written alike", Alike)
    return _KNOWN[data]


RECORDED = sorted(EXPECTED) if os.environ.get("EVERY_CAPTURE") else sorted(EXPECTED)[::5]


def test_messages_of_real_systems() -> None:
    """Every response in the recorded sign-ins: it is left to the full judge, or both say the same of it alone."""
    judged = 0
    for name in RECORDED:
        known = workspace_of(name)
        data = gzip.decompress((FOLDER / "captures" / f"{name}.har.gz").read_bytes())
        for found in peel(data).found:
            told = sound(found.data, known) if found.kind == "saml-response" else None
            if told:
                judged += 1
                (full,) = diagnose_sources([SourceFile("alone", found.data)], known, Options(NOW), 1).diagnoses
                assert (full.outcome, full.app, full.subject) == ("sound", told.app.id, told.subject), name
                assert full.at == told.at
    assert judged >= 8


@pytest.mark.parametrize("of", [response(), posted(response())], ids=["xml", "form"])
def test_the_rest_is_the_full_judges(of: bytes, tmp_path: Path) -> None:
    """A summary of many is the same either way; so is each diagnosis once it is looked at."""
    folder = workspace(tmp_path, {"account": {"list": "accounts/crew.csv"}}, WIDE)
    draw = random.Random(4)
    broken = posted(response(audiences=""))
    sources = [SourceFile(f"{n}.txt", broken if draw.random() < 0.2 else of) for n in range(MANY + 20)]
    known, options = load_workspace(folder), Options(NOW)
    brief = diagnose_sources(sources, known, options, 1, brief=True)
    full = diagnose_sources(sources, known, options, 1)
    assert any(isinstance(one, LaterDiagnosis) for one in brief.diagnoses)
    assert [one.outcome for one in brief.diagnoses] == [one.outcome for one in full.diagnoses]
    assert not any(one.rest.made for one in brief.diagnoses if isinstance(one, LaterDiagnosis))

    def shown(found: Diagnosis) -> str:
        return json.dumps(as_json.attempt(found, Masks(reveal=False)))

    assert [shown(one) for one in brief.diagnoses] == [shown(one) for one in full.diagnoses]
    shared = diagnose_sources(sources, known, options, 2, brief=True)
    assert [shown(one) for one in shared.diagnoses] == [shown(one) for one in full.diagnoses]
