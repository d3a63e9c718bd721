"""The JSON forms: UTF-8, times as RFC 3339 in UTC, findings everywhere the same (see the JSON reference in docs/)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any

from trace_lens.checks.claims import ClaimRow
from trace_lens.common import limits
from trace_lens.common.catalogue import Entry
from trace_lens.common.findings import Evidence, Finding, Unchecked, listed
from trace_lens.common.masking import Masks, escaped, masked
from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.grouping import causes_of
from trace_lens.diagnosis.judging import Diagnosis, StageResult
from trace_lens.diagnosis.laying_open import LaidOpen
from trace_lens.diagnosis.steps import Step
from trace_lens.render import json_timeline
from trace_lens.render.json_text import one_line, write_indented

if TYPE_CHECKING:
    from trace_lens.common.symptoms import Symptom
    from trace_lens.diagnosis.diagnosing import Unplaced
    from trace_lens.diagnosis.looking_up import LookedUp

Json = dict[str, Any]


def write(document: Json, put: Callable[[str], object]) -> None:
    """Hand over indented JSON text piece by piece. What a terminal would obey or hide is escaped in it."""
    write_indented(document, lambda text: put(escaped(text)))


def line(document: Json | list[Json] | str) -> str:
    """JSON text in one line, as JSON Lines have it; escaped likewise."""
    return escaped(one_line(document))


def diagnoses(
    found: Sequence[Diagnosis], unreadable: list[Json], masks: Masks, unplaced: Iterable[Unplaced] = ()
) -> Json:
    """`trace-lens/diagnosis/1`."""
    return {
        "schema": "trace-lens/diagnosis/1",
        "attempts": [attempt(diagnosis, masks) for diagnosis in found],
        "causes": [cause._asdict() | {"apps": list(cause.apps)} for cause in causes_of(found)],
        "unreadable": unreadable,
        "unplaced": [
            {
                "source": step.source,
                "where": step.place,
                "method": step.method,
                "url": step.url,
                "status": step.status or None,
                "carries": list(step.carries),
            }
            for step in unplaced
        ],
    }


def attempt(diagnosis: Diagnosis, masks: Masks) -> Json:
    """One attempt of `trace-lens/diagnosis/1`."""
    shown, more = listed(diagnosis.findings)
    more_claims = len(diagnosis.details.claims) - limits.LISTED_CLAIMS
    return {
        "id": diagnosis.id,
        "source": diagnosis.source,
        "protocol": diagnosis.protocol,
        "started_by": diagnosis.parties.started_by,
        "app": diagnosis.app,
        "provider": diagnosis.provider,
        "subject": diagnosis.subject,
        "at": show_moment(diagnosis.at) if diagnosis.at else None,
        "at_from": diagnosis.judged.at_from,
        "chosen_by": diagnosis.parties.chosen_by,
        "redacted": diagnosis.judged.redacted,
        "outcome": diagnosis.outcome,
        "first_break": diagnosis.first_break.code if diagnosis.first_break else None,
        "cause": diagnosis.cause,
        "try": diagnosis.proposal,
        "record": diagnosis.details.record._asdict() if diagnosis.details.record else None,
        "arriving": diagnosis.details.arriving,
        "supposed": list(diagnosis.judged.supposed),
        "next_breaks": list(diagnosis.next_breaks),
        "stages": stages(diagnosis.stages),
        "findings": [finding(problem, masks) for problem in shown],
        **({"more_findings": more} if more else {}),
        "claims": [_claim(row) for row in diagnosis.details.claims[: limits.LISTED_CLAIMS]],
        **({"more_claims": more_claims} if more_claims > 0 else {}),
        "hops": [step(taken) for taken in diagnosis.details.steps],
        "events": json_timeline.matched(diagnosis.details.logs.events, diagnosis.details.logs)
        if diagnosis.details.logs
        else [],
        "unchecked": questions(diagnosis.unchecked),
    }


def stages(results: Iterable[StageResult]) -> list[Json]:
    """What each stage came to."""
    return [
        {
            "stage": result.stage,
            "status": result.status,
            "findings": [finding.code for finding in listed(result.findings)[0]],
            "unchecked": questions(result.unchecked),
        }
        for result in results
    ]


def questions(left_open: Iterable[Unchecked]) -> list[Json]:
    """The questions left open."""
    return [unchecked(question) for question in left_open]


def step(step: Step) -> Json:
    """One hop of the way."""
    return {
        "number": step.number,
        "where": step.place,
        "at": show_moment(step.timing.at) if step.timing.at else None,
        "after": step.timing.after,
        "seconds": step.timing.seconds,
        "how": step.how,
        "from": step.sender,
        "method": step.request.method,
        "url": step.request.url,
        "host": step.request.host,
        "side": step.side,
        "status": step.answer.status or None,
        "redirects_to": step.answer.redirects_to,
        "carries": list(step.request.carries),
        "shows": list(step.answer.shows),
        "cookies_sent": list(step.request.cookies_sent),
        "cookies_set": list(step.answer.cookies_set),
        "frame": step.frame,
        "broken": step.marks.broken,
    }


def _claim(row: ClaimRow) -> Json:
    return {"name": row.name, "values": list(row.values), "from": row.source, "use": row.use}


def finding(finding: Finding, masks: Masks) -> Json:
    """One finding, as every command writes it."""
    return {
        "code": finding.code,
        "stage": finding.stage,
        "severity": finding.severity,
        "title": finding.title,
        "detail": finding.detail,
        "expected": finding.expected,
        "actual": finding.actual,
        "difference": finding.difference,
        "side": finding.side,
        "remedy": finding.remedy,
        "value_to_set": finding.value_to_set,
        "because_of": finding.because_of,
        "certainty": finding.certainty,
        "proof": {"outcome": finding.proof.outcome, "first_break": finding.proof.first_break}
        if finding.proof
        else None,
        **({"overrules": list(finding.overrules)} if finding.overrules else {}),
        "accepted": finding.accepted,
        "evidence": [evidence(item, masks) for item in finding.evidence[: limits.EVIDENCE_OF_FINDING]],
        **({"more_evidence": more} if (more := len(finding.evidence) - limits.EVIDENCE_OF_FINDING) > 0 else {}),
        "reference": finding.reference,
    }


def evidence(item: Evidence, masks: Masks) -> Json:
    """One piece of evidence; a secret value wears its mask."""
    return {
        "label": item.label,
        "value": masks.mask(item.value) if item.secret else item.value,
        "source": item.source,
        "where": str(item.where),
    }


def unchecked(question: Unchecked) -> Json:
    """A question left open."""
    by = question.allowed_by
    allowed = {"what": str(by.allows), "file": by.file, "key": by.key} if by else None
    return {"code": question.code, "because": question.because, "allowed_by": allowed}


def unreadable(source: str, because: str) -> Json:
    """A source that was recognised as nothing."""
    return {"source": source, "code": "unreadable-input", "because": because}


def opened(
    messages: Iterable[LaidOpen],
    failed: Iterable[tuple[str, str]],
    masks: Masks,
    looked_up: Iterable[LookedUp] = (),
) -> Json:
    """`trace-lens/decode/1`."""
    return {
        "schema": "trace-lens/decode/1",
        "messages": [
            {
                "id": str(number),
                "source": opened.source,
                "where": str(opened.where),
                "kind": opened.kind,
                "layers": list(opened.layers),
                "summary": masked(opened.summary, masks),
                "content": masked(opened.content, masks),
                "claims": [_claim(row) for row in laid.claims],
                "findings": [finding(item, masks) for item in opened.findings],
            }
            for number, laid in enumerate(messages, 1)
            for opened in (laid.opened,)
        ],
        "looked_up": [
            {"text": item.text, "kind": item.kind, "means": item.words, "places": list(item.places)}
            for item in looked_up
        ],
        "unreadable": [unreadable(source, because) for source, because in failed],
    }


def explanations(entries: Iterable[Entry], heard: Iterable[Symptom] = ()) -> Json:
    """`trace-lens/explain/1`."""
    return {
        "schema": "trace-lens/explain/1",
        "symptoms": [
            {
                "symptom": symptom.id,
                "title": symptom.title,
                "said": list(symptom.said),
                "questions": list(symptom.questions),
                "record": list(symptom.record),
                "commands": list(symptom.commands),
                "findings": list(symptom.findings),
            }
            for symptom in heard
        ],
        "findings": [
            {
                "code": entry.code,
                "stage": entry.stage,
                "severities": list(entry.severities),
                "title": entry.title,
                "why": entry.why,
                "causes": list(entry.causes),
                "look": entry.look,
                "remedies": [{"side": side, "remedy": text} for side, text in entry.remedies.items()],
                "reference": entry.reference,
            }
            for entry in entries
        ],
    }
