"""Sentences as data: they read as text, and what names a person can be replaced without searching the text."""

from __future__ import annotations

import pickle
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kit import NOW, Done
from laws import named_in, texts_of, without_people
from trace_lens.common.personal import names_person
from trace_lens.common.sentences import Count, Person, Value, filled, say
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import read_sources


@given(st.text(), st.text())
def test_a_sentence_reads_as_its_template_filled_in(name: str, thing: str) -> None:
    inner = say("{thing} of {name}", thing=Count(thing), name=Person(name))
    text = say("It is {inner}; {{so}} {count}.", inner=inner, count=3)
    assert text == f"It is {thing} of {name}; {{so}} 3."
    assert without_people(text) == f"It is {thing} of somebody; {{so}} 3."
    assert without_people("(" + text + ")") == f"(It is {thing} of somebody; {{so}} 3.)"
    assert without_people(pickle.loads(pickle.dumps(text))) == without_people(text)
    assert filled(Person(name), lambda value: type(value).__name__) == "Person"
    assert filled(name, lambda _: "never") == name, "text without a kind is left as it is"


@pytest.mark.parametrize(
    ("label", "expected"),
    [
        ("NameID", True),
        ("sub", True),
        ("http://schemas.xmlsoap.org/ws/2005/05/identity/claims/emailaddress", True),
        ("preferred_username", True),
        ("login_hint", True),
        ("role", False),
        ("aud", False),
        ("client_id", False),
        ("submitted", False),
    ],
)
def test_what_names_a_person(label: str, expected: bool) -> None:
    assert names_person(label) is expected


def test_no_finding_of_the_demo_names_anybody_once_people_are_replaced(shown_demo: tuple[Done, Path]) -> None:
    folder = shown_demo[1]
    known = load_workspace(folder)
    result = diagnose_sources(read_sources((str(folder / "captures"),)), known, Options(NOW), workers=1)
    lists = " ".join(path.read_text(errors="replace") for path in (folder / "accounts").iterdir())
    people = set(re.findall(r"[a-z]+\.[a-z]+@[\w.-]+|\b[a-z]\.[a-z]{3,}\b", lists.casefold()))
    people |= {diagnosis.subject.casefold() for diagnosis in result.diagnoses if diagnosis.subject}
    people |= {name.partition("@")[0] for name in people}
    people = {name for name in people if len(name) > 4}
    assert len(people) > 20
    texts = [text.casefold() for diagnosis in result.diagnoses for _, text in texts_of(diagnosis)]
    assert sum(any(name in text for name in people) for text in texts) > 30
    assert named_in(result.diagnoses, people) == []


def test_a_value_that_is_passed_on_keeps_its_kind() -> None:
    row = (Person("m.tern"), Count("crew-roster"))
    assert [type(value) for value in row] == [Person, Count]
    assert all(isinstance(value, Value) for value in row)
    assert without_people(say("{who} at {app}", who=row[0], app=row[1])) == "somebody at crew-roster"
