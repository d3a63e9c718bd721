"""Places are parts, put together from the outside in, and printed in one way."""

from __future__ import annotations

import json
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from kit import response, run, workspace
from trace_lens.common.locations import NOWHERE, Location

WORDS = st.sampled_from(["", "entry 7", "response body", "parameter code"])
PLACES = st.builds(
    Location,
    entry=WORDS,
    part=WORDS,
    line=st.none() | st.integers(1, 99),
    field=WORDS,
    path=st.sampled_from(["", "/a/b"]),
)


def test_as_people_read_it() -> None:
    outer = Location(entry="entry 7", part="request body")
    inner = Location(field="field SAMLResponse").then(Location(line=1, path="/samlp:Response"))
    place = outer.then(inner)
    assert str(place) == "entry 7 › request body › field SAMLResponse › line 1 › /samlp:Response"
    assert (place.line, place.within and place.within.field) == (1, "field SAMLResponse")
    assert str(Location(line=3, column=9)) == "line 3, column 9"
    assert (str(NOWHERE), bool(NOWHERE)) == ("", False)


@given(PLACES, PLACES, PLACES)
def test_putting_together_loses_nothing(first: Location, second: Location, third: Location) -> None:
    parts = [str(place) for place in (first, second, third) if place]
    assert str(first.then(second).then(third)) == " › ".join(parts)
    assert str(first.then(second.then(third))) == " › ".join(parts)


def test_every_place_in_the_json_is_text(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "m.xml").write_bytes(response(audiences=""))
    for words in (("diagnose", "m.xml"), ("certs", "m.xml"), ("sides", "crew-roster", "m.xml"), ("decode", "m.xml")):
        text = run(*words, "--format", "json", folder=folder).stdout

        def walk(value: object) -> None:
            if isinstance(value, dict):
                assert isinstance(value.get("where", ""), str)
                for inner in value.values():
                    walk(inner)
            elif isinstance(value, list):
                for inner in value:
                    walk(inner)

        walk(json.loads(text))
