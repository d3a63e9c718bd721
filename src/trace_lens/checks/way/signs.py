"""Was the user let in? The signs that a capture shows for and against it, each named and weighed.

No single sign decides by its absence: a session may begin by a cookie, by a call, in the page's memory, or be an older
one. An address never decides. What follows the answer is read in its order; a way back to the sign-in undoes what came
before it, an error after the user was in does not.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

from trace_lens.attempts.cookies import Cookie, CookieStore, Refused, is_cleared, read_set_cookie
from trace_lens.attempts.journeys import BY_ITSELF, CALLED, Hop, Way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.checks.case import Case
from trace_lens.checks.way.drawn import calls_after, is_shell, may_hold_session, session_in
from trace_lens.checks.way.failure_words import (
    failure_in_address,
    failure_in_json,
    says_failure,
    says_only_failure,
)
from trace_lens.checks.way.interfaces import bearer_of
from trace_lens.checks.way.page_signs import (
    ASKS,
    BACK,
    CALLED_IN,
    COOKIE,
    LOUD,
    NAMED,
    OFFERS,
    OUT_LINK,
    SERVED,
    SIGN_OUT,
    STATUS,
    TOKENS,
    Sign,
    friendly,
    path_of,
    told_words,
    unwelcoming,
)
from trace_lens.checks.way.parties import APPLICATION, PROVIDER, REQUESTS, brings_answer, parties, return_hop
from trace_lens.common.findings import Evidence
from trace_lens.common.locations import Location
from trace_lens.common.sentences import Quotation, say
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.carried import EXCHANGE
from trace_lens.intake.exchanges import CALL, PAGE, STATIC, Exchange, forms_of, jumps_of
from trace_lens.intake.pages import page_of

_ENOUGH = 2


class Outcome(NamedTuple):
    """How it ended, as far as the capture shows.

    `let_in` is True or False where signs decide, None where they do not. `signs` are those that decided, or all there
    are. `page` is the hop of the page that the user saw last, `back` the hop that led to sign in again.
    """

    let_in: bool | None
    signs: tuple[Sign, ...] = ()
    page: Hop | None = None
    back: Hop | None = None

    @property
    def by_words(self) -> bool:
        """Whether only what a page says speaks against it."""
        return bool(self.against) and all(sign.by_words for sign in self.against)

    @property
    def favouring(self) -> tuple[Sign, ...]:
        """The signs for it."""
        return tuple(sign for sign in self.signs if sign.weight > 0)

    @property
    def against(self) -> tuple[Sign, ...]:
        """The signs against it."""
        return tuple(sign for sign in self.signs if sign.weight < 0)

    @property
    def only_tokens(self) -> bool:
        """Whether nothing but tokens that the page got speaks for it: it may still have refused them."""
        return self.let_in is True and all(sign.name == TOKENS for sign in self.favouring)


NOT_SEEN = Outcome(None)


def outcome_of(case: Case) -> Outcome:
    """How the attempt ended, by the way alone."""
    return case.once("outcome by the way", lambda: _outcome(case))


def shown_in(case: Case) -> bool:
    """Whether the way shows that the user was let in."""
    return outcome_of(case).let_in is True


def after_return(case: Case) -> list[Hop]:
    """The hops from the return on; of a loop, from the first return on."""
    way: Way | None = case.attempt.way
    if way is None:
        return []
    back = return_hop(case)
    if way.rounds > 1:
        back = next((hop for hop in way.hops if brings_answer(hop)), back)
    return [back, *way.after(back)] if back else []


def shows_cookies(case: Case) -> bool:
    """Whether the capture shows which cookies the application set after the return."""
    way: Way | None = case.attempt.way
    return way is not None and way.capture.tells_cookies and bool(after_return(case))


def landing(case: Case) -> Hop | None:
    """The page that the user saw in the end: the last hop that is no redirect and carries no request."""
    seen = [hop for hop in after_return(case) if not hop.exchange.leads_on and hop.exchange.status > 0]
    pages = [hop for hop in seen if hop.how != CALLED]
    return pages[-1] if pages else None


def went_back(case: Case) -> Hop | None:
    """The hop by which the browser was sent to sign in again, by itself, after the answer."""
    hops = after_return(case)
    return next((hop for hop in hops[1:] if set(hop.kinds) & set(REQUESTS) and not _of_frame(hop)), None)


def _of_frame(hop: Hop) -> bool:
    return hop.exchange.frame


def _outcome(case: Case) -> Outcome:
    hops = after_return(case)
    if not hops or case.refused:
        return NOT_SEEN
    page = landing(case)
    again = went_back(case)
    held: list[Sign] = []
    state: Outcome = Outcome(None, (), page, again)
    earlier = _taken_before(case, hops[0])
    returns = [hop.exchange for hop in hops if hop is hops[0] or brings_answer(hop)]
    calls = calls_after(case, returns, page.exchange if page else None)
    lasting = list(_lasting(case, [earlier, *hops] if earlier else hops, calls.mute))
    signed_out = False
    for hop in hops:
        signed_out = hop is not hops[0] and not brings_answer(hop) and (signed_out or _begins_sign_out(hop))
        if hop is again:
            sign = Sign(BACK, -4, "the browser was sent to sign in again", hop.exchange)
            state = Outcome(False, (*held, sign), page, again)
            held = []
            continue
        fresh = [*_of_hop(case, hop), *(sign for sign in lasting if sign.exchange is hop.exchange)]
        if signed_out:  # what a page says then, it says of the end of the session
            fresh = [sign for sign in fresh if sign.name not in (LOUD, ASKS, OFFERS)]
        if earlier and hop is not hops[0] and any(sign.weight > 0 for sign in fresh):
            held = []  # the error was that of loading the answer again
        held += fresh
        if not fresh:
            continue
        total = sum(sign.weight for sign in held)
        if total >= _ENOUGH:
            state = Outcome(True, tuple(held), page, again)
        elif total <= -_ENOUGH and (state.let_in is not True or any(sign.name in (ASKS, BACK) for sign in fresh)):
            state = Outcome(False, tuple(held), page, again)
    beyond = [sign for sign in lasting if not any(sign.exchange is hop.exchange for hop in hops)]
    if beyond and state.let_in is not True and (again is None or beyond[0].exchange.number > again.exchange.number):
        held = beyond if earlier else [*held, *beyond]
        if sum(sign.weight for sign in held) >= _ENOUGH:
            state = Outcome(True, tuple(held), page, again)
    if state.only_tokens:
        served = _served(case, hops[0].exchange, calls.mute)
        state = state._replace(signs=(*state.signs, served)) if served else state
    refused = _handed_on_in_vain(case, hops[0].exchange) or calls.sign
    if refused and not (state.let_in and any(sign.exchange.number > refused.exchange.number for sign in state.signs)):
        state = Outcome(False, (refused,), page, again)
    return state if state.signs else Outcome(None, tuple(held), page, again)


def _begins_sign_out(hop: Hop) -> bool:
    """Whether a hop begins a sign-out: by its message, or by an address for that which the person went to."""
    if any("logout" in kind for kind in hop.kinds):
        return True
    return hop.how not in BY_ITSELF and SIGN_OUT.search(path_of(hop.exchange.url)) is not None


def _handed_on_in_vain(case: Case, back: Exchange) -> Sign | None:
    """The last call by which the application's page handed its code to its own server, where that refused it."""
    answer = case.attempt.answer if case.protocol == "oidc" else None
    code = answer.get("code") if answer else None
    way: Way | None = case.attempt.way
    if not code or way is None:
        return None
    sides, value = parties(case), re.escape(str(code).encode())
    handed = re.compile(rb'"code"\s*:\s*"' + value + rb'"|(?:^|&)code=' + value + rb"(?:&|$)")
    calls = [
        exchange
        for exchange in way.exchanges
        if exchange.number > back.number and exchange.kind == CALL and handed.search(exchange.body or b"")
    ]
    last = next((exchange for exchange in reversed(calls) if sides.side_of(exchange) != PROVIDER), None)
    if last is None or last.status <= 0 or last.leads_on:
        return None
    if last.status >= 400:
        return Sign(STATUS, -4, f"{last.host} answered {last.status} to the page that handed the code on", last)
    told = failure_in_json(last)
    if told is None:
        return None
    return Sign(LOUD, -4, say('the answer says: "{words}"', words=Quotation(told[:160])), last, by_words=True)


