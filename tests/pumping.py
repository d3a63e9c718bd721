"""Texts that a regular expression works longest on, made from the expression itself.

For each repeat in it: what leads to the repeat, the repeat's body many times over, and then something that does not fit.
Also its beginnings, many times over: where a search begins anew at each of them, a tail that is scanned each time shows.
"""

from __future__ import annotations

import gc
import math
import re
import re._constants as op
import re._parser as parser
import signal
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from itertools import islice
from typing import Any

_WAYS = 12
MANY = 12
"""A repeat that may be longer than this is pumped."""
_ENDS = ("", "\0", "!", "\n", '"', "<", "\\", "x", " ")
_CATEGORIES = {
    op.CATEGORY_DIGIT: "1",
    op.CATEGORY_WORD: "a",
    op.CATEGORY_SPACE: " ",
    op.CATEGORY_NOT_DIGIT: "a",
    op.CATEGORY_NOT_WORD: "-",
    op.CATEGORY_NOT_SPACE: "a",
}


class TooLong(Exception):
    """A single step took longer than any linear one could."""


def _of_set(members: list[Any]) -> list[str]:
    """A few characters of a set: of each of its members one."""
    if members[0][0] is op.NEGATE:
        refused = re.compile(f"[{''.join(_class_text(one) for one in members[1:])}]", re.DOTALL)
        return [char for char in "a1 -\"'<\n.=\\>/" if not refused.match(char)][:4] or ["\u00e9"]
    found = []
    for kind, value in members:
        if kind is op.LITERAL:
            found.append(chr(value))
        elif kind is op.RANGE:
            found.append(chr(value[0]))
        else:
            found.append(_CATEGORIES[value])
    return list(dict.fromkeys(found))


def _class_text(member: Any) -> str:
    kind, value = member
    if kind is op.LITERAL:
        return re.escape(chr(value))
    if kind is op.RANGE:
        return f"{re.escape(chr(value[0]))}-{re.escape(chr(value[1]))}"
    return {
        op.CATEGORY_DIGIT: r"\d",
        op.CATEGORY_WORD: r"\w",
        op.CATEGORY_SPACE: r"\s",
        op.CATEGORY_NOT_DIGIT: r"\D",
        op.CATEGORY_NOT_WORD: r"\W",
        op.CATEGORY_NOT_SPACE: r"\S",
    }[value]


def examples(tree: Any, least: int = 0) -> list[str]:
    """Short texts that a part of an expression fits; repeats are taken as seldom as they may be, or `least` times."""
    made = [""]
    for node in tree:
        ways = _of_node(node, least) or [""]
        many = max(len(made), len(ways))
        made = [made[number % len(made)] + ways[number % len(ways)] for number in range(min(many, _WAYS))]
    return list(dict.fromkeys(made))


def _of_node(node: Any, least: int) -> list[str]:
    kind, value = node
    if kind is op.LITERAL:
        return [chr(value)]
    if kind is op.NOT_LITERAL:
        return ["a" if value != ord("a") else "b"]
    if kind is op.ANY:
        return ["a", "<"]
    if kind is op.IN:
        return _of_set(value)
    if kind in (op.MAX_REPEAT, op.MIN_REPEAT, op.POSSESSIVE_REPEAT):
        low, high, body = value
        return [one * min(max(low, least), high) for one in examples(body, least)]
    if kind is op.SUBPATTERN:
        return examples(value[-1], least)
    if kind is op.ATOMIC_GROUP:
        return examples(value, least)
    if kind is op.BRANCH:
        return [one for branch in value[1] for one in examples(branch, least)[:3]]
    if kind is op.GROUPREF:
        return ["script"]
    return [""]


def _repeats(tree: Any, least: int, before: str = "") -> Iterator[tuple[str, Any]]:
    """Each repeat that may be long, with a text that leads to it."""
    for node in tree:
        kind, value = node
        if kind in (op.MAX_REPEAT, op.MIN_REPEAT, op.POSSESSIVE_REPEAT):
            if value[1] > MANY:
                yield before, value[2]
            yield from _repeats(value[2], least, before)
        elif kind is op.SUBPATTERN:
            yield from _repeats(value[-1], least, before)
        elif kind is op.ATOMIC_GROUP:
            yield from _repeats(value, least, before)
        elif kind is op.BRANCH:
            for branch in value[1]:
                yield from _repeats(branch, least, before)
        before += (_of_node(node, least) or [""])[0]


