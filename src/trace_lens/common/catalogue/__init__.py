"""The catalogue of findings: one TOML file a stage beside this module, read when one of its codes is needed.

`explain`, the documentation and the checks all read it here. The order of the entries in a file is the order of
the codes within their stage, which settles what counts as the first break.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import NamedTuple

from trace_lens.common.findings import Severity, Side, Stage

_FOLDER = Path(__file__).parent


class Entry(NamedTuple):
    """What one code means, in the reader's words.

    `severities` lists what it can be, the usual one first; `remedies` says what each side does about it.
    """

    code: str
    stage: Stage
    position: int
    severities: tuple[Severity, ...]
    title: str
    why: str
    causes: tuple[str, ...]
    look: str
    remedies: dict[Side, str]
    reference: str

    @property
    def severity(self) -> Severity:
        """The severity it has unless settings or evidence decide otherwise."""
        return self.severities[0]

    @property
    def side(self) -> Side:
        """The side that usually has to act."""
        return next(iter(self.remedies))


@cache
def of_stage(stage: Stage) -> dict[str, Entry]:
    """The entries of one stage, in their order."""
    text = (_FOLDER / f"{stage}.toml").read_text("utf-8")
    return {
        code: Entry(
            code=code,
            stage=stage,
            position=position,
            severities=tuple(Severity(name) for name in raw["severity"].split(" or ")),
            title=raw["title"],
            why=raw["why"],
            causes=tuple(raw["causes"]),
            look=raw["look"],
            remedies={Side(side): text for side, text in raw["remedy"].items()},
            reference=raw["reference"],
        )
        for position, (code, raw) in enumerate(tomllib.loads(text).items())
    }


@cache
def _places() -> dict[str, tuple[Stage, int]]:
    """Where every code stands, by the headings of the files alone: far quicker than reading what is below them."""
    return {
        code.decode(): (stage, position)
        for stage in Stage
        for position, code in enumerate(
            re.findall(rb"(?m)^\[([a-z0-9-]++)\]", (_FOLDER / f"{stage}.toml").read_bytes())
        )
    }


def stage_of(code: str) -> Stage:
    """The stage that a code belongs to. Raises KeyError."""
    return _places()[code][0]


def position_of(code: str) -> int:
    """The position of a code within its stage, from 0. Raises KeyError."""
    return _places()[code][1]


def entry(code: str) -> Entry:
    """The entry of a code. Raises KeyError."""
    return of_stage(stage_of(code))[code]


def everything() -> Iterator[Entry]:
    """All entries, in stage order."""
    for stage in Stage:
        yield from of_stage(stage).values()


def search(words: str) -> list[Entry]:
    """Entries that hold the words, those with most of them first; words in code or title count double."""
    wanted = [word for word in re.split(r"\W+", words.casefold()) if len(word) > 1]
    hits = []
    for item in everything():
        front = f"{item.code} {item.title}".casefold()
        body = " ".join((item.why, *item.causes, item.look, *item.remedies.values())).casefold()
        held = [word for word in wanted if word in front or word in body]
        if held:
            hits.append((-len(held), -sum(word in front for word in held), item))
    if not hits:
        return []
    most = min(hit[0] for hit in hits)
    return [item for held, _, item in sorted(hits, key=lambda hit: hit[:2]) if held == most]
