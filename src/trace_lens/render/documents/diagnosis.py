"""The diagnosis in the terminal: the answer first, then the stages, the way, the cause in full, and what is open."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Sequence

from trace_lens.common.findings import Allows, Finding, listed
from trace_lens.common.masking import visible
from trace_lens.diagnosis.diagnosing import Result
from trace_lens.diagnosis.grouping import causes_of
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.later import in_full
from trace_lens.logs.matching.seen import LogView
from trace_lens.render.document import (
    BLANK,
    Copied,
    Document,
    Fact,
    Rule,
    Span,
    heading,
    line,
    prose,
    table,
)
from trace_lens.render.documents.answer import OUTCOME, STYLE, about, answer_lines, roots_of, strip
from trace_lens.render.documents.findings import claim_lines, finding_lines, one_line, remedy_lines
from trace_lens.render.documents.ladder import ladder

_MOST_EVENTS = 8
_UNPLACED = 6
_MOST_ROWS = 150
"""Of more sign-ins only the causes are told, not each by itself."""
_SHOWN_REASONS = 3
"""How many reasons the short list of what was not checked gives."""
_STANDING = ("certificate-expiring", "secret-expiring")
"""Risks that lie in the settings and hit every attempt alike: told once a run."""


def diagnosis_pages(result: Result, *, full: bool = False, details: bool = True) -> Document:
    """All diagnoses of a run; of several, a table and their causes come first.

    `full` shows every finding with its evidence, `details` each attempt of several by itself.
    """
    yield from _interrupted(result)
    many = len(result.diagnoses) > 1
    if len(result.diagnoses) > _MOST_ROWS and not full:
        details = False
        yield from _counted(result.diagnoses)
        yield from _causes(result.diagnoses, all_of_them=True)
    elif many:
        yield from overview(result.diagnoses)
        yield from _causes(result.diagnoses)
    said: set[tuple[str, str]] = set()
    for diagnosis in result.diagnoses if details or full or not many else ():
        if many:
            yield Rule()
        yield from one(diagnosis, full=full, said=said)
    if many and not (details or full):
        yield prose("Details: name one source, or add -v. One line each: -q.", 0, "quiet")
    if result.unplaced:
        yield from _unplaced(result)
    if result.unreadable:
        if result.diagnoses:
            yield BLANK
        sources = len(dict.fromkeys(source for source, _ in result.unreadable))
        yield heading(Span(f"Not read, or not whole: {_count(sources, 'source')}", "break"))
        for source, because in result.unreadable:
            yield prose(f"{source}: {because}.", 2)


def quiet_pages(result: Result) -> Document:
    """One line for each attempt."""
    yield from _interrupted(result)
    for diagnosis in result.diagnoses:
        first = diagnosis.first_break
        broken = f" {first.code}, {first.side or 'nobody'}: {first.value_to_set or first.remedy}" if first else ""
        outcome = Span(diagnosis.outcome, STYLE[diagnosis.outcome])
        yield line(f"{visible(diagnosis.source)}: {diagnosis.app or '?'} ", outcome, broken)
    for source, because in result.unreadable:
        yield line(f"{visible(source)}: ", Span("not read", "break"), f" {because}")


def _interrupted(result: Result) -> Document:
    """That a run was interrupted, and how much of it is not told."""
    if result.left:
        were = "was" if result.left == 1 else "were"
        words = f"Interrupted: {_count(result.left, 'source')} {were} not judged. This is of those before."
        yield prose(words, 0, "break")
        yield BLANK


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


def _counted(diagnoses: Sequence[Diagnosis]) -> Document:
    """How many sign-ins there are, and how they ended."""
    counts = [(name, sum(diagnosis.outcome == name for diagnosis in diagnoses)) for name in OUTCOME]
    words = ", ".join(f"{count:,} {name}" for name, count in counts if count)
    folder = _common_folder([diagnosis.source for diagnosis in diagnoses])
    within = f" in {visible(folder)}" if folder else ""
    yield heading(f"{_count(len(diagnoses), 'sign-in')}{within}: {words}.", level=1)
    yield BLANK


def overview(diagnoses: Iterable[Diagnosis]) -> Document:
    """One line for each sign-in, after a line that counts them."""
    found = list(diagnoses)
    yield from _counted(found)
    folder = _common_folder([diagnosis.source for diagnosis in found])
    yield table(
        ("no", "source", "application", "person", "result", "value to set"),
        [
            (
                diagnosis.id,
                diagnosis.source[len(folder) :],
                diagnosis.app or "?",
                diagnosis.subject or "",
                _ended(diagnosis),
                (diagnosis.first_break.value_to_set or "") if diagnosis.first_break else "",
            )
            for diagnosis in found
        ],
        one_line=True,
        whole=4,
    )
    yield BLANK


def _common_folder(sources: Sequence[str]) -> str:
    """The folder that all sources lie in, with the slash at its end; empty where there is none."""
    folders = [source.rpartition("/")[0].split("/") for source in sources]
    shared = []
    for parts in zip(*folders, strict=False):
        if len(set(parts)) > 1:
            break
        shared.append(parts[0])
    return "/".join(shared) + "/" if any(shared) else ""


def _ended(diagnosis: Diagnosis) -> Span:
    """The first break, or the outcome where there is none."""
    text = diagnosis.first_break.code if diagnosis.first_break else diagnosis.outcome
    return Span(text, STYLE[diagnosis.outcome])


def _causes(diagnoses: Sequence[Diagnosis], *, all_of_them: bool = False) -> Document:
    """The causes that broke more than one attempt, or all causes, the largest first."""
    told = [cause for cause in causes_of(diagnoses) if all_of_them or cause.attempts > 1]
    if not told:
        return
    yield heading(Span("Causes, the largest first" if all_of_them else "Causes that repeat", "head"))
    for cause in told:
        where = f"at the {cause.side}" if cause.side in ("application", "provider") else f"side: {cause.side}"
        people = f"; {_count(cause.people, 'person')}" if cause.people else ""
        hits = f"{', '.join(cause.apps) or 'applications not known'}{people}"
        yield prose(f"{cause.attempts:,} × {cause.code}, {where}: {cause.what.lower()} ({hits})", 2)
        if all_of_them:
            yield prose(f"for example {visible(cause.example)}", 4, "quiet")
            if cause.remedy:
                yield prose(cause.remedy, 4)
        if cause.value_to_set:
            yield Copied(cause.value_to_set)
    yield BLANK


def one(diagnosis: Diagnosis, *, full: bool = False, said: set[tuple[str, str]] | None = None) -> Document:
    """One diagnosis. `said` are the standing risks that were told in this run before."""
    diagnosis = in_full(diagnosis)
    yield from answer_lines(diagnosis)
    yield BLANK
    yield strip(diagnosis)
    yield BLANK
    yield from about(diagnosis)
    if diagnosis.app is None and diagnosis.details.message:
        yield from _first_contact(diagnosis)
    if diagnosis.details.steps:
        yield BLANK
        names = {"application": diagnosis.parties.app_name or "", "provider": diagnosis.parties.provider_name or ""}
        yield from ladder(diagnosis.details.steps, diagnosis.details.hidden_steps, names)
    yield from _breaks(diagnosis, full=full)
    yield from _others(diagnosis, full=full, said=said if said is not None else set())
    if diagnosis.details.claims:
        yield BLANK
        yield heading(Span("Claims", "head"))
        yield from claim_lines(diagnosis.details.claims, app_known=diagnosis.app is not None)
    yield from logged(diagnosis)
    yield from open_in_full(diagnosis) if full else _open(diagnosis)
    if diagnosis.first_break:
        more = "" if full else "; everything: -v"
        yield BLANK
        yield prose(f"More on this: trace-lens explain {diagnosis.first_break.code}{more}", 0, "quiet")


def _first_contact(diagnosis: Diagnosis) -> Document:
    """What the message says by itself, what cannot be known, and how to put both sides on record."""
    yield BLANK
    yield heading(Span("What the message says", "head"))
    for label, value in diagnosis.details.message:
        yield Fact(label, value, column=14)
    yield BLANK
    source = "-" if diagnosis.source == "-" else shlex.quote(visible(diagnosis.source))
    candidates = diagnosis.details.candidates
    if candidates:
        yield prose(f"{' and '.join(candidates)} fit equally well. Say which one is meant:")
        yield Copied(f"trace-lens diagnose {source} --app {shlex.quote(candidates[0])}", is_command=True)
        return
    yield prose(
        "The application is not on record. So nothing tells whether issuer, audience and address are the ones that it "
        "expects, whether it trusts the key, and whether it knows the person. This puts both sides on record, as they "
        "are in this capture:",
    )
    yield Copied(f"trace-lens apps add --from {source}", is_command=True)


def _breaks(diagnosis: Diagnosis, *, full: bool) -> Document:
    """Each cause in full, its effects below it; what repairs it, but for the first, whose repair stands at the top."""
    roots = roots_of(diagnosis)
    effects = [
        finding
        for finding in diagnosis.findings
        if finding.breaks and finding.because_of is not None and finding.stage != "settings"
    ]
    told, more = listed(roots)
    for root in told:
        yield BLANK
        yield from finding_lines(root)
        if root is not diagnosis.first_break:
            yield from remedy_lines(root)
        yield from _effects([finding for finding in effects if finding.because_of == root.code], full=full)
    yield from _more(more)
    codes = {root.code for root in roots}
    left = [finding for finding in effects if finding.because_of not in codes]
    if left:
        yield BLANK
        yield from _effects(left, full=full)


def _effects(effects: Sequence[Finding], *, full: bool) -> Document:
    told, more = listed(effects)
    for finding in told:
        if full:
            yield BLANK
            yield from finding_lines(finding)
        else:
            yield one_line(finding, 4, "so also ")
    yield from _more(more)


def _others(diagnosis: Diagnosis, *, full: bool, said: set[tuple[str, str]]) -> Document:
    """What stops nothing: settings that do not fit, risks, what is worth knowing."""
    settings = [finding for finding in diagnosis.findings if finding.stage == "settings" and finding.breaks]
    risks = [
        finding
        for finding in diagnosis.findings
        if finding.severity == "risk" and finding.code != "issued-before-change"
    ]
    notes = [
        finding for finding in diagnosis.findings if finding.severity == "note" and finding.code != "outcome-unknown"
    ]
    doubtful = {code for finding in risks if finding.code == "record-contradicted" for code in finding.overrules}
    for title, members in (("Settings", settings), ("Risks", risks), ("Worth knowing", notes)):
        fresh = [finding for finding in members if (finding.code, finding.detail) not in said]
        if not fresh:
            continue
        yield BLANK
        yield heading(Span(title, "head"))
        told, more = listed(fresh)
        for finding in told:
            if _stands(finding):
                said.add((finding.code, finding.detail))
            if not full or finding.severity == "note":
                yield one_line(finding)
                continue
            yield from finding_lines(finding)
            if not finding.accepted and finding.code not in doubtful:
                yield from remedy_lines(finding)
            yield BLANK
        yield from _more(more)
    if not full and diagnosis.outcome == "sound" and any(not risk.accepted for risk in risks):
        yield prose("Nothing stops the sign-in. What to do about the risks: -v", 2, "quiet")


def _stands(finding: Finding) -> bool:
    """Whether a finding lies in what is on record, and so hits each attempt alike."""
    return finding.stage == "settings" or finding.accepted is not None or finding.code in _STANDING


def _more(more: dict[str, int]) -> Document:
    """How many findings of a code are not listed."""
    for code, count in more.items():
        yield prose(f"… and {count:,} more of {code}", 2)


def logged(diagnosis: Diagnosis) -> Document:
    """What the logs hold of this sign-in, by the true clock."""
    logs = diagnosis.details.logs
    if logs is None or not logs.events:
        return
    yield BLANK
    yield heading(Span("In the logs", "head"), "  by the true time; trace-lens timeline lays them beside the hops")
    yield from events_table(logs)


def events_table(logs: LogView) -> Document:
    """The events that the logs hold of a sign-in, a row each."""
    rows = []
    for event in logs.events[:_MOST_EVENTS]:
        meaning = logs.meaning(event)
        code = " ".join(part for part in (event.event.code, meaning.means if meaning else event.event.reason) if part)
        place = f"line {event.event.line}, {event.probability:.2f}"
        style = {"success": "ok", "failure": "break"}.get(event.event.outcome, "")
        rows.append((f"{event.corrected:%H:%M:%S}", event.event.source, Span(event.event.outcome, style), place, code))
    yield table(("time", "log", "result", "line, likely", "says"), rows)
    if len(logs.events) > _MOST_EVENTS:
        yield prose(f"… and {len(logs.events) - _MOST_EVENTS} more", 2, "quiet")


_ALLOWED_BY = {
    Allows.RECORDING: "a recording of the whole sign-in (HAR)",
    Allows.SERVER_MESSAGE: "what the application's server fetched by itself",
    Allows.APPLICATION_LOG: "a log of the application",
    Allows.PROVIDER_LOG: "a log of the provider",
}


def _reasons(diagnosis: Diagnosis) -> dict[str, int]:
    """How many questions each thing would allow; what decides comes first, then what would allow most.

    Of what nothing would allow, the reason stands in its place.
    """
    reasons: dict[str, int] = {}
    deciding = set()
    for question in diagnosis.unchecked:
        by = question.allowed_by
        place = f"{by.file}, {by.key}" if by and by.allows is Allows.RECORD else ""
        words = place or (_ALLOWED_BY[by.allows] if by and by.allows else f"nothing, since {question.lacking}")
        reasons[words] = reasons.get(words, 0) + 1
        if question.decides:
            deciding.add(words)
    return dict(sorted(reasons.items(), key=lambda item: (item[0] not in deciding, -item[1])))


def _open(diagnosis: Diagnosis) -> Document:
    """What was not checked, in short: how many questions, and what would allow them."""
    reasons = _reasons(diagnosis)
    if not reasons:
        return
    words = "; ".join(f"{what} ({count})" for what, count in list(reasons.items())[:_SHOWN_REASONS])
    more = f"; {_count(len(reasons) - _SHOWN_REASONS, 'more reason')}" if len(reasons) > _SHOWN_REASONS else ""
    yield BLANK
    yield prose(f"Not checked, {_count(sum(reasons.values()), 'question')}; what would allow them: {words}{more}.")


def open_in_full(diagnosis: Diagnosis) -> Document:
    """What was not checked, each question with what was lacking."""
    reasons: dict[str, list[str]] = {}
    for question in diagnosis.unchecked:
        reasons.setdefault(question.because, []).append(question.code)
    if not reasons:
        return
    yield BLANK
    yield heading(Span("Not checked", "head"))
    for because, codes in reasons.items():
        yield prose(f"{', '.join(dict.fromkeys(codes))}: {because}", 2)


def _count(number: int, what: str) -> str:
    if what == "person":
        return f"{number:,} {'person' if number == 1 else 'people'}"
    return f"{number:,} {what}{'' if number == 1 else 's'}"
