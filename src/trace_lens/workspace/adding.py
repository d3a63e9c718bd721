"""New applications and providers: settings files made from metadata or from single values, and written safely.

Nothing that exists is overwritten unless that is told; what is written is valid, or nothing is.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

import tomli
from lxml import etree

from trace_lens.common import limits
from trace_lens.common.addresses import host_of
from trace_lens.common.toml import document_of
from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.documents import DISCOVERY
from trace_lens.oidc.tokens import read_numeric_date
from trace_lens.saml.metadata import Entity, scan
from trace_lens.saml.names import IDP_ROLE, METADATA, SP_ROLE
from trace_lens.saml.parsing import parse
from trace_lens.workspace.loading import missing_files
from trace_lens.workspace.problems import Problem, SettingsError
from trace_lens.workspace.records import Source, Workspace
from trace_lens.workspace.settings import AppSettings, ProviderSettings
from trace_lens.workspace.trial_settings import TrialSetting, put
from trace_lens.workspace.validation import validate

APP, PROVIDER = "app", "provider"
_FOLDERS = {APP: "apps", PROVIDER: "providers"}
RECORDS: dict[str, type] = {APP: AppSettings, PROVIDER: ProviderSettings}
_WANTED_OF_CLIENT = (
    ("provider_setup.client_id", "the client_id that the provider has for it"),
    ("provider_setup.redirect_uris", "the redirect URIs that are registered for it at the provider"),
    ("application.provider_issuer", "the provider's issuer as it is set in the application"),
    ("application.scopes", "the scopes that it asks for"),
    ("account.list", "a list of its accounts"),
    ("provider_setup.assigned", "who is assigned to it"),
)
_WANTED = (
    ("provider_setup.audience", "the audience that is set for it at the provider"),
    ("provider_setup.acs_url", "the ACS URL that is set for it at the provider"),
    ("application.provider_entity_id", "the provider's entity ID as it is set in the application"),
    ("application.trusted_certificates", "the certificates that it trusts"),
    ("account.list", "a list of its accounts"),
    ("provider_setup.assigned", "who is assigned to it"),
)


class CannotAdd(ValueError):
    """The addition cannot be made; the message says why and what to do."""


class Addition(NamedTuple):
    """What is to be written: an application or a provider, its files, and what is not known of it yet."""

    kind: str
    id: str
    files: dict[str, bytes]
    unknown: tuple[tuple[str, str], ...]

    @property
    def settings_file(self) -> str:
        """The settings file, relative to the workspace."""
        return f"{_FOLDERS[self.kind]}/{self.id}.toml"


def entity_for(data: bytes, entity_id: str | None) -> Entity:
    """The entity of a metadata file that is meant. Raises CannotAdd, XMLDamaged."""
    read = scan(data, entity_id) if entity_id else scan(data, most=13)
    if not read.entities:
        raise CannotAdd(f"its metadata has no entity {entity_id}" if entity_id else "it holds no EntityDescriptor")
    if read.held > 1 and not entity_id:
        names = ", ".join(entity.entity_id for entity in read.entities[:12]) + (" …" if read.held > 12 else "")
        raise CannotAdd(f"its metadata holds {read.held:,} entities; --entity-id picks one: {names}")
    return read.entities[0]


def kind_of(entity: Entity, told: str | None) -> str:
    """Whether an entity becomes an application or a provider: as told, else by its role. Raises CannotAdd."""
    has = {kind for kind, role in ((APP, SP_ROLE), (PROVIDER, IDP_ROLE)) if entity.role(role)}
    if told:
        if told not in has:
            raise CannotAdd(f"{entity.entity_id} has no role that would make it an {told}")
        return told
    if len(has) != 1:
        words = "both roles; --as app or --as provider picks one" if has else "neither of the two roles of web sign-in"
        raise CannotAdd(f"{entity.entity_id} has {words}")
    return has.pop()


def table_of(entity: Entity, kind: str, metadata: str) -> dict[str, Any]:
    """The settings that metadata tells; `metadata` is the name that its file will have."""
    name = entity.organization
    head = {"name": name} if name else {}
    if kind == PROVIDER:
        return {**head, "metadata": metadata, "entity_id": entity.entity_id}
    role = entity.role(SP_ROLE)
    assert role is not None
    sign_out = role.addresses("SingleLogoutService")
    formats = role.name_id_formats
    application: dict[str, Any] = {
        "metadata": metadata,
        "entity_id": entity.entity_id,
        "acs_urls": list(dict.fromkeys(role.addresses("AssertionConsumerService"))),
        **({"sign_out_url": sign_out[0]} if sign_out else {}),
        **({"name_id_format": formats[0]} if len(formats) == 1 else {}),
        **({"signed_part": "assertion"} if role.wants_signed_assertions else {}),
        **({"signs_requests": True} if role.signs_requests else {}),
    }
    claims = [
        {"name": attribute.name, "need": "must" if attribute.required else "may"} for attribute in role.attributes
    ]
    return {**head, "protocol": "saml", "application": application, **({"claims": claims} if claims else {})}


def of_document(found: str, document: Mapping[str, Any], told: str | None) -> tuple[str, dict[str, Any]]:
    """What a discovery document or client registration becomes, and the settings that it tells. Raises CannotAdd."""
    becomes = PROVIDER if found == DISCOVERY else APP
    if told not in (None, becomes):
        raise CannotAdd(f"a {found.replace('-', ' ')} makes no {told}")
    return becomes, table_of_client(document) if becomes == APP else table_of_discovery(document, "")


def table_of_discovery(document: Mapping[str, Any], file: str) -> dict[str, Any]:
    """The settings of a provider that its discovery document tells; `file` is the name that it will have."""
    return {"discovery": file, "issuer": str(document.get("issuer", ""))}


def table_of_client(document: Mapping[str, Any]) -> dict[str, Any]:
    """The settings of an application that its client registration tells (RFC 7591 §3.2.1); never its secret.

    A registration is what the provider has on record: identifier, redirect URIs and scopes say nothing of what is set
    in the application.
    """
    ends = document.get("client_secret_expires_at")
    moment = read_numeric_date(ends).moment if ends else None
    kinds = document.get("response_types")
    scope = document.get("scope")
    redirects = [str(item) for item in document.get("redirect_uris") or ()]
    told = {
        "sign_in_url": document.get("initiate_login_uri") or document.get("client_uri"),
        "response_type": kinds[0] if isinstance(kinds, list) and len(kinds) == 1 else None,
        "client_authentication": document.get("token_endpoint_auth_method"),
        "secret_expires": moment.date().isoformat() if moment else None,
        "token_algorithm": document.get("id_token_signed_response_alg"),
        "subject_type": document.get("subject_type"),
    }
    name = document.get("client_name")
    setup = {
        "client_id": document.get("client_id"),
        "redirect_uris": redirects,
        "scopes_granted": scope.split() if isinstance(scope, str) else [],
    }
    return {
        **({"name": str(name)} if name else {}),
        "protocol": "oidc",
        "application": {key: value for key, value in told.items() if value},
        "provider_setup": {key: value for key, value in setup.items() if value},
    }


def name_for(entity: Entity | None, table: Mapping[str, Any]) -> str | None:
    """A name for the file: of what it is called, else of the first label of its host."""
    spoken = table.get("name")
    if not spoken:
        application = table.get("application", {})
        setup = table.get("provider_setup", {})
        redirects = setup.get("redirect_uris") or [None]
        named = (
            entity.entity_id if entity else None,
            application.get("entity_id"),
            table.get("entity_id"),
            table.get("issuer"),
            redirects[0],
            setup.get("client_id"),
        )
        return name_from(next((str(text) for text in named if text), ""))
    return _plain(str(spoken))


def name_from(address: str) -> str | None:
    """A name for the file: the first label of an address's host, else of an identifier that is no address."""
    host = host_of(address) or address.rpartition(":")[2]
    return _plain(host.removeprefix("www.").split(".")[0])


