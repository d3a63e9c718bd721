"""The words of a shell command in linear time (POSIX.1-2024, Shell Command Language, section 2.2, Quoting)."""

from __future__ import annotations

import re

from trace_lens.common.expressions import expression

_PIECE = expression(
    r"(?P<blanks>\s++)"
    r"|(?P<plain>[^\s'\"\\$]++)"
    r"|\$'(?P<ansi>(?:[^'\\]++|\\.)*+)'"
    r"|'(?P<single>[^']*+)'"
    r"|\"(?P<double>(?:[^\"\\]++|\\.)*+)\""
    r"|\\(?P<escaped>.)"
    r"|(?P<dollar>\$)",
    re.DOTALL,
)
_ESCAPE = expression(r"\\(u[0-9A-Fa-f]{1,4}|x[0-9A-Fa-f]{1,2}|.)", re.DOTALL)
_ESCAPE_IN_DOUBLE = expression(r"\\(?:([\"\\$`])|\n)")
_CONTROLS = {"n": "\n", "t": "\t", "r": "\r"}


def shell_words(text: str) -> list[str]:
    """The words of a command with their quotes taken away; nothing is expanded.

    Raises ValueError where a quote has no end or the text ends in a backslash.
    """
    words: list[str] = []
    parts: list[str] | None = None  # of the word that is being read
    position = 0
    while position < len(text):
        match = _PIECE.match(text, position)
        if match is None:
            raise ValueError(f"the quote at character {position + 1} has no end")
        position = match.end()
        kind, value = str(match.lastgroup), match[str(match.lastgroup)]
        if kind == "blanks":
            if parts is not None:
                words.append("".join(parts))
            parts = None
            continue
        if parts is None:
            parts = []
        if kind == "ansi":
            value = _ESCAPE.sub(_escaped, value)
        elif kind == "double":
            value = _ESCAPE_IN_DOUBLE.sub(lambda escape: escape[1] or "", value)
        parts.append("" if kind == "escaped" and value == "\n" else value)
    if parts is not None:
        words.append("".join(parts))
    return words


def _escaped(match: re.Match[str]) -> str:
    """An escape of a `$'…'` string."""
    word = match[1]
    return chr(int(word[1:], 16)) if word[0] in "ux" and len(word) > 1 else _CONTROLS.get(word[0], word)
