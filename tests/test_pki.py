"""Fingerprints in every spelling, and certificates as pastes leave them."""

from __future__ import annotations

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import given
from hypothesis import strategies as st

from kit import bare, certificate, pem
from trace_lens.diagnosis.certificates import read_expected
from trace_lens.pki.certificates import CertificateError, read_certificate
from trace_lens.pki.fingerprints import FingerprintError, is_fingerprint, read_fingerprint
from trace_lens.pki.pem import certificates_in

ONE = certificate("id")
DER = ONE.public_bytes(Encoding.DER)
PEM = pem(ONE)
HEX = ONE.fingerprint(hashes.SHA256()).hex()
SHORT = ONE.fingerprint(hashes.SHA1()).hex()

SPELLINGS = [
    HEX,
    HEX.upper(),
    "sha256:" + HEX,
    "SHA-256: " + HEX,
    "sha256 Fingerprint=" + HEX.upper(),
    ":".join(HEX[i : i + 2] for i in range(0, 64, 2)),
    " ".join(HEX[i : i + 2] for i in range(0, 64, 2)),
    "-".join(HEX[i : i + 2] for i in range(0, 64, 2)),
    "\u200e" + HEX,
    f" {HEX}\n",
]


@pytest.mark.parametrize("text", SPELLINGS, ids=range(len(SPELLINGS)))
def test_fingerprint_spellings(text: str) -> None:
    found = read_fingerprint(text)
    assert (found.algorithm, found.hex) == ("sha256", HEX)
    assert read_certificate(DER).matches(found)
    assert read_expected(text).fits(read_certificate(DER))


def test_sha1_and_endings() -> None:
    assert read_fingerprint(SHORT).algorithm == "sha1"
    assert read_certificate(DER).matches(read_fingerprint("SHA1 " + SHORT))
    ending = read_expected(HEX[-10:])
    assert ending.fits(read_certificate(DER))
    assert ending.extent == "only the last 10 of its hexadecimal digits"
    assert not read_expected("00" * 5).fits(read_certificate(DER))


NO_FINGERPRINTS = ["", "sha256:", "xyz", HEX[:-1], "sha1:" + HEX, "sha256:" + SHORT]


@pytest.mark.parametrize("text", NO_FINGERPRINTS, ids=range(len(NO_FINGERPRINTS)))
def test_no_fingerprint(text: str) -> None:
    with pytest.raises(FingerprintError):
        read_fingerprint(text)


@pytest.mark.parametrize("text", ["abc", "12:34", "not hex at all"])
def test_too_little_to_compare(text: str) -> None:
    with pytest.raises(ValueError, match="digit"):
        read_expected(text)


def test_file_names_are_no_fingerprints() -> None:
    assert not any(map(is_fingerprint, ("certs/id-2025.pem", "deadbeef.pem", "id.crt")))
    assert all(map(is_fingerprint, (HEX, SHORT, "sha256:3F:A2")))


BODY = PEM.splitlines()[1:-1]
REPAIRABLE = [
    ("whole", PEM, ()),
    ("DER", DER, ()),
    ("with text around it", f"Bag Attributes\n  x: 1\n{PEM}\nbye", ()),
    ("Windows line ends", PEM.replace("\n", "\r\n"), ()),
    ("bare base64", bare(ONE), ("no BEGIN and END lines",)),
    ("one line", PEM.replace("\n", ""), ("the line breaks are lost",)),
    ("blanks for line ends", PEM.replace("\n", " "), ("the line breaks are lost", "blanks inside the lines")),
    (
        "quoted in an e-mail",
        "\n".join("> " + line for line in PEM.splitlines()),
        ("e-mail quotation marks at the beginning of lines",),
    ),
    ("line ends spelt out", PEM.replace("\n", "\\n"), None),
    (
        "a wrong header",
        PEM.replace("BEGIN CERTIFICATE", "BEGIN X509 CRL").replace("END CERTIFICATE", "END X509 CRL"),
        ("the header says X509 CRL, not CERTIFICATE",),
    ),
    ("no end", "\n".join(PEM.splitlines()[:-1]), ("the END line is missing",)),
    ("a misspelt header", PEM.replace("-----BEGIN", "----BEGIN"), ("the BEGIN line is misspelt",)),
    ("stray characters", PEM.replace(BODY[2], BODY[2][:9] + "*" + BODY[2][9:]), ("stray characters (*)",)),
    ("bytes after its end", DER + b"\n", ("1 bytes after its end",)),
]


@pytest.mark.parametrize(("name", "text", "repairs"), REPAIRABLE, ids=[one[0] for one in REPAIRABLE])
def test_repairs(name: str, text: str | bytes, repairs: tuple[str, ...] | None) -> None:
    (found,) = certificates_in(text if isinstance(text, bytes) else text.encode())
    assert found.der == DER, found
    assert repairs is None or found.repairs == repairs


BEYOND = [
    ("lines lost", PEM.replace(BODY[3] + "\n", ""), "cut off"),
    ("cut off", "\n".join(PEM.splitlines()[:6]), "cut off"),
    ("a character lost", PEM.replace(BODY[3], BODY[3][:-1]), ""),
]


@pytest.mark.parametrize(("name", "text", "problem"), BEYOND, ids=[one[0] for one in BEYOND])
def test_beyond_repair(name: str, text: str, problem: str) -> None:
    (found,) = certificates_in(text.encode())
    assert found.der is None
    assert found.problem
    assert problem in found.problem


def test_bundles_and_nothing() -> None:
    both = certificates_in((PEM + pem(certificate("other"))).encode())
    assert [one.line for one in both] == [1, len(PEM.splitlines()) + 1]
    assert certificates_in(b"no certificate here") == []
    assert certificates_in(b"") == []


@given(st.binary(max_size=200))
def test_any_octets_are_a_certificate_or_an_error(data: bytes) -> None:
    certificates_in(data)
    with pytest.raises(CertificateError):
        read_certificate(data)


WEAK = [("rsa-1024", True), ("rsa-2048", False), ("ec-224", True), ("ec-256", False), ("ed25519", False)]


@pytest.mark.parametrize(("kind", "weak"), WEAK)
def test_weak_keys(kind: str, weak: bool) -> None:
    one = read_certificate(certificate("strength", kind=kind).public_bytes(Encoding.DER))
    assert bool(one.weakness) == weak
    assert one.key.lower().startswith(kind[:2])
    assert one.subject == one.issuer == "CN=strength"
