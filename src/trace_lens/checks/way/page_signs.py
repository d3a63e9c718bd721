"""The signs of being let in, and of being refused, that one page shows by itself."""

from __future__ import annotations

import re
from collections.abc import Iterator

from trace_lens.checks.case import Case
from trace_lens.checks.way.failure_words import WRONG, says_welcome
from trace_lens.checks.way.names import names_of
from trace_lens.common.addresses import plain
from trace_lens.common.expressions import expression
from trace_lens.common.sentences import Person, Quotation, say
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import Exchange
from trace_lens.intake.pages import Link, PageText

SIGN_OUT = expression(
    r"(?:log|sign)[-_ ]?(?:out|off)\b|(?:log|sign)(?:out|off)|\b(?:abmelden|ausloggen|uitloggen|afmelden|d[ée]connexion"
    r"|se d[ée]connecter|cerrar sesi[óo]n|terminar sess[ãa]o|disconnetti|logg ut|logga ut|log ud|kirjaudu ulos|wyloguj"
    r"|odhl[áa]sit|kijelentkez[ée]s|oturumu kapat)|αποσύνδεση|\bвыйти\b|ログアウト|サインアウト|登出|退出登录|로그아웃",
    re.IGNORECASE,
)
_NO_ENTRY = expression(
    r"\b(?:account|user|profile)\b.{0,40}\b(?:locked|disabled|deactivated|suspended|blocked|inactive|closed|pending"
    r"|waiting|awaiting)\b",
    re.IGNORECASE,
)
"""What an alert says of an account that may not be used (yet)."""
_IN = expression(
    r"^\W*(?:(?:(?:sign|log)[- ]?(?:in|on)|login|anmelden|einloggen|inloggen|aanmelden|se connecter|connexion"
    r"|iniciar sesi[óo]n|accedi|logg inn|logga in|log ind|kirjaudu sisään|zaloguj|p[řr]ihl[áa]sit|bejelentkez[ée]s)\b"
    r"|σύνδεση|войти|ログイン|登录|로그인)",
    re.IGNORECASE,
)
_AS_ANOTHER = expression(r"\b(?:another|different|other|somebody else|someone else)\b|\bas\b", re.IGNORECASE)
"""What a link says that leads somebody who is signed in to another account."""
_OF_COOKIES = expression(r"\bcookies?\b|\bprivacy\b", re.IGNORECASE)


class Sign(NamedTuple):
    """One sign: what it says in words, its weight (above 0 for being let in, below 0 against), and where it shows.

    `by_words` marks a sign by what a page says; all others are facts of the exchange. `cookie` names
    the one that it is.
    """

    name: str
    weight: int
    says: str
    exchange: Exchange
    by_words: bool = False
    cookie: str | None = None


COOKIE, CALLED_IN, TOKENS, SERVED, PAGE_SHOWN, NAMED, OUT_LINK, SET_WORDS, WELCOME = (
    "session cookie",
    "session by a call",
    "tokens in the page",
    "token served",
    "page shown",
    "person named",
    "way to sign out",
    "words set",
    "welcome said",
)
STATUS, REFUSED, ASKS, BACK, LOUD, OFFERS, OUT_WORDS = (
    "error status",
    "session refused",
    "sign-in form",
    "back to sign-in",
    "failure said",
    "sign-in offered",
    "words of a refusal",
)


def unwelcoming(exchange: Exchange, shown: PageText) -> Iterator[Sign]:
    """A page that marks something as gone wrong, or marks anything, and offers to sign in: each by itself says little.

    What an alert says may be in any language: beside an offer to sign in, that there is one is enough.
    """
    offers = (link for link in shown.links if _IN.search(link.words) and not _AS_ANOTHER.search(link.words))
    offer = next(offers, None)
    barred = next((words for words in shown.alerts if _NO_ENTRY.search(words)), None)
    alerts = [words for words in shown.alerts if not _OF_COOKIES.search(words)]
    wrong = next((words for words in alerts if WRONG.search(words)), next(iter(alerts), None))
    marked = barred or (wrong if offer else None)
    if marked:
        words = say('the page says: "{words}"', words=Quotation(marked[:160]))
        yield Sign(LOUD, -2 if barred else -1, words, exchange, by_words=True)
    if offer:
        yield Sign(OFFERS, -1, f"the page offers to sign in ({offer.words})", exchange, by_words=True)


def told_words(case: Case, exchange: Exchange, shown: PageText) -> Sign | None:
    """What the settings say of the application's pages: words or addresses of those signed in, and of the others."""
    pages = case.app.settings.application.pages if case.app else None
    if pages is None:
        return None
    for entries, name, weight in ((pages.signed_out, OUT_WORDS, -4), (pages.signed_in, SET_WORDS, 4)):
        for entry in entries:
            if entry.startswith(("/", "https://", "http://")):
                here = plain(exchange.url) if "://" in entry else exchange.parts.path
                fits = here == entry or here.startswith(entry.rstrip("/") + "/")
            else:
                fits = entry.casefold() in " ".join((shown.title, shown.text)).casefold()
            if fits:
                return Sign(name, weight, f"the page shows {entry!r}, as the settings tell", exchange)
    return None


def way_out(shown: PageText) -> Link | None:
    """The link by which a page offers to sign out."""
    links = (link for link in shown.links if SIGN_OUT.search(link.words) or SIGN_OUT.search(path_of(link.target)))
    return next(links, None)


def friendly(case: Case, exchange: Exchange, shown: PageText) -> Iterator[Sign]:
    """A page that a signed-in person sees: with a way to sign out, or their name."""
    out = next(
        (link for link in shown.links if SIGN_OUT.search(link.words) or SIGN_OUT.search(path_of(link.target))), None
    )
    if out:
        yield Sign(OUT_LINK, 2, f"the page offers to sign out ({out.words or path_of(out.target)})", exchange)
    welcome = says_welcome(shown)
    if welcome:
        yield Sign(WELCOME, 2, say('the page says: "{words}"', words=Quotation(welcome.strip()[:160])), exchange)
    name = next((name for name in names_of(case) if _holds(shown.text, name)), None)
    if name:
        yield Sign(NAMED, 2, say("the page names {name}", name=Person(name)), exchange)


def path_of(target: str) -> str:
    return plain(target).partition("://")[2].partition("/")[2]


def _holds(text: str, name: str) -> bool:
    return re.search(rf"(?<![\w@.]){re.escape(name)}(?![\w@])", text, re.IGNORECASE) is not None
