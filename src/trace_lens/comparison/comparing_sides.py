"""The two sides of one application compared, with a capture beside them where one is given."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from trace_lens.agreement.explaining import misplaced_value
from trace_lens.agreement.rows import Copy, Row
from trace_lens.agreement.settings import of_app
from trace_lens.agreement.sides import copies, rows
from trace_lens.common.findings import Finding, Stage
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.gathering import attempts_of
from trace_lens.diagnosis.judging import Options, accept, case_of, in_order
from trace_lens.workspace.records import App, Provider, Workspace
from trace_lens.workspace.sources import SourceFile

_ABOUT_VALUES = (
    "settings-disagree",
    "setting-misplaced",
    "setting-missing",
    "certificate-not-published",
    "next-key-not-pinned",
    "identifier-shared",
)


class TwoSides(NamedTuple):
    """All rows, what to copy where, and the settings findings that say so; `failed` are captures not read.

    `fits_other` names the application that the capture fits, where it is not this one.
    """

    app: App
    provider: Provider | None
    capture: str | None
    rows: list[Row]
    copies: list[Copy]
    findings: list[Finding]
    failed: list[tuple[str, str]]
    fits_other: str | None = None


def two_sides(app: App, workspace: Workspace, now: datetime, sources: Iterable[SourceFile] = ()) -> TwoSides:
    """Compare; of the sources, the first attempt that is this application's is laid beside, else the first.

    Raises SettingsError where a file of the workspace cannot be used.
    """
    attempts, failed = attempts_of(sources)
    options = Options(now)
    fits = [case_of(attempt, workspace, options).app for attempt in attempts]
    fitting = [attempt for attempt, its in zip(attempts, fits, strict=True) if its is app]
    chosen = next(iter(fitting or attempts), None)
    other = fits[0].name if attempts and not fitting and fits[0] else None
    case = case_of(chosen, workspace, options._replace(app=app.id)) if chosen else None
    found = rows(app, workspace, case)
    findings = [finding for finding in of_app(app, workspace, now) if finding.stage is Stage.SETTINGS]
    findings = [finding for finding in findings if finding.code in _ABOUT_VALUES]
    for row in found if case else ():
        for cell in row.cells:
            if case and cell.column == "capture" and cell.verdict == "misplaced" and cell.against:
                told_of = misplaced_value(
                    case, row.item, cell.value.text, cell.against.text, (cell.value.evidence, cell.against.evidence)
                )
                findings += [told_of] if told_of else []
    return TwoSides(
        app=app,
        provider=workspace.provider_of(app),
        capture=chosen.source if chosen else None,
        rows=found,
        copies=copies(found),
        findings=in_order(accept(findings, app, now)),
        failed=failed,
        fits_other=other,
    )
