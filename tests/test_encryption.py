"""Encrypted assertions, names and attributes: opened, or told why not."""

from __future__ import annotations

import base64
import os
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, Encoding, PrivateFormat, pkcs12
from lxml import etree

from kit import (
    APP,
    DS,
    SAML,
    TERN,
    assertion_xml,
    attribute,
    bare,
    certificate,
    judge,
    key,
    private_pem,
    response,
    run,
    sign,
    sp_metadata,
    toml,
    workspace,
)

XENC = "http://www.w3.org/2001/04/xmlenc#"
XENC11 = "http://www.w3.org/2009/xmlenc11#"
OAEP = padding.OAEP(padding.MGF1(hashes.SHA1()), hashes.SHA1(), None)
OAEP_256 = padding.OAEP(padding.MGF1(hashes.SHA256()), hashes.SHA256(), None)
SHA256_PARAMETERS = (
    f'<ds:DigestMethod Algorithm="{XENC}sha256"/><e11:MGF xmlns:e11="{XENC11}" Algorithm="{XENC11}mgf1sha256"/>'
)


def encrypted(
    data: bytes,
    wrapper: str = "EncryptedAssertion",
    *,
    content: str = XENC11 + "aes256-gcm",
    transport: str = XENC + "rsa-oaep-mgf1p",
    how: Any = OAEP,
    parameters: str = "",
    to: str = "app",
    hint: str = "",
    beside: bool = False,
    spoil: bool = False,
) -> str:
    """An encrypted element, made from the text of the standard."""
    size = int(content.rpartition("aes")[2][:3]) // 8 if "aes" in content else 24
    secret = os.urandom(size)
    if content.endswith("gcm"):
        vector = os.urandom(12)
        sealed = vector + AESGCM(secret).encrypt(vector, data, None)
    else:
        vector = os.urandom(16)
        count = 16 - len(data) % 16
        encryptor = Cipher(algorithms.AES(secret), modes.CBC(vector)).encryptor()
        sealed = vector + encryptor.update(data + bytes(count - 1) + bytes([count])) + encryptor.finalize()
    if spoil:
        sealed = sealed[:-1] + bytes([sealed[-1] ^ 1])
    wrapped = key(to).public_key().encrypt(secret, how)
    enc_key = (
        f'<xenc:EncryptedKey xmlns:xenc="{XENC}"><xenc:EncryptionMethod Algorithm="{transport}">{parameters}'
        f"</xenc:EncryptionMethod>{hint}<xenc:CipherData><xenc:CipherValue>{base64.b64encode(wrapped).decode()}"
        "</xenc:CipherValue></xenc:CipherData></xenc:EncryptedKey>"
    )
    inside = "" if beside else f"<ds:KeyInfo>{enc_key}</ds:KeyInfo>"
    return (
        f'<saml:{wrapper} xmlns:saml="{SAML}" xmlns:ds="{DS}"><xenc:EncryptedData xmlns:xenc="{XENC}">'
        f'<xenc:EncryptionMethod Algorithm="{content}"/>{inside}<xenc:CipherData><xenc:CipherValue>'
        f"{base64.b64encode(sealed).decode()}</xenc:CipherValue></xenc:CipherData></xenc:EncryptedData>"
        f"{enc_key if beside else ''}</saml:{wrapper}>"
    )


def signed_assertion(**changes: Any) -> bytes:
    root = etree.fromstring(assertion_xml(**changes))
    sign(root)
    return etree.tostring(root)


def message(inner: str, signed: str = "none") -> bytes:
    return response(inner=inner, signed=signed)


def folder_with_key(path: Path, **more: Any) -> Path:
    return workspace(
        path, {"application": {"decryption_key": "keys/app.key", **more}}, {"keys/app.key": private_pem(key("app"))}
    )


FORMS: list[tuple[str, dict[str, Any], set[str]]] = [
    ("AES-256-GCM, OAEP", {}, set()),
    (
        "AES-128-GCM, OAEP with SHA-256",
        {
            "content": XENC11 + "aes128-gcm",
            "transport": XENC11 + "rsa-oaep",
            "how": OAEP_256,
            "parameters": SHA256_PARAMETERS,
        },
        set(),
    ),
    ("the key beside", {"beside": True}, set()),
    ("AES-128-CBC", {"content": XENC + "aes128-cbc"}, {"weak-encryption"}),
    (
        "AES-256-CBC, RSA 1.5",
        {"content": XENC + "aes256-cbc", "transport": XENC + "rsa-1_5", "how": padding.PKCS1v15()},
        {"weak-encryption"},
    ),
]


@pytest.mark.parametrize(("name", "form", "codes"), FORMS, ids=[one[0] for one in FORMS])
def test_opened(name: str, form: dict[str, Any], codes: set[str], tmp_path: Path) -> None:
    found = judge(message(encrypted(signed_assertion(), **form)), folder_with_key(tmp_path))
    assert found.outcome == "sound", [one.detail for one in found.findings]
    assert found.subject == TERN
    assert codes <= {one.code for one in found.findings}


def test_what_is_inside_is_judged(tmp_path: Path) -> None:
    """A signature inside, one outside, none at all, and content that was changed before it was encrypted."""
    folder = folder_with_key(tmp_path)
    inside = signed_assertion(audiences="")
    assert judge(message(encrypted(inside)), folder).first_break.code == "audience-missing"  # type: ignore[union-attr]
    plain = encrypted(assertion_xml().encode())
    assert judge(message(plain, signed="response"), folder).outcome == "sound"
    assert judge(message(plain), folder).first_break.code == "not-signed"  # type: ignore[union-attr]
    changed = signed_assertion().replace(b">mate<", b">master<")
    assert judge(message(encrypted(changed)), folder).first_break.code == "digest-mismatch"  # type: ignore[union-attr]


