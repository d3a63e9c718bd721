"""What the logs of both sides say of an attempt: yes, no and why, and by which clock.

An event counts where it is of the attempt more likely than not; its code is told in the organisation's own words. A
refusal counts unless the same log says yes later in the same attempt.
"""

from __future__ import annotations

import re
from datetime import timedelta
from typing import TYPE_CHECKING

from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.validity import windows_of
from trace_lens.checks.way.clocks import shown_by_dates
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Allows, Evidence, Finding, Severity, Side, Stage, Unchecked, lack
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Quotation, say
from trace_lens.logs.event import APPLICATION, FAILURE, PROVIDER, SUCCESS
from trace_lens.logs.matching.seen import Matched

if TYPE_CHECKING:
    from trace_lens.workspace.log_settings import LogCode

_SURE = 0.9
_REFUSING = ("400", "401", "403")
"""Statuses (RFC 9110 §15.5) by which a web server refuses who comes, whatever it is that they ask for."""
_NO_ACCOUNT = expression(
    r"\bno (?:such |matching )?(?:account|user)\b|\bunknown (?:account|user)\b"
    r"|\b(?:account|user)\b[^.]{0,200}?\b(?:not found|unknown|does not exist|missing)",
    re.IGNORECASE,
)

_LOG_OF = {"application": Allows.APPLICATION_LOG, "provider": Allows.PROVIDER_LOG}


def refusal(case: Case, role: str) -> Matched | None:
    """The event by which a side's log refuses the attempt; None where it does not, or lets it through later."""
    decided = _decided(case, role)
    return decided[-1] if decided and decided[-1].event.outcome == FAILURE else None


def let_in_by_log(case: Case) -> Matched | None:
    """The event by which the application's log says that it let the user in."""
    decided = _decided(case, APPLICATION)
    return decided[-1] if decided and decided[-1].event.outcome == SUCCESS else None


def _decided(case: Case, role: str) -> list[Matched]:
    """The events of a side that say yes or no. A web server's status says no where it refuses; it never says yes."""
    made = []
    for matched in case.logs.of(role) if case.logs else ():
        told = case.logs.sources.get(matched.event.source) if case.logs else None
        if told is not None and told.tells_status_only:
            if matched.event.code in _REFUSING or (matched.event.code or "").startswith("5"):
                made.append(matched)
        elif matched.event.outcome in (SUCCESS, FAILURE):
            made.append(matched)
    return made


def at_event(matched: Matched, label: str = "log event") -> Evidence:
    """An event as evidence."""
    event = matched.event
    parts = [show_moment(event.time), event.outcome, event.code, event.reason]
    return Evidence(label, " ".join(part for part in parts if part), event.file, Location(line=event.line))


def in_words(case: Case, text: str, matched: Matched) -> str:
    """A sentence with what an event says: its code, the organisation's meaning of it, the log's own reason; and how
    sure the event is where it is not.
    """
    meaning = case.logs.meaning(matched) if case.logs else None
    said = say("{code}", code=matched.event.code) if matched.event.code else ""
    if meaning:
        said += say(" ({means})", means=meaning.means)
    if matched.event.reason and (not meaning or meaning.means.casefold() != matched.event.reason.casefold()):
        said += say('{words}"{reason}"', words=", " if said else "", reason=Quotation(matched.event.reason))
    doubt = say(
        " That event is of this attempt with a probability of {probability}.", probability=f"{matched.probability:.2f}"
    )
    return text + (say(": {said}.", said=said) if said else ".") + ("" if matched.probability >= _SURE else doubt)


def _lacking(case: Case, role: str, name: str | None, code: str) -> Unchecked | None:
    """Why a log could not be asked; None where it holds something of the attempt."""
    if case.logs is None or not case.logs.has(role, name):
        return Unchecked(code, lack(f"no log of the {role} is loaded", _LOG_OF[role]))
    if not case.logs.of(role):
        return Unchecked(code, lack(f"the loaded log of the {role} has no event of this attempt", _LOG_OF[role]))
    return None


