"""Sign-ins of the fortnight whose end decides: let in against expectation, turned away, and by which words."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from datetime import timedelta
from urllib.parse import urlencode

from trace_lens.demo.captured import Capture
from trace_lens.demo.exchanges import asked_in_address
from trace_lens.demo.exports import SIGN_IN, Maker, Visit
from trace_lens.demo.keys import SigningKey
from trace_lens.demo.recording import Recording, page, sign_in_page
from trace_lens.demo.scenario import HOME, PROVIDER_SSO
from trace_lens.demo.token_captures import CodeExchange

_TOKEN = f"https://id.{HOME}/oidc/token"
_SLIPS = f"https://slips.{HOME}"
_API = f"https://api.{HOME}/moorings"
_SIGN_OUT = '<p><a href="/sign-out">Sign out</a></p>'


def exports_ended(make: Maker, keys: dict[str, SigningKey]) -> Iterator[Capture]:
    """All of them, in the order of their numbers."""
    tern, fulmar, plover, gannet = (f"{name}@{HOME}" for name in ("m.tern", "a.fulmar", "l.plover", "j.gannet"))

    good = make.answer("lost-property", plover, 20, 15, 10)
    visit = Visit(make, "lost-property", replace(good, audience=f"https://lost-test.{HOME}/saml"))
    visit.sso = asked_in_address(good, PROVIDER_SSO, visit.request, "ss:mem:71c0")
    _let_in(visit, "lpid", "Found this week")
    yield Capture("62-lost-property-too-lenient.har", visit.one.octets())

    good = make.answer("shore-tours", tern, 20, 15, 40)
    visit = Visit(make, "shore-tours", replace(good, audience=f"{good.audience.rstrip('/')}/2026"))
    _let_in(visit, "stsid", "Tours this week")
    yield Capture("63-shore-tours-record-outdated.har", visit.one.octets())

    yield Capture("64-slip-booking-session-by-script.har", _by_script(make, keys, gannet).octets())
    yield Capture("65-slip-booking-interface-refuses.har", _interface(make, keys, gannet).octets())

    good = make.answer("chart-room", fulmar, 20, 16, 30)
    visit = Visit(make, "chart-room", replace(good, audience=good.audience + "s"))
    visit.sso = asked_in_address(good, PROVIDER_SSO, visit.request, "ss:mem:71c0")
    visit.leave("crid=e1; Path=/; HttpOnly; Secure")
    visit.sign_in()
    words = f"The audience was expected to be {good.audience}, received {visit.answer.audience}."
    visit.come_back("crid=e1", 403, shown=page("Sign-in failed", words))
    yield Capture("66-chart-room-page-tells.har", visit.one.octets())

    yield Capture("67-slip-booking-two-tabs.har", _two_tabs(make, keys, gannet).octets())


def _let_in(visit: Visit, name: str, title: str) -> None:
    """The application takes the answer, sets its session and shows its page."""
    visit.leave(f"{name}=g1; Path=/; HttpOnly; Secure")
    visit.sign_in()
    visit.come_back(f"{name}=g1", 302, to=visit.app.base + "/home", sets=(f"{name}=g2; Path=/; HttpOnly; Secure",))
    shown = page(title, f"Welcome, {visit.answer.name_id}.", _SIGN_OUT)
    visit.one.step("GET", visit.app.base + "/home", 200, page=shown, cookie=f"{name}=g2", noise=4, wait=0.14)


def _redeemed(make: Maker, keys: dict[str, SigningKey], email: str, *at: int) -> tuple[CodeExchange, Recording]:
    """A page that goes to sign in, comes back and redeems its code by itself."""
    flow = CodeExchange(make.draw, keys, "slip-booking", email, *at)
    recording = Recording(flow.issued - timedelta(seconds=23))
    asked, came = flow.request(), flow.answer()
    recording.step("GET", _SLIPS + "/", 200, page=page("Slip Booking", "One moment."), noise=4)
    recording.step("GET", asked, 200, page=sign_in_page(SIGN_IN), referer=_SLIPS + "/", noise=4, by_script=True)
    recording.pause(22)
    recording.step("POST", SIGN_IN, 302, to=came, body=urlencode({"account": email}), referer=asked, wait=0.3)
    recording.step("GET", came, 200, page=page("Slip Booking", "One moment."))
    body = flow.redeem().partition("\n\n")[2]
    recording.step(
        "POST",
        _TOKEN,
        200,
        body=body,
        page=flow.tokens(flow.token()),
        media="application/json",
        kind="fetch",
        referer=_SLIPS + "/",
        by_script=True,
        sent={"Origin": _SLIPS},
        wait=0.07,
        received={"Access-Control-Allow-Origin": _SLIPS},
    )
    return flow, recording


def _by_script(make: Maker, keys: dict[str, SigningKey], email: str) -> Recording:
    """The page hands its token to the application's own server, which answers 204 with the session."""
    flow, recording = _redeemed(make, keys, email, 20, 16, 2)
    recording.step(
        "POST",
        _SLIPS + "/api/session",
        204,
        body=json.dumps({"id_token": flow.token()}),
        kind="fetch",
        referer=_SLIPS + "/",
        sent={"Origin": _SLIPS},
        sets=("sbsid=s1; Path=/; HttpOnly; Secure; SameSite=Strict",),
    )
    recording.step(
        "GET",
        _SLIPS + "/api/me",
        200,
        page=json.dumps({"name": "J. Gannet"}),
        media="application/json",
        kind="fetch",
        referer=_SLIPS + "/",
        cookie="sbsid=s1",
    )
    return recording


