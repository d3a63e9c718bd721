"""Certificates in anything, each once: who pins them, what is wrong with them, whether they fit a fingerprint.

Validity is judged as of today, and as of the attempt where the certificate came in a captured message.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator
from datetime import datetime
from functools import partial
from typing import Any

from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from trace_lens.attempts.evidence import SourceEvidence, read_evidence
from trace_lens.attempts.saml import SamlAttempt
from trace_lens.common.findings import Evidence, Finding, Severity
from trace_lens.common.guarding import Faults
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judged_moment import moment_of
from trace_lens.intake.found import FoundMessage
from trace_lens.oidc.jose import from_base64url
from trace_lens.pki.certificates import Certificate, CertificateError, certificate_or_none, read_certificate
from trace_lens.pki.chains import Chain, chain_of
from trace_lens.pki.containers import ContainerError, PasswordNeeded, is_pkcs12, open_pkcs12, open_private_key
from trace_lens.pki.fingerprints import digits
from trace_lens.pki.pem import PastedCertificate, certificate_from_base64, certificates_in
from trace_lens.saml.metadata import scan
from trace_lens.saml.names import SIGNATURE
from trace_lens.saml.parsing import XMLDamaged, parse, text_of, where
from trace_lens.workspace import trust
from trace_lens.workspace.private_keys import PASSWORD_VARIABLE, given_password
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile

_LONG_ENOUGH, _SLIPS = 16, 2
"""How many digits must be given for a near miss to mean anything, and how many of them may be others."""


class Place(NamedTuple):
    """Where a certificate was seen."""

    source: str
    where: Location


class SeenCertificate(NamedTuple):
    """One certificate and every place where it was seen; `certificate` is None where it cannot be read.

    `at` is the moment of the attempt that it came in, where it did. `matches` says, where a fingerprint was expected,
    whether it is this one's.
    """

    places: tuple[Place, ...]
    certificate: Certificate | None
    used_by: tuple[str, ...]
    findings: tuple[Finding, ...]
    at: datetime | None = None
    chain: Chain | None = None
    matches: bool | None = None

    @property
    def source(self) -> str:
        """The first source that it was seen in."""
        return self.places[0].source

    @property
    def where(self) -> Location:
        """Where in the first source."""
        return self.places[0].where


class Expected(NamedTuple):
    """A fingerprint read out or typed: hexadecimal digits, whole or only its ending."""

    hex: str

    def fits(self, certificate: Certificate) -> bool:
        """Whether a fingerprint of the certificate is, or ends in, these digits."""
        return any(fingerprint.hex.endswith(self.hex) for fingerprint in (certificate.sha1, certificate.sha256))

    def algorithm_of(self, certificate: Certificate) -> str:
        """The hash by which it fits: SHA-1 or SHA-256."""
        return "SHA-1" if certificate.sha1.hex.endswith(self.hex) else "SHA-256"

    def near(self, certificate: Certificate) -> tuple[str, int] | None:
        """The fingerprint that was nearly given, with up to two other digits, and the place of the first; else None."""
        for fingerprint in (certificate.sha256, certificate.sha1):
            tail = fingerprint.hex[-len(self.hex) :]
            wrong = [place for place, (left, right) in enumerate(zip(tail, self.hex, strict=False)) if left != right]
            if len(tail) == len(self.hex) >= _LONG_ENOUGH and 0 < len(wrong) <= _SLIPS:
                return tail, wrong[0]
        return None

    @property
    def extent(self) -> str:
        """How much of a fingerprint was compared."""
        whole = {40: "the whole SHA-1 fingerprint", 64: "the whole SHA-256 fingerprint"}
        return whole.get(len(self.hex), f"only the last {len(self.hex)} of its hexadecimal digits")


class CertificatesFound(NamedTuple):
    """The certificates; the sources (with the reason) that could not be read; those that hold none."""

    certificates: list[SeenCertificate]
    failed: list[tuple[str, str]]
    without: list[str]


class _Held(NamedTuple):
    """One certificate of a source, the moment of the attempt that it came in, and what was found wrong beside it."""

    place: Place
    pasted: PastedCertificate
    at: datetime | None = None
    findings: tuple[Finding, ...] = ()


def read_expected(text: str) -> Expected:
    """Read an expected fingerprint in any spelling. Raises ValueError with the reason."""
    bare = digits(text)
    if not re.fullmatch(r"[0-9a-f]+", bare):
        raise ValueError(f"{text!r} holds characters that are no hexadecimal digits")
    if len(bare) < 8:
        raise ValueError(f"{text!r} has {len(bare)} digits; at least 8 are needed to tell certificates apart")
    if len(bare) > 64:
        raise ValueError(f"{text!r} has {len(bare)} digits, more than any fingerprint")
    return Expected(bare)


def certificates_of(
    sources: Iterable[SourceFile],
    workspace: Workspace,
    now: datetime,
    expected: Expected | None,
    at: datetime | None = None,
) -> CertificatesFound:
    """Every certificate of the sources, each once, with its chain among them and those on record.

    `at` is the moment of the attempt as told. Raises SettingsError where the workspace's files cannot be read.
    """
    held: list[_Held] = []
    faults = Faults()
    without: list[str] = []

    def read(source: SourceFile) -> None:
        evidence = read_evidence(source)
        for because in evidence.problems:
            faults.tell(source.name, because)
        if not evidence.is_there:
            return
        try:
            found = list(_in_source(evidence, source.data or b"", workspace, at))
        except ContainerError as error:
            faults.tell(source.name, str(error))
            return
        held.extend(found)
        if not found and not evidence.found:
            faults.tell(source.name, evidence.peeled.because)
        elif not found:
            without.append(source.name)

    for source in sources:
        faults.attempt(source.name, "reading it", partial(read, source))
    return CertificatesFound(_gathered(held, workspace, now, expected), faults.told, without)


def _gathered(
    held: list[_Held], workspace: Workspace, now: datetime, expected: Expected | None
) -> list[SeenCertificate]:
    seen: dict[Certificate, list[_Held]] = {}
    damaged: list[SeenCertificate] = []
    for item in held:
        certificate, problem = _read(item.pasted)
        if certificate is None:
            damaged.append(_damaged(item, problem or ""))
        else:
            seen.setdefault(certificate, []).append(item)
    recorded = [key.certificate for key in trust.everything(workspace) if key.certificate]
    at_hand = list(dict.fromkeys([*seen, *recorded]))
    return [
        *(_seen(certificate, places, at_hand, workspace, now, expected) for certificate, places in seen.items()),
        *damaged,
    ]


def _in_source(evidence: SourceEvidence, data: bytes, workspace: Workspace, at: datetime | None) -> Iterator[_Held]:
    moments = {
        id(message.found): at or moment_of(SamlAttempt(message, message), None)[0]
        for message in evidence.saml
        if not message.damage
    }
    for found in evidence.found:
        for place, pasted, findings in _in_message(evidence.source, found, workspace):
            yield _Held(Place(evidence.source, found.where.then(place)), pasted, moments.get(id(found), at), findings)
    if not evidence.found:
        pasted_ones = [
            (Location(line=certificate.line), certificate) for certificate in certificates_in(data)
        ] or _in_json(data)
        for place, pasted in pasted_ones:
            yield _Held(Place(evidence.source, place), pasted, at)


def _in_message(
    source: str, found: FoundMessage, workspace: Workspace
) -> Iterator[tuple[Location, PastedCertificate, tuple[Finding, ...]]]:
    if found.kind == "private-key" and is_pkcs12(found.data):
        yield from _in_pkcs12(source, found.data, workspace)
    elif found.kind in ("certificate", "private-key"):
        pasted = certificates_in(found.data)
        beside = _key_beside(source, found.data, pasted)
        for number, certificate in enumerate(pasted):
            yield Location(line=certificate.line), certificate, beside if not number else ()
    elif found.data.lstrip()[:1] in (b"{", b"["):
        for place, certificate in _in_json(found.data):
            yield place, certificate, ()
    elif found.data[:3] == b"eyJ":
        for place, certificate in _in_token(found.data):
            yield place, certificate, ()
    elif found.kind == "saml-metadata":
        for entity in scan(found.data).entities:
            for role in entity.roles:
                for key in role.keys:
                    used = f"{key.where.path} ({entity.entity_id}, {key.use or 'any use'})"
                    yield key.where._replace(path=used), key.certificate, ()
    else:
        try:
            root = parse(found.data)
        except XMLDamaged:
            return
        for element in root.iter(f"{{{SIGNATURE}}}X509Certificate"):
            yield where(element), certificate_from_base64(text_of(element)), ()


def _in_pkcs12(
    source: str, data: bytes, workspace: Workspace
) -> Iterator[tuple[Location, PastedCertificate, tuple[Finding, ...]]]:
    """Raises ContainerError where the file cannot be opened."""
    try:
        opened = open_pkcs12(data, None)
    except PasswordNeeded:
        password = given_password(source, workspace)
        if password is None:
            raise ContainerError(
                f"it is a PKCS#12 file closed with a password, which is read from {PASSWORD_VARIABLE}"
            ) from None
        opened = open_pkcs12(data, password)
    for number, der in enumerate(opened.certificates, 1):
        beside = _belongs(source, opened.key.public_key(), der) if number == 1 and opened.key else ()
        yield Location(part=f"certificate {number} of the PKCS#12 file"), PastedCertificate(der, 1), beside


def _key_beside(source: str, data: bytes, pasted: list[PastedCertificate]) -> tuple[Finding, ...]:
    """What is wrong where a private key stands in the file of a certificate that is not its own."""
    key = open_private_key(data) if b"PRIVATE KEY" in data else None
    ders = [certificate.der for certificate in pasted if certificate.der]
    if key is None or not ders:
        return ()
    wrong = [_belongs(source, key.public_key(), der) for der in ders]
    return wrong[0] if all(wrong) else ()


def _belongs(source: str, public: Any, der: bytes) -> tuple[Finding, ...]:
    certificate = certificate_or_none(der)
    own = public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    if certificate is None or own == certificate.public_key_octets:
        return ()
    evidence = Evidence("certificate", str(certificate.sha256), source, Location(part="beside the private key"))
    words = "The private key in the same file is not the one that it certifies."
    return (finding("settings-disagree", words, evidence=(evidence,)),)


def _in_json(data: bytes) -> list[tuple[Location, PastedCertificate]]:
    """The certificates of a key set, or of any JSON in which chains stand under `x5c` (RFC 7517 §4.7)."""
    if data.lstrip()[:1] not in (b"{", b"["):
        return []
    try:
        document = json.loads(data)
    except (ValueError, RecursionError):
        return []
    return [(Location(path=path), certificate_from_base64(text)) for path, text in _x5c(document, "")]


def _in_token(data: bytes) -> list[tuple[Location, PastedCertificate]]:
    """The certificates that a token's header brings along."""
    try:
        header = from_base64url(data.partition(b".")[0].decode("ascii", "replace"))[0]
    except ValueError:
        return []
    return [(Location(field=f"header {place}"), certificate) for place, certificate in _in_json(header)]


