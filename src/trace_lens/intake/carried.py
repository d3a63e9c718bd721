"""The messages that the exchanges of a capture carry: in addresses, request and response bodies, header fields.

A message that a page posts, or a redirect names, is found where it was delivered; only where the capture does not show
that is it taken from the page or the redirect. A message delivered twice is found twice.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from functools import cache
from typing import Any

from trace_lens.common.addresses import origin_of, plain
from trace_lens.common.expressions import expression
from trace_lens.common.locations import Location
from trace_lens.intake.exchanges import STATIC, Capture, Exchange
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.layers import ADDRESS
from trace_lens.intake.oauth_pieces import CARRIED, NAMED, OPAQUE
from trace_lens.oidc.documents import TOKEN_RESPONSE, USERINFO
from trace_lens.oidc.parameters import AUTHORIZATION_REQUEST, AUTHORIZATION_RESPONSE

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
    if of_many:
        return bool(_any_sign().Match(text))
    for sign in _SIGNS:  # noqa: SIM110 -- thousands of texts: a generator takes twice as long
        if sign in text:
            return True
    return False


@cache
def _any_sign() -> Any:
    """All signs as one expression, which takes time by the length of a text alone (RE2)."""
    import re2

    options = re2.Options()
    options.encoding = re2.Options.Encoding.LATIN1
    signs = re2.Set.SearchSet(options)
    signs.Add(b"|".join(map(re.escape, _SIGNS)))
    signs.Compile()
    return signs


_MANY = 1_000
"""Exchanges from which on that expression pays."""
Peel = Callable[[bytes], tuple[FoundMessage, ...]]


def messages_of(capture: Capture, peel: Peel) -> tuple[FoundMessage, ...]:
    """Every message of a capture, each with the exchange that carried it; `peel` finds those of one text."""
    found: list[FoundMessage] = []
    states: set[str] = set()
    sent_on: dict[str, str] = {}
    many = len(capture.exchanges) > _MANY
    for exchange in capture.exchanges:
        if exchange.kind == STATIC:
            continue
        target = exchange.redirects_to
        for part, text in _texts(exchange, target):
            inside = peel(text) if is_worth_reading(text, of_many=many) else ()
            inside = () if _is_own_error(inside, exchange, part, states, sent_on) else inside
            if part == IN_RESPONSE and not _answers_for_tokens(exchange):
                inside = tuple(message for message in inside if not _is_error(message))
            base = len(found)
            found += [
                _placed(message, exchange, part, None if message.within is None else message.within + base)
                for message in inside
                if part != IN_HEADER or OPAQUE not in message.context
            ]
        if target:
            sent_on[target] = exchange.origin
    return _once(found)


def _is_own_error(
    inside: tuple[FoundMessage, ...], exchange: Exchange, part: str, states: set[str], sent_on: dict[str, str]
) -> bool:
    """Whether a host tells an error to a page of its own, in words that answers of providers have too.

    `states` are those that requests before it sent, and are added to; `sent_on` says which origin sent the browser to
    an address.
    """
    for message in inside:
        if message.kind == AUTHORIZATION_REQUEST:
            states |= {value for name, value in _pairs_of(message) if name == "state"}
    if len(inside) != 1 or inside[0].kind != AUTHORIZATION_RESPONSE or part not in (IN_ADDRESS, IN_REDIRECT):
        return False
    told = dict(_pairs_of(inside[0]))
    if "error" not in told or told.get("state") in states:
        return False
    if part == IN_REDIRECT:
        return origin_of(exchange.redirects_to or "") == exchange.origin
    return sent_on.get(exchange.url) == exchange.origin


def _pairs_of(message: FoundMessage) -> list[tuple[str, str]]:
    """The parameters of a message; none where they are not a list of pairs."""
    try:
        held = json.loads(message.data)
    except ValueError:
        return []
    pairs = held if isinstance(held, list) else []
    return [(str(pair[0]), str(pair[1])) for pair in pairs if isinstance(pair, list) and len(pair) == 2]


def _texts(exchange: Exchange, target: str | None) -> Iterator[tuple[str, bytes]]:
    """The texts of an exchange, with the target of its redirect, in which messages may stand, in the order in which
    they travelled.
    """
    url = f"GET {exchange.url}" if exchange.url.startswith("/") else exchange.url
    yield IN_ADDRESS, url.encode("utf-8", "surrogatepass")
    authorization = exchange.request("authorization")
    if authorization and "eyJ" in authorization:
        yield IN_HEADER, authorization.encode("utf-8", "surrogatepass")
    if exchange.body:
        yield IN_REQUEST, exchange.body
    if target:
        yield IN_REDIRECT, target.encode("utf-8", "surrogatepass")
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
