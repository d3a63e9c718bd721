"""What pages say after the answer came: whoever is refused there was not let in, whatever the status and the language."""

from __future__ import annotations

import json
import os
import tomllib
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

import pytest

import oidc_kit
from kit import run, workspace
from oidc_kit import client_workspace
from trace_lens.demo.recording import Recording, sign_in_page
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Diagnosis, Options
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.sources import SourceFile
from way_kit import APP, oidc_trip, saml_trip

PAGES = tomllib.loads(Path(__file__).with_name("pages.toml").read_text("utf-8"))
ENDINGS: dict[str, dict[str, Any]] = {
    "at the return": {"status": 200, "after": ()},
    "at the return, with a cookie": {"status": 200},
    "after a redirect": {},
    "after a redirect, without a cookie": {"after": ()},
}
if not os.environ.get("EVERY_CAPTURE"):
    del ENDINGS["at the return, with a cookie"], ENDINGS["after a redirect, without a cookie"]
    PAGES = {**PAGES, **{kind: PAGES[kind][::2] for kind in ("refuses", "works")}}
TRIPS = {"saml": (saml_trip, workspace), "oidc": (oidc_trip, client_workspace)}


@pytest.fixture(scope="module", params=TRIPS)
def protocol(request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory) -> Any:
    trip, made = TRIPS[request.param]
    return trip, load_workspace(made(tmp_path_factory.mktemp(request.param)))


def ended(protocol: Any, shown: str, **how: Any) -> Diagnosis:
    """The diagnosis of a sign-in that is good in all else and ends at a page."""
    trip, known = protocol
    source = SourceFile("x.har", trip(shown=shown, **how).octets())
    return diagnose_sources([source], known, Options(datetime(2026, 11, 22, tzinfo=UTC)), 1).diagnoses[-1]


def html(page: dict[str, str]) -> str:
    return f"<!DOCTYPE html><html><head><title>{page['title']}</title></head><body>{page['body']}</body></html>"


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_page_that_refuses_is_no_success(ending: str, protocol: Any) -> None:
    missed = {
        page["name"]: found.outcome
        for page in PAGES["refuses"]
        if (found := ended(protocol, html(page), **ENDINGS[ending])).outcome != "broken"
    }
    assert missed == {}


@pytest.mark.parametrize("ending", ENDINGS)
def test_a_page_that_works_is_no_refusal(ending: str, protocol: Any) -> None:
    """Also where it holds words of failures, of other things or for other people."""
    wrong = {
        page["name"]: found.first_break.code
        for page in PAGES["works"]
        if (found := ended(protocol, html(page), **ENDINGS[ending])).first_break
    }
    assert wrong == {}


@pytest.mark.parametrize(
    "text", ['{"error": "login_failed"}', '{"success": false, "message": "no"}', '{"errors": [4]}']
)
def test_an_error_in_json_that_the_browser_shows(text: str, protocol: Any) -> None:
    assert ended(protocol, text, status=200).outcome == "broken"


@pytest.mark.parametrize("text", ['{"error": null, "items": []}', '{"success": true}', '["error"]', "{error", "{}"])
def test_json_without_an_error(text: str, protocol: Any) -> None:
    assert ended(protocol, text, status=200).first_break is None


@pytest.mark.parametrize("page", PAGES["provider"], ids=lambda page: page["name"])
@pytest.mark.parametrize("status", [200, 400])
def test_where_the_provider_says_no(page: dict[str, str], status: int, protocol: Any) -> None:
    """By its words; a page that speaks of the person is no refusal of the request, whatever its status."""
    trip, known = protocol
    kind = "saml" if trip is saml_trip else "oidc"
    html = f"<!DOCTYPE html><html><head><title>Northmere ID</title></head><body>{page['body']}</body></html>"
    if kind == "saml":
        recording = saml_trip(login=status, login_page=html, ends="login")
    else:
        recording = oidc_trip(login=status, login_page=html, ends="login")
    (found,) = diagnose_sources(
        [SourceFile("x.har", recording.octets())], known, Options(datetime(2026, 11, 22, tzinfo=UTC)), 1
    ).diagnoses
    of_person = page["name"] in ("a locked account", "a policy")
    expected = page[kind] if status == 200 or page[kind] != "no-answer" or of_person else "request-rejected"
    assert found.first_break is not None
    assert found.first_break.code == expected


