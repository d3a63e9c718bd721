"""What one value of an attempt means when it is held against that of another."""

from __future__ import annotations

from trace_lens.common.tuples import NamedTuple

_SET = "one side or the other sets it"
IDS, MOMENTS, SIGNATURES = "ids", "moments", "signature values"


class Item(NamedTuple):
    """One value, or several, of an attempt.

    `noise` names the kind of what always differs (None for the rest). `codes` are the findings that are about it,
    `matters` says that a difference counts whatever the findings are, `personal` that people may differ in it,
    `only_if_both` that a capture without it says nothing.
    """

    name: str
    values: tuple[str, ...]
    codes: tuple[str, ...] = ()
    matters: bool = True
    why: str = _SET
    personal: bool = False
    matters_if_missing: bool = False
    only_if_both: bool = False
    noise: str | None = None


def some(*values: str | None) -> tuple[str, ...]:
    """The values that are there."""
    return tuple(value for value in values if value)
