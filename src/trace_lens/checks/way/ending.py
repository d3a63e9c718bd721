"""Answered and admitted, as the way tells: did an answer come at all, and did the application let the user in?"""

from __future__ import annotations

import re
from datetime import timedelta
from typing import NamedTuple

from trace_lens.attempts.cookies import Cookie, CookieStore, Refused, is_cleared, kept_back, read_set_cookie
from trace_lens.attempts.journeys import CALLED, REDIRECT, Hop, Way
from trace_lens.checks.asking import WAY, Answer, asks
from trace_lens.checks.case import Case
from trace_lens.checks.way.parties import (
    APPLICATION,
    PROVIDER,
    REQUESTS,
    answer_found,
    at_hop,
    brings_answer,
    came_from,
    parties,
    return_hop,
)
from trace_lens.common import limits
from trace_lens.common.findings import Evidence, Severity, Side, Stage, Unchecked
from trace_lens.common.moments import show_duration
from trace_lens.intake.exchanges import Exchange, forms_of, origin_of, words_of

_FAILED = re.compile(
    r"\b(?:error|denied|forbidden|unauthori[sz]ed|not (?:allowed|authori[sz]ed|found|provisioned|permitted)|failed"
    r"|failure|could not|cannot|unable to|invalid|expired|no (?:account|access))\b", re.IGNORECASE
)  # fmt: skip


UNSEEN = (
    "a form was posted to the application, and the export leaves its body out; export it once more with the content of "
    "requests and responses"
)
NEVER = "the browser never came back to the application in this capture"

_BACK = re.compile(
    r"/(?:login|log-in|signin|sign-in|logon|error|denied|unauthori[sz]ed|failed)(?:[/.]|$)", re.IGNORECASE
)


def ending(case: Case) -> list[Hop]:
    """The hops from the return on; of a loop, from the first return on."""
    way: Way | None = case.attempt.way
    back = return_hop(case)
    if way is None or back is None:
        return []
    if way.rounds > 1:
        back = next((hop for hop in way.hops if brings_answer(hop)), back)
    return [back, *way.after(back)]


def landing(case: Case) -> Hop | None:
    """The page that the person saw in the end: the last hop that is no redirect and carries no request."""
    seen = [hop for hop in ending(case) if not 300 <= hop.exchange.status < 400 and hop.exchange.status]
    pages = [hop for hop in seen if hop.how != CALLED]
    return pages[-1] if pages else None


def told_otherwise(case: Case) -> bool:
    """Whether the page that followed shows that the person was not let in."""
    page = landing(case)
    if page is None:
        return False
    return page.exchange.status >= 400 or _asks(page) or bool(_FAILED.search(words_of(page.exchange).title))


def went_back(case: Case) -> Hop | None:
    """The hop by which the browser was sent to sign in again after the answer."""
    return next((hop for hop in ending(case)[1:] if set(hop.kinds) & set(REQUESTS)), None)


def shows_cookies(case: Case) -> bool:
    """Whether the capture shows which cookies the application set after the return."""
    way: Way | None = case.attempt.way
    return way is not None and way.capture.tells_cookies and bool(ending(case))


def admitted(case: Case) -> bool:
    """Whether the way shows that the application let the user in: a page of its own, without a word of failure."""
    return case.once("admitted by the way", lambda: _admitted(case))


def _admitted(case: Case) -> bool:
    page = landing(case)
    if page is None or went_back(case) or case.refused or not 200 <= page.exchange.status < 300:
        return False
    if any(hop.exchange.status >= 400 and hop.carries for hop in ending(case)):
        return False
    if parties(case).side_of(page.exchange) == PROVIDER:
        return False
    return not (_FAILED.search(words_of(page.exchange).title) or _BACK.search(page.exchange.parts.path) or _asks(page))


def _asks(page: Hop) -> bool:
    """Whether a page asks for a password."""
    return any(form.asks_password for form in forms_of(page.exchange))


