"""Network addresses (RFC 3986) as browsers take them: whatever a text holds, asking for its parts does not fail."""

from __future__ import annotations

import re
from functools import lru_cache
from urllib.parse import SplitResult, urljoin, urlsplit

from trace_lens.common.expressions import expression

_USER_INFORMATION = expression(r"^([a-zA-Z][a-zA-Z0-9+.-]*+://)[^/@]*+@")
_USUAL = expression(r"https?://([a-z0-9.-]++)(?::\d{1,4}+)?(?=[/?#]|\Z)")
"""An address whose host can be read off: as browsers write nearly all of them."""
_SESSION_IN_PATH = expression(r";(?:jsessionid|phpsessid|sid|session_?id)=[^/;?#]*+", re.IGNORECASE)

_PLAIN_HOST = expression(r"https?://[a-z0-9.-]++(?::(?!(?:443|80)\b)\d++)?+(?=[/?#]|\Z)")
_USUAL_ORIGIN = expression(r"https?://[a-z0-9.-]++(?::(?!(?:443|80)\b)[1-9]\d{0,3}+)?+(?=[/?#]|\Z)")
_DEFAULTS = {"https": ":443", "http": ":80"}


@lru_cache(maxsize=4096)
def parts_of(url: str) -> SplitResult:
    """The parts of an address, to the letter; empty ones where it is none."""
    try:
        parts = urlsplit(url)
        _ = parts.port, parts.hostname
    except ValueError:
        return urlsplit("")
    return parts


def host_of(url: str) -> str:
    """The host of an address, in small ASCII letters, without the port; empty where it is no address."""
    usual = _USUAL.match(url)
    return usual[1] if usual else _host_of(url)


@lru_cache(maxsize=4096)
def _host_of(url: str) -> str:
    return ascii_host(parts_of(url.strip()).hostname or "")


def ascii_host(host: str) -> str:
    """A host in small letters, an internationalised one in its ASCII form (RFC 5890)."""
    if host.isascii():
        return host.lower()
    try:
        return host.encode("idna").decode()
    except UnicodeError:
        return host.lower()


def origin_of(url: str) -> str:
    """Scheme, host and port of an address, the default port left out."""
    usual = _USUAL_ORIGIN.match(url)
    return usual[0] if usual else _origin_of(url)


@lru_cache(maxsize=4096)
def _origin_of(url: str) -> str:
    parts = parts_of(url.strip())
    default = {"https": 443, "http": 80}.get(parts.scheme.lower())
    port = "" if parts.port in (None, default) else f":{parts.port}"
    return f"{parts.scheme.lower()}://{host_of(url)}{port}"


def as_browsers_write(url: str) -> str:
    """An address without fragment as browsers write it: scheme and host in small ASCII letters, the default port left
    out, a path of at least `/` (WHATWG URL §4.5). What is no http address is given back as it is.
    """
    parts = parts_of(url.strip())
    if parts.scheme.lower() not in ("http", "https") or not parts.hostname:
        return url.partition("#")[0]
    query = f"?{parts.query}" if parts.query else ""
    return f"{origin_of(url)}{parts.path or '/'}{query}"


def same_address(left: str, right: str) -> bool:
    """Whether two addresses lead a browser to the same place; the fragment does not count."""
    return left == right or as_browsers_write(left) == as_browsers_write(right)


def plain(url: str) -> str:
    """An address without query and fragment, and without what is secret before these: user information (RFC 3986
    §3.2.1) and the session ids that some servers write into paths.
    """
    bare = re.split(r"[?#]", url, maxsplit=1)[0]
    if "@" in bare:
        bare = _USER_INFORMATION.sub(r"\1", bare, count=1)
    return _SESSION_IN_PATH.sub("", bare) if ";" in bare else bare


def usual(url: str) -> str:
    """An http address with scheme and host in small letters and without the default port, as browsers ask for it; what
    follows them, and any other address, is given back to the letter.
    """
    if _PLAIN_HOST.match(url):
        return url
    scheme, there, rest = url.partition("://")
    default = _DEFAULTS.get(scheme.lower()) if there else None
    if default is None:
        return url
    end = min((place for mark in "/?#" if (place := rest.find(mark)) >= 0), default=len(rest))
    user, at, host = rest[:end].rpartition("@")
    return f"{scheme.lower()}://{user}{at}{host.lower().removesuffix(default)}{rest[end:]}"


def led_to(base: str, reference: str) -> str:
    """Where a reference on a page, or of a redirect, leads a browser."""
    return usual(resolved(base, reference))


@lru_cache(maxsize=4096)
def resolved(base: str, reference: str) -> str:
    """A reference resolved against an address (RFC 3986 §5); itself where that cannot be."""
    try:
        return urljoin(base, reference)
    except ValueError:
        return reference
