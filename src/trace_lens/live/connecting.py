"""Names, ports and TLS of one host, each tried by itself, so that what fails is told as that.

Names are resolved as the system does it (literal addresses and localhost need no query). A certificate that is not
trusted is looked at in a second handshake, in which nothing is sent.
"""

from __future__ import annotations

import base64
import http.client
import ipaddress
import socket
import ssl
import time
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from urllib.parse import unquote

from trace_lens.common.addresses import parts_of
from trace_lens.common.findings import Severity
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.live.steps import FAILED, OK, RISK, SKIPPED, Outcome
from trace_lens.live.transport import reason_of, without_password
from trace_lens.pki.certificates import Certificate, CertificateError, read_certificate

CONNECT_SECONDS = 5.0
_LOOKUP_SECONDS = 2.0
_ADDRESSES = 3
WARN_BEFORE = timedelta(days=30)
_V4, _V6 = "IPv4", "IPv6"


class Host(NamedTuple):
    """A host and a port to connect to."""

    name: str
    port: int

    @property
    def bare(self) -> str:
        """The name without the brackets of a literal IPv6 address."""
        return self.name.strip("[]")

    def __str__(self) -> str:
        return f"{self.name}:{self.port}"

    @property
    def is_literal(self) -> bool:
        """Whether the name is an address itself."""
        try:
            ipaddress.ip_address(self.bare)
        except ValueError:
            return False
        return True

    @property
    def is_local(self) -> bool:
        """Whether it is this machine."""
        if self.bare == "localhost":
            return True
        return self.is_literal and ipaddress.ip_address(self.bare).is_loopback


def resolve(host: Host) -> Outcome:
    """The addresses of a name, IPv4 and IPv6."""
    try:
        found = socket.getaddrinfo(host.bare, host.port, type=socket.SOCK_STREAM)
    except (socket.gaierror, UnicodeError) as error:
        because = getattr(error, "strerror", None) or str(error)
        words = say("{name} has no address: {because}.", name=host.name, because=because)
        wanted = ("asked for", "A and AAAA, as the system resolves names")
        return Outcome(FAILED, words, (wanted,), finding("name-not-resolved", words))
    addresses = tuple(dict.fromkeys(str(item[4][0]) for item in found))
    private = [address for address in addresses if _is_private(address)]
    detail = ", ".join(addresses)
    if private and not host.is_local and not host.is_literal:
        detail += " (inside this network)" if len(private) == len(addresses) else f" ({', '.join(private)}: inside)"
    return Outcome(OK, detail, tuple((_family(address), address) for address in addresses), made=addresses)


def aliases(host: Host) -> Outcome:
    """The canonical name that a name leads to (CNAME), asked of the name servers; skipped where none answers."""
    import dns.exception
    import dns.resolver

    try:
        answer = dns.resolver.resolve(host.bare, "CNAME", lifetime=_LOOKUP_SECONDS)
    except (dns.resolver.NoAnswer, dns.resolver.NXDOMAIN):
        return Outcome(OK, "no CNAME")
    except dns.exception.DNSException as error:
        return Outcome(SKIPPED, f"no name server answers ({type(error).__name__})")
    except OSError as error:
        return Outcome(SKIPPED, f"no name server answers ({error})")
    targets = tuple(str(record.target).rstrip(".") for record in answer)
    return Outcome(OK, f"leads to {', '.join(targets)}", tuple(("CNAME", target) for target in targets))


def proofs(domain: str, proof: str | None) -> Outcome:
    """The TXT records of an e-mail domain, held against the one that proves it; skipped where no name server answers,
    or where nothing says which record that is.
    """
    import dns.exception
    import dns.resolver

    if proof is None:
        return Outcome(SKIPPED, "which TXT record proves it is not on record (domain_proof in the provider's file)")
    texts: list[str] = []
    try:
        answer = dns.resolver.resolve(domain, "TXT", lifetime=_LOOKUP_SECONDS)
        texts = [b"".join(record.strings).decode("utf-8", "replace") for record in answer]
    except (dns.resolver.NoAnswer, dns.resolver.NXDOMAIN):
        pass
    except (dns.exception.DNSException, OSError) as error:
        return Outcome(SKIPPED, f"no name server answers ({type(error).__name__})")
    evidence = tuple(("TXT", text) for text in texts)
    if proof in texts:
        return Outcome(OK, "the TXT record that proves it is there", evidence)
    words = say("{domain} has no TXT record {proof}.", domain=domain, proof=proof)
    found = finding("domain-not-proven", words, expected=proof, actual="; ".join(texts) or None, compared=False)
    return Outcome(RISK, words, evidence, found)


