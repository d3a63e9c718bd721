"""Explanations, certificates and applications in the terminal."""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any

from trace_lens.common import catalogue
from trace_lens.common.catalogue import Entry
from trace_lens.common.findings import Side
from trace_lens.render.document import BLANK, Copied, Document, Fact, Span, heading, line, prose, table

_PLACES = 6
_OTHERS = 6
if TYPE_CHECKING:
    from trace_lens.common.symptoms import Symptom
    from trace_lens.workspace.records import App, Workspace

_WHO = {
    Side.APPLICATION: "Application",
    Side.PROVIDER: "Provider",
    Side.USER: "User",
    Side.NETWORK: "Network",
    Side.BOTH: "Both sides",
}


def explanation(entry: Entry) -> Document:
    """One finding explained."""
    yield heading(Span(entry.code, "head"), f": {entry.title}")
    severities = " or ".join(entry.severities)
    yield Fact("stage", f"{entry.stage}; it is a {severities}", column=13)
    yield BLANK
    yield prose(entry.why)
    for head, items in (("Usual causes", entry.causes), ("What to look at", (entry.look,))):
        yield BLANK
        yield heading(Span(head, "head"))
        for item in items:
            yield prose(item, 2, first="- " if len(items) > 1 else "")
    yield BLANK
    yield heading(Span("What repairs it", "head"))
    for side, remedy in entry.remedies.items():
        yield Fact(_WHO[side], remedy, column=13)
    yield BLANK
    yield Fact("standard", entry.reference, column=13)


def heard(found: Sequence[Symptom], entries: Sequence[Entry]) -> Document:
    """What a caller's words are about: the best complaint in full, others by name, then findings with these words."""
    best, *others = found
    yield heading(Span(best.title, "head"), level=1)
    for head, items in (("Ask", best.questions), ("Record", best.record)):
        yield BLANK
        yield heading(Span(head, "head"))
        for item in items:
            yield prose(item, 2, first="- ")
    yield BLANK
    yield heading(Span("Run", "head"))
    for command in best.commands:
        yield Copied(command, is_command=True)
    yield BLANK
    yield heading(Span("It usually ends in", "head"), ", the likeliest first")
    for code in best.findings:
        yield line("  ", Span(code.ljust(31), ""), catalogue.entry(code).title)
    if others:
        yield BLANK
        yield heading(Span("Also said like that", "head"))
        for symptom in others[:_OTHERS]:
            yield prose(symptom.title, 2, first="- ")
    if entries:
        yield BLANK
        yield heading(Span("Findings with these words", "head"))
        for entry in entries[:_OTHERS]:
            yield line("  ", Span(entry.code.ljust(31), ""), entry.title)


def listing(entries: Iterable[Entry]) -> Document:
    """Findings, one a line, under their stages."""
    stage = None
    for entry in entries:
        if entry.stage != stage:
            if stage:
                yield BLANK
            stage = entry.stage
            yield heading(Span(str(stage), "head"))
        yield line("  ", Span(entry.code.ljust(31), entry.severity), entry.title)


def ranked(entries: Iterable[Entry]) -> Document:
    """Findings that were looked for, the best first, one a line with its stage."""
    for entry in entries:
        yield line(Span(entry.code.ljust(31), entry.severity), Span(entry.stage.ljust(12), "quiet"), entry.title)


def app_list(apps: Iterable[App], workspace: Workspace) -> Document:
    """Applications, one a line."""
    rows = [
        (
            app.id,
            app.name,
            app.settings.protocol,
            app.provider_id or "(none)",
            app.entity_id or app.settings.application.oidc.client_id or "",
        )
        for app in apps
    ]
    if not rows:
        yield line("No applications are on record. trace-lens init makes a workspace with a commented example.")
        return
    yield table(("application", "name", "protocol", "provider", "identifier"), rows, indent=0)


def app_shown(app: App) -> Document:
    """All settings of one application, with the line of each."""
    yield heading(Span(app.name, "head"), f" ({app.id}), {app.source.file}")
    yield from _settings(app, app.source.raw, ())


def _settings(app: App, raw: dict[str, Any], path: tuple[str | int, ...]) -> Document:
    nested = {key: value for key, value in raw.items() if isinstance(value, dict) or _is_tables(value)}
    for key, value in raw.items():
        if key not in nested:
            text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
            yield Fact(key, text, column=26)
    for key, value in nested.items():
        for position, item in enumerate(value if isinstance(value, list) else [value]):
            where = (*path, key, position) if isinstance(value, list) else (*path, key)
            yield BLANK
            yield heading(".".join(str(part) for part in where if isinstance(part, str)))
            yield from _settings(app, item, where)


def _is_tables(value: object) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(item, dict) for item in value)
