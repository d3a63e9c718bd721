"""Messages laid open in the terminal: what it is, the values looked for first, then the whole, element by element."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator
from functools import partial
from typing import Any

from trace_lens.common.kinds import KIND_WORDS
from trace_lens.common.masking import Masks, masked, visible
from trace_lens.diagnosis.laying_open import LaidOpen
from trace_lens.render.document import (
    BLANK,
    Document,
    Drawing,
    Fact,
    Rule,
    Span,
    Spans,
    heading,
    prose,
    spans_of,
    table,
)
from trace_lens.render.documents.diagnosis import claim_lines

_ABBREVIATED = {"X509Certificate", "DigestValue"}


def opened_pages(messages: Iterable[LaidOpen], unreadable: Iterable[tuple[str, str]], masks: Masks) -> Document:
    """All messages, then the sources that were not read, or not whole."""
    messages = list(messages)
    read = {laid.opened.source for laid in messages}
    for number, message in enumerate(messages):
        if number:
            yield BLANK
            yield Rule()
        yield from _one(message, masks)
    for source, because in unreadable:
        yield BLANK
        what = "not all of it was read" if source in read else "nothing could be read"
        yield prose(f"{source}: {what}; {because}.", 0, "break")


def _one(laid: LaidOpen, masks: Masks) -> Document:
    message = laid.opened
    name = KIND_WORDS.get(message.kind, message.kind)
    through = f", through {' → '.join(message.layers)}" if message.layers else ""
    where = f", {message.where}" if message.where else ""
    yield heading(Span(name, "head"), f" in {visible(message.source)}{visible(where)}{through}")
    for finding in message.findings:
        yield prose(f"{finding.code}: {finding.detail}", 2, finding.severity)
    rows = [(key, value) for key, value in masked(message.summary, masks).items() if _tells(key, value)]
    for key, value in rows:
        if key == "requested_attributes":
            text = ", ".join(item["name"] + (" (required)" if item["required"] else "") for item in value)
            yield Fact(key.replace("_", " "), text, column=24)
        elif key not in ("attributes", "endpoints", "addresses", "keys") or not _is_tables(value):
            text = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
            text = f"{value:,} bytes" if key == "size" and isinstance(value, int) else text
            yield Fact(key.replace("_", " "), text, column=24)
    attributes = message.summary.get("attributes")
    if laid.claims:
        yield BLANK
        yield heading(Span("Claims", "head"), f", as {visible(laid.app or '')} reads them")
        yield from claim_lines(laid.claims)
    elif attributes:
        yield BLANK
        yield heading(Span("Attributes", "head"))
        yield table(("", ""), [(item, ", ".join(values)) for item, values in attributes.items()])
    addresses = message.summary.get("addresses")
    if addresses:
        yield BLANK
        yield heading(Span("Addresses", "head"))
        yield table(("", ""), [(address["purpose"], address["location"]) for address in addresses])
    keys = message.summary.get("keys")
    if keys and _is_tables(keys):
        yield BLANK
        yield heading(Span("Keys", "head"))
        heads = ("key_id", "type", "use", "algorithm", "thumbprint", "problem")
        yield table(
            ("kid", "kty", "use", "alg", "thumbprint", ""), [[str(key[name] or "") for name in heads] for key in keys]
        )
    endpoints = message.summary.get("endpoints")
    if endpoints:
        yield BLANK
        yield heading(Span("Endpoints", "head"))
        yield table(
            ("", "", ""), [(endpoint["purpose"], endpoint["binding"], endpoint["location"]) for endpoint in endpoints]
        )
    if "hops" in message.content:
        yield BLANK
        yield heading(Span("Hops", "head"))
        names = ("where", "method", "status", "url", "carries")
        yield table(
            ("", "", "", "", "carries"),
            [
                [", ".join(value) if isinstance(value := item[name], list) else str(value or "") for name in names]
                for item in message.content["hops"]
            ],
        )
    if message.content.get("cookies"):
        yield BLANK
        yield heading(Span("Cookies set", "head"))
        cookies = [
            (
                item["where"],
                item["name"],
                item["attributes"] + (f"  REFUSED: {item['refused']}" if item["refused"] else ""),
            )
            for item in message.content["cookies"]
        ]
        yield table(("", "", ""), cookies)
    if "entities" in message.content:
        yield BLANK
        yield heading(Span("Entities", "head"))
        rows = [(item["entity_id"], ", ".join(item["roles"])) for item in message.content["entities"]]
        yield table(("", ""), rows)
        rest = message.summary.get("entities", 0) - len(rows)
        if rest > 0:
            yield prose(f"and {rest:,} more", 2)
    content = masked(message.content, masks)
    for part, title in (("header", "Header"), ("claims", "Claims, as sent")):
        if isinstance(content.get(part), dict) and content[part]:
            yield BLANK
            yield heading(Span(title, "head"))
            yield from _members(content[part], content.get("moments", {}) if part == "claims" else {})
    if "parameters" in content:
        yield BLANK
        yield heading(Span("Parameters", "head"))
        yield table(("", ""), [(item["name"], item["value"]) for item in content["parameters"]])
    if "name" in message.content and "namespace" in message.content:
        yield BLANK
        yield heading(Span("The whole message", "head"))
        yield Drawing(partial(_tree, message.content, 2, masks))


def _is_tables(value: Any) -> bool:
    return isinstance(value, list) and bool(value) and isinstance(value[0], dict)


def _members(values: dict[str, Any], moments: dict[str, str]) -> Document:
    """Members of a JSON object, one a line; moments also in words."""
    width = max(map(len, values)) + 2
    for name, value in values.items():
        text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
        text += f"  ({moments[name]})" if name in moments else ""
        yield Fact(name, text, column=max(12, min(width, 30)))


def _tells(key: str, value: Any) -> bool:
    """Whether a value of the summary is worth a line: something is there, or a number that counts nothing."""
    return value not in (None, [], {}, "") and value is not False and not (value == 0 and key.endswith("assertions"))


def _tree(element: dict[str, Any], indent: int, masks: Masks, width: int) -> Iterator[Spans]:
    """An element with its attributes and text, then its children, each level further in."""
    attributes = [f'{key}="{visible(value)}"' for key, value in element.get("attributes", {}).items()]
    text = visible(" ".join(masked(element.get("text", ""), masks).split()))
    if element["name"] in _ABBREVIATED and len(text) > 32:
        text = f"{text[:16]}… ({len(text):,} characters)"
    head = Span(element["name"], "head")
    beside = "".join(f"  {attribute}" for attribute in attributes)
    if indent + len(head.text) + len(beside) + len(text) <= width:
        yield spans_of(" " * indent, head, Span(beside, "quiet"), Span(f"  {text}" if text else ""))
    else:
        yield spans_of(" " * indent, head)
        for attribute in attributes:
            yield spans_of(" " * (indent + 4), Span(attribute, "quiet"))
        if text:
            yield spans_of(" " * (indent + 4), text)
    for child in element.get("children", ()):
        yield from _tree(child, indent + 2, masks, width)
