"""How checks are registered and run: `@asks` names a question's stage and codes, `QUESTIONS` holds all of them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple, TypeVar

from trace_lens.checks.case import Case
from trace_lens.common.findings import Finding, Stage, Unchecked

Answer = Iterator[Finding | Unchecked]
C = TypeVar("C", bound=Case)


class Question(NamedTuple):
    """One registered check. `needs` is what a case must hold before the question can be asked.

    `protocol` is `saml` or `oidc` for a check of that package, and None for one that is asked of every sign-in.
    """

    stage: Stage
    codes: tuple[str, ...]
    needs: str
    decides: bool
    ask: Callable[[Any], Answer]
    protocol: str | None


QUESTIONS: list[Question] = []
NOTHING = ""
MESSAGE = "message"
ASSERTION = "assertion"
SIGNATURE = "signature"
REQUEST = "request"
SIGN_OUT = "sign-out"
WAY = "way"
LOGS = "logs"


def asks(
    stage: Stage, *codes: str, needs: str = ASSERTION, decides: bool = False
) -> Callable[[Callable[[C], Answer]], Callable[[C], Answer]]:
    """Register a check under the codes that it may raise, the first of which names the question when it stays open."""

    def register(check: Callable[[C], Answer]) -> Callable[[C], Answer]:
        package = check.__module__.split(".")[-2]
        protocol = package if package in ("saml", "oidc") else None
        QUESTIONS.append(Question(stage, codes, needs, decides, check, protocol))
        return check

    return register


@dataclass(slots=True)
class StageAnswers:
    """What came of one stage's questions; `answered` counts those that could be asked."""

    findings: list[Finding]
    unchecked: list[Unchecked]
    answered: int = 0


def ask(questions: Iterable[Question], case: Case) -> dict[Stage, StageAnswers]:
    """Ask questions of a case, in the order given; what comes of them, by stage."""
    answers = {stage: StageAnswers([], []) for stage in Stage}
    lacks: dict[str, str | None] = {}
    only_sign_out = case.attempt.kind == "sign-out"
    for question in questions:
        stage = answers[question.stage]
        if question.needs == LOGS and case.logs is None:
            continue
        if question.needs not in lacks:
            lacks[question.needs] = case.lacks(question.needs)
        lacking = lacks[question.needs]
        if only_sign_out and question.needs not in (SIGN_OUT, NOTHING):
            continue
        if lacking and question.needs in (REQUEST, SIGN_OUT, WAY):
            continue
        if lacking:
            stage.unchecked.append(Unchecked(question.codes[0], lacking, question.decides and case.decided_by(lacking)))
            continue
        open_before = len(stage.unchecked)
        found = elsewhere = 0
        for answer in question.ask(case):
            if isinstance(answer, Unchecked):
                stage.unchecked.append(answer)
            else:
                answers[answer.stage].findings.append(answer)
                found += answer.severity != "note" and answer.stage is question.stage
                elsewhere += answer.stage is not question.stage
        if found or (not elsewhere and len(stage.unchecked) == open_before and question.needs != LOGS):
            stage.answered += 1
    return answers
