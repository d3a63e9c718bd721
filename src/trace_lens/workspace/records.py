"""What a workspace holds: the applications and providers on record, their lists and certificates read on demand."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from functools import cached_property, partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

from trace_lens.common.locations import Location
from trace_lens.saml.names import IDP_ROLE, SP_ROLE
from trace_lens.workspace import lists
from trace_lens.workspace.account_rows import AccountRow, AssignmentRow, ListError, Membership
from trace_lens.workspace.own_files import OWN_FOLDER
from trace_lens.workspace.places import line_of
from trace_lens.workspace.problems import Problem, SettingsError
from trace_lens.workspace.settings import AppSettings, Judgement, ProviderSettings, WorkspaceSettings
from trace_lens.workspace.trusting import Trust, files_inside

if TYPE_CHECKING:
    from collections.abc import Callable, Iterable

    from trace_lens.oidc.jwk import Jwk
    from trace_lens.pki.pem import PastedCertificate
    from trace_lens.saml.metadata import Entity, Role
    from trace_lens.workspace.changes import Change


EARLIER_EVENTS = "events.duckdb"
LOGS_FOLDER = "logs"
"""Where the events of loaded logs are, within the folder of the workspace's own; and where they were before."""


R = TypeVar("R")


EVERYONE = "everyone"


@dataclass(frozen=True, eq=False, repr=False)
class Source:
    """One settings file as it was read: its path within the workspace and its text."""

    root: Path
    file: str
    text: str
    raw: dict[str, object]
    told: tuple[tuple[str, ...], ...] = ()

    def where(self, *path: str | int) -> Location:
        """Line and key of a setting, for evidence; a setting that was only supposed stands in no line."""
        names = tuple(part for part in path if isinstance(part, str))
        if any(names[: len(pair)] == pair for pair in self.told):
            return Location(part="told by --set", path=".".join(names))
        key = "".join(f"[{part + 1}]" if isinstance(part, int) else f".{part}" for part in path).lstrip(".")
        return Location(line=line_of(self.text, path), path=key)

    def read(self, name: str) -> bytes:
        """A file that this one names, relative to the workspace. Raises OSError."""
        return (self.root / name).read_bytes()

    def document(self, name: str) -> bytes | None:
        """A document that this one names: a file of the workspace, or, for an address, its newest snapshot.

        None for an address of which there is none. Raises OSError.
        """
        if "://" not in name:
            return self.read(name)
        from trace_lens.workspace.snapshots import newest

        held = newest(self.root, name)
        return held.read() if held else None

    def problem(self, name: str, reason: str, line: int = 1) -> SettingsError:
        """The error for a file that this one names and that cannot be used."""
        return SettingsError([Problem(name, line, "", reason)])


