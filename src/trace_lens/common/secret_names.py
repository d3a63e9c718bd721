"""What is a secret in each format, by name: one table, with its sources.

Values that are compared (identifiers, addresses, names, state, nonce, fingerprints) are none. Whatever has the form of
a token is a secret under any name.
"""

from __future__ import annotations

import hashlib
from typing import Any

from trace_lens.common.expressions import expression
from trace_lens.common.masking import Secret
from trace_lens.common.secrets_in_text import without_tokens

PARAMETERS = frozenset(
    {
        "code",
        "access_token",
        "refresh_token",
        "client_secret",
        "password",  # RFC 6749 §2.3.1, §4.1.2, §4.3.2, §5.1, §6
        "client_assertion",
        "assertion",  # RFC 7521 §4.1, §4.2
        "code_verifier",  # RFC 7636 §4.1
        "device_code",
        "user_code",  # RFC 8628 §3.2
        "device_secret",  # OpenID Connect Native SSO 1.0 §3.1
        "subject_token",
        "actor_token",  # RFC 8693 §2.1
        "id_token",
        "id_token_hint",
        "request",  # OpenID Connect Core 1.0 §3.1.2.1, §3.1.3.3, §6.1
        "logout_token",  # OpenID Connect Back-Channel Logout 1.0 §2.5
        "registration_access_token",
        "initial_access_token",  # RFC 7592 §3
        "token",  # RFC 7662 §2.1, RFC 7009 §2.1
        "auth_req_id",  # OpenID Connect CIBA Core 1.0 §7.3
    }
)
"""Parameters of requests and answers, and members of JSON documents."""

JWK_PUBLIC = frozenset(
    {
        "kty",
        "use",
        "key_ops",
        "alg",
        "kid",
        "x5u",
        "x5c",
        "x5t",
        "x5t#S256",  # RFC 7517 §4
        "crv",
        "x",
        "y",
        "n",
        "e",  # RFC 7518 §6
        "pub",  # AKP keys (RFC 9864 and its relatives)
        "exp",
        "nbf",
        "iat",
        "revoked",  # OpenID Federation 1.0 §8.7.2
    }
)
"""The members of a key that anybody may see; every other one is taken for private, whatever kind of key it is."""

XML_ELEMENTS = frozenset(
    {
        "SignatureValue",  # XML Signature §4.3
        "CipherValue",  # XML Encryption §3.3.1
        "Password",
        "BinarySecurityToken",  # WS-Security UsernameToken Profile §3.1, WS-Security §6.3
        "BinarySecret",
        "Entropy",  # WS-Trust 1.4 §4.3
        "Artifact",
        "MessageHandle",  # SAML 2.0 Core §3.5.1, Bindings §3.6.4
        "AssertionHandle",
    }
)
"""Elements whose text is a secret."""

_TOKEN = expression(r"eyJ[A-Za-z0-9_-]{6,}+\.[A-Za-z0-9_.-]{2,}+")
_ADDRESS = expression(r"(?i)[a-z][a-z0-9+.-]*+://")


def is_token(text: str) -> bool:
    """Whether a text has the form of a token."""
    return _TOKEN.fullmatch(text) is not None


def hidden(value: Any) -> Any:
    """Plain data with its secrets marked: those of known names, all private members of keys, tokens anywhere."""
    if isinstance(value, dict):
        is_key = isinstance(value.get("kty"), str)
        return {
            key: _all_hidden(inner) if (key in PARAMETERS or (is_key and key not in JWK_PUBLIC)) else hidden(inner)
            for key, inner in value.items()
        }
    if isinstance(value, list):
        return [hidden(inner) for inner in value]
    if isinstance(value, str):
        return hidden_text(value)
    return value


def _all_hidden(value: Any) -> Any:
    """Every text and number in some data as a secret."""
    if isinstance(value, dict):
        return {key: _all_hidden(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_all_hidden(inner) for inner in value]
    return value if value is None or isinstance(value, bool) else Secret(str(value))


def hidden_text(text: str) -> str:
    """A value as a secret where it is a token; else with the tokens, user information and codes inside it hidden.

    Other words in it stay: a value is compared, and is no running text.
    """
    return Secret(text) if is_token(text) else without_tokens(text)


def relay_words(text: str) -> str:
    """Relay state in words that let two be compared: an address without its query, else size and digest."""
    shown = relay_state(text)
    if not isinstance(shown, Secret):
        return shown
    digest = hashlib.sha256(text.encode("utf-8", "surrogatepass")).hexdigest()[:6]
    return f"opaque, {len(text)} characters, digest {digest}"


def relay_state(text: str) -> str:
    """Relay state as a secret, unless it is an address, whose query alone may be one."""
    if not _ADDRESS.match(text):
        return Secret(text)
    plain, mark, _ = text.partition("?")
    return without_tokens(plain) + (f"{mark}…" if mark else "")