def _x5c(value: object, path: str) -> Iterator[tuple[str, str]]:
    if isinstance(value, dict):
        for key, inner in value.items():
            if key == "x5c" and isinstance(inner, list):
                yield from (
                    (f"{path}/x5c/{number}", item) for number, item in enumerate(inner) if isinstance(item, str)
                )
            else:
                yield from _x5c(inner, f"{path}/{key}")
    elif isinstance(value, list):
        for number, inner in enumerate(value):
            yield from _x5c(inner, f"{path}/{number}")


def _read(pasted: PastedCertificate) -> tuple[Certificate | None, str | None]:
    if pasted.der is None:
        return None, pasted.problem
    try:
        return read_certificate(pasted.der), None
    except CertificateError as error:
        return None, str(error)


def _seen(
    certificate: Certificate,
    held: list[_Held],
    at_hand: list[Certificate],
    workspace: Workspace,
    now: datetime,
    expected: Expected | None,
) -> SeenCertificate:
    first = held[0]
    evidence = Evidence("certificate", str(certificate.sha256), *first.place)
    at = next((item.at for item in held if item.at), None)
    findings = [*_dates(certificate, workspace, now, evidence), *(f for item in held for f in item.findings)]
    if at and not certificate.valid(at) and certificate.valid(now) is True:
        words = f"At the attempt ({show_moment(at)}) it was not valid."
        code = "certificate-not-yet-valid" if at < certificate.not_before else "certificate-expired"
        findings.append(finding(code, words, evidence=(evidence,)))
    if certificate.weakness:
        findings.append(finding("weak-key", f"Its key is weak: {certificate.weakness}.", evidence=(evidence,)))
    if first.pasted.repairs:
        words = f"It was damaged and could be repaired: {', '.join(first.pasted.repairs)}."
        findings.append(finding("certificate-damaged", words, severity=Severity.RISK, evidence=(evidence,)))
    return SeenCertificate(
        places=tuple(dict.fromkeys(item.place for item in held)),
        certificate=certificate,
        used_by=used_by(certificate, workspace),
        findings=tuple(findings),
        at=at,
        chain=chain_of(certificate, at_hand, at or now),
        matches=expected.fits(certificate) if expected else None,
    )


