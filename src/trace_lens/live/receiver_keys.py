"""The key pair of the receiver for SAML, made once and kept for the user only; and the metadata that tells of it.

Source: SAML 2.0 Metadata §2.4.4.
"""

from __future__ import annotations

import base64
import secrets
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.x509.oid import NameOID

from trace_lens.live.receiving import ACS, METADATA, OWN_KEY
from trace_lens.workspace.own_files import own_folder, write_privately

CERTIFICATE = "receiver.pem"
_MD = "urn:oasis:names:tc:SAML:2.0:metadata"


def receiver_key(root: Path) -> tuple[Path, x509.Certificate]:
    """The file of the private key, and the certificate; made where they are not there. Raises OSError."""
    folder, kept = own_folder(root), root / OWN_KEY
    if kept.is_file() and (folder / CERTIFICATE).is_file():
        return kept, x509.load_pem_x509_certificate((folder / CERTIFICATE).read_bytes())
    private = rsa.generate_private_key(65_537, 2048)
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Receiver")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(private.public_key())
        .serial_number(secrets.randbits(120))
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + timedelta(days=3650))
        .sign(private, hashes.SHA256())
    )
    plain = serialization.NoEncryption()
    pem = serialization.Encoding.PEM
    write_privately(kept, private.private_bytes(pem, serialization.PrivateFormat.PKCS8, plain))
    write_privately(folder / CERTIFICATE, made.public_bytes(pem))
    return kept, made


def metadata_of(base: str, certificate: x509.Certificate) -> bytes:
    """The metadata of the receiver at an address."""
    data = base64.b64encode(certificate.public_bytes(serialization.Encoding.DER)).decode()
    return (
        f'<md:EntityDescriptor xmlns:md="{_MD}" entityID="{base}{METADATA}">\n'
        '  <md:SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol" '
        'WantAssertionsSigned="true">\n'
        '    <md:KeyDescriptor><ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:X509Data>'
        f"<ds:X509Certificate>{data}</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>\n"
        '    <md:AssertionConsumerService Binding="urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST" '
        f'Location="{base}{ACS}" index="0" isDefault="true"/>\n'
        "  </md:SPSSODescriptor>\n</md:EntityDescriptor>\n"
    ).encode()
