"""TOML as the program writes it, by tomlkit: single values for proposals, and whole files that keep comments and order.

tomlkit takes longer to import than a diagnosis may take, so this module imports it where something is written.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from tomlkit.items import Item
    from tomlkit.toml_document import TOMLDocument


def inline(value: object, *, literal: bool = False) -> str:
    """A value in TOML's inline form (TOML 1.0).

    With `literal` a text stands in single quotes where that spares escapes: good in a file, bad on a command line.
    """
    return inline_item(value, literal=literal).as_string()


def inline_item(value: object, *, literal: bool = False) -> Item:
    """A value as an item of a document: lists and tables on one line."""
    import tomlkit

    if isinstance(value, Mapping):
        table = tomlkit.inline_table()
        for key, item in value.items():
            table.append(str(key), inline_item(item, literal=literal))
        return table
    if isinstance(value, list | tuple):
        array = tomlkit.array()
        for item in value:
            array.append(inline_item(item, literal=literal))
        return array
    if isinstance(value, str):
        plain = "'" not in value and all(char.isprintable() for char in value)
        return tomlkit.string(value, literal=literal and "\\" in value and plain)
    return tomlkit.item(value)


def document_of(table: Mapping[str, Any]) -> TOMLDocument:
    """A new settings file: plain keys first, then each table under its header."""
    import tomlkit

    made = tomlkit.document()
    fill(made, table)
    return made


def fill(holder: Any, table: Mapping[str, Any]) -> None:
    """Put values into a document or a table of one, each where its kind belongs: plain keys before tables."""
    import tomlkit

    for key, value in table.items():
        if not _is_table(value) and not _are_tables(value):
            holder.append(key, inline_item(value, literal=True))
    for key, value in table.items():
        if _is_table(value):
            holder.append(key, _table(value))
        elif _are_tables(value):
            tables = tomlkit.aot()
            for item in value:
                tables.append(_table(item))
            holder.append(key, tables)


def _table(value: Mapping[str, Any]) -> Any:
    import tomlkit

    made = tomlkit.table()
    fill(made, value)
    return made


def _is_table(value: object) -> bool:
    return isinstance(value, Mapping)


def _are_tables(value: object) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(item, Mapping) for item in value)
