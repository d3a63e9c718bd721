"""Settings merged into a settings file: what is there stays, with its comments and its order.

Keys are dotted (`application.entity_id`); `claims` are merged by name. Values that differ are differences, told one by
one; lists of addresses are widened, not replaced.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from trace_lens.common.masking import visible
from trace_lens.common.toml import document_of, fill, inline, inline_item
from trace_lens.common.tuples import NamedTuple

WIDENED = (
    "application.acs_urls",
    "application.redirect_uris",
    "application.seen_certificates",
    "application.trusted_certificates",
    "provider_setup.redirect_uris",
    "certificates",
    "email_domains",
)
"""Lists to which what is seen anew is added."""
CLAIMS = "claims"
_LONGEST_COMMENT = 300


def nested(settings: Mapping[str, Any]) -> dict[str, Any]:
    """A settings table from values by dotted key."""
    table: dict[str, Any] = {}
    for key, value in settings.items():
        holder = table
        *path, last = key.split(".")
        for part in path:
            holder = holder.setdefault(part, {})
        holder[last] = value
    return table


class Difference(NamedTuple):
    """One key whose value would change; None stands for a key that is not set. The values are in TOML's form."""

    key: str
    before: str | None
    after: str


def item_of(holder: Any, key: str) -> Any:
    """An entry of a document or a table as tomlkit keeps it; true and false are plain values to all other access.

    Of a table whose parts stand apart in the file these two cannot be had: None.
    """
    held = holder.value if hasattr(holder, "value") and hasattr(holder.value, "item") else holder
    if hasattr(held, "item"):
        return held.item(key)
    return held[key] if hasattr(held[key], "comment") else None


def _put(holder: Any, key: str, item: Any) -> None:
    """A new entry at the end of a document or a table, also of one whose parts stand apart in the file."""
    if hasattr(holder, "append"):
        holder.append(key, item)
    else:
        holder[key] = item


def on_one_line(words: str) -> str:
    """A comment that stays one: whatever it quotes, no line ends within it, and nothing in it is unseen."""
    return " ".join(visible(words).split())[:_LONGEST_COMMENT]


def differences(raw: Mapping[str, Any], wanted: Mapping[str, Any]) -> list[Difference]:
    """What would change in a settings file."""
    found = []
    for key, value in wanted.items():
        before = _get(raw, key)
        after = merged_value(key, before, value)
        if after != before:
            found.append(Difference(key, None if before is None else inline(before), inline(after)))
    return found


def merged_value(key: str, before: Any, value: Any) -> Any:
    """The value that a key has in the end: lists of addresses, and claims, are widened, all else is replaced."""
    if before is None:
        return value
    if key == CLAIMS:
        known = {name for claim in before for name in (claim.get("name"), *claim.get("also_as", ()))}
        return [*before, *(claim for claim in value if claim["name"] not in known)]
    if key in WIDENED:
        held = before if isinstance(before, list) else [before]
        return [*held, *(item for item in value if item not in held)]
    return value


def _get(raw: Mapping[str, Any], key: str) -> Any:
    value: Any = raw
    for part in key.split("."):
        value = value.get(part) if isinstance(value, Mapping) else None
    return value


def new_text(wanted: Mapping[str, Any], comments: Mapping[str, str], head: Sequence[str]) -> str:
    """A settings file of its own, with a comment behind each value that has one."""
    document = document_of(nested(wanted))
    _comment(document, comments)
    lines = "".join(f"# {on_one_line(line)}\n" for line in head)
    return (lines + "\n" if lines else "") + document.as_string()


def updated_text(text: str, wanted: Mapping[str, Any], comments: Mapping[str, str]) -> str:
    """A settings file with values put into it; all else stays to the letter."""
    import tomlkit

    document: Any = tomlkit.parse(text)
    for key, value in wanted.items():
        *path, last = key.split(".")
        holder = document
        for part in path:
            if part not in holder:
                _put(holder, part, tomlkit.table())
            holder = holder[part]
        after = merged_value(key, _get(document.unwrap(), key), value)
        if _get(document.unwrap(), key) == after:
            continue
        if key == CLAIMS:
            _add_claims(holder, value)
        elif last in holder:
            holder[last] = inline_item(after, literal=True)
        elif path:
            _put(holder, last, inline_item(after, literal=True))
        else:
            put_at_top(document, last, after)
        if key in comments and key != CLAIMS and (noted := item_of(holder, last)) is not None:
            noted.comment(on_one_line(comments[key]))
    return str(document.as_string())


def put_at_top(document: Any, key: str, value: Any) -> None:
    """A plain key before the tables, where TOML wants it."""
    import tomlkit

    made = tomlkit.document()
    done = False
    for name, item in document.body:
        if not done and name is not None and isinstance(item, tomlkit.items.Table | tomlkit.items.AoT):
            made.append(key, inline_item(value, literal=True))
            done = True
        made.append(name, item) if name is not None else made.add(item)
    if not done:
        made.append(key, inline_item(value, literal=True))
    document.clear()
    document.body[:] = []
    parsed = tomlkit.parse(made.as_string())
    for name, item in parsed.body:
        document.append(name, item) if name is not None else document.add(item)


def _add_claims(document: Any, claims: Sequence[Mapping[str, Any]]) -> None:
    import tomlkit

    if CLAIMS not in document:
        fill(document, {CLAIMS: list(claims)})
        return
    known = {str(claim["name"]) for claim in document[CLAIMS] if "name" in claim}
    for claim in claims:
        if claim["name"] not in known:
            table = tomlkit.table()
            fill(table, claim)
            document[CLAIMS].append(table)


def _comment(document: Any, comments: Mapping[str, str]) -> None:
    """Comments behind values; those of claims stand behind their names."""
    for key, words in comments.items():
        *path, last = key.split(".", 1) if key.startswith(f"{CLAIMS}.") else key.split(".")
        if path == [CLAIMS]:
            for claim in document.get(CLAIMS, ()):
                if claim.get("name") == last:
                    claim["name"].comment(on_one_line(words))
            continue
        holder = document
        for part in path:
            holder = holder.get(part, {})
        if last in holder:
            item_of(holder, last).comment(on_one_line(words))
