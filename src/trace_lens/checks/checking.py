"""What a check is, and how checks are run: `@check` names the codes that a function may raise and what it requires."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import Any, NamedTuple

from trace_lens.checks.case import Case, Need
from trace_lens.common import catalogue
from trace_lens.common.findings import Finding, Severity, Stage, Unchecked

Answer = Iterator[Finding | Unchecked]


class Check(NamedTuple):
    """One question asked of an attempt. The first of its codes names it where it cannot be asked.

    `decides` marks a question without whose answer a sign-in cannot be called sound.
    """

    codes: tuple[str, ...]
    requires: Need
    decides: bool
    ask: Callable[[Any], Answer]

    @property
    def stage(self) -> Stage:
        """The stage of its codes."""
        return catalogue.stage_of(self.codes[0])

    def __call__(self, case: Any) -> Answer:
        """Ask it of one case."""
        return self.ask(case)


def check(
    *codes: str, requires: Need = Need.ASSERTION, decides: bool = False
) -> Callable[[Callable[[Any], Answer]], Check]:
    """Make a check of a function that yields findings, or an `Unchecked` that says what was lacking."""
    return lambda function: Check(codes, requires, decides, function)


@dataclass(slots=True)
class StageAnswers:
    """What came of one stage's checks; `answered` counts those that could be asked."""

    findings: list[Finding]
    unchecked: list[Unchecked]
    answered: int = 0


def run_checks(checks: Iterable[Check], case: Case) -> dict[Stage, StageAnswers]:
    """Ask checks of a case, in the order given; what comes of them, by stage."""
    answers = {stage: StageAnswers([], []) for stage in Stage}
    lacks: dict[Need, str | None] = {}
    only_sign_out = case.attempt.kind == "sign-out"
    for check in checks:
        stage = answers[check.stage]
        if check.requires is Need.LOGS and case.logs is None:
            continue
        if check.requires not in lacks:
            lacks[check.requires] = case.lacks(check.requires)
        lacking = lacks[check.requires]
        if only_sign_out and check.requires not in (Need.SIGN_OUT, Need.NOTHING):
            continue
        if lacking and check.requires in (Need.REQUEST, Need.SIGN_OUT, Need.WAY):
            continue
        if lacking:
            stage.unchecked.append(Unchecked(check.codes[0], lacking, check.decides and case.decided_by()))
            continue
        open_before = len(stage.unchecked)
        found = elsewhere = 0
        for answer in check.ask(case):
            if isinstance(answer, Unchecked):
                stage.unchecked.append(answer)
            else:
                answers[answer.stage].findings.append(answer)
                found += answer.severity is not Severity.NOTE and answer.stage is check.stage
                elsewhere += answer.stage is not check.stage
        if found or (not elsewhere and len(stage.unchecked) == open_before and check.requires is not Need.LOGS):
            stage.answered += 1
    return answers
