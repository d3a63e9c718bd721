"""JSON documents in a text that are messages of OAuth 2.0, or hold some."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Iterator
from typing import Any

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.intake.effort import Effort
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.oauth_pieces import (
    TOKEN_MEMBERS,
    WHOLE,
    Piece,
    found_token,
    member_at,
    of_parameters,
)
from trace_lens.oidc import documents, parameters
from trace_lens.oidc.parameters import Parameters

Searched = Callable[[str], Iterable[FoundMessage]]
"""How a text that stands in a JSON value is searched in its turn."""


MEMBERS = (
    b"access_token",
    b"id_token",
    b"client_id",
    b"jwks_uri",
    b"issuer",
    b"keys",
    b"kty",
    b"active",
    b"error",
    b"sub",
    b"refresh_token",
    b"request_uri",
)


_BEGINNINGS = (
    ('"jwks_uri"', documents.DISCOVERY),
    ('"keys"', documents.KEY_SET),
    ('"access_token"', documents.TOKEN_RESPONSE),
    ('"id_token"', documents.TOKEN_RESPONSE),
)


_DEEP = 4096
"""What a value costs that is nested too deep to be read, in characters."""


_BRACKET = expression(r"[{\[]\s*+[\"{\[\]}]")


def json_values(text: str, searched: Searched) -> Iterator[Piece]:
    """JSON objects and lists that stand in the text; a whole text that begins as JSON and breaks off is kept too."""
    decoder = json.JSONDecoder()
    effort = Effort(text)
    position = 0
    while (start := _next_bracket(text, position)) >= 0:
        try:
            value, end = decoder.raw_decode(text, start)
        except (ValueError, RecursionError) as error:
            effort.spend(error.pos - start if isinstance(error, json.JSONDecodeError) else _DEEP)
            if start == len(text) - len(text.lstrip()) and (cut := _broken_document(text[start:])):
                yield Piece(start, len(text), [cut])
                return
            position = start + 1
            continue
        found = list(_in_json(value, text[start:end], searched))
        if found:
            yield Piece(start, end, found)
        position = end


def _next_bracket(text: str, position: int) -> int:
    match = _BRACKET.search(text, position)
    return match.start() if match else -1


def _broken_document(text: str) -> FoundMessage | None:
    """A document that plainly begins as one of those known, and cannot be read as JSON."""
    for member, kind in _BEGINNINGS:
        if member in text[:20_000]:
            return FoundMessage(kind, text.encode("utf-8", "surrogatepass"))
    return None


def _in_json(value: Any, text: str, searched: Searched, path: str = "", depth: int = 0) -> Iterator[FoundMessage]:
    """The document that a JSON value is, and what stands in it, at any depth."""
    if depth > limits.JSON_DEPTH:
        return
    if isinstance(value, dict):
        joined = _json_token(value, path)
        if joined:
            yield joined
            return
        kind = documents.kind_of(value)
        if kind:
            raw = text if not path else json.dumps(value, ensure_ascii=False)
            yield FoundMessage(
                kind=kind,
                data=raw.encode("utf-8", "surrogatepass"),
                layers=("json",) if path else (),
                repairs=(),
                where=member_at(path),
            )
            yield from _members(value, path)
            return
        if kind is None and len(value) >= 2 and parameters.kind_of(params := _as_parameters(value)):
            yield from of_parameters(params, member_at(path))
            return
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        here = f"{path}/{key}"
        if isinstance(inner, str) and len(inner) >= 20:
            yield from _in_text_value(inner, str(key), here, searched)
        elif isinstance(inner, dict | list):
            yield from _in_json(inner, text, searched, here, depth + 1)


def _in_text_value(inner: str, key: str, path: str, searched: Searched) -> Iterator[FoundMessage]:
    if WHOLE.fullmatch(inner):
        token = found_token(inner, member_at(path), ("json",), key)
        if token:
            yield token
        return
    for base, message in enumerate(searched(inner)):
        yield message._replace(
            where=member_at(path).then(message.where),
            within=None if base == 0 else message.within,
        )


def _json_token(value: dict[str, Any], path: str) -> FoundMessage | None:
    """A JWS or JWE in JSON form (RFC 7515 §7.2, RFC 7516 §7.2)."""
    place = member_at(path)
    if "ciphertext" in value and "protected" in value:
        return FoundMessage(kind="jwe", data=json.dumps(value).encode(), layers=(), repairs=(), where=place)
    if "payload" in value and ("signature" in value or "signatures" in value):
        return found_token(json.dumps(value), place, ())
    return None


def _members(value: dict[str, Any], path: str) -> Iterator[FoundMessage]:
    """The tokens that a document carries."""
    for name in TOKEN_MEMBERS:
        inner = value.get(name)
        if isinstance(inner, str) and WHOLE.fullmatch(inner):
            token = found_token(inner, member_at(f"{path}/{name}"), ("json",), name)
            if token:
                yield token._replace(within=0)


def _as_parameters(value: dict[str, Any]) -> Parameters:
    pairs = [
        (str(key), str(item))
        for key, item in value.items()
        if isinstance(item, str | int) and not isinstance(item, bool)
    ]
    return parameters.listed(pairs)
