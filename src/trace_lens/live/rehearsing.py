"""A synthetic sign-in with a test account, over plain HTML forms: the way that a browser without scripts can go.

A password is sent once, to a host of the provider, and never again. What cannot be gone on with is said, and the way so
far is what is judged.
"""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.common import limits
from trace_lens.common.addresses import host_of
from trace_lens.common.findings import Stage, Unchecked
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import Diagnosis, StageResult
from trace_lens.live.browsing import Browser, FormShown, NotAllowed, Shown, filled
from trace_lens.live.recording import Passed
from trace_lens.live.transport import Unreachable
from trace_lens.workspace.records import App, Provider

ARRIVED, SCRIPT, REFUSED, STRANGE_HOST, UNREACHABLE, TOO_LONG, STUCK = (
    "arrived",
    "script",
    "refused",
    "strange-host",
    "unreachable",
    "too-long",
    "stuck",
)
INTERRUPTED, UNREAD = "interrupted", "unread"
"""Ended by hand; or by an answer that cannot be read here (too large, not HTTP), which a browser may read."""
_CARRIERS = ("SAMLResponse", "SAMLRequest", "wresult", "id_token", "code", "error")
"""Fields of forms that carry a message from one side to the other."""


class Account(NamedTuple):
    """A test account."""

    user: str
    password: str


class Ended(NamedTuple):
    """How a way ended, and that in words."""

    how: str
    words: str


class Rehearsed(NamedTuple):
    """What was asked and answered, how it ended, and that in words."""

    passed: tuple[Passed, ...]
    ended: str
    words: str


def hosts_on_record(app: App, provider: Provider | None) -> set[str]:
    """The hosts that the files of an application and its provider name, and their documents."""
    told = app.settings.application
    addresses: list[str | None] = [told.sign_in_url, told.sign_out_url, told.provider_sso_url, *app.acs_urls]
    addresses += told.oidc.redirect_uris
    if provider is not None:
        named = provider.settings
        addresses += [named.metadata, named.discovery, named.key_set, named.issuer, provider.entity_id]
        addresses += [value for value in provider.discovery.values() if isinstance(value, str)]
        addresses += provider.sign_on_urls
    return {host_of(address) for address in addresses if address and "://" in address} - {""}


def go_from(start: str, browser: Browser, account: Account, app: App) -> Ended:
    """Sign in from an address on, as far as it goes; what was asked and answered is in the browser."""
    try:
        return _Way(browser, account, app).go(start)
    except NotAllowed as error:
        words = f"the way leads to {error.host}, which is not on record; --also {error.host} allows it"
        return Ended(STRANGE_HOST, words)
    except Unreachable as error:
        how = UNREAD if error.code == "unexpected-answer" else UNREACHABLE
        return Ended(how, f"{error.code}: {error.because}")


