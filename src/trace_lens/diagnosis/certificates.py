"""Certificates in anything, each once: who pins them, what is wrong with them, whether they fit a fingerprint."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import NamedTuple

from trace_lens.common import catalogue
from trace_lens.common.findings import Evidence, Finding, Severity, Stage
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.intake.peeling import Found, Peeled, peel
from trace_lens.pki.certificates import Certificate, CertificateError, read_certificate
from trace_lens.pki.fingerprints import digits
from trace_lens.pki.pem import PastedCertificate, certificate_from_base64, certificates_in
from trace_lens.saml.names import SIGNATURE
from trace_lens.saml.parsing import XMLDamaged, parse, text_of, where
from trace_lens.workspace import trust
from trace_lens.workspace.loading import Workspace
from trace_lens.workspace.sources import SourceFile


class SeenCertificate(NamedTuple):
    """One certificate and where it was seen; `certificate` is None where it cannot be read.

    `matches` says, where a fingerprint was expected, whether it is this one's.
    """

    source: str
    where: str
    certificate: Certificate | None
    used_by: tuple[str, ...]
    findings: tuple[Finding, ...]
    matches: bool | None = None


class Expected(NamedTuple):
    """A fingerprint read out or typed: hexadecimal digits, whole or only its ending."""

    hex: str

    def fits(self, certificate: Certificate) -> bool:
        """Whether a fingerprint of the certificate is, or ends in, these digits."""
        return any(one.hex.endswith(self.hex) for one in (certificate.sha1, certificate.sha256))

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
    sources: Iterable[SourceFile], workspace: Workspace, now: datetime, expected: Expected | None
) -> CertificatesFound:
    """Every certificate of the sources, each once. Raises SettingsError where the workspace's cannot be read."""
    seen: dict[bytes, SeenCertificate] = {}
    damaged: list[SeenCertificate] = []
    failed: list[tuple[str, str]] = []
    without: list[str] = []
    for source in sources:
        if source.data is None:
            failed.append((source.name, source.problem or ""))
            continue
        peeled = peel(source.data)
        found = list(_in_source(source.data, peeled))
        if not found and not peeled.found:
            failed.append((source.name, peeled.because))
        elif not found:
            without.append(source.name)
        for place, pasted in found:
            certificate, problem = _read(pasted)
            if certificate is None:
                damaged.append(_damaged(source.name, place, pasted, problem or ""))
            else:
                one = _seen(source.name, place, certificate, pasted, workspace, now, expected)
                seen.setdefault(certificate.der, one)
    return CertificatesFound([*seen.values(), *damaged], failed, without)


def _in_source(data: bytes, peeled: Peeled) -> Iterator[tuple[str, PastedCertificate]]:
    for found in peeled.found:
        yield from _in_message(found)
    if not peeled.found:
        for pasted in certificates_in(data):
            yield f"line {pasted.line}", pasted


def _in_message(found: Found) -> Iterator[tuple[str, PastedCertificate]]:
    if found.kind == "certificate":
        for pasted in certificates_in(found.data):
            yield f"line {pasted.line}", pasted
        return
    try:
        root = parse(found.data)
    except XMLDamaged:
        return
    prefix = f"{found.where} › " if found.where else ""
    for element in root.iter(f"{{{SIGNATURE}}}X509Certificate"):
        yield prefix + where(element), certificate_from_base64(text_of(element))


def _read(pasted: PastedCertificate) -> tuple[Certificate | None, str | None]:
    if pasted.der is None:
        return None, pasted.problem
    try:
        return read_certificate(pasted.der), None
    except CertificateError as error:
        return None, str(error)


def _seen(
    source: str, place: str, certificate: Certificate, pasted: PastedCertificate,
    workspace: Workspace, now: datetime, expected: Expected | None,
) -> SeenCertificate:  # fmt: skip
    findings = []
    evidence = Evidence("certificate", str(certificate.sha256), source, place)
    left = certificate.not_after - now
    warn = max((app.warn_before for app in workspace.apps.values()), default=None)
    if left.total_seconds() < 0:
        findings.append(_finding("certificate-expired", f"It ended {show_duration(left)} ago.", evidence))
    elif certificate.not_before > now:
        findings.append(
            _finding("certificate-not-yet-valid", f"It begins {show_moment(certificate.not_before)}.", evidence)
        )
    elif left.days < (warn.days if warn else 30):
        findings.append(_finding("certificate-expiring", f"It ends in {show_duration(left)}.", evidence))
    if certificate.weakness:
        findings.append(_finding("weak-key", f"Its key is weak: {certificate.weakness}.", evidence))
    if pasted.repairs:
        words = f"It was damaged and could be repaired: {', '.join(pasted.repairs)}."
        findings.append(_finding("certificate-damaged", words, evidence, Severity.RISK))
    return SeenCertificate(
        source, place, certificate, used_by(certificate, workspace), tuple(findings),
        expected.fits(certificate) if expected else None,
    )  # fmt: skip


def _damaged(source: str, place: str, pasted: PastedCertificate, problem: str) -> SeenCertificate:
    evidence = Evidence("certificate", ", ".join((problem, *pasted.repairs)), source, place)
    found = _finding("certificate-damaged", f"It cannot be read: {problem}.", evidence)
    return SeenCertificate(source, place, None, (), (found,))


def used_by(certificate: Certificate, workspace: Workspace) -> tuple[str, ...]:
    """The applications that pin a certificate, by file or by fingerprint."""
    return tuple(app.id for app in workspace.apps.values() if trust.pins(trust.pinned(app, workspace), certificate))


def _finding(code: str, detail: str, evidence: Evidence, severity: Severity | None = None) -> Finding:
    entry = catalogue.entry(code, Stage.AUTHENTIC)
    return Finding(
        code, entry.stage, severity or entry.severity, entry.title, detail, entry.side, entry.remedies[entry.side],
        entry.reference, evidence=(evidence,),
    )  # fmt: skip
