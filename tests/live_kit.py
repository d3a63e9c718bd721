"""A server on loopback with a certificate of a test's own authority."""

from __future__ import annotations

import contextlib
import http.server
import ipaddress
import socket
import ssl
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

Held = tuple[x509.Certificate, Any]
"""A certificate and its private key."""


def issued(name: str, by: Held | None, *hosts: str, begins: int = -1, ends: int = 90) -> Held:
    """A certificate by an authority, for some hosts; without one it is an authority itself."""
    private = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.now(UTC)
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(by[0].subject if by else subject)
        .public_key(private.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now + timedelta(days=begins))
        .not_valid_after(now + timedelta(days=ends))
        .add_extension(x509.BasicConstraints(by is None, None), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(private.public_key()), critical=False)
    )
    if hosts:
        names = [
            x509.IPAddress(ipaddress.ip_address(host)) if host[0].isdigit() or ":" in host else x509.DNSName(host)
            for host in hosts
        ]
        builder = builder.add_extension(x509.SubjectAlternativeName(names), critical=False)
    return builder.sign(by[1] if by else private, hashes.SHA256()), private


class _Server(http.server.ThreadingHTTPServer):
    """A server that says nothing of clients that hang up."""

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Say nothing."""


@contextlib.contextmanager
def serving(
    folder: Path,
    held: Held | None,
    handler: type[http.server.BaseHTTPRequestHandler],
    address: str = "127.0.0.1",
    port: int = 0,
) -> Iterator[int]:
    """A server on loopback, with a TLS certificate if one is given; its port. Raises OSError."""
    kind = type("Server", (_Server,), {"address_family": socket.AF_INET6 if ":" in address else socket.AF_INET})
    server = kind((address, port), handler)
    server.daemon_threads = True
    if held:
        plain = serialization.NoEncryption()
        private = held[1].private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, plain)
        (folder / "server.pem").write_bytes(held[0].public_bytes(serialization.Encoding.PEM) + private)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(folder / "server.pem")
        server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)
    thread = threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True)
    thread.start()
    try:
        yield server.server_address[1]
    finally:
        server.shutdown()
        server.server_close()
