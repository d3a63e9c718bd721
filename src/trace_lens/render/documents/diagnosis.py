"""The diagnosis in the terminal: the answer first, then the nine stages, the findings, what to do, what is open."""

from __future__ import annotations

import shlex
from collections.abc import Iterable

from trace_lens.checks.claims import ClaimRow
from trace_lens.common import limits
from trace_lens.common.findings import INFERRED, Finding, Proof, Side, listed
from trace_lens.common.masking import visible
from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.diagnosing import Result
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.render.document import (
    BLANK,
    Copied,
    Document,
    Fact,
    Rule,
    Span,
    TwoValues,
    answer,
    heading,
    prose,
    shown,
    table,
)
from trace_lens.render.documents.ladder import ladder

_MOST_EVENTS = 8
_UNPLACED = 6
_OUTCOME = {"broken": "BROKEN", "sound": "SOUND", "inconclusive": "INCONCLUSIVE"}
_STYLE = {"broken": "break", "sound": "ok", "inconclusive": "risk"}
_STATUS = {"ok": "ok", "break": "BREAK", "risk": "risk", "unchecked": "not checked"}
_MOMENT = {
    "option": "as told by --at",
    "capture": "the moment that the capture recorded",
    "log": "the moment of the matching log event",
    "message": "when the message was issued; its arrival is not known",
}
_SIDE = {
    Side.APPLICATION: "At the application",
    Side.PROVIDER: "At the provider",
    Side.USER: "By the user",
    Side.NETWORK: "On the network between them",
    Side.BOTH: "On both sides",
}


def diagnosis_pages(result: Result) -> Document:
    """All diagnoses of a run; of several, an overview comes first."""
    many = len(result.diagnoses) > 1
    if many:
        yield from overview(result.diagnoses)
    for diagnosis in result.diagnoses:
        if many:
            yield Rule()
        yield from one(diagnosis)
    if result.unplaced:
        yield from _unplaced(result)
    if result.unreadable:
        if result.diagnoses:
            yield BLANK
        sources = len(dict.fromkeys(source for source, _ in result.unreadable))
        yield heading(Span(f"Not read, or not whole: {_count(sources, 'source')}", "break"))
        for source, because in result.unreadable:
            yield prose(f"{source}: {because}.", 2)


def _unplaced(result: Result) -> Document:
    """The steps of captures that belong to no sign-in: counted, and listed as far as there is room."""
    yield BLANK
    count = len(result.unplaced)
    yield heading(Span(f"{_count(count, 'step')} that {'belongs' if count == 1 else 'belong'} to no sign-in", "head"))
    rows = [
        (step.place, step.method, str(step.status or ""), step.url, ", ".join(step.carries)) for step in result.unplaced
    ]
    yield table(("", "", "", "", ""), rows[:_UNPLACED])
    if count > _UNPLACED:
        yield prose(f"… and {count - _UNPLACED} more; --format json lists them all", 2, "quiet")


def overview(diagnoses: Iterable[Diagnosis]) -> Document:
    """One line for each sign-in, after a line that counts them."""
    found = list(diagnoses)
    counts = [(name, sum(diagnosis.outcome == name for diagnosis in found)) for name in _OUTCOME]
    words = ", ".join(f"{count} {name}" for name, count in counts if count)
    yield heading(f"{_count(len(found), 'sign-in')}: {words}.", level=1)
    yield BLANK
    yield table(
        ("", "sign-in", "application", "outcome", "first break"),
        [
            (
                diagnosis.id,
                _ending(diagnosis.source),
                diagnosis.app or "?",
                Span(diagnosis.outcome, _STYLE[diagnosis.outcome]),
                diagnosis.first_break.code if diagnosis.first_break else "",
            )
            for diagnosis in found
        ],
    )
    yield BLANK


def _ending(source: str) -> str:
    return source if len(source) <= 44 else "…" + source[-43:]


def one(diagnosis: Diagnosis) -> Document:
    """One diagnosis."""
    yield from _headline(diagnosis)
    yield BLANK
    yield from _stages(diagnosis)
    if diagnosis.details.steps:
        yield BLANK
        names = {"application": diagnosis.parties.app_name or "", "provider": diagnosis.parties.provider_name or ""}
        yield from ladder(diagnosis.details.steps, diagnosis.details.hidden_steps, names)
    shown = [finding for finding in diagnosis.findings if finding.severity != "note"]
    shown.sort(key=lambda finding: (finding.stage == "settings", finding.severity != "break"))
    notes = [
        finding for finding in diagnosis.findings if finding.severity == "note" and finding.code != "outcome-unknown"
    ]
    shown, more = listed(shown)
    for finding in shown:
        yield BLANK
        yield from finding_lines(finding)
    yield from _more(more)
    if notes:
        yield BLANK
        yield heading(Span("Worth knowing", "head"))
        notes, more = listed(notes)
        for finding in notes:
            yield prose(f"{finding.detail} ({finding.code})", 2)
        yield from _more(more)
    to_do = list(_to_do(diagnosis))
    if to_do:
        yield BLANK
    yield from to_do
    yield from _claims(diagnosis)
    yield from _logged(diagnosis)
    yield from _open(diagnosis)


