"""Documents put on record: metadata, discovery documents, key sets, client registrations, certificates."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from trace_lens.attempts.evidence import SourceEvidence
from trace_lens.common import limits
from trace_lens.common.addresses import host_of
from trace_lens.common.tuples import NamedTuple
from trace_lens.estate.plans import Wanted, flattened, free_name
from trace_lens.intake.found import FoundMessage
from trace_lens.pki.pem import certificates_in
from trace_lens.saml.metadata import Entity, scan
from trace_lens.workspace import adding
from trace_lens.workspace.adding import APP, PROVIDER, CannotAdd
from trace_lens.workspace.records import Workspace

METADATA, DISCOVERY, KEY_SET = "saml-metadata", "discovery-document", "key-set"
REGISTRATION, CERTIFICATE = "client-registration", "certificate"
KINDS = (METADATA, DISCOVERY, KEY_SET, REGISTRATION, CERTIFICATE)


class Told(NamedTuple):
    """What the user says of the documents: name, provider, role, entity, and who holds the document."""

    name: str | None = None
    provider: str | None = None
    kind: str | None = None
    entity_id: str | None = None
    held_by: str = "application"


class Document(NamedTuple):
    """What one document tells: settings of an application or a provider, and the files to keep beside them."""

    wanted: Wanted
    beside: dict[str, bytes]


def documents_in(evidence: SourceEvidence) -> list[FoundMessage]:
    """The documents of a source that is no capture of a browser: there they are only seen, and not the user's word."""
    if evidence.capture is not None:
        return []
    return [found for found in evidence.found if found.kind in KINDS]


def seen_documents(
    evidence: Sequence[SourceEvidence], workspace: Workspace, *, trust_seen: bool
) -> list[tuple[FoundMessage, Told]]:
    """The discovery documents that browsers fetched, of providers on record; with `trust_seen` their key sets too.

    Key sets name nobody, so they are taken where one provider alone is on record.
    """
    seen = [found for held in evidence if held.capture is not None for found in held.found]
    taken: dict[str, tuple[FoundMessage, Told]] = {}
    for found in seen:
        if found.kind == DISCOVERY:
            name = _known(workspace, PROVIDER, (str(json.loads(found.data).get("issuer", "")),))
            if name:
                taken.setdefault(f"discovery {name}", (found, Told(name=name)))
        elif found.kind == KEY_SET and trust_seen and len(workspace.providers) == 1:
            (name,) = workspace.providers
            taken.setdefault(f"keys {name}", (found, Told(provider=name)))
    return list(taken.values())


def read_document(found: FoundMessage, workspace: Workspace, told: Told) -> Iterator[Document]:
    """What a document tells. Raises CannotAdd, XMLDamaged."""
    if found.kind == METADATA:
        for entity in _entities(found.data, told.entity_id):
            yield _of_entity(found, entity, workspace, told)
    elif found.kind == CERTIFICATE:
        yield _of_certificates(found, workspace, told)
    else:
        document = json.loads(found.data)
        if found.kind == KEY_SET:
            yield _of_key_set(found, workspace, told)
        else:
            yield _of_json(found, document, workspace, told)


def _entities(data: bytes, entity_id: str | None) -> Sequence[Entity]:
    read = scan(data, entity_id) if entity_id else scan(data, most=limits.ADDED_ENTITIES + 1)
    if not read.entities:
        raise CannotAdd(f"its metadata has no entity {entity_id}" if entity_id else "it holds no EntityDescriptor")
    if len(read.entities) > limits.ADDED_ENTITIES:
        raise CannotAdd(
            f"its metadata holds {read.held:,} entities; at most {limits.ADDED_ENTITIES:,} are added at once, and "
            "--entity-id picks one"
        )
    return read.entities


def _of_entity(found: FoundMessage, entity: Entity, workspace: Workspace, told: Told) -> Document:
    becomes = adding.kind_of(entity, told.kind)
    table = adding.table_of(entity, becomes, "")
    addresses = table["application"]["acs_urls"] if becomes == APP else ()
    known = told.name or _known(workspace, becomes, (entity.entity_id,), addresses)
    name = known or _free(adding.name_for(entity, table) or "unnamed", becomes, workspace)
    settings = flattened(table)
    if becomes == APP and told.held_by == "provider":
        return Document(Wanted(APP, name, _as_setup(settings), {}, ()), {})
    file = f"metadata/{name}.xml"
    settings["metadata" if becomes == PROVIDER else "application.metadata"] = file
    return Document(Wanted(becomes, name, settings, {}, ()), {file: adding.cut_out(found.data, entity)})


