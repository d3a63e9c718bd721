"""Values as JSON text (RFC 8259), indented by one blank a level: quicker than the standard library, which writes
indented text without its C code. What the values mean is decided in render/as_json.py.
"""

from __future__ import annotations

import json
from collections.abc import Callable
from json.encoder import encode_basestring as quoted
from typing import Any

_ENCODER = json.JSONEncoder(ensure_ascii=False, default=str)
_KEPT = 20_000
"""So many pieces of text are put together before they are written."""


def one_line(value: Any) -> str:
    """JSON text without a line break in it."""
    return _ENCODER.encode(value)


def write_indented(value: Any, write: Callable[[str], object]) -> None:
    """Hand the indented JSON text of a value to `write`, piece by piece."""
    writer = _Writer(write)
    writer.add(value, "\n")
    writer.flush()


class _Writer:
    """Keeps pieces of text, and hands them on once they are many."""

    def __init__(self, write: Callable[[str], object]) -> None:
        self._write = write
        self._pieces: list[str] = []

    def flush(self) -> None:
        self._write("".join(self._pieces))
        self._pieces.clear()

    def add(self, value: Any, line: str) -> None:
        """Add a value; `line` is the line break with the indentation of what holds it."""
        if isinstance(value, dict) and value:
            inner = line + " "
            before = "{" + inner
            for key, held in value.items():
                self._add_member(f"{before}{_key(key)}: ", held, inner)
                before = "," + inner
            self._close(line + "}")
        elif isinstance(value, (list, tuple)) and value:
            inner = line + " "
            before = "[" + inner
            for held in value:
                self._add_member(before, held, inner)
                before = "," + inner
            self._close(line + "]")
        else:
            self._pieces.append(_scalar(value))

    def _add_member(self, before: str, held: Any, line: str) -> None:
        if isinstance(held, str):
            self._pieces.append(before + quoted(held))
        elif isinstance(held, (dict, list, tuple)) and held:
            self._pieces.append(before)
            self.add(held, line)
        else:
            self._pieces.append(before + _scalar(held))

    def _close(self, closing: str) -> None:
        self._pieces.append(closing)
        if len(self._pieces) > _KEPT:
            self.flush()


def _key(key: object) -> str:
    return quoted(key) if isinstance(key, str) else quoted(one_line(key).strip('"'))


def _scalar(value: object) -> str:
    """A value without members: a string, a number, true, false, null, an empty list or object."""
    if value is None:
        return "null"
    if value is True or value is False:
        return "true" if value else "false"
    if type(value) is int:
        return int.__repr__(value)
    if value == [] or value == ():
        return "[]"
    return one_line(value)
