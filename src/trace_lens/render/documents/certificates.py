"""Certificates as blocks: how many there are, which need looking at, and each by itself."""

from __future__ import annotations

from collections import Counter
from datetime import datetime

from trace_lens.diagnosis.certificates import CertificatesFound, Expected, SeenCertificate
from trace_lens.pki.certificates import Certificate
from trace_lens.pki.chains import Chain
from trace_lens.render.document import BLANK, Document, Fact, Span, answer, heading, prose

_PLACES = 6
_OTHERS = 6


def certificates(found: CertificatesFound, expected: Expected | None, now: datetime) -> Document:
    """Certificates: how many and which need looking at, then one block each."""
    count = len(found.certificates)
    if expected:
        fitting = sum(bool(certificate.matches) for certificate in found.certificates)
        yield answer(
            "MATCH" if fitting else "NO MATCH",
            "ok" if fitting else "break",
            f": {fitting} of {count} {'certificate' if count == 1 else 'certificates'} "
            f"{'fits' if fitting == 1 else 'fit'}; compared: {expected.extent}.",
        )
        yield from _fitting(found, expected)
    elif count:
        codes = Counter(finding.code for certificate in found.certificates for finding in certificate.findings)
        wrong = ", ".join(f"{number} {code.removeprefix('certificate-')}" for code, number in codes.items())
        words = f"{count} {'certificate' if count == 1 else 'certificates'}"
        yield heading(
            Span(words, "head"), f": {wrong}." if wrong else ", nothing wrong with any." if count > 1 else "."
        )
    for certificate in found.certificates:
        yield BLANK
        yield from _certificate(certificate, now)
    if found.without:
        yield BLANK
        yield prose(f"No certificate in: {', '.join(found.without)}.", 0)
    for source, because in found.failed:
        yield prose(f"{source}: {because}.", 0, "break")


def _fitting(found: CertificatesFound, expected: Expected) -> Document:
    """Which certificates fit and by which hash, or which one was nearly meant."""
    for candidate in found.certificates:
        certificate = candidate.certificate
        if certificate is None:
            continue
        name = certificate.subject or "(no name)"
        near = expected.near(certificate)
        if candidate.matches:
            algorithm = expected.algorithm_of(certificate)
            yield Fact("fits", f"{name}, by {algorithm}: {candidate.source}, {candidate.where}")
        elif near:
            digits, place = near
            yield Fact("nearly", f"{name}: digit {place + 1} is {digits[place]}, not {expected.hex[place]}")


def _certificate(candidate: SeenCertificate, now: datetime) -> Document:
    certificate = candidate.certificate
    fits = {True: " (fits)", False: " (does not fit)", None: ""}[candidate.matches]
    name = (certificate.subject or "(no name)") if certificate else "A certificate that cannot be read"
    yield heading(name, Span(fits), level=3)
    for number, place in enumerate(candidate.places[:_PLACES]):
        yield Fact("" if number else "seen in", f"{place.source}, {place.where}")
    if len(candidate.places) > _PLACES:
        yield Fact("", f"and in {len(candidate.places) - _PLACES} places more")
    if certificate:
        yield Fact("issuer", "itself" if certificate.self_issued else certificate.issuer)
        yield Fact("valid", _validity(candidate, certificate, now))
        yield Fact("key", certificate.key)
        yield Fact("serial", certificate.serial)
        for label, spelt in certificate.spellings.items():
            for number, text in enumerate(spelt[:2]):
                yield Fact("" if number else label, text)
        if certificate.alternative_names:
            yield Fact("names", ", ".join(certificate.alternative_names))
        if candidate.chain:
            yield Fact("chain", _chain_words(candidate.chain))
        yield Fact("pinned by", ", ".join(candidate.used_by) or "no application on record")
    for finding in candidate.findings:
        yield prose(f"{finding.code}: {finding.detail}", 2, finding.severity)


def _validity(candidate: SeenCertificate, certificate: Certificate, now: datetime) -> str:
    words = f"{certificate.not_before:%Y-%m-%d %H:%M} to {certificate.not_after:%Y-%m-%d %H:%M} UTC"
    words += "; valid now" if certificate.valid(now) else "; NOT valid now"
    if candidate.at:
        validity = "valid" if certificate.valid(candidate.at) else "NOT valid"
        words += f", {validity} at the attempt ({candidate.at:%Y-%m-%d %H:%M})"
    return words


def _chain_words(chain: Chain) -> str:
    links = " ← ".join(link.subject or "(no name)" for link in chain.links)
    if chain.holds is None:
        return f"{links}; {chain.reason}"
    return f"{links}; it holds" if chain.holds else f"{links}; it does NOT hold: {chain.reason}"
