"""The messages that the exchanges of a capture carry: in addresses, request and response bodies, header fields.

A message that a page posts, or a redirect names, is found where it was delivered; only where the capture does not show
that is it taken from the page or the redirect. A message delivered twice is found twice.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import cache
from typing import Any

from trace_lens.common.addresses import plain
from trace_lens.common.expressions import expression
from trace_lens.common.locations import Location
from trace_lens.intake.exchanges import STATIC, Capture, Exchange
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.layers import ADDRESS
from trace_lens.intake.oauth_pieces import CARRIED, NAMED, OPAQUE
from trace_lens.oidc.documents import TOKEN_RESPONSE, USERINFO

EXCHANGE = "exchange"
"""The key under which a message's context keeps the number of the exchange that carried it."""
BEARER = "bearer"
"""The key under which userinfo's context keeps the access token that it was asked with."""
PART = "part"
"""The key under which it keeps the part of the exchange: see the names below."""
IN_ADDRESS, IN_REQUEST, IN_HEADER = "address", "request body", "header"
IN_RESPONSE, IN_REDIRECT = "response body", "redirect"
DELIVERED = (IN_ADDRESS, IN_REQUEST)
_SIGNS = (
    b"SAMLRe",
    b"SAMLart",
    b"wresult",
    b"eyJ",
    b"access_token",
    b"id_token",
    b"client_id",
    b"jwks_uri",
    b"grant_type",
    b"logout_token",
    b"refresh_token",
    b"request_uri",
    b"code=",
    b"error=",
    b":Response",
    b"AuthnRequest",
    b"EntityDescriptor",
    b'"sub"',
    b'"active"',
    b'"error"',
    b'"keys"',
    b'"issuer"',
    b'name="code"',
    b"name='code'",
)


def is_worth_reading(text: bytes, *, of_many: bool = False) -> bool:
    """Whether a text may hold a message: a cheap test, for an export has thousands of texts. `of_many` says that it
    pays to make an expression ready that finds all signs at once.
    """
    if of_many and len(text) >= _LONG:
        return _any_sign().search(text) is not None
    return any(sign in text for sign in _SIGNS)


@cache
def _any_sign() -> Any:
    """All signs as one expression, which takes time by the length of a text alone (RE2)."""
    import re2

    options = re2.Options()
    options.encoding = re2.Options.Encoding.LATIN1
    return re2.compile(b"|".join(map(re.escape, _SIGNS)), options)


_LONG = 500
"""Octets from which on one expression is quicker than a search for each sign."""
Peel = Callable[[bytes], tuple[FoundMessage, ...]]


def messages_of(capture: Capture, peel: Peel) -> tuple[FoundMessage, ...]:
    """Every message of a capture, each with the exchange that carried it; `peel` finds those of one text."""
    found: list[FoundMessage] = []
    for exchange in capture.exchanges:
        if exchange.kind == STATIC:
            continue
        for part, text in _texts(exchange):
            inside = peel(text) if is_worth_reading(text) else ()
            if part == IN_RESPONSE and not _answers_for_tokens(exchange):
                inside = tuple(message for message in inside if not _is_error(message))
            base = len(found)
            found += [
                _placed(message, exchange, part, None if message.within is None else message.within + base)
                for message in inside
                if part != IN_HEADER or OPAQUE not in message.context
            ]
    return _once(found)


def _texts(exchange: Exchange) -> Iterator[tuple[str, bytes]]:
    """The texts of an exchange in which messages may stand, in the order in which they travelled."""
    url = f"GET {exchange.url}" if exchange.url.startswith("/") else exchange.url
    yield IN_ADDRESS, url.encode("utf-8", "surrogatepass")
    authorization = exchange.request("authorization")
    if authorization and "eyJ" in authorization:
        yield IN_HEADER, authorization.encode("utf-8", "surrogatepass")
    if exchange.body:
        yield IN_REQUEST, exchange.body
    if exchange.redirects_to:
        yield IN_REDIRECT, exchange.redirects_to.encode("utf-8", "surrogatepass")
    if exchange.answer:
        yield IN_RESPONSE, exchange.answer


def _answers_for_tokens(exchange: Exchange) -> bool:
    """Whether an exchange is one with a token endpoint: by what was asked, else by its address.

    Any interface may answer with a member `error`; only a token endpoint's is one of the sign-in (RFC 6749 §5.2).
    """
    if exchange.method != "POST" or (exchange.request("authorization") or "")[:7].lower() == "bearer ":
        return False
    if exchange.body:
        return (
            b"grant_type" in exchange.body or b"response_type" in exchange.body or b"client_assertion" in exchange.body
        )
    return _TOKEN_PATH.search(exchange.parts.path) is not None


_TOKEN_PATH = expression(r"(?:token|/par|/request|introspect|revoke)[^/]*$", re.IGNORECASE)


def _is_error(message: FoundMessage) -> bool:
    """Whether a message is a JSON answer that holds nothing but an error."""
    return message.kind == TOKEN_RESPONSE and re.search(rb'"\w+_token"\s*:', message.data) is None


def _placed(message: FoundMessage, exchange: Exchange, part: str, within: int | None) -> FoundMessage:
    where = Location(entry=exchange.place, part=part).then(message.where)
    context = {**message.context, EXCHANGE: str(exchange.number), PART: part}
    if part == IN_REQUEST and (message.context.get(CARRIED) == "form" or "form" in message.layers):
        context[ADDRESS] = plain(exchange.url)
    if part == IN_RESPONSE and message.kind == "discovery-document":
        context[ADDRESS] = plain(exchange.url)
    if part == IN_HEADER:
        context[NAMED] = "access_token"
    scheme, _, token = (exchange.request("authorization") or "").partition(" ")
    if message.kind == USERINFO and part == IN_RESPONSE and scheme.lower() == "bearer":
        context[BEARER] = token.strip()
    return message._replace(where=where, context=context, within=within)


def _once(found: list[FoundMessage]) -> tuple[FoundMessage, ...]:
    """Each message where it was delivered; what only announces it, or repeats a token in a header, is left out."""
    delivered = {(message.kind, message.data) for message in found if message.context[PART] in DELIVERED}
    kept: dict[int, FoundMessage] = {}
    seen: set[tuple[str, bytes]] = set()
    for position, message in enumerate(found):
        key, part = (message.kind, message.data), message.context[PART]
        announced = part == IN_REDIRECT or (part == IN_RESPONSE and {"form", "html-form"} & set(message.layers))
        repeated = part in (IN_HEADER, IN_REDIRECT) and key in seen
        if (announced and key in delivered) or repeated or (message.within is not None and message.within not in kept):
            continue
        seen.add(key)
        kept[position] = message
    places = {old: new for new, old in enumerate(kept)}
    return tuple(
        message._replace(within=None if message.within is None else places[message.within]) for message in kept.values()
    )
