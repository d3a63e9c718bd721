"""Serving a receiver: on loopback, or over TLS for a user elsewhere in the house, by links that are used once.

A link cannot be guessed, ends with the waiting, and is used up by the one sign-in that it brings. Whoever comes
without one finds nothing; the visitor sees no more than that the sign-in was received.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import hmac
import logging
import secrets
import socket
import ssl
import tempfile
import threading
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

from werkzeug.serving import ThreadedWSGIServer, WSGIRequestHandler
from werkzeug.wrappers import Request, Response

from trace_lens.common.tuples import NamedTuple
from trace_lens.live.certificates import make_certificate, server_context
from trace_lens.live.receiving import ACS, CALLBACK, CannotReceive, Receiver

_EVERYWHERE = ("0.0.0.0", "::", "*")
_LOOPBACK = "127.0.0.1"
LINK = "/in/"
COOKIE = "__Host-trace-lens-visit"
_CONNECTION_SECONDS = 20.0
_CONNECTIONS = 32


class QuietHandler(WSGIRequestHandler):
    """What answers one connection, and does not wait for ever for a client that says nothing."""

    timeout = _CONNECTION_SECONDS


class QuietServer(ThreadedWSGIServer):
    """A server that shakes hands in the thread of each connection, so that one that hangs holds up no other."""

    shown: Callable[[], ssl.SSLContext] | None = None

    def get_request(self) -> tuple[Any, Any]:
        """A connection, with TLS where the server has a certificate to show."""
        connection, address = super().get_request()
        if self.shown is None:
            return connection, address
        return self.shown().wrap_socket(connection, server_side=True, do_handshake_on_connect=False), address

    def finish_request(self, request: Any, client_address: Any) -> None:
        """Serve one connection; a failed handshake is the client's to tell."""
        with contextlib.suppress(OSError, ssl.SSLError, ValueError):
            super().finish_request(request, client_address)

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Say nothing: what comes from outside is no failure of the program."""


class _Listener(QuietServer):
    """A server that is reached from outside: no more connections at a time than it can look after."""

    slots: threading.BoundedSemaphore

    def process_request(self, request: Any, client_address: Any) -> None:
        """Serve a connection in a thread of its own, or close it where too many are open."""
        if self.slots.acquire(blocking=False):
            super().process_request(request, client_address)
        else:
            self.shutdown_request(request)

    def process_request_thread(self, request: Any, client_address: Any) -> None:
        """Serve one connection, and make room for the next."""
        try:
            super().process_request_thread(request, client_address)
        finally:
            self.slots.release()


class Invitations:
    """A receiver behind links that are used once, as a WSGI application.

    The browser that opened a link is known by a cookie: only it may bring the answer. `told` hears each link; there are
    as many, one after the other, as sign-ins are wanted.
    """

    def __init__(self, receiver: Receiver, ends: datetime, told: Callable[[str], None], wanted: int) -> None:
        self.receiver, self.ends, self.told, self.left = receiver, ends, told, wanted
        self.turned_away = 0
        self._lock = threading.Lock()
        self._open: set[str] = set()
        self._visits: dict[str, str] = {}

    def invite(self) -> None:
        """Make a link, and tell it."""
        token = secrets.token_urlsafe(32)
        with self._lock:
            self._open.add(token)
            self.left -= 1
        self.told(f"{self.receiver.base}{LINK}{token}")

    def __call__(self, environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        """Let in whoever has a link, or came by one."""
        request = Request(environ)
        if datetime.now(UTC) < self.ends:
            token = self._opened(request.path.removeprefix(LINK)) if request.path.startswith(LINK) else None
            if token and request.method == "GET":
                return self._welcome(token, environ, start)
            visited = self._opened(self._visits.get(request.cookies.get(COOKIE, ""), ""))
            if visited and request.path in (CALLBACK, ACS):
                return self._answered(visited, environ, start)
        with self._lock:
            self.turned_away += 1
        return Response("There is nothing here.", 404, content_type="text/plain")(environ, start)

    def _opened(self, said: str) -> str | None:
        """The token of an open link, where that was said."""
        with self._lock:
            return next((token for token in self._open if hmac.compare_digest(token.encode(), said.encode())), None)

    def _welcome(self, token: str, environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        """Send the visitor to the provider, with a cookie by which the answer is known."""
        visit = secrets.token_urlsafe(32)
        with self._lock:
            self._visits[visit] = token

        def begun(status: str, headers: list[tuple[str, str]], exc_info: Any = None) -> Any:
            # The answer comes from another site, often as a form: only SameSite=None lets the cookie come with it.
            cookie = f"{COOKIE}={visit}; Path=/; Secure; HttpOnly; SameSite=None"
            return start(status, [*headers, ("Set-Cookie", cookie)], exc_info)

        return self.receiver(environ | {"PATH_INFO": "/", "REQUEST_URI": "/", "RAW_URI": "/"}, begun)

    def _answered(self, token: str, environ: dict[str, Any], start: Any) -> Iterable[bytes]:
        """What a visitor brings; a sign-in that was caught uses up the link."""

        def ended(status: str, headers: list[tuple[str, str]], exc_info: Any = None) -> Any:
            if status.startswith("200"):
                with self._lock:
                    self._open.discard(token)
                if self.left:
                    self.invite()
            return start(status, headers, exc_info)

        return self.receiver(environ, ended)


class Place(NamedTuple):
    """Where a receiver is reached: host and port, and whether from other machines; the socket and certificate then."""

    host: str
    port: int
    is_open: bool
    socket: socket.socket | None = None
    shown: ssl.SSLContext | None = None
    fingerprint: str = ""

    @property
    def base(self) -> str:
        """The address, without a path."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return f"{'https' if self.is_open else 'http'}://{host}:{self.port}"


