"""Requests and answers that travel as parameters: of an address, of its fragment, or of a form.

Sources: RFC 6749 §4.1; OpenID Connect Core 1.0 §3.1.2; OAuth 2.0 Form Post Response Mode 1.0; RFC 9101, RFC 9126;
OpenID Connect RP-Initiated Logout 1.0 §2, Front-Channel Logout 1.0 §2, Back-Channel Logout 1.0 §2.5.
"""

from __future__ import annotations

from collections.abc import Iterable
from urllib.parse import unquote_plus

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.limits import Refused
from trace_lens.common.tuples import NamedTuple

AUTHORIZATION_REQUEST, AUTHORIZATION_RESPONSE, TOKEN_REQUEST, LOGOUT_REQUEST, LOGOUT_TOKEN_POST = (
    "authorization-request",
    "authorization-response",
    "token-request",
    "logout-request",
    "logout-token",
)

KNOWN = {
    "response_type",
    "client_id",
    "redirect_uri",
    "scope",
    "state",
    "nonce",
    "code",
    "grant_type",
    "id_token",
    "access_token",
    "refresh_token",
    "code_verifier",
    "code_challenge",
    "code_challenge_method",
    "error",
    "error_description",
    "session_state",
    "iss",
    "request",
    "request_uri",
    "logout_token",
    "id_token_hint",
    "post_logout_redirect_uri",
    "client_secret",
    "response_mode",
    "prompt",
    "max_age",
    "login_hint",
    "acr_values",
    "token_type",
    "expires_in",
    "client_assertion",
    "sid",
    "ui_locales",
    "display",
    "resource",
}
SECRET = {
    "code",
    "id_token",
    "access_token",
    "refresh_token",
    "client_secret",
    "client_assertion",
    "code_verifier",
    "password",
    "logout_token",
    "id_token_hint",
    "request",
    "assertion",
    "device_code",
}
"""Parameters whose values must be masked when shown."""


class Parameters(NamedTuple):
    """Parameters in their order; `address` is where they were sent, less the parameters, where that is known.

    `carried` says how they travelled: `query`, `fragment`, `form` or `listed`.
    """

    pairs: tuple[tuple[str, str], ...]
    carried: str
    address: str | None = None

    def get(self, name: str) -> str | None:
        """The first value of a parameter; an empty one counts as not there (RFC 6749 §3.1)."""
        return next((value for key, value in self.pairs if key == name and value), None)

    @property
    def names(self) -> set[str]:
        """The names that have a value."""
        return {name for name, value in self.pairs if value}

    @property
    def twice(self) -> tuple[str, ...]:
        """Known parameters that stand more than once, which is forbidden (RFC 6749 §3.1)."""
        keys = [name for name, _ in self.pairs if name in KNOWN]
        return tuple(name for name in dict.fromkeys(keys) if keys.count(name) > 1 and name != "resource")

    @property
    def scopes(self) -> tuple[str, ...]:
        """`scope`, as a list."""
        return tuple((self.get("scope") or "").split())


def read_parameters(text: str, carried: str, address: str | None = None) -> Parameters:
    """Parameters of a query, fragment or form body. Raises Refused where they are too many."""
    if text.count("&") >= limits.PARAMETERS:
        raise Refused(f"it has more than {limits.PARAMETERS:,} parameters")
    pairs = (part.partition("=") for part in text.split("&") if part)
    return Parameters(tuple((unquote_plus(name), unquote_plus(value)) for name, _, value in pairs), carried, address)


def listed(pairs: Iterable[tuple[str, str]]) -> Parameters:
    """Parameters as a network panel lists them, already decoded."""
    return Parameters(tuple(pairs), "listed")


_WORDS = expression(r"[A-Za-z]+(?:[_ -][A-Za-z]+)+")
"""A code of an error, as `user_not_found`: no code of an answer is made of words."""


def kind_of(found: Parameters) -> str | None:
    """Which message the parameters are; None where they are none that is known."""
    has = found.names
    if "logout_token" in has:
        return LOGOUT_TOKEN_POST
    if "grant_type" in has:
        return TOKEN_REQUEST
    if "client_id" in has and has & {"response_type", "request", "request_uri"}:
        return AUTHORIZATION_REQUEST
    if {"id_token_hint", "post_logout_redirect_uri"} & has or {"iss", "sid"} == has & {"iss", "sid", "code", "state"}:
        return LOGOUT_REQUEST
    if "code" in has and has & {"state", "iss", "session_state", "scope"}:
        return AUTHORIZATION_RESPONSE
    code = found.get("code") or ""
    if found.carried == "query" and len(code) >= 16 and not _WORDS.fullmatch(code):
        return AUTHORIZATION_RESPONSE
    if has & {"id_token", "access_token"} and not has & {"grant_type", "client_secret"}:
        return AUTHORIZATION_RESPONSE
    if "error" in has and has & {"state", "error_description", "iss", "error_uri"}:
        return AUTHORIZATION_RESPONSE
    return None
