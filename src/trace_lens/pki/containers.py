"""Certificates in containers: PKCS#7 (RFC 2315, RFC 5652) and PKCS#12 (RFC 7292), told by their first octets."""

from __future__ import annotations

from typing import TYPE_CHECKING

from trace_lens.common.tuples import NamedTuple

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes

_SIGNED_DATA = b"\x06\x09\x2a\x86\x48\x86\xf7\x0d\x01\x07\x02"


class ContainerError(ValueError):
    """The container cannot be opened; the message says why."""


class PasswordNeeded(ContainerError):
    """The container is closed with a password, and none was given."""


class KeyAndCertificates(NamedTuple):
    """What a PKCS#12 file holds: a private key, where there is one, and certificates in DER, the key's own first."""

    key: PrivateKeyTypes | None
    certificates: tuple[bytes, ...]


def is_pkcs7(data: bytes) -> bool:
    """Whether octets begin as signed data (RFC 5652 §5.1) does."""
    start = _content(data)
    return start > 0 and data[start : start + len(_SIGNED_DATA)] == _SIGNED_DATA


def is_pkcs12(data: bytes) -> bool:
    """Whether octets begin as a PFX of version 3 (RFC 7292 §4) does."""
    start = _content(data)
    return start > 0 and data[start : start + 4] == b"\x02\x01\x03\x30"


def _content(data: bytes) -> int:
    """Where the content of an outermost SEQUENCE begins; 0 where there is none. Indefinite lengths count too."""
    if len(data) < 20 or data[0] != 0x30:
        return 0
    length = data[1]
    return 2 if length <= 0x80 else 2 + (length & 0x7F) if length & 0x7F <= 4 else 0


def certificates_of_pkcs7(data: bytes) -> list[bytes]:
    """The certificates of a PKCS#7 container in DER. Raises ContainerError."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import Encoding, pkcs7

    read = pkcs7.load_pem_pkcs7_certificates if b"-----BEGIN" in data else pkcs7.load_der_pkcs7_certificates
    try:
        found = read(data)
    except (ValueError, UnsupportedAlgorithm) as error:
        raise ContainerError(f"it is no PKCS#7 that can be read ({error})") from None
    return [certificate.public_bytes(Encoding.DER) for certificate in found]


def open_pkcs12(data: bytes, password: str | None) -> KeyAndCertificates:
    """Open a PKCS#12 file. Raises PasswordNeeded where it is closed and no password given, else ContainerError."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import Encoding, pkcs12

    try:
        key, own, others = pkcs12.load_key_and_certificates(data, password.encode() if password else None)
    except ValueError as error:
        if "password" in str(error).lower():
            if password is None:
                raise PasswordNeeded("it is closed with a password") from None
            raise ContainerError("the password is wrong") from None
        raise ContainerError("it is no PKCS#12 that can be read") from None
    except UnsupportedAlgorithm as error:
        raise ContainerError(f"it is closed by an algorithm that cannot be opened ({error})") from None
    listed = ([own] if own else []) + list(others)
    return KeyAndCertificates(key, tuple(certificate.public_bytes(Encoding.DER) for certificate in listed))


def open_private_key(data: bytes) -> PrivateKeyTypes | None:
    """The private key in PEM or DER, where it is there and open without a password."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import load_der_private_key, load_pem_private_key

    try:
        return load_pem_private_key(data, None) if b"-----BEGIN" in data else load_der_private_key(data, None)
    except (ValueError, TypeError, UnsupportedAlgorithm):
        return None
