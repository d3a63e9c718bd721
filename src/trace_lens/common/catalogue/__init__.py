"""The catalogue of findings: one TOML file a stage beside this module, read when one of its codes is needed.

`explain`, the documentation and the checks all read it here. The order of the entries in a file is the order of
the codes within their stage, which settles what counts as the first break.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import tomli

from trace_lens.common.findings import Severity, Side, Stage
from trace_lens.common.tuples import NamedTuple

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
        for position, (code, raw) in enumerate(tomli.loads(text).items())
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


_ALIKE = (
    ("wrong", "invalid", "mismatch", "incorrect", "bad", "differs", "another"),
    ("reply", "callback", "redirect"),
    ("url", "uri", "address"),
    ("iframe", "frame"),
    ("clock", "clocks", "time"),
    ("renew", "renewed", "renewing", "renewal", "rolled", "rollover", "rolls", "new"),
    ("capital", "capitals", "uppercase", "case"),
    ("role", "roles", "claim", "claims", "attribute", "attributes"),
    ("expired", "ended", "ends"),
    ("loop", "loops", "round", "circle"),
    ("domain", "host"),
    ("locked", "disabled", "inactive"),
    ("email", "mail"),
)
"""Words that callers and the catalogue use for the same; the first that fits counts."""
_EMPTY = frozenset(
    (
        "the",
        "and",
        "for",
        "not",
        "but",
        "with",
        "from",
        "when",
        "after",
        "since",
        "does",
        "did",
        "has",
        "have",
        "was",
        "are",
    )
)


def search(words: str) -> list[Entry]:
    """Entries that the words are about, the best first.

    A word weighs by how few entries hold it (the inverse document frequency of K. Sparck Jones, 1972), three times as
    much in a code or a title. What has less than half of the best is left out.
    """
    wanted = list(dict.fromkeys(word for word in re.split(r"\W+", words.casefold()) if len(word) > 1))
    wanted = [word for word in wanted if word not in _EMPTY] or wanted
    entries = list(everything())
    fronts = [_words_of(f"{item.code} {item.title}") for item in entries]
    bodies = [_words_of(" ".join((item.why, *item.causes, item.look, *item.remedies.values()))) for item in entries]
    score = [0.0] * len(entries)
    for word in wanted:
        forms = next(((word, *group) for group in _ALIKE if word in group), (word,))
        in_front = [_hold(held, forms) for held in fronts]
        found = [max(3 * front, _hold(body, forms)) for front, body in zip(in_front, bodies, strict=True)]
        count = sum(value > 0 for value in found)
        rarity = math.log(1 + len(entries) / count) if count else 0.0
        score = [total + rarity * value for total, value in zip(score, found, strict=True)]
    best = max(score, default=0.0)
    ranked = sorted(range(len(entries)), key=lambda place: -score[place])
    return [entries[place] for place in ranked if best > 0 and score[place] >= best / 2]


def _words_of(text: str) -> frozenset[str]:
    return frozenset(re.split(r"\W+", text.casefold()))


def _hold(held: frozenset[str], forms: tuple[str, ...]) -> float:
    """How well words hold one: whole, by its beginning, or by a word that is used for the same."""
    if forms[0] in held:
        return 1.0
    if len(forms[0]) > 3 and any(
        word.startswith(forms[0]) or (len(word) > 3 and forms[0].startswith(word)) for word in held
    ):
        return 0.9
    return 0.7 if any(form in held for form in forms[1:]) else 0.0


def _begins(word: str, wanted: str) -> bool:
    return word.startswith(wanted) or (len(word) > 3 and wanted.startswith(word))
