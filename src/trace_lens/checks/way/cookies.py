"""Delivered, as far as cookies are asked about: did the browser still know about the sign-in when it came back?

Sources: RFC 6265 §5; rfc6265bis §5.6 to §5.8; "which cookies": those set on leaving, not cleared since.
"""

from __future__ import annotations

import re
from collections.abc import Iterable

from trace_lens.attempts.cookies import (
    Cookie,
    CookieStore,
    Kept,
    Refused,
    domain_matches,
    is_cleared,
    kept_back,
    path_matches,
    read_set_cookie,
)
from trace_lens.attempts.journeys import REDIRECT, Hop, Way
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.ending import NEVER, cookie_shown
from trace_lens.checks.way.parties import REQUESTS, at_hop, came_from, leaving, return_hop
from trace_lens.checks.way.signs import outcome_of, shown_in
from trace_lens.common.expressions import expression
from trace_lens.common.findings import INFERRED, Allows, Evidence, Finding, Severity, Side, Unchecked, lack
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import PAGE, Exchange

_SESSION_NAME = expression(r"sess|sid$|^sid|state|auth|saml|oidc|nonce|relay|login", re.IGNORECASE)


class Lost(NamedTuple):
    """A cookie that did not come back: what it was and what kept it back (None: nothing in its attributes)."""

    cookie: Cookie | Refused
    kept: Kept | None
    other_value: bool = False


def store_until(way: Way, until: Exchange) -> CookieStore:
    """The browser's cookies at the moment before an exchange."""
    store = CookieStore()
    for exchange in way.setting_cookies:
        if exchange.number >= until.number:
            break
        store.receive(exchange)
    return store


@check("state-mismatch", "response-to-unknown-request", requires=Need.WAY)
def one_tab(case: Case) -> Answer:
    """Did another sign-in, in another tab, put its own cookie in the place of this one's before it came back?"""
    way: Way | None = case.attempt.way
    back = return_hop(case)
    if way is None or back is None or not way.capture.tells_cookies or outcome_of(case).let_in is not False:
        return
    mine = {
        (cookie.name, cookie.domain, cookie.path): cookie
        for hop in leaving(case, back)
        for cookie in _set_by(hop.exchange)
    }
    numbers = {hop.exchange.number for hop in way.hops}
    for cookie in store_until(way, back.exchange):
        own = mine.get((cookie.name, cookie.domain, cookie.path))
        other = cookie.set_by
        if own is None or own.value == cookie.value or other.number in numbers or other.number < own.set_by.number:
            continue
        if back.exchange.cookies.get(cookie.name) != cookie.value:
            continue
        code = "state-mismatch" if case.protocol == "oidc" else "response-to-unknown-request"
        yield finding(
            code,
            say(
                "Two sign-ins ran in one browser at the same time. The other one replaced the cookie "
                "{cookie_name} before this one came back, so the application found another state than "
                "the one that it had sent.",
                cookie_name=cookie.name,
            ),
            side=Side.USER,
            remedy="Close the other tabs of this application and sign in once.",
            evidence=[
                at_hop(case, "other sign-in", other.plain_url, other, "response header Set-Cookie"),
                *cookie_shown(case, own),
                _sent(case, back),
            ],
        )
        return


def _set_by(exchange: Exchange) -> list[Cookie]:
    made = [read_set_cookie(line, exchange) for line in exchange.set_cookies]
    return [cookie for cookie in made if isinstance(cookie, Cookie) and not is_cleared(cookie)]


def kept_from_frame(case: Case) -> tuple[Cookie, Kept | None, Exchange] | None:
    """The provider's own cookie that did not go with a request in a frame, with what kept it back (None: nothing in its
    attributes, so the browser sends none to a third party); None where this is not so.
    """
    way: Way | None = case.attempt.way
    asked = (
        next((hop for hop in way.hops if set(hop.kinds) & set(REQUESTS) and hop.exchange.frame), None) if way else None
    )
    if way is None or asked is None or not way.capture.tells_cookies:
        return None
    exchange = asked.exchange
    for cookie in store_until(way, exchange):
        if (
            cookie.set_by.host != exchange.host
            or not _covers(cookie, exchange)
            or cookie.name in exchange.cookies
            or not cookie.http_only
        ):
            continue
        return cookie, kept_back(cookie, exchange, came_from(case, asked)), exchange
    return None


