"""Metadata, discovery documents and key sets on record, and what each says as items that can be held against others.

By meaning: white space, order, a renewed signature, its ID and how long it is valid are no items. What is no such
document (a page of an error, a table of something else) is told as that.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from trace_lens.common.tuples import NamedTuple
from trace_lens.comparison.documents import entity_items
from trace_lens.oidc.documents import DISCOVERY, kind_of
from trace_lens.oidc.jwk import Jwk, read_key_set, thumbprint
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.saml.metadata import scan
from trace_lens.saml.parsing import XMLDamaged
from trace_lens.workspace.records import App, Provider, Workspace

METADATA, DISCOVERY_DOCUMENT, KEY_SET = "metadata", "discovery-document", "key-set"
SIGNING_KEY, ENCRYPTION_KEY = "signing key", "encryption key"
_PASSING = ("validUntil", "cacheDuration")
_LOOKS_LIKE = 400
Items = dict[str, tuple[str, ...]]


class OnRecord(NamedTuple):
    """A document on record: a file of the workspace or an address, its kind, and whose it is."""

    name: str
    kind: str
    provider: Provider | None = None
    app: App | None = None

    @property
    def whose(self) -> str:
        """The ID of the provider or application."""
        owner = self.provider or self.app
        return owner.id if owner else ""


class NoDocument(ValueError):
    """What is there is not the document that belongs there; the message says what it is."""


class Read(NamedTuple):
    """What a document says: its items, each with its values in order, and until when it is valid, where it says so."""

    items: Items
    valid_until: datetime | None = None


def on_record(workspace: Workspace) -> tuple[OnRecord, ...]:
    """Every metadata, discovery and key set document on record, each once for each owner."""
    found = []
    for provider in workspace.providers.values():
        told = provider.settings
        for name, kind in ((told.metadata, METADATA), (told.discovery, DISCOVERY_DOCUMENT), (told.key_set, KEY_SET)):
            if name:
                found.append(OnRecord(name, kind, provider=provider))
    for app in workspace.apps.values():
        if app.settings.application.saml.metadata:
            found.append(OnRecord(app.settings.application.saml.metadata, METADATA, app=app))
    return tuple(found)


def read_document(document: OnRecord, data: bytes) -> Read:
    """What a document says. Raises NoDocument."""
    if document.kind == METADATA:
        return _metadata(document, data)
    try:
        content = read_json(data).value
    except JsonDamaged as error:
        raise NoDocument(f"is no JSON that can be read ({error.reason}){_instead(data)}") from None
    if document.kind == KEY_SET:
        if not isinstance(content, dict) or not isinstance(content.get("keys"), list):
            raise NoDocument(f"is no key set: it has no list of keys{_instead(data)}")
        return Read(_gathered(_key_items(content)))
    if not isinstance(content, dict) or kind_of(content) != DISCOVERY:
        raise NoDocument(f"is no discovery document: it names no issuer with endpoints{_instead(data)}")
    return Read(_gathered(_members(content)))


def _metadata(document: OnRecord, data: bytes) -> Read:
    try:
        entities = scan(data).entities
    except XMLDamaged as error:
        raise NoDocument(f"is no metadata that can be read ({error.reason}){_instead(data)}") from None
    if not entities:
        raise NoDocument(f"is no metadata: it holds no EntityDescriptor{_instead(data)}")
    wanted = document.provider.settings.entity_id if document.provider else None
    chosen = [entity for entity in entities if entity.entity_id == wanted] if len(entities) > 1 and wanted else entities
    if not chosen:
        raise NoDocument(f"holds {len(entities)} entities, and none of them is {wanted}")
    pairs = []
    for entity in chosen:
        prefix = f"{entity.entity_id}: " if len(chosen) > 1 else ""
        for name, values in entity_items(entity):
            if name not in _PASSING:
                pairs += [(prefix + item, value) for value in values for item in _named(name)]
    ends = [entity.valid_until for entity in chosen if entity.valid_until]
    return Read(_gathered(iter(pairs)), min(ends, default=None))


def _named(item: str) -> tuple[str, ...]:
    """A key that is for no use in particular is for both."""
    if item.endswith("any key"):
        prefix = item.removesuffix("any key")
        return prefix + SIGNING_KEY, prefix + ENCRYPTION_KEY
    return (item,)


def _members(content: dict[str, object]) -> Iterator[tuple[str, str]]:
    for name, value in content.items():
        for item in value if isinstance(value, list) else [value]:
            yield name, item if isinstance(item, str) else _plain(item)


def _plain(value: object) -> str:
    import json

    return json.dumps(value, sort_keys=True, ensure_ascii=False)


def _key_items(content: object) -> Iterator[tuple[str, str]]:
    for number, key in enumerate(read_key_set(content), 1):
        yield SIGNING_KEY if key.use in (None, "sig") else f"key for {key.use}", key_words(key, number)


def key_words(key: Jwk, number: int) -> str:
    """A key by its id and its thumbprint (RFC 7638)."""
    return f"{key.id or f'number {number}'} ({thumbprint(key) or 'no thumbprint'})"


def _gathered(pairs: Iterator[tuple[str, str]]) -> Items:
    """Pairs as items, the values of each sorted and once."""
    found: dict[str, set[str]] = {}
    for name, value in pairs:
        found.setdefault(name, set()).add(" ".join(value.split()))
    return {name: tuple(sorted(values)) for name, values in found.items()}


def _instead(data: bytes) -> str:
    """What it looks like, where it is a page."""
    head = data[:_LOOKS_LIKE].lstrip(b"\xef\xbb\xbf \t\r\n").lower()
    if not head:
        return "; it is empty"
    return "; it is a web page" if head.startswith((b"<!doctype html", b"<html")) or b"<html" in head else ""
