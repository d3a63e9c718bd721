"""The signature algorithms of JOSE, each a row of a table, and how a key verifies by them.

Sources: RFC 7518 §3 (RS, PS, ES, HS), RFC 8037 and RFC 9864 (EdDSA, Ed25519, Ed448). `none` and whatever is not in the
table verifies nothing.
"""

from __future__ import annotations

from functools import partial
from typing import TYPE_CHECKING

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import constant_time, hashes, hmac
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import encode_dss_signature

from trace_lens.common import recorded
from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.public_keys import octets_of
from trace_lens.pki.small_order import has_small_order

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

_HASHES: dict[str, hashes.HashAlgorithm] = {
    "256": hashes.SHA256(),
    "384": hashes.SHA384(),
    "512": hashes.SHA512(),
    "1": hashes.SHA1(),
}


class SignatureAlgorithm(NamedTuple):
    """One row: `family` is RS, PS, ES, Ed or HS; `hash` the size of the hash; `curve` the curve that it is bound to."""

    family: str
    hash: str = ""
    curve: str = ""

    @property
    def symmetric(self) -> bool:
        """Whether both sides share one secret."""
        return self.family == "HS"

    @property
    def key_type(self) -> str:
        """The `kty` of the keys that it works with."""
        return {"RS": "RSA", "PS": "RSA", "ES": "EC", "Ed": "OKP", "HS": "oct"}[self.family]


SIGNATURES: dict[str, SignatureAlgorithm] = {
    **{
        f"{family}{size}": SignatureAlgorithm(family, size)
        for family in ("RS", "PS", "HS")
        for size in _HASHES
        if size != "1"
    },
    "ES256": SignatureAlgorithm("ES", "256", "secp256r1"),
    "ES384": SignatureAlgorithm("ES", "384", "secp384r1"),
    "ES512": SignatureAlgorithm("ES", "512", "secp521r1"),
    "EdDSA": SignatureAlgorithm("Ed"),
    "Ed25519": SignatureAlgorithm("Ed", "", "Ed25519"),
    "Ed448": SignatureAlgorithm("Ed", "", "Ed448"),
    "RS1": SignatureAlgorithm("RS", "1"),
}
"""`alg` → how it works. RS1 (RSA with SHA-1) is there to be named weak."""
WEAK = {"RS1"}


def same_algorithm(left: str, right: str) -> bool:
    """Whether two names mean one algorithm: `EdDSA` with the usual curve is `Ed25519`."""
    return left == right or {left, right} == {"EdDSA", "Ed25519"}


def verifies(algorithm: str, key: PublicKeyTypes | bytes, signature: bytes, octets: bytes) -> bool:
    """Whether a key made this signature over these octets; False also where key and algorithm do not go together."""
    return recorded.holds(
        "token", partial(_octets, key), signature, octets, lambda: _verifies(algorithm, key, signature, octets)
    )


def _octets(key: PublicKeyTypes | bytes) -> bytes:
    """What stands for a key where a verdict is kept: of a shared secret nothing but that it is one."""
    return b"shared" if isinstance(key, bytes) else octets_of(key)


def _verifies(algorithm: str, key: PublicKeyTypes | bytes, signature: bytes, octets: bytes) -> bool:
    row = SIGNATURES.get(algorithm)
    if row is None:
        return False
    try:
        match row.family, key:
            case "HS", bytes():
                return _mac(row, key, octets, signature)
            case "RS", rsa.RSAPublicKey():
                key.verify(signature, octets, padding.PKCS1v15(), _HASHES[row.hash])
            case "PS", rsa.RSAPublicKey():
                hashed = _HASHES[row.hash]
                key.verify(signature, octets, padding.PSS(padding.MGF1(hashed), hashed.digest_size), hashed)
            case "ES", ec.EllipticCurvePublicKey():
                size = (key.curve.key_size + 7) // 8
                if key.curve.name != row.curve or len(signature) != 2 * size:
                    return False
                made = encode_dss_signature(int.from_bytes(signature[:size]), int.from_bytes(signature[size:]))
                key.verify(made, octets, ec.ECDSA(_HASHES[row.hash]))
            case "Ed", ed25519.Ed25519PublicKey() if row.curve != "Ed448" and not has_small_order(
                key.public_bytes_raw()
            ):
                key.verify(signature, octets)
            case "Ed", ed448.Ed448PublicKey() if row.curve != "Ed25519":
                key.verify(signature, octets)
            case _:
                return False
    except (InvalidSignature, UnsupportedAlgorithm, ValueError, OverflowError):
        return False
    return True


def _mac(row: SignatureAlgorithm, key: bytes, octets: bytes, signature: bytes) -> bool:
    made = hmac.HMAC(key, _HASHES[row.hash])
    made.update(octets)
    return constant_time.bytes_eq(made.finalize(), signature)


def fits_key(algorithm: str, key_type: str) -> bool:
    """Whether an algorithm works with keys of a `kty`."""
    row = SIGNATURES.get(algorithm)
    return row is not None and row.key_type == key_type