def _plain(spoken: str) -> str | None:
    plain = unicodedata.normalize("NFKD", spoken).encode("ascii", "ignore").decode().lower()
    return re.sub(r"[^a-z0-9]+", "-", plain).strip("-") or None


def make_addition(
    workspace: Workspace,
    kind: str,
    name: str,
    table: dict[str, Any],
    told: Iterable[TrialSetting],
    metadata: tuple[str, bytes] | None = None,
) -> Addition:
    """The files of an addition, checked. Raises CannotAdd, SettingsError with all that is wrong in them."""
    if not re.fullmatch(r"[A-Za-z0-9][A-Za-z0-9._-]*", name):
        raise CannotAdd(f"{name!r} is no name for a file; use letters, digits, dots and dashes")
    if workspace.root is None:
        raise CannotAdd("there is no workspace here; make one with: trace-lens init")
    problems: list[Problem] = []
    for setting in told:
        put(table, RECORDS[kind], setting, problems)
    file = f"{_FOLDERS[kind]}/{name}.toml"
    text = document_of(table).as_string()
    problems += validate(RECORDS[kind], tomli.loads(text), file, text)
    files = {file: text.encode()}
    if metadata:
        files[metadata[0]] = metadata[1]
    if not problems:
        source = Source(workspace.root, file, text, table)
        problems += [file for file in missing_files(source, kind) if not any(name in file.reason for name in files)]
        provider = table.get("provider")
        if kind == APP and provider and provider not in workspace.providers:
            known = ", ".join(sorted(workspace.providers)) or "none"
            problems.append(Problem(file, 0, "provider", f"names {provider}, which is not on record (there: {known})"))
    if problems:
        raise SettingsError(problems)
    return Addition(kind, name, files, unknown(table) if kind == APP else ())


def unknown(table: Mapping[str, Any]) -> tuple[tuple[str, str], ...]:
    """What a full judgement needs and the new file does not say."""
    found = [] if table.get("provider") else [("provider", "the provider that it trusts")]
    for key, words in _WANTED_OF_CLIENT if table.get("protocol") == "oidc" else _WANTED:
        section, _, name = key.partition(".")
        if not table.get(section, {}).get(name):
            found.append((key, words))
    return tuple(found)


def cut_out(data: bytes, entity: Entity) -> bytes:
    """The metadata of one entity by itself: the file as it is, where it holds no other."""
    root = parse(data, limits.METADATA_BYTES)
    if root.tag == f"{{{METADATA}}}EntityDescriptor":
        return data
    for element in root.iter(f"{{{METADATA}}}EntityDescriptor"):
        if element.get("entityID") == entity.entity_id:
            return etree.tostring(element, xml_declaration=True, encoding="UTF-8", with_tail=False) + b"\n"
    return data


def write_addition(root: Path, addition: Addition, *, overwrite: bool) -> None:
    """Write the files, the settings file last. Raises CannotAdd where one exists with other content, OSError."""
    there = [name for name, data in addition.files.items() if (root / name).exists() and _differs(root / name, data)]
    if there and not overwrite:
        raise CannotAdd(f"{' and '.join(there)} exists already; --overwrite replaces it")
    for name, data in sorted(addition.files.items(), key=lambda item: item[0] == addition.settings_file):
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        fresh = path.with_name(path.name + ".new")
        fresh.write_bytes(data)
        fresh.replace(path)


def _differs(path: Path, data: bytes) -> bool:
    return not path.is_file() or path.read_bytes() != data
