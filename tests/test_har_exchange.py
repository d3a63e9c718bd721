"""Entries of a browser's export as exchanges: whatever an entry holds is told, and told alike wherever it stands."""

from __future__ import annotations

import copy
import os
import random
from collections.abc import Iterator
from typing import Any

import pytest

from recorded_kit import EXPECTED, export_of
from trace_lens.intake.carried import _SIGNS, is_worth_reading
from trace_lens.intake.exchanges import CALL, PAGE, STATIC, Exchange
from trace_lens.intake.har_exchange import exchange_of

ROUNDS = 30_000 if os.environ.get("EVERY_CAPTURE") else 1_500
EARLY, LATE = 5, 5_000
"""Places in an export before and after the one from which on texts are searched for all signs at once."""
ODD = (
    None,
    0,
    -1,
    1,
    True,
    1.5,
    10**30,
    "",
    "302",
    [],
    {},
    [{}],
    [{"name": "a"}],
    [{"name": "Set-Cookie", "value": 3}],
)
ODD += (
    [None],
    "eyJ",
    "https://a.example/x?code=1",
    "data:x",
    "base64",
    "2026-11-18T08:00:00",
    "\ud800",
    "Fetch",
    "image",
)
NAMES = (
    "url",
    "headers",
    "cookies",
    "postData",
    "status",
    "content",
    "redirectURL",
    "_error",
    "_blockedReason",
    "text",
)
NAMES += (
    "statusText",
    "_resourceType",
    "startedDateTime",
    "time",
    "timings",
    "_initiator",
    "encoding",
    "mimeType",
    "params",
)


def _told(entry: Any, number: int = EARLY) -> Exchange | None:
    return exchange_of(number, entry, [10**9, 1])


def _entry(**changes: Any) -> dict[str, Any]:
    """An entry whose request and response have members changed: `request_url=…`, `response_status=…`, else its own."""
    entry: dict[str, Any] = {
        "startedDateTime": "2026-11-18T08:00:00.000Z",
        "time": 30,
        "request": {"method": "GET", "url": "https://app.example/here", "headers": []},
        "response": {"status": 200, "headers": [], "content": {"mimeType": "text/html"}},
    }
    for name, value in changes.items():
        side, _, member = name.partition("_")
        if member and side in entry:
            entry[side][member] = value
        else:
            entry[name] = value
    return entry


HEADERS = [{"name": "X", "value": 7}, {"name": "Y"}, "no field", {"value": "z"}]
COOKIE = {"name": "SET-COOKIE", "value": "a=b"}
CASES: list[tuple[str, dict[str, Any], dict[str, Any]]] = [
    ("usual", {}, {"kind": PAGE, "status": 200, "seconds": 0.03, "url": "https://app.example/here"}),
    ("header fields without parts", {"request_headers": HEADERS}, {"sent": (("X", "7"), ("Y", ""), ("", "z"))}),
    ("header fields as an object", {"response_headers": {"X": 7}}, {"received": (("X", "7"),)}),
    ("a status as text", {"response_status": "404"}, {"status": 404}),
    ("no answer, told by words", {"response_status": 0, "response_statusText": "gone"}, {"problem": "gone"}),
    ("an answer with words", {"response_statusText": "OK"}, {"problem": None}),
    ("a refusal beside an answer", {"_blockedReason": "mixed-content"}, {"problem": "mixed-content", "status": 200}),
    ("a status below zero", {"response_status": -1}, {"status": 0}),
    ("a target told elsewhere only", {"response_redirectURL": "/on"}, {"received": (("Location", "/on"),)}),
    (
        "a target told twice",
        {"response_redirectURL": "/on", "response_headers": [{"name": "location", "value": "/off"}]},
        {"received": (("location", "/off"),)},
    ),
    (
        "a picture",
        {"_resourceType": "image"},
        {"kind": STATIC, "url": "https://app.example", "place": "", "received": ()},
    ),
    (
        "a picture that sets a cookie",
        {"_resourceType": "image", "response_headers": [COOKIE]},
        {"kind": STATIC, "url": "https://app.example/here", "received": (("SET-COOKIE", "a=b"),)},
    ),
    (
        "a picture that sets a cookie, and a field without a name",
        {"_resourceType": "image", "response_headers": [COOKIE, {"value": 1}]},
        {"received": (("SET-COOKIE", "a=b"),), "place": "entry 5"},
    ),
    (
        "a picture whose cookie is listed only",
        {"_resourceType": "image", "response_cookies": [{"name": "a", "value": "b"}]},
        {"received": (("Set-Cookie", "a=b"),), "place": "entry 5"},
    ),
    ("a call that carries nothing", {"_resourceType": "fetch"}, {"kind": CALL, "answer": None, "phases": None}),
    (
        "a call with a token in its answer",
        {"_resourceType": "fetch", "response_content": {"text": '["eyJ"]'}},
        {"kind": CALL, "answer": b'["eyJ"]'},
    ),
    ("a default port", {"request_url": "HTTPS://App.example:443/x"}, {"url": "https://app.example/x"}),
]


