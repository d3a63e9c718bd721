"""What the tests of whole captures build with: exports of sign-ins over both protocols, each part of which can be told."""

from __future__ import annotations

import base64
import json
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import urlencode

import oidc_kit
from kit import ACS, AUDIENCE, authn_request, posted, redirect, response
from trace_lens.demo.recording import Recording, page, posting, sign_in_page

START = datetime(2026, 11, 20, 8, 13, 30, tzinfo=UTC)
APP = "https://roster.northmere.example"
PROVIDER = "https://id.northmere.example"
ELSEWHERE = "https://sso.skerry-pilots.example"
SESSION = "rsid=a1b2; Path=/; HttpOnly; Secure; SameSite=None"
NEW = ("rsid=c3d4; Path=/; HttpOnly; Secure",)
HOME = page("My week", "Monday: early watch")
REFUSAL = page("Sign-in failed", "Your session was not found.")


def saml_trip(
    *,
    sets: tuple[str, ...] = (SESSION,),
    cookie: str | None = "rsid=a1b2",
    start: str = APP,
    back: str = ACS,
    provider: str = PROVIDER,
    wait: float = 20,
    status: int = 302,
    to: str | None = APP + "/home",
    after: tuple[str, ...] = NEW,
    shown: str | None = HOME,
    ends: str = "",
    message: dict[str, Any] | None = None,
    body: str = "account=m.tern",
    headers: dict[str, str] | None = None,
    recording: Recording | None = None,
    request: str = "_rq1",
    login: int = 200,
    login_page: str | None = None,
    login_headers: dict[str, str] | None = None,
    issuer: str = AUDIENCE,
) -> Recording:
    """A sign-in by SAML, started at the application. `sets` and `cookie` are what the application set on leaving and
    got on return; `after` what it set then, `shown` the page that followed. `ends` names the hop after which it ends.
    """
    one = recording or Recording(START)
    sso = redirect(authn_request(identifier=request, issuer=issuer), address=provider + "/saml/sso").decode()
    one.step("GET", start + "/", 302, to=sso, sets=sets)
    one.step("GET", sso, login, page=login_page or sign_in_page("/login"), noise=3, received=login_headers)
    if ends == "login":
        return one
    one.pause(wait)
    fields = posted(response(**{"request": request, **(message or {})}), RelayState="ss:4d1f").decode()
    form = posting(back, {"SAMLResponse": "x", "RelayState": "ss:4d1f"})
    one.step("POST", provider + "/login", 200, page=form, body=body, referer=sso, received=headers)
    if ends == "form":
        return one
    one.step(
        "POST",
        back,
        status,
        to=to if status == 302 else None,
        body=fields,
        referer=provider + "/",
        cookie=cookie,
        sets=after,
        page=None if status == 302 else shown,
    )
    if status == 302 and to:
        names = "; ".join(line.split(";")[0] for line in after)
        one.step("GET", to, 200, page=shown, cookie=names or cookie, referer=provider + "/", noise=2)
    return one


def saml_in_two_tabs(cookie: str = "rsid=e5f6") -> Recording:
    """A sign-in by SAML that a second tab overtakes: it replaces the cookie before the answer to the first is back."""
    one = saml_trip(ends="form")
    second = redirect(authn_request(identifier="_rq2"), address=PROVIDER + "/saml/sso").decode()
    one.step("GET", APP + "/", 302, to=second, sets=("rsid=e5f6; Path=/; HttpOnly; Secure; SameSite=None",))
    one.step("GET", second, 200, page=sign_in_page("/login"))
    fields = posted(response(request="_rq1"), RelayState="ss:4d1f").decode()
    one.step("POST", ACS, 403, body=fields, referer=PROVIDER + "/", cookie=cookie, page=REFUSAL)
    return one


def oidc_trip(
    *,
    sets: tuple[str, ...] = ("bsid=q1; Path=/; HttpOnly; Secure; SameSite=Lax",),
    cookie: str | None = "bsid=q1",
    start: str = "https://berths.northmere.example",
    begin: datetime | None = None,
    spa: bool = False,
    redeem_after: float = 0.2,
    shown: str | None = HOME,
    status: int = 302,
    after: tuple[str, ...] = ("bsid=q2; Path=/; HttpOnly; Secure",),
    recording: Recording | None = None,
    token_request: dict[str, str | None] | None = None,
    tokens: str | None = None,
    token_status: int = 200,
    error: str | None = None,
    login: int = 200,
    login_page: str | None = None,
    ends: str = "",
    **request: str | None,
) -> Recording:
    """A sign-in by OpenID Connect with a code; with `spa` the page itself redeems it."""
    one = recording or Recording(begin or datetime.fromtimestamp(oidc_kit.IAT - 30, UTC))
    asked = oidc_kit.request(**request)
    came = oidc_kit.answer(state=request.get("state", "s-1"))
    one.step("GET", start + "/", 302, to=asked, sets=sets)
    one.step("GET", asked, login, page=login_page or sign_in_page("/login"))
    if ends == "login":
        return one
    one.pause(28)
    one.step("POST", oidc_kit.ISSUER + "/login", 302, to=came, body="account=m.tern", referer=asked)
    if not spa:
        one.step(
            "GET",
            came,
            status,
            to=start + "/" if status == 302 else None,
            cookie=cookie,
            sets=after,
            page=None if status == 302 else shown,
        )
        if status == 302:
            one.step("GET", start + "/", 200, page=shown, cookie="bsid=q2")
        return one
    one.step("GET", came, 200, page=HOME, cookie=cookie)
    one.pause(redeem_after)
    one.step(
        "POST",
        oidc_kit.ISSUER + "/token",
        token_status,
        body=oidc_kit.token_request(**(token_request or {})),
        page=tokens or oidc_kit.token_response(),
        media="application/json",
        kind="fetch",
        by_script=True,
        referer=came,
        error=error,
    )
    return one


