"""Moments, durations, masks, and the catalogue."""

from __future__ import annotations

import json
import subprocess
import sys
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from strict_schemas import conforms
from trace_lens.checks.oidc.redirected import same_redirect
from trace_lens.common import addresses, catalogue
from trace_lens.common.findings import Severity, Side, Stage
from trace_lens.common.masking import Masks, visible
from trace_lens.common.moments import (
    MomentError,
    read_duration,
    read_moment,
    read_moment_or_date,
    read_xs_duration,
    show_duration,
    show_moment,
)
from trace_lens.render.json_text import write_indented

ROOT = Path(__file__).parent.parent

MOMENTS = [
    ("2026-11-20T08:14:03Z", "2026-11-20T08:14:03Z", True),
    ("2026-11-20T08:14:03.250Z", "2026-11-20T08:14:03.25Z", True),
    ("2026-11-20T08:14:03.1234567890Z", "2026-11-20T08:14:03.123456Z", True),
    ("2026-11-20T08:14:03+00:00", "2026-11-20T08:14:03Z", True),
    ("2026-11-20T09:14:03+01:00", "2026-11-20T08:14:03Z", False),
    ("2026-11-20T08:14:03", "2026-11-20T08:14:03Z", False),
    ("2026-11-20T24:00:00Z", "2026-11-21T00:00:00Z", True),
    ("2026-12-31T23:59:60Z", "2027-01-01T00:00:00Z", True),
]


@pytest.mark.parametrize(("text", "shown", "in_utc"), MOMENTS)
def test_moment(text: str, shown: str, in_utc: bool) -> None:
    moment, utc = read_moment(text)
    assert (show_moment(moment), utc) == (shown, in_utc)


@pytest.mark.parametrize(
    "text", ["", "yesterday", "2026-13-01T00:00:00Z", "2026-11-20", "20261120T081403Z", "9999-12-31T24:00:00Z"]
)
def test_no_moment(text: str) -> None:
    with pytest.raises(MomentError):
        read_moment(text)


@given(st.datetimes(min_value=datetime(1000, 1, 1), timezones=st.just(UTC)))
def test_moment_round_trip(moment: datetime) -> None:
    assert read_moment(show_moment(moment)) == (moment, True)


DURATIONS = [
    ("3m", 180),
    ("24h", 86400),
    ("30d", 2592000),
    ("90s", 90),
    ("1h30m", 5400),
    ("1.5h", 5400),
    ("2w", 1209600),
]


@pytest.mark.parametrize(("text", "seconds"), DURATIONS)
def test_duration(text: str, seconds: float) -> None:
    assert read_duration(text) == timedelta(seconds=seconds)


@pytest.mark.parametrize("text", ["", "3", "3 parsecs", "m3", "-3m", "3m!", "99999999999999w"])
def test_no_duration(text: str) -> None:
    with pytest.raises(MomentError):
        read_duration(text)


def test_xs_duration() -> None:
    assert read_xs_duration("PT1H30M") == timedelta(hours=1, minutes=30)
    assert read_xs_duration("-P1D") == timedelta(days=-1)
    for text in ("P", "PT", "1H", "P1H"):
        with pytest.raises(MomentError):
            read_xs_duration(text)


WORDS = [
    (0, "0 seconds"),
    (0.25, "250 ms"),
    (1, "1 second"),
    (552, "9 minutes 12 seconds"),
    (7200, "2 hours"),
    (90061, "1 day 1 hour"),
]


@pytest.mark.parametrize(("seconds", "words"), WORDS)
def test_duration_in_words(seconds: float, words: str) -> None:
    assert show_duration(timedelta(seconds=seconds)) == words
    assert show_duration(timedelta(seconds=-seconds)) == words


def test_dates() -> None:
    assert show_moment(read_moment_or_date("2027-03-31")) == "2027-03-31T00:00:00Z"
    with pytest.raises(MomentError):
        read_moment_or_date("2027-02-30")


