"""Messages laid open in the terminal: what it is, the values looked for first, then the whole, element by element."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from typing import Any

from trace_lens.common.kinds import KIND_WORDS
from trace_lens.common.masking import Masks, masked, visible
from trace_lens.diagnosis.laying_open import LaidOpen
from trace_lens.render.terminal import pages
from trace_lens.render.terminal.diagnosis import claim_lines
from trace_lens.render.terminal.pages import BLANK, Line, Span, line, prose

_ABBREVIATED = {"X509Certificate", "DigestValue"}


def opened_pages(messages: Iterable[LaidOpen], unreadable: Iterable[tuple[str, str]], masks: Masks) -> Iterator[Line]:
    """All messages, then the sources that were not read, or not whole."""
    messages = list(messages)
    read = {laid.opened.source for laid in messages}
    for number, message in enumerate(messages):
        if number:
            yield BLANK
            yield line(Span("─" * pages.width(), "quiet"))
        yield from _one(message, masks)
    for source, because in unreadable:
        yield BLANK
        what = "not all of it was read" if source in read else "nothing could be read"
        yield from prose(f"{source}: {what}; {because}.", 0, "break")


def _one(laid: LaidOpen, masks: Masks) -> Iterator[Line]:
    message = laid.opened
    name = KIND_WORDS.get(message.kind, message.kind)
    through = f", through {' → '.join(message.layers)}" if message.layers else ""
    where = f", {message.where}" if message.where else ""
    yield line(Span(name, "head"), f" in {visible(message.source)}{visible(where)}{through}")
    for finding in message.findings:
        yield from prose(f"{finding.code}: {finding.detail}", 2, finding.severity)
    rows = [(key, value) for key, value in masked(message.summary, masks).items() if _tells(key, value)]
    for key, value in rows:
        if key == "requested_attributes":
            text = ", ".join(item["name"] + (" (required)" if item["required"] else "") for item in value)
            yield from pages.row(key.replace("_", " "), text, column=24)
        elif key not in ("attributes", "endpoints", "addresses", "keys") or not _is_tables(value):
            text = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
            text = f"{value:,} bytes" if key == "size" and isinstance(value, int) else text
            yield from pages.row(key.replace("_", " "), text, column=24)
    attributes = message.summary.get("attributes")
    if laid.claims:
        yield BLANK
        yield line(Span("Claims", "head"), f", as {visible(laid.app or '')} reads them")
        yield from claim_lines(laid.claims)
    elif attributes:
        yield BLANK
        yield line(Span("Attributes", "head"))
        yield from pages.table(("", ""), [(item, ", ".join(values)) for item, values in attributes.items()])
    addresses = message.summary.get("addresses")
    if addresses:
        yield BLANK
        yield line(Span("Addresses", "head"))
        yield from pages.table(("", ""), [(address["purpose"], address["location"]) for address in addresses])
    keys = message.summary.get("keys")
    if keys and _is_tables(keys):
        yield BLANK
        yield line(Span("Keys", "head"))
        heads = ("key_id", "type", "use", "algorithm", "thumbprint", "problem")
        yield from pages.table(
            ("kid", "kty", "use", "alg", "thumbprint", ""), [[str(key[name] or "") for name in heads] for key in keys]
        )
    endpoints = message.summary.get("endpoints")
    if endpoints:
        yield BLANK
        yield line(Span("Endpoints", "head"))
        yield from pages.table(
            ("", "", ""), [(endpoint["purpose"], endpoint["binding"], endpoint["location"]) for endpoint in endpoints]
        )
    if "hops" in message.content:
        yield BLANK
        yield line(Span("Hops", "head"))
        names = ("where", "method", "status", "url", "carries")
        yield from pages.table(
            ("", "", "", "", "carries"),
            [
                [", ".join(value) if isinstance(value := item[name], list) else str(value or "") for name in names]
                for item in message.content["hops"]
            ],
        )
    if message.content.get("cookies"):
        yield BLANK
        yield line(Span("Cookies set", "head"))
        cookies = [
            (
                item["where"],
                item["name"],
                item["attributes"] + (f"  REFUSED: {item['refused']}" if item["refused"] else ""),
            )
            for item in message.content["cookies"]
        ]
        yield from pages.table(("", "", ""), cookies)
    if "entities" in message.content:
        yield BLANK
        yield line(Span("Entities", "head"))
        rows = [(item["entity_id"], ", ".join(item["roles"])) for item in message.content["entities"]]
        yield from pages.table(("", ""), rows)
        rest = message.summary.get("entities", 0) - len(rows)
        if rest > 0:
            yield line(f"  and {rest:,} more")
    content = masked(message.content, masks)
    for part, title in (("header", "Header"), ("claims", "Claims, as sent")):
        if isinstance(content.get(part), dict) and content[part]:
            yield BLANK
            yield line(Span(title, "head"))
            yield from _members(content[part], content.get("moments", {}) if part == "claims" else {})
    if "parameters" in content:
        yield BLANK
        yield line(Span("Parameters", "head"))
        yield from pages.table(("", ""), [(item["name"], item["value"]) for item in content["parameters"]])
    if "name" in message.content and "namespace" in message.content:
        yield BLANK
        yield line(Span("The whole message", "head"))
        yield from _tree(message.content, 2, masks)


def _is_tables(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and isinstance(value[0], dict)


def _members(values: dict[str, Any], moments: dict[str, str]) -> Iterator[Line]:
    """Members of a JSON object, one a line; moments also in words."""
    width = max(map(len, values)) + 2
    for name, value in values.items():
        text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
        text += f"  ({moments[name]})" if name in moments else ""
        yield from pages.row(name, text, column=max(12, min(width, 30)))


def _tells(key: str, value: Any) -> bool:
    """Whether a value of the summary is worth a line: something is there, or a number that counts nothing."""
    return value not in (None, [], {}, "") and value is not False and not (value == 0 and key.endswith("assertions"))


def _tree(element: dict[str, Any], indent: int, masks: Masks) -> Iterator[Line]:
    attributes = [f'{key}="{visible(value)}"' for key, value in element.get("attributes", {}).items()]
    text = visible(" ".join(masked(element.get("text", ""), masks).split()))
    if element["name"] in _ABBREVIATED and len(text) > 32:
        text = f"{text[:16]}… ({len(text):,} characters)"
    head = Span(element["name"], "head")
    beside = "".join(f"  {attribute}" for attribute in attributes)
    if indent + len(head.text) + len(beside) + len(text) <= pages.width():
        yield line(" " * indent, head, Span(beside, "quiet"), Span(f"  {text}" if text else ""))
    else:
        yield line(" " * indent, head)
        for attribute in attributes:
            yield line(" " * (indent + 4), Span(attribute, "quiet"))
        if text:
            yield line(" " * (indent + 4), text)
    for child in element.get("children", ()):
        yield from _tree(child, indent + 2, masks)
