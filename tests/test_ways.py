"""Given this export of a browser and these settings, the finding is this; and what holds of every way."""

from __future__ import annotations

import gzip
import io
import json
import zipfile
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl

import pytest

import oidc_kit
from kit import (
    ACS,
    NOW,
    SLO,
    TERN,
    authn_request,
    broke,
    logout_request,
    posted,
    redirect,
    response,
    run_json,
    workspace,
)
from laws import contradictions
from oidc_kit import client_workspace
from trace_lens.common.findings import Side
from trace_lens.demo.recording import Recording, page, posting, sign_in_page
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile
from way_kit import (
    APP,
    ELSEWHERE,
    HOME,
    NEW,
    PROVIDER,
    REFUSAL,
    SESSION,
    START,
    encoded,
    form,
    har,
    heads,
    later,
    oidc_trip,
    saml_in_two_tabs,
    saml_trip,
    sanitised,
)

CLEAR = "http://roster.northmere.example/saml/acs"


def judged(data: bytes, folder: Path, app: str | None = None) -> list[Diagnosis]:
    """The diagnoses of one capture."""
    options = Options(NOW, app=app)
    return list(diagnose_sources([SourceFile("a.har", data)], load_workspace(folder), options, 1).diagnoses)


@dataclass(frozen=True)
class Row:
    """One row: an export, and what must come of it."""

    name: str
    data: bytes
    first: str | None = None
    codes: dict[str, str] = field(default_factory=dict)
    because: dict[str, str] = field(default_factory=dict)
    absent: tuple[str, ...] = ()
    unchecked: tuple[str, ...] = ()
    says: str = ""
    value: str | None = None
    side: str | None = None
    settings: dict[str, Any] = field(default_factory=dict)
    protocol: str = "saml"
    outcome: str | None = None


def row(name: str, recording: Recording | bytes, first: str | None = None, **more: Any) -> Row:
    return Row(name, recording if isinstance(recording, bytes) else har(recording), first, **more)


def lost(attributes: str, **more: Any) -> Recording:
    """A sign-in whose cookie, set with these attributes, does not come back."""
    return saml_trip(
        **{"sets": (f"rsid=a1b2; {attributes}",), "cookie": None, "status": 403, "shown": REFUSAL, "after": (), **more}
    )


def looping(rounds: int, **more: Any) -> Recording:
    """The same sign-in again and again, each time sent back by the application."""
    one = Recording(START)
    for number in range(1, rounds + 1):
        saml_trip(
            recording=one,
            request=f"_rq{number}",
            wait=0.3,
            to=APP + "/",
            message={"identifier": f"_as{number}"},
            **more,
        )
        entries = one.document()["log"]["entries"]
        while entries[-1]["request"]["url"] != ACS:
            entries.pop()
    return one


def with_clock(host: str, minutes: float) -> Recording:
    """A sign-in in which the server of one host has its clock off."""
    one = saml_trip()
    for entry in one.document()["log"]["entries"]:
        if host in entry["request"]["url"]:
            for header in entry["response"]["headers"]:
                if header["name"] == "Date":
                    moment = datetime.fromisoformat(entry["startedDateTime"]) + timedelta(minutes=minutes)
                    header["value"] = moment.strftime("%a, %d %b %Y %H:%M:%S GMT")
    return one


def password_by_call() -> Recording:
    """The provider's page sends the password by a script."""
    one = Recording(START)
    sso = redirect(authn_request()).decode()
    one.step("GET", APP + "/", 302, to=sso, sets=(SESSION,))
    one.step("GET", sso, 200, page=sign_in_page("/login"))
    one.pause(9)
    one.step(
        "POST",
        PROVIDER + "/api/begin",
        200,
        body='{"name": "m.tern", "password": "gull7-lantern"}',
        page='{"ok": true}',
        media="application/json",
        kind="fetch",
        referer=sso,
    )
    one.step(
        "POST",
        ACS,
        302,
        to=APP + "/home",
        body=posted(response()).decode(),
        referer=PROVIDER + "/",
        cookie="rsid=a1b2",
        sets=NEW,
    )
    one.step("GET", APP + "/home", 200, page=HOME, cookie="rsid=c3d4")
    return one


def discovering(issuer: str) -> Recording:
    """A page that fetches the discovery document, then redeems its own code."""
    one = Recording(datetime.fromtimestamp(oidc_kit.IAT - 60, UTC))
    document = {
        "issuer": issuer,
        "authorization_endpoint": oidc_kit.ISSUER + "/authorize",
        "jwks_uri": oidc_kit.ISSUER + "/keys",
        "token_endpoint": oidc_kit.ISSUER + "/token",
    }
    one.step("GET", "https://berths.northmere.example/", 200, page=HOME)
    one.step(
        "GET",
        f"{oidc_kit.ISSUER}/.well-known/openid-configuration",
        200,
        page=json.dumps(document),
        media="application/json",
        kind="fetch",
        referer="https://berths.northmere.example/",
    )
    return oidc_trip(recording=later(one, 0.5), spa=True)


