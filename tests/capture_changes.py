"""What happens to captures on their way to a ticket: each change of a browser's export that must not mislead a judgement."""

from __future__ import annotations

import copy
import json
import re
from collections.abc import Callable, Iterator
from typing import Any
from urllib.parse import urlsplit

Export = dict[str, Any]
COOKIES = ("cookie", "set-cookie", "authorization")


def entries_of(export: Export) -> list[dict[str, Any]]:
    """The entries of an export."""
    found: list[dict[str, Any]] = export["log"]["entries"]
    return found


def _changed(export: Export, change: Callable[[dict[str, Any]], None]) -> Export:
    made = copy.deepcopy(export)
    for entry in entries_of(made):
        change(entry)
    return made


def without_cookies(export: Export) -> Export:
    """As some panels write it by default: without cookies and authorization."""

    def change(entry: dict[str, Any]) -> None:
        for side in ("request", "response"):
            entry[side]["headers"] = [one for one in entry[side]["headers"] if one["name"].lower() not in COOKIES]

    return _changed(export, change)


def without_answers(export: Export) -> Export:
    """Without the bodies of responses."""

    def change(entry: dict[str, Any]) -> None:
        entry["response"]["content"].pop("text", None)

    return _changed(export, change)


def without_bodies(export: Export) -> Export:
    """Without any bodies; that there were some is still said."""

    def change(entry: dict[str, Any]) -> None:
        entry["response"]["content"].pop("text", None)
        posted = entry["request"].pop("postData", None)
        if posted:
            entry["request"]["bodySize"] = len(posted.get("text", ""))

    return _changed(export, change)


def without_fragments(export: Export) -> Export:
    """Without what stands behind # in an address, in requests and in where redirects lead."""

    def change(entry: dict[str, Any]) -> None:
        entry["request"]["url"] = entry["request"]["url"].partition("#")[0]
        entry["response"]["redirectURL"] = entry["response"].get("redirectURL", "").partition("#")[0]
        for one in entry["response"]["headers"]:
            if one["name"].lower() == "location":
                one["value"] = one["value"].partition("#")[0]

    return _changed(export, change)


def without_types(export: Export) -> Export:
    """Without the members that one browser adds: the others tell a call from a page by less."""
    return _changed(export, lambda entry: entry.pop("_resourceType", None))


LEFT_OUT: dict[str, Callable[[Export], Export]] = {
    "cookies": without_cookies,
    "answers": without_answers,
    "bodies": without_bodies,
    "fragments": without_fragments,
    "types": without_types,
}


def without_one(export: Export) -> Iterator[tuple[int, Export]]:
    """The export without each of its entries in turn."""
    for number in range(len(entries_of(export))):
        made = copy.deepcopy(export)
        del entries_of(made)[number]
        if entries_of(made):
            yield number, made


def halves(export: Export) -> Iterator[tuple[Export, Export]]:
    """The export divided into two at every place."""
    for number in range(1, len(entries_of(export))):
        first, second = copy.deepcopy(export), copy.deepcopy(export)
        del entries_of(first)[number:]
        del entries_of(second)[:number]
        yield first, second


def shuffled(export: Export) -> Export:
    """The same entries, written in another order; their times stay."""
    made = copy.deepcopy(export)
    found = entries_of(made)
    found[:] = [*found[1::2], *found[::2]]
    return made


def with_noise(export: Export) -> Export:
    """Between the entries what other pages of the browser did meanwhile: pictures, a newspaper, a chat."""
    return _with_others(
        export,
        [
            ("https://news.tidings.example/picture.png", "image/png", 200, "image"),
            ("https://chat.tidings.example/poll", "application/json", 200, "fetch"),
            ("https://news.tidings.example/today", "text/html", 200, "document"),
        ],
    )


def with_trouble(export: Export) -> Export:
    """Between the entries what went wrong at other sites: a token refused, a call forbidden, a page that broke."""
    return _with_others(
        export,
        [
            ("https://chat.tidings.example/poll", "application/json", 401, "fetch"),
            ("https://ads.tidings.example/count", "x-unknown", 0, "fetch"),
            ("https://news.tidings.example/today", "text/html", 500, "document"),
        ],
    )


