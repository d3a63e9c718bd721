"""The application's private keys: PEM, PKCS#8, DER or PKCS#12; a password only from the environment or a prompt."""

from __future__ import annotations

import hashlib
import os
import re
from collections.abc import Iterator
from functools import lru_cache
from typing import TYPE_CHECKING

from cryptography.hazmat.primitives.asymmetric import rsa

from trace_lens.pki.certificates import certificate_or_none
from trace_lens.pki.containers import ContainerError, is_pkcs12, open_pkcs12, open_private_key
from trace_lens.pki.fingerprints import Fingerprint
from trace_lens.pki.pem import certificates_in
from trace_lens.pki.public_keys import octets_of
from trace_lens.workspace.records import App, Workspace

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

PASSWORD_VARIABLE = "TRACE_LENS_KEY_PASSWORD"
STANDS_IN_FOR = "Stands in for the key with the fingerprint"
"""So begins, in the file of a redacted copy's stand-in for a private key, the line that says which key it was."""


def decryption_key(app: App, workspace: Workspace) -> rsa.RSAPrivateKey | None:
    """The RSA key that opens XML that is encrypted for an application; None where none is declared.

    Raises SettingsError where the file holds no such key, or its password is missing or wrong.
    """
    key = private_key(app, workspace)
    if key is not None and not isinstance(key, rsa.RSAPrivateKey):
        name = app.settings.application.decryption_key or ""
        raise app.source.problem(name, "holds a key that is not RSA; XML Encryption keys are RSA here")
    return key


def private_key(app: App, workspace: Workspace) -> object | None:
    """The key that opens what is encrypted for an application, of any type; None where none is declared.

    A JSON Web Key (RFC 7517) serves too; a symmetric one comes as its octets. Raises SettingsError as above.
    """
    name = app.settings.application.decryption_key
    if name is None:
        return None
    return workspace.once(f"decryption key {app.id}", lambda: _load(app, name, workspace))


def readable_key(app: App) -> object | None:
    """The key as `private_key` gives it, where nobody need be asked for a password; None where it cannot be read."""
    name = app.settings.application.decryption_key
    try:
        given = os.environ.get(password_variable(app)) or os.environ.get(PASSWORD_VARIABLE)
        return _read(app.source.read(name), given.encode() if given else None) if name else None
    except (OSError, ValueError, TypeError):
        return None


def key_print(key: PublicKeyTypes) -> str:
    """The SHA-256 fingerprint of a public key: of its SubjectPublicKeyInfo (RFC 5280 §4.1.2.7)."""
    return str(Fingerprint("sha256", hashlib.sha256(octets_of(key)).hexdigest()))


def own_print(app: App, key: PublicKeyTypes) -> str:
    """The fingerprint of an application's key; of a stand-in in a redacted copy that of the key it stands for."""
    name = app.settings.application.decryption_key
    line = (
        re.search(rf"^{STANDS_IN_FOR} (\S+)$", app.source.read(name).decode("latin-1"), re.MULTILINE) if name else None
    )
    return line[1] if line else key_print(key)


def certificate_key_print(der: bytes | None) -> str | None:
    """The fingerprint of the key of a certificate; None where it cannot be read."""
    certificate = certificate_or_none(der)
    return certificate.key_print if certificate else None


def password_variable(app: App) -> str:
    """The variable that holds the password of this application's key alone."""
    return f"{PASSWORD_VARIABLE}_{''.join(char if char.isalnum() else '_' for char in app.id).upper()}"


def other_keys(app: App, workspace: Workspace) -> tuple[tuple[str, object], ...]:
    """Every other private key on record with the words for it: of other applications, and those in the keys folder.

    Keys that are closed with a password that is not in the environment are passed over; nobody is asked for it.
    """
    return workspace.once(f"other keys {app.id}", lambda: tuple(_other_keys(app, workspace)))


