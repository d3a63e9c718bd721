"""A small cookie store: what browsers keep, and whether they send it with a request (RFC 6265, rfc6265bis).

It follows the Set-Cookie fields of a capture in their order and says, of each cookie and each request, whether it goes
along and, if not, which attribute keeps it back. Where browsers do more than the drafts say (a cookie without SameSite
still goes with a cross-site post for two minutes), it does as browsers do.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from functools import cache
from ipaddress import ip_address
from pathlib import Path
from typing import TYPE_CHECKING

from trace_lens.common import limits
from trace_lens.common.addresses import ascii_host, host_of, parts_of
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import Exchange

if TYPE_CHECKING:
    from publicsuffixlist import PublicSuffixList

STRICT, LAX, NONE, DEFAULT = "strict", "lax", "none", "default"
_MONTHS = ("jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec")
_UNSAFE = ("POST", "PUT", "DELETE", "PATCH", "CONNECT")


@dataclass(frozen=True, slots=True, eq=False, repr=False)
class Cookie:
    """One cookie as a browser keeps it.

    `domain` is a host in ASCII; `host_only` says that it goes to that host alone. `same_site` is `strict`, `lax`,
    `none` or `default` (not told). `until` is None for a cookie of the session. `set_by` is the exchange that set it.
    """

    name: str
    value: str
    domain: str
    host_only: bool
    path: str
    secure: bool
    http_only: bool
    same_site: str
    partitioned: bool
    created: datetime | None
    until: datetime | None
    lasts: timedelta | None
    set_by: Exchange
    line: str


class Refused(NamedTuple):
    """A Set-Cookie that browsers do not take, why, and what to set instead (None where no attribute helps)."""

    name: str
    reason: str
    set_to: str | None
    set_by: Exchange
    line: str


class Kept(NamedTuple):
    """Why a cookie does not go with a request: the attribute that keeps it back, the reason, what to set instead (None
    where no attribute helps), and what else to do.
    """

    attribute: str
    reason: str
    set_to: str | None
    advice: str = ""


@cache
def _rules() -> bytes:
    from publicsuffixlist import PSLFILE

    return Path(PSLFILE).read_bytes()


@cache
def _suffixes(top: str) -> PublicSuffixList:
    """The rules below one top-level domain: to read all of them takes a fifth of a diagnosis."""
    from publicsuffixlist import PublicSuffixList

    spelt = {top.encode("utf-8", "replace")}
    with suppress(UnicodeError):
        spelt.add(top.encode("ascii").decode("idna").encode())
    text = _rules()
    ends = re.finditer(rb"[\n.](?:%s)(?=\r?\n)" % b"|".join(map(re.escape, spelt)), text)
    return PublicSuffixList([text[text.rfind(b"\n", 0, found.end()) + 1 : found.end()] for found in ends])


def _registrable(host: str) -> str | None:
    """A host's public suffix and one label more; None where it is a public suffix."""
    top = host.rstrip(".").rpartition(".")[2].lower()
    return _suffixes(top).privatesuffix(host)


def site_of(host: str) -> str:
    """The registrable domain of a host (its public suffix and one label more); itself where it has none."""
    if _is_address(host) or "." not in host:
        return host
    return _registrable(host) or host


def is_public_suffix(host: str) -> bool:
    """Whether a domain is one under which anybody registers, such as a top-level domain."""
    if _is_address(host) or "." not in host:
        return host != "localhost" and "." not in host and not _is_address(host)
    return _registrable(host) is None


def same_site(left: str, right: str) -> bool:
    """Whether two addresses are of one site, the scheme counting too (HTML §7.1.1, schemefully same site)."""
    result, other = parts_of(left), parts_of(right)
    return result.scheme.lower() == other.scheme.lower() and site_of(ascii_host(result.hostname or "")) == site_of(
        ascii_host(other.hostname or "")
    )