def silent_then_alone() -> Recording:
    one = oidc_trip()
    later(one, 20)
    asked = oidc_kit.request(prompt="none", state="s-9", nonce="n-9", code_challenge="x" * 43)
    one.step(
        "GET",
        asked,
        302,
        to=oidc_kit.answer(code="other-code-here-1", state="s-9"),
        frame=True,
        by_script=True,
        referer="https://berths.northmere.example/",
    )
    one.step("GET", oidc_kit.answer(code="other-code-here-1", state="s-9"), 200, page="<p>ok</p>", frame=True)
    return one


ROWS = [
    # --- what works
    row("both sides fine", saml_trip(), absent=("outcome-unknown", "session-cookie-lost", "http-error")),
    row("an absent cookie that never was", saml_trip(sets=(), cookie=None)),
    row("SameSite told, and the same site", saml_trip(sets=("rsid=a1b2; Path=/; Secure; SameSite=Strict",))),
    row("two minutes of grace for posts", saml_trip(sets=("rsid=a1b2; Path=/; Secure",), provider=ELSEWHERE)),
    row(
        "a code, fine from both sides",
        oidc_trip(),
        protocol="oidc",
        absent=("outcome-unknown", "no-answer"),
        outcome="sound",
    ),
    row("a page that redeems its own code", oidc_trip(spa=True), protocol="oidc", absent=("no-answer",)),
    row(
        "cookies left out of the export",
        sanitised(lost("Path=/; SameSite=Strict", provider=ELSEWHERE)),
        "http-error",
        unchecked=("session-cookie-lost",),
    ),
    row("a cookie cleared on the way", saml_trip(sets=(SESSION, "old=; Path=/; Max-Age=0"))),
    row("a scrap of another cookie", saml_trip(sets=(SESSION, "tour=1; Path=/tour")), absent=("session-cookie-lost",)),
    # --- cookies: each cause
    row(
        "SameSite=Strict",
        lost("Path=/; Secure; SameSite=Strict", provider=ELSEWHERE),
        "session-cookie-lost",
        says="SameSite=Strict",
        value="SameSite=None; Secure",
        because={"http-error": "session-cookie-lost"},
        side="application",
    ),
    row(
        "SameSite=Lax",
        lost("Path=/; Secure; SameSite=Lax", provider=ELSEWHERE),
        "session-cookie-lost",
        says="SameSite=Lax",
        value="SameSite=None; Secure",
    ),
    row(
        "no SameSite, and too long at the provider",
        lost("Path=/; Secure", provider=ELSEWHERE, wait=200),
        "session-cookie-lost",
        says="counts as Lax",
        value="SameSite=None; Secure",
    ),
    row("another path", lost("Path=/app; Secure"), "session-cookie-lost", says="Path is /app", value="Path=/"),
    row("it ended meanwhile", lost("Path=/; Secure; Max-Age=60", wait=90), "session-cookie-lost", says="1 minute"),
    row(
        "it ended at a moment",
        lost("Path=/; Secure; Expires=Fri, 20 Nov 2026 08:13:45 GMT"),
        "session-cookie-lost",
        says="ended",
    ),
    row(
        "Secure, and the return over http",
        lost("Path=/; Secure", back=CLEAR, message={"destination": CLEAR, "recipient": CLEAR}),
        "session-cookie-lost",
        says="over http",
        codes={"insecure-transport": "risk"},
        settings={"app": {"application": {"acs_urls": [CLEAR, ACS]}}},
    ),
    row(
        "another host",
        lost("Path=/", start="https://crew.northmere.example"),
        "session-cookie-lost",
        says="crew.northmere.example",
        codes={"host-changed": "risk"},
        because={"host-changed": "session-cookie-lost"},
    ),
    row(
        "an address instead of a name",
        lost("Path=/", start="http://192.0.2.7"),
        "session-cookie-lost",
        codes={"host-changed": "risk"},
    ),
    row(
        "SameSite=None without Secure",
        lost("Path=/; SameSite=None"),
        "session-cookie-lost",
        says="only together with Secure",
    ),
    row("a public suffix", lost("Path=/; Domain=example"), "session-cookie-lost", says="public suffix"),
    row("another domain", lost("Path=/; Domain=quay.northmere.example"), "session-cookie-lost", says="does not cover"),
    row(
        "a prefix that demands more",
        saml_trip(sets=("__Host-rsid=a1; Path=/saml; Secure",), cookie=None, status=403, shown=REFUSAL, after=()),
        "session-cookie-lost",
        says="__Host-",
    ),
    row(
        "nothing keeps it back",
        lost("Path=/; Secure; SameSite=None"),
        "session-cookie-lost",
        says="the browser blocks it",
        side="user",
    ),
    row(
        "an older cookie hides it",
        saml_trip(cookie="rsid=old9", status=403, shown=REFUSAL, after=()),
        "session-cookie-lost",
        says="another value",
    ),
    row(
        "lost, and let in all the same",
        saml_trip(sets=("seen=1; Path=/; SameSite=Strict; Secure",), cookie=None, provider=ELSEWHERE),
        absent=("session-cookie-lost",),
        outcome="sound",
    ),
    row(
        "Lax and a code",
        oidc_trip(sets=("bsid=q1; Path=/; SameSite=Strict; Secure",), cookie=None, status=400, shown=REFUSAL, after=()),
        "session-cookie-lost",
        protocol="oidc",
    ),
    row(
        "another cookie that is lost beside the session",
        saml_trip(
            sets=("rsid=a1b2; Path=/; HttpOnly; Secure; SameSite=None", "lb=7; Path=/"),
            provider=ELSEWHERE,
            wait=200,
            status=403,
            shown=REFUSAL,
            after=(),
            message={"ends": "2026-11-20T08:39:03Z"},
        ),
        "http-error",
        codes={"session-cookie-lost": "risk"},
    ),
    row(
        "the session lost beside another cookie",
        saml_trip(
            sets=("rsid=a1b2; Path=/; Secure; SameSite=Strict", "lang=en; Path=/; SameSite=None; Secure"),
            provider=ELSEWHERE,
            cookie="lang=en",
            status=403,
            shown=REFUSAL,
            after=(),
        ),
        "session-cookie-lost",
    ),
    # --- the way
    row(
        "back at a sign-in page of its own",
        saml_trip(to=APP + "/welcome", shown=sign_in_page("/local"), after=("lang=en; Path=/",)),
        "session-not-started",
        says="shows a sign-in form",
    ),
    row(
        "nothing tells how it ended",
        saml_trip(to=APP + "/login?e=1", shown="", after=("lang=en; Path=/",)),
        codes={"outcome-unknown": "note"},
    ),
    row("a password in a call of the page", password_by_call(), codes={"credentials-in-clear": "risk"}),
    row("no answer: left at the form", saml_trip(ends="login"), "no-answer", says="Sign in", side="user"),
    row(
        "no answer: an error page",
        saml_trip(ends="login", login=200, login_page=page("Access denied", "Ask your desk.")),
        "no-answer",
        says="Access denied",
        side="provider",
    ),
    row(
        "an error of the provider",
        saml_trip(ends="login", login=500, login_page=page("Oops", "Trace 77")),
        "no-answer",
        because={"http-error": "no-answer"},
        side="provider",
        says="Oops",
    ),
    row("never handed over", saml_trip(ends="form"), "no-answer"),
    row(
        "an error page of the application",
        saml_trip(status=500, shown=page("Not provisioned", "No account here."), after=()),
        "account-not-found",
        says="No account here",
        because={"http-error": "account-not-found"},
    ),
    row(
        "an error page that says nothing",
        saml_trip(status=500, shown=page("Oops", "Call the desk."), after=()),
        "http-error",
        says="Oops",
        side="application",
        because={"session-not-started": "http-error"},
    ),
    row(
        "http-error explained by the message",
        saml_trip(status=403, shown=REFUSAL, after=(), message={"recipient": ACS + "x"}),
        "recipient-mismatch",
        because={"http-error": "recipient-mismatch"},
    ),
    row(
        "gone round without a cookie",
        looping(3, sets=(), cookie=None, after=(), headers={"Set-Cookie": "nid=7; Path=/"}),
        "session-not-started",
        because={"redirect-loop": "session-not-started"},
        says="set no cookie",
    ),
    row(
        "gone round, a cookie that no browser takes",
        looping(3, sets=(), cookie=None, after=("rsid=c; Path=/; SameSite=None",)),
        "session-not-started",
        because={"redirect-loop": "session-not-started"},
        says="only together with Secure",
        value="Secure",
    ),
    row(
        "a loop whose first cookie is lost",
        looping(2, sets=("rsid=a1b2; Path=/x",), cookie=None, after=()),
        "session-cookie-lost",
        because={"redirect-loop": "session-cookie-lost"},
    ),
    row(
        "a password over http",
        saml_trip(provider="http://id.northmere.example", body=form(account="m.tern", passphrase="gull7-lantern")),
        codes={"credentials-in-clear": "risk", "insecure-transport": "risk"},
        says="",
    ),
    row(
        "a password in the capture",
        saml_trip(body=form(account="m.tern", passphrase="gull7-lantern")),
        codes={"credentials-in-clear": "risk"},
        side=None,
    ),
    row("an address too long", oidc_trip(state="s" * 9000), codes={"message-in-url-too-long": "risk"}, protocol="oidc"),
    row(
        "posted elsewhere",
        saml_trip(back="https://roster.northmere.example/saml/acs2", status=404, shown=REFUSAL, after=()),
        "destination-mismatch",
    ),
    row(
        "posted elsewhere, and taken",
        saml_trip(back="https://roster.northmere.example/saml/acs2"),
        outcome="sound",
        codes={"destination-mismatch": "risk", "application-too-lenient": "risk"},
    ),
    row(
        "a short session",
        saml_trip(after=("rsid=c3d4; Path=/; HttpOnly; Secure; Max-Age=300",)),
        codes={"session-ends-early": "risk"},
    ),
    row(
        "form-action",
        saml_trip(ends="form", headers={"Content-Security-Policy": "default-src 'self'; form-action 'self'"}),
        "blocked-by-browser",
        says="form-action",
        because={"no-answer": "blocked-by-browser"},
        side="provider",
    ),
    row(
        "form-action that allows it",
        saml_trip(headers={"Content-Security-Policy": "form-action 'self' https://*.northmere.example"}),
        absent=("blocked-by-browser",),
    ),
    row(
        "cross-origin rules",
        oidc_trip(spa=True, token_status=0, error="net::ERR_FAILED (CORS)", tokens=" "),
        "blocked-by-browser",
        protocol="oidc",
        says="cross-origin",
    ),
    row("a code redeemed late", oidc_trip(spa=True, redeem_after=700), codes={"code-too-old": "risk"}, protocol="oidc"),
    row(
        "a code redeemed too late",
        oidc_trip(spa=True, redeem_after=700, token_status=400, tokens='{"error": "invalid_grant"}'),
        "code-too-old",
        protocol="oidc",
        because={"token-request-refused": "code-too-old"},
    ),
    row(
        "the verifier does not fit",
        oidc_trip(
            spa=True, token_status=400, tokens='{"error": "invalid_grant"}', token_request={"code_verifier": "x" * 43}
        ),
        "code-verifier-mismatch",
        protocol="oidc",
    ),
    row("the clock of the application is ahead", with_clock("roster", 4), codes={"clock-offset": "risk"}),
    row("clocks that differ by little", with_clock("roster", 1), absent=("clock-offset",)),
    row(
        "a discovery document of another place",
        discovering("https://id.skerry-pilots.example"),
        "discovery-issuer-mismatch",
        protocol="oidc",
    ),
    row(
        "a discovery document of its own place",
        discovering(oidc_kit.ISSUER),
        protocol="oidc",
        absent=("discovery-issuer-mismatch",),
    ),
    row(
        "it shows a refusal",
        saml_trip(shown=page("Access denied", "You have no role here.")),
        "session-not-started",
        says="Access denied",
    ),
    row("two tabs", saml_in_two_tabs(), "response-to-unknown-request", side=Side.USER, says="at the same time"),
    row(
        "two tabs, and the first one's cookie came",
        saml_in_two_tabs("rsid=a1b2"),
        "http-error",
        absent=("response-to-unknown-request",),
    ),
    row("a silent renewal in a frame", silent_then_alone(), protocol="oidc"),
]