@check("session-cookie-lost", requires=Need.NOTHING)
def cookies(case: Case) -> Answer:
    """Were the cookies sent on return that the application set on leaving?"""
    way: Way | None = case.attempt.way
    back = return_hop(case)
    if case.attempt.kind == "sign-out":
        return
    if way is None:
        yield Unchecked(
            "session-cookie-lost",
            lack("the capture holds the message, not the hops and cookies around it", Allows.RECORDING),
        )
        return
    if back is None:
        yield Unchecked("session-cookie-lost", NEVER)
        return
    if not way.capture.tells_cookies:
        yield Unchecked(
            "session-cookie-lost",
            lack(
                "the export leaves the cookies out; export it once more with sensitive data, in the panel's own words",
                Allows.RECORDING,
            ),
        )
        return
    if shown_in(case):
        return
    left = leaving(case, back)
    if not left:
        yield Unchecked(
            "session-cookie-lost",
            lack("the capture begins after the browser had left the application", Allows.RECORDING),
        )
        return
    lost, sent = _compare(case, way, back, left)
    covering = [
        lost_cookie
        for lost_cookie in lost
        if isinstance(lost_cookie.cookie, Cookie) and _covers(lost_cookie.cookie, back.exchange)
    ]
    chosen = covering or (lost if not sent else [])
    if chosen:
        yield _finding(case, back, left, chosen, decisive=_keep_session(chosen) or not _hold_session(sent))


def _compare(case: Case, way: Way, back: Hop, left: list[Hop]) -> tuple[list[Lost], list[Cookie]]:
    """The cookies set on leaving: those that did not come back, with the reason, and those that did."""
    store = store_until(way, back.exchange)
    numbers = _setting(way, back, left)
    carried = back.exchange.cookies
    lost: list[Lost] = []
    sent: list[Cookie] = []
    for cookie in store:
        if cookie.set_by.number not in numbers:
            continue
        if carried.get(cookie.name) == cookie.value:
            sent.append(cookie)
        else:
            reason = _kept_back(case, cookie, back)
            lost.append(Lost(cookie, reason, cookie.name in carried and reason is None))
    known = {*carried, *(cookie.name for cookie in store)}
    lost += [
        Lost(refused, Kept("Set-Cookie", f"browsers do not take it: {refused.reason}", refused.set_to))
        for refused in store.refused
        if refused.set_by.number in numbers and refused.name not in known
    ]
    return lost, sent


def _setting(way: Way, back: Hop, left: list[Hop]) -> set[int]:
    """The exchanges whose cookies are asked about: the hops before leaving, and what their pages called meanwhile."""
    numbers = {hop.exchange.number for hop in left}
    hosts = {hop.exchange.host for hop in left}
    inside = False
    for exchange in way.exchanges:
        inside = inside or exchange is left[0].exchange
        if exchange is back.exchange or (inside and exchange.number not in numbers and exchange.kind == PAGE):
            break
        if inside and exchange.host in hosts:
            numbers.add(exchange.number)
    return numbers


def _kept_back(case: Case, cookie: Cookie, back: Hop) -> Kept | None:
    return kept_back(cookie, back.exchange, came_from(case, back), redirected=back.how == REDIRECT)


def _covers(cookie: Cookie, request: Exchange) -> bool:
    host = request.host
    by_domain = host == cookie.domain if cookie.host_only else domain_matches(host, cookie.domain)
    return by_domain and path_matches(request.parts.path or "/", cookie.path)


def _hold_session(cookies: Iterable[Cookie | Refused]) -> bool:
    """Whether one of some cookies looks like what an application knows a returning browser by."""
    return any(
        isinstance(cookie, Cookie) and (cookie.http_only or _SESSION_NAME.search(cookie.name)) for cookie in cookies
    )


