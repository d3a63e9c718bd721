"""Documents against their last snapshots, as blocks."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from trace_lens.common.moments import show_moment
from trace_lens.fleet.drifting import ADDED, BREAK, CHANGED, FIRST, REMOVED, RISK, SAME, DocumentHit, Drift, ItemChange
from trace_lens.render.document import BLANK, Document, Paragraph, Span, answer, heading, prose, shown, spans_of
from trace_lens.workspace.records import Workspace

_MOST = 12
"""So many changes of one document that hit nobody are told one by one."""


def drift_pages(found: Sequence[Drift], workspace: Workspace, now: datetime, *, kept: bool) -> Document:
    """The answer first; then each document with what changed in it."""
    yield from _answer(found)
    for item in found:
        if item.status == CHANGED or item.because:
            yield BLANK
            yield from _document(item, workspace)
    yield from _others(found, kept=kept)


def _answer(found: Sequence[Drift]) -> Document:
    hit = {hit.app for item in found for hit in item.hits}
    breaks = {hit.app for item in found for hit in item.hits if hit.severity == BREAK}
    changed = sum(item.status == CHANGED for item in found)
    failed = sum(item.because is not None for item in found)
    words = f"{changed} of {len(found)} documents changed"
    words += f"; {failed} could not be had" if failed else ""
    if breaks:
        yield answer("A BREAK TO COME", "break", f": {words}; {_count(len(breaks))} will fail, {_count(len(hit))} hit.")
    elif hit:
        yield answer("CHANGED", "risk", f": {words}; {_count(len(hit))} hit.")
    elif failed:
        yield answer("NOT ALL READ", "unchecked", f": {words}.")
    elif changed:
        yield answer("CHANGED", "note", f": {words}; no application is hit.")
    elif found and all(item.status == FIRST for item in found):
        yield answer("FIRST SNAPSHOT", "note", f": {len(found)} documents read for the first time; nothing to compare.")
    else:
        yield answer("SAME", "ok", f": {words}." if found else ": no document is on record.")


def _document(item: Drift, workspace: Workspace) -> Document:
    owner = item.document.provider or item.document.app
    name = owner.name if owner else ""
    since = f", since {show_moment(item.before.at.replace(microsecond=0))}" if item.before else ""
    yield heading(f"{item.document.kind} of {name}: {shown(item.document.name)}{since}")
    if item.because:
        yield Paragraph(spans_of(Span(item.code or "", "break"), f": {shown(item.because)}"), 2)
        if item.before:
            yield prose("What the last snapshot says still counts.", 2, "quiet")
        return
    ordered = sorted(item.changes, key=lambda change: not change.hits)
    quiet = [change for change in ordered if not change.hits]
    for change in [change for change in ordered if change.hits] + quiet[:_MOST]:
        yield from _change(change, workspace)
    if len(quiet) > _MOST:
        yield prose(f"{len(quiet) - _MOST} more changes hit nobody (--format json lists them)", 2, "quiet")


def _change(change: ItemChange, workspace: Workspace) -> Document:
    if change.change == ADDED:
        yield prose(f"new {change.item}: {shown(change.after or '')}", 2)
    elif change.change == REMOVED:
        yield prose(f"gone {change.item}: {shown(change.before or '')}", 2)
    else:
        yield prose(f"{change.item} changed", 2)
        yield prose(f"from {shown(change.before or '')}", 4)
        yield prose(f"to   {shown(change.after or '')}", 4)
    groups: dict[tuple[str, str, tuple[str, ...]], list[DocumentHit]] = {}
    for hit in change.hits:
        groups.setdefault((hit.code, hit.severity, hit.alike), []).append(hit)
    for (code, severity, _), hits in groups.items():
        style = {BREAK: "break", RISK: "risk"}.get(severity, "note")
        yield Paragraph(spans_of(Span(severity, style), f" {code}: {shown(str(hits[0].detail))}"), 4)
        if len(hits) > 1:
            names = ", ".join(workspace.apps[hit.app].name for hit in hits[1:])
            yield prose(f"So also: {names}.", 6)


def _others(found: Sequence[Drift], *, kept: bool) -> Document:
    same = [item for item in found if item.status == SAME]
    first = [item for item in found if item.status == FIRST]
    if same or first:
        yield BLANK
    if same:
        yield prose(f"Same as before: {', '.join(shown(item.document.name) for item in same)}.", style="quiet")
    if first:
        words = "kept as the first snapshot" if kept else "no snapshot to compare with, and none kept"
        yield prose(
            f"Read for the first time ({words}): {', '.join(shown(item.document.name) for item in first)}.",
            style="quiet",
        )


def _count(number: int) -> str:
    return f"{number} application{'' if number == 1 else 's'}"