def _is_address(host: str) -> bool:
    try:
        ip_address(host.strip("[]"))
    except ValueError:
        return False
    return True


def is_loopback(host: str) -> bool:
    """Whether a host is this very machine, to which browsers trust http too."""
    if host == "localhost" or host.endswith(".localhost"):
        return True
    return _is_address(host) and ip_address(host.strip("[]")).is_loopback


def domain_matches(host: str, domain: str) -> bool:
    """RFC 6265 §5.1.3."""
    return host == domain or (host.endswith("." + domain) and not _is_address(host))


def path_matches(path: str, cookie_path: str) -> bool:
    """RFC 6265 §5.1.4."""
    path = path or "/"
    if path == cookie_path:
        return True
    return path.startswith(cookie_path) and (cookie_path.endswith("/") or path[len(cookie_path)] == "/")


def default_path(path: str) -> str:
    """RFC 6265 §5.1.4: the directory of the address."""
    return path[: path.rfind("/")] or "/" if path.startswith("/") else "/"


def read_date(text: str) -> datetime | None:
    """A cookie date, as leniently as RFC 6265 §5.1.1 demands; None where it is none."""
    clock: tuple[int, ...] | None = None
    day = month = year = None
    for token in re.split(r"[\x09\x20-\x2f\x3b-\x40\x5b-\x60\x7b-\x7e]+", text):
        if clock is None and (match := re.match(r"(\d{1,2}):(\d{1,2}):(\d{1,2})(?!\d)", token)):
            clock = tuple(int(group) for group in match.groups())
        elif day is None and (match := re.match(r"(\d{1,2})(?!\d)", token)):
            day = int(match[1])
        elif month is None and token[:3].lower() in _MONTHS:
            month = _MONTHS.index(token[:3].lower()) + 1
        elif year is None and (match := re.match(r"(\d{2,4})(?!\d)", token)):
            year = int(match[1])
    if clock is None or day is None or month is None or year is None:
        return None
    year += 1900 if 70 <= year <= 99 else 2000 if year <= 69 else 0
    try:
        return datetime(year, month, day, clock[0], clock[1], clock[2], tzinfo=UTC)
    except ValueError:
        return None


def _same_site(attributes: dict[str, str]) -> str:
    asked = attributes.get("samesite", "").lower()
    return {"strict": STRICT, "lax": LAX, "none": NONE}.get(asked, DEFAULT)


def _wrong_text(name: str, value: str, line: str) -> tuple[str, str | None] | None:
    """Why browsers do not take the text of a cookie, and what to set instead."""
    if not name and not value:
        return "it has neither name nor value", None
    if re.search(r"[\x00-\x08\x0a-\x1f\x7f]", line):
        return "it holds a control character", None
    size = len(name) + len(value)
    if size > limits.COOKIE_BYTES:
        return f"name and value have {size:,} bytes, and browsers take at most {limits.COOKIE_BYTES:,}", None
    return None


def _wrong_domain(domain: str, host: str) -> tuple[str, str | None] | None:
    """Why browsers do not take a cookie for its domain."""
    if domain and is_public_suffix(domain) and domain != host:
        return f"Domain={domain} is a public suffix", f"Domain={site_of(host)}"
    if domain and host and not domain_matches(host, domain):
        return f"Domain={domain} does not cover {host}, which set it", f"Domain={site_of(host)}"
    return None


def _wrong_secure(name: str, attributes: dict[str, str], by: Exchange) -> tuple[str, str | None] | None:
    """Why browsers do not take a cookie for what demands Secure."""
    secure, prefix = "secure" in attributes, name.lower()
    safe = by.parts.scheme.lower() in ("https", "wss") or not by.host or is_loopback(by.host)
    if secure and not safe:
        return "it is Secure, and came over http", None
    if _same_site(attributes) == NONE and not secure:
        return "SameSite=None is taken only together with Secure", "Secure"
    if "partitioned" in attributes and not secure:
        return "Partitioned is taken only together with Secure", "Secure"
    if prefix.startswith("__secure-") and not secure:
        return "its name begins with __Secure-, and it is not Secure", "Secure"
    alone = not attributes.get("domain", "").lstrip(".")
    if prefix.startswith("__host-") and not (secure and alone and attributes.get("path") == "/"):
        return "its name begins with __Host-, which demands Secure, Path=/ and no Domain", "Secure; Path=/"
    return None