@pytest.mark.parametrize(("changes", "expected"), [case[1:] for case in CASES], ids=[case[0] for case in CASES])
def test_what_an_entry_tells(changes: dict[str, Any], expected: dict[str, Any]) -> None:
    told = _told(_entry(**changes))
    assert told is not None
    assert {name: getattr(told, name) for name in expected} == expected


@pytest.mark.parametrize("entry", [None, [], "", {}, {"request": None}, {"request": {"url": 7}}, {"response": {}}])
def test_no_exchange(entry: Any) -> None:
    assert _told(entry) is None


def test_an_entry_is_told_alike_wherever_it_stands() -> None:
    """Recorded entries with members left out, added and exchanged: early and late in an export they tell the same."""
    draw = random.Random(9110)
    entries = [entry for name in draw.sample(sorted(EXPECTED), 12) for entry in export_of(name)["log"]["entries"]]
    kinds = set()
    for _ in range(ROUNDS):
        entry = _altered(copy.deepcopy(draw.choice(entries)), draw)
        early, late = _told(entry), _told(entry, LATE)
        assert (early is None) == (late is None)
        if early and late:
            kinds.add(early.kind)
            assert early._replace(number=LATE, place=late.place) == late
            assert (early.place == "") == (late.place == "")
    assert kinds == {PAGE, CALL, STATIC}


def test_signs_are_found_alike_in_few_and_in_many() -> None:
    draw = random.Random(7522)
    pieces = [*_SIGNS, *(sign[:-1] for sign in _SIGNS), *(sign[1:] for sign in _SIGNS), b"x", b"\n", b"\xff", b'"']
    found = 0
    for _ in range(3_000):
        text = b"".join(draw.choices(pieces[len(_SIGNS) * draw.randrange(2) :], k=draw.randrange(4)))
        worth = any(sign in text for sign in _SIGNS)
        assert is_worth_reading(text) == is_worth_reading(text, of_many=True) == worth
        found += worth
    assert 500 < found < 2_500


def _altered(entry: Any, draw: random.Random) -> Any:
    for _ in range(draw.randrange(4)):
        holder, key = draw.choice([pair for pair in _places(entry) if draw.random() < 0.5] or list(_places(entry)))
        way = draw.random()
        if way < 0.3:
            del holder[key]
        elif way < 0.6 and isinstance(holder[key], dict):
            holder[key][draw.choice(NAMES)] = copy.deepcopy(draw.choice(ODD))
        else:
            holder[key] = copy.deepcopy(draw.choice(ODD))
        if not entry:
            break
    return entry


def _places(value: Any) -> Iterator[tuple[Any, Any]]:
    """Every place within a JSON value, as what holds it and its key."""
    pairs = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, held in pairs:
        yield value, key
        yield from _places(held)
