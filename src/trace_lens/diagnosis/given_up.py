"""Tries that were given up before another of the same application went through: part of that attempt, and no break.

Whether one went through is known only once it is judged, so this comes after judging.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from trace_lens.attempts.journeys import Way
from trace_lens.checks.case import Case
from trace_lens.checks.way.parties import APPLICATION, parties
from trace_lens.checks.way.said import refusal_page
from trace_lens.checks.way.signs import shown_in
from trace_lens.intake.exchanges import CALL

if TYPE_CHECKING:
    from trace_lens.checks.oidc.case import OidcCase
    from trace_lens.checks.saml.case import SamlCase
    from trace_lens.diagnosis.judging import Diagnosis


def taken_up(
    cases: Sequence[SamlCase | OidcCase], diagnoses: Sequence[Diagnosis]
) -> list[tuple[SamlCase | OidcCase, Diagnosis | None]]:
    """The cases without the tries given up, each with its diagnosis; None where it has to be judged again with them."""
    homes: dict[int, list[int]] = {}
    gone: set[int] = set()
    for place, (case, diagnosis) in enumerate(zip(cases, diagnoses, strict=True)):
        if not _left_alone(case, diagnosis):
            continue
        home = next(
            (other for other in range(place + 1, len(cases)) if _went_through(case, cases[other], diagnoses[other])),
            None,
        )
        if home is not None:
            homes.setdefault(home, []).append(place)
            gone.add(place)
    made: list[tuple[SamlCase | OidcCase, Diagnosis | None]] = []
    for place, (case, diagnosis) in enumerate(zip(cases, diagnoses, strict=True)):
        if place in gone:
            continue
        ways = tuple(way for other in homes.get(place, ()) if (way := cases[other].attempt.way))
        if not ways:
            made.append((case, diagnosis))
            continue
        attempt = case.attempt._replace(given_up=ways)
        made.append((replace(case, attempt=attempt, _kept={}), None))  # type: ignore[arg-type]
    return made


def _left_alone(case: Case, diagnosis: Diagnosis) -> bool:
    """Whether a try only asked, and was left at a page that refused nothing, or was a script's call.

    A call that is sent on to the provider shows nobody a page to sign in at; browsers keep its answer from the script.
    """
    if case.attempt.kind != "request" or case.attempt.way is None or refusal_page(case):
        return False
    first = diagnosis.first_break
    if first is None or (first.code == "no-answer" and first.certainty == "inferred"):
        return True
    return first.code == "blocked-by-browser" and all(hop.exchange.kind == CALL for hop in case.attempt.way.hops)


def _went_through(left: Case, case: Case, diagnosis: Diagnosis) -> bool:
    """Whether another attempt of the same application, in the same capture, went through."""
    way, other = left.attempt.way, case.attempt.way
    if other is None or other.source != way.source or case.attempt.kind not in ("answer", "request"):
        return False
    if case.protocol != left.protocol or diagnosis.app is None or diagnosis.app != (left.app.id if left.app else None):
        return False
    if not (shown_in(case) or diagnosis.outcome == "sound" or _came_back(case, diagnosis)):
        return False
    return _first(other) > _first(way)


def _came_back(case: Case, diagnosis: Diagnosis) -> bool:
    """Whether an attempt whose answer the capture leaves out ends at a page of the application, without any break."""
    last = case.attempt.way.hops[-1].exchange if case.attempt.way else None
    if last is None or diagnosis.outcome == "broken":
        return False
    return parties(case).side_of(last) == APPLICATION and 200 <= last.status < 400


def _first(way: Way) -> int:
    return way.hops[0].exchange.number
