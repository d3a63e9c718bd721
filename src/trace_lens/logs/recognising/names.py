"""What columns are called: a hint beside what the cells hold. The words are in `words.toml`."""

from __future__ import annotations

import re
from functools import cache
from importlib.resources import files
from typing import Any

import tomli

from trace_lens.logs.recognising.columns import Column


@cache
def word_lists() -> dict[str, Any]:
    """The words by which unknown logs are read."""
    return tomli.loads(files(__package__).joinpath("words.toml").read_text("utf-8"))


def _pattern(words: str) -> re.Pattern[str]:
    whole = [re.escape(word[1:]) for word in words.split() if word[0] == "="]
    begin = [re.escape(word) for word in words.split() if word[0] != "="]
    return re.compile("|".join([*(f"{word}$" for word in whole), *begin]), re.IGNORECASE)


@cache
def _hints(field: str) -> tuple[re.Pattern[str], re.Pattern[str] | None]:
    """The patterns of words for a field and against it."""
    told = word_lists()["columns"][field]
    return _pattern(told["for"]), _pattern(told["against"]) if "against" in told else None


def words_of(name: str) -> list[str]:
    """The words of a column's name: `eventTime`, `event_time`, `Event time` have the same two."""
    spread = re.sub(r"(?<=[a-zà-ÿ0-9])(?=[A-ZÀ-Ý])", " ", name)
    return re.findall(r"[^\W_]+", spread)


def called(field: str, column: Column) -> float:
    """How a column's name speaks for a field: 1 for, -1 against, 0 where it says nothing.

    Of a dotted path the last part counts fully, the parts before it half.
    """
    path = [words_of(part) for part in column.name.split(".")]
    path = [words for words in path if not all(word.isdigit() for word in words)] or path
    last, before = path[-1], [word for words in path[:-1] for word in words]
    speaking, against = _hints(field)
    if against and any(against.match(word) for word in last):
        return -1.0
    if any(speaking.match(word) for word in [*last, "".join(last)]):
        return 1.0
    return 0.5 if any(speaking.match(word) for word in before) else 0.0
