"""The kind and place of a difference, for any two identifiers."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from trace_lens.common.difference import difference, edit_distance, is_near, kind, nearest, skeleton

KINDS = [
    ("https://a.example/x/", " https://a.example/x/", "whitespace"),
    ("m.tern@a.example", "m.tern@a.example\u00a0", "whitespace"),
    ("m.tern", "m.t\u200bern", "whitespace"),
    ("https://a.example/a b", "https://a.example/a%20b", "percent-encoding"),
    ("M.Tern@a.example", "m.tern@A.EXAMPLE", "case"),
    ("m.tern", "m.t\u0435rn", "lookalike"),
    ("admin1", "adminl", "lookalike"),
    ("https://a.example/x/", "https://a.example/x", "trailing-slash"),
    ("https://a.example/x/?q=1", "https://a.example/x?q=1", "trailing-slash"),
    ("https://a.example/x", "http://a.example/x", "scheme"),
    ("https://a.example/x", "https://a.example:8443/x", "port"),
    ("https://a.example/x", "https://a.example:443/x", "port"),
    ("https://id.a.example/x", "https://id.a.test/x", "domain-ending"),
    ("https://id.a.eu.example/x", "https://id.a.us.example/x", "domain-ending"),
    ("https://id.a.example/x", "https://id.a.co.example/x", "domain-ending"),
    ("m.tern@a.example", "m.tern@a.test", "domain-ending"),
    ("https://roster.a.example/x", "https://berths.a.example/x", "host"),
    ("https://a.example/x", "https://192.0.2.7/x", "host"),
    (
        "https://a.example/11111111-2222-3333-4444-555566667777/x",
        "https://a.example/99999999-2222-3333-4444-555566667777/x",
        "tenant",
    ),
    ("11111111-2222-3333-4444-555566667777", "99999999-2222-3333-4444-555566667777", "tenant"),
    ("https://a.example/t/1001/x", "https://a.example/t/2002/x", "tenant"),
    ("https://a.example/x", "https://a.example/x?tab=1", "query"),
    ("m.tern", "NORTH\\m.tern", "prefix"),
    ("m.tern", "m.tern@a.example", "suffix"),
    ("https://a.example/saml", "https://a.example/saml/acs", "suffix"),
    ("https://a.example/saml/acs", "https://a.example/sso/consume", "path"),
    ("deckhand", "dekchand", "edit"),
    ("mate", "male", "edit"),
    ("https://a.example/x", "urn:something:else", "other"),
    ("", "x", "edit"),
    ("https://[::1", "https://a.example", "other"),
]


@pytest.mark.parametrize(("expected", "actual", "name"), KINDS)
def test_kind(expected: str, actual: str, name: str) -> None:
    assert kind(expected, actual) == name
    assert kind(actual, expected) == name


@given(st.text(max_size=40), st.text(max_size=40))
def test_place_holds_the_whole_difference(expected: str, actual: str) -> None:
    found = difference(expected, actual)
    if found is None:
        assert expected == actual
        return
    (a, b), (c, d) = found.expected_span, found.actual_span
    assert expected[:a] == actual[:c]
    assert expected[b:] == actual[d:]
    assert expected[a:b] != actual[c:d]


@given(st.text("abcde", max_size=12), st.text("abcde", max_size=12))
def test_edit_distance_is_a_distance(left: str, right: str) -> None:
    found = edit_distance(left, right, 20)
    assert found == edit_distance(right, left, 20)
    assert (found == 0) == (left == right)
    assert abs(len(left) - len(right)) <= found <= max(len(left), len(right))


@given(st.text(max_size=30))
def test_skeleton_is_stable(text: str) -> None:
    assert skeleton(skeleton(text)) == skeleton(text)


def test_nearest() -> None:
    assert nearest("acs_url", ["acs_urls", "entity_id"]) == "acs_urls"
    assert nearest("Mate", ["mate", "master"]) == "mate"
    assert nearest("cook", ["mate", "master"]) is None
    assert is_near("https://a.example/x", "https://a.example/x/")
    assert not is_near("https://a.example/x", "https://b.example/y")