def _dates(certificate: Certificate, workspace: Workspace, now: datetime, evidence: Evidence) -> Iterator[Finding]:
    left = certificate.not_after - now
    warn = max((app.warn_before for app in workspace.apps.values()), default=None)
    if left.total_seconds() < 0:
        yield finding("certificate-expired", f"It ended {show_duration(left)} ago.", evidence=(evidence,))
    elif certificate.not_before > now:
        yield finding(
            "certificate-not-yet-valid", f"It begins {show_moment(certificate.not_before)}.", evidence=(evidence,)
        )
    elif left.days < (warn.days if warn else 30):
        yield finding("certificate-expiring", f"It ends in {show_duration(left)}.", evidence=(evidence,))


def _damaged(held: _Held, problem: str) -> SeenCertificate:
    evidence = Evidence("certificate", ", ".join((problem, *held.pasted.repairs)), *held.place)
    found = finding("certificate-damaged", f"It cannot be read: {problem}.", evidence=(evidence,))
    return SeenCertificate(places=(held.place,), certificate=None, used_by=(), findings=(found,), at=held.at)


def used_by(certificate: Certificate, workspace: Workspace) -> tuple[str, ...]:
    """The applications that pin a certificate, by file or by fingerprint."""
    return tuple(app.id for app in workspace.apps.values() if trust.pins(trust.pinned(app, workspace), certificate))
