"""Captures of every kind of damage: never an exception, never sound when something signed was changed."""

from __future__ import annotations

import json
from functools import cache
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from lxml import etree

from kit import EMAIL, MORE, NOW, PROVIDER, SAML, TERN, attribute, judge, parse_all, response, workspace
from trace_lens.common.masking import Masks
from trace_lens.decoding.messages import open_messages
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options, diagnose
from trace_lens.diagnosis.laying_open import LaidOpen
from trace_lens.intake.peeling import peel
from trace_lens.render import as_json
from trace_lens.render.documents.diagnosis import diagnosis_pages
from trace_lens.render.documents.opened import opened_pages
from trace_lens.render.terminal import writing
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile

APP = {
    "application": {"name_id_format": EMAIL, "relay_state": "x"},
    "account": {"list": "a.csv", "compare": "ignore-case"},
    "provider_setup": {"assigned": "as.csv"},
    "claims": [
        {"name": "role", "one_of": ["mate"], "maps": {"a": "mate"}},
        {"name": "groups", "maps": {"g": "h"}, "need": "may"},
    ],
}
FILES = {"a.csv": f"user,email\n{TERN},x\n", "as.csv": f"user,group\n{TERN},y\n"}
VALUES = [
    "",
    "x",
    "-1",
    "2026-11-20",
    "9999-99-99T00:00:00Z",
    "#_as1",
    "http://[",
    "urn:x",
    " ",
    "\u00e9" * 5,
    "\u202e",
]


@pytest.fixture(scope="module")
def known(tmp_path_factory: pytest.TempPathFactory) -> Workspace:
    folder = tmp_path_factory.mktemp("hostile")
    extra = 'left_out_markers = ["gx"]\nmost_groups = { assertion = 3 }\n'
    return load_workspace(workspace(folder, APP, FILES, PROVIDER + extra))


@cache
def bases() -> tuple[bytes, ...]:
    groups = attribute("groups", "a", "b", "c") + attribute("gx", "1")
    return response(), response(signed="both"), response(signed="response", attributes=groups)


def _spoil(root: etree._Element, draw: st.DataObject) -> None:
    elements = list(root.iter(etree.Element))
    chosen = draw.draw(st.sampled_from(elements))
    kind = draw.draw(st.integers(0, 6))
    parent = chosen.getparent()
    names = list(chosen.attrib)
    if kind == 0 and parent is not None:
        parent.remove(chosen)
    elif kind == 1 and names:
        del chosen.attrib[draw.draw(st.sampled_from(names))]
    elif kind == 2 and names:
        chosen.set(draw.draw(st.sampled_from(names)), draw.draw(st.sampled_from(VALUES)))
    elif kind == 3:
        chosen.text = draw.draw(st.sampled_from(VALUES))
    elif kind == 4 and parent is not None:
        parent.insert(0, etree.fromstring(etree.tostring(chosen)))
    elif kind == 5:
        chosen.append(etree.Comment("c"))
    else:
        draw.draw(st.sampled_from(elements)).append(etree.fromstring(etree.tostring(chosen)))


def _whole_output(data: bytes, known: Workspace) -> list[str]:
    """Everything that can be made of some octets; the outcomes."""
    options = Options(NOW)
    result = diagnose_sources([SourceFile("x", data)], known, options, workers=1)
    json.dumps(as_json.diagnoses(result.diagnoses, [], Masks()))
    text = writing.write(diagnosis_pages(result), "never")
    opened = [LaidOpen(one) for one in open_messages("x", peel(data))]
    json.dumps(as_json.opened(opened, [], Masks()))
    text += writing.write(opened_pages(opened, [], Masks()), "never")
    assert all(char.isprintable() or char == "\n" for char in text)
    return [one.outcome for one in result.diagnoses]


quick = settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])


@quick
@given(st.data())
def test_spoilt_trees(known: Workspace, data: st.DataObject) -> None:
    root = etree.fromstring(data.draw(st.sampled_from(bases())))
    for _ in range(data.draw(st.integers(1, 6))):
        _spoil(root, data)
    _whole_output(etree.tostring(root), known)


