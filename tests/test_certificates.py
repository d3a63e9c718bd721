"""`certs`: certificates in every container, each once, with chain, validity, who pins it, and an expected fingerprint."""

from __future__ import annotations

import base64
import json
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    NoEncryption,
    pkcs7,
    pkcs12,
)
from cryptography.x509.oid import NameOID

from kit import (
    ISSUED,
    NOW,
    bare,
    certificate,
    idp_metadata,
    key,
    pem,
    posted,
    private_pem,
    response,
    run,
    run_json,
    workspace,
)
from test_program import conforms
from trace_lens.pki.certificates import read_certificate
from trace_lens.pki.chains import chain_of

SHA256 = certificate("id").fingerprint(hashes.SHA256()).hex()


@cache
def issued(name: str, by: str | None = None, ends: int = 2028, authority: bool = True) -> x509.Certificate:
    """A certificate by another one's key, or by its own."""
    issuer = by or name
    builder = (
        x509.CertificateBuilder(
            x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, issuer)]),
            x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)]),
            key(name).public_key(),
            x509.random_serial_number(),
        )
        .not_valid_before(datetime(2026, 1, 1, tzinfo=UTC))
        .not_valid_after(datetime(ends, 1, 1, tzinfo=UTC))
    )
    if authority:
        builder = builder.add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
    return builder.sign(key(issuer), hashes.SHA256())


def der(one: x509.Certificate) -> bytes:
    return one.public_bytes(Encoding.DER)


def closed(name: str, password: bytes | None, other_key: str = "") -> bytes:
    encryption = BestAvailableEncryption(password) if password else NoEncryption()
    if not other_key:
        return pkcs12.serialize_key_and_certificates(b"x", key(name), certificate(name), None, encryption)
    return pkcs12.serialize_key_and_certificates(b"x", key(other_key), None, [certificate(name)], encryption)


CONTAINERS: list[tuple[str, str, bytes]] = [
    ("PEM", "a.pem", pem(certificate("id")).encode()),
    ("DER", "a.cer", der(certificate("id"))),
    ("bundle", "a.pem", (pem(certificate("other")) + pem(certificate("id"))).encode()),
    ("PKCS#7 in DER", "a.p7b", pkcs7.serialize_certificates([certificate("id")], Encoding.DER)),
    ("PKCS#7 in PEM", "a.p7c", pkcs7.serialize_certificates([certificate("id")], Encoding.PEM)),
    ("PKCS#12 without a password", "a.p12", closed("id", None)),
    ("a key beside it", "a.pem", (private_pem(key("id")) + pem(certificate("id"))).encode()),
    ("metadata", "a.xml", idp_metadata().encode()),
    ("a captured message", "a.txt", posted(response())),
    ("a key set", "a.json", json.dumps({"keys": [{"kty": "RSA", "x5c": [bare(certificate("id"))]}]}).encode()),
    ("wrapped in mail", "a.txt", ("> " + pem(certificate("id")).replace("\n", "\n> ")).encode()),
]


@pytest.mark.parametrize(("name", "file", "data"), CONTAINERS, ids=[one[0] for one in CONTAINERS])
def test_every_container(tmp_path: Path, name: str, file: str, data: bytes) -> None:
    folder = workspace(tmp_path)
    (folder / file).write_bytes(data)
    status, document = run_json("certs", file, "--now", "2026-11-22", folder=folder)
    conforms(document, "certs")
    found = {one["sha256"]: one for one in document["certificates"]}
    mine = found["sha256:" + ":".join(SHA256[i : i + 2] for i in range(0, 64, 2)).upper()]
    assert (status, mine["used_by"], mine["valid_now"]) == (0, ["crew-roster"], True)
    assert [one["code"] for one in mine["findings"]] in ([], ["certificate-damaged"])


def test_each_once_with_all_its_places(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "m.txt").write_bytes(posted(response()))
    (folder / "m.xml").write_text(idp_metadata())
    _, document = run_json("certs", "certs", "m.txt", "m.xml", folder=folder)
    (one,) = document["certificates"]
    assert [place["source"] for place in one["seen_in"]] == ["certs/id.pem", "m.txt", "m.xml"]
    assert (one["at"], one["valid_at"]) == (ISSUED, True)
    text = run("certs", "m.txt", "--at", "2025-01-01", "--now", "2026-11-22", folder=folder).stdout.decode()
    assert "valid now, NOT valid at the attempt" in text
    digest = bytes.fromhex(SHA256)
    assert one["spellings"]["x5t#S256"] == [base64.urlsafe_b64encode(digest).rstrip(b"=").decode()]
    assert SHA256 in one["spellings"]["sha256"]