BESIDE = [
    '<a href="/login">Sign in with a different account</a>',
    '<p>Wrong account? <a href="/logout">Sign out</a> and try another account.</p>',
    "<p>Try clearing your cookies.</p>",
    "<p>Check that the clock of your computer is right.</p>",
    "<p>Contact your administrator.</p>",
    "<p>If you believe this is an error, contact support and quote your user name.</p>",
    "<p>Ask to be added to a group.</p>",
    "<footer>Digitally signed content. Certificate of quality ISO 9001.</footer>",
    "<p>Privacy notice. State of the service: all green.</p>",
    "<p>Is your account locked? Is your session expired? Read the help.</p>",
    "<p>We use cookies with your consent.</p>",
    '<nav><a href="/roles">Roles</a></nav>',
    "<h2>Popular destinations</h2><p>Destination Oslo</p>",
    "<p>For our audience at sea.</p>",
    "<p>Recipient of an award.</p>",
    "<p>Card issuer</p>",
]


@pytest.mark.parametrize("words", BESIDE)
@pytest.mark.parametrize("status, code", [(200, "session-not-started"), (403, "http-error")])
def test_what_stands_beside_a_refusal_is_no_reason(words: str, status: int, code: str, protocol: Any) -> None:
    """Links, advice, questions and words of other things name no reason for it."""
    body = f"<h1>Access denied</h1><p>You do not have access to it.</p>{words}"
    page = f"<!DOCTYPE html><html><head><title>Crew Roster</title></head><body>{body}</body></html>"
    found = ended(protocol, page, status=status, after=())
    assert found.first_break is not None
    assert found.first_break.code == code


REASONS = [
    ("Error: audience mismatch", "audience-mismatch"),
    ("Invalid issuer in token", "issuer-mismatch"),
    ("Your account has been disabled", "account-disabled"),
    ("No such user", "account-not-found"),
    ("You are signed in as a different user than expected", "other-user-answered"),
    ("Benutzer unbekannt", "account-not-found"),
    ("Votre compte est introuvable", "account-not-found"),
    ("Brukeren finnes ikke", "account-not-found"),
    ("Kontoen er sperret", "account-disabled"),
    ("La cuenta está desactivada", "account-disabled"),
]


@pytest.mark.parametrize("words, code", REASONS)
def test_a_reason_that_a_refusal_states_is_told(words: str, code: str, protocol: Any) -> None:
    body = f'<h1>Access denied</h1><p>{words}.</p><a href="/login">Sign in with another account</a>'
    page = f"<!DOCTYPE html><html><head><title>Crew Roster</title></head><body>{body}</body></html>"
    for shown in (page, json.dumps({"statusCode": 403, "error": "Forbidden", "message": words})):
        found = ended(protocol, shown, status=403, after=())
        assert found.first_break is not None
        assert found.first_break.code == code


LONG = "".join(f"<tr><td>{number}</td><td>Berth {number}, free from noon</td></tr>" for number in range(40))


@pytest.mark.parametrize(
    "head", ["No user found", "Invalid signature", "Missing attributes", "Request failed: 3", "Users"]
)
def test_headings_of_a_page_with_much_on_it(head: str, protocol: Any) -> None:
    body = f"<h1>Berths</h1><h2>{head}</h2><table>{LONG}</table>"
    page = f"<!DOCTYPE html><html><head><title>Berths</title></head><body>{body}</body></html>"
    assert ended(protocol, page).first_break is None


@pytest.mark.parametrize("head", ["Sign-in failed", "Anmeldung fehlgeschlagen", "Access denied"])
def test_headings_of_a_refusal_with_much_on_it(head: str, protocol: Any) -> None:
    page = f"<!DOCTYPE html><html><head><title>Berths</title></head><body><h1>{head}</h1><table>{LONG}</table></body></html>"
    assert ended(protocol, page).outcome == "broken"


def test_what_a_page_says_is_quoted_as_it_stands(tmp_path: Path) -> None:
    words = "There is no account for m.tern@northmere.example in https://roster.northmere.example/saml"
    page = f"<!DOCTYPE html><html><head><title>Crew Roster</title></head><body><p>{words}.</p></body></html>"
    source = SourceFile("x.har", saml_trip(status=403, after=(), shown=page).octets())
    known = load_workspace(workspace(tmp_path))
    (found,) = diagnose_sources([source], known, Options(datetime(2026, 11, 22, tzinfo=UTC)), 1).diagnoses
    assert found.first_break is not None
    assert words in found.first_break.detail


