"""One certificate, read once: names, validity, fingerprints, its key and what is weak about it."""

from __future__ import annotations

import base64
import hashlib
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from functools import cached_property, lru_cache
from typing import TYPE_CHECKING

from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, rsa

from trace_lens.pki.fingerprints import Fingerprint, colons
from trace_lens.pki.public_keys import octets_of
from trace_lens.pki.usual_certificates import UsualCertificate, usual_certificate

if TYPE_CHECKING:
    from cryptography import x509
    from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes


class CertificateError(ValueError):
    """The octets are not a certificate that can be read; the message says why."""


@contextmanager
def _quietly() -> Iterator[None]:
    """Without the library's warnings, of a serial number that is not positive or a name that is too long: certificates
    are shown as they are.
    """
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", UserWarning)
        yield


@dataclass(frozen=True, repr=False)
class Certificate:
    """An X.509 certificate (RFC 5280) and what the program asks of it; two are equal when their octets are."""

    der: bytes

    @cached_property
    def as_x509(self) -> x509.Certificate:
        """The certificate as cryptography holds it."""
        from cryptography import x509

        with _quietly():
            return x509.load_der_x509_certificate(self.der)

    @cached_property
    def _usual(self) -> UsualCertificate | None:
        """What serves most questions without the library, where it is of the usual shape."""
        return usual_certificate(self.der)

    @cached_property
    def public_key(self) -> PublicKeyTypes:
        """The key that it certifies."""
        return self._usual.key if self._usual else self.as_x509.public_key()

    @cached_property
    def public_key_octets(self) -> bytes:
        """SubjectPublicKeyInfo in DER: equal for two certificates of one key."""
        return self._usual.key_octets if self._usual else octets_of(self.public_key)

    @cached_property
    def key_print(self) -> str:
        """SHA-256 of SubjectPublicKeyInfo: the same for every certificate of one key."""
        return str(Fingerprint("sha256", hashlib.sha256(self.public_key_octets).hexdigest()))

    @property
    def not_before(self) -> datetime:
        """Beginning of its validity, UTC."""
        return self._usual.not_before if self._usual else self.as_x509.not_valid_before_utc

    @property
    def not_after(self) -> datetime:
        """End of its validity, UTC."""
        return self._usual.not_after if self._usual else self.as_x509.not_valid_after_utc

    @property
    def subject(self) -> str:
        """The subject's name as RFC 4514 writes it."""
        return _name(lambda: self.as_x509.subject)

    @property
    def issuer(self) -> str:
        """The issuer's name as RFC 4514 writes it."""
        return _name(lambda: self.as_x509.issuer)

    @property
    def serial(self) -> str:
        """Serial number in hexadecimal."""
        if self._usual:
            return f"{self._usual.serial:x}"
        with _quietly():
            return f"{self.as_x509.serial_number:x}"

    @cached_property
    def sha1(self) -> Fingerprint:
        """SHA-1 fingerprint."""
        return Fingerprint("sha1", hashlib.sha1(self.der).hexdigest())

    @cached_property
    def sha256(self) -> Fingerprint:
        """SHA-256 fingerprint."""
        return Fingerprint("sha256", hashlib.sha256(self.der).hexdigest())

    @property
    def self_issued(self) -> bool:
        """Whether subject and issuer are the same (RFC 5280 §3.2)."""
        if self._usual and self._usual.subject == self._usual.issuer:
            return True
        with _quietly():
            return self.as_x509.subject == self.as_x509.issuer

    def signed(self, other: Certificate) -> bool:
        """Whether this one's key signed another certificate that names it as issuer."""
        try:
            with _quietly():
                other.as_x509.verify_directly_issued_by(self.as_x509)
        except (ValueError, TypeError, InvalidSignature, UnsupportedAlgorithm):
            return False
        return True

    def valid(self, at: datetime) -> bool:
        """Whether a moment lies in its validity (RFC 5280 §4.1.2.5: both ends belong to it)."""
        return self.not_before <= at <= self.not_after

    @property
    def spellings(self) -> dict[str, tuple[str, ...]]:
        """Its fingerprints as people and programs write them: with colons, bare, in capitals, base64url (RFC 7515)."""
        found: dict[str, tuple[str, ...]] = {}
        for fingerprint, thumbprint in ((self.sha256, "x5t#S256"), (self.sha1, "x5t")):
            octets = bytes.fromhex(fingerprint.hex)
            found[fingerprint.algorithm] = (colons(fingerprint.hex), fingerprint.hex, fingerprint.hex.upper())
            found[thumbprint] = (base64.urlsafe_b64encode(octets).rstrip(b"=").decode(),)
        return found

    def matches(self, fingerprint: Fingerprint) -> bool:
        """Whether a fingerprint is this certificate's."""
        return fingerprint in (self.sha1, self.sha256)

    @property
    def key(self) -> str:
        """Kind and size of the key: `RSA 2048`, `EC secp256r1`, `Ed25519`."""
        return key_words(self.public_key)

    @property
    def weakness(self) -> str | None:
        """What is weak about the key, or None."""
        return key_weakness(self.public_key)

    @property
    def alternative_names(self) -> tuple[str, ...]:
        """The subject alternative names, as text."""
        from cryptography import x509

        try:
            with _quietly():
                names = self.as_x509.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        except (x509.ExtensionNotFound, x509.DuplicateExtension, x509.UnsupportedGeneralNameType, ValueError):
            return ()
        return tuple(str(name.value) for name in names)


