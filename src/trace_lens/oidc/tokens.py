"""Tokens: claims with their moments, and which kind of token one is, with the reason.

Sources: RFC 7519 §4; OpenID Connect Core 1.0 §2, §5.3.2; RFC 9068 §2 (access tokens); OpenID Connect Back-Channel
Logout 1.0 §2.4; RFC 9101 (request objects). The kind is told by what the token says of itself, never by where it stood.
"""

from __future__ import annotations

import hashlib
from datetime import UTC, datetime
from typing import Any

from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.jose import Jws, to_base64url
from trace_lens.oidc.strict_json import Json, JsonDamaged, read_json

LOGOUT_EVENT = "http://schemas.openid.net/event/backchannel-logout"
ID, ACCESS, LOGOUT, REQUEST, USERINFO, OTHER = (
    "id-token",
    "access-token",
    "logout-token",
    "authorization-request",
    "userinfo",
    "jwt",
)
TIMES = ("exp", "nbf", "iat", "auth_time", "updated_at")
_MILLISECONDS = 100_000_000_000
_HASHES = {"256": "sha256", "384": "sha384", "512": "sha512"}


class Moment(NamedTuple):
    """A NumericDate (RFC 7519 §2): as written, the moment it means, and what is wrong with the way it is written."""

    written: Any
    moment: datetime | None
    problem: str | None = None


class Token(NamedTuple):
    """A JWS whose payload is a set of claims. `why` says by what its kind was told."""

    jws: Jws
    claims: dict[str, Any]
    kind: str
    why: str
    duplicates: tuple[str, ...] = ()
    inexact: tuple[str, ...] = ()

    def text(self, name: str) -> str | None:
        """A claim as text; None where it is not there or no simple value."""
        value = self.claims.get(name)
        if isinstance(value, bool) or value is None or isinstance(value, dict | list):
            return None
        return str(value)

    def moment(self, name: str) -> Moment | None:
        """A claim that is a moment; None where it is not there."""
        return read_numeric_date(self.claims[name]) if name in self.claims else None

    def at(self, name: str) -> datetime | None:
        """The moment of a claim, where it can be understood."""
        found = self.moment(name)
        return found.moment if found else None

    @property
    def audience(self) -> tuple[str, ...]:
        """`aud`, one or several (RFC 7519 §4.1.3)."""
        return texts(self.claims.get("aud"))

    @property
    def scopes(self) -> tuple[str, ...]:
        """`scope` or `scp`, as a list."""
        value = self.claims.get("scope", self.claims.get("scp"))
        return tuple(value.split()) if isinstance(value, str) else texts(value)


class NoClaims(ValueError):
    """The payload is no set of claims; the message says what it is."""


def read_token(jws: Jws) -> Token:
    """The claims of a JWS and the kind of token that it is. Raises NoClaims."""
    try:
        found: Json = read_json(jws.payload)
    except JsonDamaged as error:
        raise NoClaims(f"its payload is no JSON: {error.reason}") from None
    if not isinstance(found.value, dict):
        raise NoClaims("its payload is no JSON object")
    kind, why = kind_of(jws.header, found.value)
    return Token(jws=jws, claims=found.value, kind=kind, why=why, duplicates=found.duplicates, inexact=found.inexact)


def kind_of(header: dict[str, Any], claims: dict[str, Any]) -> tuple[str, str]:
    """Which kind of token it is, and by what that is told."""
    typ = str(header.get("typ") or "").casefold().removeprefix("application/")
    events = claims.get("events")
    if typ == "logout+jwt" or (isinstance(events, dict) and LOGOUT_EVENT in events):
        return LOGOUT, "its typ or its events claim says logout"
    if typ == "at+jwt":
        return ACCESS, "its typ is at+jwt (RFC 9068)"
    if "response_type" in claims and "client_id" in claims:
        return REQUEST, "it holds response_type and client_id: a request object"
    for name in ("nonce", "at_hash", "c_hash", "s_hash"):
        if name in claims:
            return ID, f"it holds {name}, which only ID tokens have"
    for name in ("scope", "scp"):
        if name in claims:
            return ACCESS, f"it holds {name}, which says what may be done with it"
    if "client_id" in claims and "auth_time" not in claims:
        return ACCESS, "it has client_id and no claim of a sign-in"
    if {"iss", "sub", "aud", "exp", "iat"} <= claims.keys():
        return ID, "it has all claims of an ID token, and none of an access token"
    if {"iss", "sub", "aud"} <= claims.keys() and claims.keys() & {"iat", "auth_time"}:
        return ID, "it tells who signed in where, though not until when it is good"
    if "sub" in claims and "exp" not in claims:
        return USERINFO, "it tells of a person and has no end"
    return OTHER, "it has neither the marks of an ID token nor of an access token"


def texts(value: Any) -> tuple[str, ...]:
    """A claim's values as texts: one, several, or none."""
    if isinstance(value, list):
        return tuple(text for item in value for text in texts(item))
    if value is None or isinstance(value, dict):
        return ()
    if isinstance(value, bool):
        return ("true" if value else "false",)
    return (str(value),)


def read_numeric_date(value: Any) -> Moment:
    """A NumericDate; seconds as text and milliseconds are read all the same, and told."""
    problem = None
    number = value
    if isinstance(value, str):
        try:
            number = float(value) if "." in value else int(value)
            problem = "it is a text, not a number"
        except ValueError:
            return _written_out(value)
    if isinstance(number, bool) or not isinstance(number, int | float):
        return Moment(value, None, "it is no number")
    if abs(number) >= _MILLISECONDS:
        number = number / 1000
        problem = "it counts milliseconds, not seconds"
    try:
        return Moment(value, datetime.fromtimestamp(number, UTC), problem)
    except (OverflowError, OSError, ValueError):
        return Moment(value, None, "it is no moment of the calendar")


def _written_out(value: str) -> Moment:
    from trace_lens.common.moments import MomentError, read_moment

    try:
        return Moment(value, read_moment(value)[0], "it is a date written out, not a number of seconds")
    except MomentError:
        return Moment(value, None, "it is neither a number nor a date")


def half_hash(algorithm: str, value: str) -> str | None:
    """The left half of the hash of a value (OpenID Connect Core 1.0 §3.1.3.6); None where the algorithm has no hash."""
    name = _HASHES.get(algorithm[-3:], "sha512" if algorithm in ("EdDSA", "Ed25519") else "")
    if not name:
        return None
    digest = hashlib.new(name, value.encode("ascii", "replace")).digest()
    return to_base64url(digest[: len(digest) // 2])


def half_hashes(value: str) -> tuple[str, ...]:
    """The half hash of a value by each algorithm that a token may name: by one of them a token belongs to it."""
    octets = value.encode("utf-8", "replace")
    made = (hashlib.new(name, octets).digest() for name in ("sha256", "sha384", "sha512"))
    return tuple(to_base64url(text[: len(text) // 2]) for text in made)


def code_challenge(verifier: str) -> str:
    """The S256 challenge of a code verifier (RFC 7636 §4.2)."""
    return to_base64url(hashlib.sha256(verifier.encode("ascii", "replace")).digest())
