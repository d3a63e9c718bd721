"""Two ways side by side: the hops in pairs, up to where they part, and in what they part."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import zip_longest

from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.steps import Step


class Pair(NamedTuple):
    """Two hops that stand at the same place; one of them is None where that way has ended.

    `differs` names in what they differ: `address`, `method`, `status`, `target`, `messages`, `cookies sent`,
    `cookies set`.
    """

    left: Step | None
    right: Step | None
    differs: tuple[str, ...]


class SideBySide(NamedTuple):
    """The pairs up to the one where the ways part, and one more; `parts_at` is the number of that pair, from 1."""

    pairs: tuple[Pair, ...]
    parts_at: int | None


_PARTING = ("address", "method", "status", "target")
"""Differences after which the two ways are no longer the same."""


def side_by_side(left: Sequence[Step], right: Sequence[Step]) -> SideBySide | None:
    """Two ways in pairs; None where one of the captures shows no way."""
    if not left or not right:
        return None
    pairs = [Pair(step, other, _differs(step, other)) for step, other in zip_longest(left, right)]
    for number, pair in enumerate(pairs, 1):
        if pair.left is None or pair.right is None or set(pair.differs) & set(_PARTING):
            return SideBySide(tuple(pairs[: number + 1]), number)
    return SideBySide(tuple(pairs), None)


def _differs(left: Step | None, right: Step | None) -> tuple[str, ...]:
    if left is None or right is None:
        return ("address",)
    found = {
        "address": left.request.url != right.request.url,
        "method": left.request.method != right.request.method,
        "status": left.answer.status != right.answer.status,
        "target": left.answer.redirects_to != right.answer.redirects_to,
        "messages": left.request.carries != right.request.carries,
        "cookies sent": set(left.request.cookies_sent) != set(right.request.cookies_sent),
        "cookies set": set(left.answer.cookie_lines) != set(right.answer.cookie_lines),
    }
    return tuple(name for name, holds in found.items() if holds)
