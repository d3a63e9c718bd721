"""Whole sign-ins of the fortnight as browser exports: cookies lost, loops, errors, and several that work."""

from __future__ import annotations

import base64
import json
import random
from collections.abc import Iterator
from datetime import timedelta
from typing import Any, Protocol
from urllib.parse import urlencode

from lxml import etree

from trace_lens.demo.captured import Capture
from trace_lens.demo.diary import amend
from trace_lens.demo.exchanges import asked_in_address
from trace_lens.demo.keys import SigningKey
from trace_lens.demo.messages import Answer
from trace_lens.demo.recording import Recording, page, posting, sign_in_page
from trace_lens.demo.scenario import BY_ID, HOME, PROVIDER_SSO
from trace_lens.demo.token_captures import CodeExchange
from trace_lens.demo.tokens import to_base64url

_ID = f"https://id.{HOME}"
SIGN_IN = f"{_ID}/sign-in"


class Maker(Protocol):
    """What makes good answers and their XML."""

    @property
    def draw(self) -> random.Random: ...

    def answer(self, app: str, email: str, day: int, hour: int, minute: int, **changes: object) -> Answer: ...
    def xml(self, answer: Answer, signed: str = "assertion", key: str | None = None) -> etree._Element: ...


class Visit:
    """One sign-in by SAML in a browser, hop by hop; each hop can be told apart from the usual."""

    def __init__(self, make: Maker, app: str, answer: Answer, recording: Recording | None = None) -> None:
        self.app = BY_ID[app]
        self.answer = answer
        self.one = recording or Recording(answer.issued - timedelta(seconds=21.4))
        root = make.xml(answer, self.app.at_provider.signed_part)
        self.request = str(root.get("InResponseTo") or "")
        self.sso = asked_in_address(answer, PROVIDER_SSO, self.request, "ss:mem:71c0")
        self.fields = {"SAMLResponse": base64.b64encode(etree.tostring(root)).decode(), "RelayState": "ss:mem:71c0"}

    def leave(self, *sets: str, base: str = "") -> None:
        """The person opens the application, which sends the browser to the provider."""
        self.one.pause(0.2)
        self.one.step("GET", (base or self.app.base) + "/", 302, to=self.sso, sets=sets, wait=0.06)

    def sign_in(self, seconds: float = 21, *, at: str = SIGN_IN, passphrase: str | None = None) -> None:
        """The provider's page, and what the person types there."""
        self.one.step("GET", self.sso, 200, page=sign_in_page(at), noise=4, wait=0.12)
        self.one.pause(seconds)
        typed = {"account": self.answer.name_id, **({"passphrase": passphrase} if passphrase else {"otp": "…"})}
        session = "nmsid=open; Path=/; HttpOnly; Secure; SameSite=Lax"
        self.one.step(
            "POST",
            at,
            200,
            page=posting(self.answer.acs_url, self.fields),
            body=urlencode(typed),
            referer=self.sso,
            sets=(session,),
            wait=0.31,
        )

    def known(self) -> None:
        """The provider knows the person already and answers at once."""
        self.one.step(
            "GET", self.sso, 200, page=posting(self.answer.acs_url, self.fields), cookie="nmsid=open", wait=0.09
        )

    def come_back(
        self, cookie: str | None, status: int, *, to: str = "", sets: tuple[str, ...] = (), shown: str = ""
    ) -> None:
        """The browser posts the answer to the application."""
        body = urlencode(self.fields)
        self.one.step(
            "POST",
            self.answer.acs_url,
            status,
            to=to or None,
            body=body,
            referer=_ID + "/",
            cookie=cookie,
            sets=sets,
            page=shown or None,
            wait=0.22,
        )

    def land(self, title: str, cookie: str, path: str = "/home") -> None:
        """The page that the person wanted."""
        shown = page(title, f"Welcome, {self.answer.name_id}.")
        self.one.step(
            "GET", self.app.base + path, 200, page=shown, cookie=cookie, referer=_ID + "/", noise=4, wait=0.14
        )


