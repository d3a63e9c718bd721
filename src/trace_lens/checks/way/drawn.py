"""Pages that scripts draw, and the sessions that their calls bring: what they show of whether the user was let in."""

from __future__ import annotations

import re
from collections.abc import Iterator

from trace_lens.attempts.cookies import Cookie, is_cleared, read_set_cookie
from trace_lens.attempts.journeys import Way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.checks.case import Case
from trace_lens.checks.way.page_signs import REFUSED, Sign
from trace_lens.checks.way.parties import APPLICATION, PROVIDER, parties
from trace_lens.common.expressions import expression
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


def session_refused(case: Case, back: Exchange, page: Exchange | None) -> Sign | None:
    """The last call of the application's page to its own server, after it had got a session there (by a call, or on
    return where the page is a shell), where the server refused every such call: it did not know the session that it
    had given, or the browser did not send it. `page` is the one that the user saw last.
    """
    way: Way | None = case.attempt.way
    sides, given, tokens = parties(case), dict[str, str](), set[str]()
    own = case.attempt.access_token_texts if isinstance(case.attempt, OidcAttempt) else frozenset()
    shell = page is not None and is_shell(case, page)
    with_it: list[Exchange] = []
    without: list[Exchange] = []
    for exchange in way.capture.telling if way else ():
        if exchange.number < back.number or exchange.kind == STATIC or exchange.method == "OPTIONS":
            continue  # a browser asks whether it may call without any session (Fetch §4.8)
        if exchange.kind == PAGE and not exchange.frame and sides.side_of(exchange) == PROVIDER:
            break  # another sign-in begins
        side = sides.side_of(exchange)
        if (given or tokens) and exchange.status > 0 and side != PROVIDER:
            sent, borne = exchange.cookies, (exchange.request("authorization") or "").rpartition(" ")[2]
            carried = borne in tokens or any(sent.get(name) == value for name, value in given.items())
            if borne and not carried and exchange.served and (side == APPLICATION or borne in own):
                return None  # by another token it is served
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
    served = {call.plain_url for call in without if call.served}  # what needs no session is served without one
    calls = with_it or [call for call in without if call.status == 401 and call.plain_url not in served]
    if not calls or any(call.status != 401 for call in calls):
        return None
    how = "with the session that it had given" if with_it else "that came without the session that it had given"
    lost = None if with_it else next(iter(given))
    return Sign(REFUSED, -4, f"{calls[-1].host} answered 401 to a call {how}", calls[-1], cookie=lost)


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
