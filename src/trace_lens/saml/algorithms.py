"""The signature and digest algorithms of XML Signature, each a row of a table, and how a key verifies by them.

Sources: XML Signature 1.1 §6, RFC 6931, RFC 9231 (EdDSA). What is not in the tables is not accepted.
"""

from __future__ import annotations

import hashlib
from functools import partial
from typing import TYPE_CHECKING

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import encode_dss_signature

from trace_lens.common import recorded
from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.public_keys import octets_of
from trace_lens.pki.small_order import has_small_order

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

_OLD = "http://www.w3.org/2000/09/xmldsig#"
_MORE = "http://www.w3.org/2001/04/xmldsig-more#"
_MORE_2007 = "http://www.w3.org/2007/05/xmldsig-more#"
_MORE_2021 = "http://www.w3.org/2021/04/xmldsig-more#"
_ENC = "http://www.w3.org/2001/04/xmlenc#"
_DSIG11 = "http://www.w3.org/2009/xmldsig11#"

_HASHES: dict[str, hashes.HashAlgorithm] = {
    "md5": hashes.MD5(),
    "sha1": hashes.SHA1(),
    "sha224": hashes.SHA224(),
    "sha256": hashes.SHA256(),
    "sha384": hashes.SHA384(),
    "sha512": hashes.SHA512(),
    "sha3-224": hashes.SHA3_224(),
    "sha3-256": hashes.SHA3_256(),
    "sha3-384": hashes.SHA3_384(),
    "sha3-512": hashes.SHA3_512(),
}

DIGESTS: dict[str, str] = {
    _MORE + "md5": "md5",
    _OLD + "sha1": "sha1",
    _MORE + "sha224": "sha224",
    _ENC + "sha256": "sha256",
    _MORE + "sha384": "sha384",
    _ENC + "sha512": "sha512",
    **{f"{_MORE_2007}sha3-{size}": f"sha3-{size}" for size in (224, 256, 384, 512)},
}
"""Digest algorithm URI → name of the hash."""


class SignatureAlgorithm(NamedTuple):
    """One row: `family` is rsa, pss, ecdsa, dsa, ed25519 or ed448; `hash` the name of the hash, empty for EdDSA."""

    family: str
    hash: str

    @property
    def weak(self) -> bool:
        """Whether its hash is one that collisions are known for."""
        return self.hash in ("md5", "sha1")


SIGNATURES: dict[str, SignatureAlgorithm] = {
    _MORE + "rsa-md5": SignatureAlgorithm("rsa", "md5"),
    _OLD + "rsa-sha1": SignatureAlgorithm("rsa", "sha1"),
    _OLD + "dsa-sha1": SignatureAlgorithm("dsa", "sha1"),
    _DSIG11 + "dsa-sha256": SignatureAlgorithm("dsa", "sha256"),
    **{f"{_MORE}rsa-{name}": SignatureAlgorithm("rsa", name) for name in ("sha224", "sha256", "sha384", "sha512")},
    **{
        f"{_MORE}ecdsa-{name}": SignatureAlgorithm("ecdsa", name)
        for name in ("sha1", "sha224", "sha256", "sha384", "sha512")
    },
    **{
        f"{_MORE_2007}{name}-rsa-MGF1": SignatureAlgorithm("pss", name)
        for name in ("sha1", "sha224", "sha256", "sha384", "sha512", "sha3-224", "sha3-256", "sha3-384", "sha3-512")
    },
    _MORE_2007 + "rsa-pss": SignatureAlgorithm("pss", "sha256"),
    _MORE_2021 + "eddsa-ed25519": SignatureAlgorithm("ed25519", ""),
    _MORE_2021 + "eddsa-ed448": SignatureAlgorithm("ed448", ""),
}
"""Signature algorithm URI → how it works."""

RSA_PSS_WITH_PARAMETERS = _MORE_2007 + "rsa-pss"


class PSSParameters(NamedTuple):
    """RSASSA-PSS parameters (RFC 6931 §2.3.9); `salt_length` in bytes."""

    hash: str = "sha256"
    mask_hash: str = "sha256"
    salt_length: int = 32


def digest(name: str, octets: bytes) -> bytes:
    """The hash of octets, by the hash's name in DIGESTS."""
    return hashlib.new(name.replace("-", "_") if name.startswith("sha3") else name, octets).digest()


def verifies(
    key: PublicKeyTypes,
    algorithm: SignatureAlgorithm,
    signature: bytes,
    octets: bytes,
    pss: PSSParameters | None = None,
) -> bool:
    """Whether a key made this signature over these octets; False also where the key is of another family."""
    return recorded.holds(
        "signature",
        partial(octets_of, key),
        signature,
        octets,
        lambda: _verifies(key, algorithm, signature, octets, pss),
    )


def _verifies(
    key: PublicKeyTypes,
    algorithm: SignatureAlgorithm,
    signature: bytes,
    octets: bytes,
    pss: PSSParameters | None,
) -> bool:
    try:
        match algorithm.family, key:
            case "rsa", rsa.RSAPublicKey():
                key.verify(signature, octets, padding.PKCS1v15(), _HASHES[algorithm.hash])
            case "pss", rsa.RSAPublicKey():
                hashed = _HASHES[pss.hash if pss else algorithm.hash]
                mask = _HASHES[pss.mask_hash] if pss else hashed
                salt = pss.salt_length if pss else hashed.digest_size
                key.verify(signature, octets, padding.PSS(padding.MGF1(mask), salt), hashed)
            case "ecdsa", ec.EllipticCurvePublicKey():
                size = (key.curve.key_size + 7) // 8
                if len(signature) != 2 * size:
                    return False
                key.verify(_der(signature), octets, ec.ECDSA(_HASHES[algorithm.hash]))
            case "dsa", dsa.DSAPublicKey():
                if not signature or len(signature) % 2:
                    return False
                key.verify(_der(signature), octets, _HASHES[algorithm.hash])
            case "ed25519", ed25519.Ed25519PublicKey() if not has_small_order(key.public_bytes_raw()):
                key.verify(signature, octets)
            case "ed448", ed448.Ed448PublicKey():
                key.verify(signature, octets)
            case _:
                return False
    except (InvalidSignature, UnsupportedAlgorithm, ValueError, OverflowError):
        return False
    return True


def _der(signature: bytes) -> bytes:
    """r and s stand side by side in XML Signature (§6.4.1, §6.4.3); cryptography wants them in DER."""
    half = len(signature) // 2
    return encode_dss_signature(int.from_bytes(signature[:half]), int.from_bytes(signature[half:]))
