"""All questions in stage order. The checks of a protocol are imported, and so registered, when a case of it comes."""

from __future__ import annotations

from functools import cache
from importlib import import_module

from trace_lens.checks.asking import QUESTIONS, Question, StageAnswers, ask
from trace_lens.checks.case import Case
from trace_lens.common.findings import Stage

SHARED = (
    "intended",
    "identified",
    "entitled",
    "admitted",
    "logged",
    "way.cookies",
    "way.hops",
    "way.reachable",
    "way.blocked",
    "way.interfaces",
    "way.ending",
    "way.clocks",
)
"""The modules whose checks are asked of every sign-in."""
OF_PROTOCOL = {
    "saml": (
        "readable", "answered", "delivered", "authentic", "intended", "current", "identified", "admitted", "asked",
        "signed_out",
    ),
    "oidc": (
        "readable", "answered", "delivered", "authentic", "intended", "current", "identified", "entitled", "admitted",
        "signed_out",
    ),
}  # fmt: skip
"""The modules of each protocol's own package."""


@cache
def questions_of(protocol: str) -> tuple[Question, ...]:
    """The questions that are asked of a sign-in by this protocol, in stage order."""
    for name in SHARED:
        import_module(f"trace_lens.checks.{name}")
    for name in OF_PROTOCOL[protocol]:
        import_module(f"trace_lens.checks.{protocol}.{name}")
    order = list(Stage)
    asked = [one for one in QUESTIONS if one.protocol in (None, protocol)]
    return tuple(sorted(asked, key=lambda one: order.index(one.stage)))


def ask_all(case: Case) -> dict[Stage, StageAnswers]:
    """Ask every question of a case, in stage order."""
    return ask(questions_of(case.protocol), case)