def connect(host: Host, addresses: Sequence[str]) -> Outcome:
    """A connection to every address of a host; those of one family that fail beside the other are a risk."""
    reached: list[str] = []
    failed: list[tuple[str, str]] = []
    evidence = []
    for address in addresses:
        begin = time.monotonic()
        try:
            with socket.create_connection((address, host.port), CONNECT_SECONDS):
                reached.append(address)
            evidence.append((_family(address), f"{address}: connected in {time.monotonic() - begin:.3f} s"))
        except OSError as error:
            words = "no answer in time" if isinstance(error, TimeoutError) else (error.strerror or str(error)).lower()
            failed.append((address, words))
            evidence.append((_family(address), f"{address}: {words}"))
    if not reached:
        words = say(
            "{host}: nothing answers ({words}).",
            host=str(host),
            words="; ".join(f"{_family(address)} {address}: {why}" for address, why in failed),
        )
        return Outcome(FAILED, words, tuple(evidence), finding("port-unreachable", words))
    detail = f"connected over {' and '.join(dict.fromkeys(_family(address) for address in reached))}"
    if failed and not host.is_local:
        words = say(
            "{host} answers at {reached}, and not at {failed}.",
            host=str(host),
            reached=", ".join(reached),
            failed=", ".join(f"{address} ({why})" for address, why in failed),
        )
        return Outcome(RISK, words, tuple(evidence), finding("address-differs", words), made=tuple(reached))
    return Outcome(OK, detail, tuple(evidence), made=tuple(reached))


def connect_through(host: Host, proxy: str) -> Outcome:
    """A connection to a host through a proxy (RFC 9110 §9.3.6), which finds the address by itself.

    What is made of it is the proxy, in the place of the addresses.
    """
    shown = without_password(proxy)
    begin = time.monotonic()
    try:
        _opened(host, proxy).close()
    except OSError as error:
        why = (error.strerror or str(error)).lower()
        words = say("The proxy {proxy} did not let {host} through: {why}.", proxy=shown, host=str(host), why=why)
        return Outcome(FAILED, words, (("proxy", shown),), finding("port-unreachable", words))
    took = f"connected in {time.monotonic() - begin:.3f} s"
    return Outcome(OK, f"connected through the proxy {shown}", (("proxy", f"{shown}: {took}"),), made=(proxy,))


def _opened(host: Host, place: str) -> socket.socket:
    """A connection to a host at one of its addresses, or through a proxy. Raises OSError."""
    if "://" not in place:
        return socket.create_connection((place, host.port), CONNECT_SECONDS)
    parts = parts_of(place)
    headers = {}
    if parts.username:
        pair = f"{unquote(parts.username)}:{unquote(parts.password or '')}"
        headers["Proxy-Authorization"] = f"Basic {base64.b64encode(pair.encode()).decode()}"
    connection = http.client.HTTPConnection(parts.hostname or "", parts.port or 80, timeout=CONNECT_SECONDS)
    connection.set_tunnel(host.bare, host.port, headers)
    try:
        connection.connect()
    except http.client.HTTPException as error:
        raise OSError(f"it does not answer in HTTP ({error})") from None
    return connection.sock


def compared_addresses(addresses: Sequence[str]) -> tuple[str, ...]:
    """The addresses of a host that are tried one by one: the first, and the first ones of both families."""
    firsts = {_family(address): address for address in reversed(addresses)}
    return tuple(dict.fromkeys((*addresses[:1], *firsts.values(), *addresses)))[:_ADDRESSES]


def handshake(host: Host, addresses: Sequence[str], now: datetime) -> Outcome:
    """A TLS handshake by the name of the host: protocol, certificate, names and dates; at several of its addresses.

    What fails at the first address fails. What fails only at another one is a risk: who comes there gets no further.
    """
    first, *others = ((address, _shaken(host, address, now)) for address in compared_addresses(addresses))
    bad = [(address, outcome) for address, outcome in others if outcome.status == FAILED]
    if first[1].status == FAILED or not bad:
        return first[1]
    words = say(
        "At {address}, {name} has a TLS certificate that is trusted; at {other} it has not: {because}",
        address=first[0],
        name=host.name,
        other=", ".join(address for address, _ in bad),
        because=str(bad[0][1].detail),
    )
    evidence = tuple((f"{label} at {address}", value) for address, outcome in bad for label, value in outcome.evidence)
    found = finding("address-differs", words)
    return Outcome(RISK, words, (*first[1].evidence, *evidence), found, made=first[1].made)


