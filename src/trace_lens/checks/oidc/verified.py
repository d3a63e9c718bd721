"""Whose key made a token's signature: the keys on record tried in the order in which they are trusted.

Sources: RFC 7515 §5.2 and §6; RFC 8725 (JSON Web Token Best Current Practices). A key that came inside the token is
never trusted; it is tried last, only to say that it fits.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.algorithms import SIGNATURES, fits_key, verifies
from trace_lens.oidc.jose import Jws
from trace_lens.oidc.jwk import Jwk, read_jwk, thumbprint
from trace_lens.workspace.records import Provider, Workspace
from trace_lens.workspace.token_keys import TokenKey, elsewhere, published

TRUSTED, KNOWN, EMBEDDED, NONE = "trusted", "known", "embedded", "none"
_TYPES = {"RSAPublicKey": "RSA", "EllipticCurvePublicKey": "EC", "Ed25519PublicKey": "OKP", "Ed448PublicKey": "OKP"}


class Verdict(NamedTuple):
    """What verifies a token: `trusted` keys are the provider's, `known` ones on record elsewhere.

    `key` is the one that fits; `named` those of the provider's set that the token's `kid` names, by id or thumbprint;
    `keys` all usable ones of the set; `broken` those that cannot be used.
    """

    standing: str
    key: TokenKey | None = None
    named: tuple[TokenKey, ...] = ()
    keys: tuple[TokenKey, ...] = ()
    broken: tuple[TokenKey, ...] = ()


def judge(jws: Jws, provider: Provider | None, workspace: Workspace) -> Verdict:
    """The verdict over a token's signature. Raises SettingsError where a key set on record cannot be read."""
    held = published(provider, workspace) if provider else ()
    keys = tuple(key for key in held if key.key.for_signing)
    broken = tuple(key for key in held if key.key.problem)
    named = tuple(key for key in keys if jws.key_id is not None and jws.key_id in (key.key.id, thumbprint(key.key)))
    if not SIGNATURES.get(jws.algorithm) or SIGNATURES[jws.algorithm].symmetric:
        return Verdict(NONE, None, named, keys, broken)
    tries: tuple[tuple[str, Callable[[], Iterable[TokenKey]]], ...] = (
        (TRUSTED, lambda: (*named, *keys)),
        (KNOWN, lambda: elsewhere(workspace, provider)),
        (EMBEDDED, lambda: _embedded(jws)),
    )
    for standing, tried in tries:
        found = _fitting(jws, tried())
        if found:
            return Verdict(standing, found, named, keys, broken)
    return Verdict(NONE, None, named, keys, broken)


def _fitting(jws: Jws, keys: Iterable[TokenKey]) -> TokenKey | None:
    for key in keys:
        public = key.key.public
        if public is not None and verifies(jws.algorithm, public, jws.signature, jws.signing_input):
            return key
    return None


def _embedded(jws: Jws) -> Iterable[TokenKey]:
    if isinstance(jws.header.get("jwk"), dict):
        yield TokenKey("embedded", "", "", read_jwk(jws.header["jwk"]))
    certificate = Jwk({"x5c": jws.header.get("x5c")}, "").certificate
    if certificate:
        yield TokenKey("embedded", "", "", Jwk({}, "", public=certificate.public_key))


def suits(jws: Jws, key: Jwk) -> bool:
    """Whether a key is of the type that the token's algorithm works with, and not set aside for another."""
    kind = key.type or next((name for word, name in _TYPES.items() if word in type(key.public).__name__), "")
    return fits_key(jws.algorithm, kind)


_FIXED = {
    "ES256": 64,
    "ES384": 96,
    "ES512": 132,
    "HS256": 32,
    "HS384": 48,
    "HS512": 64,
    "Ed25519": 64,
    "EdDSA": 64,
    "Ed448": 114,
}


def signature_length(jws: Jws, verdict: Verdict) -> int:
    """The bytes that a signature value of this algorithm, and of the key that is meant, has; 0 where that is open."""
    if jws.algorithm in _FIXED:
        return _FIXED[jws.algorithm]
    row = SIGNATURES.get(jws.algorithm)
    meant = [key for key in verdict.named or verdict.keys if suits(jws, key.key)]
    sizes = {(int(getattr(key.key.public, "key_size", 0)) + 7) // 8 for key in meant}
    if row is None or row.symmetric:
        return 0
    return min(sizes) if sizes else -(-len(jws.signature) // 128) * 128
