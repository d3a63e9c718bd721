"""Comparing an identifier of the message with one on record."""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.common.difference import is_near
from trace_lens.common.findings import Severity


def differs(expected: str, actual: str) -> Severity | None:
    """None where two identifiers are equal to the letter; a risk where only white space around them differs.

    The schema collapses white space in an anyURI (XML Schema Part 2 §3.2.17), but many applications do not.
    """
    if expected == actual:
        return None
    return Severity.RISK if expected.strip() == actual.strip() else Severity.BREAK


def closest(actual: str, choices: Iterable[str]) -> str:
    """The choice that is equal, else one that was surely meant, else the one with the longest common beginning.

    Raises ValueError where there is no choice at all.
    """
    options = list(choices)
    if actual in options:
        return actual
    near = [option for option in options if is_near(option, actual)]
    return max(near or options, key=lambda option: _common(option, actual))


def _common(left: str, right: str) -> int:
    count = 0
    for a, b in zip(left, right, strict=False):
        if a != b:
            break
        count += 1
    return count