def _more(more: dict[str, int]) -> Document:
    """How many findings of a code are not listed."""
    for code, count in more.items():
        yield prose(f"… and {count:,} more of {code}", 2)


def _headline(diagnosis: Diagnosis) -> Document:
    word = _OUTCOME[diagnosis.outcome]
    likely = diagnosis.first_break is not None and diagnosis.first_break.certainty == INFERRED
    word = f"{word}, most likely" if likely else word
    at = f" at {diagnosis.first_break.stage}" if diagnosis.first_break else ""
    yield answer(f"{word}{at}", _STYLE[diagnosis.outcome], f": {diagnosis.cause}")
    app = f"{diagnosis.parties.app_name} ({diagnosis.app})" if diagnosis.app else "application not known"
    chosen = f", chosen by {diagnosis.parties.chosen_by}" if diagnosis.parties.chosen_by not in (None, "option") else ""
    started = f"started at the {diagnosis.parties.started_by}" if diagnosis.parties.started_by else "start not known"
    yield Fact("capture", diagnosis.source)
    yield Fact("sign-in", f"{app}{chosen}; provider {diagnosis.provider or 'not known'}; {started}")
    if diagnosis.subject is not None:
        yield Fact("subject", diagnosis.subject)
    if diagnosis.judged.supposed:
        yield Fact("supposing", "; ".join(diagnosis.judged.supposed))
    if diagnosis.at and diagnosis.judged.at_from:
        yield Fact("judged at", f"{show_moment(diagnosis.at)}, {_MOMENT[diagnosis.judged.at_from]}")


def _stages(diagnosis: Diagnosis) -> Document:
    first = diagnosis.first_break.stage if diagnosis.first_break else None
    rows = []
    for result in diagnosis.stages:
        codes = [finding.code for finding in result.findings if finding.severity != "note" and not finding.accepted]
        accepted = [f"{finding.code} (accepted)" for finding in result.findings if finding.accepted]
        here = result.stage == first
        rows.append(
            (
                Span(f"{'> ' if here else '  '}{result.stage}", "head" if here else ""),
                Span(_STATUS[result.status].ljust(11), result.status),
                ", ".join(dict.fromkeys([*codes, *accepted])),
            )
        )
    yield table(("", "", ""), rows, indent=0)


def finding_lines(finding: Finding) -> Document:
    """One finding: code, detail, values, evidence."""
    because = f", because of {finding.because_of}" if finding.because_of else ""
    because += ", likely" if finding.certainty == INFERRED else ""
    because += f", in place of {', '.join(finding.overrules)}" if finding.overrules else ""
    accepted = f", accepted: {finding.accepted}" if finding.accepted else ""
    yield heading(
        Span(finding.code, finding.severity),
        Span(f"  {finding.severity} in {finding.stage}{because}{shown(accepted)}"),
        level=3,
    )
    yield prose(finding.detail, 2)
    yield from _values(finding)
    for item in finding.evidence[:4]:
        yield prose(f"{item.source}, {item.where}", 2, "quiet", first=f"{item.label + ':'} ")


def _values(finding: Finding) -> Document:
    expected, actual = finding.expected, finding.actual
    if expected is not None and actual is not None and finding.difference and finding.differing:
        yield TwoValues(("expected", "actual"), (expected, actual), finding.differing, finding.difference)
        return
    if expected is not None:
        yield Fact("expected", expected)
    if actual is not None and finding.severity != "note":
        yield Fact("actual", actual)


def _to_do(diagnosis: Diagnosis) -> Document:
    """What to do, by side: the first break, then what would break next, then risks."""
    roots = [
        finding
        for finding in diagnosis.findings
        if finding.breaks and finding.because_of is None and finding.stage != "settings"
    ]
    if roots:
        yield heading(Span("To do", "head"))
    for finding in roots:
        side = _SIDE[finding.side] if finding.side else "To do"
        then = "" if finding is roots[0] else "After that, also: "
        yield prose(f"{then}{side}: {finding.remedy}", 2)
        if finding.value_to_set:
            yield Copied(finding.value_to_set)
        if finding.proof:
            yield prose(_proof(finding.proof), 4, "quiet")
    if not roots and diagnosis.outcome == "sound":
        yield from _when_sound(diagnosis)
    if diagnosis.proposal:
        source = "-" if diagnosis.source == "-" else shlex.quote(visible(diagnosis.source))
        yield prose("Try it on this capture before touching a system:", 2)
        tried = " ".join(
            f"--set {shlex.quote(visible(text))}" for text in (*diagnosis.judged.supposed, diagnosis.proposal)
        )
        yield Copied(f"trace-lens diagnose {source} {tried}", is_command=True)
    if roots:
        yield prose(f"More on this: trace-lens explain {roots[0].code}", 2, "quiet")


