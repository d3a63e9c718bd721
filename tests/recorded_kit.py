"""The recorded sign-ins: exports of real browsers between real systems, each with what a fair expert expects of it."""

from __future__ import annotations

import gzip
import json
import shutil
import tempfile
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

import tomlkit

from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile

FOLDER = Path(__file__).parent / "recorded"
EXPECTED: dict[str, dict[str, Any]] = json.loads((FOLDER / "expected.json").read_text())
NOW = datetime(2026, 12, 1, tzinfo=UTC)


def export_of(name: str) -> dict[str, Any]:
    """The export of a recording as JSON."""
    read: dict[str, Any] = json.loads(gzip.decompress((FOLDER / "captures" / f"{name}.har.gz").read_bytes()))
    return read


def source_of(name: str, export: dict[str, Any] | None = None) -> SourceFile:
    """A recording as a source, or an altered copy of its export."""
    if export is not None:
        return SourceFile(f"{name}.har", json.dumps(export).encode())
    return SourceFile(f"{name}.har", (FOLDER / "captures" / f"{name}.har.gz").read_bytes())


def workspace_of(name: str) -> Workspace:
    """The settings on record for a recording: those of all, with the lines exchanged that it says."""
    told = EXPECTED[name]
    return _workspace(tuple(tuple(one) for one in told.get("record", ())), told.get("keys", ""))


@cache
def _workspace(changes: tuple[tuple[str, ...], ...], keys: str) -> Workspace:
    root = Path(tempfile.mkdtemp(prefix="recorded-"))
    try:
        shutil.copytree(FOLDER / "workspace", root, dirs_exist_ok=True)
        if keys:
            shutil.copytree(FOLDER / f"workspace-{keys}", root, dirs_exist_ok=True)
        for file, old, new in changes:
            text = (root / file).read_text()
            if old not in text:
                raise ValueError(f"{old!r} is not in {file}")
            (root / file).write_text(text.replace(old, new))
        workspace = load_workspace(root)
        for app in workspace.apps.values():
            _ = app.accounts, app.assignments
        for provider in workspace.providers.values():
            _ = provider.discovery
        return workspace
    finally:
        import atexit

        atexit.register(shutil.rmtree, root, ignore_errors=True)


OTHER_RECORDS: dict[str, Any] = {
    "provider": "tidewater",
    "claims": [{"name": "nonesuch", "need": "must"}],
    "account.list": "accounts/none.csv",
    "account.from": "nonesuch",
    "provider_setup.assigned": "assignments/none.csv",
    "application.clock_skew": "0s",
    "application.sign_in_url": "https://other.northmere.example/",
    "application.entity_id": "https://other.northmere.example/saml",
    "application.acs_urls": ["https://other.northmere.example/acs"],
    "application.provider_entity_id": "https://other.example/saml",
    "application.trusted_certificates": ["certs/skerry-old.pem"],
    "application.name_id_format": "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent",
    "application.signed_part": "both",
    "application.authn_contexts": ["urn:oasis:names:tc:SAML:2.0:ac:classes:TimeSyncToken"],
    "application.client_id": "other-client",
    "application.redirect_uris": ["https://other.northmere.example/callback"],
    "application.token_algorithm": ["ES512"],
    "application.max_age": "1s",
    "application.acr_values": ["urn:other"],
    "application.scopes": ["openid", "nonesuch"],
    "application.provider_issuer": "https://other.example",
    "application.response_mode": "form_post",
}
"""Settings of an application as a stale record may have them."""


def stale(root: Path, name: str, app: str, key: str) -> Workspace | None:
    """The settings on record for a recording, but for one of an application; None where it has no such setting."""
    keys = EXPECTED[name].get("keys")
    for folder in ("workspace", *([f"workspace-{keys}"] if keys else [])):
        shutil.copytree(FOLDER / folder, root, dirs_exist_ok=True)
    for changed, old, new in EXPECTED[name].get("record", ()):
        (root / changed).write_text((root / changed).read_text().replace(old, new))
    for folder in ("accounts", "assignments"):
        (root / folder / "none.csv").write_text("user\nnobody@northmere.example\n")
    file = root / f"apps/{app}.toml"
    settings: Any = tomlkit.parse(file.read_text())
    *tables, last = key.split(".")
    table = settings
    for part in tables:
        table = table.setdefault(part, tomlkit.table())
    table[last] = OTHER_RECORDS[key]
    file.write_text(tomlkit.dumps(settings))
    try:
        return load_workspace(root)
    except SettingsError:
        return None


def judged(name: str, *sources: SourceFile, app: str | None = None) -> tuple[Diagnosis, ...]:
    """The diagnoses of a recording, or of other sources under its settings."""
    result = diagnose_sources(sources or (source_of(name),), workspace_of(name), Options(NOW, app=app), workers=1)
    return result.diagnoses


def mistakes(name: str, diagnoses: tuple[Diagnosis, ...]) -> list[str]:
    """What the diagnoses say that the expert does not."""
    expected = EXPECTED[name]["expect"]
    if len(expected) != len(diagnoses):
        told = ", ".join(
            f"{one.outcome} {one.first_break.code if one.first_break else ''}".strip() for one in diagnoses
        )
        return [f"{len(expected)} attempts expected, {len(diagnoses)} diagnosed ({told})"]
    found: list[str] = []
    for number, (wanted, one) in enumerate(zip(expected, diagnoses, strict=True), 1):
        first = one.first_break.code if one.first_break else None
        codes = {each.code for each in one.findings}
        if one.outcome != wanted["outcome"]:
            because = f" ({first})" if first else f" ({one.cause[:120]})" if one.outcome == "inconclusive" else ""
            found.append(f"attempt {number}: {wanted['outcome']} expected, {one.outcome}{because}")
        elif "first" in wanted and first not in wanted["first"]:
            found.append(f"attempt {number}: first break {' or '.join(wanted['first'])} expected, {first}")
        if one.app != wanted["app"]:
            found.append(f"attempt {number}: application {wanted['app']} expected, {one.app}")
        found += [f"attempt {number}: {code} is not told" for code in wanted.get("has", ()) if code not in codes]
        found += [f"attempt {number}: {code} is told" for code in wanted.get("not", ()) if code in codes]
    return found
