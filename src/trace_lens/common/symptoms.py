"""What callers say, as data: what to ask them, what to record, which commands help, and which findings it ends in."""

from __future__ import annotations

import re
from functools import cache
from importlib.resources import files

import tomli

from trace_lens.common.difference import edit_distance
from trace_lens.common.tuples import NamedTuple

_SMALL = frozenset(
    (
        *("it", "the", "and", "for", "not", "in", "to", "is", "of", "on", "they", "he", "she", "we", "my", "me", "an"),
        *("only", "can", "cannot", "does", "do", "at", "or", "but", "that", "this", "with", "be", "are", "has", "have"),
        *("from", "when", "after", "since", "sign", "signed", "signing", "log", "login", "user", "users", "people"),
        *("no", "wrong", "invalid", "bad", "problem", "issue"),
    )
)
"""Words that nearly every caller says: they tell one complaint from another only where nothing else does."""
_LONG = 6
"""From this length on a word may hold one slip."""


class Symptom(NamedTuple):
    """One complaint. `said` are other ways to say it, `findings` codes, the likeliest first."""

    id: str
    title: str
    said: tuple[str, ...]
    questions: tuple[str, ...]
    record: tuple[str, ...]
    commands: tuple[str, ...]
    findings: tuple[str, ...]


@cache
def symptoms() -> tuple[Symptom, ...]:
    """All complaints, in the order of the file."""
    text = files("trace_lens.common.catalogue").joinpath("symptoms.toml").read_text("utf-8")
    return tuple(
        Symptom(id=name, title=held["title"], **{key: tuple(held[key]) for key in Symptom._fields[2:]})
        for name, held in tomli.loads(text).items()
    )


def search(text: str) -> list[Symptom]:
    """The complaints that a caller's words are about, the best first; those of the title count more than others."""
    wanted = _words(text)
    telling = telling_words(text)
    if not telling:
        return []
    hits = []
    for place, item in enumerate(symptoms()):
        title, said = _words(item.title), [word for phrase in item.said for word in _words(phrase)]
        exact = any(text.strip().casefold() in phrase.casefold() for phrase in (item.title, *item.said))
        score = sum(3 if _holds(title, word) else 2 if _holds(said, word) else 0 for word in telling)
        found = sum(_holds(title, word) or _holds(said, word) for word in telling)
        small = sum(_holds(title, word) for word in wanted if word in _SMALL)
        if exact or found * 2 > len(telling) or (found and len(telling) <= 2):
            hits.append((not exact, -score, -small, place, item))
    return [item for *_, item in sorted(hits, key=lambda hit: hit[:4])]


def telling_words(text: str) -> list[str]:
    """The words that tell one complaint from another; all of them, where every one is a common one."""
    words = _words(text)
    return [word for word in words if word not in _SMALL] or words


def _words(text: str) -> list[str]:
    return [word for word in re.split(r"[^\w]+", text.casefold()) if len(word) > 1]


def _holds(words: list[str], wanted: str) -> bool:
    return any(_same(word, wanted) for word in words)


def _same(word: str, wanted: str) -> bool:
    """Whether two words are one: equal, one the beginning of the other (sign, signing), or with one slip."""
    if word == wanted:
        return True
    shorter, longer = sorted((word, wanted), key=len)
    if len(shorter) >= _LONG - 2 and longer.startswith(shorter) and len(longer) - len(shorter) <= 3:
        return True
    return len(shorter) >= _LONG and abs(len(word) - len(wanted)) <= 1 and edit_distance(word, wanted) <= 1
