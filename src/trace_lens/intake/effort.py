"""How much may be tried of a text before it is refused."""

from __future__ import annotations

from trace_lens.common import limits
from trace_lens.common.limits import Refused

_AT_LEAST = 65_536
_LEAST_STEP = 64


def most_messages(size: int, number: int = limits.BYTES_OF_MESSAGE) -> int:
    """How many messages are taken from a text of so many bytes, if one has at least `each`."""
    return limits.MESSAGES_LEAST + size // number


class Effort:
    """How many characters of a text may still be gone through to see whether something ends that began.

    What is whole is read once; only a text made of ever new beginnings without an end is gone through again and again.
    """

    def __init__(self, text: str) -> None:
        self.barren_until = 0
        """Up to here no full stop stands, so that no token is whole that begins before it."""
        self._left = limits.TRIED_TIMES * (len(text) + _AT_LEAST)

    def spend(self, characters: int) -> None:
        """Count characters that were tried, at least so many as a step costs. Raises Refused where too many were."""
        self._left -= max(characters, _LEAST_STEP)
        if self._left < 0:
            raise Refused(
                "it holds too many beginnings of messages without an end: its text was gone through "
                f"{limits.TRIED_TIMES} times"
            )
