"""A folder into a `Workspace`: its files found, validated all together, their lists and certificates read on demand."""

from __future__ import annotations

import hashlib
import os
from dataclasses import dataclass, field
from datetime import timedelta
from functools import cache, cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

from trace_lens.common import limits
from trace_lens.common.octets import as_utf8
from trace_lens.common.version import __version__
from trace_lens.pki.pem import PastedCertificate, certificates_in
from trace_lens.saml.metadata import IDP_ROLE, SP_ROLE, Entity, Role, find_entity
from trace_lens.saml.parsing import XMLDamaged
from trace_lens.workspace import lists
from trace_lens.workspace.account_rows import AccountRow, AssignmentRow, ListError, Membership
from trace_lens.workspace.own_files import OWN_FOLDER, cache_folder, write_privately
from trace_lens.workspace.places import line_of
from trace_lens.workspace.problems import Problem, SettingsError, load_toml
from trace_lens.workspace.settings import AppSettings, Judgement, ProviderSettings, WorkspaceSettings, read_table
from trace_lens.workspace.trusting import HOW, Trust, config_words, files_inside, wrong_with

if TYPE_CHECKING:
    from collections.abc import Callable

    from trace_lens.oidc.jwk import Jwk
    from trace_lens.workspace.changes import Change

ROOT_FILE = "trace-lens.toml"
EVENTS_FILE = "events.duckdb"
"""Where the events of loaded logs are, within the folder of the workspace's own."""
M = TypeVar("M", AppSettings, ProviderSettings, WorkspaceSettings)
R = TypeVar("R")
_FILE_KEYS: dict[str, tuple[tuple[str, ...], ...]] = {
    "provider": (("metadata",), ("discovery",), ("key_set",), ("certificates",)),
    "app": (
        ("application", "metadata"),
        ("application", "decryption_key"),
        ("application", "trusted_certificates"),
        ("account", "list"),
        ("account", "groups"),
        ("provider_setup", "assigned"),
    ),
}
EVERYONE = "everyone"
_LOOPBACK = {"localhost", "127.0.0.1", "[::1]"}


@dataclass(frozen=True)
class Source:
    """One settings file as it was read: its path within the workspace and its text."""

    root: Path
    file: str
    text: str
    raw: dict[str, object]
    told: tuple[tuple[str, ...], ...] = ()

    def where(self, *path: str | int) -> str:
        """Line and key of a setting, for evidence; a setting that was only supposed stands in no line."""
        names = tuple(part for part in path if isinstance(part, str))
        if any(names[: len(pair)] == pair for pair in self.told):
            return f"told by --set › {'.'.join(names)}"
        key = "".join(f"[{part + 1}]" if isinstance(part, int) else f".{part}" for part in path).lstrip(".")
        return f"line {line_of(self.text, path)} › {key}"

    def read(self, name: str) -> bytes:
        """A file that this one names, relative to the workspace."""
        return (self.root / name).read_bytes()

    def problem(self, name: str, reason: str, line: int = 1) -> SettingsError:
        """The error for a file that this one names and that cannot be used."""
        return SettingsError([Problem(name, line, "", reason)])


@dataclass(frozen=True)
class Provider:
    """One provider on record."""

    id: str
    settings: ProviderSettings
    source: Source

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

    def where_entity_id(self) -> tuple[str, str]:
        """File and place of its entity ID."""
        if self.settings.entity_id or not self.entity or not self.settings.metadata:
            return self.source.file, self.source.where("entity_id")
        return self.settings.metadata, self.entity.where


@dataclass(frozen=True)
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
        return self._list(account.list_file, lambda data: lists.read_accounts(data, account.column))

    @cached_property
    def members(self) -> Membership:
        """Who is in which of its groups; nobody where none are declared. Raises SettingsError."""
        return self._list(self.settings.account.groups, lists.read_members) or Membership(())

    @cached_property
    def assignments(self) -> list[AssignmentRow] | None:
        """Who may use it; None where no list is declared, or everyone may. Raises SettingsError."""
        name = self.settings.provider_setup.assigned
        return self._list(None if name == EVERYONE else name, lists.read_assignments)

    def _list(self, name: str | None, read: Callable[[bytes], R]) -> R | None:
        if name is None:
            return None
        try:
            return read(self.source.read(name))
        except ListError as error:
            raise self.source.problem(name, str(error), error.line) from None
        except OSError as error:
            raise self.source.problem(name, f"cannot be read: {error.strerror}") from None


