"""What is wrong with settings as blocks: by application, what breaks first."""

from __future__ import annotations

from trace_lens.common.findings import Finding, Side
from trace_lens.render.document import BLANK, Copied, Document, Rule, Span, heading, prose, table
from trace_lens.render.documents.findings import finding_lines
from trace_lens.workspace.records import App


def check(found: list[tuple[App, list[Finding]]]) -> Document:
    """The settings of all applications: a count, a line each, then the findings."""
    breaking = [app for app, findings in found if any(finding.breaks for finding in findings)]
    verb = "has" if len(breaking) == 1 else "have"
    yield heading(Span(f"{len(breaking)} of {len(found)} applications {verb} settings that break sign-ins.", "head"))
    yield BLANK
    yield table(
        ("application", "", ""),
        [
            (
                app.id,
                Span(_worst(findings) or "ok", _worst(findings) or "ok"),
                ", ".join(
                    dict.fromkeys(finding.code + (" (accepted)" if finding.accepted else "") for finding in findings)
                ),
            )
            for app, findings in found
        ],
    )
    for app, findings in found:
        if findings:
            yield BLANK
            yield Rule()
            yield heading(Span(app.name, "head"), f" ({app.id})")
        for finding in findings:
            yield BLANK
            yield from finding_lines(finding)
            side = f"At the {finding.side}: " if finding.side in (Side.APPLICATION, Side.PROVIDER) else ""
            yield prose(f"{side}{finding.remedy}", 2)
            if finding.value_to_set:
                yield Copied(finding.value_to_set)


def _worst(findings: list[Finding]) -> str | None:
    if any(finding.breaks for finding in findings):
        return "break"
    return "risk" if any(finding.severity == "risk" and not finding.accepted for finding in findings) else None
