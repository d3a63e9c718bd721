"""The first lines of a diagnosis: what broke and where, whose setting it is, the value, what comes after, how sure."""

from __future__ import annotations

import shlex

from trace_lens.common import catalogue
from trace_lens.common.findings import INFERRED, RECORDED, Finding, Stage
from trace_lens.common.masking import visible
from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.render.document import Copied, Document, Fact, Span, Strip, answer, prose, spans_of
from trace_lens.render.documents.findings import SIDE

OUTCOME = {"broken": "BROKEN", "sound": "SOUND", "inconclusive": "INCONCLUSIVE"}
STYLE = {"broken": "break", "sound": "ok", "inconclusive": "risk"}
_STATUS = {"ok": "ok", "break": "BREAK", "risk": "risk", "unchecked": "unchecked"}
MOMENT = {
    "option": "as told by --at",
    "capture": "the moment that the capture recorded",
    "log": "the moment of the matching log event",
    "message": "when the message was issued; its arrival is not known",
}
REDACTED = "A redacted copy: signatures and ciphertexts are as its record tells them, not verified."
_NAMED = 3
"""How many codes are named on the line of what comes after, and on the one of how sure it is."""


def answer_lines(diagnosis: Diagnosis) -> Document:
    """The answer in at most twelve lines of 80 columns, as far as its sentences are of usual length."""
    changed = next((finding for finding in diagnosis.findings if finding.code == "issued-before-change"), None)
    words = changed.detail if changed else diagnosis.details.arriving
    if diagnosis.judged.redacted:
        yield prose(REDACTED, style="risk")
    if words:
        yield prose(words, style="risk")
    yield answer(headline(diagnosis), STYLE[diagnosis.outcome], f": {diagnosis.cause}")
    first = diagnosis.first_break
    if first:
        yield prose(f"{SIDE[first.side] if first.side else 'To do'}: {first.remedy}", 2)
        if first.value_to_set:
            yield Copied(first.value_to_set)
        record = diagnosis.details.record
        if record and record.held:
            yield Fact("already in", str(record))
        elif record:
            yield Fact("record in", str(record))
        if diagnosis.proposal:
            label = "look past" if diagnosis.details.looks_past else "try it"
            yield Copied(trial_command(diagnosis), is_command=True, indent=2, label=label)
        after = _after(diagnosis, first)
        if after:
            yield Fact("after that", after)
    if diagnosis.outcome != "inconclusive":
        yield Fact("how sure", how_sure(diagnosis))
    if diagnosis.at and diagnosis.judged.at_from:
        yield Fact("judged at", f"{show_moment(diagnosis.at)}, {MOMENT[diagnosis.judged.at_from]}")


def headline(diagnosis: Diagnosis) -> str:
    """The outcome and the stage; of a trial with other settings, what it would be."""
    first = diagnosis.first_break
    at = f" at {first.stage}" if first else ""
    if diagnosis.judged.supposed:
        return {"broken": "WOULD STILL BREAK", "sound": "WOULD BE SOUND"}.get(
            diagnosis.outcome, "WOULD BE INCONCLUSIVE"
        ) + at
    likely = ", most likely" if first is not None and first.certainty == INFERRED else ""
    return f"{OUTCOME[diagnosis.outcome]}{likely}{at}"


def roots_of(diagnosis: Diagnosis) -> list[Finding]:
    """The breaks of the sign-in that are nobody's effect, in the order in which they are to be repaired."""
    return [
        finding
        for finding in diagnosis.findings
        if finding.breaks and finding.because_of is None and finding.stage is not Stage.SETTINGS
    ]


def _after(diagnosis: Diagnosis, first: Finding) -> str:
    """What breaks once the first break is repaired."""
    rest = [finding for finding in roots_of(diagnosis) if finding is not first]
    if not rest:
        return "judged again with this value: sound" if first.proof and first.proof.outcome == "sound" else ""
    following = rest[0]
    value = f": {following.value_to_set}" if following.value_to_set else ""
    side = SIDE[following.side].lower() if following.side else "to do"
    more = f"; and {len(rest) - 1} more" if len(rest) > 1 else ""
    return f"{following.code}, {side}{value}{more}"


def how_sure(diagnosis: Diagnosis) -> str:
    """Proven or likely, and which open questions could change it."""
    first = diagnosis.first_break
    if first is None:
        count = len(diagnosis.unchecked)
        others = f"{count} other question{'' if count == 1 else 's'}"
        return "every question that decides was answered" + (f"; {others} could not be asked" if count else "")
    words = {INFERRED: "likely, not proven", RECORDED: "as recorded, not verified"}.get(first.certainty or "", "proven")
    logged = any(
        finding.because_of == first.code and finding.stage is Stage.ADMITTED and finding.code == "application-refused"
        for finding in diagnosis.findings
    )
    words += "; the application's log shows the refusal" if logged else ""
    open_codes = _open_before(diagnosis, first)
    if not open_codes:
        return f"{words}; nothing that comes before it is open"
    if len(open_codes) > _NAMED:
        return f"{words}; {len(open_codes)} questions that come before it could not be asked"
    return f"{words}; not checked before it: {', '.join(open_codes)}"


def _open_before(diagnosis: Diagnosis, first: Finding) -> list[str]:
    """The questions of earlier stages that could not be asked and whose answer could be a break."""
    codes: list[str] = []
    for result in diagnosis.stages:
        if result.stage == first.stage:
            break
        if result.stage in (Stage.READABLE, Stage.ANSWERED):
            continue  # what was read was read: a question about another message changes nothing here
        codes += [
            question.code for question in result.unchecked if "break" in catalogue.entry(question.code).severities
        ]
    return list(dict.fromkeys(codes))


def trial_command(diagnosis: Diagnosis) -> str:
    """The command that tries the proposed setting on this capture, with those that were tried before."""
    source = "-" if diagnosis.source == "-" else shlex.quote(visible(diagnosis.source))
    settings = [*diagnosis.judged.supposed, *([diagnosis.proposal] if diagnosis.proposal else [])]
    tried = " ".join(f"--set {shlex.quote(visible(text))}" for text in settings)
    return f"trace-lens diagnose {source} {tried}"


def strip(diagnosis: Diagnosis) -> Strip:
    """The stages in order, each with its status."""
    first = diagnosis.first_break.stage if diagnosis.first_break else None
    return Strip(
        tuple(
            spans_of(
                Span(str(result.stage), "head" if result.stage == first else ""),
                " ",
                Span(_STATUS[result.status], result.status),
            )
            for result in diagnosis.stages
        )
    )


def about(diagnosis: Diagnosis) -> Document:
    """Which attempt it is: capture, application, provider, person, settings that were tried."""
    app = f"{diagnosis.parties.app_name} ({diagnosis.app})" if diagnosis.app else "application not known"
    chosen = f", chosen by {diagnosis.parties.chosen_by}" if diagnosis.parties.chosen_by not in (None, "option") else ""
    started = f"started at the {diagnosis.parties.started_by}" if diagnosis.parties.started_by else "start not known"
    yield Fact("capture", diagnosis.source)
    yield Fact("sign-in", f"{app}{chosen}; provider {diagnosis.provider or 'not known'}; {started}")
    if diagnosis.subject is not None:
        yield Fact("subject", diagnosis.subject)
    if diagnosis.judged.supposed:
        yield Fact("supposing", "; ".join(diagnosis.judged.supposed))
