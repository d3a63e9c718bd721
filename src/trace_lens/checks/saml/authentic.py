"""Authentic: signature, key and certificate hold (XML Signature; SAML 2.0 Core §5)."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.checks.case import Need
from trace_lens.checks.certificate_dates import dates_of
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.not_fetched import not_fetched
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.saml.covered import at_certificate, at_signature
from trace_lens.checks.saml.readable import delivered_altered
from trace_lens.checks.saml.signed import Verdict
from trace_lens.common import limits
from trace_lens.common.findings import Evidence, Finding, Severity, Side, Unchecked
from trace_lens.common.moments import show_moment
from trace_lens.common.personal import personal
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Count, Person, say
from trace_lens.pki.certificates import Certificate
from trace_lens.saml.messages import Text
from trace_lens.saml.names import short
from trace_lens.saml.parsing import holds_comment
from trace_lens.workspace import trust
from trace_lens.workspace.trust import RecordedKey


@check("not-signed", "signed-part-wrong", requires=Need.MESSAGE, decides=True)
def signed_at_all(case: SamlCase) -> Answer:
    """Is the part signed that the application requires (SAML 2.0 Profiles §4.1.3.5)?"""
    signed = case.signed
    if case.refused:
        yield Unchecked("not-signed", "the provider sent an error, which nobody has to sign")
        return
    if not signed.verdicts:
        if case.closed:
            yield Unchecked("not-signed", "the assertion is encrypted; a signature inside it cannot be seen", True)
            return
        yield finding(
            "not-signed",
            "Neither the response nor the assertion is signed, so anybody could have written it.",
            evidence=case.shown("Response ID", case.response.id if case.response else None),
        )
        return
    wanted = case.app.settings.application.saml.signed_part if case.app else "either"
    have = {verdict.part for verdict in signed.own if verdict.good}
    need = {"either": set(), "both": {"response", "assertion"}}.get(wanted, {wanted})
    if case.closed:
        need = need - {"assertion"}
    if have and not need <= have:
        lacking = " and ".join(sorted(need - have))
        yield finding(
            "signed-part-wrong",
            say(
                "The {have} is signed, but {app_name} requires a signature on the {lacking}.",
                have=" and the ".join(sorted(have)),
                app_name=case.app.name if case.app else "the application",
                lacking=lacking,
            ),
            expected=wanted,
            actual="both" if len(have) > 1 else next(iter(have)),
            value_to_set=wanted,
            evidence=[
                *(at_signature(case, verdict) for verdict in signed.own),
                case.set_in_app("signed_part", wanted, "application", "signed_part"),
            ],
            compared=False,
        )


@check("digest-mismatch", requires=Need.SIGNATURE)
def content_unchanged(case: SamlCase) -> Answer:
    """Is what was signed what stands here (XML Signature §3.2.1)?"""
    for verdict in case.signed.own:
        if verdict.signature.digest_holds is not False:
            continue
        if verdict.alteration and not delivered_altered(case):
            yield Unchecked("digest-mismatch", "the capture was altered, so what was signed cannot be compared with it")
            continue
        if verdict.alteration:
            yield _altered_before(case, verdict, verdict.alteration.what)
            continue
        if verdict.standing == "none":
            reason = "No known key made the signature either, so more than the content was changed or replaced."
        else:
            name = verdict.key.words if verdict.key else "the certificate inside the message"
            reason = say(
                "The signature over SignedInfo does hold, with {name}, so the content was changed after signing.",
                name=name,
            )
        yield finding(
            "digest-mismatch",
            say(
                "The {part} is not what was signed: its digest is another. {reason} {of_captures}",
                part=verdict.part,
                reason=reason,
                of_captures=_of_captures(case),
            ),
            evidence=[at_signature(case, verdict)],
        )


def _altered_before(case: SamlCase, verdict: Verdict, what: str) -> Finding:
    """A message that was altered before the browser posted it."""
    return finding(
        "digest-mismatch",
        say(
            "The {part} is not what was signed: {what}, after it was signed. The browser posted it so, and the "
            "application refused it.",
            part=verdict.part,
            what=what,
        ),
        evidence=[at_signature(case, verdict)],
    )


def _of_captures(case: SamlCase) -> str:
    """Whether a change by the capture explains it, or why that was not tried."""
    if len(case.attempt.found.data) > limits.ALTERED_BYTES:
        return say(
            "Whether the capture changed it was not tried: the message is larger than {ALTERED_BYTES} bytes.",
            ALTERED_BYTES=Count(f"{limits.ALTERED_BYTES:,}"),
        )
    return "None of the changes that captures make explains it."


@check(
    "signed-by-other-known-key",
    "signature-value-invalid",
    "signed-by-untrusted-key",
    "fingerprint-mismatch",
    "no-trusted-key",
    requires=Need.SIGNATURE,
)
def made_by_trusted_key(case: SamlCase) -> Answer:
    """Did a key that the application trusts make the signature (XML Signature §3.2.2)?"""
    signed = case.signed
    for verdict in signed.own:
        if verdict.signature.refused or verdict.signature.digest_holds is None:
            continue
        if verdict.alteration and not verdict.alteration.undone:
            yield Unchecked(
                "signature-value-invalid", "the capture was altered, so its signature cannot be judged", True
            )
        elif not signed.trusted:
            yield from _no_key(case, verdict)
        elif verdict.standing != "trusted":
            yield from _other_key(case, verdict)
    if not signed.own and signed.verdicts and not signed.wrapping and not case.refused:
        refused = any(verdict.signature.refused for verdict in signed.verdicts)
        if not refused and not signed.duplicates:
            yield Unchecked("signature-value-invalid", "no signature is where SAML puts it", True)


def _no_key(case: SamlCase, verdict: Verdict) -> Iterator[Finding | Unchecked]:
    who = case.app.name if case.app else "this message"
    because = (
        "every certificate that the application pins is damaged"
        if any(pin.problem for pin in case.signed.pins)
        else say("no signing certificate is on record for {who}", who=who)
    )
    because += not_fetched(case.provider, "saml")
    embedded = (
        " The certificate that came inside the message fits the signature, but whoever writes a message can put any "
        "certificate in it."
        if verdict.standing == "embedded"
        else say(
            " It fits {key_words}, though nothing says that {who} trusts that.", key_words=verdict.key.words, who=who
        )
        if verdict.key
        else ""
    )
    embedded += _seen_before(case, verdict)
    yield finding(
        "no-trusted-key",
        say("The signature cannot be judged: {because}.{embedded}", because=because, embedded=embedded),
        value_to_set=str(verdict.certificate.sha256) if verdict.certificate else None,
        evidence=[at_signature(case, verdict), *at_certificate(case, verdict)],
    )
    yield Unchecked("signature-value-invalid", because, decides=True)


def _seen_before(case: SamlCase, verdict: Verdict) -> str:
    """Whether the certificate that fits is the one that was seen in an earlier capture."""
    seen = trust.seen(case.app, case.workspace) if case.app else ()
    if not seen or verdict.certificate is None:
        return ""
    if trust.pins(seen, verdict.certificate):
        return " It is the certificate that was seen before (seen_certificates)."
    return " It is another certificate than the one that was seen before (seen_certificates)."


def _other_fingerprint(case: SamlCase, certificate: Certificate, app: str, evidence: list[Evidence]) -> Finding:
    """The published certificate, where the application holds the fingerprint of another."""
    pin = next(key for key in case.signed.trusted if key.fingerprint)
    in_use = str(certificate.sha1 if pin.fingerprint and pin.fingerprint.algorithm == "sha1" else certificate.sha256)
    return finding(
        "fingerprint-mismatch",
        say(
            "The signature was made with the certificate that the provider publishes, but {app} "
            "holds the fingerprint of another one.",
            app=app,
        ),
        expected=str(pin.fingerprint),
        actual=in_use,
        value_to_set=in_use,
        evidence=[*evidence, Evidence("fingerprint on record", str(pin.fingerprint), pin.file, pin.where)],
        compared=False,
    )


def _bare_key(app: str, expected: str, evidence: list[Evidence]) -> Finding:
    """A key without a certificate, which came inside the message."""
    return finding(
        "signed-by-untrusted-key",
        say(
            "The signature holds only with the bare key that came inside the message, and {app} "
            "trusts another. Whoever writes a message can put any key in it.",
            app=app,
        ),
        expected=expected,
        evidence=evidence,
        compared=False,
    )


_REPLACE = "Replace the certificate that the application pins by this one: the provider signs with it now."


def _other_key(case: SamlCase, verdict: Verdict) -> Iterator[Finding]:
    """The signature is not by a trusted key: by which, then?"""
    evidence = [at_signature(case, verdict), *at_certificate(case, verdict)]
    expected = "; ".join(_pin_words(key) for key in case.signed.trusted)
    app = case.app.name if case.app else "the application"
    certificate = verdict.certificate
    if verdict.standing == "embedded" and certificate is None:
        yield _bare_key(app, expected, evidence)
        return
    if verdict.standing == "none":
        if verdict.digest_holds:
            yield finding(
                "signature-value-invalid",
                "The content is what was signed, but the signature over it was made by no key on record, nor by the "
                "certificate inside the message.",
                evidence=evidence,
            )
        return
    assert certificate is not None
    actual = str(certificate.sha256)
    if verdict.standing == "published":
        yield _other_fingerprint(case, certificate, app, evidence)
    elif verdict.standing == "known" and verdict.key:
        ours = bool(case.provider and verdict.key.held_by == "published" and verdict.key.owner == case.provider.name)
        yield finding(
            "signed-by-other-known-key",
            say("The signature was made by {key_words}; {app} does not trust it.", key_words=verdict.key.words, app=app)
            + (" The provider has changed its key." if ours else _whose(case, certificate)),
            side=Side.APPLICATION if ours else Side.PROVIDER,
            remedy=_REPLACE if ours and len(case.signed.trusted) == 1 else None,
            expected=expected,
            actual=actual,
            value_to_set=actual if ours else None,
            evidence=evidence,
            compared=False,
        )
    else:
        yield finding(
            "signed-by-untrusted-key",
            say(
                "The signature holds only with the certificate that came inside the message ({subject}), "
                "and {app} trusts another.",
                subject=certificate.subject or "no name",
                app=app,
            ),
            expected=expected,
            actual=actual,
            evidence=evidence,
            compared=False,
        )


def _whose(case: SamlCase, certificate: Certificate) -> str:
    if case.at and certificate.not_after < case.at:
        return say(
            " It is an old key: its certificate ended {not_after}.", not_after=show_moment(certificate.not_after)
        )
    return " It is not among the keys that the provider publishes now." if case.provider else ""


def _pin_words(key: RecordedKey) -> str:
    return str(key.fingerprint or (key.certificate.sha256 if key.certificate else ""))


@check("weak-signature", "weak-key", requires=Need.SIGNATURE)
def strength(case: SamlCase) -> Answer:
    """Do algorithm and key withstand what is known today?"""
    weak = sorted({part for verdict in case.signed.own for part in verdict.signature.weak_parts})
    if weak:
        yield finding(
            "weak-signature",
            say("The signature rests on {weak}, for which forgeries can be made.", weak=", ".join(weak)),
            actual=", ".join(weak),
            evidence=[at_signature(case, verdict) for verdict in case.signed.own],
        )
    for certificate, verdict in _in_use(case):
        if certificate.weakness:
            yield finding(
                "weak-key",
                say("The signing key is weak: {weakness}.", weakness=certificate.weakness),
                actual=certificate.key,
                evidence=at_certificate(case, verdict),
            )


def _in_use(case: SamlCase) -> list[tuple[Certificate, Verdict]]:
    """The certificates whose keys made the signatures, each once."""
    found: dict[bytes, tuple[Certificate, Verdict]] = {}
    for verdict in case.signed.own:
        if verdict.certificate and verdict.standing != "none":
            found.setdefault(verdict.certificate.der, (verdict.certificate, verdict))
    return list(found.values())


@check("certificate-expired", "certificate-not-yet-valid", "certificate-expiring", requires=Need.SIGNATURE)
def certificate_dates(case: SamlCase) -> Answer:
    """Was the signing certificate valid at the moment of the attempt (RFC 5280 §4.1.2.5)?"""
    for certificate, verdict in _in_use(case):
        yield from dates_of(case, certificate, "signing certificate", at_certificate(case, verdict))


@check("certificate-damaged", requires=Need.SIGNATURE)
def certificates_on_record(case: SamlCase) -> Answer:
    """Are the certificates on record whole?"""
    used = {id(verdict.key) for verdict in case.signed.own if verdict.standing == "trusted"}
    sound = any(key for key in case.signed.trusted if id(key) in used and not key.repairs)
    for key in case.signed.pins:
        if not key.repairs and not key.problem:
            continue
        yield damaged(case, key, serves=sound or id(key) in used)


def damaged(case: SamlCase, key: RecordedKey, *, serves: bool) -> Finding:
    """The finding for a damaged certificate; a risk where, repaired, it serves."""
    mended = (
        say("It can be repaired ({repairs})", repairs=", ".join(key.repairs)) if key.repairs and not key.problem else ""
    )
    problem = say("It cannot be repaired: {problem}", problem=key.problem) if key.problem else ""
    return finding(
        "certificate-damaged",
        say("The certificate in {file} is damaged. {mended}.", file=key.file, mended=mended or problem),
        severity=Severity.RISK if serves else Severity.BREAK,
        side=Side.APPLICATION,
        evidence=[Evidence("certificate", key.problem or ", ".join(key.repairs), key.file, key.where)],
    )


@check("comment-in-identity")
def comments(case: SamlCase) -> Answer:
    """Is every name and value one piece of text?"""
    for label, value in _identities(case):
        if holds_comment(value.element):
            text = Person(value.value) if label == "NameID" else personal(label, value.value)
            yield finding(
                "comment-in-identity",
                say(
                    "There is a comment inside the {label}. Some readers take only the part before it; the "
                    "whole is {text}.",
                    label=label,
                    text=text,
                ),
                actual=text,
                evidence=case.shown(label, case.name_id if label == "NameID" else value),
            )


def _identities(case: SamlCase) -> Iterator[tuple[str, Text]]:
    assertion = case.assertion
    if assertion is None:
        return
    if case.name_id:
        yield "NameID", case.name_id.text
    if assertion.issuer:
        yield "Issuer", assertion.issuer.text
    for audience in assertion.conditions.audiences if assertion.conditions else ():
        yield "Audience", audience
    for statement in assertion.authn_statements:
        if statement.context_class:
            yield "AuthnContextClassRef", statement.context_class
    for attribute in assertion.attributes:
        for value in attribute.values:
            if not value.holds_element:
                yield f"attribute {short(attribute.name)}", value.text


CHECKS = (
    signed_at_all,
    content_unchanged,
    made_by_trusted_key,
    strength,
    certificate_dates,
    certificates_on_record,
    comments,
)