@dataclass(frozen=True)
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

    def provider_of(self, app: App | None) -> Provider | None:
        """The provider that an application trusts."""
        return self.providers.get(app.provider_id or "") if app else None

    @property
    def has_logs(self) -> bool:
        """Whether logs were loaded, here or into the store elsewhere that is set."""
        if self.root is None:
            return False
        return self.settings.store != "duckdb" or (self.root / OWN_FOLDER / EVENTS_FILE).exists()

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
        try:
            return certificates_in(((self.root or Path()) / name).read_bytes())
        except OSError:
            return []


class SettingsSeen:
    """The settings files that were found valid before, by their hash, kept in the user's own cache.

    Validating takes far longer than reading, and settings change rarely. Where the cache cannot be written, they are
    validated each time. What a workspace brings along is never believed.
    """

    def __init__(self, root: Path) -> None:
        name = hashlib.sha256(os.fsencode(root.absolute())).hexdigest()[:24]
        self._now: set[str] = set()
        try:
            self._file: Path | None = cache_folder() / "settings" / name
        except RuntimeError:  # there is no home
            self._file = None
            self._before: set[str] = set()
            return
        try:
            self._before = set(self._file.read_text("ascii").split())
        except (OSError, UnicodeDecodeError):
            self._before = set()

    def valid(self, kind: str, text: str) -> bool:
        """Whether this very text was found valid as this kind of file by this very code."""
        mark = hashlib.sha256(f"{_schema()}\0{kind}\0{text}".encode()).hexdigest()
        self._now.add(mark)
        return mark in self._before

    def keep(self) -> None:
        """Remember the files asked for, all of which have turned out valid."""
        if self._now == self._before or self._file is None:
            return
        try:
            self._file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            write_privately(self._file, ("\n".join(sorted(self._now)) + "\n").encode("ascii"))
            kept = sorted(self._file.parent.iterdir(), key=lambda file: file.stat().st_mtime)
            for file in kept[: -limits.REMEMBERED_WORKSPACES]:
                file.unlink(missing_ok=True)
        except OSError:
            return


@cache
def _schema() -> str:
    """A digest of the code that says what is valid, so that no other version of it is believed."""
    folder = Path(__file__).parent
    code = b"".join((folder / f"{name}.py").read_bytes() for name in ("settings", "validation", "problems"))
    return hashlib.sha256(__version__.encode() + code).hexdigest()


def find_workspace(start: Path) -> Path | None:
    """The nearest folder at or above `start` that holds a workspace."""
    for folder in (start, *start.parents):
        if (folder / ROOT_FILE).is_file():
            return folder
    return None


def load_workspace(root: Path, ask: Callable[[str], str | None] | None = None, trust: Trust | None = None) -> Workspace:
    """Read all settings of a workspace. Raises SettingsError with everything that is wrong in them.

    `ask` gets a password from the user where a key needs one. `trust` says what outside of it may be followed; without
    it nothing is.
    """
    trust = trust or Trust()
    problems: list[Problem] = []
    seen = SettingsSeen(root)
    problems += _leading_out(root, trust)
    main = _read(root, ROOT_FILE, WorkspaceSettings, problems, seen)
    settings = main[0] if main else WorkspaceSettings()
    providers: dict[str, Provider] = {}
    for name, file in _settings_files(root, "providers"):
        read = _read(root, file, ProviderSettings, problems, seen)
        if read:
            providers[name] = Provider(name, *read)
            problems += missing_files(read[1], "provider", trust)
    apps: dict[str, App] = {}
    known = {name for name, _ in _settings_files(root, "providers")}
    for name, file in _settings_files(root, "apps"):
        loaded = _read(root, file, AppSettings, problems, seen)
        if loaded:
            apps[name] = App(name, *loaded, settings)
            problems += missing_files(loaded[1], "app", trust)
            problems += _unknown_provider(apps[name], known)
    if main and not problems:
        problems += _store_elsewhere(root, settings.store, main[1], trust)
    if problems:
        raise SettingsError(problems)
    seen.keep()
    return Workspace(root=root, settings=settings, apps=apps, providers=providers, ask=ask, trust=trust)


def _leading_out(root: Path, trust: Trust) -> list[Problem]:
    """Settings files, and the list of changes, that are links to somewhere else."""
    from trace_lens.workspace.changes import CHANGES_FILE

    names = [
        ROOT_FILE,
        CHANGES_FILE,
        *(file for folder in ("providers", "apps") for _, file in _settings_files(root, folder)),
    ]
    found = ((name, wrong_with(root, root / name, trust)) for name in names if (root / name).is_symlink())
    return [Problem(name, 1, "", wrong) for name, wrong in found if wrong]


