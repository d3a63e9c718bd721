"""Masking of secrets: one output, one `Masks`, and the same value always wears the same mask in it.

So equality stays visible while the value does not. Control characters are made visible here too, because no value
from a capture may reach a terminal or a page raw.
"""

from __future__ import annotations

import re
import unicodedata
from typing import Any

from trace_lens.common.expressions import expression

_ODD = expression(r"[^\n -~]")
_INVISIBLE = {"Cc", "Cf", "Cs", "Co", "Cn", "Zl", "Zp", "Zs"}


class Secret(str):
    """A text that may only be shown masked; whoever shows plain data asks for it."""

    __slots__ = ()


class Masks:
    """Hands out masks in order of first appearance.

    `reveal` gives values back unmasked.
    """

    def __init__(self, *, reveal: bool = False) -> None:
        self.reveal = reveal
        self._numbers: dict[str, int] = {}

    def mask(self, value: str) -> str:
        """The mask of a secret: its number and its length, never any part of it."""
        if self.reveal or not value:
            return value
        number = self._numbers.setdefault(value, len(self._numbers) + 1)
        return f"[secret {number}, {len(value)} characters]"


def masked(value: Any, masks: Masks) -> Any:
    """Plain data (lists, dicts, texts, numbers) with every secret text in it masked, white space in it not counted."""
    if isinstance(value, Secret):
        return masks.mask("".join(value.split()))
    if isinstance(value, dict):
        return {key: masked(item, masks) for key, item in value.items()}
    return [masked(item, masks) for item in value] if isinstance(value, list) else value


def escaped(text: str) -> str:
    """JSON text in which what `visible` would show is written as `\\uXXXX`, which means the same to its reader."""
    if (text.isascii() and "\x7f" not in text) or text.replace("\n", "").isprintable():
        return text
    return _ODD.sub(_as_escape, text)


def _as_escape(match: re.Match[str]) -> str:
    char = match[0]
    if unicodedata.category(char) not in _INVISIBLE:
        return char
    units = char.encode("utf-16-be", "surrogatepass").hex()
    return "".join(f"\\u{units[start : start + 4]}" for start in range(0, len(units), 4))


def visible(text: str) -> str:
    """The text with every control, format and unassigned character, and every blank but the common one, as `\\u{…}`.

    Terminal escapes, bidirectional overrides, zero-width characters and no-break spaces all show themselves.
    """
    if text.isascii() and text.isprintable():
        return text
    return "".join(
        char if char == " " or unicodedata.category(char) not in _INVISIBLE else f"\\u{{{ord(char):x}}}"
        for char in text
    )