def _shaken(host: Host, address: str, now: datetime) -> Outcome:
    """A handshake at one address."""
    context = ssl.create_default_context()
    try:
        with (
            _opened(host, address) as plain,
            context.wrap_socket(plain, server_hostname=host.bare) as secure,
        ):
            version, data = secure.version(), secure.getpeercert(binary_form=True)
    except (OSError, ValueError) as error:
        return _refused(error, host, address)
    certificate = _read(data)
    evidence = (("protocol", version or "not told"), *_told(certificate))
    if certificate is None:
        return Outcome(OK, f"{version}, a certificate that is trusted", evidence)
    left = certificate.not_after - now
    if timedelta() < left <= WARN_BEFORE:
        words = say(
            "The TLS certificate of {host} ends in {left} ({at}).",
            host=host.name,
            left=show_duration(left),
            at=show_moment(certificate.not_after),
        )
        found = finding("tls-certificate-expired", words, severity=Severity.RISK, compared=False)
        return Outcome(RISK, words, evidence, found, made=certificate)
    detail = f"{version}, trusted, until {show_moment(certificate.not_after)}"
    return Outcome(OK, detail, evidence, made=certificate)


def _refused(error: BaseException, host: Host, address: str) -> Outcome:
    if isinstance(error, TimeoutError):
        words = say("{host} gave no answer to the TLS handshake in time.", host=str(host))
        return Outcome(FAILED, words, (), finding("port-unreachable", words))
    found = reason_of(error, f"https://{host}/", host.name)
    code = found.code
    chain = _looked_at(host, address) if isinstance(error, ssl.SSLCertVerificationError) else ()
    words = say("{because}.", because=found.because[:1].upper() + found.because[1:])
    if code == "tls-untrusted" and len(chain) == 1 and chain[0].subject != chain[0].issuer:
        words = say(
            "The server {host} sends only its own certificate, issued by {issuer}: the intermediate certificate is "
            "missing, or {issuer} is no authority that is trusted here.",
            host=host.name,
            issuer=chain[0].issuer or "nobody named",
        )
    if code == "tls-name-mismatch" and chain:
        names = ", ".join(chain[0].alternative_names) or chain[0].subject
        words = say("The TLS certificate of {host} is for {names}.", host=host.name, names=names)
    evidence = tuple(item for certificate in chain for item in _told(certificate))
    return Outcome(FAILED, words, evidence, finding(code, words))


def _looked_at(host: Host, address: str) -> tuple[Certificate, ...]:
    """The certificates that a server sends, whoever issued them; nothing is sent to it."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    try:
        with (
            _opened(host, address) as plain,
            context.wrap_socket(plain, server_hostname=host.bare) as secure,
        ):
            inner = getattr(secure, "_sslobj", None)
            chain = inner.get_unverified_chain() if inner is not None else None
            sent = [item.public_bytes(1) for item in chain or ()]  # 1: PEM
            first = secure.getpeercert(binary_form=True)
    except (OSError, ValueError, AttributeError):
        return ()
    found = [_read(first)]
    found += [_read(ssl.PEM_cert_to_DER_cert(text)) for text in sent[1:]]
    return tuple(certificate for certificate in found if certificate is not None)


def _read(data: bytes | None) -> Certificate | None:
    try:
        return read_certificate(data) if data else None
    except CertificateError:
        return None


def _told(certificate: Certificate | None) -> tuple[tuple[str, str], ...]:
    if certificate is None:
        return ()
    return (
        ("certificate", certificate.subject or "no name"),
        ("issued by", certificate.issuer or "nobody named"),
        ("names", ", ".join(certificate.alternative_names) or "none"),
        ("valid", f"{show_moment(certificate.not_before)} to {show_moment(certificate.not_after)}"),
        ("fingerprint", str(certificate.sha256)),
    )


def _family(address: str) -> str:
    return _V6 if ":" in address else _V4


def _is_private(address: str) -> bool:
    try:
        return ipaddress.ip_address(address.partition("%")[0]).is_private
    except ValueError:
        return False


def now() -> datetime:
    """The moment that dates are held against."""
    return datetime.now(UTC)