@dataclass(frozen=True, eq=False, repr=False)
class Provider:
    """One provider on record; `key_set_had` is when its key set was had from its address by this run, if it was."""

    id: str
    settings: ProviderSettings
    source: Source
    key_set_had: datetime | None = None

    @property
    def name(self) -> str:
        """What people call it."""
        return self.settings.name or self.id

    @cached_property
    def entity(self) -> Entity | None:
        """Its own entity in its metadata file. Raises SettingsError where the file is no metadata."""
        if not self.settings.metadata:
            return None
        return _entity(self.source, self.settings.metadata, self.settings.entity_id, IDP_ROLE)

    @property
    def role(self) -> Role | None:
        """Its identity provider role in the metadata."""
        return self.entity.role("IDPSSODescriptor") if self.entity else None

    @cached_property
    def entity_id(self) -> str | None:
        """Its entity ID: as set, else as its metadata says."""
        if self.settings.entity_id:
            return self.settings.entity_id
        return self.entity.entity_id if self.entity else None

    @cached_property
    def discovery(self) -> dict[str, Any]:
        """Its discovery document, empty where none is on record. Raises SettingsError where the file is no such."""
        from trace_lens.oidc.documents import DISCOVERY, kind_of

        document = _json(self.source, self.settings.discovery)
        if document is None:
            return {}
        if kind_of(document) != DISCOVERY:
            raise self.source.problem(self.settings.discovery or "", "is no discovery document: it names no issuer")
        return cast("dict[str, Any]", document)

    @cached_property
    def issuer(self) -> str | None:
        """Its issuer in OpenID Connect: as set, else as its discovery document says."""
        told = self.settings.issuer or self.discovery.get("issuer")
        return told if isinstance(told, str) else None

    @cached_property
    def key_set(self) -> tuple[Jwk, ...]:
        """The keys of its key set, broken ones among them; empty where none is on record. Raises SettingsError."""
        from trace_lens.oidc.jwk import read_key_set

        document = _json(self.source, self.settings.key_set)
        found = read_key_set(document)
        if document is not None and not found and not (isinstance(document, dict) and "keys" in document):
            raise self.source.problem(self.settings.key_set or "", "is no key set: it has no list of keys")
        return found

    def not_fetched(self, protocol: str) -> tuple[tuple[str, str], ...]:
        """The addresses of its documents for a protocol (`saml`, `oidc`) of which no snapshot was kept yet, each behind
        its setting.
        """
        told = self.settings
        named: tuple[tuple[str, str | None], ...] = (("metadata", told.metadata),)
        if protocol == "oidc":
            named = (("discovery", told.discovery), ("key_set", told.key_set))
        return tuple(
            (key, name) for key, name in named if name and "://" in name and self.source.document(name) is None
        )

    @property
    def identifiers(self) -> tuple[str, ...]:
        """Every issuer that this provider is known by."""
        return tuple(dict.fromkeys(name for name in (self.entity_id, self.issuer) if name))

    @property
    def sign_on_urls(self) -> tuple[str, ...]:
        """Its single sign-on addresses, from its metadata."""
        if not self.role:
            return ()
        return self.role.addresses("SingleSignOnService")

    @property
    def sign_out_urls(self) -> tuple[str, ...]:
        """Its single logout addresses, from its metadata."""
        return self.role.addresses("SingleLogoutService") if self.role else ()

    def where_entity_id(self) -> tuple[str, Location]:
        """File and place of its entity ID."""
        if self.settings.entity_id or not self.entity or not self.settings.metadata:
            return self.source.file, self.source.where("entity_id")
        return self.settings.metadata, self.entity.where


