"""Keys and certificates for the demo, made when it is generated."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID


@dataclass(frozen=True)
class SigningKey:
    """A private key and its self-signed certificate."""

    private: rsa.RSAPrivateKey
    certificate: x509.Certificate

    @property
    def pem(self) -> str:
        """The certificate as PEM."""
        return self.certificate.public_bytes(Encoding.PEM).decode()

    @property
    def private_pem(self) -> str:
        """The private key as PEM (PKCS#8), without a password."""
        return self.private.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()

    @property
    def base64(self) -> str:
        """The certificate as one line of base64."""
        return "".join(self.pem.splitlines()[1:-1])

    def fingerprint(self, algorithm: hashes.HashAlgorithm) -> str:
        """The certificate's fingerprint in hexadecimal."""
        return self.certificate.fingerprint(algorithm).hex()


def make_key(name: str, not_before: datetime, not_after: datetime, organisation: str) -> SigningKey:
    """A 2048-bit RSA key with a self-signed certificate for the given validity (UTC)."""
    private = rsa.generate_private_key(65537, 2048)
    subject = x509.Name(
        [x509.NameAttribute(NameOID.COMMON_NAME, name), x509.NameAttribute(NameOID.ORGANIZATION_NAME, organisation)]
    )
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(not_before)
        .not_valid_after(not_after)
        .sign(private, hashes.SHA256())
    )
    return SigningKey(private, certificate)
