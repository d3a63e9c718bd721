"""Regular expressions from settings, run by an engine whose time grows with the length of the text only.

Whoever writes the settings may be a stranger, or may not know which expression takes for ever on which name. The engine
has no lookaround and no back references; an expression that needs them is told when the settings are read.
"""

from __future__ import annotations

import re
from functools import lru_cache
from typing import Any

_CLASSES = {
    "w": r"\pL\pN\pM_",
    "d": r"\p{Nd}",
    "s": r"\s\x{85}\x{a0}\x{1680}\x{2000}-\x{200a}\x{2028}\x{2029}\x{202f}\x{205f}\x{3000}",
}
_NEGATED = {name.upper(): members for name, members in _CLASSES.items()}


class NotUsable(ValueError):
    """An expression that is none, or that cannot be run in time bounded by the text; the message says which."""


@lru_cache(maxsize=512)
def compiled(pattern: str) -> Any:
    """An expression, with `search`, `sub` and `groupindex` as those of `re`. Raises NotUsable."""
    try:
        re.compile(pattern)
    except (re.error, RecursionError, OverflowError) as error:
        raise NotUsable(f"{pattern!r} is not a regular expression: {error}") from None
    import re2

    options = re2.Options()
    options.log_errors = False
    try:
        return re2.compile(_as_unicode(pattern), options)
    except re2.error as error:
        said = error.args[0] if error.args else ""
        words = said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
        raise NotUsable(
            f"{pattern!r} cannot be run in time that the length of a name bounds ({words}); write it without "
            "lookahead, lookbehind, back references, and possessive or atomic parts"
        ) from None


def _as_unicode(pattern: str) -> str:
    r"""The expression with `\w`, `\d` and `\s` in all scripts, and `\Z`, spelled as the engine knows them."""
    written: list[str] = []
    in_class = False
    position = 0
    while position < len(pattern):
        char = pattern[position]
        if char == "\\" and position + 1 < len(pattern):
            name = pattern[position + 1]
            position += 2
            if name in _CLASSES:
                written.append(_CLASSES[name] if in_class else f"[{_CLASSES[name]}]")
            elif name in _NEGATED and not in_class:
                written.append(f"[^{_NEGATED[name]}]")
            else:
                written.append(r"\z" if name == "Z" else char + name)
            continue
        if char == "[" and not in_class:
            in_class = True
            first = position + 1 + (pattern[position + 1 : position + 2] == "^")
            if pattern[first : first + 1] == "]":
                written.append(pattern[position:first] + r"\]")
                position = first + 1
                continue
        elif char == "]" and in_class:
            in_class = False
        written.append(char)
        position += 1
    return "".join(written)