@asks(Stage.ANSWERED, "no-answer", needs=WAY)
def answered(case: Case) -> Answer:
    """Did an answer come back through the browser?"""
    way: Way | None = case.attempt.way
    found = answer_found(case)
    if way is None or case.attempt.kind == "sign-out":
        return
    if found is not None and return_hop(case) is not None:
        return
    asked = [hop for hop in way.hops if set(hop.kinds) & set(REQUESTS)]
    at_provider = [hop for hop in way.hops if hop.how != CALLED and parties(case).side_of(hop.exchange) == PROVIDER]
    if not asked and not at_provider:
        return
    if found is None and case.attempt.kind == "answer":
        return
    if any(_handed_over_unseen(case, hop) for hop in way.hops):
        yield Unchecked("no-answer", UNSEEN)
        return
    last = (at_provider or asked)[-1].exchange
    posts = next((form for form in forms_of(last) if form.by_itself), None)
    said = "" if posts else str(words_of(last))
    cut = way.capture.cut
    if found is not None:
        detail = f"The provider made out an answer (in the page of {last.host}), but the browser never handed it over."
    else:
        status = f", with status {last.status}" if last.status >= 400 else ""
        detail = f"The way ends at {last.host}{status}: no answer ever came back to the application."
    detail += f" Its last page is to post a form to {origin_of(posts.action)} by itself." if posts else ""
    detail += f' The last page says: "{said}".' if said and found is None else ""
    detail += f" The capture is cut off there: {cut}." if cut else ""
    yield case.finding(
        "no-answer",
        Stage.ANSWERED,
        detail,
        side=Side.PROVIDER if last.status >= 400 or _FAILED.search(said) else Side.USER,
        evidence=[at_hop(case, "last hop at the provider", last.plain_url, last)],
    )


def _handed_over_unseen(case: Case, hop: Hop) -> bool:
    """Whether a form was posted to the application whose body the capture does not have."""
    one = hop.exchange
    return one.method == "POST" and one.body is None and parties(case).side_of(one) == APPLICATION


@asks(Stage.READABLE, "capture-truncated", needs=WAY)
def whole(case: Case) -> Answer:
    """Is the capture whole?"""
    way: Way | None = case.attempt.way
    if way is None or way.capture.cut is None:
        return
    yield case.finding(
        "capture-truncated",
        Stage.READABLE,
        f"The capture is not whole: {way.capture.cut}. What is there was used.",
        severity=Severity.RISK if admitted(case) or return_hop(case) else Severity.BREAK,
        side=Side.USER,
        remedy="Export it again, to the end of the sign-in.",
    )


@asks(Stage.ADMITTED, "session-not-started", needs=WAY)
def session(case: Case) -> Answer:
    """Did the application take the answer, set its session, and go on?"""
    way: Way | None = case.attempt.way
    back = return_hop(case)
    if way is None or back is None or case.refused:
        yield Unchecked("session-not-started", NEVER if back is None else "the provider sent an error")
        return
    again = went_back(case)
    page = landing(case)
    told = way.capture.tells_cookies
    made = [one for hop in ending(case) for one in _cookies_set(hop.exchange)]
    if again:
        why = _why_again(case, way, back, again, told)
    elif told and page and not made and not _keeps_session(case, back, page) and not admitted(case):
        why = _Why("the application took the answer and set no cookie")
    elif page and page is not back and 200 <= page.exchange.status < 300 and _asks(page):
        why = _Why(f"{page.exchange.host} shows its own sign-in page ({page.exchange.parts.path or '/'})")
    elif page and 200 <= page.exchange.status < 300 and _FAILED.search(words_of(page.exchange).title):
        why = _Why(f'the application took the answer and shows: "{words_of(page.exchange)}"')
    elif page and page.exchange.status >= 400:
        status = page.exchange.status
        yield Unchecked("session-not-started", f"{page.exchange.host} answered {status}: its page does not tell")
        return
    else:
        return
    if page and page.exchange.status >= 400 and not again:
        why = _Why(f"{page.exchange.host} answered {page.exchange.status}")
    here = (again or page or back).exchange
    start = ending(case)[0].exchange
    yield case.finding(
        "session-not-started",
        Stage.ADMITTED,
        f"The answer came to {start.host}, but no session followed: {why.words}.",
        value_to_set=why.set_to,
        remedy=f"Set the session cookie with {why.set_to}, so that browsers send it." if why.set_to else None,
        evidence=[at_hop(case, "return", start.plain_url, start), *cookie_shown(case, why.cookie),
                  at_hop(case, "next", here.plain_url, here)],
    )  # fmt: skip