def place_for(listen: str | None, port: int) -> Place:
    """Where to listen: at an address for others, else on loopback. Raises CannotReceive."""
    return Place(_bare_host(listen) if listen else _LOOPBACK, port, bool(listen))


def held(place: Place, certificate: Path | None, key: Path | None) -> Place:
    """The place with a socket that listens there, and what it shows. Raises CannotReceive."""
    shown, fingerprint = None, ""
    if place.is_open:
        shown, fingerprint = _given_certificate(certificate, key) if certificate else _own_certificate(place.host)
    bound = _bound(place.host, place.port)
    return place._replace(socket=bound, port=bound.getsockname()[1], shown=shown, fingerprint=fingerprint)


def _bare_host(address: str) -> str:
    """The host to listen at for others, without brackets. Raises CannotReceive for one that no link can name."""
    host = address.strip().strip("[]")
    if host in _EVERYWHERE:
        raise CannotReceive(
            f"{address} is no address that a link can name; name the one by which others reach this machine"
        )
    if not host or "/" in host or host.count(":") == 1:
        raise CannotReceive(
            f"{address} is no address of this machine; give a host name or an IP address, and the port with --port"
        )
    return host


def _bound(host: str, port: int) -> socket.socket:
    """A socket that listens at an address of this machine; port 0 is a free one. Raises CannotReceive."""
    try:
        family, *_, address = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)[0]
    except (OSError, UnicodeError) as error:
        raise CannotReceive(f"{host} has no address ({getattr(error, 'strerror', None) or error})") from None
    made = socket.socket(family, socket.SOCK_STREAM)
    try:
        made.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        made.bind(address)
        made.listen(_CONNECTIONS)
    except OSError as error:
        made.close()
        if error.errno == errno.EADDRINUSE:
            raise CannotReceive(f"port {port} is taken. Name another one: --port N") from None
        raise CannotReceive(
            f"nothing can listen at {host}, port {port}: {(error.strerror or str(error)).lower()}"
        ) from None
    return made


@contextmanager
def serving(application: Any, listening: socket.socket, shown: ssl.SSLContext | None) -> Iterator[None]:
    """Serve a WSGI application at a socket until the block ends, with TLS where there is a certificate to show."""
    logging.getLogger("werkzeug").setLevel(logging.CRITICAL)
    host, port = listening.getsockname()[:2]
    server = _Listener(host, port, application, QuietHandler, fd=listening.fileno())
    server.slots = threading.BoundedSemaphore(_CONNECTIONS)
    if shown is not None:
        server.shown, server.ssl_context = (lambda: shown), shown
    thread = threading.Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True)
    thread.start()
    try:
        yield
    finally:
        server.shutdown()
        thread.join(5)
        server.server_close()
        listening.close()


def _own_certificate(host: str) -> tuple[ssl.SSLContext, str]:
    """What to show where nobody gave a certificate: one by itself, for a day; and its SHA-256 fingerprint."""
    now = datetime.now(UTC)
    held = make_certificate("Receiver", None, now - timedelta(hours=1), now + timedelta(days=1), (host,))
    with tempfile.TemporaryDirectory(prefix="trace-lens-") as folder:
        return server_context(Path(folder) / "receiver.pem", held), held.sha256


def _given_certificate(certificate: Path, key: Path | None) -> tuple[ssl.SSLContext, str]:
    """What to show: a certificate with its chain from a file (PEM), the private key in it or in another; and its
    SHA-256 fingerprint. Raises CannotReceive.
    """
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    try:
        context.load_cert_chain(certificate, key, password=lambda: b"")
        first = ssl.PEM_cert_to_DER_cert(_first_pem(certificate.read_text("ascii")))
    except (OSError, ValueError) as error:
        raise CannotReceive(
            f"{certificate} with {key or 'the key in it'} is no certificate that a server can show "
            f"({getattr(error, 'reason', None) or getattr(error, 'strerror', None) or error})"
        ) from None
    return context, hashlib.sha256(first).digest().hex(":").upper()


def _first_pem(text: str) -> str:
    begin, end = "-----BEGIN CERTIFICATE-----", "-----END CERTIFICATE-----"
    inner = text.partition(begin)[2].partition(end)[0]
    return f"{begin}{inner}{end}"
