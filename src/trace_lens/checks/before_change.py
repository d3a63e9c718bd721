"""Whether an attempt was made before a change on record that concerns it: then it is to be tried again first."""

from __future__ import annotations

from trace_lens.checks.case import Case
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say


def before_change(case: Case, findings: list[Finding]) -> list[Finding]:
    """Was a broken attempt made before a change on record that concerns it? The latest such change is told."""
    if case.app is None or not any(finding.breaks for finding in findings):
        return []
    made = [*case.made_at, *([case.at] if case.at else [])]
    if not made:
        return []
    concerned = {"", case.app.id.casefold(), case.app.name.casefold()}
    concerned |= {case.provider.id.casefold(), case.provider.name.casefold()} if case.provider else set()
    later = [
        change
        for change in case.workspace.changes
        if min(made) < change.at <= case.now and change.app.casefold() in concerned
    ]
    if not later:
        return []
    change = later[-1]
    return [
        finding(
            "issued-before-change",
            say(
                "It was made {at} before a change on record: {what} ({at_2}). Try again before looking further.",
                at=show_duration(change.at - min(made)),
                what=change.what or "not named",
                at_2=show_moment(change.at),
            ),
            expected=f"after {show_moment(change.at)}",
            actual=show_moment(min(made)),
            evidence=[Evidence("change", change.what, "changes.csv", f"line {change.line}")],
            compared=False,
        )
    ]
