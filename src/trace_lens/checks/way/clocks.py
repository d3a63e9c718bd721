"""Current, as far as a capture shows clocks: do the two sides' servers agree on the time?

Every response may say under Date what its server took the time to be (RFC 9110 §6.6.1), to the second; the capture says
when the browser saw it. The difference of the two, side against side, is free of the browser's own clock.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta

from trace_lens.attempts.arrival import application_ahead
from trace_lens.attempts.journeys import Way
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.parties import APPLICATION, PROVIDER, at_hop, parties
from trace_lens.common import limits
from trace_lens.common.findings import Finding, Severity, Side
from trace_lens.common.moments import show_duration
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import Exchange, clock_ahead

_Seen = dict[str, list[tuple[float, Exchange]]]


class Apart(NamedTuple):
    """How far the application's clock is ahead of the provider's, and whose is off by the browser's clock."""

    ahead: timedelta
    wrong: str

    @property
    def words(self) -> tuple[str, str, str]:
        """Whose clock is ahead, by how much, and of whose."""
        first, second = ("application", "provider") if self.ahead > timedelta() else ("provider", "application")
        return first, show_duration(timedelta(seconds=round(abs(self.ahead.total_seconds())))), second

    @property
    def remedy(self) -> str:
        """What to do, and by how much the clock that is off is off."""
        first, length, second = self.words
        return say(
            "Set the {wrong}'s clock by a time service: it is {length} {words} the {other}'s.",
            wrong=self.wrong,
            length=length,
            words="ahead of" if self.wrong == first else "behind",
            other=second if self.wrong == first else first,
        )


def _seen(case: Case) -> _Seen:
    """By how many seconds each answer's clock was ahead of the browser's, by side."""
    way: Way | None = case.attempt.way
    sides = parties(case)
    seen: _Seen = {APPLICATION: [], PROVIDER: []}
    for hop in way.hops if way else ():
        offset = clock_ahead(hop.exchange)
        side = sides.side_of(hop.exchange)
        if offset is not None and side in seen:
            seen[side].append((offset, hop.exchange))
    return seen


def _middle(seen: _Seen, side: str) -> float | None:
    from statistics import median

    return median(offset for offset, _ in seen[side]) if seen[side] else None


def _apart(case: Case, ours: float | None, theirs: float | None) -> Apart | None:
    """How far both sides' clocks are apart, where that is more than half of the skew that is allowed."""
    if ours is None or theirs is None or abs(ours - theirs) <= max(case.skew.total_seconds() / 2, 2.0):
        return None
    return Apart(timedelta(seconds=ours - theirs), APPLICATION if abs(ours) > abs(theirs) else PROVIDER)


def clock_to_set(case: Case, holds: Callable[[datetime], bool]) -> tuple[Side, str] | None:
    """Whose clock must be set, and the remedy, where a time that does not hold would hold if both sides' clocks agreed;
    None where the capture does not show that.
    """
    seen = _seen(case)
    apart = _apart(case, _middle(seen, APPLICATION), _middle(seen, PROVIDER))
    if apart is None or case.at is None or case.at_from != "capture" or not holds(case.at - apart.ahead):
        return None
    if apart.wrong == APPLICATION and application_ahead(case.attempt) is None:
        return None  # judged by the browser's clock, so the application's did not matter
    return Side.APPLICATION if apart.wrong == APPLICATION else Side.PROVIDER, apart.remedy


@check("clock-offset", requires=Need.WAY)
def clocks(case: Case) -> Answer:
    """Do the clocks of both sides agree to half of the skew that is allowed?"""
    seen = _seen(case)
    ours, theirs = _middle(seen, APPLICATION), _middle(seen, PROVIDER)
    if ours is None or theirs is None:
        return
    apart = _apart(case, ours, theirs)
    if apart is None:
        if min(abs(ours), abs(theirs)) > limits.DATES_AGREE_SECONDS:
            yield _of_the_computer(
                case, ours, [exchange for side in (APPLICATION, PROVIDER) for _, exchange in seen[side][:1]]
            )
        return
    ahead, length, behind = apart.words
    yield finding(
        "clock-offset",
        say(
            "The clock of the {ahead} is {length} ahead of that of the {behind} (the Date of their "
            "responses). By the browser's clock it is the {wrong}'s that is off.",
            ahead=ahead,
            length=length,
            behind=behind,
            wrong=apart.wrong,
        ),
        severity=Severity.RISK,
        side=Side.APPLICATION if apart.wrong == APPLICATION else Side.PROVIDER,
        remedy=apart.remedy,
        expected=f"at most {show_duration(case.skew / 2)} apart (half of clock_skew)",
        actual=f"{length} apart",
        evidence=[
            at_hop(case, f"Date of the {side}", str(exchange.response("date")), exchange, "response header Date")
            for side in (APPLICATION, PROVIDER)
            for _, exchange in seen[side][:1]
        ],
        compared=False,
    )


def apart_beyond_skew(case: Case) -> bool:
    """Whether both sides' clocks are further apart than the skew that is allowed."""
    seen = _seen(case)
    apart = _apart(case, _middle(seen, APPLICATION), _middle(seen, PROVIDER))
    return apart is not None and abs(apart.ahead) > case.skew


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