def read_set_cookie(line: str, by: Exchange) -> Cookie | Refused:
    """A Set-Cookie field as a browser takes it (rfc6265bis §5.6, §5.7), or why it does not."""
    pair, *told = line.split(";")
    name, equals, value = pair.partition("=")
    name, value = (name.strip(), value.strip()) if equals else ("", pair.strip())
    attributes: dict[str, str] = {}
    for text in told:
        key, _, held = text.partition("=")
        attributes[key.strip().lower()] = held.strip()

    domain = ascii_host(attributes.get("domain", "").lstrip("."))
    wrong = _wrong_text(name, value, line) or _wrong_domain(domain, by.host) or _wrong_secure(name, attributes, by)
    if wrong:
        return Refused(name, *wrong, by, line)
    path = attributes.get("path", "")
    path = path if path.startswith("/") else default_path(by.parts.path)
    until, lasts = _end(attributes, by.at)
    return Cookie(
        name=name,
        value=value,
        domain=domain or by.host,
        host_only=not domain,
        path=path,
        secure="secure" in attributes,
        http_only="httponly" in attributes,
        same_site=_same_site(attributes),
        partitioned="partitioned" in attributes,
        created=by.at,
        until=until,
        lasts=lasts,
        set_by=by,
        line=line,
    )


def _end(attributes: dict[str, str], at: datetime | None) -> tuple[datetime | None, timedelta | None]:
    """When it ends, and how long it lasts; Max-Age goes before Expires, and neither beyond 400 days."""
    most = timedelta(days=limits.COOKIE_DAYS)
    age = attributes.get("max-age", "")
    if re.fullmatch(r"-?\d{1,12}", age):
        lasts = min(timedelta(seconds=int(age)), most)
        return (at + lasts if at else None), lasts
    end = read_date(attributes["expires"]) if attributes.get("expires") else None
    if end is None:
        return None, None
    if at is None:
        return end, None
    return min(end, at + most), min(end - at, most)


class CookieStore:
    """The cookies of one browser, as far as a capture tells."""

    def __init__(self) -> None:
        self._held: dict[tuple[str, str, str], Cookie] = {}
        self.refused: list[Refused] = []

    def receive(self, exchange: Exchange) -> list[Cookie]:
        """Take the cookies that a response sets; gives those that it set, not those that it cleared."""
        made = []
        for line in exchange.set_cookies:
            cookie = read_set_cookie(line, exchange)
            if isinstance(cookie, Refused):
                self.refused.append(cookie)
                continue
            key = (cookie.name, cookie.domain, cookie.path)
            if is_cleared(cookie):
                self._held.pop(key, None)
                continue
            before = self._held.get(key)
            if before:
                cookie = replace(cookie, created=before.created if cookie.value == before.value else cookie.created)
            self._held[key] = cookie
            made.append(cookie)
            self._make_room(cookie)
        return made

    def _make_room(self, latest: Cookie) -> None:
        site = site_of(latest.domain)
        same = [key for key, cookie in self._held.items() if site_of(cookie.domain) == site]
        for key in same[: max(0, len(same) - limits.COOKIES_OF_DOMAIN)]:
            del self._held[key]

    def holds(self, cookie: Cookie) -> bool:
        """Whether it is still there as it was set."""
        return self._held.get((cookie.name, cookie.domain, cookie.path)) is cookie

    def __iter__(self) -> Iterator[Cookie]:
        return iter(self._held.values())


