"""What is encrypted in a message, opened with the application's key as far as that goes."""

from __future__ import annotations

from cryptography.hazmat.primitives.asymmetric import rsa
from lxml import etree

from trace_lens.common.sentences import FileName, say
from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.certificates import certificate_or_none
from trace_lens.saml.encryption import DecryptionFailed, EncryptionRefused, OtherKey, decrypt
from trace_lens.saml.messages import Assertion, Encrypted
from trace_lens.saml.parsing import XMLDamaged, parse
from trace_lens.saml.reading import read_assertion
from trace_lens.workspace import trust
from trace_lens.workspace.private_keys import decryption_key, other_keys
from trace_lens.workspace.records import App, Workspace


class Decryption(NamedTuple):
    """One encrypted element after the attempt to open it.

    `root` is the element that was inside, in a document of its own, and `data` its octets; both None where it stayed
    closed: `code` then names the finding and `reason` completes its sentence.
    """

    encrypted: Encrypted
    root: etree._Element | None = None
    data: bytes = b""
    code: str | None = None
    reason: str = ""


def open_one(encrypted: Encrypted, app: App | None, workspace: Workspace) -> Decryption:
    """Open one encrypted element. Raises SettingsError where the key on record cannot be used."""
    key = decryption_key(app, workspace) if app else None
    if app is None or key is None:
        reason = f"no decryption_key on record for {app.id}" if app else "no application, and so no key, is known"
        return Decryption(encrypted, code="encrypted-no-key", reason=reason)
    try:
        data = decrypt(encrypted.element, key)
    except EncryptionRefused as refusal:
        return Decryption(encrypted, code="encryption-form-refused", reason=str(refusal))
    except OtherKey as other:
        return Decryption(encrypted, code="encrypted-to-other-key", reason=_whose(encrypted, other, app, workspace))
    except DecryptionFailed:
        return Decryption(encrypted, code="decryption-failed", reason="what comes out of it is not intact")
    try:
        return Decryption(encrypted, parse(data), data)
    except XMLDamaged as damage:
        return Decryption(encrypted, code=damage.damage, reason=f"what was inside cannot be read: {damage.reason}")


def _whose(encrypted: Encrypted, other: OtherKey, app: App, workspace: Workspace) -> str:
    """Whose key it is encrypted to: by trial of the other keys on record, else as the message hints."""
    for words, key in other_keys(app, workspace):
        if not isinstance(key, rsa.RSAPrivateKey):
            continue
        try:
            decrypt(encrypted.element, key)
        except (OtherKey, DecryptionFailed, EncryptionRefused):
            continue
        return say("it opens with {words}", words=words)
    certified = _certified(workspace, other.prints)
    if certified:
        return say("it is encrypted to the certificate in {certified}", certified=FileName(certified))
    return (
        say("the message names the key {hints}", hints=" and ".join(other.hints))
        if other.hints
        else "the message does not say whose"
    )


def _certified(workspace: Workspace, prints: tuple[str, ...]) -> str | None:
    """The file on record that holds one of the certificates that a message is encrypted to."""
    for app in workspace.apps.values():
        for key in app.role.encryption_keys if app.role else ():
            certificate = certificate_or_none(key.certificate.der)
            if certificate and str(certificate.sha256) in prints:
                return say(
                    "{metadata}, the metadata of {app_name}",
                    metadata=app.settings.application.saml.metadata,
                    app_name=app.name,
                )
    for label in trust.everything(workspace):
        if label.certificate and str(label.certificate.sha256) in prints:
            return label.file
    return None


def assertions_of(openings: tuple[Decryption, ...]) -> tuple[Assertion, ...]:
    """The assertions that were inside."""
    return tuple(
        read_assertion(opening.root)
        for opening in openings
        if opening.root is not None and etree.QName(opening.root).localname == "Assertion"
    )
