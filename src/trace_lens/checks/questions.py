"""All questions in stage order: importing this module registers the checks of every stage."""

from trace_lens.checks import (
    admitted,
    answered,
    asked,
    authentic,
    current,
    delivered,
    entitled,
    identified,
    intended,
    readable,
    signed_out,
)
from trace_lens.checks.asking import QUESTIONS, Question, StageAnswers, ask
from trace_lens.checks.case import Case
from trace_lens.common.findings import Stage

MODULES = (
    readable, answered, delivered, authentic, intended, current, identified, entitled, admitted, asked, signed_out,
)  # fmt: skip
"""The modules whose checks are asked."""

_IN_ORDER: list[Question] = sorted(QUESTIONS, key=lambda question: list(Stage).index(question.stage))


def ask_all(case: Case) -> dict[Stage, StageAnswers]:
    """Ask every question of a case, in stage order."""
    return ask(_IN_ORDER, case)