def _keep_session(lost: list[Lost]) -> bool:
    """Whether one of those lost is named like a session."""
    return any(_SESSION_NAME.search(lost_cookie.cookie.name) for lost_cookie in lost)


def _finding(case: Case, back: Hop, left: list[Hop], lost: list[Lost], *, decisive: bool) -> Finding:
    """A break, by inference, where the capture also shows that the user was not let in, and nothing that looks like the
    session came back; a risk where nothing tells how it ended.
    """
    first = min(lost, key=lambda member: member.kept is None)
    names = " and ".join(dict.fromkeys(lost_cookie.cookie.name for lost_cookie in lost))
    several = len({lost_cookie.cookie.name for lost_cookie in lost}) > 1
    what = say(
        "The cookie{words} {names}, set before the browser left {where},",
        words="s" if several else "",
        names=names,
        where=_where(left),
    )
    if first.other_value:
        why = "came back with another value: an older cookie of the same name, of another session, hides the new one"
        set_to = None
    elif first.kept is None:
        why = (
            "did not come back, though nothing in the Set-Cookie keeps it back: the browser blocks it, or another "
            "window or profile came back"
        )
        set_to = None
    else:
        why = say("did not come back: {reason}", reason=first.kept.reason)
        set_to = first.kept.set_to
    breaks = decisive and outcome_of(case).let_in is False
    made = finding(
        "session-cookie-lost",
        say("{what} {why}.", what=what, why=why),
        severity=Severity.BREAK if breaks else Severity.RISK,
        side=Side.USER if first.kept is None and not first.other_value else Side.APPLICATION,
        remedy=_remedy(first),
        expected=f"{first.cookie.name} sent with {back.exchange.method} {back.exchange.plain_url}",
        actual="another value sent" if first.other_value else "not sent",
        value_to_set=set_to,
        evidence=[
            *(item for lost_cookie in lost[:3] for item in cookie_shown(case, lost_cookie.cookie)),
            _sent(case, back),
        ],
        compared=False,
    )
    return made._replace(certainty=INFERRED) if breaks else made


def _remedy(lost: Lost) -> str:
    if lost.other_value:
        return (
            "Set the cookie always for the same domain and path, or give it a new name; let the user clear old cookies "
            "once."
        )
    if lost.kept:
        told = say("set the cookie with {set_to}", set_to=lost.kept.set_to) if lost.kept.set_to else ""
        if lost.kept.advice:
            return say("{advice}{value}.", advice=lost.kept.advice, value="; or " + told if told else "")
        return (
            say("{upper}{told}.", upper=told[:1].upper(), told=told[1:]) if told else "Set a cookie that browsers take."
        )
    return "Try again in a private window without extensions, and allow cookies for both sides."


def _where(left: list[Hop]) -> str:
    return left[-1].exchange.host or "the application"


def _sent(case: Case, back: Hop) -> Evidence:
    names = ", ".join(back.exchange.cookies) or "none"
    return at_hop(case, "cookies sent on return", names, back.exchange, "request header Cookie")


@check("host-changed", requires=Need.WAY)
def one_host(case: Case) -> Answer:
    """Did it come back at the host where it started?"""
    back = return_hop(case)
    left = leaving(case, back)
    if back is None or not left:
        return
    start = left[0].exchange
    came = back.exchange
    if start.origin == came.origin or start.host == came.host:
        return
    last = left[-1].exchange
    if last.host == came.host:
        return
    yield finding(
        "host-changed",
        say(
            "The sign-in left the application at {host} and came back at {host_2}: to the browser "
            "these are two places, and what the first one set the second does not see.",
            host=last.host,
            host_2=came.host,
        ),
        expected=last.host,
        actual=came.host,
        value_to_set=came.host,
        remedy=say(
            "Lead every visitor to {host} before the sign-in starts, or register the address of return under {host_2}.",
            host=came.host,
            host_2=last.host,
        ),
        evidence=[at_hop(case, "start", last.plain_url, last), at_hop(case, "return", came.plain_url, came)],
    )


CHECKS = (
    one_tab,
    cookies,
    one_host,
)
