"""SCIM 2.0 users and groups (RFC 7643 §4.1, §4.2) as a ListResponse (RFC 7644 §3.4.2), a list, or one resource."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any

from trace_lens.common.octets import as_utf8
from trace_lens.common.personal import person
from trace_lens.common.sentences import Person
from trace_lens.workspace.account_rows import AccountRow, ListError

Resource = dict[str, Any]


def read_users(data: bytes, attribute: str | None = None) -> list[AccountRow]:
    """Accounts; `attribute` names the one that holds the account's name, else `userName`. Raises ListError."""
    wanted = attribute or "userName"
    rows = []
    for line, document in _resources(data):
        if "members" in document and "userName" not in document:
            continue
        name = _text(_attribute(document, wanted))
        if not name:
            continue
        active = document.get("active", True)
        if not isinstance(active, bool):
            raise ListError(f"active is {active!r}; it must be true or false", line)
        login = _text(document.get("userName"))
        rows.append(
            AccountRow(
                user=Person(name),
                line=line,
                email=person(_text(document.get("emails"))),
                login=person(login if login != name else None),
                id=person(_text(document.get("id"))),
                active=active,
                groups=tuple(filter(None, (_text(group) for group in _many(document.get("groups"))))),
            )
        )
    return rows


def read_groups(data: bytes) -> Iterator[tuple[tuple[str, ...], list[str]]]:
    """Each group's names (displayName and id) with every name of its members. Raises ListError."""
    for _, document in _resources(data):
        if "members" not in document and "displayName" not in document:
            continue
        names = tuple(filter(None, (_text(document.get("displayName")), _text(document.get("id")))))
        inside = [
            text
            for member in _many(document.get("members"))
            for key in ("value", "display")
            if isinstance(member, dict) and (text := _text(member.get(key)))
        ]
        yield names, inside


def _resources(data: bytes) -> Iterator[tuple[int, Resource]]:
    """Every resource with the line that it begins on."""
    try:
        text = as_utf8(data).decode("utf-8-sig")
        whole = json.loads(text)
    except UnicodeDecodeError as error:
        raise ListError(f"it is not UTF-8 text (byte {error.start})") from None
    except json.JSONDecodeError as error:
        raise ListError(f"it is no JSON: {error.msg}", error.lineno) from None
    except RecursionError:
        raise ListError("it is nested too deep") from None
    listed = whole.get("Resources", whole.get("resources")) if isinstance(whole, dict) else whole
    if listed is None and isinstance(whole, dict) and ("userName" in whole or "members" in whole):
        listed = [whole]
    if not isinstance(listed, list):
        raise ListError("it is no SCIM ListResponse: there is no list of Resources in it")
    lines = _lines(text, len(listed))
    for line, item in zip(lines, listed, strict=True):
        if not isinstance(item, dict):
            raise ListError("a resource is no JSON object", line)
        yield line, item


def _lines(text: str, count: int) -> list[int]:
    """The line that each member of the list begins on; 1 for all where the list's place cannot be found."""
    key = text.find('"Resources"')
    position = text.find("[", max(key, 0)) + 1
    decoder = json.JSONDecoder()
    lines: list[int] = []
    line, seen = 1, 0
    while position and len(lines) < count:
        while position < len(text) and text[position] in " \t\r\n,":
            position += 1
        line += text.count("\n", seen, position)
        seen = position
        lines.append(line)
        try:
            position = decoder.raw_decode(text, position)[1]
        except ValueError:
            break
    return lines if len(lines) == count else [1] * count


def _attribute(resource: Resource, path: str) -> Any:
    """An attribute by name, by `schema:name` (RFC 7644 §3.10) or by a dotted path."""
    if path in resource:
        return resource[path]
    schema, _, name = path.rpartition(":")
    if schema in resource and isinstance(resource[schema], dict):
        return _attribute(resource[schema], name)
    head, dot, rest = path.partition(".")
    inner = resource.get(head)
    if not dot:
        return next((value for key, value in resource.items() if key.casefold() == path.casefold()), None)
    if isinstance(inner, list):
        inner = _primary(inner)
    return _attribute(inner, rest) if isinstance(inner, dict) else None


def _text(value: Any) -> str | None:
    """A simple value as text; of several, the primary one's `value`, else its `display`."""
    if isinstance(value, list):
        value = _primary(value)
    if isinstance(value, dict):
        value = value.get("display") or value.get("value") if "$ref" in value else value.get("value")
    if value is None or isinstance(value, dict | list | bool):
        return None
    return str(value).strip() or None


def _many(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _primary(values: list[Any]) -> Any:
    marked = (value for value in values if isinstance(value, dict) and value.get("primary") is True)
    return next(marked, values[0] if values else None)