def _proof(proof: Proof) -> str:
    """What judging again with the value gave."""
    if proof.outcome == "broken":
        return f"Judged again with this value: {proof.first_break} is left."
    return f"Judged again with this value: {proof.outcome}."


def _when_sound(diagnosis: Diagnosis) -> Document:
    """What is worth doing although nothing stops the sign-in, each thing once."""
    doubtful = {
        code for finding in diagnosis.findings if finding.code == "record-contradicted" for code in finding.overrules
    }  # what the record wrongly predicts is not to be repaired
    risks = [
        finding
        for finding in diagnosis.findings
        if finding.severity == "risk" and not finding.accepted and finding.code not in doubtful
    ]
    worth = dict.fromkeys(
        (_SIDE[risk.side] if risk.side else "To do", risk.remedy, risk.value_to_set) for risk in risks
    )
    if worth:
        yield prose("Nothing stops the sign-in. Worth doing all the same:")
    elif diagnosis.details.steps:
        yield prose("Nothing to do here.")
    else:
        yield prose(
            "Nothing to do here. If the sign-in still fails, the reason lies outside of this message: see below what "
            "was not checked."
        )
    for side, remedy, value in worth:
        yield prose(f"{side}: {remedy}", 2)
        if value:
            yield Copied(value)


def claim_lines(claims: Iterable[ClaimRow]) -> Document:
    """The claims table: what was sent, and what the application makes of it."""
    words = {"used": "used", "unused": "nothing reads it", "missing": "MISSING", "other-name": "OTHER NAME"}
    styles = {"missing": "break", "other-name": "break"}
    rows = list(claims)
    listed_rows = rows[: limits.LISTED_CLAIMS]
    yield table(
        ("", "", ""),
        [(row.name, Span(words[row.use] + _as(row), styles.get(row.use, "")), _values_of(row)) for row in listed_rows],
    )
    if len(rows) > len(listed_rows):
        yield prose(f"… and {len(rows) - len(listed_rows):,} more claims", 2)


def _as(row: ClaimRow) -> str:
    return f" as {row.serves}" if row.serves and row.serves != row.name else ""


def _values_of(row: ClaimRow) -> str:
    values = ", ".join(row.values[:6]) + (" …" if len(row.values) > 6 else "")
    mapped = f" → {', '.join(dict.fromkeys(row.mapped[:6]))}" if row.mapped and row.mapped != row.values else ""
    return values + mapped


def _claims(diagnosis: Diagnosis) -> Document:
    if diagnosis.details.claims:
        yield BLANK
        yield heading(Span("Claims", "head"))
        yield from claim_lines(diagnosis.details.claims)


def _logged(diagnosis: Diagnosis) -> Document:
    """What the logs hold of this sign-in, by the true clock."""
    logs = diagnosis.details.logs
    if logs is None or not logs.events:
        return
    yield BLANK
    yield heading(Span("In the logs", "head"), "  by the true time; trace-lens timeline lays them beside the hops")
    rows = []
    for event in logs.events[:_MOST_EVENTS]:
        meaning = logs.meaning(event)
        code = " ".join(part for part in (event.event.code, meaning.means if meaning else event.event.reason) if part)
        place = f"line {event.event.line}, {event.probability:.2f}"
        style = {"success": "ok", "failure": "break"}.get(event.event.outcome, "")
        rows.append((f"{event.corrected:%H:%M:%S}", event.event.source, Span(event.event.outcome, style), place, code))
    yield table(("", "", "", "", ""), rows)
    if len(logs.events) > _MOST_EVENTS:
        yield prose(f"… and {len(logs.events) - _MOST_EVENTS} more", 2, "quiet")


def _open(diagnosis: Diagnosis) -> Document:
    """What was not checked, gathered by what was lacking."""
    reasons: dict[str, list[str]] = {}
    for question in diagnosis.unchecked:
        reasons.setdefault(question.because, []).append(question.code)
    if not reasons:
        return
    yield BLANK
    yield heading(Span("Not checked", "head"))
    for because, codes in reasons.items():
        names = dict.fromkeys(codes)
        listed = ", ".join(names) if len(names) <= 4 else f"{_count(len(names), 'question')}"
        yield prose(f"{listed}: {because}", 2)


def _count(number: int, what: str) -> str:
    return f"{number} {what}{'' if number == 1 else 's'}"