def _taken_before(case: Case, back: Hop) -> Hop | None:
    """The hop by which the same answer had come to the same address before, and was answered without an error."""
    way: Way | None = case.attempt.way
    own = {(message.kind, message.data) for message in back.carries}
    for hop in way.before(back) if way else ():
        same = brings_answer(hop) and hop.exchange.plain_url == back.exchange.plain_url
        if same and 200 <= hop.exchange.status < 400 and own & {(each.kind, each.data) for each in hop.carries}:
            return hop
    return None


def _of_hop(case: Case, hop: Hop) -> Iterator[Sign]:
    """The signs that one hop shows by itself."""
    exchange = hop.exchange
    side = parties(case).side_of(exchange)
    if side == PROVIDER:
        yield from _tokens_taken(case, hop)
        return
    if exchange.status >= 400 and (hop.how != CALLED or (hop.carries and side == APPLICATION)):
        yield Sign(STATUS, -4, f"{exchange.host or 'the application'} answered {exchange.status}", exchange)
    if hop.how == CALLED or exchange.kind != PAGE or exchange.leads_on or exchange.status <= 0:
        return
    shown = page_of(exchange)
    told = told_words(case, exchange, shown)
    if told:
        yield told
        return
    welcoming = list(friendly(case, exchange, shown)) if exchange.served else []
    out = any(sign.name == OUT_LINK for sign in welcoming)
    if shown.asks_to_sign_in:
        yield Sign(ASKS, -1 if out else -3, f"{exchange.host} shows a sign-in form", exchange)
    loud = says_failure(shown)
    goes_on = any(form.by_itself for form in forms_of(exchange)) or bool(jumps_of(exchange))
    if exchange.status < 400 and not goes_on:  # else the status has said it, or it is no page to stay at
        loud = loud or failure_in_json(exchange) or (None if out else says_only_failure(shown, named=bool(welcoming)))
    if loud:
        yield Sign(
            LOUD, -4, say('the page says: "{words}"', words=Quotation(loud[:160].rstrip(". "))), exchange, by_words=True
        )
        welcoming = [sign for sign in welcoming if sign.name != NAMED] if len(welcoming) < 2 else welcoming
    elif not welcoming:
        told_there = failure_in_address(exchange) if side == APPLICATION and not brings_answer(hop) else None
        if told_there:
            words = say('the address that followed says: "{words}"', words=Quotation(told_there[:160]))
            yield Sign(LOUD, -2, words, exchange, by_words=True)
        yield from unwelcoming(exchange, shown)
    yield from welcoming