@check("application-refused", requires=Need.NOTHING)
def application_log(case: Case) -> Answer:
    """Does the application's log say no?"""
    lacking = _lacking(case, APPLICATION, case.app.id if case.app else None, "application-refused")
    if lacking:
        yield lacking
        return
    matched = refusal(case, APPLICATION)
    if matched is None or case.logs is None:
        return
    meaning = case.logs.meaning(matched)
    name = case.app.name if case.app else "the application"
    yield finding(
        "application-refused",
        in_words(case, f"By its log, {name} refused this attempt", matched),
        side=Side(meaning.side) if meaning and meaning.side else None,
        remedy=_to_act_on(case, matched, meaning),
        actual=matched.event.code,
        evidence=[at_event(matched)],
    )


@check("provider-log-refused", requires=Need.NOTHING)
def provider_log(case: Case) -> Answer:
    """Does the provider's log say no?"""
    lacking = _lacking(case, PROVIDER, case.provider.id if case.provider else None, "provider-log-refused")
    if lacking:
        yield lacking
        return
    matched = refusal(case, PROVIDER)
    if matched is None or case.logs is None or (case.attempt.kind == "answer" and not case.refused):
        return
    meaning = case.logs.meaning(matched)
    name = case.provider.name if case.provider else "the provider"
    made = finding(
        "provider-log-refused",
        in_words(case, f"By its log, {name} refused this attempt", matched),
        side=Side(meaning.side) if meaning and meaning.side else None,
        remedy=_to_act_on(case, matched, meaning),
        actual=matched.event.code,
        evidence=[at_event(matched)],
    )
    yield made._replace(stage=Stage(meaning.stage)) if meaning and meaning.stage else made


@check("account-not-found", requires=Need.LOGS)
def account(case: Case) -> Answer:
    """Does the application's log say that there is no such account, where no account list is at hand to tell?"""
    matched = refusal(case, APPLICATION)
    meaning = case.logs.meaning(matched) if case.logs and matched else None
    if matched is None or not says_no_account(meaning):
        return
    if case.app is None or case.app.settings.account.list_file is not None:
        return
    name = case.subject.value if case.subject else matched.event.user
    yield finding(
        "account-not-found",
        in_words(case, f"By its log, {case.app.name} has no account for {name or 'this person'}", matched),
        actual=name,
        evidence=[at_event(matched)],
    )


def _to_act_on(case: Case, matched: Matched, meaning: LogCode | None) -> str:
    """What to do about a refusal: by its code's meaning, else by the log's own reason, else by the code alone."""
    event = matched.event
    told = case.logs.sources.get(event.source) if case.logs else None
    if told is not None and told.tells_status_only and not meaning:
        return "Look up this moment in the system's own log: a web server's log tells the status only."
    if meaning:
        return say("Act on what the code {code} means: {means}.", code=event.code, means=meaning.means)
    if event.reason:
        return say('Act on the reason that the log gives: "{reason}".', reason=Quotation(event.reason))
    if event.code:
        return say(
            "Find out what the code {code} means, and put it on record under [codes] in logs/{source}.toml.",
            code=event.code,
            source=event.source,
        )
    return "Look up this moment in the log: its event gives neither a code nor a reason."


def says_no_account(meaning: LogCode | None) -> bool:
    """Whether the meaning of a code is that there is no such account."""
    return bool(meaning and meaning.stage in (None, "identified") and _NO_ACCOUNT.search(meaning.means))


