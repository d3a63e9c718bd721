"""Entries of a browser's export: taken many at a time, they are what they are one by one, and so is what breaks off."""

from __future__ import annotations

import io
import json
from typing import Any

import ijson
import pytest
from hypothesis import given
from hypothesis import strategies as st

from trace_lens.intake import har, har_entries

_VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**40), 2**60) | st.floats(allow_nan=False) | st.text(max_size=6),
    lambda inner: (
        st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(("at", "b", "entries")), inner, max_size=3)
    ),
    max_leaves=6,
)
_ENTRY = st.fixed_dictionaries({}, optional={"at": _VALUES, "say": st.text('",{} "at:\\', max_size=9), "b": _VALUES})


def _told(values: Any) -> tuple[list[Any], str]:
    """The values up to where reading fails, and how."""
    held: list[Any] = []
    try:
        for value in values:
            held.append(value)
    except (ijson.JSONError, UnicodeDecodeError) as error:
        return held, f"{type(error).__name__}: {har._words(error)}"
    return held, ""


def _both(text: bytes, monkeypatch: pytest.MonkeyPatch, stretch: int) -> None:
    monkeypatch.setattr(har_entries, "_STRETCH", stretch)
    one_by_one = _told(ijson.items(io.BytesIO(text), "log.entries.item", use_float=True))
    assert repr(_told(har_entries.entries_of(io.BytesIO(text)))) == repr(one_by_one)


@pytest.mark.parametrize("stretch", [7, 64, 700])
@given(
    st.lists(_ENTRY, min_size=1, max_size=9),
    st.sampled_from((None, 1)),
    st.integers(0, 40),
    st.sampled_from(("", "x", ",", "}", "]", '"', "\\", "\xff", "}, {")),
)
def test_many_at_a_time(
    stretch: int, entries: list[dict[str, Any]], indent: int | None, place: int, put_in: str
) -> None:
    document = {"log": {"version": "1.2", "entries": entries, "pages": [{"at": 1}]}}
    text = json.dumps(document, indent=indent, ensure_ascii=place % 2 == 0).encode("utf-8", "surrogatepass")
    cut = place * len(text) // 40
    with pytest.MonkeyPatch.context() as patch:
        _both(text[:cut] + put_in.encode("latin-1") + text[cut:], patch, stretch)
        _both(text[:cut], patch, stretch)


@pytest.mark.parametrize(
    "text",
    [
        b'{"entries": [{"at": 1}], "log": {"entries": [{"at": 1}, {"at": 2}]}}',
        b'{"log": {"entries": [{"at": 1}, {"at": 2}, {"at": 3}]}, "log": {"entries": [{"at": 4}]}}',
        b'{"log": {"under": {"entries": [{"at": 1}, {"at": 2}]}}}',
        b'{"log": {"entries": [{"at": "},{\\"at\\""}, {"at": [{"at": 1}, {"at": 2}]}, 7, {"at": 2}, 12, {"at": "\\ud800"}]}}',
        b'{"log": {"entries": [{"at": 1}, {"at": 1e999}, {"at": 1}]}}',
        b'{"log": {"entries": [], "more": [{"at": 1}, {"at": 2}]}} {"at": 3}',
        b'[{"log": {"entries": [{"at": 1}]}}]',
        b'{"log": {"entries": {"at": 1}}}',
    ],
)
def test_odd_ones(text: bytes, monkeypatch: pytest.MonkeyPatch) -> None:
    for stretch in (5, 20, 1000):
        _both(text, monkeypatch, stretch)


def test_the_quick_way_is_taken(monkeypatch: pytest.MonkeyPatch) -> None:
    def items(*_: Any, **__: Any) -> None:
        raise AssertionError

    monkeypatch.setattr(ijson, "items", items)
    entries = [{"at": f"2026-11-20T08:{n // 60 % 60:02}:{n % 60:02}Z", "say": "x" * 100} for n in range(5000)]
    for count in (1, 5000):
        text = json.dumps({"log": {"version": "1.2", "entries": entries[:count]}}).encode()
        assert list(har_entries.entries_of(io.BytesIO(text))) == entries[:count]
