"""The certificates of the stand-in: an authority of its own, one below it, and what servers show, sound or at fault."""

from __future__ import annotations

import ipaddress
import ssl
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from trace_lens.workspace.own_files import write_privately

SOUND, OTHER_NAME, ENDED, ALONE = "sound", "tls-name", "tls-expired", "tls-no-intermediate"
_DAY = timedelta(days=1)


class Held(NamedTuple):
    """A certificate with its private key."""

    certificate: x509.Certificate
    private: ec.EllipticCurvePrivateKey

    @property
    def pem(self) -> bytes:
        """The certificate as PEM."""
        return self.certificate.public_bytes(serialization.Encoding.PEM)


def make_contexts(folder: Path) -> dict[str, ssl.SSLContext]:
    """The authority's certificate as `authority.pem` in a folder, and what a server shows, by what is wrong with it."""
    now = datetime.now(UTC)
    root = _made("Authority of the stand-in", None, now - _DAY, now + 3650 * _DAY, ca=True)
    between = _made("Intermediate of the stand-in", root, now - _DAY, now + 3650 * _DAY, ca=True)
    (folder / "authority.pem").write_bytes(root.pem)
    names = ("localhost", "127.0.0.1")
    shown = {
        SOUND: (_made("stand-in", between, now - _DAY, now + 90 * _DAY, names), between.pem),
        OTHER_NAME: (_made("other", between, now - _DAY, now + 90 * _DAY, ("other.northmere.example",)), between.pem),
        ENDED: (_made("stand-in", between, now - 90 * _DAY, now - 2 * _DAY, names), between.pem),
        ALONE: (_made("stand-in", between, now - _DAY, now + 90 * _DAY, names), b""),
    }
    return {name: _context(folder, name, held, chain) for name, (held, chain) in shown.items()}


def _made(
    name: str, by: Held | None, begins: datetime, ends: datetime, hosts: tuple[str, ...] = (), *, ca: bool = False
) -> Held:
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
        told = [
            x509.IPAddress(ipaddress.ip_address(host)) if host[0].isdigit() else x509.DNSName(host) for host in hosts
        ]
        builder = builder.add_extension(x509.SubjectAlternativeName(told), critical=False)
    return Held(builder.sign(by.private if by else private, hashes.SHA256()), private)


def _context(folder: Path, name: str, held: Held, chain: bytes) -> ssl.SSLContext:
    plain = serialization.NoEncryption()
    private = held.private.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain)
    file = folder / f"{name}.pem"
    write_privately(file, private + held.pem + chain)
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    return context
