"""What callers say leads to the right questions, with slips and in other words; codes are still found by their name."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from kit import run
from strict_schemas import conforms
from trace_lens.common import catalogue
from trace_lens.common.symptoms import search, symptoms

CODES = {entry.code for entry in catalogue.everything()}


@pytest.mark.parametrize(
    ("words", "first"),
    [
        ("it keeps asking for the password", "password-again"),
        ("it kepes asking for the pasword", "password-again"),
        ("works for some", "works-for-some"),
        ("worked yesterday", "worked-yesterday"),
        ("only in one browser", "one-browser"),
        ("only from home", "from-home"),
        ("after the weekend", "after-weekend"),
        ("only new people", "new-people"),
        ("loop", "goes-in-circles"),
        ("too many redirects", "goes-in-circles"),
        ("blank page", "nothing-happens"),
        ("mfa", "second-factor"),
        ("wrong role", "no-rights"),
        ("no user found", "user-not-known"),
        ("the user does not exist", "user-not-known"),
        ("round", "goes-in-circles"),
    ],
)
def test_callers_words(words: str, first: str) -> None:
    assert search(words)[0].id == first


def test_a_short_word_is_no_slip_of_another() -> None:
    """`found` and `round` differ by one letter."""
    assert "goes-in-circles" not in [symptom.id for symptom in search("no user found")]


def test_each_is_whole_and_found_by_what_it_says() -> None:
    """Every finding that a complaint names exists, and every way to say it leads to it."""
    for symptom in symptoms():
        assert set(symptom.findings) <= CODES
        assert symptom.questions
        assert symptom.record
        assert all(command.startswith("trace-lens ") for command in symptom.commands)
        for phrase in (symptom.title, *symptom.said):
            assert symptom.id in [found.id for found in search(phrase)[:3]], phrase


@given(st.sampled_from(symptoms()), st.data())
def test_a_slip_in_a_long_word_changes_nothing(symptom, data: st.DataObject) -> None:
    words = symptom.title.split()
    long = [place for place, word in enumerate(words) if len(word) >= 7 and word.isalpha()]
    if not long:
        return
    place = data.draw(st.sampled_from(long))
    cut = data.draw(st.integers(1, len(words[place]) - 2))
    words[place] = words[place][:cut] + words[place][cut + 1 :]
    assert symptom.id in [found.id for found in search(" ".join(words))]


def test_json_and_codes() -> None:
    document = json.loads(run("explain", "after", "the", "weekend", "--format", "json").stdout)
    conforms(document, "explain")
    assert document["symptoms"][0]["symptom"] == "after-weekend"
    assert document["symptoms"][0]["findings"][0] in CODES
    document = json.loads(run("explain", "audience-mismatch", "--format", "json").stdout)
    assert (document["symptoms"], [entry["code"] for entry in document["findings"]]) == ([], ["audience-mismatch"])
    text = run("explain", "it keeps asking for the password").stdout.decode()
    assert text.index("Ask") < text.index("Record") < text.index("Run") < text.index("session-cookie-lost")
    assert run("explain", "xyzzy").returncode == 2


LOOKED_FOR = [
    ("wrong audience", "audience-mismatch"),
    ("clock is wrong", "clock-offset"),
    ("invalid redirect uri", "redirect-uri-mismatch"),
    ("reply url mismatch", "redirect-uri-mismatch"),
    ("invalid signature", "signature-value-invalid"),
    ("user not found", "account-not-found"),
    ("nonce error", "nonce-mismatch"),
    ("state mismatch", "state-mismatch"),
    ("guest users cannot sign in", "guest-identifier"),
    ("asks for consent again", "consent-missing"),
    ("login loop", "redirect-loop"),
    ("groups not coming through", "groups-left-out"),
]


@pytest.mark.parametrize("words, code", LOOKED_FOR)
def test_what_people_type_leads_to_the_finding(words: str, code: str) -> None:
    """First of all: what holds more of the words, and the rarer ones, comes before what holds a common one."""
    assert json.loads(run("explain", *words.split(), "--format", "json").stdout)["findings"][0]["code"] == code