@pytest.mark.parametrize("one", ROWS, ids=lambda one: one.name)
def test_the_way(one: Row, tmp_path: Path) -> None:
    folder = (
        workspace(tmp_path, **one.settings) if one.protocol == "saml" else client_workspace(tmp_path, **one.settings)
    )
    found = judged(one.data, folder)[0]
    assert broke(found) == one.first, [(each.code, each.detail) for each in found.findings]
    codes = {each.code: each for each in found.findings}
    for code, severity in one.codes.items():
        assert codes[code].severity == severity
    for code, cause in one.because.items():
        assert codes[code].because_of == cause
    assert not set(one.absent) & codes.keys()
    assert set(one.unchecked) <= {each.code for each in found.unchecked}
    first = found.first_break
    if first:
        assert one.says in first.detail
        assert one.side in (None, first.side)
        assert one.value in (None, first.value_to_set)
    assert one.outcome in (None, found.outcome)
    assert found.judged.at_from == "capture"
    assert contradictions(found) == []


@pytest.mark.parametrize("one", ROWS, ids=lambda one: one.name)
def test_what_holds_of_every_way(one: Row, tmp_path: Path) -> None:
    """Hops stand in order, the first break is marked on one, and nothing secret is in the JSON."""
    folder = (
        workspace(tmp_path, **one.settings) if one.protocol == "saml" else client_workspace(tmp_path, **one.settings)
    )
    (folder / "a.har").write_bytes(one.data)
    _, document = run_json("diagnose", "a.har", folder=folder)
    attempt = document["attempts"][0]
    hops = attempt["hops"]
    assert [hop["number"] for hop in hops] == list(range(1, len(hops) + 1))
    after = [hop["after"] for hop in hops]
    assert after == sorted(after)
    if attempt["first_break"]:
        named = any(
            item["where"].startswith("entry ")
            for each in attempt["findings"]
            if each["code"] == attempt["first_break"]
            for item in each["evidence"]
        )
        assert not named or any(hop["broken"] == attempt["first_break"] for hop in hops)
    text = json.dumps(document)
    for secret in ("a1b2", "c3d4", "gull7-lantern", "SplxlOBeZQQYbYS6WxSbIA", "old9"):
        assert secret not in text