@dataclass(frozen=True, eq=False, repr=False)
class App:
    """One application on record."""

    id: str
    settings: AppSettings
    source: Source
    defaults: WorkspaceSettings

    @property
    def name(self) -> str:
        """What people call it."""
        return self.settings.name or self.id

    @property
    def is_interface(self) -> bool:
        """Whether it is no place to sign in at, but an interface that takes access tokens."""
        return self.settings.kind == "api"

    @property
    def provider_id(self) -> str | None:
        """The provider that it trusts."""
        return self.settings.provider

    @property
    def _judgements(self) -> tuple[Judgement, ...]:
        """The settings of how strictly to judge, nearest first."""
        return self.settings.application.judgement, self.settings.judgement, self.defaults.judgement

    def _judgement(self, key: str, fallback: timedelta) -> timedelta:
        for judgement in self._judgements:
            value = getattr(judgement, key)
            if isinstance(value, timedelta):
                return value
        return fallback

    @property
    def clock_skew(self) -> timedelta:
        """How far the two sides' clocks may differ."""
        return self._judgement("clock_skew", timedelta(minutes=3))

    @property
    def warn_before(self) -> timedelta:
        """How long before its end a certificate or secret is worth a warning."""
        return self._judgement("warn_before", timedelta(days=30))

    @property
    def longest_validity(self) -> timedelta:
        """The longest window that a message should have."""
        return self._judgement("longest_validity", timedelta(hours=24))

    @property
    def checks_certificate_dates(self) -> bool:
        """Whether the application refuses a message for its certificate's dates."""
        for judgement in self._judgements:
            if judgement.checks_certificate_dates is not None:
                return judgement.checks_certificate_dates
        return False

    @cached_property
    def entity(self) -> Entity | None:
        """Its own entity in its metadata file, where one is on record. Raises SettingsError."""
        name = self.settings.application.saml.metadata
        return _entity(self.source, name, self.settings.application.saml.entity_id, SP_ROLE) if name else None

    @cached_property
    def entity_id(self) -> str | None:
        """Its entity ID: as set, else as its metadata says."""
        return self.settings.application.saml.entity_id or (self.entity.entity_id if self.entity else None)

    @cached_property
    def acs_urls(self) -> tuple[str, ...]:
        """Its assertion consumer service addresses: as set, else as its metadata says."""
        if self.settings.application.saml.acs_urls:
            return tuple(self.settings.application.saml.acs_urls)
        return self.role.addresses("AssertionConsumerService") if self.role else ()

    @property
    def role(self) -> Role | None:
        """Its service provider role in its metadata, where that is on record."""
        return self.entity.role(SP_ROLE) if self.entity else None

    @cached_property
    def sign_out_urls(self) -> tuple[str, ...]:
        """Its single logout addresses: as set, else as its metadata says."""
        if self.settings.application.sign_out_url:
            return (self.settings.application.sign_out_url,)
        return self.role.addresses("SingleLogoutService") if self.role else ()

    @cached_property
    def accounts(self) -> list[AccountRow] | None:
        """Its accounts, None where no list is declared. Raises SettingsError where the list cannot be read."""
        account = self.settings.account
        read = partial(lists.read_accounts, column=account.column)
        return self._list(account.list_file, read, f"accounts {account.column or ''}")

    @cached_property
    def members(self) -> Membership:
        """Who is in which of its groups; nobody where none are declared. Raises SettingsError."""
        return self._list(self.settings.account.groups, lists.read_members, "members") or Membership(())

    @cached_property
    def assignments(self) -> list[AssignmentRow] | None:
        """Who may use it; None where no list is declared, or everyone may. Raises SettingsError."""
        name = self.settings.provider_setup.assigned
        return self._list(None if name == EVERYONE else name, lists.read_assignments, "assignments")

    def _list(self, name: str | None, read: Callable[[bytes], R], kind: str) -> R | None:
        if name is None:
            return None
        try:
            return _read_once(self.source.read(name), read, kind)
        except ListError as error:
            raise self.source.problem(name, str(error), error.line) from None
        except OSError as error:
            raise self.source.problem(name, f"cannot be read: {error.strerror}") from None


_MOST_LISTS = 64
_lists_read: dict[tuple[str, bytes], object] = {}
"""Lists by kind and digest of the file: many applications may name one, and it is read once."""


def _read_once(data: bytes, read: Callable[[bytes], R], kind: str) -> R:
    """What `read` makes of a list, made once for the same content and kind; nobody changes it."""
    key = (kind, hashlib.blake2b(data, digest_size=16).digest())
    if key not in _lists_read:
        if len(_lists_read) >= _MOST_LISTS:
            _lists_read.clear()
        _lists_read[key] = read(data)
    return cast("R", _lists_read[key])


def _indexed(apps: Iterable[App], names: Callable[[App], Iterable[str | None]]) -> dict[str, tuple[App, ...]]:
    found: dict[str, tuple[App, ...]] = {}
    for app in apps:
        for name in dict.fromkeys(names(app)):
            if name:
                found[name] = (*found.get(name, ()), app)
    return found


