"""A fingerprint, a serial number or a code in the place of a source: whose it is, and what it means."""

from __future__ import annotations

import json
from pathlib import Path

import pytest

from kit import certificate, run, workspace
from strict_schemas import conforms

HELD = certificate("id")


def looked_up(folder: Path, *words: str, stdin: bytes = b"") -> list[dict[str, object]]:
    document = json.loads(run("decode", *words, "--format", "json", folder=folder, stdin=stdin).stdout)
    conforms(document, "decode")
    return document["looked_up"]


@pytest.mark.parametrize("spelling", ["colons", "bare", "sha1", "serial", "decimal"])
def test_a_certificate_by_any_of_its_numbers(tmp_path: Path, spelling: str) -> None:
    from trace_lens.pki.certificates import read_certificate

    folder = workspace(tmp_path)
    from cryptography.hazmat.primitives.serialization import Encoding

    read = read_certificate(HELD.public_bytes(Encoding.DER))
    text = {
        "colons": str(read.sha256),
        "bare": read.sha256.hex,
        "sha1": str(read.sha1),
        "serial": read.serial,
        "decimal": str(HELD.serial_number),
    }[spelling]
    (found,) = looked_up(folder, text)
    assert "certs/id.pem" in str(found["places"])
    assert found["kind"] == ("serial" if spelling in ("serial", "decimal") else "fingerprint")
    (same,) = looked_up(folder, stdin=text.encode())
    assert same["places"] == found["places"]


@pytest.mark.parametrize("serial", ["0a1b2c3d4e5f60718", "12345678901234567890", "0A:1B:2C:3D:4E:5F", "0a1b2c3d4e5f6"])
def test_a_serial_number_of_any_length_is_one(serial: str) -> None:
    """Leading noughts are often left out, so the number of digits may be odd."""
    from trace_lens.diagnosis.looking_up import _SERIAL

    assert _SERIAL.fullmatch(serial)


def test_one_that_is_nowhere(tmp_path: Path) -> None:
    (found,) = looked_up(workspace(tmp_path), "sha256:" + "AB" * 32)
    assert (found["places"], found["means"]) == ([], "no certificate on record has it")


@pytest.mark.parametrize(
    ("code", "words"),
    [
        ("NoPassive", "SAML status"),
        ("urn:oasis:names:tc:SAML:2.0:status:AuthnFailed", "SAML status"),
        ("invalid_grant", "OAuth error"),
        ("D-4107", "no account of that name"),
    ],
)
def test_codes(tmp_path: Path, code: str, words: str) -> None:
    log = (
        'name = "L"\nrole = "provider"\nprovider = "northmere-id"\nfiles = ["logs/a.csv"]\nformat = "csv"\n'
        '[fields]\ntime = "t"\n[codes]\n"D-4107" = { means = "no account of that name", stage = "identified" }\n'
    )
    folder = workspace(tmp_path, files={"logs/id.toml": log})
    (found,) = looked_up(folder, code)
    assert words in str(found["means"])


def test_what_is_neither_is_a_source_that_is_not_there(tmp_path: Path) -> None:
    done = run("decode", "notes.txt", folder=workspace(tmp_path))
    assert (done.returncode, b"no such file" in done.stdout) == (3, True)


def test_a_file_of_that_name_is_read(tmp_path: Path) -> None:
    folder = workspace(tmp_path)
    (folder / "NoPassive").write_text("hello, nothing here that anybody could know")
    assert run("decode", "NoPassive", folder=folder).returncode == 3
