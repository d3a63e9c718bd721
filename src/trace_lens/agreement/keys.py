"""The certificates that an application pins, held against those that its provider publishes."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.common.findings import Evidence, Finding, Severity, Side
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.pki.certificates import Certificate
from trace_lens.saml.metadata_signature import MetadataSignature, metadata_signatures
from trace_lens.saml.parsing import XMLDamaged
from trace_lens.workspace import trust
from trace_lens.workspace.records import App, Source, Workspace


def pinned_keys(app: App, workspace: Workspace) -> Iterator[Finding]:
    """Pinned certificates against published ones."""
    provider = workspace.provider_of(app)
    pins = trust.pinned(app, workspace)
    published = trust.published(provider, workspace) if provider else ()
    certificates = [key.certificate for key in published if key.certificate]
    for pin in pins:
        if pin.repairs or pin.problem:
            yield _damaged(pin)
        known = any(trust.pins((pin,), certificate) for certificate in certificates)
        if certificates and provider and not known and (pin.certificate or pin.fingerprint):
            held = str(pin.fingerprint or (pin.certificate.sha256 if pin.certificate else ""))
            meant = _mistyped(pin, certificates)
            left_over = any(trust.pins(pins, certificate) for certificate in certificates)
            yield finding(
                "certificate-not-published",
                say(
                    "{app_name} pins a certificate that {provider_name} does not publish.",
                    app_name=app.name,
                    provider_name=provider.name,
                )
                + (
                    say(" It differs by {slips} from a published one: it was mistyped.", slips=meant[1])
                    if meant
                    else " It pins a published one too, so this one can be taken out."
                    if left_over
                    else ""
                ),
                expected="; ".join(str(certificate.sha256) for certificate in certificates),
                actual=held,
                value_to_set=meant[0] if meant else None if left_over else str(certificates[0].sha256),
                evidence=(Evidence("pinned", held, pin.file, pin.where),),
                compared=False,
            )
    if not pins or app.settings.application.saml.trust_from == "metadata" or not provider:
        return
    replacing = not any(trust.pins(pins, certificate) for certificate in certificates)
    mistyped = {slip[0] for pin in pins if (slip := _mistyped(pin, certificates))}
    for key in published:
        certificate = key.certificate
        if certificate and {str(certificate.sha1), str(certificate.sha256)} & mistyped:
            continue  # a mistyped pin was meant to be this one: it is to be put right, not added to
        if certificate and not trust.pins(pins, certificate):
            made = finding(
                "next-key-not-pinned",
                say(
                    "{provider_name} publishes a certificate that {app_name} does not trust yet, and "
                    "{app_name} does not fetch metadata by itself.",
                    provider_name=provider.name,
                    app_name=app.name,
                ),
                expected=str(certificate.sha256),
                value_to_set=str(certificate.sha256),
                evidence=(Evidence("published", str(certificate.sha256), key.file, key.where),),
            )
            yield made._replace(remedy=_REPLACE) if replacing else made


def _mistyped(pin: trust.RecordedKey, certificates: list[Certificate]) -> tuple[str, str] | None:
    """The published fingerprint that a pin was meant to be, and by how many digits it differs."""
    if pin.fingerprint is None:
        return None
    for certificate in certificates:
        own = certificate.sha1 if pin.fingerprint.algorithm == "sha1" else certificate.sha256
        slips = sum(left != right for left, right in zip(own.hex, pin.fingerprint.hex, strict=False))
        if 0 < slips <= 2:
            return str(own), f"{slips} digit{'' if slips == 1 else 's'}"
    return None


_REPLACE = "Replace the certificate that the provider no longer publishes by this one."


def signed_metadata(app: App, workspace: Workspace) -> Iterator[Finding]:
    """Metadata that is signed, and whose signature does not hold: of the provider, and of the application itself."""
    provider = workspace.provider_of(app)
    for side, entity, source, name in (
        (
            Side.PROVIDER,
            provider.entity if provider else None,
            provider.source if provider else app.source,
            provider.settings.metadata if provider else None,
        ),
        (Side.APPLICATION, app.entity, app.source, app.settings.application.saml.metadata),
    ):
        for signature in _signatures(source, name, workspace) if name else ():
            if signature.problem and (
                signature.entity_id is None or (entity and signature.entity_id == entity.entity_id)
            ):
                yield finding(
                    "metadata-signature-invalid",
                    say(
                        "The signature of the metadata in {name} does not hold: {problem}.",
                        name=name,
                        problem=signature.problem,
                    ),
                    side=side,
                    evidence=(Evidence("Signature", "does not hold", name or "", signature.place),),
                )


def _signatures(source: Source, name: str, workspace: Workspace) -> tuple[MetadataSignature, ...]:
    """The signatures of a metadata file, held against every certificate on record, once for a file."""

    def judged() -> tuple[MetadataSignature, ...]:
        data = source.document(name) or b""
        if b"SignatureValue" not in data:
            return ()
        certificates = [key.certificate for key in trust.everything(workspace) if key.certificate]
        try:
            return metadata_signatures(data, dict.fromkeys(certificates))
        except XMLDamaged:
            return ()

    return workspace.once(f"metadata signatures {name}", judged)


def _damaged(pin: trust.RecordedKey) -> Finding:
    words = (
        say("it cannot be repaired: {problem}", problem=pin.problem)
        if pin.problem
        else say("it can be repaired ({repairs})", repairs=", ".join(pin.repairs))
    )
    return finding(
        "certificate-damaged",
        say("The certificate in {file} is damaged; {words}.", file=pin.file, words=words),
        severity=Severity.BREAK if pin.problem else Severity.RISK,
        side=Side.APPLICATION,
        evidence=(Evidence("certificate", pin.problem or ", ".join(pin.repairs), pin.file, pin.where),),
    )