def exports(make: Maker, keys: dict[str, SigningKey]) -> Iterator[Capture]:
    """All exports, in the order of their numbers."""
    tern, fulmar, plover, eider = (f"{name}@{HOME}" for name in ("m.tern", "a.fulmar", "l.plover", "e.eider"))
    gannet, petrel = f"j.gannet@{HOME}", f"o.petrel@{HOME}"

    visit = Visit(make, "shore-tours", make.answer("shore-tours", tern, 18, 9, 30))
    visit.leave("stsid=k81; Path=/; HttpOnly; Secure; SameSite=None")
    visit.sign_in()
    visit.come_back(
        "stsid=k81", 302, to=visit.app.base + "/home", sets=("stsid=m02; Path=/; HttpOnly; Secure; SameSite=Lax",)
    )
    visit.land("Tours this week", "stsid=m02")
    yield _export("50-shore-tours-works.har", visit.one)

    visit = Visit(make, "shore-tours", make.answer("shore-tours", fulmar, 18, 16, 5))
    visit.leave("stsid=k92; Path=/; HttpOnly; Secure; SameSite=Lax")
    visit.sign_in()
    visit.come_back(None, 403, shown=page("Sign-in failed", "We could not match this reply to a request of yours."))
    yield _export("51-shore-tours-cookie-samesite.har", visit.one)

    yield _export("52-slip-booking-cookie-host.har", _other_host(make, keys, gannet))

    visit = Visit(make, "lost-property", make.answer("lost-property", plover, 19, 8, 41))
    visit.leave("lpid=j5; Path=/search; HttpOnly; Secure")
    visit.sign_in()
    visit.come_back(None, 400, shown=page("Bad request", "No sign-in is under way in this browser."))
    yield _export("53-lost-property-cookie-path.har", visit.one)

    visit = Visit(make, "chart-room", make.answer("chart-room", eider, 19, 12, 20))
    visit.leave("crid=t7; Path=/; HttpOnly; Secure; Max-Age=120")
    visit.one.clock -= timedelta(seconds=210)
    visit.one.document()["log"]["entries"].clear()
    visit.leave("crid=t7; Path=/; HttpOnly; Secure; Max-Age=120")
    visit.sign_in(230)
    visit.come_back(None, 403, shown=page("Session ended", "Begin again, please."))
    yield _export("54-chart-room-cookie-ended.har", visit.one)

    yield _export("55-weather-desk-loop.har", _loop(make, keys, eider))

    visit = Visit(make, "galley-orders", make.answer("galley-orders", petrel, 19, 15, 2))
    visit.leave("goid=p1; Path=/; HttpOnly")
    visit.sign_in(at=f"http://login.{HOME}/sign-in", passphrase="gull7-lantern")
    visit.come_back("goid=p1", 302, to=visit.app.base + "/orders", sets=("goid=p2; Path=/; HttpOnly; Secure",))
    visit.land("Orders", "goid=p2", "/orders")
    yield _export("56-galley-orders-password-in-clear.har", visit.one)

    yield _export("57-slip-booking-verifier.har", _own_redeeming(make, keys, gannet))

    first = Visit(make, "chart-room", make.answer("chart-room", plover, 20, 9, 10))
    first.leave("crid=a1; Path=/; HttpOnly; Secure")
    first.sign_in()
    first.come_back("crid=a1", 302, to=first.app.base + "/home", sets=("crid=a2; Path=/; HttpOnly; Secure",))
    first.land("Charts", "crid=a2")
    second = Visit(make, "ticket-desk", make.answer("ticket-desk", plover, 20, 9, 12, authenticated=-120), first.one)
    second.one.clock = second.answer.issued - timedelta(seconds=0.4)
    second.leave("tdid=b1; Path=/; HttpOnly; Secure")
    second.known()
    second.come_back("tdid=b1", 302, to=second.app.base + "/home", sets=("tdid=b2; Path=/; HttpOnly; Secure",))
    second.land("Desk", "tdid=b2")
    yield _export("58-chart-room-then-ticket-desk.har", first.one)

    visit = Visit(make, "quay-passes", make.answer("quay-passes", fulmar, 20, 10, 4), None)
    visit.sso = asked_in_address(visit.answer, PROVIDER_SSO, visit.request, "ss:mem:71c0", keys["quay-passes"])
    visit.leave("qpid=z4; Path=/; HttpOnly; Secure")
    visit.one.step("GET", visit.sso, 200, page=sign_in_page(SIGN_IN), noise=4)
    visit.one.pause(20.8)
    visit.one.step(
        "POST",
        SIGN_IN,
        403,
        body=urlencode({"account": fulmar}),
        referer=visit.sso,
        page=page("Access denied", "N-2207: nobody has assigned Quay Passes to you."),
    )
    yield _export("59-quay-passes-no-answer.har", visit.one)

    visit = Visit(make, "ticket-desk", make.answer("ticket-desk", plover, 20, 13, 25))
    visit.leave("tdid=c1; Path=/; HttpOnly; Secure")
    visit.sign_in()
    visit.come_back("tdid=c1", 302, to=visit.app.base + "/home", sets=("tdid=c2; Path=/; HttpOnly; Secure",))
    visit.one.step(
        "GET",
        visit.app.base + "/home",
        500,
        cookie="tdid=c2",
        referer=_ID + "/",
        page=page("Something went wrong", "Error T-118 while the counters were loaded."),
    )
    yield _export("60-ticket-desk-error-page.har", visit.one)

    visit = Visit(make, "ticket-desk", make.answer("ticket-desk", plover, 20, 14, 2, answers_request=False))
    portal = page("Your applications", "Ticket Desk, Chart Room")
    visit.one.step("GET", f"{_ID}/portal", 200, page=portal, cookie="nmsid=open", noise=4)
    visit.one.pause(20.8)
    visit.one.step(
        "GET",
        f"{_ID}/portal/open?to=ticket-desk",
        200,
        page=posting(visit.answer.acs_url, visit.fields),
        cookie="nmsid=open",
        referer=f"{_ID}/portal",
    )
    visit.come_back(None, 302, to=visit.app.base + "/home", sets=("tdid=d1; Path=/; HttpOnly; Secure",))
    visit.land("Desk", "tdid=d1")
    yield _export("61-ticket-desk-works-from-portal.har", visit.one)