def _store_elsewhere(root: Path, store: str, source: Source, trust: Trust) -> list[Problem]:
    """A store of logs on another host, or outside of the workspace, that is not to be used."""
    if store == "duckdb":
        return []
    where, _, folder = store.partition("//")[2].partition("/")
    host = where.partition(":")[0]
    line = line_of(source.text, ("store",))
    if not host.startswith("local") and host not in _LOOPBACK and not trust.allows(f"{store}, a store on another host"):
        reason = f"names a store on another host ({host}), so it was not opened. {HOW} {config_words()}"
        return [Problem(source.file, line, "store", reason)]
    wrong = wrong_with(root, Path("/" + folder), trust) if folder else None
    return [Problem(source.file, line, "store", f"names /{folder}, which {wrong}")] if wrong else []


def _settings_files(root: Path, folder: str) -> list[tuple[str, str]]:
    return [(path.stem, f"{folder}/{path.name}") for path in sorted((root / folder).glob("*.toml"))]


def _read(
    root: Path, file: str, record: type[M], problems: list[Problem], seen: SettingsSeen
) -> tuple[M, Source] | None:
    try:
        text = as_utf8((root / file).read_bytes()).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        problems.append(Problem(file, 1, "", f"is not UTF-8 text (byte {error.start})"))
        return None
    except OSError as error:
        problems.append(Problem(file, 1, "", f"cannot be read: {error.strerror}"))
        return None
    raw = load_toml(text, file, problems)
    if raw is None:
        return None
    if not seen.valid(record.__name__, text):
        from trace_lens.workspace.validation import validate

        wrong = validate(record, raw, file, text)
        if wrong:
            problems += wrong
            return None
    return read_table(record, raw), Source(root, file, text, raw)


def missing_files(source: Source, kind: str, trust: Trust | None = None) -> list[Problem]:
    """Files that the settings (of an `app` or a `provider`) name and that are not there, or that `trust`, where it is
    given, does not let them lead to.
    """
    from trace_lens.pki.fingerprints import FingerprintError, is_fingerprint, read_fingerprint

    problems = []
    for path in _FILE_KEYS[kind]:
        value: object = source.raw
        for key in path:
            value = value.get(key) if isinstance(value, dict) else None
        for name in value if isinstance(value, list) else [value]:
            if not isinstance(name, str) or (path[-1] == "assigned" and name == EVERYONE):
                continue
            line, key = line_of(source.text, path), ".".join(path)
            if path[-1] in ("trusted_certificates", "certificates") and is_fingerprint(name):
                try:
                    read_fingerprint(name)
                except FingerprintError as error:
                    problems.append(Problem(source.file, line, key, str(error)))
                continue
            target = source.root / name
            wrong = wrong_with(source.root, target, trust) if trust else None
            if wrong:
                problems.append(Problem(source.file, line, key, f"names {name}, which {wrong}"))
            elif target.is_dir():
                problems.append(Problem(source.file, line, key, f"names {name}, which is a folder"))
            elif not target.exists():
                problems.append(Problem(source.file, line, key, f"names {name}, which does not exist"))
    return problems


def _unknown_provider(app: App, known: set[str]) -> list[Problem]:
    from trace_lens.common.difference import nearest

    if app.provider_id is None or app.provider_id in known:
        return []
    line = line_of(app.source.text, ("provider",))
    reason = f"names {app.provider_id}, and there is no providers/{app.provider_id}.toml"
    return [
        Problem(
            file=app.source.file,
            line=line,
            key="provider",
            reason=reason,
            nearest=nearest(app.provider_id, sorted(known)),
        )
    ]


def _json(source: Source, name: str | None) -> object:
    """A JSON file that a settings file names; None where it names none."""
    from trace_lens.oidc.strict_json import JsonDamaged, read_json

    if name is None:
        return None
    try:
        return read_json(source.read(name)).value
    except JsonDamaged as error:
        raise source.problem(name, f"is no JSON that can be read: {error.reason}") from None
    except OSError as error:
        raise source.problem(name, f"cannot be read: {error.strerror}") from None


def _entity(source: Source, name: str, entity_id: str | None, role: str) -> Entity:
    try:
        entity, _ = find_entity(source.read(name), entity_id, role)
    except XMLDamaged as error:
        raise source.problem(name, f"is no metadata that can be read: {error.reason}", error.line or 1) from None
    except OSError as error:
        raise source.problem(name, f"cannot be read: {error.strerror}") from None
    if entity is None:
        raise source.problem(name, "is no SAML metadata: it holds no EntityDescriptor")
    return entity