def test_the_moment_is_when_the_answer_arrived(tmp_path: Path) -> None:
    found = judged(har(saml_trip(wait=1000, status=403, shown=REFUSAL, after=())), workspace(tmp_path))[0]
    assert broke(found) == "expired"
    assert found.at is not None
    assert found.at - START > timedelta(seconds=1000)


def test_delivered_twice(tmp_path: Path) -> None:
    one = saml_trip()
    again = next(entry for entry in one.document()["log"]["entries"] if entry["request"]["url"] == ACS)
    one.document()["log"]["entries"].append({**again, "startedDateTime": "2026-11-20T08:15:00.000Z"})
    found = judged(har(one), workspace(tmp_path))
    assert len(found) == 1
    assert {each.code for each in found[0].findings} >= {"replayed-message"}


def test_several_attempts_in_one_export(tmp_path: Path) -> None:
    """A sign-in, a second one later, a logout between: each is an attempt of its own, with its own hops."""
    one = saml_trip()
    later(one, 5)
    saml_trip(recording=one, request="_rq2", message={"identifier": "_as2"})
    found = judged(har(one), workspace(tmp_path))
    assert [broke(each) for each in found] == [None, None]
    places = [{step.place for step in each.details.steps} for each in found]
    assert not places[0] & places[1]
    assert [len(each.details.steps) for each in found] == [5, 5]


