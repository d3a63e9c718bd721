"""The diagnosis of a redacted copy: what its record tells is told as that, and never vouches for a sign-in."""

from __future__ import annotations

from dataclasses import replace

from trace_lens.common.findings import RECORDED, Finding, Stage, Unchecked
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.workspace.records import EVERYONE, Workspace

_OF_PEOPLE = (Stage.IDENTIFIED, Stage.ENTITLED)
_STAND_INS = "the names in a redacted copy are stand-ins; only lists that were redacted with it hold them"
_BY_RECORD = frozenset({"encrypted-to-other-key", "decryption-failed", "capture-altered", "request-signature-invalid"})
"""Findings of other stages than `authentic` that rest on arithmetic which a copy cannot show."""
_WORDS = "only the record of this redacted copy tells that a signature in it holds, or what was encrypted in it"


def without_lists(workspace: Workspace) -> Workspace:
    """A workspace without its lists of accounts, groups and assignments: they hold none of a copy's stand-ins."""
    apps = {}
    for name, app in workspace.apps.items():
        told = app.settings
        assigned = told.provider_setup.assigned
        settings = told._replace(
            account=told.account._replace(list_file=None, groups=None),
            provider_setup=told.provider_setup._replace(assigned=assigned if assigned == EVERYONE else None),
        )
        apps[name] = replace(app, settings=settings)
    return replace(workspace, apps=apps, _kept={})


def for_stand_ins(diagnosis: Diagnosis) -> Diagnosis:
    """A diagnosis that was made without lists: what it could not ask is told as that."""
    stages = tuple(
        result._replace(unchecked=tuple(map(_of_stand_ins, result.unchecked))) if result.stage in _OF_PEOPLE else result
        for result in diagnosis.stages
    )
    told = {id(question) for result in diagnosis.stages if result.stage in _OF_PEOPLE for question in result.unchecked}
    unchecked = tuple(_of_stand_ins(question) if id(question) in told else question for question in diagnosis.unchecked)
    return diagnosis._replace(stages=stages, unchecked=unchecked)


def _of_stand_ins(question: Unchecked) -> Unchecked:
    lacking = question.allowed_by
    return question if lacking is None else question._replace(because=_STAND_INS, needs="")


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