@lru_cache(maxsize=512)
def read_certificate(der: bytes) -> Certificate:
    """Read DER octets. Raises CertificateError."""
    certificate = Certificate(der)
    try:
        certificate.public_key  # noqa: B018  reading the key is what shows a damaged certificate
        certificate.not_after  # noqa: B018
    except (ValueError, UnsupportedAlgorithm, _invalid_version()) as error:
        raise CertificateError(f"its octets are not a certificate that can be read ({error})") from None
    return certificate


def _invalid_version() -> type[Exception]:
    """What the library raises at a version that there is none of; asked for only where something was raised."""
    from cryptography.x509 import InvalidVersion

    return InvalidVersion


def certificate_or_none(der: bytes | None) -> Certificate | None:
    """The certificate in DER octets; None where there are none, or where they cannot be read."""
    try:
        return read_certificate(der) if der else None
    except CertificateError:
        return None


def key_words(key: PublicKeyTypes) -> str:
    """Kind and size of a key in words."""
    match key:
        case rsa.RSAPublicKey():
            return f"RSA {key.key_size}"
        case dsa.DSAPublicKey():
            return f"DSA {key.key_size}"
        case ec.EllipticCurvePublicKey():
            return f"EC {key.curve.name}"
        case ed25519.Ed25519PublicKey():
            return "Ed25519"
        case ed448.Ed448PublicKey():
            return "Ed448"
        case _:
            return type(key).__name__.lstrip("_").removesuffix("PublicKey")


def key_weakness(key: PublicKeyTypes) -> str | None:
    """Why a key is weak for signatures (RSA or DSA under 2048 bits, a curve under 256), or None."""
    if isinstance(key, rsa.RSAPublicKey | dsa.DSAPublicKey) and key.key_size < 2048:
        return f"{key_words(key)} is shorter than 2048 bits"
    if isinstance(key, ec.EllipticCurvePublicKey) and key.curve.key_size < 256:
        return f"{key_words(key)} is a curve of only {key.curve.key_size} bits"
    return None


def _name(read: Callable[[], x509.Name]) -> str:
    """A name of a certificate; its parts are read only when it is asked for, and may be no names at all."""
    try:
        with _quietly():
            return read().rfc4514_string()
    except ValueError:
        return "(a name that cannot be shown)"