REASONS: list[tuple[str, dict[str, Any], str]] = [
    ("another key", {"to": "stranger"}, "encrypted-to-other-key"),
    (
        "another key, named",
        {"to": "stranger", "hint": "<ds:KeyInfo><ds:KeyName>berths 2025</ds:KeyName></ds:KeyInfo>"},
        "encrypted-to-other-key",
    ),
    (
        "another certificate",
        {
            "to": "stranger",
            "hint": f"<ds:KeyInfo><ds:X509Data><ds:X509Certificate>{bare(certificate('stranger'))}"
            "</ds:X509Certificate></ds:X509Data></ds:KeyInfo>",
        },
        "encrypted-to-other-key",
    ),
    ("spoilt, GCM", {"spoil": True}, "decryption-failed"),
    (
        "an unknown algorithm",
        {"content": XENC11 + "aes256-gcm", "transport": XENC + "kw-aes128"},
        "encryption-form-refused",
    ),
]


@pytest.mark.parametrize(("name", "form", "code"), REASONS, ids=[one[0] for one in REASONS])
def test_not_opened(name: str, form: dict[str, Any], code: str, tmp_path: Path) -> None:
    found = judge(message(encrypted(signed_assertion(), **form)), folder_with_key(tmp_path))
    assert found.first_break
    assert (found.outcome, found.first_break.code) == ("broken", code)
    if "hint" in form:
        assert "berths 2025" in found.cause or "CN=stranger" in found.cause


def test_padding_and_tag_errors_read_the_same(tmp_path: Path) -> None:
    folder = folder_with_key(tmp_path)
    told = set()
    for content in (XENC11 + "aes256-gcm", XENC + "aes256-cbc"):
        sealed = encrypted(b"\0" * 32, content=content, spoil=True)
        found = judge(message(sealed), folder)
        told |= {(one.code, one.detail) for one in found.findings if one.code == "decryption-failed"}
    assert len(told) == 1


def test_without_a_key_nothing_is_called_sound_or_broken(tmp_path: Path) -> None:
    found = judge(message(encrypted(signed_assertion())), workspace(tmp_path))
    assert (found.outcome, found.first_break) == ("inconclusive", None)
    assert [one.code for one in found.findings if one.severity == "risk"] == ["encrypted-no-key"]


def test_the_key_of_another_application_is_named(tmp_path: Path) -> None:
    other = {**APP, "name": "Berth Planner", "application": {"entity_id": "x", "decryption_key": "keys/berths.key"}}
    folder = folder_with_key(tmp_path)
    (folder / "keys/berths.key").write_text(private_pem(key("stranger")))
    (folder / "apps/berths.toml").write_text(toml(other))
    found = judge(message(encrypted(signed_assertion(), to="stranger")), folder)
    assert "it opens with the key of Berth Planner" in found.cause


def test_a_key_in_the_keys_folder_or_anothers_certificate_is_named(tmp_path: Path) -> None:
    folder = folder_with_key(tmp_path)
    hint = f"<ds:KeyInfo><ds:X509Data><ds:X509Certificate>{bare(certificate('stranger'))}</ds:X509Certificate></ds:X509Data></ds:KeyInfo>"
    sealed = message(encrypted(signed_assertion(), to="stranger", hint=hint))
    other = {**APP, "name": "Berth Planner", "application": {"metadata": "metadata/berths.xml"}}
    (folder / "apps/berths.toml").write_text(toml(other))
    (folder / "metadata").mkdir()
    (folder / "metadata/berths.xml").write_text(sp_metadata(entity_id="x", signer="stranger"))
    assert "metadata/berths.xml, the metadata of Berth Planner" in judge(sealed, folder, app="crew-roster").cause
    (folder / "keys/left-over.key").write_text(private_pem(key("stranger")))
    assert "it opens with the key in keys/left-over.key" in judge(sealed, folder, app="crew-roster").cause


def test_an_encrypted_name_and_attribute(tmp_path: Path) -> None:
    folder = folder_with_key(tmp_path)
    name = encrypted(f'<saml:NameID xmlns:saml="{SAML}">{TERN}</saml:NameID>'.encode(), "EncryptedID")
    role = attribute("role", "mate").replace("<saml:Attribute ", f'<saml:Attribute xmlns:saml="{SAML}" ')
    sealed = encrypted(role.encode(), "EncryptedAttribute")
    root = etree.fromstring(assertion_xml(subject=name, attributes=sealed))
    sign(root)
    found = judge(response(inner=etree.tostring(root).decode(), signed="none"), folder)
    assert (found.outcome, found.subject) == ("sound", TERN), [one.detail for one in found.findings]
    assert [row.name for row in found.details.claims] == ["role"]


def test_password_comes_from_the_environment_only(tmp_path: Path) -> None:
    folder = folder_with_key(tmp_path)
    secret = BestAvailableEncryption(b"tern-1840")
    forms = {
        "pem": key("app").private_bytes(Encoding.PEM, PrivateFormat.PKCS8, secret),
        "p12": pkcs12.serialize_key_and_certificates(b"app", key("app"), certificate("app"), None, secret),
    }
    (folder / "m.xml").write_bytes(message(encrypted(signed_assertion())))
    for data in forms.values():
        (folder / "keys/app.key").write_bytes(data)
        assert run("diagnose", "m.xml", folder=folder, TRACE_LENS_KEY_PASSWORD="tern-1840").returncode == 0
        for given in ({}, {"TRACE_LENS_KEY_PASSWORD": "wrong"}):
            done = run("diagnose", "m.xml", folder=folder, **given)
            assert done.returncode == 2
            assert b"TRACE_LENS_KEY_PASSWORD" in done.stderr
            assert b"tern-1840" not in done.stderr + done.stdout