@quick
@given(
    st.sampled_from(range(3)),
    st.lists(st.tuples(st.integers(0, 3000), st.integers(0, 255)), max_size=5),
    st.integers(0, 60),
)
def test_spoilt_octets(known: Workspace, base: int, changes: list[tuple[int, int]], cut: int) -> None:
    octets = bytearray(bases()[base])
    for position, value in changes:
        octets[position % len(octets)] = value
    del octets[100 : 100 + cut]
    _whole_output(bytes(octets), known)


@quick
@given(st.binary(max_size=400))
def test_any_octets(known: Workspace, data: bytes) -> None:
    assert _whole_output(data, known) in ([], ["broken"], ["inconclusive"])


@quick
@given(st.data())
def test_a_change_in_the_assertion_is_never_sound(known: Workspace, data: st.DataObject) -> None:
    """Whatever is changed in a signed value, by whatever character, the sign-in is not called sound."""
    root = etree.fromstring(bases()[0])
    texts = [one for one in root.iter(f"{{{SAML}}}*") if (one.text or "").strip() and one.getparent() is not root]
    chosen = data.draw(st.sampled_from(texts))
    text = chosen.text or ""
    position = data.draw(st.integers(0, len(text) - 1))
    letter = data.draw(
        st.characters(
            codec="utf-8", exclude_categories=["Cc", "Cs"], exclude_characters=text[position] + "\ufffe\uffff"
        )
    )
    chosen.text = text[:position] + letter + text[position + 1 :]
    assert "sound" not in _whole_output(etree.tostring(root), known)


@settings(max_examples=20, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.permutations(range(5)))
def test_the_order_of_sources_changes_no_diagnosis(known: Workspace, order: list[int]) -> None:
    datas = [*bases(), response(audiences=""), response(signing={"method": MORE + "hmac-sha256"})]
    sources = [SourceFile(str(number), data) for number, data in enumerate(datas)]
    options = Options(NOW)
    straight = {one.source: one._replace(id="") for one in diagnose_sources(sources, known, options).diagnoses}
    shuffled = diagnose_sources([sources[number] for number in order], known, options).diagnoses
    assert {one.source: one._replace(id="") for one in shuffled} == straight
    assert [one.source for one in shuffled] == [str(number) for number in order]


ALTERED = [
    ("indented", lambda data: _indent(data), "white space was put between the elements"),
    ("indented with tabs", lambda data: _indent(data, "\t"), "white space was put between the elements"),
    (
        "escaped twice",
        lambda data: data.replace(b"Bj&amp;rn", b"Bj&amp;amp;rn"),
        "special characters were escaped twice",
    ),
    (
        "read by another code",
        lambda data: data.decode().replace("\u00f8", "\u00c3\u00b8").encode(),
        "UTF-8 was read as another character code",
    ),
    ("values set apart", lambda data: data.replace(b">mate<", b">\n   mate\n   <"), "around the values"),
]


def _indent(data: bytes, space: str = "  ") -> bytes:
    root = etree.fromstring(data)
    etree.indent(root, space=space)
    return etree.tostring(root)


@pytest.mark.parametrize(("name", "change", "words"), ALTERED, ids=[one[0] for one in ALTERED])
def test_what_captures_do_is_undone(name: str, change: object, words: str, tmp_path: Path) -> None:
    given_attributes = attribute("role", "mate") + attribute("name", "Bj&amp;rn S\u00f8r")
    data = etree.tostring(etree.fromstring(response(attributes=given_attributes)), encoding="utf-8")
    found = judge(change(data), workspace(tmp_path))  # type: ignore[operator]
    assert found.outcome == "sound", [one.detail for one in found.findings]
    altered = next(one for one in found.findings if one.code == "capture-altered")
    assert words in altered.detail
    assert found.stages[3].status == "ok"


def test_the_forged_part_of_a_wrapped_message_is_not_read(known: Workspace) -> None:
    from cases import CASES

    for name in ("wrapped aside", "wrapped in an object"):
        case = next(one for one in CASES if one.name == name)
        (attempt,) = parse_all(response(**case.message))
        found = diagnose(attempt, known, Options(NOW))
        assert found.subject == TERN
