"""Certificates for servers of this program's own: those of the stand-in, and the one of a receiver that listens for
others. Nothing here is trusted by anybody unless somebody says so.
"""

from __future__ import annotations

import ipaddress
import ssl
from datetime import datetime
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.own_files import write_privately


class Held(NamedTuple):
    """A certificate with its private key."""

    certificate: x509.Certificate
    private: ec.EllipticCurvePrivateKey

    @property
    def pem(self) -> bytes:
        """The certificate as PEM."""
        return self.certificate.public_bytes(serialization.Encoding.PEM)

    @property
    def sha256(self) -> str:
        """The fingerprint as browsers show it."""
        return self.certificate.fingerprint(hashes.SHA256()).hex(":").upper()


def make_certificate(
    name: str, by: Held | None, begins: datetime, ends: datetime, hosts: tuple[str, ...] = (), *, ca: bool = False
) -> Held:
    """A certificate for some hosts (names, or addresses without brackets), by an authority or by itself."""
    private = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(by.certificate.subject if by else subject)
        .public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(ends)
        .add_extension(x509.BasicConstraints(ca, None), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(private.public_key()), critical=False)
    )
    if hosts:
        builder = builder.add_extension(x509.SubjectAlternativeName([_named(host) for host in hosts]), critical=False)
    return Held(builder.sign(by.private if by else private, hashes.SHA256()), private)


def _named(host: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(host))
    except ValueError:
        return x509.DNSName(host)


def server_context(file: Path, held: Held, chain: bytes = b"") -> ssl.SSLContext:
    """What a server shows; the key is written to a file for the user only. Raises OSError."""
    plain = serialization.NoEncryption()
    private = held.private.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain)
    write_privately(file, private + held.pem + chain)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    return context
