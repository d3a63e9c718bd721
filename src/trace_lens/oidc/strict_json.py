"""JSON as JOSE demands it: member names once, depth and size bounded, and what looks odd is told, not guessed at.

Sources: RFC 8259 §4, §6; RFC 7515 §4 and RFC 7519 §4 (duplicate names), RFC 7493 §2.2 (numbers beyond 2^53).
"""

from __future__ import annotations

import json
from typing import Any

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.octets import as_utf8
from trace_lens.common.tuples import NamedTuple

_BRACKETS = expression(r"[{}\[\]]")
_EXACT = 2**53


class JsonDamaged(ValueError):
    """The text is no JSON that may be read. `truncated` says that it stops before its end; `line` is from 1."""

    def __init__(self, reason: str, *, truncated: bool = False, line: int = 1) -> None:
        super().__init__(reason)
        self.reason = reason
        self.truncated = truncated
        self.line = line


class Json(NamedTuple):
    """A JSON value, the member names that stand twice in one object, and the numbers that lose their last digits."""

    value: Any
    duplicates: tuple[str, ...] = ()
    inexact: tuple[str, ...] = ()


def read_json(data: bytes) -> Json:
    """Read UTF-8 JSON; of a member that stands twice the last counts, and it is told. Raises JsonDamaged."""
    try:
        text = as_utf8(data).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise JsonDamaged(f"it is not UTF-8 (byte {error.start})") from None
    if _depth(text) > limits.JSON_DEPTH:
        raise JsonDamaged(f"it is nested more than {limits.JSON_DEPTH} deep")
    twice: list[str] = []
    inexact: list[str] = []

    def pairs(members: list[tuple[str, Any]]) -> dict[str, Any]:
        made = dict(members)
        if len(made) < len(members):
            seen: set[str] = set()
            twice.extend(name for name, _ in members if name in seen or seen.add(name))  # type: ignore[func-returns-value]
        return made

    def integer(digits: str) -> int:
        if len(digits) > 400:
            raise JsonDamaged(f"it holds a number of {len(digits):,} digits")
        number = int(digits)
        if abs(number) > _EXACT:
            inexact.append(digits)
        return number

    try:
        value = json.loads(text, object_pairs_hook=pairs, parse_int=integer, parse_constant=_no_constant)
    except json.JSONDecodeError as error:
        raise JsonDamaged(
            f"{error.msg[0].lower()}{error.msg[1:]} at line {error.lineno}, column {error.colno}",
            truncated=error.pos >= len(text.rstrip()) or "Unterminated" in error.msg,
            line=error.lineno,
        ) from None
    except RecursionError:
        raise JsonDamaged(f"it is nested more than {limits.JSON_DEPTH} deep") from None
    return Json(value, tuple(dict.fromkeys(twice)), tuple(inexact))


def _no_constant(name: str) -> float:
    raise JsonDamaged(f"it holds {name}, which is no number of JSON")


def _depth(text: str) -> int:
    """How deep brackets are nested, those inside texts counted too: an upper bound that costs little."""
    deepest = depth = 0
    brackets = _BRACKETS.finditer(text) if text.count("{") + text.count("[") > limits.JSON_DEPTH else ()
    for match in brackets:
        if depth > limits.JSON_DEPTH:
            break
        if match[0] in "{[":
            depth += 1
            deepest = max(deepest, depth)
        else:
            depth -= 1
    return deepest
