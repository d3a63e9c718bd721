"""Answered and admitted, as the way tells: did an answer come at all, and did the application let the user in?"""

from __future__ import annotations

from datetime import timedelta

from trace_lens.attempts.cookies import Cookie, CookieStore, Refused, is_cleared, kept_back, read_set_cookie
from trace_lens.attempts.journeys import CALLED, REDIRECT, Hop, Way
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.failure_words import says_failure, says_only_failure
from trace_lens.checks.way.page_signs import REFUSED, STATUS, Sign
from trace_lens.checks.way.parties import (
    APPLICATION,
    PROVIDER,
    REQUESTS,
    answer_found,
    at_hop,
    came_from,
    parties,
    return_hop,
)
from trace_lens.checks.way.signs import (
    Outcome,
    after_return,
    landing,
    outcome_of,
    shown_in,
    shown_signs,
)
from trace_lens.common import limits
from trace_lens.common.addresses import origin_of
from trace_lens.common.findings import INFERRED, PROVEN, Allows, Evidence, Severity, Side, Unchecked, lack
from trace_lens.common.kinds import quoted_at_end
from trace_lens.common.moments import show_duration
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import PAGE, Exchange, forms_of, words_of
from trace_lens.intake.pages import page_of

UNSEEN = (
    "a form was posted to the application, and the export leaves its body out; export it once more with the content of "
    "requests and responses"
)
NEVER = lack("the browser never came back to the application in this capture", Allows.RECORDING)
CUT_SHORT = lack(
    "the capture ends while the browser was still being sent on; record it once more, to the last page",
    Allows.RECORDING,
)
FRAGMENT_LEFT_OUT = (
    "the redirect URI was reached, but exports leave out what comes after # in an address; the page's own calls, or "
    "the address as the browser shows it, would tell"
)


@check("no-answer", requires=Need.WAY)
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
    if not asked and not (at_provider and _under_way(case, way)):
        return
    if found is None and case.attempt.kind == "answer":
        return
    unseen = _came_unseen(case, way)
    if unseen:
        yield Unchecked("no-answer", unseen)
        return
    last = _last_page(case, way)
    if last is None:
        yield Unchecked("no-answer", CUT_SHORT)
        return
    posts = next((form for form in forms_of(last) if form.by_itself), None)
    said = "" if posts else str(words_of(last))
    if found is not None:
        detail = say(
            "The provider made out an answer (in the page of {host}), but the browser never handed it over.",
            host=last.host,
        )
    else:
        status = say(", with status {status}", status=last.status) if last.status >= 400 else ""
        detail = say(
            "The way ends at a page of {host}{status}: no answer came back to the application.",
            host=last.host,
            status=status,
        )
    detail += (
        say(" Its last page is to post a form to {action} by itself.", action=origin_of(posts.action)) if posts else ""
    )
    detail += (
        say(" The last page says: {quoted_at_end}", quoted_at_end=quoted_at_end(said)) if said and found is None else ""
    )
    made = finding(
        "no-answer",
        detail,
        side=Side.PROVIDER if last.status >= 400 or _says_no(last) else Side.USER,
        evidence=[at_hop(case, "last page at the provider", last.plain_url, last)],
    )
    yield made._replace(certainty=INFERRED)


def _says_no(page: Exchange) -> bool:
    """Whether a page says of itself that it failed; beside a form for another try only in what it says loudly."""
    shown = page_of(page)
    if says_failure(shown):
        return True
    return not any(form.asks_password for form in forms_of(page)) and bool(says_only_failure(shown, named=False))


def _under_way(case: Case, way: Way) -> bool:
    """Whether, where no request is seen, anything shows a sign-in at all: the application's page, a form posted, or one
    that posts itself.

    Providers have consoles and portals of their own, which answer nobody.
    """
    sides = parties(case)
    return any(
        sides.side_of(hop.exchange) == APPLICATION
        or (hop.exchange.method == "POST" and hop.how != CALLED)
        or any(form.by_itself for form in forms_of(hop.exchange))
        for hop in way.hops
    )


def _last_page(case: Case, way: Way) -> Exchange | None:
    """The whole page of the provider at which the way ends; None where it ends in the middle, or elsewhere."""
    shown = [
        hop.exchange for hop in way.hops if hop.how != CALLED and hop.exchange.kind == PAGE and not hop.exchange.frame
    ]
    if not shown or not way.capture.is_whole:
        return None
    last = shown[-1]
    if parties(case).side_of(last) != PROVIDER or last.redirects_to or last.status <= 0 or last.leads_on:
        return None
    return last


