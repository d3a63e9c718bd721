"""A folder into a `Workspace`: its files found, validated all together, their lists and certificates read on demand."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from trace_lens.common.octets import as_utf8
from trace_lens.workspace.places import line_of
from trace_lens.workspace.problems import Problem, SettingsError, load_toml
from trace_lens.workspace.records import EVERYONE, App, Provider, Source, Workspace
from trace_lens.workspace.seen_settings import SettingsSeen
from trace_lens.workspace.settings import AppSettings, ProviderSettings, WorkspaceSettings, read_table
from trace_lens.workspace.trusting import HOW, Trust, config_words, wrong_with

if TYPE_CHECKING:
    from collections.abc import Callable


ROOT_FILE = "trace-lens.toml"
M = TypeVar("M", AppSettings, ProviderSettings, WorkspaceSettings)
_FILE_KEYS: dict[str, tuple[tuple[str, ...], ...]] = {
    "provider": (("metadata",), ("discovery",), ("key_set",), ("certificates",)),
    "app": (
        ("application", "metadata"),
        ("application", "decryption_key"),
        ("application", "trusted_certificates"),
        ("application", "seen_certificates"),
        ("account", "list"),
        ("account", "groups"),
        ("provider_setup", "assigned"),
    ),
}
_FETCHED = ("metadata", "discovery", "key_set")
"""Documents of a provider that may be named by their address."""
_LOOPBACK = {"localhost", "127.0.0.1", "[::1]"}


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
    folders: dict[str, str] = {}
    providers: dict[str, Provider] = {}
    for name, file in _settings_files(root, "providers"):
        read = _read(root, file, ProviderSettings, problems, seen)
        if read:
            providers[name] = Provider(name, *read)
            problems += missing_files(read[1], "provider", trust, folders)
    apps: dict[str, App] = {}
    known = {name for name, _ in _settings_files(root, "providers")}
    for name, file in _settings_files(root, "apps"):
        loaded = _read(root, file, AppSettings, problems, seen)
        if loaded:
            apps[name] = App(name, *loaded, settings)
            problems += missing_files(loaded[1], "app", trust, folders)
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


def missing_files(
    source: Source, kind: str, trust: Trust | None = None, folders: dict[str, str] | None = None
) -> list[Problem]:
    """Files that the settings (of an `app` or a `provider`) name and that are not there, or that `trust`, where it is
    given, does not let them lead to. `folders` keeps where folders really are, for many files of settings.
    """
    from trace_lens.pki.fingerprints import FingerprintError, is_fingerprint, read_fingerprint
    from trace_lens.workspace.snapshots import is_address

    problems = []
    for path in _FILE_KEYS[kind]:
        value: object = source.raw
        for key in path:
            value = value.get(key) if isinstance(value, dict) else None
        for name in value if isinstance(value, list) else [value]:
            if not isinstance(name, str) or (path[-1] == "assigned" and name == EVERYONE):
                continue

            def problem(reason: str, path: tuple[str, ...] = path) -> Problem:
                return Problem(source.file, line_of(source.text, path), ".".join(path), reason)

            if path[-1] in ("trusted_certificates", "seen_certificates", "certificates") and is_fingerprint(name):
                try:
                    read_fingerprint(name)
                except FingerprintError as error:
                    problems.append(problem(str(error)))
                continue
            if kind == "provider" and path[-1] in _FETCHED and "://" in name:
                if not is_address(name):
                    problems.append(problem(f"names {name}, which is no https address"))
                continue
            target = source.root / name
            wrong = wrong_with(source.root, target, trust, folders) if trust else None
            if wrong:
                problems.append(problem(f"names {name}, which {wrong}"))
            elif target.is_dir():
                problems.append(problem(f"names {name}, which is a folder"))
            elif not target.exists():
                problems.append(problem(f"names {name}, which does not exist"))
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
