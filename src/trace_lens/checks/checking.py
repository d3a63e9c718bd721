"""What a check is, and how checks are run: `@check` names the codes that a function may raise and what it requires."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from itertools import groupby
from typing import Any

from trace_lens.checks.case import Case, Need
from trace_lens.common import catalogue
from trace_lens.common.findings import Finding, Stage, Unchecked
from trace_lens.common.tuples import NamedTuple

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
    """What came of one stage's checks."""

    findings: list[Finding]
    unchecked: list[Unchecked]


class Round(NamedTuple):
    """Checks of one need that follow each other in one stage."""

    stage: Stage
    requires: Need
    checks: tuple[Check, ...]


def rounds_of(checks: Iterable[Check]) -> tuple[Round, ...]:
    """Checks in their order, those that share stage and need together: what they lack is asked once for all."""
    return tuple(
        Round(stage, requires, tuple(together))
        for (stage, requires), together in groupby(checks, key=lambda check: (check.stage, check.requires))
    )


_ONLY_WHERE_THERE = (Need.REQUEST, Need.SIGN_OUT, Need.WAY)
"""Needs that nothing is said of where they are not met: the capture does not show that part."""


def run_checks(rounds: Iterable[Round], case: Case) -> dict[Stage, StageAnswers]:
    """Ask checks of a case, in the order given; what comes of them, by stage."""
    answers = {stage: StageAnswers([], []) for stage in Stage}
    lacks: dict[Need, str | None] = {}
    only_sign_out = case.attempt.kind == "sign-out"
    for stage, requires, checks in rounds:
        if requires is Need.LOGS and case.logs is None:
            continue
        if only_sign_out and requires is not Need.SIGN_OUT and requires is not Need.NOTHING:
            continue
        if requires not in lacks:
            lacks[requires] = case.lacks(requires)
        lacking = lacks[requires]
        if not lacking:
            for check in checks:
                for answer in check.ask(case):
                    if isinstance(answer, Unchecked):
                        answers[stage].unchecked.append(answer)
                    else:
                        answers[answer.stage].findings.append(answer)
        elif requires not in _ONLY_WHERE_THERE:
            decided_by = case.decided_by()
            answers[stage].unchecked.extend(
                Unchecked(check.codes[0], lacking, check.decides and decided_by) for check in checks
            )
    return answers
