"""All questions in stage order: importing this module registers the checks of every stage."""

from trace_lens.checks import (  # noqa: F401  the imports register the checks, in this order
    admitted,
    answered,
    authentic,
    current,
    delivered,
    entitled,
    identified,
    intended,
    readable,
)  # isort: skip
from trace_lens.checks.asking import QUESTIONS, StageAnswers, ask_all

__all__ = ["QUESTIONS", "StageAnswers", "ask_all"]