def _other_keys(app: App, workspace: Workspace) -> Iterator[tuple[str, object]]:
    own = app.settings.application.decryption_key
    names: dict[str | None, str] = {
        application.settings.application.decryption_key: f"the key of {application.name}"
        for application in workspace.apps.values()
        if application is not app
    }
    for file in workspace.files_in("keys"):
        names.setdefault(file, f"the key in {file}")
    for name, words in names.items():
        if name is None or name == own:
            continue
        try:
            key = _read(app.source.read(name), (os.environ.get(PASSWORD_VARIABLE) or "").encode() or None)
        except (OSError, ValueError, TypeError):
            continue
        if key is not None:
            yield words, key


def beside_key(app: App) -> tuple[str, bool] | None:
    """The fingerprint of the key that a certificate in the key's own file certifies, and whether it is that key.

    None where no certificate stands in the file, or it cannot be opened without a password.
    """
    name = app.settings.application.decryption_key
    if name is None:
        return None
    data = app.source.read(name)
    try:
        if is_pkcs12(data):
            opened = open_pkcs12(data, os.environ.get(password_variable(app)) or os.environ.get(PASSWORD_VARIABLE))
            key, ders = opened.key, list(opened.certificates)
        else:
            key = open_private_key(data)
            ders = (
                [certificate.der for certificate in certificates_in(data) if certificate.der]
                if b"CERTIFICATE-----" in data
                else []
            )
    except ContainerError:
        return None
    prints = [found for der in ders if (found := certificate_key_print(der))]
    if key is None or not prints:
        return None
    own = own_print(app, key.public_key())
    return (own, True) if own in prints else (prints[0], False)


def given_password(name: str, workspace: Workspace) -> str | None:
    """The password of a file that no setting names: from the environment, else asked for; None where nobody can be."""
    return os.environ.get(PASSWORD_VARIABLE) or (workspace.ask(f"Password of {name}") if workspace.ask else None)


def _load(app: App, name: str, workspace: Workspace) -> object:
    data = app.source.read(name)
    given = os.environ.get(password_variable(app)) or os.environ.get(PASSWORD_VARIABLE)
    try:
        try:
            key = _read(data, given.encode() if given else None)
        except TypeError:
            if given or workspace.ask is None:
                raise
            given = workspace.ask(f"Password of {name}")
            key = _read(data, given.encode() if given else None)
    except TypeError:
        reason = "has no password, but one is set" if given else "is encrypted with a password"
        raise app.source.problem(name, f"{reason}; the password is read from {PASSWORD_VARIABLE}") from None
    except ValueError:
        hint = f", or its password ({PASSWORD_VARIABLE}, or as typed) is wrong" if given else ""
        raise app.source.problem(name, f"holds no private key that can be read{hint}") from None
    return key


def _read(data: bytes, password: bytes | None) -> object:
    if data.lstrip()[:1] == b"{":
        return _of_jwk(data)
    if b"-----BEGIN" in data:
        try:
            return _of_pem(data, password)
        except TypeError:
            if password is None:
                raise
            return _of_pem(data, None)
    if data[:1] != b"\x30":
        raise ValueError("neither PEM nor DER")
    from cryptography.hazmat.primitives.serialization import load_der_private_key, pkcs12

    try:
        return load_der_private_key(data, None)
    except (ValueError, TypeError):
        if password is None:
            try:
                return pkcs12.load_key_and_certificates(data, None)[0]
            except ValueError:
                raise TypeError from None
        return pkcs12.load_key_and_certificates(data, password)[0]


@lru_cache(64)
def _of_pem(data: bytes, password: bytes | None) -> object:
    """A private key in PEM: whether its numbers fit together is reckoned once, which takes longer than a decryption."""
    from cryptography.hazmat.primitives.serialization import load_pem_private_key

    return load_pem_private_key(data, password)


def _of_jwk(data: bytes) -> object:
    from trace_lens.oidc.jwk import read_key_set
    from trace_lens.oidc.strict_json import read_json

    for key in read_key_set(read_json(data).value, own=True):
        if key.private is not None or key.secret is not None:
            return key.private or key.secret
    raise ValueError("no private key in it")
