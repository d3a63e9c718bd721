"""How checks are registered and run: `@asks` names a question's stage and codes, `QUESTIONS` holds all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import NamedTuple

from trace_lens.checks.case import Case
from trace_lens.common.findings import Finding, Stage, Unchecked

Answer = Iterator[Finding | Unchecked]
Check = Callable[[Case], Answer]


class Question(NamedTuple):
    """One registered check. `needs` is what a case must hold before the question can be asked."""

    stage: Stage
    codes: tuple[str, ...]
    needs: str
    decides: bool
    ask: Check


QUESTIONS: list[Question] = []
NOTHING = ""
MESSAGE = "message"
ASSERTION = "assertion"
SIGNATURE = "signature"
REQUEST = "request"
SIGN_OUT = "sign-out"


def asks(stage: Stage, *codes: str, needs: str = ASSERTION, decides: bool = False) -> Callable[[Check], Check]:
    """Register a check under the codes that it may raise, the first of which names the question when it stays open."""

    def register(check: Check) -> Check:
        QUESTIONS.append(Question(stage, codes, needs, decides, check))
        return check

    return register


@dataclass(slots=True)
class StageAnswers:
    """What came of one stage's questions; `answered` counts those that could be asked."""

    findings: list[Finding]
    unchecked: list[Unchecked]
    answered: int = 0


def ask(questions: list[Question], case: Case) -> dict[Stage, StageAnswers]:
    """Ask questions of a case, in the order given; what comes of them, by stage."""
    answers = {stage: StageAnswers([], []) for stage in Stage}
    lacks = {need: case.lacks(need) for need in (NOTHING, MESSAGE, ASSERTION, SIGNATURE, REQUEST, SIGN_OUT)}
    only_sign_out = case.attempt.kind == "sign-out"
    for question in questions:
        stage = answers[question.stage]
        lacking = lacks[question.needs]
        if only_sign_out and question.needs not in (SIGN_OUT, NOTHING):
            continue
        if lacking and question.needs in (REQUEST, SIGN_OUT):
            continue
        if lacking:
            stage.unchecked.append(Unchecked(question.codes[0], lacking, question.decides))
            continue
        open_before = len(stage.unchecked)
        found = 0
        for answer in question.ask(case):
            if isinstance(answer, Unchecked):
                stage.unchecked.append(answer)
            else:
                answers[answer.stage].findings.append(answer)
                found += answer.severity != "note"
        if found or len(stage.unchecked) == open_before:
            stage.answered += 1
    return answers