def _tokens_taken(case: Case, hop: Hop) -> Iterator[Sign]:
    """A page that redeemed its code itself and got tokens: a single-page application keeps them in memory."""
    if hop.how != CALLED or hop.exchange.status != 200 or not isinstance(case.attempt, OidcAttempt):
        return
    number = str(hop.exchange.number)
    for told in (*case.attempt.earlier, *case.attempt.messages):
        if told.kind == "token-response" and told.found.context.get(EXCHANGE) == number and not told.get("error"):
            yield Sign(TOKENS, 3, "the page redeemed the code by itself and got its tokens", hop.exchange)
            return


def _served(case: Case, back: Exchange, mute: frozenset[int]) -> Sign | None:
    """The call of an interface, not of the provider, that the page made with its new token, and that was served: it did
    not refuse its tokens.
    """
    way: Way | None = case.attempt.way
    if way is None or not isinstance(case.attempt, OidcAttempt):
        return None
    own = case.attempt.access_token_texts
    for exchange in way.telling:
        if exchange.number <= back.number or exchange.kind != CALL or not 200 <= exchange.status < 300:
            continue
        taken = exchange.number not in mute and bearer_of(exchange) in own
        if taken and parties(case).side_of(exchange) != PROVIDER:
            return Sign(SERVED, 2, f"{exchange.host} served a call with the new token", exchange)
    return None


def _lasting(case: Case, hops: list[Hop], mute: frozenset[int]) -> Iterator[Sign]:
    """What only shows over several exchanges: a cookie that was set on return and then served, a session by a call."""
    way: Way | None = case.attempt.way
    if way is None:
        return
    first = hops[0].exchange
    sides = parties(case)
    store = CookieStore()
    before: dict[str, str] = {}
    fresh: dict[str, Cookie] = {}
    started = False
    numbers = {hop.exchange.number for hop in hops}
    setting = {exchange.number for exchange in way.setting_cookies}
    for exchange in way.telling:
        if exchange is first:
            started = True
            before = {cookie.name: cookie.value for cookie in store}
            before.update(exchange.cookies)
        sets = exchange.number in setting
        if not (sets or started):
            continue
        side = sides.side_of(exchange) if started else PROVIDER
        ours = side == APPLICATION
        if side != PROVIDER and exchange is not first:
            sent = exchange.cookies
            served = next((c for c in fresh.values() if sent.get(c.name) == c.value), None)
            good = exchange.kind != STATIC and exchange.served and exchange.number not in mute
            if served and good and not _unfriendly(exchange) and not is_shell(case, exchange):
                words = f"the cookie {served.name}, set on return, was sent and served"
                yield Sign(COOKIE, 2, words, exchange, cookie=served.name)
                return
            if (
                ours
                and exchange.kind == CALL
                and exchange.method != "GET"
                and 200 <= exchange.status < 300
                and _gives_session(exchange)
            ):
                yield Sign(CALLED_IN, 3, f"a call to {exchange.host} was answered with a session", exchange)
                return
        if not sets:
            continue
        store.receive(exchange)
        if ours and (exchange is first or exchange.number in numbers or exchange.kind == CALL):
            for line in exchange.set_cookies:
                cookie = read_set_cookie(line, exchange)
                if isinstance(cookie, Refused) or is_cleared(cookie) or before.get(cookie.name) == cookie.value:
                    continue
                if may_hold_session(case, cookie):
                    fresh[cookie.name] = cookie


def _unfriendly(exchange: Exchange) -> bool:
    """Whether a page that was served asks to sign in, and offers nothing that only a signed-in person needs."""
    if exchange.kind != PAGE or not page_of(exchange).asks_to_sign_in:
        return False
    return not any(
        SIGN_OUT.search(link.words) or SIGN_OUT.search(path_of(link.target)) for link in page_of(exchange).links
    )


def _gives_session(exchange: Exchange) -> bool:
    if any(not isinstance(read_set_cookie(line, exchange), Refused) for line in exchange.set_cookies):
        return True
    return session_in(exchange) is not None


def shown_signs(case: Case, signs: tuple[Sign, ...]) -> list[Evidence]:
    """Signs as evidence."""
    way: Way | None = case.attempt.way
    source = way.source if way else case.attempt.source
    return [
        Evidence(sign.name, sign.says, source, Location(entry=sign.exchange.place), exchange=sign.exchange.number)
        for sign in signs[:4]
    ]