def test_a_silent_renewal_is_an_attempt_of_its_own(tmp_path: Path) -> None:
    found = judged(har(silent_then_alone()), client_workspace(tmp_path))
    assert [(broke(each), len(each.details.steps)) for each in found] == [(None, 5), (None, 2)]
    assert [step.frame for step in found[1].details.steps] == [True, True]


def test_started_at_the_provider(tmp_path: Path) -> None:
    one = Recording(START)
    one.step("GET", PROVIDER + "/portal", 200, page=page("Your applications", "Crew Roster"))
    one.pause(30)
    whole = saml_trip(message={"request": None}).document()["log"]["entries"]
    for entry in [
        each for each in whole if each["request"]["method"] == "POST" or each["request"]["url"].endswith("/home")
    ]:
        one.document()["log"]["entries"].append(entry)
    found = judged(har(one), workspace(tmp_path))[0]
    assert (found.parties.started_by, broke(found)) == ("provider", None)
    assert found.details.steps[0].side == "provider"


def test_hops_without_any_message(tmp_path: Path) -> None:
    one = Recording(START)
    one.step("GET", APP + "/", 503, page=page("Service unavailable", "Come back later."))
    found = judged(har(one), workspace(tmp_path))[0]
    assert (found.app, broke(found)) == ("crew-roster", "http-error")
    assert "Service unavailable" in found.cause


@pytest.mark.parametrize("status", [400, 403, 500, 503])
def test_an_error_page_after_a_session_does_not_tell_how_it_ended(status: int, tmp_path: Path) -> None:
    one = saml_trip(shown=page("My week", "Monday"))
    last = one.document()["log"]["entries"]
    next(each for each in last if each["request"]["url"] == APP + "/home")["response"]["status"] = status
    found = judged(har(one), workspace(tmp_path))[0]
    assert (found.outcome, broke(found)) == ("broken", "http-error")
    told = {each.code: each.because for each in found.unchecked}
    assert str(status) in told["session-not-started"]


SPELLINGS = ("plain", "marked", "timed", "addressed", "http2", "listed", "paired")


@pytest.mark.parametrize("spelling", SPELLINGS)
def test_header_dumps(spelling: str, tmp_path: Path) -> None:
    text = heads(lost("Path=/; Secure; SameSite=Strict", provider=ELSEWHERE), spelling)
    found = judged(text.encode(), workspace(tmp_path))
    assert [broke(each) for each in found] == ["session-cookie-lost"]
    assert [(step.request.method, step.answer.status) for step in found[0].details.steps] == [
        ("GET", 302),
        ("GET", 200),
        ("POST", 200),
        ("POST", 403),
    ]


def test_the_order_of_entries_changes_nothing(tmp_path: Path) -> None:
    one = saml_trip()
    entries = one.document()["log"]["entries"]
    folder = workspace(tmp_path)
    there = judged(har(one), folder)[0]
    back = judged(har(one, entries=entries[::-1]), folder)[0]
    assert [step.request.url for step in there.details.steps] == [step.request.url for step in back.details.steps]
    assert [each.code for each in there.findings] == [each.code for each in back.findings]