def _came_unseen(case: Case, way: Way) -> str | None:
    """Why an answer may have come that the capture does not show."""
    registered = _redirect_addresses(case)
    first = way.hops[0].exchange.number
    for exchange in way.telling:
        posted = exchange.method == "POST" and exchange.body_left_out and exchange.kind == PAGE
        if exchange.number > first and posted and parties(case).side_of(exchange) == APPLICATION:
            return UNSEEN
    for hop in way.hops:
        exchange = hop.exchange
        if parties(case).side_of(exchange) != APPLICATION:
            continue
        if exchange.method == "POST" and exchange.body is None:
            return UNSEEN
        if exchange.plain_url in registered and exchange.status > 0 and not exchange.parts.query:
            return FRAGMENT_LEFT_OUT
    return None


def _redirect_addresses(case: Case) -> set[str]:
    """The addresses at which a client takes its answers."""
    if case.protocol != "oidc":
        return set()
    asked = case.asked("redirect_uri")  # type: ignore[attr-defined]
    told = case.app.settings.application.oidc.redirect_uris if case.app else ()
    return {item.partition("?")[0] for item in (*told, asked or "") if item}


@check("earlier-try-abandoned", requires=Need.WAY)
def given_up(case: Case) -> Answer:
    """Was a try given up before this one?"""
    for way in case.attempt.given_up:
        first, last = way.hops[0].exchange, way.hops[-1].exchange
        yield finding(
            "earlier-try-abandoned",
            say("Before this sign-in another one to the same application was given up, at {host}.", host=last.host),
            evidence=[at_hop(case, "begun", first.plain_url, first), at_hop(case, "left at", last.plain_url, last)],
        )


@check("capture-truncated", requires=Need.WAY)
def whole(case: Case) -> Answer:
    """Is the capture whole?"""
    way: Way | None = case.attempt.way
    if way is None or way.capture.cut is None:
        return
    yield finding(
        "capture-truncated",
        say("The capture is not whole: {cut}. What is there was used.", cut=way.capture.cut),
        severity=Severity.RISK if shown_in(case) or return_hop(case) else Severity.BREAK,
        side=Side.USER,
        remedy="Export it again, to the end of the sign-in.",
    )


@check("session-not-started", requires=Need.WAY)
def session(case: Case) -> Answer:
    """Did the application take the answer, start a session, and go on?"""
    way: Way | None = case.attempt.way
    back = return_hop(case)
    if way is None or back is None or case.refused:
        yield Unchecked("session-not-started", NEVER if back is None else "the provider sent an error")
        return
    end = outcome_of(case)
    if end.let_in is True:
        return
    if end.let_in is None:
        yield Unchecked("session-not-started", _not_told(case, end))
        return
    again = end.back
    page = landing(case)
    late = page is not back and any(_cookies_set(hop.exchange) for hop in after_return(case)[:-1])
    if late and all(sign.name == STATUS for sign in end.against):
        yield Unchecked(
            "session-not-started", f"{end.against[0].says} after the session had begun: its page does not tell"
        )
        return
    if again and any(sign.exchange is again.exchange for sign in end.against):
        why = _why_again(case, way, back, again, way.capture.tells_cookies)
    elif end.against[0].name == REFUSED:
        why = _why_refused(way, end.against[0])
    else:
        why = _Why(end.against[0].says)
    here = (again or page or back).exchange
    start = after_return(case)[0].exchange
    made = finding(
        "session-not-started",
        say("The answer came to {host}, but no session followed: {why_words}.", host=start.host, why_words=why.words),
        value_to_set=why.set_to,
        remedy=why.remedy
        or (
            say("Set the session cookie with {set_to}, so that browsers send it.", set_to=why.set_to)
            if why.set_to
            else None
        ),
        evidence=[
            at_hop(case, "return", start.plain_url, start),
            *cookie_shown(case, why.cookie),
            at_hop(case, "next", here.plain_url, here),
            *shown_signs(case, end.against),
        ],
    )
    yield made._replace(certainty=INFERRED if end.by_words else PROVEN)


def _not_told(case: Case, end: Outcome) -> str:
    if end.page is None:
        return "the capture ends before the application showed a page"
    return say(
        "the page of {host} does not tell whether the user was let in: no new cookie that "
        "served, no call for a session, no name, no way to sign out; [application.pages] can "
        "name its words",
        host=end.page.exchange.host,
    )


class _Why(NamedTuple):
    """Why no session followed, what to set, and the cookie that it is about."""

    words: str
    set_to: str | None = None
    cookie: Cookie | Refused | None = None
    remedy: str | None = None


def _hidden_by_old(case: Case, cookie: Cookie, hop: Hop, plainly: str) -> _Why | None:
    """The new cookie's place was taken by an older one of the same name, which the application goes by."""
    sent = hop.exchange.cookies.get(cookie.name)
    if sent is None or sent == cookie.value or cookie.value in (hop.exchange.request("cookie") or ""):
        return None
    kept = kept_back(cookie, hop.exchange, came_from(case, hop), redirected=hop.how == REDIRECT)
    reason = f" ({kept.reason})" if kept else ""
    set_to = kept.set_to if kept else None
    words = (
        f"{plainly}; it sent an older cookie of the name {cookie.name}, while the new one, set on return, was not sent"
        f"{reason}"
    )
    remedy = f"Delete the cookies of {hop.exchange.host} in this browser to get in at once"
    if set_to:
        remedy = f"Set the session cookie with {set_to}, so that it takes the place of the old one. {remedy}"
    return _Why(words, set_to, cookie, f"{remedy}.")


