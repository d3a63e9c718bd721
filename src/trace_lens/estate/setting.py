"""One setting changed on record, with the line in `changes.csv` that says so."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import tomli

from trace_lens.common.moments import show_moment
from trace_lens.common.octets import as_utf8
from trace_lens.common.toml import inline, inline_item
from trace_lens.estate.merging import Difference, item_of, put_at_top
from trace_lens.estate.plans import Planned, put
from trace_lens.workspace.adding import APP, PROVIDER, RECORDS
from trace_lens.workspace.changes import CHANGES_FILE, COLUMNS, TAKES
from trace_lens.workspace.loading import missing_files
from trace_lens.workspace.problems import Problem, SettingsError
from trace_lens.workspace.records import App, Provider, Source, Workspace
from trace_lens.workspace.settings import fields_of
from trace_lens.workspace.trial_settings import TrialSetting
from trace_lens.workspace.trial_settings import put as put_raw
from trace_lens.workspace.validation import validate


def changed(workspace: Workspace, name: str, settings: Sequence[TrialSetting]) -> list[Planned]:
    """The files of an application, and of its provider, with the settings put into them.

    `name` may be a provider's, too. Keys that begin with `provider.` are the provider's. Raises SettingsError with all
    that is wrong, KeyError where the name is not on record.
    """
    app = workspace.apps.get(name)
    own = [setting for setting in settings if app is None or not setting.of_provider]
    theirs = [setting._replace(path=setting.path[1:]) for setting in settings if app and setting.of_provider]
    files = []
    if own:
        files.append(_changed(workspace, app or workspace.providers[name], APP if app else PROVIDER, own))
    if theirs and app:
        provider = workspace.provider_of(app)
        if provider is None:
            raise SettingsError([Problem(app.source.file, 0, "provider", "names no provider on record")])
        files.append(_changed(workspace, provider, PROVIDER, theirs))
    return files


def _changed(workspace: Workspace, held: App | Provider, kind: str, settings: Sequence[TrialSetting]) -> Planned:
    import tomlkit

    document: Any = tomlkit.parse(held.source.text)
    problems: list[Problem] = []
    found = []
    for setting in settings:
        before = _value_at(held.source.raw, setting.path)
        if len(setting.path) == 1 and setting.path[0] not in document:
            put_at_top(document, setting.path[0], setting.value)
        else:
            _set(document, RECORDS[kind], setting, problems)
        found.append(Difference(setting.key, None if before is None else inline(before), inline(setting.value)))
    text = document.as_string()
    file = held.source.file
    if not problems:
        raw = tomli.loads(text)
        problems += validate(RECORDS[kind], raw, file, text)
        problems += missing_files(Source(held.source.root, file, text, raw), kind)
        provider = raw.get("provider")
        if kind == APP and isinstance(provider, str) and provider not in workspace.providers:
            problems.append(Problem(file, 0, "provider", f"names {provider}, which is not on record"))
    if problems:
        raise SettingsError([problem._replace(file=file) for problem in problems])
    return Planned(kind, held.id, text, False, tuple(change for change in found if change.before != change.after))


def _set(document: Any, record: Any, setting: TrialSetting, problems: list[Problem]) -> None:
    """Put a value into a document; an existing one keeps the comment behind it."""
    import tomlkit

    comment = getattr(getattr(_item_at(document, setting.path), "trivia", None), "comment", "")
    value = setting.value
    if not isinstance(value, str):
        value = inline_item(value)
    here = record
    for place, part in enumerate(setting.path[:-1]):
        field = next((field for field in fields_of(here) if field.key == part), None)
        if field is None or field.many or not field.record:
            break  # entries of a list are not made on the way: that the entry is not there is told
        holder: Any = _value_at(document, setting.path[:place])
        if part not in holder:
            holder.append(part, tomlkit.table())
        here = field.record
    put_raw(document, record, setting._replace(value=value), problems)
    now = _item_at(document, setting.path)
    if comment and now is not None:
        now.comment(comment.lstrip("# "))


def _item_at(document: Any, path: Sequence[str]) -> Any:
    """The entry at a path as tomlkit keeps it, with the comment behind it; None where there is none."""
    holder = _value_at(document, path[:-1])
    return item_of(holder, path[-1]) if isinstance(holder, dict) and path[-1] in holder else None


def _value_at(raw: Any, path: Sequence[str]) -> Any:
    value = raw
    for part in path:
        if isinstance(value, dict):
            value = value.get(part)
        elif isinstance(value, list):
            value = next((item for place, item in enumerate(value, 1) if part in (str(place), item.get("name"))), None)
        else:
            return None
    return value


def record_change(root: Path, *, at: datetime, app: str, what: str, who: str, takes: timedelta | None = None) -> None:
    """Write a line of `changes.csv`; columns that its header lacks are added. Raises OSError."""
    path = root / CHANGES_FILE
    text = as_utf8(path.read_bytes()).decode("utf-8-sig") if path.exists() else ""
    lines = text.splitlines()
    first = next((number for number, line in enumerate(lines) if line.strip()), None)
    header_line = lines[first] if first is not None else ",".join(COLUMNS)
    delimiter = max(",;\t", key=header_line.count)
    header = [name.strip() for name in next(csv.reader([header_line], delimiter=delimiter))]
    known = {name.lower() for name in header}
    header += [name for name in COLUMNS if name not in known]
    told = {
        "at": show_moment(at.replace(microsecond=0)),
        "app": app,
        "what": what,
        "who": who,
        "takes": _duration(takes) if takes is not None and takes != TAKES else "",
    }
    out = io.StringIO()
    writer = csv.writer(out, delimiter=delimiter, lineterminator="\n")
    writer.writerow(header)
    body = lines[first + 1 :] if first is not None else []
    for line in body:
        out.write(line + "\n")
    writer.writerow([told.get(name.lower(), "") for name in header])
    put(path, out.getvalue().encode())


def _duration(span: timedelta) -> str:
    seconds = round(span.total_seconds())
    for unit, length in (("d", 86400), ("h", 3600), ("m", 60)):
        if seconds and seconds % length == 0:
            return f"{seconds // length}{unit}"
    return f"{seconds}s"