def _as_setup(settings: Mapping[str, Any]) -> dict[str, Any]:
    """What the provider's own copy of an application's metadata tells: how the application is set up there."""
    addresses = settings.get("application.acs_urls", [])
    setup = {
        "protocol": "saml",
        "name": settings.get("name"),
        "provider_setup.audience": settings.get("application.entity_id"),
        "provider_setup.acs_url": addresses[0] if addresses else None,
        "provider_setup.name_id_format": settings.get("application.name_id_format"),
    }
    return {key: value for key, value in setup.items() if value}


def _of_json(found: FoundMessage, document: Mapping[str, Any], workspace: Workspace, told: Told) -> Document:
    becomes, table = adding.of_document(found.kind, document, told.kind)
    ids = (str(document.get("issuer", "")), str(document.get("client_id", "")))
    known = told.name or _known(workspace, becomes, ids)
    spoken = adding.name_for(None, table)
    if known is None and spoken is None:
        raise CannotAdd("nothing tells what to call it; give it a NAME")
    name = known or _free(spoken or "", becomes, workspace)
    settings = flattened(table)
    if becomes == APP:
        return Document(Wanted(APP, name, settings, {}, ()), {})
    file = f"discovery/{name}.json"
    return Document(Wanted(PROVIDER, name, {**settings, "discovery": file}, {}, ()), {file: found.data.strip() + b"\n"})


def _of_key_set(found: FoundMessage, workspace: Workspace, told: Told) -> Document:
    name = _provider_named(workspace, told, "a key set")
    file = f"discovery/{name}.keys.json"
    return Document(Wanted(PROVIDER, name, {"key_set": file}, {}, ()), {file: found.data.strip() + b"\n"})


def _of_certificates(found: FoundMessage, workspace: Workspace, told: Told) -> Document:
    """A certificate: pinned by the application that is named, else a signing certificate of the provider."""
    held = [pasted for pasted in certificates_in(found.data) if pasted.der]
    if not held:
        raise CannotAdd("the certificate in it cannot be read")
    if told.name and told.kind != PROVIDER:
        file = f"certs/{told.name}.pem"
        settings = {"application.trusted_certificates": [file]}
        return Document(Wanted(APP, told.name, settings, {}, ()), {file: found.data.strip() + b"\n"})
    name = _provider_named(workspace, told, "a certificate")
    file = f"certs/{name}.pem"
    return Document(Wanted(PROVIDER, name, {"certificates": [file]}, {}, ()), {file: found.data.strip() + b"\n"})


def _provider_named(workspace: Workspace, told: Told, what: str) -> str:
    """The provider that a document is of: as told, else the only one on record. Raises CannotAdd."""
    name = told.provider or (told.name if told.kind == PROVIDER else None)
    if name:
        return name
    if len(workspace.providers) == 1:
        return next(iter(workspace.providers))
    raise CannotAdd(f"nothing tells whose it is: {what} needs --provider NAME, or the NAME of an application")


def _free(name: str, kind: str, workspace: Workspace) -> str:
    return free_name(name, workspace.apps if kind == APP else workspace.providers)


def _known(workspace: Workspace, kind: str, identifiers: Sequence[str], addresses: Sequence[str] = ()) -> str | None:
    """What is on record by one of these identifiers: an application also by an ACS URL, a provider by its host."""
    wanted = {text for text in identifiers if text}
    if kind == APP:
        for app in workspace.apps.values():
            told = app.settings.application.oidc
            own = {app.entity_id, told.client_id, app.settings.provider_setup.client_id}
            if wanted & own or (app.entity_id is None and set(addresses) & set(app.acs_urls)):
                return app.id
        return None
    hosts = {host for text in wanted if (host := host_of(text))}
    for provider in workspace.providers.values():
        if wanted & set(provider.identifiers) or hosts & {host_of(text) for text in provider.identifiers}:
            return provider.id
    return None
