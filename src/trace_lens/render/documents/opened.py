"""Messages laid open in the terminal: what it is, the values looked for first, then the whole, element by element."""

from __future__ import annotations

import json
from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from typing import Any

from trace_lens.common.kinds import KIND_WORDS
from trace_lens.common.masking import Masks, masked, visible
from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.laying_open import LaidOpen
from trace_lens.diagnosis.looking_up import LookedUp
from trace_lens.pki.certificates import certificate_or_none
from trace_lens.pki.pem import certificate_from_base64
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
from trace_lens.render.documents.findings import claim_lines

_ABBREVIATED = {"X509Certificate", "DigestValue"}


def looked_up_lines(found: Iterable[LookedUp]) -> Document:
    """What was looked up: what it means, and where it stands on record."""
    for item in found:
        yield heading(Span(item.text, "head"), f"  {item.kind}")
        yield prose(item.words, 2)
        for place in item.places:
            yield prose(place, 2, "quiet")


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
    yield heading(name, f" in {visible(message.source)}{visible(where)}{through}")
    for finding in message.findings:
        yield prose(f"{finding.code}: {finding.detail}", 2, finding.severity)
    yield from _summary(masked(message.summary, masks))
    if laid.claims:
        yield BLANK
        yield heading("Claims", f", as {visible(laid.app or '')} reads them")
        yield from claim_lines(laid.claims)
    for title, titles, rows in _tables(laid):
        yield BLANK
        yield heading(title)
        yield table(titles, rows)
    if "entities" in message.content:
        rest = message.summary.get("entities", 0) - len(message.content["entities"])
        if rest > 0:
            yield prose(f"and {rest:,} more", 2)
    yield from _content(message.content, masks)


def _summary(summary: dict[str, Any]) -> Document:
    """The values that people look for first, but for those that are tables."""
    for key, value in summary.items():
        if not _tells(key, value):
            continue
        if key == "requested_attributes":
            text = ", ".join(item["name"] + (" (required)" if item["required"] else "") for item in value)
            yield Fact(key.replace("_", " "), text, column=24)
        elif key != "attributes" and (key not in ("endpoints", "addresses", "keys") or not _is_tables(value)):
            text = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
            text = f"{value:,} bytes" if key == "size" and isinstance(value, int) else text
            yield Fact(key.replace("_", " "), text, column=24)


def _tables(laid: LaidOpen) -> Iterator[tuple[str, tuple[str, ...], Sequence[Sequence[str]]]]:
    """The tables of a message: the title of each, those of its columns, and its rows."""
    summary, content = laid.opened.summary, laid.opened.content
    if summary.get("attributes") and not laid.claims:
        yield "Attributes", ("", ""), [(name, ", ".join(values)) for name, values in summary["attributes"].items()]
    if summary.get("addresses"):
        rows = [(address["purpose"], address["location"]) for address in summary["addresses"]]
        yield "Addresses", ("", ""), rows
    if _is_tables(summary.get("keys")):
        names = ("key_id", "type", "use", "algorithm", "thumbprint", "problem")
        keys = [tuple(str(key[name] or "") for name in names) for key in summary["keys"]]
        yield "Keys", ("kid", "kty", "use", "alg", "thumbprint", ""), keys
    if summary.get("endpoints"):
        endpoints = [(point["purpose"], point["binding"], point["location"]) for point in summary["endpoints"]]
        yield "Endpoints", ("", "", ""), endpoints
    if "hops" in content:
        hops = [
            (hop["where"], hop["method"], str(hop["status"] or ""), hop["url"], ", ".join(hop["carries"]))
            for hop in content["hops"]
        ]
        yield "Hops", ("", "", "", "", "carries"), hops
    if content.get("cookies"):
        cookies = [
            (cookie["where"], cookie["name"], cookie["attributes"] + _refused(cookie["refused"]))
            for cookie in content["cookies"]
        ]
        yield "Cookies set", ("", "", ""), cookies
    if "entities" in content:
        yield "Entities", ("", ""), [(item["entity_id"], ", ".join(item["roles"])) for item in content["entities"]]


def _refused(reason: str | None) -> str:
    return f"  REFUSED: {reason}" if reason else ""


def _content(message: dict[str, Any], masks: Masks) -> Document:
    """The whole message: members of a token, parameters, or element by element."""
    content = masked(message, masks)
    for part, title in (("header", "Header"), ("claims", "Claims, as sent")):
        if isinstance(content.get(part), dict) and content[part]:
            yield BLANK
            yield heading(title)
            yield from _members(content[part], content.get("moments", {}) if part == "claims" else {})
    if "parameters" in content:
        yield BLANK
        yield heading("Parameters")
        yield table(("", ""), [(item["name"], item["value"]) for item in content["parameters"]])
    if "name" in message and "namespace" in message:
        yield BLANK
        yield heading("The whole message")
        yield Drawing(partial(_tree, message, 2, masks))


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


def _certificate_words(text: str) -> tuple[str, ...]:
    """A certificate by its name, its end and its fingerprints; empty where it cannot be read."""
    certificate = certificate_or_none(certificate_from_base64(text).der)
    if certificate is None:
        return ()
    name = visible(certificate.subject or "(no name)")
    return f"{name}, until {show_moment(certificate.not_after)}", str(certificate.sha256), str(certificate.sha1)


def _tree(element: dict[str, Any], indent: int, masks: Masks, width: int) -> Iterator[Spans]:
    """An element with its attributes and text, then its children, each level further in."""
    attributes = [f'{key}="{visible(value)}"' for key, value in element.get("attributes", {}).items()]
    text = visible(" ".join(masked(element.get("text", ""), masks).split()))
    if element["name"] == "X509Certificate" and (certificate := _certificate_words(text)):
        yield spans_of(" " * indent, Span(element["name"], "head"))
        for line_of in certificate:
            yield spans_of(" " * (indent + 4), line_of)
        return
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
