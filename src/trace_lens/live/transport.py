"""One way to ask an address over HTTP: TLS always verified, proxies of the environment, limits of size and time.

What fails is told in the codes of the catalogue (stage `reachable`). Certificates are trusted as OpenSSL is set up on
this machine (SSL_CERT_FILE and SSL_CERT_DIR are honoured). Loopback never goes through a proxy. Redirects are followed
as a browser does, but never from https to http.
"""

from __future__ import annotations

import os
import socket
import ssl
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING
from urllib.request import getproxies

from trace_lens.common import limits
from trace_lens.common.addresses import host_of, parts_of, resolved
from trace_lens.common.tuples import NamedTuple
from trace_lens.common.version import __version__

if TYPE_CHECKING:
    import httpx

_LOOPBACK = ("localhost", "127.0.0.1", "::1", "[::1]")
_REDIRECTS = (301, 302, 303, 307, 308)
_NOT_YET, _EXPIRED = 9, 10
_SELF_SIGNED = (18, 19)
_NO_ISSUER = (20, 21)
_OTHER_NAME = (62, 64)
"""Results of OpenSSL's verification (x509_vfy.h)."""


class Unreachable(Exception):
    """An address could not be asked, or did not answer as it should; `code` is one of the catalogue."""

    def __init__(self, code: str, because: str) -> None:
        super().__init__(because)
        self.code, self.because = code, because


class Answer(NamedTuple):
    """What came: the address that answered, status, header fields, the octets; when it was asked (epoch seconds) and
    when the head of the answer was there.
    """

    url: str
    status: int
    headers: tuple[tuple[str, str], ...]
    data: bytes
    asked: float
    answered: float

    def header(self, name: str) -> str | None:
        """The first header field of a name."""
        return next((value for key, value in self.headers if key.lower() == name.lower()), None)

    @property
    def content_type(self) -> str:
        """The kind of content, without parameters."""
        return (self.header("content-type") or "").partition(";")[0].strip().lower()

    @property
    def onward(self) -> str | None:
        """Where it redirects to, as a whole address."""
        location = self.header("location")
        return resolved(self.url, location) if location and self.status in _REDIRECTS else None


class Transport:
    """Asks addresses; a context manager. `seconds` is the time for one document, with all that leads to it."""

    def __init__(self, seconds: float = limits.FETCH_SECONDS, octets: int = limits.FETCHED_BYTES) -> None:
        self.seconds, self.octets = seconds, octets
        self._client: httpx.Client | None = None

    def __enter__(self) -> Transport:
        import httpx

        context = ssl.create_default_context()
        direct = {f"all://{host}": None for host in _LOOPBACK if host != "::1"}
        self._client = httpx.Client(
            verify=context,
            mounts=direct,
            follow_redirects=False,
            headers={"User-Agent": f"trace-lens/{__version__}", "Accept-Encoding": "gzip, identity"},
        )
        return self

    def __exit__(self, *_: object) -> None:
        if self._client:
            self._client.close()

    def fetch(self, url: str) -> Answer:
        """The document at an address, wherever it redirects to. Raises Unreachable."""
        until = time.monotonic() + self.seconds
        asked = url
        for _ in range(limits.REDIRECTS):
            answer = self._ask("GET", asked, until)
            if answer.onward is None:
                return answer
            if parts_of(answer.onward).scheme not in ("https", parts_of(asked).scheme):
                raise Unreachable("unexpected-answer", f"{asked} redirects to {answer.onward}, which is not https")
            asked = answer.onward
        raise Unreachable("unexpected-answer", f"{url} redirects more than {limits.REDIRECTS} times")

    def ask(
        self, url: str, method: str = "GET", headers: dict[str, str] | None = None, body: bytes | None = None
    ) -> Answer:
        """The answer of one address, redirects not followed. Raises Unreachable."""
        return self._ask(method, url, time.monotonic() + self.seconds, headers, body)

    def head_of(self, url: str) -> Answer:
        """The head of what an address answers to GET; what comes behind it is not read. Raises Unreachable."""
        return self._ask("GET", url, time.monotonic() + self.seconds, reads=False)

    def head_at(self, url: str, address: str) -> Answer:
        """The same at one address of the host; TLS is verified by the name of the host. Raises Unreachable."""
        until = time.monotonic() + self.seconds
        return self._ask("GET", url, until, reads=False, address=address)

    def _ask(
        self,
        method: str,
        url: str,
        until: float,
        headers: dict[str, str] | None = None,
        body: bytes | None = None,
        *,
        reads: bool = True,
        address: str | None = None,
    ) -> Answer:
        import httpx

        assert self._client is not None
        left = until - time.monotonic()
        if left <= 0:
            raise Unreachable("port-unreachable", f"{url} gave no answer within {self.seconds:.0f} seconds")
        with _told(url, self.seconds):
            request = self._client.build_request(
                method, url, headers=headers, content=body, timeout=httpx.Timeout(left)
            )
            if address:  # The Host header field and the name that TLS asks for stay those of the host.
                request.extensions["sni_hostname"] = request.url.host
                request.url = request.url.copy_with(host=address)
            asked = time.time()
            answer = self._client.send(request, stream=True)
            answered = time.time()
            try:
                data = self._read(url, answer, until) if reads else b""
            finally:
                answer.close()
        return Answer(url, answer.status_code, tuple(answer.headers.multi_items()), data, asked, answered)

    def _read(self, url: str, answer: httpx.Response, until: float) -> bytes:
        """The octets of an answer, within the limits of size and time."""
        data = bytearray()
        for piece in answer.iter_bytes():
            data += piece
            if len(data) > self.octets:
                raise Unreachable("unexpected-answer", f"{url} sends more than {self.octets:,} bytes")
            if time.monotonic() > until:
                raise Unreachable("port-unreachable", f"{url} was not read whole within {self.seconds:.0f} seconds")
        return bytes(data)


