"""Tokens that stand in running text: wrapped, quoted in a mail, in the other alphabet of base64, cut.

A token is looked for where a JSON header begins (`eyJ`). Of its readings the whole one wins: three parts of which the
first two are JSON and the last has the length of a signature, or five parts. A line belongs to it where it holds
nothing else; which lines do shows in whether the whole is one.
"""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.effort import Effort
from trace_lens.oidc.jose import JoseDamaged, looks_encrypted, read_jws
from trace_lens.oidc.tokens import NoClaims, read_token

_RUN = expression(r"[A-Za-z0-9_.-]*+")
_WORD = expression(r"[A-Za-z0-9_-]*+")
_OTHER_WORD = expression(r"[A-Za-z0-9_+/-]*+")
_LINE_ENDS = expression(r"[ \t]*+=?\r?\n")
_SHORTEST = 11
"""The fewest characters that a header can have: `eyJ` and eight more."""
_OTHER_RUN = expression(r"[A-Za-z0-9_.+/-]*+")
_NEXT_LINE = expression(r"[ \t]*+=?\r?\n[> \t|]*+")
_MOST_STOPS = 4
"""The full stops of the longest form, a JWE (RFC 7516 §3.1)."""
_MOST_LINES = 4000
_SIGNATURES = {0, 32, 48, 64, 96, 132}


class Reading(NamedTuple):
    """A token as it was read: its text, where it ends in the source, and what had to be repaired."""

    text: str
    end: int
    repairs: tuple[str, ...] = ()


def beginnings(text: str) -> Iterator[int]:
    """Where a token may begin: a header of eleven characters or more, with a full stop or the line's end behind it.

    Each stretch of characters is measured once, however many beginnings it holds.
    """
    position = word_end = other_end = 0
    while (start := text.find("eyJ", position)) >= 0:
        if word_end <= start:
            word_end = _WORD.match(text, start).end()  # type: ignore[union-attr]  # it matches nothing, too
        if other_end <= start:
            other_end = _OTHER_WORD.match(text, start).end()  # type: ignore[union-attr]
        if word_end - start >= _SHORTEST and text[word_end : word_end + 1] == ".":
            yield start
            position = _end_of_parts(text, word_end)
        elif other_end - start >= _SHORTEST and _LINE_ENDS.match(text, other_end):
            yield start
            position = other_end
        else:
            position = word_end


def _end_of_parts(text: str, position: int) -> int:
    """Where the further parts of a token, each after a full stop, end."""
    for _ in range(_MOST_STOPS):
        if text[position : position + 1] != ".":
            break
        position = _WORD.match(text, position + 1).end()  # type: ignore[union-attr]
    return position


def token_at(text: str, start: int, effort: Effort | None = None) -> Reading:
    """The token that begins here, in its best reading. Raises Refused where the `effort` is used up."""
    effort = effort or Effort(text)
    plain = _RUN.match(text, start)
    assert plain is not None
    first = Reading(_trimmed(plain[0]), start + len(_trimmed(plain[0])))
    if is_whole(first.text) and not _goes_on(text, first.end):
        return first
    other = _OTHER_RUN.match(text, start)
    assert other is not None
    effort.spend(other.end() - start)
    if other.end() > plain.end():
        swapped = _trimmed(other[0]).rstrip("/").replace("+", "-").replace("/", "_")
        if is_whole(swapped):
            return Reading(swapped, start + len(swapped), ("the standard alphabet of base64",))
    return _over_lines(text, start, effort) or first


def is_whole(text: str) -> bool:
    """Whether a text is a token from its beginning to its end."""
    if looks_encrypted(text):
        return text.count(".") == 4 and all(part for part in text.split(".")[2:])
    try:
        jws = read_jws(text)
        read_token(jws)
    except (JoseDamaged, NoClaims):
        return False
    size = len(jws.signature)
    return size in _SIGNATURES or (size >= 128 and size % 64 == 0)


def _goes_on(text: str, end: int) -> bool:
    """Whether a further character of base64 follows at once."""
    return text[end : end + 1] in ("+", "/")


def _over_lines(text: str, start: int, effort: Effort) -> Reading | None:
    """The token over as many lines as make it whole; None where none do."""
    if start < effort.barren_until:
        return None
    pieces: list[str] = []
    ends: list[int] = []
    position = start
    stops = 0
    while len(pieces) < _MOST_LINES and stops <= _MOST_STOPS:
        match = _OTHER_RUN.match(text, position)
        if match is None or match.end() == position:
            break
        effort.spend(match.end() - position)
        pieces.append(match[0])
        ends.append(match.end())
        stops += match[0].count(".")
        follows = _NEXT_LINE.match(text, match.end())
        if follows is None:
            break
        position = follows.end()
    if stops == 0 and ends:
        effort.barren_until = ends[-1]
        return None
    for count in _likely(pieces):
        joined = "".join(pieces[:count])
        for repaired, more in (
            (joined, ()),
            (joined.replace("+", "-").replace("/", "_"), ("the standard alphabet of base64",)),
        ):
            bare = _trimmed(repaired)
            if is_whole(bare):
                repairs = ("line wraps",) if count > 1 else ()
                return Reading(bare, ends[count - 1] - (len(repaired) - len(bare)), (*repairs, *more))
            if not more and "+" not in joined and "/" not in joined:
                break
    count = next(iter(_likely(pieces)), 0)
    joined = "".join(pieces[:count])
    return Reading(joined, ends[count - 1], ("line wraps",)) if count > 1 and joined.count(".") >= 1 else None


def _likely(pieces: list[str]) -> list[int]:
    """How many lines the token may have: up to the first line that is shorter than those before it, or one more or
    less.
    """
    if len(pieces) < 2:
        return [len(pieces)]
    width = len(pieces[1]) if len(pieces) > 2 else max(len(pieces[0]), len(pieces[1]))
    short = next((number for number, piece in enumerate(pieces[1:], 2) if len(piece) < width), len(pieces))
    return [
        count for count in dict.fromkeys((short, short - 1, short + 1, len(pieces), 1)) if 1 <= count <= len(pieces)
    ]


def _trimmed(text: str) -> str:
    """A run without the full stop, or dashes, of the sentence that it ends."""
    bare = text.rstrip(".-") if text.count(".") > 2 or not text.endswith(".") else text
    return bare if bare.count(".") in (2, 4) else text
