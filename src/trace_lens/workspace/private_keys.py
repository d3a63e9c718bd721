"""The application's private keys: PEM, PKCS#8, DER or PKCS#12; a password only from the environment or a prompt."""

from __future__ import annotations

import hashlib
import os
from typing import TYPE_CHECKING

from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    PublicFormat,
    load_der_private_key,
    load_pem_private_key,
    pkcs12,
)

from trace_lens.pki.certificates import CertificateError, read_certificate
from trace_lens.pki.fingerprints import Fingerprint
from trace_lens.workspace.loading import App, Workspace

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

PASSWORD_VARIABLE = "TRACE_LENS_KEY_PASSWORD"


def decryption_key(app: App, workspace: Workspace) -> rsa.RSAPrivateKey | None:
    """The key that opens what is encrypted for an application; None where none is declared.

    Raises SettingsError where the file holds no such key, or its password is missing or wrong.
    """
    name = app.settings.application.decryption_key
    if name is None:
        return None
    return workspace.once(f"decryption key {app.id}", lambda: _load(app, name, workspace))


def key_print(key: PublicKeyTypes) -> str:
    """The SHA-256 fingerprint of a public key: of its SubjectPublicKeyInfo (RFC 5280 §4.1.2.7)."""
    octets = key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return str(Fingerprint("sha256", hashlib.sha256(octets).hexdigest()))


def certificate_key_print(der: bytes | None) -> str | None:
    """The fingerprint of the key of a certificate; None where it cannot be read."""
    try:
        return read_certificate(der).key_print if der else None
    except CertificateError:
        return None


def password_variable(app: App) -> str:
    """The variable that holds the password of this application's key alone."""
    return f"{PASSWORD_VARIABLE}_{''.join(char if char.isalnum() else '_' for char in app.id).upper()}"


def given_password(name: str, workspace: Workspace) -> str | None:
    """The password of a file that no setting names: from the environment, else asked for; None where nobody can be."""
    return os.environ.get(PASSWORD_VARIABLE) or (workspace.ask(f"Password of {name}") if workspace.ask else None)


def _load(app: App, name: str, workspace: Workspace) -> rsa.RSAPrivateKey:
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
    if not isinstance(key, rsa.RSAPrivateKey):
        raise app.source.problem(name, "holds a key that is not RSA; XML Encryption keys are RSA here")
    return key


def _read(data: bytes, password: bytes | None) -> object:
    if b"-----BEGIN" in data:
        try:
            return load_pem_private_key(data, password)
        except TypeError:
            if password is None:
                raise
            return load_pem_private_key(data, None)
    if data[:1] != b"\x30":
        raise ValueError("neither PEM nor DER")
    try:
        return load_der_private_key(data, None)
    except (ValueError, TypeError):
        if password is None:
            try:
                return pkcs12.load_key_and_certificates(data, None)[0]
            except ValueError:
                raise TypeError from None
        return pkcs12.load_key_and_certificates(data, password)[0]
