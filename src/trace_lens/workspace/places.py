"""Where in a TOML file a key stands, for errors and for evidence: a light scan that only runs when asked."""

from __future__ import annotations

from functools import lru_cache

from trace_lens.common.expressions import expression

_HEADER = expression(r"^\s*+(\[{1,2})([^\[\]]++)\]{1,2}")
_KEY = expression(r"""^\s*((?:[\w\-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w\-]+|"[^"]*"|'[^']*'))*)\s*=""")
_WORD = expression(r"""[\w\-]+|"[^"]*"|'[^']*'""")
_STRINGS = expression(r'"(?:[^"\\]|\\.)*"|\'[^\']*\'')


def line_of(text: str, path: tuple[str | int, ...]) -> int:
    """The line (from 1) of a key, given as a path of keys and list positions; the nearest enclosing one it finds."""
    lines = _index(text)
    while path:
        if path in lines:
            return lines[path]
        path = path[:-1]
    return 1


@lru_cache(maxsize=512)
def _index(text: str) -> dict[tuple[str | int, ...], int]:
    found: dict[tuple[str | int, ...], int] = {}
    counts: dict[tuple[str | int, ...], int] = {}
    table: tuple[str | int, ...] = ()
    closing: str | None = None
    depth = 0
    for number, line in enumerate(text.splitlines(), 1):
        if closing:
            if closing in line:
                closing = None
            continue
        bare = _STRINGS.sub('""', line).split("#", 1)[0]
        if depth > 0:
            depth += bare.count("[") + bare.count("{") - bare.count("]") - bare.count("}")
            continue
        header = _HEADER.match(line)
        if header:
            table = _resolve(_words(header[2].strip()), counts, header[1] == "[[")
            found.setdefault(table, number)
            continue
        key = _KEY.match(line)
        if not key:
            continue
        found.setdefault(table + _words(key[1]), number)
        value = line[key.end() :]
        for quotes in ('"""', "'''"):
            if value.count(quotes) == 1:
                closing = quotes
        if not closing:
            rest = bare.split("=", 1)[-1]
            depth = rest.count("[") + rest.count("{") - rest.count("]") - rest.count("}")
    return found


def _words(text: str) -> tuple[str, ...]:
    return tuple(word.strip("\"'") for word in _WORD.findall(text))


def _resolve(words: tuple[str, ...], counts: dict[tuple[str | int, ...], int], appends: bool) -> tuple[str | int, ...]:
    """The path of a table header: arrays of tables get the position of their latest element."""
    path: tuple[str | int, ...] = ()
    for position, word in enumerate(words):
        path = (*path, word)
        last = position == len(words) - 1
        if last and appends:
            counts[path] = counts.get(path, -1) + 1
        if path in counts:
            path = (*path, counts[path])
    return path