class _Way:
    """One way: what was sent already, so that nothing is sent twice."""

    def __init__(self, browser: Browser, account: Account, app: App) -> None:
        self.browser, self.account = browser, account
        told = app.settings.application
        own = (told.sign_in_url, *app.acs_urls, *told.oidc.redirect_uris)
        self.own = {host_of(address) for address in own if address}
        self.named = self.sent_password = self.consented = False
        self.was_away = False

    def go(self, start: str) -> Ended:
        """Go on until nothing leads on; how it ended, and that in words."""
        shown = self.browser.open(start)
        for _ in range(limits.REHEARSED_HOPS):
            self.was_away = self.was_away or host_of(shown.answer.url) not in self.own
            following = self._next(shown)
            if isinstance(following, Ended):
                return following
            shown = following
        return Ended(TOO_LONG, f"the way did not end after {limits.REHEARSED_HOPS} requests")

    def _next(self, shown: Shown) -> Shown | Ended:
        """What follows an answer: another one, or how it ended."""
        url = shown.answer.url
        if shown.answer.onward:
            return self.browser.onward(shown)
        if shown.jump:
            return self.browser.open(shown.jump, url)
        carrying = next((form for form in shown.forms if _carries(form) and form.is_hidden), None)
        if carrying:
            return self.browser.send(carrying, filled(carrying, None, None), url)
        if host_of(url) in self.own and self.was_away and self.sent_password:
            return Ended(
                ARRIVED, f"came back to the application: {url.partition('?')[0]} answers {shown.answer.status}"
            )
        asking = next((form for form in shown.forms if form.password), None)
        if asking:
            return self._sign_in(asking, shown)
        naming = next((form for form in shown.forms if form.user and not form.others), None)
        if naming and self.named:
            return Ended(REFUSED, f"{host_of(url)} asks for the name again; it was not sent a second time")
        if naming:
            self.named = True
            return self.browser.send(naming, filled(naming, self.account.user, None), url)
        consent = next((form for form in shown.forms if form.is_hidden and form.buttons), None)
        if consent and self.sent_password and not self.consented and host_of(url) not in self.own:
            self.consented = True
            return self.browser.send(consent, filled(consent, None, None), url)
        if shown.answer.status >= 400:
            return Ended(REFUSED, f"{url.partition('?')[0]} answers with status {shown.answer.status}")
        if shown.scripts and not shown.forms:
            return Ended(SCRIPT, f"the page at {url.partition('?')[0]} needs a script, and none is run here")
        return Ended(STUCK, f"the page at {url.partition('?')[0]} leads nowhere by itself")

    def _sign_in(self, form: FormShown, shown: Shown) -> Shown | Ended:
        """Fill in the sign-in form, once."""
        where = host_of(form.action)
        if self.sent_password:
            return Ended(REFUSED, f"{where} asks for the password again; it was not sent a second time")
        if where in self.own and not self.was_away:
            return Ended(
                STUCK, f"{where} asks for a password of its own before it leads to the provider; none was sent"
            )
        self.named = self.sent_password = True
        return self.browser.send(form, filled(form, self.account.user, self.account.password), shown.answer.url)


def _carries(form: FormShown) -> bool:
    return any(name in _CARRIERS for name, _ in form.values)


def without_password(passed: Iterable[Passed], account: Account) -> tuple[Passed, ...]:
    """What was asked and answered, with the password taken out of what was sent."""
    from urllib.parse import quote_plus

    hidden = quote_plus(account.password).encode()
    return tuple(
        item._replace(body=item.body.replace(hidden, b"")) if item.body and hidden else item for item in passed
    )


_GIVEN_UP = (SCRIPT, STRANGE_HOST, STUCK, TOO_LONG, INTERRUPTED, UNREAD)
_OF_THE_END = ("no-answer", "session-not-started")
"""What a way that ends too early looks like, and what nobody can tell of one that was given up here."""


def as_rehearsed(diagnosis: Diagnosis, rehearsed: Rehearsed) -> Diagnosis:
    """The diagnosis of a way that was given up here: its end says nothing of how the sign-in would have ended."""
    if rehearsed.ended not in _GIVEN_UP or (diagnosis.first_break and diagnosis.first_break.code not in _OF_THE_END):
        return diagnosis
    open_question = Unchecked("session-not-started", rehearsed.words, decides=True)
    stages = tuple(
        StageResult(
            stage.stage,
            "unchecked" if stage.status == "break" else stage.status,
            tuple(item for item in stage.findings if item.code not in _OF_THE_END),
            (*stage.unchecked, open_question) if stage.stage is Stage.ADMITTED else stage.unchecked,
        )
        for stage in diagnosis.stages
    )
    return diagnosis._replace(
        outcome="inconclusive",
        first_break=None,
        proposal=None,
        cause=f"The rehearsal was given up before it could tell: {rehearsed.words}.",
        findings=tuple(item for item in diagnosis.findings if item.code not in _OF_THE_END),
        unchecked=(*diagnosis.unchecked, open_question),
        stages=stages,
    )
