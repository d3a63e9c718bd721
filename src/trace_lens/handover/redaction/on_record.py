"""What a workspace holds: the values that copies keep, how its logs are read, and what of it some diagnoses need."""

from __future__ import annotations

import gzip
import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import tomli

from trace_lens.common.findings import Evidence
from trace_lens.common.octets import as_utf8
from trace_lens.common.sentences import FileName
from trace_lens.diagnosis.diagnosing import Result
from trace_lens.handover.redaction import markup
from trace_lens.handover.redaction.kept import patterns_of, strings_of
from trace_lens.handover.redaction.settings_copy import Needed
from trace_lens.logs.recognising.forms import form_of
from trace_lens.workspace.loading import ROOT_FILE
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.snapshots import newest
from trace_lens.workspace.sources import SourceFile
from trace_lens.workspace.trust import files_on_record


def told_in(workspace: Workspace) -> Iterator[str]:
    """Every value of the settings and of the documents that they name."""
    if workspace.root is not None and (workspace.root / ROOT_FILE).is_file():
        yield from strings_of(tomli.loads(as_utf8((workspace.root / ROOT_FILE).read_bytes()).decode("utf-8-sig")))
    for app in workspace.apps.values():
        yield from strings_of(app.source.raw)
        yield app.id
        yield from _in_document(workspace, app.settings.application.saml.metadata)
    for provider in workspace.providers.values():
        yield from strings_of(provider.source.raw)
        yield provider.id
        for name in (provider.settings.metadata, provider.settings.discovery, provider.settings.key_set):
            yield from _in_document(workspace, name)
    for table in _log_tables(workspace):
        yield from strings_of(table)


def _octets(workspace: Workspace, name: str | None) -> bytes | None:
    """A document on record: a file, or the newest snapshot of an address."""
    if workspace.root is None or not name:
        return None
    if "://" in name:
        held = newest(workspace.root, name)
        return held.read() if held else None
    return (workspace.root / name).read_bytes() if (workspace.root / name).is_file() else None


def _in_document(workspace: Workspace, name: str | None) -> Iterator[str]:
    """The values in a document; of metadata nothing that stands under a contact."""
    data = _octets(workspace, name)
    if data is None:
        return
    text = as_utf8(data).decode("utf-8-sig", "replace")
    if text.lstrip()[:1] == "<":
        found: list[str] = []

        def visit(piece: markup.Piece) -> str:
            if "ContactPerson" not in (*piece.above, piece.element) and not piece.is_comment:
                found.append(piece.text)
            return piece.text

        markup.rewritten(text, visit)
        yield from found
        return
    try:
        yield from strings_of(json.loads(text))
    except (ValueError, RecursionError):
        return


def _log_tables(workspace: Workspace) -> Iterator[dict[str, Any]]:
    folder = workspace.root / "logs" if workspace.root else None
    for path in sorted(folder.glob("*.toml")) if folder and folder.is_dir() else ():
        try:
            yield tomli.loads(as_utf8(path.read_bytes()).decode("utf-8-sig"))
        except (OSError, ValueError):
            continue


def columns_in(workspace: Workspace) -> tuple[list[str], list[str]]:
    """The columns that descriptions of logs say hold people, and those that hold something else."""
    people: list[str] = []
    others: list[str] = []
    for table in _log_tables(workspace):
        told = table.get("fields")
        for field, columns in told.items() if isinstance(told, dict) else ():
            named = columns if isinstance(columns, list) else [columns]
            (people if field == "user" else others).extend(str(column) for column in named)
    return people, others


def patterns_in(workspace: Workspace) -> Iterator[str]:
    """The expressions and texts in the rules for names."""
    for app in workspace.apps.values():
        yield from patterns_of(app.source.raw)
    for provider in workspace.providers.values():
        yield from patterns_of(provider.source.raw)


def log_form(source: SourceFile, workspace: Workspace) -> str | None:
    """The format of a log, by the description that names it, else by its content; None where it is none."""
    root = workspace.root
    for table in _log_tables(workspace):
        patterns = table.get("files")
        for pattern in [patterns] if isinstance(patterns, str) else patterns or []:
            if root is not None and Path(source.name).resolve() in {path.resolve() for path in root.glob(pattern)}:
                return str(table.get("format"))
    data = source.data or b""
    if data[:2] == b"\x1f\x8b":
        data = gzip.decompress(data)
    suffix = Path(source.name.removesuffix(".gz")).suffix
    if suffix in (".csv", ".log", ".jsonl", ".ndjson", ".tsv"):
        return form_of(data[:65536]).format
    return None


def needed_by(result: Result, workspace: Workspace) -> Needed:
    """What the diagnoses named: applications, providers, and files of the workspace."""
    apps = {diagnosis.app for diagnosis in result.diagnoses if diagnosis.app}
    providers = {diagnosis.provider for diagnosis in result.diagnoses if diagnosis.provider}
    providers |= {told for name in apps if (told := workspace.apps[name].provider_id)}
    files = {name for diagnosis in result.diagnoses for name in _files_in(diagnosis)}
    for name, provider in workspace.providers.items():
        own = provider.settings
        if not files.isdisjoint((own.metadata, own.discovery, own.key_set, *own.certificates)):
            providers.add(name)
    for folder, found, known in (("apps", apps, workspace.apps), ("providers", providers, workspace.providers)):
        named = {Path(name).stem for name in files if name.startswith(f"{folder}/")}
        found |= named & known.keys()
    return Needed(
        frozenset(apps),
        frozenset(providers),
        frozenset(files & {*files_on_record(workspace), *_documents(workspace)}),
    )


def everything_in(workspace: Workspace) -> Needed:
    """All applications, providers and documents."""
    documents = (*workspace.files_in("certs"), *_documents(workspace))
    return Needed(frozenset(workspace.apps), frozenset(workspace.providers), frozenset(documents))


def _documents(workspace: Workspace) -> list[str]:
    return [*workspace.files_in("metadata"), *workspace.files_in("discovery")]


def _files_in(value: Any) -> Iterator[str]:
    """The files that a diagnosis names."""
    if isinstance(value, FileName):
        yield str(value)
    elif isinstance(value, Evidence):
        yield value.source
    elif isinstance(value, str) and hasattr(value, "values"):
        for part in value.values.values():
            yield from _files_in(part)
    elif isinstance(value, tuple):
        for member in value:
            yield from _files_in(member)