def _export(file: str, recording: Recording) -> Capture:
    return Capture(file, recording.octets())


def _other_host(make: Maker, keys: dict[str, SigningKey], email: str) -> Recording:
    """Opened under an old name of the application: the redirect URI knows the new one only."""
    flow = CodeExchange(make.draw, keys, "slip-booking", email, 18, 17, 20)
    recording = Recording(flow.issued - timedelta(seconds=26))
    asked, came = flow.request(), flow.answer()
    recording.step(
        "GET", f"https://boats.{HOME}/", 302, to=asked, sets=("sbid=h3; Path=/; HttpOnly; Secure; SameSite=Lax",)
    )
    recording.step("GET", asked, 200, page=sign_in_page(SIGN_IN), noise=4)
    recording.pause(24)
    recording.step("POST", SIGN_IN, 302, to=came, body=urlencode({"account": email}), referer=asked, wait=0.3)
    recording.step(
        "GET", came, 400, page=page("Sign-in failed", "The state of this sign-in is not known here."), wait=0.05
    )
    return recording


def _loop(make: Maker, keys: dict[str, SigningKey], email: str) -> Recording:
    """The session cookie asks for SameSite=None and is not Secure: no browser takes it, and it goes round."""
    base, none = f"https://weather.{HOME}", None
    for number in range(4):
        flow = CodeExchange(make.draw, keys, "weather-desk", email, 19, 13, 40)
        none = none or Recording(flow.issued - timedelta(seconds=17.6))
        if number:
            flow.issued = none.clock + timedelta(seconds=0.1)
            amend(make.draw, flow.issued)
        asked, came = flow.request(), flow.answer()
        state = f"wdstate={number}x; Path=/; HttpOnly; Secure"
        none.step("GET", base + "/", 302, to=asked, sets=(state,), wait=0.05)
        if number == 0:
            none.step("GET", asked, 200, page=sign_in_page(SIGN_IN), noise=4)
            none.pause(17)
            none.step(
                "POST",
                SIGN_IN,
                302,
                to=came,
                body=urlencode({"account": email}),
                referer=asked,
                wait=0.3,
                sets=("nmsid=open; Path=/; HttpOnly; Secure",),
            )
        else:
            none.step("GET", asked, 302, to=came, cookie="nmsid=open", wait=0.08)
        none.step(
            "GET",
            came,
            302,
            to=base + "/",
            cookie=f"wdstate={number}x",
            wait=0.2,
            sets=("wdsid=w1; Path=/; HttpOnly; SameSite=None",),
        )
    if none is None:
        raise ValueError("a loop has at least one round")
    return none


def _own_redeeming(make: Maker, keys: dict[str, SigningKey], email: str) -> Recording:
    """A page that redeems the code by itself, with a verifier of another tab."""
    flow = CodeExchange(make.draw, keys, "slip-booking", email, 19, 7, 31)
    wrong = to_base64url(make.draw.randbytes(32))
    recording = Recording(flow.issued - timedelta(seconds=23))
    asked, came = flow.request(), flow.answer()
    base = f"https://slips.{HOME}"
    recording.step("GET", base + "/", 200, page=page("Slip Booking", "One moment."), noise=4)
    recording.step("GET", asked, 200, page=sign_in_page(SIGN_IN), referer=base + "/", noise=4, by_script=True)
    recording.pause(22)
    recording.step(
        "POST",
        SIGN_IN,
        302,
        to=came,
        body=urlencode({"account": email}),
        referer=asked,
        wait=0.3,
        sets=("nmsid=open; Path=/; HttpOnly; Secure",),
    )
    recording.step("GET", came, 200, page=page("Slip Booking", "One moment."))
    body = flow.redeem(code_verifier=wrong).partition("\n\n")[2]
    refusal: dict[str, Any] = {"error": "invalid_grant", "error_description": "the code cannot be redeemed"}
    recording.step(
        "POST",
        f"{_ID}/oidc/token",
        400,
        body=body,
        page=json.dumps(refusal),
        media="application/json",
        kind="fetch",
        referer=base + "/",
        by_script=True,
        sent={"Origin": base},
        wait=0.07,
        received={"Access-Control-Allow-Origin": base},
    )
    return recording