def _why_again(case: Case, way: Way, back: Hop, again: Hop, told: bool) -> _Why:
    """Why the browser was sent to sign in again after the answer, as far as the cookies tell."""
    plainly = "the browser was sent to sign in again"
    if not told:
        return _Why(plainly)
    store = CookieStore()
    after = [hop for hop in after_return(case) if hop.exchange.number < again.exchange.number]
    numbers = {hop.exchange.number for hop in after}
    last = (after[-1] if after else back).exchange
    for exchange in way.setting_cookies:
        if exchange.number > last.number:
            break
        store.receive(exchange)
    for refused in store.refused:
        if refused.set_by.number in numbers:
            words = f"{plainly}; browsers do not take the cookie {refused.name}: {refused.reason}"
            return _Why(words, refused.set_to, refused)
    following = [hop for hop in after if hop is not back and parties(case).side_of(hop.exchange) == APPLICATION]
    for cookie in store:
        if cookie.set_by.number not in numbers:
            continue
        for hop in following:
            if hop.exchange.number <= cookie.set_by.number:
                continue
            hidden = _hidden_by_old(case, cookie, hop, plainly)
            if hidden:
                return hidden
            if cookie.name not in hop.exchange.cookies:
                kept = kept_back(cookie, hop.exchange, came_from(case, hop), redirected=hop.how == REDIRECT)
                reason = kept.reason if kept else "the browser did not send it back"
                words = f"{plainly}; its cookie {cookie.name} never sticks: {reason}"
                return _Why(words, kept.set_to if kept else None, cookie)
    if not any(_cookies_set(hop.exchange) for hop in after):
        return _Why("the application set no cookie, and the browser was sent to sign in again")
    return _Why(f"{plainly}, though its cookies came back: it does not accept the answer, or looks at an older session")


def _why_refused(way: Way, sign: Sign) -> _Why:
    """Why a session that had just been given was refused to a call, as far as the cookies tell."""
    call = sign.exchange
    store = CookieStore()
    for exchange in way.setting_cookies:
        if exchange.number >= call.number:
            break
        store.receive(exchange)
    cookie = next((one for one in store if one.name == sign.cookie and one.name not in call.cookies), None)
    kept = kept_back(cookie, call, call.request("referer")) if cookie else None
    if kept is None:
        return _Why(sign.says)
    return _Why(f"{sign.says}: {kept.reason.replace('the return', 'the call')}", kept.set_to, cookie)


def cookie_shown(case: Case, cookie: Cookie | Refused | None) -> list[Evidence]:
    """The Set-Cookie field of a cookie as evidence, without the value."""
    if cookie is None:
        return []
    _, *attributes = cookie.line.split(";")
    line = "; ".join([cookie.name, *(attribute.strip() for attribute in attributes)])
    return [at_hop(case, "Set-Cookie", line, cookie.set_by, "response header Set-Cookie")]


def _cookies_set(exchange: Exchange) -> list[str]:
    made = [read_set_cookie(line, exchange) for line in exchange.set_cookies]
    return [cookie.name for cookie in made if not isinstance(cookie, Refused) and not is_cleared(cookie)]


@check("session-ends-early", requires=Need.WAY)
def cookie_age(case: Case) -> Answer:
    """Does the session cookie live as long as people expect?"""
    if not shown_in(case):
        yield Unchecked(
            "session-ends-early",
            lack("the capture does not show that the application let the user in", Allows.RECORDING),
        )
        return
    for hop in after_return(case):
        if parties(case).side_of(hop.exchange) != APPLICATION:
            continue
        for line in hop.exchange.set_cookies:
            cookie = read_set_cookie(line, hop.exchange)
            if isinstance(cookie, Refused) or cookie.lasts is None or not cookie.http_only:
                continue
            if timedelta(0) < cookie.lasts < timedelta(seconds=limits.SHORT_SESSION_SECONDS):
                yield finding(
                    "session-ends-early",
                    say(
                        "The application's cookie {cookie_name} ends {lasts} after it was set.",
                        cookie_name=cookie.name,
                        lasts=show_duration(cookie.lasts),
                    ),
                    side=Side.APPLICATION,
                    actual=show_duration(cookie.lasts),
                    evidence=[at_hop(case, "Set-Cookie", cookie.name, hop.exchange, "response header Set-Cookie")],
                )
                return


CHECKS = (
    answered,
    given_up,
    whole,
    session,
    cookie_age,
)