@dataclass(frozen=True, eq=False, repr=False)
class Workspace:
    """All settings of one folder; empty where there is no workspace at all (`root` is then None).

    `ask` gets a password from the user, given what it is for; None where nobody can be asked. `trust` says whether it
    may lead out of itself.
    """

    root: Path | None = None
    settings: WorkspaceSettings = field(default_factory=WorkspaceSettings)
    apps: dict[str, App] = field(default_factory=dict)
    providers: dict[str, Provider] = field(default_factory=dict)
    ask: Callable[[str], str | None] | None = field(default=None, compare=False, repr=False)
    trust: Trust = field(default_factory=Trust, compare=False, repr=False)
    _kept: dict[str, object] = field(default_factory=dict, compare=False, repr=False)

    def once(self, key: str, make: Callable[[], R]) -> R:
        """What `make` gives, made once for this workspace and key."""
        if key not in self._kept:
            self._kept[key] = make()
        return cast("R", self._kept[key])

    def apps_called(self, entity_id: str) -> tuple[App, ...]:
        """The applications with an entity ID, in their order."""
        return self._by_name("entity ids", lambda app: (app.entity_id,)).get(entity_id, ())

    def apps_at(self, acs_url: str) -> tuple[App, ...]:
        """The applications with an ACS URL, in their order."""
        return self._by_name("acs urls", lambda app: app.acs_urls).get(acs_url, ())

    def _by_name(self, key: str, names: Callable[[App], Iterable[str | None]]) -> dict[str, tuple[App, ...]]:
        return self.once(key, lambda: _indexed(self.apps.values(), names))

    def provider_of(self, app: App | None) -> Provider | None:
        """The provider that an application trusts."""
        return self.providers.get(app.provider_id or "") if app else None

    @property
    def has_logs(self) -> bool:
        """Whether logs were loaded, here or into the store elsewhere that is set."""
        if self.root is None:
            return False
        own = self.root / OWN_FOLDER
        there = (own / LOGS_FOLDER / "manifest.json").exists() or (own / EARLIER_EVENTS).exists()
        return there or self.settings.store != "duckdb"

    @cached_property
    def changes(self) -> list[Change]:
        """What people changed and when, as far as it is on record. Raises SettingsError."""
        from trace_lens.workspace.changes import CHANGES_FILE, read_changes

        if self.root is None or not (self.root / CHANGES_FILE).is_file():
            return []
        try:
            return read_changes((self.root / CHANGES_FILE).read_bytes())
        except ListError as error:
            raise SettingsError([Problem(CHANGES_FILE, error.line, "", str(error))]) from None
        except OSError as error:
            raise SettingsError([Problem(CHANGES_FILE, 1, "", f"cannot be read: {error.strerror}")]) from None

    def files_in(self, folder: str) -> list[str]:
        """Every file in a folder of the workspace (`certs`, `keys`), whether or not a setting names it."""
        if self.root is None or not (self.root / folder).is_dir():
            return []
        files = files_inside(self.root, folder, "*", self.trust)
        return [f"{folder}/{file.name}" for file, wrong in files if wrong is None and file.is_file()]

    def read_certificates(self, name: str) -> list[PastedCertificate]:
        """The certificates of a file of the workspace, whole or damaged; empty where it cannot be read."""
        return self.once(f"certificates of {name}", lambda: _certificates_of((self.root or Path()) / name))


def _certificates_of(file: Path) -> list[PastedCertificate]:
    from trace_lens.pki.pem import certificates_in

    try:
        return certificates_in(file.read_bytes())
    except OSError:
        return []


def _json(source: Source, name: str | None) -> object:
    """A JSON file that a settings file names; None where it names none."""
    from trace_lens.oidc.strict_json import JsonDamaged, read_json

    if name is None:
        return None
    try:
        data = source.document(name)
        return None if data is None else read_json(data).value
    except JsonDamaged as error:
        raise source.problem(name, f"is no JSON that can be read: {error.reason}") from None
    except OSError as error:
        raise source.problem(name, f"cannot be read: {error.strerror}") from None


def _entity(source: Source, name: str, entity_id: str | None, role: str) -> Entity | None:
    """The entity in a document; None for an address of which there is no snapshot."""
    from trace_lens.saml.metadata import find_entity
    from trace_lens.saml.parsing import XMLDamaged

    try:
        data = source.document(name)
        if data is None:
            return None
        entity, _ = find_entity(data, entity_id, role)
    except XMLDamaged as error:
        raise source.problem(name, f"is no metadata that can be read: {error.reason}", error.line or 1) from None
    except OSError as error:
        raise source.problem(name, f"cannot be read: {error.strerror}") from None
    if entity is None:
        raise source.problem(name, "is no SAML metadata: it holds no EntityDescriptor")
    return entity
