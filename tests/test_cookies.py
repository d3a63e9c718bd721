"""The cookie store: what browsers take, and what they send (RFC 6265 and rfc6265bis)."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from publicsuffixlist import PSLFILE, PublicSuffixList

from trace_lens.attempts.cookies import (
    Cookie,
    CookieStore,
    Refused,
    default_path,
    domain_matches,
    is_cleared,
    kept_back,
    path_matches,
    read_date,
    read_set_cookie,
    same_site,
    site_of,
)
from trace_lens.intake.exchanges import Exchange

AT = datetime(2026, 11, 20, 8, 0, tzinfo=UTC)
HERE = "https://roster.northmere.example/saml/start"


def setting(line: str, url: str = HERE, at: datetime = AT) -> Exchange:
    return Exchange(
        number=1,
        place="entry 1",
        method="GET",
        url=url,
        status=302,
        at=at,
        seconds=0.1,
        sent=(),
        received=(("Set-Cookie", line),),
    )


def asking(
    url: str = "https://roster.northmere.example/saml/acs", method: str = "GET", after: float = 10, **more: object
) -> Exchange:
    frame = bool(more.pop("frame", False))
    sent = tuple((name.replace("_", "-"), str(value)) for name, value in more.items())
    return Exchange(
        number=2,
        place="entry 2",
        method=method,
        url=url,
        status=200,
        at=AT + timedelta(seconds=after),
        seconds=0.1,
        sent=sent,
        frame=frame,
    )


def cookie(line: str, url: str = HERE) -> Cookie:
    read = read_set_cookie(line, setting(line, url))
    assert isinstance(read, Cookie), read
    return read


REFUSED = [
    ("a=1; SameSite=None", HERE, "only together with Secure"),
    ("a=1; Secure", "http://roster.northmere.example/", "came over http"),
    ("a=1; Domain=example", HERE, "public suffix"),
    ("a=1; Domain=other.example", HERE, "does not cover"),
    ("a=1; Domain=deep.roster.northmere.example", HERE, "does not cover"),
    ("__Secure-a=1", HERE, "__Secure-"),
    ("__Host-a=1; Secure; Path=/x", HERE, "__Host-"),
    ("__Host-a=1; Secure; Path=/; Domain=northmere.example", HERE, "__Host-"),
    ("a=1; Partitioned", HERE, "Partitioned"),
    ("a=" + "x" * 5000, HERE, "4,096"),
    ("=", HERE, "neither"),
    ("a=\x01", HERE, "control character"),
]


@pytest.mark.parametrize(("line", "url", "words"), REFUSED, ids=[one[0][:40] for one in REFUSED])
def test_what_browsers_do_not_take(line: str, url: str, words: str) -> None:
    read = read_set_cookie(line, setting(line, url))
    assert isinstance(read, Refused)
    assert words in read.reason


TAKEN = [
    "a=1",
    "a=1; Secure; SameSite=None",
    "a=1; Domain=.northmere.example",
    "__Host-a=1; Secure; Path=/",
    "a=1; SameSite=nonsense",
    "a=1; Max-Age=x; Path=relative",
    "__Secure-a=1; Secure; Domain=northmere.example",
]


@pytest.mark.parametrize("line", TAKEN)
def test_what_browsers_take(line: str) -> None:
    assert cookie(line).value == "1"


def test_a_machine_is_trusted_with_secure_cookies() -> None:
    assert cookie("a=1; Secure", "http://localhost:8080/").secure
    assert cookie("a=1; Secure", "http://127.0.0.1/").secure


SENT: list[tuple[str, Exchange, str | None, str | None]] = [
    ("a=1", asking(), None, None),
    ("a=1", asking("https://quay.northmere.example/"), None, "Domain"),
    ("a=1; Domain=northmere.example", asking("https://quay.northmere.example/saml/acs"), None, None),
    ("a=1; Path=/saml", asking(), None, None),
    ("a=1; Path=/app", asking(), None, "Path"),
    ("a=1", asking("https://roster.northmere.example/other"), None, "Path"),
    ("a=1; Path=/; Secure", asking("http://roster.northmere.example/"), None, "Secure"),
    ("a=1; Max-Age=5", asking(), None, "Max-Age"),
    ("a=1; Max-Age=11", asking(), None, None),
    ("a=1; Expires=Fri, 20 Nov 2026 08:00:05 GMT", asking(), None, "Max-Age"),
    ("a=1; Max-Age=60; Expires=Fri, 20 Nov 2026 08:00:05 GMT", asking(), None, None),
    ("a=1; SameSite=Strict", asking(), "https://id.northmere.example/", None),
    ("a=1; SameSite=Strict", asking(), "https://id.other.example/", "SameSite"),
    ("a=1; SameSite=Strict", asking(), None, None),
    ("a=1; SameSite=Lax", asking(), "https://id.other.example/", None),
    ("a=1; SameSite=Lax", asking(method="POST"), "https://id.other.example/", "SameSite"),
    ("a=1; SameSite=Lax", asking(method="POST", after=1), "https://id.other.example/", "SameSite"),
    ("a=1", asking(method="POST", after=119), "https://id.other.example/", None),
    ("a=1", asking(method="POST", after=121), "https://id.other.example/", "SameSite"),
    ("a=1", asking(method="GET", after=900), "https://id.other.example/", None),
    ("a=1; SameSite=None; Secure", asking(method="POST", after=900), "https://id.other.example/", None),
    ("a=1; SameSite=Lax", asking(frame=True), "https://id.other.example/", "SameSite"),
    ("a=1; SameSite=None; Secure", asking(frame=True), "https://id.other.example/", None),
    ("a=1; SameSite=Strict", asking(sec_fetch_site="cross-site"), None, "SameSite"),
    ("a=1; SameSite=Strict", asking(sec_fetch_site="same-site"), "https://id.other.example/", None),
    ("a=1; SameSite=Strict", asking(), "http://id.northmere.example/", "SameSite"),
]


@pytest.mark.parametrize(("line", "request_", "came_from", "attribute"), SENT)
def test_what_browsers_send(line: str, request_: Exchange, came_from: str | None, attribute: str | None) -> None:
    kept = kept_back(cookie(line), request_, came_from)
    assert (kept.attribute if kept else None) == attribute
    if kept:
        assert kept.reason
        assert kept.set_to or kept.advice


def test_a_redirect_is_not_what_cookies_ask_about() -> None:
    """Sec-Fetch-Site counts the redirects on the way; SameSite looks at who began."""
    request = asking(sec_fetch_site="cross-site")
    assert kept_back(cookie("a=1; SameSite=Strict"), request, None, redirected=True) is None


def test_the_store_follows_setting_and_clearing() -> None:
    store = CookieStore()
    store.receive(setting("a=1; Path=/"))
    store.receive(setting("a=2; Path=/saml"))
    assert sorted(one.value for one in store) == ["1", "2"]
    store.receive(setting("a=; Path=/; Max-Age=0"))
    assert [one.value for one in store] == ["2"]
    store.receive(setting("b=1; SameSite=None"))
    assert [one.name for one in store.refused] == ["b"]


def test_the_store_keeps_no_more_than_browsers_do() -> None:
    store = CookieStore()
    for number in range(200):
        store.receive(setting(f"c{number}=1; Path=/"))
    names = [one.name for one in store]
    assert (len(names), names[0], names[-1]) == (180, "c20", "c199")


def test_a_cookie_set_again_keeps_its_age() -> None:
    """The two minutes of grace count from when it first got its value (rfc6265bis §5.7, point 23)."""
    store = CookieStore()
    store.receive(setting("a=1"))
    store.receive(setting("a=1", at=AT + timedelta(seconds=100)))
    store.receive(setting("b=1", at=AT + timedelta(seconds=100)))
    kept = {one.name: kept_back(one, asking(method="POST", after=130), "https://id.other.example/") for one in store}
    assert [name for name, reason in kept.items() if reason] == ["a"]


DATES = [
    ("Sun, 06 Nov 1994 08:49:37 GMT", datetime(1994, 11, 6, 8, 49, 37, tzinfo=UTC)),
    ("Sunday, 06-Nov-94 08:49:37 GMT", datetime(1994, 11, 6, 8, 49, 37, tzinfo=UTC)),
    ("Sun Nov  6 08:49:37 1994", datetime(1994, 11, 6, 8, 49, 37, tzinfo=UTC)),
    ("06 Nov 30 1:2:3", datetime(2030, 11, 6, 1, 2, 3, tzinfo=UTC)),
    ("tomorrow", None),
    ("31 Feb 2026 10:00:00", None),
    ("", None),
]


@pytest.mark.parametrize(("text", "moment"), DATES)
def test_cookie_dates(text: str, moment: datetime | None) -> None:
    assert read_date(text) == moment


SITES = [
    ("roster.northmere.example", "northmere.example"),
    ("northmere.example", "northmere.example"),
    ("localhost", "localhost"),
    ("192.0.2.7", "192.0.2.7"),
    ("a.b.co.uk", "b.co.uk"),
    ("example", "example"),
]


@pytest.mark.parametrize(("host", "site"), SITES)
def test_registrable_domains(host: str, site: str) -> None:
    assert site_of(host) == site


def test_same_site_asks_for_the_scheme_too() -> None:
    assert same_site("https://a.northmere.example/", "https://b.northmere.example/x")
    assert not same_site("http://a.northmere.example/", "https://a.northmere.example/")
    assert not same_site("https://a.northmere.example/", "https://a.skerry-pilots.example/")


PATHS = [("/saml/acs", "/saml"), ("/", "/"), ("saml", "/"), ("/a/", "/a")]


@pytest.mark.parametrize(("path", "default"), PATHS)
def test_default_paths(path: str, default: str) -> None:
    assert default_path(path) == default


@given(st.from_regex(r"(/[a-z]{0,4}){0,4}", fullmatch=True), st.from_regex(r"(/[a-z]{0,4}){1,3}", fullmatch=True))
def test_a_path_matches_exactly_what_lies_below_it(path: str, below: str) -> None:
    """RFC 6265 §5.1.4, told another way."""
    segments, wanted = (path or "/").split("/"), below.rstrip("/").split("/")
    if below.endswith("/") and below != "/":
        assert not path_matches(path, below) or (path or "/").startswith(below)
    else:
        assert path_matches(path, below) == (segments[: len(wanted)] == wanted or below == "/" or path == below)


@given(
    st.from_regex(r"[a-z]{1,5}(\.[a-z]{1,5}){0,3}", fullmatch=True),
    st.from_regex(r"[a-z]{1,5}(\.[a-z]{1,5}){0,2}", fullmatch=True),
)
def test_a_domain_matches_whole_labels_only(host: str, domain: str) -> None:
    assert domain_matches(host, domain) == (host.split(".")[-len(domain.split(".")) :] == domain.split("."))


@given(st.text(max_size=200))
def test_any_line_is_read_or_refused(line: str) -> None:
    read = read_set_cookie(line, setting("x=1"))
    assert isinstance(read, Cookie | Refused)
    assert isinstance(read, Refused) or is_cleared(read) in (True, False)


def test_sites_are_told_by_the_rules_of_one_top_level_domain() -> None:
    """As by all rules: for each kind of rule, in both spellings."""
    whole = PublicSuffixList()
    rules = [line.strip().lstrip("!").replace("*", "any") for line in Path(PSLFILE).read_text().splitlines()[::40]]
    hosts = [f"{before}{rule}" for rule in rules if rule and not rule.startswith("//") for before in ("", "a.", "b.a.")]
    hosts += ["desk.northmere.example", "DESK.Northmere.Example.", "", ".", "a..example"]
    hosts += [host.encode("idna").decode() for host in hosts if not host.isascii()]
    assert [host for host in hosts if site_of(host) != (("." in host and whole.privatesuffix(host)) or host)] == []
