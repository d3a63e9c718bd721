"""Words by which systems say that a sign-in went well or badly: by how they begin, by statuses, by what stands beside.

The beginnings are those in `words.toml`. A word that begins like none of them is judged only by
what stands beside it: in the rows of what failed a code or a reason is filled in.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from functools import cache

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import FAILURE, SUCCESS
from trace_lens.logs.recognising.columns import Column, split_by
from trace_lens.logs.recognising.names import word_lists


class _Lists(NamedTuple):
    """The words of one outcome: how they begin, which count as one of several, which as the whole value, phrases."""

    begins: re.Pattern[str]
    part: frozenset[str]
    whole: frozenset[str]
    phrases: tuple[str, ...]


@cache
def _lists() -> dict[str, _Lists]:
    return {
        outcome: _Lists(
            begins=re.compile("|".join(re.escape(word) for word in told["begins"].split()), re.IGNORECASE),
            part=frozenset(told["part"].split()),
            whole=frozenset(told["whole"].split()),
            phrases=tuple(told["phrases"]),
        )
        for outcome, told in word_lists()["outcomes"].items()
    }


_PARTS = expression(r"[^\W\d_]+", re.UNICODE)
_STATUS = expression(r"[1-5]\d\d")
MOST_WORDS = 12


def outcome_of_word(word: str) -> str | None:
    """`success` or `failure` where a word of an outcome says so, else None.

    A text of several parts (`signin.failed`, `session opened`) is told by any of its parts; one that says no counts as
    a failure whatever else it says (`non riuscito`).
    """
    text = word.strip().casefold()
    for outcome, lists in _lists().items():
        if text in lists.whole or text.startswith(lists.phrases):
            return outcome
    found = [_of_part(part) for part in _parts(word)]
    return FAILURE if FAILURE in found else SUCCESS if SUCCESS in found else None


def _parts(word: str) -> list[str]:
    """The words of a text: `SignInFailed` and `sign-in.failed` have several."""
    spread = re.sub(r"(?<=[a-zà-ÿ])(?=[A-ZÀ-Ý])", " ", word)
    return [part.casefold() for part in _PARTS.findall(spread)]


def _of_part(part: str) -> str | None:
    for outcome in (FAILURE, SUCCESS):
        if part in _lists()[outcome].part or _lists()[outcome].begins.match(part):
            return outcome
    return None


class Words(NamedTuple):
    """What the words of a column say: of success, of failure, and those that say nothing; how well that is founded.

    `sure` is `sure` where the words themselves say it, `likely` where only what stands beside them does. `because` is
    the reason, in words. `strength` goes from 0 to 1.5.
    """

    success: tuple[str, ...] = ()
    failure: tuple[str, ...] = ()
    unknown: tuple[str, ...] = ()
    sure: str = "sure"
    because: str = ""
    strength: float = 0.0


def read_words(column: Column, others: Iterable[Column], rows: int) -> Words:
    """What the words of a column say, if it is one of outcomes at all."""
    counts = column.counts
    if not counts or len(counts) > MOST_WORDS or len(counts) > max(3, rows // 3):
        return Words()
    beside = _beside(column, others, rows)
    if all(_STATUS.fullmatch(word) for word in counts):
        return _statuses(sorted(counts), beside)
    if all(word.lstrip("-").isdigit() for word in counts):
        return _numbers(counts, beside)
    said = {word: outcome_of_word(word) for word in counts}
    success = tuple(sorted(word for word, outcome in said.items() if outcome == SUCCESS))
    failure = tuple(sorted(word for word, outcome in said.items() if outcome == FAILURE))
    unknown = tuple(sorted(word for word, outcome in said.items() if outcome is None))
    flag = {word.casefold() for word in counts} <= _lists()[SUCCESS].whole | _lists()[FAILURE].whole
    if flag:
        return _flag(success, failure, beside)
    if beside and set(success) & set(beside[0]):
        beside = None
    if success or failure:
        return _told(counts, success, failure, unknown, beside)
    if beside and len(counts) <= 4:
        return _by_beside(counts, beside, 1.0)
    return _by_rarity(counts)


def _told(
    counts: Counter[str],
    success: tuple[str, ...],
    failure: tuple[str, ...],
    unknown: tuple[str, ...],
    beside: _Beside | None,
) -> Words:
    """Some words say by themselves how it went; of the rest, what stands beside them or the other of two words does."""
    told = success + failure
    strength = 1.3 * sum(counts[word] for word in told) / counts.total() + (0.2 if beside else 0.0)
    because = f"its words say how it went: {_few(told)}"
    if not unknown:
        return Words(success, failure, (), "sure", because, strength)
    if beside and set(failure) <= beside[0]:
        return _by_beside(counts, beside, 1.1, success)
    if len(counts) == 2:
        both = (unknown, failure) if failure else (success, unknown)
        return Words(*both, (), "likely", f"{because}; {unknown[0]} is its opposite", 1.1)
    return Words(success, failure, unknown, "sure", because, max(strength, 1.0 if success and failure else 0.0))


def _by_rarity(counts: Counter[str]) -> Words:
    """Nothing tells but that most sign-ins go well: that is a guess, and weak."""
    common, count = counts.most_common(1)[0]
    if 2 <= len(counts) <= 4 and count >= 0.7 * counts.total():
        rest = tuple(sorted(word for word in counts if word != common))
        return Words((common,), rest, (), "guess", f"{common} is by far the most common", 0.4)
    return Words(unknown=tuple(sorted(counts)))


_Beside = tuple[frozenset[str], str]


def _beside(column: Column, others: Iterable[Column], rows: int) -> _Beside | None:
    """The words beside which another column is filled, and its name; None where there is none."""
    for other in others:
        if other.name != column.name:
            words = split_by(column, other, rows)
            if words is not None and sum(column.counts[word] for word in words) * 2 < column.filled:
                return words, other.name
    return None


def _statuses(words: Sequence[str], beside: _Beside | None) -> Words:
    good = tuple(word for word in words if word < "400")
    poor = tuple(word for word in words if word >= "400")
    strength = 0.8 if good and poor else 0.5
    return Words(good, poor, (), "sure", "its values are statuses of HTTP", strength + (0.2 if beside else 0.0))


def _numbers(counts: Counter[str], beside: _Beside | None) -> Words:
    if beside:
        return _by_beside(counts, beside, 0.9)
    common, count = counts.most_common(1)[0]
    if common == "0" and len(counts) > 1 and count * 2 > counts.total():
        rest = tuple(sorted(word for word in counts if word != "0"))
        return Words(("0",), rest, (), "likely", "most are 0, as where nothing went wrong", 0.6)
    return Words(unknown=tuple(sorted(counts)))


def _flag(success: tuple[str, ...], failure: tuple[str, ...], beside: _Beside | None) -> Words:
    """A yes and a no say of what only by the name of the column, or by what stands beside them."""
    if beside and set(beside[0]) == set(failure):
        return Words(success, failure, (), "sure", f"{beside[1]} is filled in only where it says no", 1.3)
    return Words(success, failure, (), "likely", "it says yes or no", 0.3)


def _by_beside(counts: Counter[str], beside: _Beside, strength: float, success: tuple[str, ...] = ()) -> Words:
    """What another column is filled beside went badly; of the rest, what says so went well, or the only word left."""
    poor = tuple(sorted(beside[0]))
    rest = tuple(sorted(word for word in counts if word not in beside[0]))
    good = success or (rest if len(rest) == 1 else ())
    because = f"{beside[1]} is filled in only beside {_few(poor)}, and such rows are rare"
    unknown = tuple(word for word in rest if word not in good)
    return Words(good, poor, unknown, "likely", because, strength)


def _few(words: Sequence[str]) -> str:
    return ", ".join(words[:3]) + (" …" if len(words) > 3 else "")
