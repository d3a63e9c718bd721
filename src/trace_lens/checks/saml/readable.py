"""Readable: the capture decodes to a well-formed message, whole, unaltered, and with what it must hold."""

from __future__ import annotations

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.way.signs import outcome_of
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Evidence, Severity, Side, Unchecked
from trace_lens.common.locations import Location
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.pki.certificates import certificate_or_none
from trace_lens.saml.encryption import algorithm_words, weak_parts
from trace_lens.saml.messages import Assertion, Instant, Response, Text
from trace_lens.saml.names import BINDING_POST
from trace_lens.saml.parsing import where

_NC_NAME = expression(r"[^\W\d][\w.\-]*")


@check("capture-truncated", "malformed-message", "unsafe-xml", requires=Need.NOTHING)
def damage(case: SamlCase) -> Answer:
    """Can the XML be read at all?"""
    found = case.attempt.damage
    if found:
        evidence = Evidence(
            "the message",
            f"{len(case.attempt.found.data):,} bytes",
            case.attempt.source,
            case.attempt.place.then(
                Location(line=found.line, column=found.column or None) if found.line else Location(part="the whole")
            ),
            exchange=case.attempt.main.exchange,
        )
        again = "Capture the message again, whole and unchanged. If it is the same again, the provider sends it so."
        broken = found.damage == "malformed-message"
        yield finding(
            str(found.damage),
            say("The message cannot be read: {reason}.", reason=found.reason),
            side=Side.USER if broken else None,
            remedy=again if broken else None,
            evidence=[evidence],
        )


@check("repaired-encoding", requires=Need.NOTHING)
def repairs(case: SamlCase) -> Answer:
    """Did it decode as it stood?"""
    found = case.attempt.found
    if found.repairs:
        yield finding(
            "repaired-encoding",
            say("It decoded only after a repair: {repairs}.", repairs=", ".join(found.repairs)),
            evidence=[
                Evidence(
                    "layers",
                    " → ".join(found.layers) or "none",
                    case.attempt.source,
                    found.where or Location(part="the whole"),
                    exchange=case.attempt.main.exchange,
                )
            ],
        )


def delivered_altered(case: SamlCase) -> bool:
    """Whether the browser itself posted the message as it is, and the application failed: a recording of what a browser
    sends does not lay out what stands inside base64.
    """
    return bool(case.attempt.way and case.attempt.main.binding == BINDING_POST and outcome_of(case).let_in is False)


@check("capture-altered", requires=Need.MESSAGE)
def altered_capture(case: SamlCase) -> Answer:
    """Was the XML changed by the capture, after it was signed?"""
    for verdict in case.signed.own:
        if verdict.alteration and not delivered_altered(case):
            outcome = (
                "With that undone the signature holds."
                if verdict.alteration.undone
                else "That cannot be undone exactly, so the signature cannot be judged from this capture."
            )
            yield finding(
                "capture-altered",
                say(
                    "In this capture {what}, after the {part} was signed. {outcome}",
                    what=verdict.alteration.what,
                    part=verdict.part,
                    outcome=outcome,
                ),
                evidence=[
                    Evidence(
                        "Signature",
                        verdict.part,
                        case.attempt.source,
                        verdict.place,
                        exchange=case.attempt.main.exchange,
                    )
                ],
            )
            return


@check("malformed-message", requires=Need.MESSAGE)
def required_parts(case: SamlCase) -> Answer:
    """Does the message hold what the standard requires (SAML 2.0 Core §3.2.2, §2.3.3; Profiles §4.1.4.2)?"""
    missing: list[tuple[str, Text | None]] = []
    response, assertion = case.response, case.assertion
    holders: list[tuple[str, Response | Assertion]] = []
    if response:
        holders.append(("Response", response))
    if assertion:
        holders.append(("Assertion", assertion))
    for name, holder in holders:
        if holder.id is None:
            missing.append((f"{name} has no ID", None))
        elif not _NC_NAME.fullmatch(holder.id.value):
            missing.append((f"{name} has an ID that is no XML name: {holder.id.value!r}", holder.id))
        wanted = "1.1" if case.is_saml_11 else "2.0"
        if holder.version is None or holder.version.value != wanted:
            given = say('"{version_value}"', version_value=holder.version.value) if holder.version else "missing"
            missing.append((f'the Version of {name} is {given}, not "{wanted}"', holder.version))
        if holder.issue_instant is None:
            missing.append((f"{name} has no IssueInstant", None))
    if response is None and assertion is None:
        lacking = "Response" if case.attempt.found.kind == "saml-artifact-response" else "assertion"
        missing.append((f"the message has no {lacking}", None))
    if response:
        if response.status is None or not response.status.codes:
            missing.append(("Response has no Status with a StatusCode", None))
        elif not case.refused and not response.assertions and not response.encrypted_assertions:
            missing.append(("the status is Success, yet Response holds no assertion", response.status.codes[0]))
    if assertion:
        if assertion.issuer is None:
            missing.append(("Assertion has no Issuer", None))
        if not assertion.authn_statements:
            missing.append(("Assertion has no AuthnStatement, so it does not say that anybody signed in", None))
        elif assertion.authn_statements[0].authn_instant is None:
            missing.append(("AuthnStatement has no AuthnInstant", None))
    for reason, value in missing:
        yield finding(
            "malformed-message",
            say("{upper}{reason}.", upper=reason[0].upper(), reason=reason[1:]),
            evidence=case.shown("value", value),
        )