def _beginnings(tree: Any, before: str = "") -> Iterator[str]:
    """Texts that an expression fits up to some place in it, in each of its branches."""
    nodes = list(tree)
    for size, (kind, value) in enumerate(nodes, 1):
        for least in (0, 1, 2):
            yield from (before + text for text in examples(nodes[:size], least))
        inner = value[1] if kind is op.BRANCH else [value[-1]] if kind is op.SUBPATTERN else []
        for branch in inner:
            yield from _beginnings(branch, before + examples(nodes[: size - 1])[0])


def pumps(pattern: re.Pattern[Any]) -> list[tuple[str, str, str]]:
    """Beginnings, pumped parts and ends; a text of any length is a beginning, the part so many times, and an end."""
    if isinstance(pattern.pattern, str):
        tree = parser.parse(pattern.pattern, pattern.flags)
    else:
        tree = parser.parse(pattern.pattern.decode("latin-1"), pattern.flags)
    found: dict[tuple[str, str, str], None] = {}
    beginnings = list(_beginnings(tree))
    parts = dict.fromkeys(
        (before, text)
        for reach in (0, 1)
        for before, body in _repeats(tree, reach)
        for least in (0, 1, 2)
        for text in examples(body, least)
        if text
    )
    for before, part in parts:
        for end in _ENDS:
            found[before, part, end] = None
    for text in dict.fromkeys(filter(None, beginnings)):
        for end in ("", "\0", "\n"):
            found["", text, end] = None
            found["", text + " ", end] = None
    for before, part in islice(parts, 40):
        found["", before + part, "\0"] = None
        for _, other in islice(parts, 12):
            if part != other:
                found[before, part + other, "\0"] = None
    return list(found)


@contextmanager
def _at_most(seconds: float) -> Iterator[None]:
    def stop(*_: object) -> None:
        raise TooLong

    before = signal.signal(signal.SIGALRM, stop)
    signal.setitimer(signal.ITIMER_REAL, seconds)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)


def cost(work: Callable[[], object], idle: float = 0.0, most: float = 20.0) -> float:
    """Least CPU seconds of two runs, of one where that is below `idle`; TooLong where one takes over `most` seconds.

    Nothing is collected meanwhile: how long a collection takes goes by all that the process holds, not by the work.
    """
    best = float("inf")
    collected = gc.isenabled()
    gc.disable()
    try:
        for _ in range(2):
            start = time.thread_time()
            with _at_most(most):
                work()
            best = min(best, time.thread_time() - start)
            if best < idle or best > 0.05:
                break
    finally:
        if collected:
            gc.enable()
    return best


def growth(
    work: Callable[[int], Callable[[], object]],
    sizes: tuple[int, int],
    idle: float = 0.002,
    worst: float = 0.0,
    tries: int = 1,
    length: Callable[[int], int] = int,
) -> float:
    """By how much the work grows with each doubling of its length, from the smaller size to the larger.

    `work` makes the work for a size, `length` says how long its text is. What takes less than `idle` seconds at the
    larger size counts as linear. What seems to grow by more than `worst` is measured anew, `tries` times in all, and
    the least of each size is taken: a busy machine makes a measure longer, never shorter.
    """
    first, largest = sizes
    doublings = math.log2(length(largest) / length(first))
    small = large = float("inf")
    found = 1.0
    for _ in range(tries):
        try:
            large = min(large, cost(work(largest), idle, most=3.0))
        except TooLong:
            return float("inf")
        if large < idle:
            return 1.0
        small = min(small, max(cost(work(first)), 1e-6))
        found = (large / small) ** (1 / doublings)
        if found <= worst:
            break
    return found


def least_growth(
    work: Callable[[int], Callable[[], object]],
    sizes: tuple[int, int],
    worst: float,
    idle: float = 0.002,
    length: Callable[[int], int] = int,
) -> float:
    """The growth, measured up to six times while it seems too much."""
    return growth(work, sizes, idle, worst, 6, length)