@given(st.lists(st.text(min_size=8, max_size=40), min_size=1, max_size=8))
def test_masking_never_leaks_and_keeps_equality(values: list[str]) -> None:
    masks = Masks()
    masked = [masks.mask(value) for value in values]
    for value, mask in zip(values, masked, strict=True):
        assert value not in mask
        assert [one == value for one in values] == [one == mask for one in masked]
    assert [Masks(reveal=True).mask(value) for value in values] == values


@given(st.text(max_size=60))
def test_visible_holds_no_control(text: str) -> None:
    assert all(char.isprintable() for char in visible(text))


def test_visible() -> None:
    assert visible("a\x1b[31mb\u202ec") == "a\\u{1b}[31mb\\u{202e}c"
    assert visible("Bj\u00f8rn") == "Bj\u00f8rn"


def test_every_entry_is_whole() -> None:
    entries = list(catalogue.everything())
    assert len({entry.code for entry in entries}) == len(entries) >= 143
    for entry in entries:
        assert all((entry.title, entry.why, entry.causes, entry.look, entry.remedies, entry.reference)), entry.code
        assert not entry.title.endswith(".")
        assert all(text.endswith(".") for text in (entry.why, entry.look, *entry.remedies.values())), entry.code
        assert catalogue.entry(entry.code) == entry


def test_catalogue_answers() -> None:
    entry = catalogue.entry("audience-mismatch")
    assert (entry.stage, entry.severity, entry.side) == (Stage.INTENDED, Severity.BREAK, Side.PROVIDER)
    assert catalogue.search("fingerprint")[0].code == "fingerprint-mismatch"
    assert catalogue.search("xyzzy") == []
    with pytest.raises(KeyError):
        catalogue.entry("no-such-code")


def test_the_reference_is_up_to_date() -> None:
    done = subprocess.run(
        [sys.executable, "tools/reference.py", "--check"],
        cwd=ROOT,
        capture_output=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr.decode()


@pytest.mark.parametrize("name", sorted(path.stem for path in (ROOT / "docs/examples").glob("*.json")))
def test_each_documented_example_is_as_its_schema_says(name: str) -> None:
    conforms(json.loads((ROOT / f"docs/examples/{name}.json").read_text("utf-8")), name)


ADDRESS_TEXT = st.text(st.sampled_from("htps:/[]@.%?#&;=0a9\u00e9\u2100 \n\\"), max_size=24)


@given(ADDRESS_TEXT, ADDRESS_TEXT)
def test_addresses_take_anything(left: str, right: str) -> None:
    for text in (left, f"https://{left}", f"https://a.example{left}"):
        addresses.host_of(text)
        addresses.origin_of(text)
        addresses.plain(text)
        assert addresses.same_address(text, text)
        assert addresses.same_address(text, right) == addresses.same_address(right, text)
        addresses.resolved(text, right)


@pytest.mark.parametrize(
    ("registered", "used", "same"),
    [
        ("http://127.0.0.1:80/cb", "http://127.0.0.1:51004/cb", True),
        ("http://[::1]/cb", "http://[::1]:51004/cb", True),
        ("http://127.0.0.1/cb", "http://127.0.0.1:51004/cb ", False),
        ("http://localhost/cb", "http://localhost:51004/cb", False),
        ("https://a.example/cb", "https://a.example:444/cb", False),
        ("https://[a.example/cb", "https://[b.example/cb", False),
    ],
)
def test_a_redirect_uri_is_compared_to_the_letter_but_for_loopback(registered: str, used: str, same: bool) -> None:
    assert same_redirect(registered, used) is same


_VALUES = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text(),
    lambda held: st.lists(held, max_size=4) | st.dictionaries(st.text(), held, max_size=4),
)


@given(_VALUES)
def test_json_is_written_as_the_standard_library_writes_it(value: Any) -> None:
    pieces: list[str] = []
    write_indented(value, pieces.append)
    assert "".join(pieces) == json.dumps(value, ensure_ascii=False, indent=1)