@check("clock-offset", "not-yet-valid", "expired", requires=Need.LOGS)
def clocks(case: Case) -> Answer:
    """Do the clocks of both sides agree to half of the skew that is allowed, by their logs?"""
    if case.logs is None or (case.attempt.way and shown_by_dates(case)):
        return
    sides = {}
    for role in (APPLICATION, PROVIDER):
        clocks = [case.logs.clock_of(matched.event) for matched in case.logs.of(role)]
        known = [clock for clock in clocks if clock.low is not None and clock.high is not None]
        if known:
            best = max(known, key=lambda item: item.pairs)
            sides[role] = best.then(case.at.timestamp()) if case.at else best
    worst = max(sides, key=lambda role: abs(sides[role].offset), default=None)
    if worst is None:
        return
    clock = sides[worst]
    other = sides.get(PROVIDER if worst == APPLICATION else APPLICATION)
    apart = clock.offset - (other.offset if other else 0.0)
    doubt = sum(((own_clock.high or 0.0) - (own_clock.low or 0.0)) / 2 for own_clock in (clock, other) if own_clock)
    if abs(apart) - doubt <= case.skew.total_seconds() / 2:
        return
    length = show_duration(timedelta(seconds=round(abs(apart))))
    ahead = "ahead of" if apart > 0 else "behind"
    events = [matched for matched in case.logs.of(worst) if matched.event.source == clock.source]
    yield finding(
        "clock-offset",
        say(
            "The clock of the {worst} is {length} {ahead} {words}, by {pairs} of its log events "
            "(give or take {round} s).",
            worst=worst,
            length=length,
            ahead=ahead,
            words="the other side" if other else "the true time",
            pairs=clock.pairs,
            round=round(doubt),
        ),
        side=Side.APPLICATION if worst == APPLICATION else Side.PROVIDER,
        expected=f"at most {show_duration(case.skew / 2)} apart (half of clock_skew)",
        actual=f"{length} apart",
        evidence=[at_event(event, f"written by the {worst}") for event in events[:1]],
        compared=False,
    )
    if worst == APPLICATION:
        yield from _by_its_own_clock(case, length)


def _by_its_own_clock(case: Case, length: str) -> Answer:
    """Does the message hold by the clock of the application that refused it, where it does by the true one?"""
    matched = refusal(case, APPLICATION)
    if matched is None or case.at is None:
        return
    name = case.app.name if case.app else "the application"
    for window in windows_of(case):
        early = window.begins and matched.event.time < window.begins - case.skew <= case.at
        late = window.ends and matched.event.time >= window.ends + case.skew > case.at
        edge = window.begins if early else window.ends
        if edge is not None and (early or late):
            words = "becomes valid only" if early else "ended"
            apart = show_duration(abs(edge - matched.event.time))
            yield finding(
                "not-yet-valid" if early else "expired",
                say(
                    "By the clock of {name}, which is {length} off, the {what} {words} {apart} {words_2} it arrived.",
                    name=name,
                    length=length,
                    what=window.what,
                    words=words,
                    apart=apart,
                    words_2="after" if early else "before",
                ),
                side=Side.APPLICATION,
                expected=f"{'not before' if early else 'before'} {show_moment(edge)}",
                actual=show_moment(matched.event.time),
                remedy=say("Set the clock of {name} right; it is {length} off.", name=name, length=length),
                evidence=[at_event(matched)],
                compared=False,
            )
            return


def log_findings(case: Case, findings: list[Finding]) -> list[Finding]:
    """The findings, with what the logs say of the same thing put beside each.

    The provider's code stands beside the status of its answer. Where the list has no such account, the log that says so
    too is evidence; one that says that the user was let in makes the list doubtful, and the finding a risk.
    """
    if case.logs is None:
        return findings
    made = []
    no, yes = refusal(case, APPLICATION), let_in_by_log(case)
    theirs = refusal(case, PROVIDER)
    for raised in findings:
        if raised.code in ("provider-refused", "request-rejected") and theirs:
            name = case.provider.name if case.provider else "the provider"
            detail = in_words(case, f"{raised.detail} The log of {name} has it too", theirs)
            raised = raised._replace(detail=detail, evidence=(*raised.evidence, at_event(theirs)))
        meaning = case.logs.meaning(no) if no else None
        if raised.code == "account-not-found" and no and says_no_account(meaning):
            if all(item.source != no.event.file for item in raised.evidence):
                detail = in_words(case, f"{raised.detail} The application's log says the same", no)
                raised = raised._replace(detail=detail, evidence=(*raised.evidence, at_event(no)))
        elif raised.code == "account-not-found" and yes and yes.probability >= _SURE and raised.breaks:
            detail = f"{raised.detail} Yet its log says that the user was let in: the list seems to be older than that."
            raised = raised._replace(detail=detail, severity=Severity.RISK, evidence=(*raised.evidence, at_event(yes)))
        made.append(raised)
    return made


CHECKS = (
    application_log,
    provider_log,
    account,
    clocks,
)
