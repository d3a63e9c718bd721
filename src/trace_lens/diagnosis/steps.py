"""The hops of an attempt as a reader follows them: who sent the browser where, with what, and where it broke."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime

from trace_lens.attempts.cookies import Refused, is_cleared, read_set_cookie
from trace_lens.attempts.journeys import START, Hop, Way
from trace_lens.checks.case import Case
from trace_lens.checks.way.parties import parties
from trace_lens.common import limits
from trace_lens.common.addresses import plain
from trace_lens.common.findings import Finding
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.carried import DELIVERED, IN_HEADER, PART
from trace_lens.intake.exchanges import Exchange, Phases

NAMELESS = "(without a name)"
"""What stands for the empty name of a cookie that was set or sent without an equals sign."""


class StepTiming(NamedTuple):
    """When a hop was: `after` the seconds since the first hop, `seconds` how long it took."""

    at: datetime | None
    after: float | None
    seconds: float | None
    phases: Phases | None


class StepRequest(NamedTuple):
    """What the browser asked for, the address without query and fragment; `carries` the kinds of messages in it."""

    method: str
    url: str
    host: str
    cookies_sent: tuple[str, ...]
    carries: tuple[str, ...]


class StepAnswer(NamedTuple):
    """What came back; `shows` the kinds of messages in it, `cookie_lines` the Set-Cookie fields without the values."""

    status: int
    problem: str | None
    redirects_to: str | None
    cookies_set: tuple[str, ...]
    cookie_lines: tuple[str, ...]
    shows: tuple[str, ...]


class StepMarks(NamedTuple):
    """The code of the break that lies at a hop, and of a risk; `decisive` for the first break of the attempt."""

    broken: str | None
    risk: str | None
    decisive: bool


class Step(NamedTuple):
    """One hop. `sender` is the host whose answer led to it, None where a person did; `side` whose host was asked."""

    number: int
    place: str
    how: str
    sender: str | None
    side: str
    frame: bool
    timing: StepTiming
    request: StepRequest
    answer: StepAnswer
    marks: StepMarks


def steps_of(case: Case, findings: Iterable[Finding], first: Finding | None) -> tuple[Step, ...]:
    """The steps of an attempt, empty where its capture does not show the way."""
    way: Way | None = case.attempt.way
    if way is None:
        return ()
    begin = next((hop.exchange.at for hop in way.hops if hop.exchange.at), None)
    marked = _marks(way, findings, first)
    sides = parties(case)
    return tuple(
        _step(number, hop, begin, sides.side_of(hop.exchange), marked, first) for number, hop in enumerate(way.hops, 1)
    )


def time_spent(steps: Sequence[Step]) -> dict[str, float]:
    """The seconds that each side took (by `application`, `provider`, `other`), and `person` for the pauses between."""
    spent: dict[str, float] = {}
    before: Step | None = None
    for step in steps:
        if step.timing.seconds:
            spent[step.side] = spent.get(step.side, 0.0) + step.timing.seconds
        gap = pause_before(before, step)
        if gap:
            spent["person"] = spent.get("person", 0.0) + gap
        before = step
    return spent


def pause_before(before: Step | None, step: Step) -> float:
    """The seconds between two hops in which no server was asked, where that is long enough to be a person's; else 0."""
    if before is None or before.timing.at is None or step.timing.at is None:
        return 0.0
    gap = (step.timing.at - before.timing.at).total_seconds() - (before.timing.seconds or 0.0)
    return gap if gap > limits.PERSON_SECONDS else 0.0


def _marks(way: Way, findings: Iterable[Finding], first: Finding | None) -> dict[int, list[Finding]]:
    """The findings that lie at a hop: each at the last hop that its evidence names."""
    numbers = {hop.exchange.number for hop in way.hops}
    marked: dict[int, list[Finding]] = {}
    for finding in findings:
        named = [item.exchange for item in finding.evidence if item.exchange in numbers and item.exchange is not None]
        if named and finding.severity != "note":
            marked.setdefault(max(named), []).append(finding)
    return marked


def _step(
    number: int, hop: Hop, begin: datetime | None, side: str, marked: dict[int, list[Finding]], first: Finding | None
) -> Step:
    exchange = hop.exchange
    here = marked.get(exchange.number, [])
    breaks = [finding.code for finding in here if finding is first]
    breaks += [finding.code for finding in here if finding.breaks and finding.because_of is None]
    breaks += [finding.code for finding in here if finding.breaks and finding.because_of is not None]
    risks = [finding.code for finding in here if not finding.breaks]
    handed = [message.kind for message in hop.carries if message.context[PART] in (*DELIVERED, IN_HEADER)]
    shown = [message.kind for message in hop.carries if message.context[PART] not in (*DELIVERED, IN_HEADER)]
    return Step(
        number=number,
        place=exchange.place,
        how=hop.how,
        sender=hop.cause.host if hop.cause and hop.how not in (START,) else None,
        side=side,
        frame=exchange.frame,
        timing=StepTiming(
            at=exchange.at,
            after=(exchange.at - begin).total_seconds() if exchange.at and begin else None,
            seconds=exchange.seconds,
            phases=exchange.phases,
        ),
        request=StepRequest(
            method=exchange.method,
            url=plain(exchange.url),
            host=exchange.host,
            cookies_sent=tuple(name or NAMELESS for name in exchange.cookies),
            carries=tuple(dict.fromkeys(handed)),
        ),
        answer=StepAnswer(
            status=exchange.status,
            problem=exchange.problem,
            redirects_to=plain(exchange.redirects_to) if exchange.redirects_to else None,
            cookies_set=_set(exchange),
            cookie_lines=tuple(_shown(line) for line in exchange.set_cookies),
            shows=tuple(dict.fromkeys(shown)),
        ),
        marks=StepMarks(
            broken=breaks[0] if breaks else None,
            risk=risks[0] if risks else None,
            decisive=any(finding is first for finding in here),
        ),
    )


def _shown(line: str) -> str:
    """A Set-Cookie field without the value of the cookie."""
    pair, *attributes = line.split(";")
    name, equals, _ = pair.partition("=")
    return "; ".join([name.strip() if equals else NAMELESS, *(attribute.strip() for attribute in attributes)])


def _set(exchange: Exchange) -> tuple[str, ...]:
    read = [read_set_cookie(line, exchange) for line in exchange.set_cookies]
    return tuple(cookie.name or NAMELESS for cookie in read if isinstance(cookie, Refused) or not is_cleared(cookie))
