"""A browser that is only told what it did, and writes it down as network panels do: HTTP Archive 1.2.

Nothing is sent anywhere, and nothing is decided here: which cookies were set, sent or kept back is told by the story.
"""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable
from datetime import datetime, timedelta
from html import escape
from typing import Any
from urllib.parse import parse_qsl, urlsplit

Pairs = dict[str, str]
_NOISE = (
    ("stylesheet", "text/css", "/assets/site.css"),
    ("script", "text/javascript", "/assets/site.js"),
    ("image", "image/svg+xml", "/assets/mark.svg"),
    ("font", "font/woff2", "/assets/plain.woff2"),
)


_TIMINGS: dict[str, float] = {
    "blocked": 2.1,
    "dns": -1,
    "connect": -1,
    "ssl": -1,
    "send": 0.4,
    "wait": 0.0,
    "receive": 12.0,
}
"""How long each part of a request took, in milliseconds; the wait differs."""


class Recording:
    """One export while it grows. Times are in UTC; `wait` is what the server took, in seconds."""

    def __init__(self, begin: datetime, browser: str = "panel 1") -> None:
        self.clock = begin
        self._browser = browser
        self._entries: list[dict[str, Any]] = []
        self._page = 0
        self.last = ""

    def pause(self, seconds: float) -> None:
        """Time in which a person reads or types."""
        self.clock += timedelta(seconds=seconds)

    def step(
        self,
        method: str,
        url: str,
        status: int,
        *,
        to: str | None = None,
        page: str | None = None,
        body: str | None = None,
        cookie: str | None = None,
        sets: tuple[str, ...] = (),
        wait: float = 0.09,
        referer: str | None = None,
        sent: Pairs | None = None,
        received: Pairs | None = None,
        kind: str = "document",
        media: str = "text/html; charset=utf-8",
        frame: bool = False,
        by_script: bool = False,
        error: str | None = None,
        noise: int = 0,
    ) -> str:
        """One request and its response; gives the address. `to` is where a redirect leads."""
        self._page += kind == "document" and status < 300
        headers = {"Host": urlsplit(url).netloc, "User-Agent": "Panel/1.0", "Accept": "*/*"}
        headers |= {"Referer": referer} if referer else {}
        headers |= {"Cookie": cookie} if cookie else {}
        headers |= {"Content-Type": _media_of(body)} if body else {}
        headers |= {"Sec-Fetch-Dest": "iframe" if frame else "document" if kind == "document" else "empty"}
        answered = [("Date", self.clock.strftime("%a, %d %b %Y %H:%M:%S GMT"))]
        answered += [("Content-Type", media)] if page is not None else []
        answered += [("Location", to)] if to else []
        answered += [("Set-Cookie", line) for line in sets]
        answered += (received or {}).items()
        response = _response(status, answered, to, page, media if page is not None else "")
        self._entries.append(
            {
                "pageref": f"page_{self._page}",
                "startedDateTime": self.clock.isoformat(timespec="milliseconds").replace("+00:00", "Z"),
                "time": round(wait * 1000 + 14.5, 1),
                "request": _request(method, url, headers | (sent or {}), body),
                "response": response | ({"_error": error} if error else {}),
                "cache": {},
                "timings": _TIMINGS | {"wait": round(wait * 1000, 1)},
                "_resourceType": kind,
                "_initiator": {"type": "script" if by_script else "other"},
            }
        )
        self.clock += timedelta(seconds=wait + 0.015)
        for number in range(noise):
            self._noise(url, number)
        self.last = url
        return url

    def _noise(self, page: str, number: int) -> None:
        kind, media, path = _NOISE[number % len(_NOISE)]
        parts = urlsplit(page)
        self._entries.append(
            {
                "startedDateTime": self.clock.isoformat(timespec="milliseconds").replace("+00:00", "Z"),
                "time": 8.0,
                "request": {
                    "method": "GET",
                    "url": f"{parts.scheme}://{parts.netloc}{path}",
                    "headers": [],
                    "cookies": [],
                },
                "response": {
                    "status": 200,
                    "headers": [],
                    "cookies": [],
                    "redirectURL": "",
                    "content": {
                        "size": 900,
                        "mimeType": media,
                        "encoding": "base64",
                        "text": base64.b64encode(bytes(range(200))).decode(),
                    },
                },
                "_resourceType": kind,
            }
        )
        self.clock += timedelta(milliseconds=6)

    def document(self) -> dict[str, Any]:
        """The export."""
        return {
            "log": {
                "version": "1.2",
                "creator": {"name": self._browser, "version": "1.0"},
                "pages": [],
                "entries": self._entries,
            }
        }

    def octets(self) -> bytes:
        """The export as a file."""
        return json.dumps(self.document(), ensure_ascii=False, indent=1).encode() + b"\n"


def _request(method: str, url: str, headers: Pairs, body: str | None) -> dict[str, Any]:
    """A request as the format has it (HTTP Archive 1.2, `request`)."""
    return {
        "method": method,
        "url": url,
        "httpVersion": "HTTP/2",
        "cookies": [],
        "headersSize": -1,
        "headers": _named(headers.items()),
        "queryString": _named(parse_qsl(urlsplit(url).query)),
        "bodySize": len(body or ""),
        **({"postData": {"mimeType": _media_of(body), "text": body}} if body else {}),
    }


def _response(
    status: int, headers: list[tuple[str, str]], to: str | None, page: str | None, media: str
) -> dict[str, Any]:
    """A response as the format has it (HTTP Archive 1.2, `response`)."""
    text = page or ""
    return {
        "status": status,
        "statusText": "",
        "httpVersion": "HTTP/2",
        "cookies": [],
        "headers": _named(headers),
        "redirectURL": to or "",
        "headersSize": -1,
        "bodySize": len(text),
        "content": {"size": len(text), "mimeType": media, "text": text},
    }


def _named(pairs: Iterable[tuple[str, str]]) -> list[Pairs]:
    return [{"name": name, "value": value} for name, value in pairs]


def _media_of(body: str | None) -> str:
    return "application/json" if (body or "")[:1] == "{" else "application/x-www-form-urlencoded"


def page(title: str, text: str, extra: str = "") -> str:
    """A page as a server sends it."""
    return (
        f"<!DOCTYPE html>\n<html><head><title>{escape(title)}</title></head>\n<body><h1>{escape(title)}</h1>\n"
        f"<p>{escape(text)}</p>\n{extra}</body></html>\n"
    )


def posting(action: str, fields: Pairs) -> str:
    """A page whose form sends itself."""
    inputs = "".join(
        f'<input type="hidden" name="{escape(name)}" value="{escape(value)}"/>' for name, value in fields.items()
    )
    return (
        f'<!DOCTYPE html>\n<html><body onload="document.forms[0].submit()"><form method="post" '
        f'action="{escape(action)}">{inputs}<noscript><button>Go on</button></noscript></form></body></html>\n'
    )


def sign_in_page(action: str) -> str:
    """The provider's page that asks for name and password."""
    return page(
        "Sign in",
        "Northmere ID",
        f'<form method="post" action="{escape(action)}"><input type="email" name="account"/>'
        '<input type="password" name="passphrase"/><button>Sign in</button></form>',
    )
