"""Tokens, keys and code challenges as a provider makes them, for the demo and for tests (RFC 7515 to RFC 7518)."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import os
from typing import Any

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature
from cryptography.hazmat.primitives.ciphers.aead import AESGCM

_HASHES: dict[str, hashes.HashAlgorithm] = {"256": hashes.SHA256(), "384": hashes.SHA384(), "512": hashes.SHA512()}


def to_base64url(octets: bytes) -> str:
    """Base64url without padding (RFC 7515 §2)."""
    return base64.urlsafe_b64encode(octets).rstrip(b"=").decode()


def compact(value: Any) -> str:
    """A header or payload as base64url of compact JSON."""
    return to_base64url(json.dumps(value, separators=(",", ":"), ensure_ascii=False).encode())


def sign(claims: dict[str, Any], key: Any, algorithm: str = "RS256", **header: Any) -> str:
    """A JWS in compact form; `key` is a private key, or the octets of a shared secret."""
    full = {"alg": algorithm, "typ": "JWT", **header}
    octets = f"{compact(full)}.{compact(claims)}"
    return f"{octets}.{to_base64url(signature(octets.encode(), key, algorithm))}"


def signature(octets: bytes, key: Any, algorithm: str) -> bytes:
    """The signature value over some octets by a JOSE algorithm."""
    size = algorithm[-3:]
    match key:
        case bytes():
            return hmac.digest(key, octets, f"sha{size}")
        case rsa.RSAPrivateKey() if algorithm.startswith("PS"):
            hashed = _HASHES[size]
            return key.sign(octets, padding.PSS(padding.MGF1(hashed), hashed.digest_size), hashed)
        case rsa.RSAPrivateKey():
            return key.sign(octets, padding.PKCS1v15(), _HASHES.get(size, hashes.SHA1()))
        case ec.EllipticCurvePrivateKey():
            r, s = decode_dss_signature(key.sign(octets, ec.ECDSA(_HASHES[size])))
            length = (key.curve.key_size + 7) // 8
            return r.to_bytes(length) + s.to_bytes(length)
        case ed25519.Ed25519PrivateKey():
            return key.sign(octets)
        case _:
            raise TypeError(f"no signature by {type(key).__name__}")


def encrypt(text: str, key: rsa.RSAPublicKey, **header: Any) -> str:
    """A JWE in compact form by RSA-OAEP-256 and A256GCM."""
    full = {"alg": "RSA-OAEP-256", "enc": "A256GCM", "cty": "JWT", **header}
    protected = compact(full)
    content, vector = os.urandom(32), os.urandom(12)
    way = padding.OAEP(padding.MGF1(hashes.SHA256()), hashes.SHA256(), None)
    sealed = AESGCM(content).encrypt(vector, text.encode(), protected.encode())
    parts = (key.encrypt(content, way), vector, sealed[:-16], sealed[-16:])
    return ".".join((protected, *map(to_base64url, parts)))


def public_jwk(key: Any, kid: str, **members: Any) -> dict[str, Any]:
    """The public half of a private key as a JSON Web Key."""
    public = key.public_key()
    match public:
        case rsa.RSAPublicKey():
            numbers = public.public_numbers()
            size = (public.key_size + 7) // 8
            own = {"kty": "RSA", "n": to_base64url(numbers.n.to_bytes(size)), "e": to_base64url(b"\x01\x00\x01")}
        case ec.EllipticCurvePublicKey():
            point = public.public_numbers()
            size = (public.curve.key_size + 7) // 8
            curve = {"secp256r1": "P-256", "secp384r1": "P-384", "secp521r1": "P-521"}[public.curve.name]
            own = {
                "kty": "EC",
                "crv": curve,
                "x": to_base64url(point.x.to_bytes(size)),
                "y": to_base64url(point.y.to_bytes(size)),
            }
        case _:
            own = {"kty": "OKP", "crv": "Ed25519", "x": to_base64url(public.public_bytes_raw())}
    return {**own, "kid": kid, "use": "sig", **members}


def half(value: str) -> str:
    """The half hash of a value for `at_hash`, `c_hash` and `s_hash` with a 256-bit algorithm (Core §3.1.3.6)."""
    return to_base64url(hashlib.sha256(value.encode()).digest()[:16])