class _Why(NamedTuple):
    """Why no session followed, what to set, and the cookie that it is about."""

    words: str
    set_to: str | None = None
    cookie: Cookie | Refused | None = None


def _why_again(case: Case, way: Way, back: Hop, again: Hop, told: bool) -> _Why:
    """Why the browser was sent to sign in again after the answer, as far as the cookies tell."""
    plainly = "the browser was sent to sign in again"
    if not told:
        return _Why(plainly)
    store = CookieStore()
    after = [hop for hop in ending(case) if hop.exchange.number < again.exchange.number]
    numbers = {hop.exchange.number for hop in after}
    for one in way.capture.exchanges:
        store.receive(one)
        if one is (after[-1] if after else back).exchange:
            break
    for refused in store.refused:
        if refused.set_by.number in numbers:
            words = f"{plainly}; browsers do not take the cookie {refused.name}: {refused.reason}"
            return _Why(words, refused.set_to, refused)
    following = [hop for hop in after if hop is not back and parties(case).side_of(hop.exchange) == APPLICATION]
    for cookie in store:
        if cookie.set_by.number not in numbers:
            continue
        for hop in following:
            if hop.exchange.number > cookie.set_by.number and cookie.name not in hop.exchange.cookies:
                kept = kept_back(cookie, hop.exchange, came_from(case, hop), redirected=hop.how == REDIRECT)
                reason = kept.reason if kept else "the browser did not send it back"
                words = f"{plainly}; its cookie {cookie.name} never sticks: {reason}"
                return _Why(words, kept.set_to if kept else None, cookie)
    if not any(_cookies_set(hop.exchange) for hop in after):
        return _Why("the application set no cookie, and the browser was sent to sign in again")
    return _Why(f"{plainly}, though its cookies came back: it does not accept the answer, or looks at an older session")


def cookie_shown(case: Case, cookie: Cookie | Refused | None) -> list[Evidence]:
    """The Set-Cookie field of a cookie as evidence, without the value."""
    if cookie is None:
        return []
    _, *attributes = cookie.line.split(";")
    line = "; ".join([cookie.name, *(one.strip() for one in attributes)])
    return [at_hop(case, "Set-Cookie", line, cookie.set_by, "response header Set-Cookie")]


def _cookies_set(one: Exchange) -> list[str]:
    made = [read_set_cookie(line, one) for line in one.set_cookies]
    return [cookie.name for cookie in made if not isinstance(cookie, Refused) and not is_cleared(cookie)]


def _keeps_session(case: Case, back: Hop, page: Hop) -> bool:
    """Whether a session that was there before is gone on with."""
    return bool(page.exchange.cookies) and page is not back


@asks(Stage.ADMITTED, "session-ends-early", needs=WAY)
def cookie_age(case: Case) -> Answer:
    """Does the session cookie live as long as people expect?"""
    if not admitted(case):
        yield Unchecked("session-ends-early", "the capture does not show that the application let the user in")
        return
    for hop in ending(case):
        if parties(case).side_of(hop.exchange) != APPLICATION:
            continue
        for line in hop.exchange.set_cookies:
            cookie = read_set_cookie(line, hop.exchange)
            if isinstance(cookie, Refused) or cookie.lasts is None or not cookie.http_only:
                continue
            if timedelta(0) < cookie.lasts < timedelta(seconds=limits.SHORT_SESSION_SECONDS):
                yield case.finding(
                    "session-ends-early",
                    Stage.ADMITTED,
                    f"The application's cookie {cookie.name} ends {show_duration(cookie.lasts)} after it was set.",
                    side=Side.APPLICATION,
                    actual=show_duration(cookie.lasts),
                    evidence=[at_hop(case, "Set-Cookie", cookie.name, hop.exchange, "response header Set-Cookie")],
                )
                return
