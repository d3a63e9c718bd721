"""The diagnosis of a redacted copy: what its record tells is told as that, and never vouches for a sign-in."""

from __future__ import annotations

from trace_lens.common.findings import RECORDED, Finding, Stage, Unchecked
from trace_lens.diagnosis.judging import Diagnosis

_BY_RECORD = frozenset({"encrypted-to-other-key", "decryption-failed", "capture-altered", "request-signature-invalid"})
"""Findings of other stages than `authentic` that rest on arithmetic which a copy cannot show."""
_WORDS = (
    "this is a redacted copy: its signatures and what was encrypted in it are as its record tells them, not verified"
)


def as_recorded(diagnosis: Diagnosis, *, vouched: bool) -> Diagnosis:
    """A diagnosis of a copy, marked as one. `vouched` says that something held only because the record says so.

    Then the sign-in cannot be called sound.
    """
    kept = {id(finding): _marked(finding, vouched=vouched) for finding in diagnosis.findings}
    first = diagnosis.first_break
    stages = tuple(
        result._replace(findings=tuple(kept.get(id(finding), finding) for finding in result.findings))
        for result in diagnosis.stages
    )
    made = diagnosis._replace(
        findings=tuple(kept[id(finding)] for finding in diagnosis.findings),
        first_break=kept.get(id(first), first) if first else None,
        stages=stages,
        judged=diagnosis.judged._replace(redacted=True),
    )
    if not vouched or made.outcome == "broken":
        return made
    question = Unchecked("signature-value-invalid", _WORDS, decides=True)
    return made._replace(
        outcome="inconclusive",
        cause=f"Nothing that could be checked breaks this sign-in, but it cannot be called sound: {_WORDS}.",
        unchecked=(*made.unchecked, question),
        stages=tuple(
            result._replace(unchecked=(*result.unchecked, question)) if result.stage is Stage.AUTHENTIC else result
            for result in made.stages
        ),
    )


def _marked(finding: Finding, *, vouched: bool) -> Finding:
    """A break that rests on arithmetic is as the record has it; so is what trying its value would give."""
    rests = finding.stage is Stage.AUTHENTIC or finding.code in _BY_RECORD
    if finding.proof and finding.proof.outcome == "sound" and vouched:
        finding = finding._replace(proof=finding.proof._replace(outcome="inconclusive"))
    return finding._replace(certainty=RECORDED) if finding.breaks and rests else finding
