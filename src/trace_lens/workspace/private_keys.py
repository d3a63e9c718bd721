"""The application's private keys: PEM, PKCS#8, DER or PKCS#12; a password only from the environment."""

from __future__ import annotations

import os

from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import (
    load_der_private_key,
    load_pem_private_key,
    pkcs12,
)

from trace_lens.workspace.loading import App, Workspace

PASSWORD_VARIABLE = "TRACE_LENS_KEY_PASSWORD"


def decryption_key(app: App, workspace: Workspace) -> rsa.RSAPrivateKey | None:
    """The key that opens what is encrypted for an application; None where none is declared.

    Raises SettingsError where the file holds no such key, or its password is missing or wrong.
    """
    name = app.settings.application.decryption_key
    if name is None:
        return None
    return workspace.once(f"decryption key {app.id}", lambda: _load(app, name))


def _load(app: App, name: str) -> rsa.RSAPrivateKey:
    data = app.source.read(name)
    given = os.environ.get(PASSWORD_VARIABLE)
    password = given.encode() if given else None
    try:
        key = _read(data, password)
    except TypeError:
        reason = "is encrypted with a password" if password is None else "has no password, but one is set"
        raise app.source.problem(name, f"{reason}; the password is read from {PASSWORD_VARIABLE}") from None
    except ValueError:
        hint = f", or the password in {PASSWORD_VARIABLE} is wrong" if password else ""
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
