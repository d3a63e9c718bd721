"""Pages that scripts draw, and the sessions that their calls bring: what they show of whether the user was let in."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from trace_lens.attempts.cookies import Cookie, is_cleared, read_set_cookie
from trace_lens.attempts.journeys import Way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.checks.case import Case
from trace_lens.checks.way.page_signs import REFUSED, STATUS, Sign
from trace_lens.checks.way.parties import APPLICATION, PROVIDER, Parties, parties
from trace_lens.checks.way.told_by_calls import asks_who, told_by
from trace_lens.common.expressions import expression
from trace_lens.common.sentences import Quotation, say
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import CALL, PAGE, STATIC, Exchange
from trace_lens.intake.pages import page_of

_SESSION_NAME = expression(r"sess|sid$|^sid|auth|token|login|saml|oidc", re.IGNORECASE)
_LONG = 16
_GIVEN = expression(rb'"(?:access_token|session|token|session_?id)"\s*+:\s*+"([^"\\]++)"', re.IGNORECASE)


def may_hold_session(case: Case, cookie: Cookie) -> bool:
    """Whether a cookie can be a session: the one that the settings name, else one kept from scripts, named so, or
    long.
    """
    named = case.app.settings.application.session_cookie if case.app else None
    if named:
        return cookie.name == named
    return cookie.http_only or bool(_SESSION_NAME.search(cookie.name)) or len(cookie.value) >= _LONG


class Calls(NamedTuple):
    """What the calls show that came with the session just got: `sign` where they say that it was refused, and the
    numbers of the exchanges whose being served shows nothing.
    """

    sign: Sign | None
    mute: frozenset[int]


def calls_after(case: Case, returns: Sequence[Exchange], page: Exchange | None) -> Calls:
    """What the calls after the return show of a session that began there: by a call, or on return where the page is a
    shell. The server refused it where it refused every call that is not answered to everybody: it did not know the
    session that it had given, or the browser did not send it.

    `returns` are the exchanges with which an answer came, of each round; `page` is what the user saw last.
    """
    way: Way | None = case.attempt.way
    if way is None:
        return Calls(None, frozenset())
    sides = parties(case)
    shell = page is not None and is_shell(case, page)
    own = case.attempt.access_token_texts if isinstance(case.attempt, OidcAttempt) else frozenset()
    given, tokens, elsewhere = dict[str, str](), set[str](), False
    again = False
    with_it: list[Exchange] = []
    without: list[Exchange] = []
    mute: set[int] = set()
    numbers = {exchange.number for exchange in returns}
    public = _answered_to_all(way, returns[0])
    nobody = {one.url for one in way.capture.telling if one.kind == CALL and one.answer and told_by(one).there is False}
    for exchange in way.telling:
        if exchange.number < returns[0].number or exchange.kind == STATIC or exchange.method == "OPTIONS":
            continue  # a browser asks whether it may call without any session (Fetch §4.8)
        side = sides.side_of(exchange)
        if exchange.kind == CALL and exchange.served and side != PROVIDER and _shows_nobody(exchange, public, nobody):
            mute.add(exchange.number)
        if exchange.number in numbers:
            given, tokens, with_it, without, elsewhere, again = {}, set(), [], [], False, False
        again = again or (exchange.kind == PAGE and not exchange.frame and side == PROVIDER)
        if again:
            continue  # another sign-in begins
        if (given or tokens) and exchange.status > 0 and side != PROVIDER:
            sent, borne = exchange.cookies, (exchange.request("authorization") or "").rpartition(" ")[2]
            carried = borne in tokens or any(sent.get(name) == value for name, value in given.items())
            elsewhere |= bool(borne) and not carried and exchange.served and (side == APPLICATION or borne in own)
            if carried and not is_shell(case, exchange):
                with_it.append(exchange)
            elif given and exchange.kind == CALL and side == APPLICATION:
                without.append(exchange)
        if side != APPLICATION:
            continue
        by_call = exchange.kind == CALL and exchange.method != "GET" and 200 <= exchange.status < 300
        if by_call or (shell and exchange.kind == PAGE):
            given |= {
                cookie.name: cookie.value
                for cookie in _set_by(exchange)
                if may_hold_session(case, cookie) and exchange.cookies.get(cookie.name) != cookie.value
            }
        if by_call and (token := session_in(exchange)):
            tokens.add(token)
    known = [
        call
        for call in with_it
        if call.number not in mute or (told_by(call).there is False and sides.side_of(call) == APPLICATION)
    ]  # what another host does not know says nothing of the application
    sign = (
        _refused_with_it(known)
        or _refused_without(given, without, with_it)
        or (_barred(known, sides) if shell else None)
    )
    sign = None if elsewhere else sign
    return Calls(sign, frozenset(mute))


def _refused_with_it(calls: list[Exchange]) -> Sign | None:
    """The sign that every call with the session was refused, or the one that asked who is there and learned nothing."""
    how = "with the session that it had given"
    refused = [call for call in calls if call.status == 401 or told_by(call).there is False]
    if not refused or len(refused) == len(calls):
        return _refusal(refused[-1], how) if refused else None
    asked = next((call for call in reversed(calls) if asks_who(call)), None)
    if asked is None or asked.status != 401 or any(told_by(call).there for call in calls):
        return None
    goes_on = (call.number > asked.number or call.plain_url == asked.plain_url for call in calls if call.served)
    return None if any(goes_on) else _refusal(asked, how, by_words=True)


def _barred(calls: list[Exchange], sides: Parties) -> Sign | None:
    """The sign that every call with the session was forbidden or failed, the one that asked who is there among them, or
    several.
    """
    if not calls or any(call.served or call.status < 400 for call in calls):
        return None
    failed = [call for call in calls if call.status == 403 or call.status >= 500]
    enough = any(asks_who(call) for call in failed) or len({call.plain_url for call in failed}) > 1
    if not failed or not enough or sides.side_of(failed[-1]) != APPLICATION or failed[-1].request("authorization"):
        return None
    last = failed[-1]
    return Sign(
        STATUS, -4, f"{last.host} answered {last.status} to every call with the session that it had given", last
    )


def _refused_without(given: dict[str, str], without: list[Exchange], with_it: list[Exchange]) -> Sign | None:
    """The sign that the calls came without the session that had been given, and were refused for it."""
    served = {call.plain_url for call in without if call.served and told_by(call).there is not False}
    calls = [call for call in without if call.status == 401 or told_by(call).there is False]
    calls = [call for call in calls if call.plain_url not in served]  # what needs no session is served without one
    if with_it or not calls:
        return None
    return _refusal(calls[-1], "that came without the session that it had given", cookie=next(iter(given)))


def _refusal(call: Exchange, how: str, *, by_words: bool = False, cookie: str | None = None) -> Sign:
    if call.status == 401:
        return Sign(REFUSED, -4, f"{call.host} answered 401 to a call {how}", call, by_words=by_words, cookie=cookie)
    words = Quotation(told_by(call).words)
    says = say("{host} answered {words} to a call {how}", host=call.host, words=words, how=how)
    return Sign(REFUSED, -4, says, call, by_words=True, cookie=cookie)


def _answered_to_all(way: Way, back: Exchange) -> dict[tuple[str, str, bytes], bytes]:
    """What calls before the return were answered with, which came without anything that can be a session."""
    return {
        (one.method, one.url, one.body or b""): one.answer
        for one in way.capture.telling
        if one.number < back.number
        and one.kind == CALL
        and one.served
        and one.answer
        and one.cookies_told
        and not one.request("authorization")
        and not any(_SESSION_NAME.search(name) or len(value) >= _LONG for name, value in one.cookies.items())
    }


def _shows_nobody(exchange: Exchange, public: dict[tuple[str, str, bytes], bytes], nobody: set[str]) -> bool:
    """Whether the answer to a call is the same for everybody, or tells that nobody is there; one that the capture left
    out tells what another from the same address did.
    """
    if not exchange.answer:
        return exchange.url in nobody
    same = public.get((exchange.method, exchange.url, exchange.body or b""))
    return same == exchange.answer or told_by(exchange).there is False


def session_in(exchange: Exchange) -> str | None:
    """The session that the JSON of an answer gives a page, which sends it along by itself."""
    found = _GIVEN.search((exchange.answer or b"")[:4096])
    return found[1].decode("utf-8", "replace") if found else None


def _set_by(exchange: Exchange) -> Iterator[Cookie]:
    """The cookies that a response sets, not those that it clears or that no browser takes."""
    for line in exchange.set_cookies:
        cookie = read_set_cookie(line, exchange)
        if isinstance(cookie, Cookie) and not is_cleared(cookie):
            yield cookie


_FEW_WORDS = 80
_WAITS = expression(
    r"\b(?:loading|please wait|one moment|just a moment|starting|javascript|wird geladen|laden|lädt|bitte warten"
    r"|einen moment|even geduld|chargement|veuillez patienter|cargando|espere|caricamento|attendere|carregando|aguarde"
    r"|laster|vennligst vent|laddar|vänta|indlæser|vent venligst|ladataan|odota|ładowanie|proszę czekać|načítání"
    r"|čekejte|betöltés|yükleniyor|lütfen bekleyin)\b|φόρτωση|загрузка|завантаження|加载|載入|読み込み|로딩|로드 중",
    re.IGNORECASE,
)
"""What a page says that is still to be drawn."""


def is_shell(case: Case, exchange: Exchange) -> bool:
    """Whether a page shows nothing by itself: scripts draw it, and it is served to everybody alike.

    A page whose text the capture left out is as another at the same address was.
    """
    if exchange.kind != PAGE or exchange.answer:
        return _shows_nothing(exchange)
    return exchange.served and exchange.plain_url in case.once("shells", lambda: _shells(case))


def _shells(case: Case) -> frozenset[str]:
    """The addresses at which a capture shows a page that scripts draw."""
    way: Way | None = case.attempt.way
    return frozenset(one.plain_url for one in way.capture.telling if _shows_nothing(one)) if way else frozenset()


def _shows_nothing(exchange: Exchange) -> bool:
    if exchange.kind != PAGE or not exchange.answer or b"<script" not in exchange.answer.lower():
        return False  # without scripts, pictures, frames or fields are what it shows
    text = page_of(exchange).text
    return not text or (len(text) <= _FEW_WORDS and bool(_WAITS.search(text)))
