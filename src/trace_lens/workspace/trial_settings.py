"""Settings as they might be: a value tried on one application, or on its provider, without touching any file."""

from __future__ import annotations

import copy
from dataclasses import replace
from typing import Any

import tomli

from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.loading import missing_files
from trace_lens.workspace.problems import Problem, SettingsError
from trace_lens.workspace.records import App, Provider, Source, Workspace
from trace_lens.workspace.settings import AppSettings, ProviderSettings, fields_of, read_table

TOLD = "--set"
"""What evidence and errors name as the place of a value that was only supposed."""


class TrialSetting(NamedTuple):
    """One setting supposed to be so: its key, taken apart, and its value as TOML has it.

    `proposed` marks one that this program offers: it is of the form that the files may hold, and not asked again.
    """

    key: str
    path: tuple[str, ...]
    value: Any
    proposed: bool = False

    @property
    def of_provider(self) -> bool:
        """Whether it is one of the provider's own file (`provider.KEY`), not of the application's."""
        return self.path[0] == "provider" and len(self.path) > 1


def read_supposed(text: str) -> TrialSetting:
    """A setting from `KEY=VALUE`; a value that is no TOML is a text. Raises ValueError with the reason."""
    key, equals, value = text.partition("=")
    path = tuple(part.strip() for part in key.strip().split("."))
    if not equals or not all(path):
        raise ValueError(f"{text!r} is not of the form KEY=VALUE, like application.entity_id=https://app.example/")
    return TrialSetting(".".join(path), path, _value(value.strip()))


def _value(text: str) -> Any:
    try:
        return tomli.loads(f"value = {text}")["value"]
    except (ValueError, KeyError, RecursionError):
        return text


def with_trial_settings(workspace: Workspace, app: App, told: tuple[TrialSetting, ...]) -> Workspace:
    """A workspace in which one application and its provider have these settings.

    Raises SettingsError where a key or value is not one that the files may hold.
    """
    key = "; ".join(f"{setting.key}={setting.value!r}" for setting in told)
    return workspace.once(f"supposed {app.id} {key}", lambda: _suppose(workspace, app, told))


def _suppose(workspace: Workspace, app: App, told: tuple[TrialSetting, ...]) -> Workspace:
    raw = copy.deepcopy(app.source.raw)
    problems: list[Problem] = []
    own = [setting for setting in told if not setting.of_provider]
    for setting in own:
        _put(raw, AppSettings, setting, setting.path, problems)
    _valid(AppSettings, raw, own, problems)
    apps = dict(workspace.apps)
    providers = dict(workspace.providers)
    if not problems:
        changed = App(app.id, read_table(AppSettings, raw), _source(app.source, raw, own), app.defaults)
        problems += _of_told(missing_files(changed.source, "app"), own)
        apps[app.id] = changed
        if changed.provider_id and changed.provider_id not in providers:
            problems.append(Problem(TOLD, 0, "provider", f"names {changed.provider_id}, which is not on record"))
        theirs = [setting._replace(path=setting.path[1:]) for setting in told if setting.of_provider]
        provider = providers.get(changed.provider_id or "")
        if theirs and provider is None:
            problems.append(Problem(TOLD, 0, theirs[0].key, f"cannot be tried: {app.id} has no provider on record"))
        elif theirs and provider and not problems:
            providers[provider.id] = _provider(provider, theirs, problems)
    if problems:
        raise SettingsError(problems)
    return Workspace(
        root=workspace.root,
        settings=workspace.settings,
        apps=apps,
        providers=providers,
        ask=workspace.ask,
        trust=workspace.trust,
    )


def _provider(provider: Provider, told: list[TrialSetting], problems: list[Problem]) -> Provider:
    raw = copy.deepcopy(provider.source.raw)
    for setting in told:
        _put(raw, ProviderSettings, setting, setting.path, problems)
    _valid(ProviderSettings, raw, told, problems)
    if problems:
        return provider
    changed = Provider(provider.id, read_table(ProviderSettings, raw), _source(provider.source, raw, told))
    problems += _of_told(missing_files(changed.source, "provider"), told)
    return changed


def _source(source: Source, raw: dict[str, object], told: list[TrialSetting]) -> Source:
    return replace(source, raw=raw, told=tuple(setting.path for setting in told))


def put(raw: Any, record: Any, setting: TrialSetting, problems: list[Problem]) -> None:
    """Put a setting into the raw table of a file of this record; what cannot be is added to the problems."""
    _put(raw, record, setting, setting.path, problems)


def _put(raw: Any, record: Any, setting: TrialSetting, path: tuple[str, ...], problems: list[Problem]) -> None:
    """Put a value into a table, making the tables on the way; a list that holds texts takes a single text too."""
    fields = {field.key: field for field in fields_of(record)}
    field = fields.get(path[0])
    if len(path) == 1:
        many = field is not None and field.many and not field.record
        raw[path[0]] = [setting.value] if many and isinstance(setting.value, str) else setting.value
    elif field is not None and field.record and field.many:
        rows = raw.setdefault(path[0], [])
        row = _row(rows, path[1])
        if row is None or len(path) < 3:
            reason = f"names no entry of {path[0]}: give its name or its number, from 1 to {len(rows)}"
            problems.append(Problem(TOLD, 0, setting.key, reason))
        else:
            _put(row, field.record, setting, path[2:], problems)
    elif field is not None and field.record:
        _put(raw.setdefault(path[0], {}), field.record, setting, path[1:], problems)
    elif isinstance(raw.setdefault(path[0], {}), dict):
        raw[path[0]][".".join(path[1:])] = setting.value
    else:
        problems.append(Problem(TOLD, 0, setting.key, f"cannot be set: {path[0]} is no table"))


def _row(rows: list[dict[str, Any]], name: str) -> dict[str, Any] | None:
    for position, row in enumerate(rows, 1):
        if name in (str(position), row.get("name")):
            return row
    return None


def _valid(record: type, raw: dict[str, Any], told: list[TrialSetting], problems: list[Problem]) -> None:
    if problems or all(setting.proposed for setting in told):
        return
    from trace_lens.workspace.validation import validate

    problems += _of_told(validate(record, raw, TOLD, ""), told)


def _of_told(found: list[Problem], told: list[TrialSetting]) -> list[Problem]:
    return [problem._replace(file=TOLD, line=0) for problem in found] if told else []
