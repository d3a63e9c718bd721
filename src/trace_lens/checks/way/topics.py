"""What the words of a side's pages and errors may name: the findings that speak of it. The words are data, in
`page_words.toml`.
"""

from __future__ import annotations

import re
from functools import cache
from pathlib import Path

from trace_lens.checks.way.parties import PROVIDER
from trace_lens.common import catalogue
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Side
from trace_lens.common.tuples import NamedTuple

_WORDS = Path(__file__).with_name("page_words.toml")
_OF_REQUEST = {
    "request-rejected",
    "acs-not-registered",
    "redirect-uri-mismatch",
    "request-unsigned",
    "code-challenge-missing",
    "identifier-in-request-unknown",
    "wrong-binding",
}
_ACT = {
    "not-assigned": Side.PROVIDER,
    "consent-missing": Side.PROVIDER,
    "request-unsigned": Side.APPLICATION,
    "acs-not-registered": Side.PROVIDER,
    "code-challenge-missing": Side.APPLICATION,
}
"""Whose remedy it is where the provider itself names the reason."""
OF_USER = expression(r"\b(?:user|account|person|principal)\b", re.IGNORECASE)
"""What a sentence speaks of that is about the person, not about the request."""
_OF_PERSON = "Ask the provider's administrators about this account and the policies for it: the error names them."


class Topic(NamedTuple):
    """What a page may name: the findings that speak of it, how pages say it, and what it is by itself.

    `states` tells that the words themselves say that something is wrong.
    """

    codes: tuple[str, ...]
    pattern: re.Pattern[str]
    raises: str | None = None
    states: bool = False


@cache
def topics_of(side: str) -> tuple[Topic, ...]:
    """What the pages of a side may name, in the order of `page_words.toml`."""
    import tomli

    text = _WORDS.read_text("utf-8")
    return tuple(
        Topic(
            tuple(row["codes"]), expression("|".join(row["words"]), re.IGNORECASE), row.get("raises"), "states" in row
        )
        for row in tomli.loads(text)[side]
    )


def named_in_error(words: str | None) -> tuple[Topic, ...]:
    """What the provider's own words beside an error name."""
    return tuple(topic for topic in topics_of(PROVIDER) if words and topic.pattern.search(words))


def speaks_of_request(words: str | None) -> bool:
    """Whether the words beside an error say that the request could not be taken; a user may be unknown, too."""
    if words and OF_USER.search(words):
        return False
    return any(_OF_REQUEST & set(topic.codes) for topic in named_in_error(words))


def advice_by_words(words: str | None) -> tuple[str, Side] | None:
    """What to do about the reason that the words beside an error name, and who; None where they name none."""
    for topic in named_in_error(words):
        if topic.raises in _ACT:
            side = _ACT[topic.raises]
            return catalogue.entry(topic.raises).remedies[side], side
        if "provider-refused" in topic.codes:
            return _OF_PERSON, Side.PROVIDER
    return None