def har(recording: Recording, **changes: Any) -> bytes:
    """The export, its log changed as told."""
    document = recording.document()
    document["log"].update(changes)
    return json.dumps(document).encode()


def heads(recording: Recording, spelling: str) -> str:
    """The same trip as a dump of heads, in one of the spellings that people paste."""
    return "\n".join(
        _head(entry, spelling) for entry in recording.document()["log"]["entries"] if "_resourceType" in entry
    )


def _head(entry: dict[str, Any], spelling: str) -> str:
    asked, got = entry["request"], entry["response"]
    url = asked["url"]
    path = "/" + url.split("/", 3)[3]
    host = url.split("/")[2]
    sent = [f"{one['name']}: {one['value']}" for one in asked["headers"]]
    received = [f"{one['name']}: {one['value']}" for one in got["headers"]]
    body = asked.get("postData", {}).get("text", "")
    content = "" if got["content"].get("encoding") else got["content"]["text"]
    match spelling:
        case "plain":
            lines = [
                f"{asked['method']} {path} HTTP/1.1",
                *(sent or [f"Host: {host}"]),
                "",
                body,
                "",
                f"HTTP/1.1 {got['status']} Found",
                *received,
                "",
                content,
                "",
            ]
        case "marked":
            lines = [
                f"> {asked['method']} {path} HTTP/1.1",
                *(f"> {one}" for one in sent or [f"Host: {host}"]),
                ">",
                body,
                "",
                f"< HTTP/1.1 {got['status']} Found",
                *(f"< {one}" for one in received),
                "<",
                content,
                "",
            ]
        case "timed":
            stamp = entry["startedDateTime"]
            lines = [
                f"[{stamp}] {asked['method']} {url} HTTP/1.1",
                *(f"[{stamp}] {one}" for one in sent),
                f"[{stamp}] ",
                body,
                "",
                f"[{stamp}] HTTP/1.1 {got['status']}",
                *(f"[{stamp}] {one}" for one in received),
                f"[{stamp}] ",
                content,
                "",
            ]
        case "addressed":
            lines = [
                url,
                "",
                f"{asked['method']} {path} HTTP/1.1",
                *(sent or [f"Host: {host}"]),
                "",
                body,
                "",
                f"HTTP/1.x {got['status']} OK",
                *received,
                "",
                content,
                "-----",
            ]
        case "http2":
            pseudo = [f":method: {asked['method']}", f":authority: {host}", ":scheme: https", f":path: {path}"]
            lines = [
                *pseudo,
                *[one for one in sent if not one.startswith("Host")],
                "",
                body,
                "",
                f":status: {got['status']}",
                *received,
                "",
                content,
                "",
            ]
        case "paired":
            pairs = [f"Request URL\n{url}", f"Request Method\n{asked['method']}", f"Status Code\n{got['status']} Found"]
            lines = [
                *pairs,
                "Response Headers",
                *(one.replace(": ", "\n", 1) for one in received),
                "Request Headers",
                *(one.replace(": ", "\n", 1) for one in sent),
                "",
                body,
                "",
            ]
        case _:
            lines = [
                "General",
                f"Request URL: {url}",
                f"Request Method: {asked['method']}",
                f"Status Code: {got['status']} Found",
                "",
                "Response Headers",
                *received,
                "",
                "Request Headers",
                *sent,
                "",
                body,
                "",
            ]
    return "\n".join(lines)


def sanitised(recording: Recording) -> bytes:
    """The export as some panels write it by default: without cookies and without authorization."""
    document = recording.document()
    secret = ("cookie", "set-cookie", "authorization")
    for entry in document["log"]["entries"]:
        for side in ("request", "response"):
            entry[side]["headers"] = [one for one in entry[side]["headers"] if one["name"].lower() not in secret]
            entry[side]["cookies"] = []
    return json.dumps(document).encode()


def later(one: Recording, minutes: float) -> Recording:
    """The same browser, some time after."""
    one.clock += timedelta(minutes=minutes)
    return one


def encoded(text: str) -> str:
    """Base64, as some exports write bodies."""
    return base64.b64encode(text.encode()).decode()


def form(**fields: str) -> str:
    """A form's body."""
    return urlencode(fields)