def _interface(make: Maker, keys: dict[str, SigningKey], email: str) -> Recording:
    """Signed in; then the interface of the moorings misses a scope in the access token."""
    flow, recording = _redeemed(make, keys, email, 20, 16, 12)
    told = 'Bearer realm="moorings", error="insufficient_scope", scope="moorings.read"'
    recording.step(
        "GET",
        _API,
        403,
        page='{"error": "insufficient_scope"}',
        media="application/json",
        kind="fetch",
        referer=_SLIPS + "/",
        sent={"Origin": _SLIPS, "Authorization": f"Bearer {flow['access']}"},
        received={"WWW-Authenticate": told, "Access-Control-Allow-Origin": _SLIPS},
    )
    return recording


def _two_tabs(make: Maker, keys: dict[str, SigningKey], email: str) -> Recording:
    """Two tabs share one cookie: the first comes back with the state of the second."""
    first = CodeExchange(make.draw, keys, "slip-booking", email, 20, 16, 45)
    second = CodeExchange(make.draw, keys, "slip-booking", email, 20, 16, 45)
    recording = Recording(first.issued - timedelta(seconds=40))
    for flow, value in ((first, "t1"), (second, "t2")):
        cookie = f"sbstate={value}; Path=/; HttpOnly; Secure"
        recording.step("GET", _SLIPS + "/sign-in", 302, to=flow.request(), sets=(cookie,))
        recording.step("GET", flow.request(), 200, page=sign_in_page(f"{SIGN_IN}?for={value}"))
        recording.pause(5)
    recording.pause(16)
    typed = urlencode({"account": email})
    recording.step("POST", f"{SIGN_IN}?for=t1", 302, to=first.answer(), body=typed, referer=first.request())
    recording.step(
        "GET",
        first.answer(),
        400,
        cookie="sbstate=t2",
        page=page("Sign-in failed", "The state of this sign-in is another one than expected."),
    )
    recording.pause(9)
    recording.step("POST", f"{SIGN_IN}?for=t2", 302, to=second.answer(), body=typed, referer=second.request())
    recording.step(
        "GET",
        second.answer(),
        302,
        cookie="sbstate=t2",
        to=_SLIPS + "/mine",
        sets=("sbsid=u1; Path=/; HttpOnly; Secure",),
    )
    recording.step(
        "GET", _SLIPS + "/mine", 200, cookie="sbsid=u1", page=page("My slips", f"Signed in: {email}.", _SIGN_OUT)
    )
    return recording
