"""The octets of public keys."""

from __future__ import annotations

from typing import Any


def octets_of(key: Any) -> bytes:
    """SubjectPublicKeyInfo of a public key in DER (RFC 5280 §4.1.2.7)."""
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    octets: bytes = key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return octets