ADDRESSES = [
    ("/login?error=user_not_found", "account-not-found"),
    ("/login?reason=account_disabled", "account-disabled"),
    ("/login?error=access_denied&error_description=User+not+let+in", "session-not-started"),
    ("/error?error=login_failed&state=xyz", "session-not-started"),
    ("/error?error=InvalidAudience", "audience-mismatch"),
    ("/login?sso_error=Signature+validation+failed", "session-not-started"),
    ("/login?msg=Sign-in+failed", "session-not-started"),
    ("/home?error=0", None),
    ("/home?message=3+errors+in+your+report", None),
    ("/home?code=user_not_found_page", None),
    ("/login?returnTo=/home", None),
]


@pytest.mark.parametrize("address, code", ADDRESSES)
def test_what_an_application_tells_its_own_page(address: str, code: str | None, tmp_path: Path) -> None:
    """An error in the address that it sends the browser on to is its own word, and no answer of a provider."""
    page = "<!DOCTYPE html><html><head><title>Crew Roster</title></head><body><h1>Crew Roster</h1></body></html>"
    source = SourceFile("x.har", saml_trip(to=APP + address, after=(), shown=page).octets())
    known = load_workspace(workspace(tmp_path))
    (found,) = diagnose_sources([source], known, Options(datetime(2026, 11, 22, tzinfo=UTC)), 1).diagnoses
    assert (found.first_break.code if found.first_break else None) == code


HANDED_ON = [
    (401, '{"message": "no such user"}', (), "broken"),
    (500, "", (), "broken"),
    (200, '{"error": "login failed"}', (), "broken"),
    (200, '{"success": false, "message": "no"}', (), "broken"),
    (200, '{"status": "error"}', (), "broken"),
    (200, "{}", (), "inconclusive"),
    (200, '{"token": "abcdefabcdefabcdefabcdef"}', (), "sound"),
    (200, '{"user": "m.tern"}', ("sid=1; Path=/; HttpOnly; Secure",), "sound"),
]


@pytest.mark.parametrize("host", ["berths", "api"])
@pytest.mark.parametrize("status, answer, sets, outcome", HANDED_ON)
def test_a_page_that_hands_its_code_on(
    status: int, answer: str, sets: tuple[str, ...], outcome: str, host: str, tmp_path: Path
) -> None:
    """A single-page application whose server redeems the code: what that answers the page is how it ended."""
    shell = '<!DOCTYPE html><html><head><title>Berths</title></head><body><div id="root"></div></body></html>'
    trip = Recording(datetime.fromtimestamp(oidc_kit.IAT - 30, UTC))
    asked, came = oidc_kit.request(), oidc_kit.answer()
    trip.step("GET", asked, 200, page=sign_in_page("/login"))
    trip.step("POST", oidc_kit.ISSUER + "/login", 302, to=came, body="account=m.tern", referer=asked)
    trip.step("GET", came, 200, page=shell)
    code = parse_qs(urlsplit(came).query)["code"][0]
    trip.step(
        "POST",
        f"https://{host}.northmere.example/session",
        status,
        body=json.dumps({"code": code}),
        page=answer,
        media="application/json",
        kind="fetch",
        by_script=True,
        sets=sets,
    )
    source = SourceFile("x.har", trip.octets())
    known = load_workspace(client_workspace(tmp_path))
    (found,) = diagnose_sources([source], known, Options(datetime(2026, 11, 22, tzinfo=UTC)), 1).diagnoses
    assert found.outcome == outcome or (host == "api" and outcome == "sound" and found.outcome == "inconclusive")


def test_a_copy_of_a_refusal_refuses_too(tmp_path: Path) -> None:
    """Redaction leaves the words by which pages are read."""
    folder = workspace(tmp_path / "w")
    for page in PAGES["refuses"]:
        (folder / f"{page['name']}.har").write_bytes(saml_trip(shown=html(page), status=200, after=()).octets())
    done = run("redact", *(f"{page['name']}.har" for page in PAGES["refuses"]), "--output", "../copies", folder=folder)
    assert done.returncode == 0, done.stderr.decode()
    copies = sorted((tmp_path / "copies").glob("*.har"))
    sources = [SourceFile(copy.name, copy.read_bytes()) for copy in copies]
    found = diagnose_sources(sources, load_workspace(folder), Options(datetime(2026, 11, 22, tzinfo=UTC)), 1).diagnoses
    assert len(found) == len(PAGES["refuses"])
    assert {one.source: one.outcome for one in found if one.outcome != "broken"} == {}