def _with_others(export: Export, others: list[tuple[str, str, int, str]]) -> Export:
    made = copy.deepcopy(export)
    noise = []
    for number, entry in enumerate(entries_of(made)):
        for url, media, status, kind in others:
            asked = [{"name": "Cookie", "value": "reader=7"}]
            if kind == "fetch":
                asked += [
                    {"name": "Origin", "value": "https://news.tidings.example"},
                    {"name": "Authorization", "value": "Bearer of-another"},
                ]
            told = [{"name": "Content-Type", "value": media}] if status else []
            if status == 401:
                told.append({"name": "WWW-Authenticate", "value": 'Bearer error="invalid_token"'})
            noise.append(
                {
                    "startedDateTime": entry["startedDateTime"],
                    "time": 3,
                    "_resourceType": kind,
                    "request": {"method": "GET", "url": f"{url}?n={number}", "headers": asked},
                    "response": {
                        "status": status,
                        "headers": told,
                        "redirectURL": "",
                        **({} if status else {"_failureText": "net::ERR_FAILED"}),
                        "content": {
                            "size": 5,
                            "mimeType": media,
                            "text": "<title>Access denied in the harbour</title>",
                        },
                    },
                }
            )
    entries_of(made).extend(noise)
    return made


def revalidated(export: Export) -> Export:
    """As when the browser had each page before: the server answers 304, and the page is shown as it was."""

    def change(entry: dict[str, Any]) -> None:
        if entry["request"]["method"] == "GET" and entry.get("_resourceType") == "document":
            answer = entry["response"]
            answer["status"] = 304 if answer["status"] == 200 else answer["status"]

    return _changed(export, change)


def with_ports(export: Export) -> Export:
    """As some recorders and servers write addresses: with the default port, in requests and in where redirects lead."""

    def named(address: str) -> str:
        return re.sub(r"^https://([^/:?#]+)(?=[/?#]|$)", r"https://\1:443", address)

    def change(entry: dict[str, Any]) -> None:
        entry["request"]["url"] = named(entry["request"]["url"])
        for one in entry["response"]["headers"]:
            one["value"] = named(one["value"]) if one["name"].lower() == "location" else one["value"]

    return _changed(export, change)


def without_referrers(export: Export) -> Export:
    """As of pages that keep to themselves where a request comes from (Referrer-Policy: no-referrer)."""

    def change(entry: dict[str, Any]) -> None:
        kept = [one for one in entry["request"]["headers"] if one["name"].lower() != "referer"]
        entry["request"]["headers"] = kept

    return _changed(export, change)


def as_plain_panels(export: Export) -> Export:
    """Without the members and the fetch metadata by which some browsers tell calls, frames and pages apart."""

    def change(entry: dict[str, Any]) -> None:
        entry.pop("_resourceType", None)
        kept = [one for one in entry["request"]["headers"] if not one["name"].lower().startswith("sec-")]
        entry["request"]["headers"] = kept

    return _changed(export, change)


def twice(export: Export) -> Export:
    """As when two exports of one panel were put into one file."""
    made = copy.deepcopy(export)
    entries_of(made).extend(copy.deepcopy(entries_of(export)))
    return made


SAME: dict[str, Callable[[Export], Export]] = {
    "shuffled": shuffled,
    "with noise": with_noise,
    "with trouble elsewhere": with_trouble,
    "revalidated": revalidated,
    "with ports": with_ports,
    "twice": twice,
    "without referrers": without_referrers,
    "as plain panels": as_plain_panels,
}


def as_dump(export: Export) -> bytes:
    """The pages, redirects and posts of an export as a dump of header fields with bodies."""
    lines: list[str] = []
    for entry in entries_of(export):
        asked, got = entry["request"], entry["response"]
        if got["status"] <= 0 or re.search(r"javascript|image|css", got["content"].get("mimeType", "")):
            continue
        parts = urlsplit(asked["url"])
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        sent = [
            f"{one['name']}: {one['value']}"
            for one in asked["headers"]
            if one["name"].lower() not in ("host", ":authority")
        ]
        content = got["content"].get("text", "") if not got["content"].get("encoding") else ""
        lines += [
            f"{asked['method']} {path} HTTP/1.1",
            f"Host: {parts.netloc}",
            *sent,
            "",
            asked.get("postData", {}).get("text", ""),
            "",
            f"HTTP/1.1 {got['status']} Found",
            *(f"{one['name']}: {one['value']}" for one in got["headers"]),
            "",
            content,
            "",
        ]
    return "\n".join(lines).encode("utf-8", "surrogatepass")


def as_message(export: Export) -> bytes | None:
    """The bare message that a sign-in hands over: the form of a SAML response, or the answer of the token endpoint."""
    for entry in reversed(entries_of(export)):
        text = entry["request"].get("postData", {}).get("text", "")
        if "SAMLResponse=" in text:
            return text.encode()
        if "id_token" in text and "state" in text:
            return text.encode()
    for entry in entries_of(export):
        text = entry["response"]["content"].get("text", "")
        if '"id_token"' in text and entry["request"]["method"] == "POST":
            return text.encode()
    return None


def as_bytes(export: Export) -> bytes:
    """An export as it is written."""
    return json.dumps(export).encode()