def is_cleared(cookie: Cookie) -> bool:
    """Whether setting it takes it away: it ends at once."""
    if cookie.lasts is not None:
        return cookie.lasts <= timedelta(0)
    return cookie.until is not None and cookie.until.year < 2000


def kept_back(cookie: Cookie, request: Exchange, came_from: str | None, *, redirected: bool = False) -> Kept | None:
    """Why a cookie does not go with a request; None where it does.

    `came_from` is the address of the page that the request comes from, over all redirects; None where the person
    opened it. `redirected` says that a redirect led to it: Sec-Fetch-Site then speaks of the redirects too, and cookies
    do not.
    """
    host, path = request.host, request.parts.path or "/"
    at = request.at
    scheme = request.parts.scheme.lower()
    covers = host == cookie.domain if cookie.host_only else domain_matches(host, cookie.domain)
    if not covers:
        return _other_host(cookie, host)
    if not path_matches(path, cookie.path):
        return Kept("Path", f"its Path is {cookie.path}, and the return comes to {path}", "Path=/")
    if cookie.secure and scheme != "https" and not is_loopback(host):
        return Kept(
            "Secure", "it is Secure, and the return comes over http", None, "Serve the address of return over https"
        )
    if at and cookie.until and at >= cookie.until:
        lasts = f"after {_span(cookie.lasts)}" if cookie.lasts else "before"
        return Kept("Max-Age", f"it ended {lasts}, and the return came later", "Max-Age=3600")
    return _cross_site(cookie, request, came_from, redirected=redirected)


def _other_host(cookie: Cookie, host: str) -> Kept:
    site = site_of(host)
    where = f"it was set for {cookie.domain}" + (" alone" if cookie.host_only else "")
    shared = site == site_of(cookie.domain) and "." in site
    advice = f"Let the sign-in start at the host where it comes back, {host}"
    return Kept("Domain", f"{where}, and the return comes to {host}", f"Domain={site}" if shared else None, advice)


def _cross_site(cookie: Cookie, request: Exchange, came_from: str | None, *, redirected: bool) -> Kept | None:
    at = request.at
    told = None if redirected else request.request("sec-fetch-site")
    crosses = told == "cross-site" if told else came_from is not None and not same_site(came_from, request.url)
    if not crosses or cookie.same_site == NONE:
        return None
    how = f"{request.method} from another site" + (f" ({site_of(_host_of(came_from))})" if came_from else "")
    if request.frame:
        return Kept(
            "SameSite",
            f"it is {_named(cookie)}, and the return comes into a frame of another site",
            "SameSite=None; Secure; Partitioned",
        )
    if cookie.same_site == STRICT:
        return Kept(
            "SameSite",
            f"it is SameSite=Strict, and the return is a {how}",
            "SameSite=None; Secure" if request.method in _UNSAFE else "SameSite=Lax",
        )
    if request.method not in _UNSAFE:
        return None
    if cookie.same_site == DEFAULT:
        if at is None or cookie.created is None or at - cookie.created <= timedelta(seconds=limits.LAX_POST_SECONDS):
            return None
        late = f"more than {_span(timedelta(seconds=limits.LAX_POST_SECONDS))} after it was set"
        reason = f"it has no SameSite, so it counts as Lax, and the return is a {how} {late}"
        return Kept("SameSite", reason, "SameSite=None; Secure")
    return Kept("SameSite", f"it is SameSite=Lax, and the return is a {how}", "SameSite=None; Secure")


def _named(cookie: Cookie) -> str:
    return "without SameSite" if cookie.same_site == DEFAULT else f"SameSite={cookie.same_site.title()}"


def _host_of(url: str | None) -> str:
    return host_of(url or "")


def _span(length: timedelta | None) -> str:
    from trace_lens.common.moments import show_duration

    return show_duration(length) if length is not None else "a time"
