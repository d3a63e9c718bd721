"""Explanations, certificates and applications in the terminal."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any

from trace_lens.common import catalogue
from trace_lens.common.catalogue import Entry
from trace_lens.common.findings import Finding, Side
from trace_lens.common.symptoms import Symptom
from trace_lens.diagnosis.certificates import CertificatesFound, Expected, SeenCertificate
from trace_lens.pki.certificates import Certificate
from trace_lens.pki.chains import Chain
from trace_lens.render.document import BLANK, Copied, Document, Fact, Rule, Span, answer, heading, line, prose, table
from trace_lens.render.documents.findings import finding_lines
from trace_lens.workspace.records import App, Workspace

_PLACES = 6
_OTHERS = 6
_WHO = {
    Side.APPLICATION: "Application",
    Side.PROVIDER: "Provider",
    Side.USER: "User",
    Side.NETWORK: "Network",
    Side.BOTH: "Both sides",
}


def explanation(entry: Entry) -> Document:
    """One finding explained."""
    yield heading(Span(entry.code, "head"), f": {entry.title}")
    severities = " or ".join(entry.severities)
    yield Fact("stage", f"{entry.stage}; it is a {severities}", column=13)
    yield BLANK
    yield prose(entry.why)
    for head, items in (("Usual causes", entry.causes), ("What to look at", (entry.look,))):
        yield BLANK
        yield heading(Span(head, "head"))
        for item in items:
            yield prose(item, 2, first="- " if len(items) > 1 else "")
    yield BLANK
    yield heading(Span("What repairs it", "head"))
    for side, remedy in entry.remedies.items():
        yield Fact(_WHO[side], remedy, column=13)
    yield BLANK
    yield Fact("standard", entry.reference, column=13)


def heard(found: Sequence[Symptom], entries: Sequence[Entry]) -> Document:
    """What a caller's words are about: the best complaint in full, others by name, then findings with these words."""
    best, *others = found
    yield heading(Span(best.title, "head"), level=1)
    for head, items in (("Ask", best.questions), ("Record", best.record)):
        yield BLANK
        yield heading(Span(head, "head"))
        for item in items:
            yield prose(item, 2, first="- ")
    yield BLANK
    yield heading(Span("Run", "head"))
    for command in best.commands:
        yield Copied(command, is_command=True)
    yield BLANK
    yield heading(Span("It usually ends in", "head"), ", the likeliest first")
    for code in best.findings:
        yield line("  ", Span(code.ljust(31), ""), catalogue.entry(code).title)
    if others:
        yield BLANK
        yield heading(Span("Also said like that", "head"))
        for symptom in others[:_OTHERS]:
            yield prose(symptom.title, 2, first="- ")
    if entries:
        yield BLANK
        yield heading(Span("Findings with these words", "head"))
        for entry in entries[:_OTHERS]:
            yield line("  ", Span(entry.code.ljust(31), ""), entry.title)


def listing(entries: Iterable[Entry]) -> Document:
    """Findings, one a line, under their stages."""
    stage = None
    for entry in entries:
        if entry.stage != stage:
            if stage:
                yield BLANK
            stage = entry.stage
            yield heading(Span(str(stage), "head"))
        yield line("  ", Span(entry.code.ljust(31), entry.severity), entry.title)


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


def app_list(apps: Iterable[App], workspace: Workspace) -> Document:
    """Applications, one a line."""
    rows = [
        (
            app.id,
            app.name,
            app.settings.protocol,
            app.provider_id or "(none)",
            app.entity_id or app.settings.application.oidc.client_id or "",
        )
        for app in apps
    ]
    if not rows:
        yield line("No applications are on record. trace-lens init makes a workspace with a commented example.")
        return
    yield table(("application", "name", "protocol", "provider", "identifier"), rows, indent=0)


def app_shown(app: App) -> Document:
    """All settings of one application, with the line of each."""
    yield heading(Span(app.name, "head"), f" ({app.id}), {app.source.file}")
    yield from _settings(app, app.source.raw, ())


def _settings(app: App, raw: dict[str, Any], path: tuple[str | int, ...]) -> Document:
    nested = {key: value for key, value in raw.items() if isinstance(value, dict) or _is_tables(value)}
    for key, value in raw.items():
        if key not in nested:
            text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
            yield Fact(key, text, column=26)
    for key, value in nested.items():
        for position, item in enumerate(value if isinstance(value, list) else [value]):
            where = (*path, key, position) if isinstance(value, list) else (*path, key)
            yield BLANK
            yield heading(".".join(str(part) for part in where if isinstance(part, str)))
            yield from _settings(app, item, where)


def _is_tables(value: object) -> bool:
    return isinstance(value, list) and bool(value) and all(isinstance(item, dict) for item in value)


def check(found: list[tuple[App, list[Finding]]]) -> Document:
    """The settings of all applications: a count, a line each, then the findings."""
    breaking = [app for app, findings in found if any(finding.breaks for finding in findings)]
    verb = "has" if len(breaking) == 1 else "have"
    yield heading(Span(f"{len(breaking)} of {len(found)} applications {verb} settings that break sign-ins.", "head"))
    yield BLANK
    yield table(
        ("application", "", ""),
        [
            (
                app.id,
                Span(_worst(findings) or "ok", _worst(findings) or "ok"),
                ", ".join(
                    dict.fromkeys(finding.code + (" (accepted)" if finding.accepted else "") for finding in findings)
                ),
            )
            for app, findings in found
        ],
    )
    for app, findings in found:
        if findings:
            yield BLANK
            yield Rule()
            yield heading(Span(app.name, "head"), f" ({app.id})")
        for finding in findings:
            yield BLANK
            yield from finding_lines(finding)
            side = f"At the {finding.side}: " if finding.side in (Side.APPLICATION, Side.PROVIDER) else ""
            yield prose(f"{side}{finding.remedy}", 2)
            if finding.value_to_set:
                yield Copied(finding.value_to_set)


def _worst(findings: list[Finding]) -> str | None:
    if any(finding.breaks for finding in findings):
        return "break"
    return "risk" if any(finding.severity == "risk" and not finding.accepted for finding in findings) else None
