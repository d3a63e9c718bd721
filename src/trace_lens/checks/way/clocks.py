"""Current, as far as a capture shows clocks: do the two sides' servers agree on the time?

Every response may say under Date what its server took the time to be (RFC 9110 §6.6.1), to the second; the capture says
when the browser saw it. The difference of the two, side against side, is free of the browser's own clock.
"""

from __future__ import annotations

from datetime import timedelta

from trace_lens.attempts.journeys import Way
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.parties import APPLICATION, PROVIDER, at_hop, parties
from trace_lens.common import limits
from trace_lens.common.findings import Finding, Severity, Side
from trace_lens.common.moments import show_duration
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.intake.exchanges import Exchange, clock_ahead


@check("clock-offset", requires=Need.WAY)
def clocks(case: Case) -> Answer:
    """Do the clocks of both sides agree to half of the skew that is allowed?"""
    from statistics import median

    way: Way | None = case.attempt.way
    sides = parties(case)
    seen: dict[str, list[tuple[float, Exchange]]] = {APPLICATION: [], PROVIDER: []}
    for hop in way.hops if way else ():
        offset = clock_ahead(hop.exchange)
        side = sides.side_of(hop.exchange)
        if offset is not None and side in seen:
            seen[side].append((offset, hop.exchange))
    if not seen[APPLICATION]:
        return
    ours = median(offset for offset, _ in seen[APPLICATION])
    theirs = median(offset for offset, _ in seen[PROVIDER]) if seen[PROVIDER] else None
    limit = max(case.skew.total_seconds() / 2, 2.0)
    if theirs is None or abs(ours - theirs) <= limit:
        if theirs is not None and min(abs(ours), abs(theirs)) > limits.DATES_AGREE_SECONDS:
            yield _of_the_computer(
                case, ours, [exchange for side in (APPLICATION, PROVIDER) for _, exchange in seen[side][:1]]
            )
        return
    apart = ours - theirs
    ahead, behind = ("application", "provider") if apart > 0 else ("provider", "application")
    wrong = APPLICATION if abs(ours) > abs(theirs) else PROVIDER
    length = show_duration(timedelta(seconds=round(abs(apart))))
    yield finding(
        "clock-offset",
        say(
            "The clock of the {ahead} is {length} ahead of that of the {behind} (the Date of their "
            "responses). By the browser's clock it is the {wrong}'s that is off.",
            ahead=ahead,
            length=length,
            behind=behind,
            wrong=wrong,
        ),
        side=Side.APPLICATION if wrong == APPLICATION else Side.PROVIDER,
        expected=f"at most {show_duration(case.skew / 2)} apart (half of clock_skew)",
        actual=f"{length} apart",
        evidence=[
            at_hop(case, f"Date of the {side}", str(exchange.response("date")), exchange, "response header Date")
            for side in (APPLICATION, PROVIDER)
            for _, exchange in seen[side][:1]
        ],
        compared=False,
    )


def _of_the_computer(case: Case, ahead: float, answers: list[Exchange]) -> Finding:
    """Both sides agree, and the browser's computer does not: its clock is off, and what it recorded is corrected by
    that.
    """
    length = show_duration(timedelta(seconds=round(abs(ahead))))
    return finding(
        "clock-offset",
        say(
            "The clock of the computer with the browser is {length} {words} the servers of both "
            "sides. The times of the capture were corrected by that; the sign-in does not depend on "
            "this clock.",
            length=length,
            words="behind" if ahead > 0 else "ahead of",
        ),
        severity=Severity.RISK,
        side=Side.USER,
        expected="the time that both sides' servers tell",
        actual=f"{length} {'behind' if ahead > 0 else 'ahead'}",
        remedy="Set the clock of this computer by the network's time.",
        evidence=[
            at_hop(case, "Date", str(answer.response("date")), answer, "response header Date") for answer in answers
        ],
        compared=False,
    )


def shown_by_dates(case: Case) -> bool:
    """Whether the Date fields of a capture show that the clocks are too far apart."""
    return any(True for _ in clocks(case))


CHECKS = (clocks,)