@pytest.mark.parametrize(
    ("expected", "status", "words"),
    [
        (SHA256, 0, "the whole SHA-256"),
        (SHA256.upper(), 0, "the whole SHA-256"),
        (" ".join(SHA256[i : i + 2] for i in range(0, 64, 2)), 0, "the whole SHA-256"),
        (certificate("id").fingerprint(hashes.SHA1()).hex(":"), 0, "the whole SHA-1"),
        (SHA256[-8:], 0, "only the last 8"),
        (f"…{SHA256[-12:]}", 0, "only the last 12"),
        ("00" * 32, 1, "NO MATCH"),
        (SHA256[:8], 1, "NO MATCH"),
        ("12345", 2, "at least 8"),
        ("not hex!", 2, "no hexadecimal"),
    ],
    ids=range(10),
)
def test_an_expected_fingerprint(tmp_path: Path, expected: str, status: int, words: str) -> None:
    folder = workspace(tmp_path)
    done = run("certs", "certs", "--expect", expected, folder=folder)
    assert done.returncode == status
    assert words in (done.stdout + done.stderr).decode()


def test_a_chain(tmp_path: Path) -> None:
    """From a leaf to its root; the root lacking; a link that has ended; an impostor of the same name."""
    links = [issued("root"), issued("between", "root"), issued("leaf", "between", authority=False)]
    (tmp_path / "chain.pem").write_text("".join(pem(one) for one in reversed(links)))
    _, document = run_json("certs", "chain.pem", folder=tmp_path)
    leaf = next(one for one in document["certificates"] if one["subject"] == "CN=leaf")
    assert leaf["chain"] == {"subjects": ["CN=leaf", "CN=between", "CN=root"], "holds": True, "reason": None}
    assert next(one for one in document["certificates"] if one["subject"] == "CN=root")["chain"] is None
    (tmp_path / "part.pem").write_text(pem(links[2]) + pem(links[1]))
    _, document = run_json("certs", "part.pem", folder=tmp_path)
    assert "CN=root, which issued it, is not among" in document["certificates"][0]["chain"]["reason"]
    root, between, end = (read_certificate(der(one)) for one in links)
    late = chain_of(end, [root, between], datetime(2029, 1, 1, tzinfo=UTC))
    assert late
    assert (late.holds, "not valid" in late.reason) == (False, True)
    impostor = (
        x509.CertificateBuilder(
            links[0].subject,
            links[1].subject,
            key("impostor").public_key(),
            x509.random_serial_number(),
            datetime(2026, 1, 1, tzinfo=UTC),
            datetime(2028, 1, 1, tzinfo=UTC),
        )
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key("root"), hashes.SHA256())
    )
    forged = chain_of(end, [root, read_certificate(der(impostor))], NOW)
    assert forged
    assert (forged.holds, "signature" in forged.reason) == (False, True)


def test_closed_containers(tmp_path: Path) -> None:
    """No password, a wrong one, the right one; a key that is not the certificate's."""
    folder = workspace(tmp_path)
    (folder / "a.p12").write_bytes(closed("id", b"right"))
    none = run("certs", "a.p12", folder=folder)
    assert (none.returncode, b"TRACE_LENS_KEY_PASSWORD" in none.stdout) == (3, True)
    wrong = run("certs", "a.p12", folder=folder, TRACE_LENS_KEY_PASSWORD="wrong")
    assert (wrong.returncode, b"the password is wrong" in wrong.stdout) == (3, True)
    right = run("certs", "a.p12", folder=folder, TRACE_LENS_KEY_PASSWORD="right")
    assert (right.returncode, b"pinned by   crew-roster" in right.stdout) == (0, True)
    (folder / "other.p12").write_bytes(closed("id", None, "other"))
    (folder / "other.pem").write_text(private_pem(key("other")) + pem(certificate("id")))
    for name in ("other.p12", "other.pem"):
        _, document = run_json("certs", name, folder=folder)
        assert [one["code"] for one in document["certificates"][0]["findings"]] == ["settings-disagree"], name


def test_bad_containers(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    files: dict[str, bytes] = {
        "cut.p7b": pkcs7.serialize_certificates([certificate("id")], Encoding.DER)[:300],
        "cut.p12": closed("id", None)[:500],
        "none.json": b'{"keys": [{"kty": "RSA"}]}',
        "bad.json": b'{"keys": [{"x5c": ["AAAA", 7]}]}',
        "empty.pem": b"",
    }
    for name, data in files.items():
        (folder / name).write_bytes(data)
    status, document = run_json("certs", *files, "certs/id.pem", folder=folder)
    conforms(document, "certs")
    assert status == 3
    assert document["certificates"][0]["subject"] == "CN=id"
    assert {one["source"] for one in document["unreadable"]} >= {"cut.p12", "empty.pem"}
    damaged = [one for one in document["certificates"] if one["subject"] is None]
    assert all(one["findings"][0]["code"] == "certificate-damaged" for one in damaged)


def encryption_app(name: str) -> dict[str, Any]:
    return {"application": {"decryption_key": name}}


def test_a_decryption_key_that_is_not_its_certificates(tmp_path: Path) -> None:
    files = {"keys/a.pem": private_pem(key("other")) + pem(certificate("id"))}
    folder = workspace(tmp_path, encryption_app("keys/a.pem"), files)
    status, document = run_json("apps", "check", folder=folder)
    (one,) = [one for one in document["applications"][0]["findings"] if one["code"] == "settings-disagree"]
    assert status == 1
    assert "encryption key" in one["detail"]
    assert one["evidence"][0]["source"] == "keys/a.pem"
