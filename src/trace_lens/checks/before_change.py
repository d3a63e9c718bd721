"""Whether an attempt was made before a change on record that concerns it, or before that change can have arrived."""

from __future__ import annotations

from datetime import datetime

from trace_lens.checks.case import Case
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.workspace.changes import CHANGES_FILE, Change


def before_change(case: Case, findings: list[Finding]) -> list[Finding]:
    """Was a broken attempt made before a change on record that concerns it? The latest such change is told."""
    if not any(finding.breaks for finding in findings):
        return []
    made, known = _made_at(case), _concerning(case)
    if made is None or not known or made >= known[-1].at:
        return []
    change = known[-1]
    return [
        finding(
            "issued-before-change",
            say(
                "It was made {gap} before a change on record: {what} ({at}). Try again before looking further.",
                gap=show_duration(change.at - made),
                what=change.what or "not named",
                at=show_moment(change.at),
            ),
            expected=f"after {show_moment(change.at)}",
            actual=show_moment(made),
            evidence=[Evidence("change", change.what, CHANGES_FILE, Location(line=change.line))],
            compared=False,
        )
    ]


def still_arriving(case: Case) -> str | None:
    """What is to be said of an attempt made after a change on record, but sooner than that takes to arrive."""
    made, known = _made_at(case), _concerning(case)
    if made is None or (known and made < known[-1].at):
        return None
    recent = [change for change in known if made < change.at + change.takes]
    if not recent:
        return None
    change = recent[-1]
    return say(
        "It was made {gap} after a change on record: {what} ({at}). The change may not have arrived yet: try again "
        "after {arrives}.",
        gap=show_duration(made - change.at),
        what=change.what or "not named",
        at=show_moment(change.at),
        arrives=show_moment(change.at + change.takes),
    )


def _made_at(case: Case) -> datetime | None:
    """The first moment that the attempt shows."""
    return min([*case.made_at, *([case.at] if case.at else [])], default=None)


def _concerning(case: Case) -> list[Change]:
    """The changes up to now that concern the attempt's application or provider, in order."""
    if case.app is None:
        return []
    concerned = {"", case.app.id.casefold(), case.app.name.casefold()}
    concerned |= {case.provider.id.casefold(), case.provider.name.casefold()} if case.provider else set()
    return [change for change in case.workspace.changes if change.at <= case.now and change.app.casefold() in concerned]
