"""The letter that asks: what to record and send so that the questions that are still open can be answered.

What is lacking is told by the diagnosis; here it becomes requests, each to those who can fulfil it: the user whose
browser it is, or the administrator of a side.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime, timedelta

from trace_lens.common.findings import Allows, Unchecked
from trace_lens.common.moments import show_moment
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import Diagnosis

USER, APPLICATION, PROVIDER, HOUSE = "user", "application", "provider", "house"
_AROUND = timedelta(minutes=5)


class Request(NamedTuple):
    """What somebody is asked for: who, what, how in steps, and how many open questions it answers."""

    of: str
    what: str
    steps: tuple[str, ...]
    answers: int


def requests_of(diagnosis: Diagnosis, *, named: bool = False) -> list[Request]:
    """What to ask for, what answers most first; empty where nothing is open that somebody could send.

    `named` says that the diagnosis has the person's name, not a stand-in.
    """
    found = [
        *_recording(diagnosis),
        *_from_server(diagnosis),
        *_log_lines(diagnosis, named=named),
        *_on_record(diagnosis),
    ]
    return sorted(found, key=lambda request: -request.answers)


def _lacking(diagnosis: Diagnosis, allows: Allows) -> list[Unchecked]:
    """The open questions that one thing would allow."""
    return [question for question in diagnosis.unchecked if (by := question.allowed_by) and by.allows is allows]


def _recording(diagnosis: Diagnosis) -> Iterator[Request]:
    """A recording of the browser, where hops, cookies or messages of the way are lacking."""
    lacking = _lacking(diagnosis, Allows.RECORDING)
    if not lacking:
        return
    name = diagnosis.parties.app_name or "the application"
    yield Request(
        USER,
        "A recording of the whole sign-in from the browser (a HAR file).",
        (
            "Open a new private window, so that nothing of an earlier sign-in is left.",
            "Open the developer tools (F12, or Ctrl+Shift+I; on a Mac Cmd+Option+I) and choose the network panel.",
            'Switch on "preserve log" (also called "persist logs"), so that redirects are kept.',
            f"Open the address of {name} as you always do, and sign in until the error shows.",
            "Right-click into the list of requests and choose to save all of it as HAR, with content; where the "
            "browser asks, choose the export with sensitive data, since cookies would be missing otherwise.",
            "Write down the time to the minute, and what the page says at the end.",
            "Leave out: do not send your password in words. The file holds what you typed and a session that is open: "
            "sign out everywhere afterwards, send it only the way that your support desk names, never by open e-mail.",
        ),
        len(lacking),
    )


def _from_server(diagnosis: Diagnosis) -> Iterator[Request]:
    """What went from server to server, which no browser sees."""
    lacking = _lacking(diagnosis, Allows.SERVER_MESSAGE)
    if lacking:
        yield Request(
            APPLICATION,
            "The token response or the message that the application's server fetched by itself.",
            (
                "Switch on the sign-in library's debug log for one sign-in, and switch it off again afterwards.",
                "Send the ID token, or the header and payload of it (its first two parts between the dots); the "
                "signature may be left out, but then it cannot be checked.",
                "Leave out: access token, refresh token, client secret, authorization code.",
            ),
            len(lacking),
        )


def _log_lines(diagnosis: Diagnosis, *, named: bool) -> Iterator[Request]:
    """Lines of logs around the moment, by the ids of the messages."""
    if diagnosis.at is None:
        return
    logs = diagnosis.details.logs
    for side, allows in ((APPLICATION, Allows.APPLICATION_LOG), (PROVIDER, Allows.PROVIDER_LOG)):
        lacking = _lacking(diagnosis, allows)
        if not lacking:
            continue
        when = diagnosis.at
        clock = (
            next((clock for clock in logs.clocks.values() if _role(diagnosis, clock.source) == side), None)
            if logs
            else None
        )
        offset = timedelta(seconds=clock.of(when.timestamp())) if clock and clock.low is not None else None
        yield Request(
            side,
            f"The lines of the {side}'s sign-in log of this attempt.",
            tuple(_steps(diagnosis, when, offset, named=named)),
            len(lacking),
        )


def _role(diagnosis: Diagnosis, source: str) -> str | None:
    logs = diagnosis.details.logs
    told = logs.sources.get(source) if logs else None
    return told.settings.role if told else None


def _steps(diagnosis: Diagnosis, when: datetime, offset: timedelta | None, *, named: bool) -> Iterator[str]:
    yield f"All lines from {show_moment(when - _AROUND)} to {show_moment(when + _AROUND)} (true time, UTC)."
    if offset is not None:
        begin, end = when - _AROUND + offset, when + _AROUND + offset
        off = f"{offset.total_seconds():+.0f} s off"
        yield f"By the clock of that log, which is {off}: {show_moment(begin)} to {show_moment(end)}."
    if diagnosis.details.ids:
        yield f"Lines with one of these ids are the right ones: {', '.join(diagnosis.details.ids[:6])}."
    if diagnosis.subject and named:
        yield f"The person is {diagnosis.subject}."
    elif diagnosis.subject:
        yield f"Whose sign-in it is ({diagnosis.subject} here) you are told apart from this letter, should you need it."
    yield "Send them as they are, with their times and ids; leave out tokens, cookies and other people's lines."


def _on_record(diagnosis: Diagnosis) -> Iterator[Request]:
    """What the support desk itself lacks in the workspace."""
    lists = _lacking(diagnosis, Allows.RECORD)
    if lists:
        places = dict.fromkeys(f"{by.file}, {by.key}" for question in lists if (by := question.allowed_by))
        steps = tuple(f"To be put on record: {place}." for place in places)
        yield Request(HOUSE, "Lists and settings that are not on record yet.", steps, len(lists))