def proxy_of(url: str) -> str | None:
    """The proxy of the environment for an address, as an address; None where it is asked directly."""
    host = host_of(url)
    if host in _LOOPBACK or _without_proxy(host):
        return None
    told = getproxies()
    proxy = told.get(parts_of(url).scheme) or told.get("all")
    return f"http://{proxy}" if proxy and "://" not in proxy else proxy or None


def proxy_for(url: str) -> str | None:
    """The same, without its password, to be shown."""
    proxy = proxy_of(url)
    return without_password(proxy) if proxy else None


def said_host(url: str, host: str = "") -> str:
    """A host (of an address, unless it is given) as it is said beforehand, with the proxy through which it is asked."""
    proxy = proxy_for(url)
    return (host or host_of(url)) + (f" (through the proxy {proxy})" if proxy else "")


def without_password(proxy: str) -> str:
    """The address of a proxy without name and password."""
    scheme, _, rest = proxy.partition("://")
    return f"{scheme}://{rest.rpartition('@')[2]}"


def _without_proxy(host: str) -> bool:
    listed = os.environ.get("no_proxy") or os.environ.get("NO_PROXY") or ""
    names = [name.strip().lstrip(".").lower() for name in listed.split(",") if name.strip()]
    return "*" in names or any(host == name or host.endswith(f".{name}") for name in names)


@contextmanager
def _told(url: str, seconds: float) -> Iterator[None]:
    """What goes wrong, in the words of the catalogue."""
    import httpx

    host = host_of(url)
    try:
        yield
    except httpx.TimeoutException:
        raise Unreachable("port-unreachable", f"{url} gave no answer within {seconds:.0f} seconds") from None
    except httpx.ProxyError as error:
        raise Unreachable(
            "port-unreachable", f"the proxy {proxy_for(url)} did not let {host} through ({error})"
        ) from None
    except (httpx.UnsupportedProtocol, httpx.InvalidURL) as error:
        raise Unreachable("document-not-fetched", f"{url} cannot be asked: {error}") from None
    except httpx.RemoteProtocolError as error:
        raise Unreachable("unexpected-answer", f"{host} does not answer in HTTP ({error})") from None
    except httpx.DecodingError as error:
        raise Unreachable("unexpected-answer", f"{url} sends what cannot be unpacked ({error})") from None
    except httpx.TransportError as error:
        raise reason_of(error, url, host) from None


def reason_of(error: BaseException, url: str, host: str) -> Unreachable:
    """The first cause of an error that has a name in the catalogue."""
    proxy = proxy_for(url)
    cause: BaseException | None = error
    while cause is not None:
        if isinstance(cause, ssl.SSLCertVerificationError):
            return _of_certificate(cause, host)
        if isinstance(cause, ssl.SSLError):
            words = str(cause.reason or cause).replace("_", " ").lower()
            return Unreachable("tls-refused", f"no secure connection to {host} came about ({words})")
        if proxy and isinstance(cause, OSError) and not isinstance(cause, ssl.SSLError):
            return Unreachable("port-unreachable", f"the proxy {proxy} cannot be reached ({cause.strerror or cause})")
        if isinstance(cause, socket.gaierror):
            return Unreachable("name-not-resolved", f"{host} has no address ({cause.strerror})")
        if isinstance(cause, OSError) and cause.errno is not None:
            port = parts_of(url).port or (443 if url.startswith("https") else 80)
            return Unreachable("port-unreachable", f"{host}, port {port}: {(cause.strerror or str(cause)).lower()}")
        cause = cause.__cause__ or cause.__context__
    return Unreachable("port-unreachable", f"{host} cannot be reached ({error})")


def _of_certificate(error: ssl.SSLCertVerificationError, host: str) -> Unreachable:
    found = error.verify_code
    if found in (_NOT_YET, _EXPIRED):
        state = "has ended" if found == _EXPIRED else "is not valid yet"
        return Unreachable("tls-certificate-expired", f"the TLS certificate of {host} {state}")
    if found in _OTHER_NAME:
        return Unreachable("tls-name-mismatch", f"the TLS certificate of {host} is for other names")
    if found in _SELF_SIGNED:
        return Unreachable("tls-untrusted", f"the TLS certificate of {host} is self-signed, by nobody trusted here")
    if found in _NO_ISSUER:
        words = "an unknown authority, or an intermediate certificate that the server does not send"
        return Unreachable(
            "tls-untrusted", f"the TLS certificate of {host} leads to no authority trusted here: {words}"
        )
    return Unreachable("tls-untrusted", f"the TLS certificate of {host} does not verify ({error.verify_message})")
