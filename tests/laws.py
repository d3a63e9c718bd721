"""Laws that hold of every diagnosis, whatever it is of."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from trace_lens.common.findings import INFERRED, PROVEN, Severity, Side, Stage
from trace_lens.common.sentences import Person, Quotation, filled
from trace_lens.diagnosis.judging import Diagnosis

AFTERWARDS = {"api-refused", "refresh-refused", "sign-out-unmatched"}
ATTACKS = {
    "signature-wrapping",
    "duplicate-id",
    "not-signed",
    "algorithm-none",
    "algorithm-confusion",
    "signed-by-untrusted-key",
    "replayed-message",
}
ENDINGS = {"application-refused", "provider-log-refused", "http-error", "session-not-started"}
INFERRED_CODES = {"session-cookie-lost", "no-answer", "session-not-started", "code-too-old", "request-rejected"}


KEPT_OUT = (
    "no-answer",
    "code-reused",
    "state-mismatch",
    "session-cookie-lost",
    "redirect-loop",
    "http-error",
    "blocked-by-browser",
    "session-not-started",
)


def contradictions(one: Diagnosis, *, let_in: bool | None = None) -> list[str]:
    """What in a diagnosis speaks against something else in it; `let_in` says what is known of how it ended."""
    found: list[str] = []
    breaks = [each for each in one.findings if each.breaks]
    roots = [each for each in breaks if each.because_of is None and each.stage is not Stage.SETTINGS]
    codes = {each.code for each in one.findings}
    if (one.outcome == "broken") != bool(roots):
        found.append(f"{one.outcome} with {len(roots)} root breaks")
    if one.first_break is not None and one.first_break.code != roots[0].code:
        found.append("the first break is not the first root")
    for each in breaks:
        if each.certainty not in (PROVEN, INFERRED):
            found.append(f"{each.code} has no certainty")
        if each.certainty == INFERRED and each.code not in INFERRED_CODES:
            found.append(f"{each.code} is inferred")
        if each.because_of and each.because_of not in codes:
            found.append(f"{each.code} is because of {each.because_of}, which is not there")
    for each in one.findings:
        if not each.breaks and each.certainty is not None:
            found.append(f"{each.code} is no break and has a certainty")
        if set(each.overrules) - codes:
            found.append(f"{each.code} overrules what is not there")
        if each.code in ("record-contradicted", "application-too-lenient") and not each.overrules:
            found.append(f"{each.code} overrules nothing")
        if each.proof is not None and each.value_to_set is None:
            found.append(f"{each.code} has a proof and no value")
    ended = {each.stage: each.status for each in one.stages}[Stage.ADMITTED]
    found += [f"{each.code}, and the user was let in" for each in breaks if each.code in KEPT_OUT and ended == "ok"]
    explained = {each.code: each.because_of for each in breaks}
    for each in breaks:
        beyond = explained.get(each.because_of or "")
        if each.code in ENDINGS and beyond and beyond != each.code:
            found.append(f"{each.code} points to {each.because_of}, which is itself an effect of {beyond}")
    stale = {code for each in one.findings if each.code == "record-contradicted" for code in each.overrules}
    found += [
        f"{each.code} would make the sign-in fit a record that is out of date"
        for each in one.findings
        if each.code in stale and each.value_to_set is not None
    ]
    record, first = one.details.record, one.first_break
    if record and (first is None or first.side in (Side.USER, Side.NETWORK)):
        found.append(f"{record} is to be changed by nobody who can")
    if record and one.details.looks_past and f"{one.proposal}".startswith(f"{record.key}="):
        found.append(f"{record} is of the side that need not act")
    if let_in:
        bad = [
            each.code
            for each in breaks
            if each.stage in (Stage.DELIVERED, Stage.ADMITTED) and each.code not in AFTERWARDS | ATTACKS
        ]
        found += [f"{code} breaks beside a session that began" for code in bad]
    if let_in is False and one.outcome == "sound":
        found.append("sound beside a page of failure")
    for result in one.stages:
        here = [each for each in result.findings if not each.accepted]
        wanted = (
            "break"
            if any(each.breaks for each in here)
            else "risk"
            if any(each.severity is Severity.RISK for each in here)
            else None
        )
        if wanted and result.status != wanted:
            found.append(f"stage {result.stage} is {result.status} with a {wanted}")
        if not wanted and result.status not in ("ok", "unchecked"):
            found.append(f"stage {result.stage} is {result.status} with nothing in it")
    return found


def without_people(text: str) -> str:
    """A text in which whatever names a person, and what others have written, is replaced."""
    return filled(text, lambda value: "somebody" if isinstance(value, Person | Quotation) else str(value))


def texts_of(diagnosis: Diagnosis) -> Iterator[tuple[str, str]]:
    """Every text of the findings that is shown, with the code of its finding."""
    yield "cause", diagnosis.cause
    for finding in diagnosis.findings:
        texts = (finding.detail, finding.remedy, finding.expected, finding.actual, finding.value_to_set)
        for text in (*texts, *(item.value for item in finding.evidence)):
            if text is not None:
                yield finding.code, text


def named_in(diagnoses: Iterable[Diagnosis], people: set[str]) -> list[tuple[str, str]]:
    """Whom the findings still name once people are replaced; `people` are names in small letters."""
    texts = [pair for diagnosis in diagnoses for pair in texts_of(diagnosis)]
    return [(code, name) for code, text in texts for name in people if name in without_people(text).casefold()]