@check("malformed-message", requires=Need.MESSAGE)
def moments(case: SamlCase) -> Answer:
    """Are the moments written as SAML demands: in UTC (SAML 2.0 Core §1.3.3)?"""
    for label, instant in _instants(case):
        if instant.moment is None:
            yield finding(
                "malformed-message",
                say(
                    "{label} is {instant_text_value}, which is no moment of the form 2026-11-20T08:14:03Z.",
                    label=label,
                    instant_text_value=repr(instant.text.value),
                ),
                evidence=case.shown(label, instant),
                reference="SAML 2.0 Core §1.3.3",
            )
        elif not instant.in_utc:
            yield finding(
                "malformed-message",
                say(
                    "{label} is {instant_text_value}, not written in UTC with a Z; some applications misread "
                    "it. It was read by its offset, or as UTC where it has none.",
                    label=label,
                    instant_text_value=instant.text.value,
                ),
                severity=Severity.RISK,
                evidence=case.shown(label, instant),
                reference="SAML 2.0 Core §1.3.3",
            )


def _instants(case: SamlCase) -> list[tuple[str, Instant]]:
    found: list[tuple[str, Instant | None]] = []
    if case.response:
        found.append(("IssueInstant of Response", case.response.issue_instant))
    assertion = case.assertion
    if assertion:
        found.append(("IssueInstant of Assertion", assertion.issue_instant))
        if assertion.conditions:
            found.append(("NotBefore", assertion.conditions.not_before))
            found.append(("NotOnOrAfter", assertion.conditions.not_on_or_after))
        for confirmation in assertion.subject.confirmations if assertion.subject else ():
            if confirmation.data:
                found.append(("NotOnOrAfter of SubjectConfirmationData", confirmation.data.not_on_or_after))
        for statement in assertion.authn_statements:
            found.append(("AuthnInstant", statement.authn_instant))
            found.append(("SessionNotOnOrAfter", statement.session_not_on_or_after))
    return [(label, instant) for label, instant in found if instant]


@check(
    "encrypted-no-key",
    "encrypted-to-other-key",
    "decryption-failed",
    "encryption-form-refused",
    requires=Need.MESSAGE,
    decides=True,
)
def encryption(case: SamlCase) -> Answer:
    """Is something encrypted, and can it be opened?"""
    closed = [("assertion", opening) for opening in case.openings]
    closed += [("name", case.name_opening)] if case.name_opening else []
    closed += [("attribute", opening) for opening in case.attribute_openings]
    for what, opening in closed:
        if opening.code is None:
            continue
        place = where(opening.encrypted.element)
        template = {
            "encrypted-no-key": "The {what} is encrypted; {reason}. What is inside is unchecked.",
            "encrypted-to-other-key": "The {what} is encrypted to another key than the application's; {reason}.",
            "decryption-failed": "The {what} is encrypted to this application's key, but {reason}.",
            "encryption-form-refused": "The {what} cannot be opened: {reason}.",
        }.get(opening.code, "The {what} was opened, but {reason}.")
        words = say(template, what=what, reason=opening.reason)
        yield finding(
            opening.code,
            words,
            value_to_set=_own_certificate(case) if opening.code == "encrypted-to-other-key" else None,
            evidence=[
                Evidence(
                    f"encrypted {what}",
                    algorithm_words(opening.encrypted.element),
                    case.attempt.source,
                    place,
                    exchange=case.attempt.main.exchange,
                )
            ],
        )
        if opening.code == "encrypted-no-key" and what == "assertion":
            yield Unchecked("encrypted-no-key", opening.reason, decides=True)


def _own_certificate(case: SamlCase) -> str | None:
    """The fingerprint of the certificate that the application's metadata tells others to encrypt to."""
    role = case.app.role if case.app else None
    own = (certificate_or_none(key.certificate.der) for key in (role.encryption_keys if role else ()))
    return next((str(certificate.sha256) for certificate in own if certificate), None)


@check("weak-encryption", requires=Need.MESSAGE)
def weak_encryption(case: SamlCase) -> Answer:
    """Is what is encrypted encrypted well?"""
    openings = [*case.openings, *([case.name_opening] if case.name_opening else []), *case.attribute_openings]
    for opening in openings:
        weak = weak_parts(opening.encrypted.element)
        if weak:
            place = where(opening.encrypted.element)
            yield finding(
                "weak-encryption",
                say("It is encrypted with {weak}, which attacks are known for.", weak=" and ".join(weak)),
                actual=", ".join(weak),
                evidence=[
                    Evidence(
                        "EncryptionMethod",
                        algorithm_words(opening.encrypted.element),
                        case.attempt.source,
                        place,
                        exchange=case.attempt.main.exchange,
                    )
                ],
            )


CHECKS = (
    damage,
    repairs,
    altered_capture,
    required_parts,
    moments,
    encryption,
    weak_encryption,
)