def packed(data: bytes) -> bytes:
    held = io.BytesIO()
    with zipfile.ZipFile(held, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("network.har", data)
    return held.getvalue()


@pytest.mark.parametrize(
    "pack", [gzip.compress, packed, lambda data: b"\xef\xbb\xbf" + data], ids=["gzip", "zip", "BOM"]
)
def test_packed_exports(pack: Any, tmp_path: Path) -> None:
    found = judged(pack(har(saml_trip())), workspace(tmp_path))
    assert [broke(each) for each in found] == [None]


def test_a_cut_export_gives_what_is_whole(tmp_path: Path) -> None:
    whole = har(saml_trip())
    found = judged(whole[: len(whole) - 900], workspace(tmp_path))[0]
    told = [each for each in found.findings if each.code == "capture-truncated"]
    assert [(each.severity, "breaks off in entry" in each.detail) for each in told] == [("risk", True)]
    early = judged(whole[: len(whole) // 3], workspace(tmp_path))[0]
    assert broke(early) == "capture-truncated"


WRONG = [
    ("no entries", b'{"log": {"version": "1.2", "entries": []}}', "without entries"),
    ("another log", b'{"log": {"lines": [1, 2]}}', "without entries"),
    ("cut before an entry", b'{"log": {"entries": [{"request": {"url": "https://a.example/', "breaks off"),
    ("two in one archive", b"PK\x03\x04" + bytes(26) + b"a.har" + bytes(40), "ZIP"),
    (
        "images only",
        json.dumps(
            {
                "log": {
                    "entries": [
                        {
                            "request": {"url": "https://a.example/x.png", "method": "GET"},
                            "response": {"status": 200},
                            "_resourceType": "image",
                        }
                    ]
                }
            }
        ).encode(),
        "no message of a sign-in",
    ),
]


@pytest.mark.parametrize(("name", "data", "words"), WRONG, ids=[one[0] for one in WRONG])
def test_what_is_no_export(name: str, data: bytes, words: str, tmp_path: Path) -> None:
    (workspace(tmp_path) / "a.har").write_bytes(data)
    status, document = run_json("diagnose", "a.har", folder=tmp_path)
    assert status == 3
    assert words in document["unreadable"][0]["because"]


def changed(**entry: Any) -> bytes:
    """An export whose first entry lacks or has other members."""
    one = saml_trip()
    first = one.document()["log"]["entries"][0]
    for path, value in entry.items():
        holder, _, name = path.rpartition("__")
        target = first[holder] if holder else first
        if value is None:
            target.pop(name, None)
        else:
            target[name] = value
    return har(one)


ODD = {
    "no times": {"startedDateTime": None, "time": None, "timings": None},
    "no zone": {"startedDateTime": "2026-11-20T08:13:30.000"},
    "numbers as texts": {"response__status": "302"},
    "headers as an object": {"response__headers": {"Set-Cookie": SESSION}},
    "no response headers, a list of cookies": {
        "response__headers": [],
        "response__cookies": [
            {"name": "rsid", "value": "a1b2", "path": "/", "secure": True, "httpOnly": True, "sameSite": "None"}
        ],
    },
    "no content": {"response__content": None},
    "no initiator": {"_initiator": None},
    "no cache": {"cache": None, "pageref": None},
}


@pytest.mark.parametrize("name", ODD)
def test_members_that_browsers_leave_out(name: str, tmp_path: Path) -> None:
    found = judged(changed(**ODD[name]), workspace(tmp_path))
    assert [broke(each) for each in found] == [None]
    assert len(found[0].details.steps) == 5


def without_private_members(entry: dict[str, Any]) -> None:
    """As browsers write it that add no members of their own and send no fetch metadata."""
    for name in [name for name in entry if name.startswith("_")]:
        del entry[name]
    entry["request"]["headers"] = [one for one in entry["request"]["headers"] if not one["name"].startswith("Sec-")]


def with_lists_of_cookies(entry: dict[str, Any]) -> None:
    """Cookies as lists only, as some exports have them."""
    without_private_members(entry)
    asked, got = entry["request"], entry["response"]
    pairs = next((one["value"] for one in asked["headers"] if one["name"] == "Cookie"), "")
    asked["cookies"] = [
        dict(zip(("name", "value"), pair.split("="), strict=True)) for pair in pairs.split("; ") if pair
    ]
    asked["headers"] = [one for one in asked["headers"] if one["name"] != "Cookie"]
    lines = [one["value"] for one in got["headers"] if one["name"] == "Set-Cookie"]
    got["headers"] = [one for one in got["headers"] if one["name"] != "Set-Cookie"]
    got["cookies"] = [cookie_of(line) for line in lines]


def cookie_of(line: str) -> dict[str, Any]:
    pair, *told = line.split("; ")
    name, _, value = pair.partition("=")
    attributes = dict(one.partition("=")[::2] for one in told)
    made: dict[str, Any] = {
        "name": name,
        "value": value,
        "path": attributes.get("Path", "/"),
        "secure": "Secure" in attributes,
    }
    return made | ({"sameSite": attributes["SameSite"]} if "SameSite" in attributes else {})


def with_small_headers(entry: dict[str, Any]) -> None:
    """Names of header fields in small letters, several Set-Cookie fields in one, as HTTP/2 captures have them."""
    for side in ("request", "response"):
        for one in entry[side]["headers"]:
            one["name"] = one["name"].lower()
    set_cookies = [one["value"] for one in entry["response"]["headers"] if one["name"] == "set-cookie"]
    if set_cookies:
        rest = [one for one in entry["response"]["headers"] if one["name"] != "set-cookie"]
        entry["response"]["headers"] = [*rest, {"name": "set-cookie", "value": "\n".join(set_cookies)}]


def without_redirects_told(entry: dict[str, Any]) -> None:
    """No redirectURL, no referrers: only the Location field and the times lead on."""
    without_private_members(entry)
    entry["response"].pop("redirectURL")
    entry["request"]["headers"] = [one for one in entry["request"]["headers"] if one["name"] != "Referer"]


STYLES = (without_private_members, with_lists_of_cookies, with_small_headers, without_redirects_told)
TOLD = (
    "both sides fine",
    "SameSite=Lax",
    "another path",
    "another host",
    "gone round without a cookie",
    "an error page of the application",
    "a code, fine from both sides",
    "SameSite=None without Secure",
)


@pytest.mark.parametrize("style", STYLES, ids=lambda style: style.__name__)
@pytest.mark.parametrize("name", TOLD)
def test_every_browser_writes_it_in_its_own_way(
    name: str, style: Callable[[dict[str, Any]], None], tmp_path: Path
) -> None:
    """What is judged does not depend on what a browser adds or leaves out."""
    one = next(each for each in ROWS if each.name == name)
    folder = (
        workspace(tmp_path, **one.settings) if one.protocol == "saml" else client_workspace(tmp_path, **one.settings)
    )
    document = json.loads(one.data)
    for entry in document["log"]["entries"]:
        style(entry)
    found = judged(json.dumps(document).encode(), folder)
    assert [broke(each) for each in found] == [one.first]
    assert len(found[0].details.steps) == len(judged(one.data, folder)[0].details.steps)


def test_pseudo_header_fields_stand_for_an_address(tmp_path: Path) -> None:
    one = saml_trip()
    first = one.document()["log"]["entries"][0]["request"]
    first["headers"] = [
        {"name": ":authority", "value": "roster.northmere.example"},
        {"name": ":path", "value": "/"},
        {"name": ":scheme", "value": "https"},
    ]
    del first["url"]
    assert len(judged(har(one), workspace(tmp_path))[0].details.steps) == 5


def test_an_internationalised_host(tmp_path: Path) -> None:
    """The cookie goes to the same host, however it is written (RFC 5890)."""
    one = lost("Path=/; Secure", start="https://fähre.example")
    found = judged(har(one), workspace(tmp_path))[0]
    assert any(step.request.host == "xn--fhre-loa.example" for step in found.details.steps)


def test_a_form_that_nobody_sent_is_told_apart_from_one_that_was(tmp_path: Path) -> None:
    answer = posting(ACS, {"SAMLResponse": "x"})
    one = Recording(START)
    one.step("GET", PROVIDER + "/saml/start", 200, page=answer)
    found = judged(har(one), workspace(tmp_path), "crew-roster")
    assert [broke(each) for each in found] == ["no-answer"]


def test_identical_rounds_are_one_attempt(tmp_path: Path) -> None:
    """A loop whose rounds are the same to the last octet is still one attempt, and no replay."""
    one = looping(1, sets=("rsid=a1; Path=/x",), cookie=None, after=())
    round_ = [entry for entry in one.document()["log"]["entries"] if "_resourceType" in entry]
    entries = []
    for number in range(3):
        for entry in round_:
            moment = datetime.fromisoformat(entry["startedDateTime"]) + timedelta(seconds=3 * number)
            entries.append({**entry, "startedDateTime": moment.isoformat()})
    found = judged(har(one, entries=entries), workspace(tmp_path))
    assert [broke(each) for each in found] == ["session-cookie-lost"]
    codes = {each.code: each.because_of for each in found[0].findings}
    assert codes["redirect-loop"] == "session-cookie-lost"
    assert "replayed-message" not in codes


def test_a_body_that_was_left_out_is_no_lost_answer(tmp_path: Path) -> None:
    one = saml_trip()
    for entry in one.document()["log"]["entries"]:
        entry["request"].pop("postData", None)
        entry["response"]["content"].pop("text", None)
    found = judged(har(one), workspace(tmp_path))[0]
    assert broke(found) is None
    assert "content of requests" in next(each.because for each in found.unchecked if each.code == "no-answer")


def test_bodies_in_base64_are_read_as_they_are(tmp_path: Path) -> None:
    one = saml_trip()
    for entry in one.document()["log"]["entries"]:
        content = entry["response"]["content"]
        if "encoding" not in content:
            content.update(text=encoded(content["text"]), encoding="base64")
        if "postData" in entry["request"]:
            entry["request"]["postData"].update(text=encoded(entry["request"]["postData"]["text"]), encoding="base64")
    found = judged(har(one), workspace(tmp_path))[0]
    assert (broke(found), [step.how for step in found.details.steps]) == (
        None,
        ["start", "redirect", "person", "form", "redirect"],
    )


def test_posted_fields_as_a_list(tmp_path: Path) -> None:
    one = saml_trip()
    for entry in one.document()["log"]["entries"]:
        posted_data = entry["request"].get("postData")
        if posted_data:
            posted_data["params"] = [
                {"name": name, "value": value} for name, value in parse_qsl(posted_data.pop("text"))
            ]
    assert broke(judged(har(one), workspace(tmp_path))[0]) is None


def test_a_clock_that_goes_backwards_does_not_turn_the_way_around(tmp_path: Path) -> None:
    one = saml_trip()
    one.document()["log"]["entries"][1]["startedDateTime"] = "2026-11-20T08:10:00.000Z"
    found = judged(har(one), workspace(tmp_path))[0]
    assert [step.answer.status for step in found.details.steps] == [302, 200, 200, 302, 200]


def test_a_sign_out_between_two_sign_ins(tmp_path: Path) -> None:
    one = saml_trip()
    later(one, 2)
    asked = redirect(logout_request(), signer="id", address=SLO, field="SAMLRequest").decode()
    one.step("GET", PROVIDER + "/saml/out", 302, to=asked)
    one.step("GET", asked, 200, page=page("Signed out", "Until next time."))
    later(one, 2)
    saml_trip(recording=one, request="_rq2", message={"identifier": "_as2"})
    found = judged(har(one), workspace(tmp_path))
    assert [each.app for each in found] == ["crew-roster", "crew-roster"]
    assert any("saml-logout-request" in step.request.carries for step in found[0].details.steps)


def test_an_address_alone_may_be_too_long_too(tmp_path: Path) -> None:
    found = judged(oidc_kit.request(state="s" * 9000).encode(), client_workspace(tmp_path))[0]
    assert "message-in-url-too-long" in {each.code for each in found.findings}


def test_one_provider_page_for_two_tabs(tmp_path: Path) -> None:
    """Two sign-ins that run into each other keep to their own hops."""
    left, right = saml_trip(), saml_trip(request="_rq2", message={"identifier": "_as2"})
    entries = [
        entry
        for pair in zip(left.document()["log"]["entries"], right.document()["log"]["entries"], strict=True)
        for entry in pair
    ]
    found = judged(har(left, entries=entries), workspace(tmp_path))
    assert len(found) == 2
    places = [{step.place for step in each.details.steps if step.request.carries} for each in found]
    assert not places[0] & places[1]


def test_the_subject_and_the_claims_come_from_the_export(tmp_path: Path) -> None:
    found = judged(har(saml_trip()), workspace(tmp_path))[0]
    assert found.subject == TERN
    assert [row.name for row in found.details.claims] == ["role"]
    assert HOME
    assert sign_in_page("/login").count("<form") == 1


@pytest.mark.parametrize(
    ("path", "sent", "hidden"),
    [("/saml", "old0old0old0old0", True), ("/", "new1new1new1new1", False), ("/saml", None, False)],
)
def test_an_older_cookie_of_the_same_name_is_named(tmp_path: Path, path: str, sent: str | None, hidden: bool) -> None:
    """A loop in which the application goes by an old cookie: headline and repair name it, and its new one's path."""
    one = looping(3, sets=(), cookie=None, after=(f"appsid=new1new1new1new1; Path={path}; HttpOnly; Secure",))
    document = one.document()
    for entry in document["log"]["entries"]:
        if sent and entry["request"]["method"] == "GET" and entry["request"]["url"] == APP + "/":
            entry["request"]["headers"].append({"name": "Cookie", "value": f"appsid={sent}"})
    (tmp_path / "a.har").write_text(json.dumps(document))
    (attempt,) = run_json("diagnose", "a.har", folder=workspace(tmp_path))[1]["attempts"]
    told = attempt["cause"]
    assert ("an older cookie of the name appsid" in told) is hidden
    if hidden:
        (found,) = [item for item in attempt["findings"] if item["code"] == "session-not-started"]
        assert found["value_to_set"] == "Path=/"
        assert "Delete the cookies" in found["remedy"]
