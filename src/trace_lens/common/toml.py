"""Values in TOML's inline form, and whole settings files, for what the program writes or proposes."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Mapping
from datetime import date, time

_BARE = re.compile(r"[A-Za-z0-9_-]+")


def inline(value: object, *, literal: bool = False) -> str:
    """A value in TOML's inline form (TOML 1.0).

    With `literal` a text stands in single quotes where that spares escapes: good in a file, bad on a command line.
    """
    if isinstance(value, Mapping):
        pairs = (f"{key_of(key)} = {inline(item, literal=literal)}" for key, item in value.items())
        return "{ " + ", ".join(pairs) + " }"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(inline(item, literal=literal) for item in value) + "]"
    if isinstance(value, str):
        plain = "'" not in value and all(char.isprintable() for char in value)
        return f"'{value}'" if literal and "\\" in value and plain else _quoted(value)
    if isinstance(value, date | time):
        return value.isoformat()
    return json.dumps(value)


def key_of(name: object) -> str:
    """A key as TOML writes it: bare where it can be, else in quotes."""
    text = str(name)
    return text if _BARE.fullmatch(text) else _quoted(text)


def _quoted(text: str) -> str:
    """A basic string: as JSON writes it, but that TOML takes no DEL unescaped (TOML 1.0, String)."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007F")


def document(table: Mapping[str, object], path: tuple[str, ...] = ()) -> Iterable[str]:
    """The lines of a settings file: plain keys first, then each table under its header."""
    nested = {key: value for key, value in table.items() if isinstance(value, Mapping) or _tables(value)}
    width = max((len(key_of(key)) for key in table if key not in nested), default=0)
    for key, value in table.items():
        if key not in nested:
            yield f"{key_of(key).ljust(width)} = {inline(value, literal=True)}"
    for key, value in nested.items():
        header = ".".join(key_of(text) for text in (*path, key))
        for item in value if isinstance(value, list) else [value]:
            yield ""
            yield f"[[{header}]]" if isinstance(value, list) else f"[{header}]"
            if isinstance(item, Mapping):
                yield from document(item, (*path, key))


def _tables(value: object) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(item, Mapping) for item in value)
