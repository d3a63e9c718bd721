"""Certificates of the usual shape, read without the library: what is read is what the library reads."""

from __future__ import annotations

import os
import random
import warnings
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from functools import cache

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat
from cryptography.x509.oid import NameOID

from trace_lens.pki.certificates import read_certificate
from trace_lens.pki.usual_certificates import usual_certificate

ROUNDS = 100_000 if os.environ.get("EVERY_CAPTURE") else 3_000
BEGIN, END = datetime(2026, 11, 1, tzinfo=UTC), datetime(2028, 11, 1, tzinfo=UTC)
CN, O = NameOID.COMMON_NAME, NameOID.ORGANIZATION_NAME  # noqa: E741
Change = Callable[[x509.CertificateBuilder], x509.CertificateBuilder]


@cache
def _key(exponent: int = 65_537, bits: int = 2048) -> rsa.RSAPrivateKey:
    return rsa.generate_private_key(exponent, bits)


@cache
def _curve() -> ec.EllipticCurvePrivateKey:
    return ec.generate_private_key(ec.SECP256R1())


def _name(*parts: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(O if place else CN, part) for place, part in enumerate(parts)])


def _made(
    change: Change = lambda made: made,
    key: rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | None = None,
    by: rsa.RSAPrivateKey | ec.EllipticCurvePrivateKey | None = None,
    digest: hashes.SHA224 | hashes.SHA512 | None = None,
    subject: x509.Name | None = None,
    issuer: x509.Name | None = None,
    ends: tuple[datetime, datetime] = (BEGIN, END),
) -> bytes:
    key, name = key or _key(), subject or _name("Northmere ID", "Ferjer på sjøen")
    made = x509.CertificateBuilder(issuer or name, name, key.public_key(), 4711, *ends)
    return change(made).sign(by or key, digest or hashes.SHA256()).public_bytes(Encoding.DER)


def _extended(made: x509.CertificateBuilder) -> x509.CertificateBuilder:
    names = x509.SubjectAlternativeName([x509.DNSName("id.northmere.example")])
    return made.add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True).add_extension(
        names, False
    )


def _at(first: int, last: int) -> tuple[datetime, datetime]:
    return datetime(first, 3, 1, 9, 30, 59, tzinfo=UTC), datetime(last, 3, 1, tzinfo=UTC)


TWO_IN_ONE = x509.Name(
    [x509.RelativeDistinguishedName([x509.NameAttribute(CN, "Northmere ID"), x509.NameAttribute(O, "Northmere")])]
)
USUAL = {
    "self-signed": _made,
    "with extensions": lambda: _made(_extended),
    "of an issuer": lambda: _made(issuer=_name("Northmere Root"), by=_key(65_537, 3072)),
    "of a longer digest": lambda: _made(digest=hashes.SHA512()),
    "of a long key": lambda: _made(key=_key(65_537, 3072)),
    "without a name": lambda: _made(subject=x509.Name([])),
    "of the last century": lambda: _made(ends=_at(1950, 1999)),
    "until after 2049": lambda: _made(ends=_at(2049, 2050)),
    "without an end": lambda: _made(ends=_at(2026, 9999)),
}
LEFT = {
    "of a curve": lambda: _made(key=_curve()),
    "signed by a curve": lambda: _made(by=_curve()),
    "of a short digest": lambda: _made(digest=hashes.SHA224()),
    "of a short key": lambda: _made(key=_key(65_537, 1024)),
    "of a small exponent": lambda: _made(key=_key(3)),
    "of a name with two parts in one": lambda: _made(subject=TWO_IN_ONE),
    "followed by more": lambda: _made() + b"\0",
    "cut off": lambda: _made()[:-1],
    "nothing": lambda: b"",
}


@pytest.mark.parametrize("name", USUAL)
def test_the_usual_are_read(name: str) -> None:
    der = USUAL[name]()
    assert _is_read_alike(der)
    assert read_certificate(der).self_issued == (name != "of an issuer")


@pytest.mark.parametrize("name", LEFT)
def test_others_are_left_to_the_library(name: str) -> None:
    assert usual_certificate(LEFT[name]()) is None


def test_equal_names_may_be_written_differently() -> None:
    """Two names of the same text are equal, be it written as one kind of text or another (RFC 5280 §7.1)."""
    der = _made(subject=_name("a"))
    other = der.replace(b"\x0c\x01a", b"\x13\x01a", 1)
    assert other != der
    assert _is_read_alike(other)
    assert read_certificate(other).self_issued


def test_a_name_that_is_too_long_is_shown_without_a_warning() -> None:
    """The library warns of such a name; here it is what the certificate says (warnings fail a test)."""
    der = _made(subject=_name("b" * 50)).replace(b"b" * 50, b"b" * 40 + b"+" * 10)
    with pytest.warns(UserWarning, match="length"):
        long = _made(subject=x509.Name([x509.NameAttribute(CN, "b" * 80, _validate=False)]))
    assert read_certificate(long).subject == "CN=" + "b" * 80
    assert read_certificate(der).subject == "CN=" + "b" * 40 + r"\+" * 10
    assert read_certificate(long).alternative_names == ()


def test_whatever_is_changed_is_read_alike() -> None:
    """What is taken here of octets changed anywhere is what the library takes of them."""
    draw = random.Random(5280)
    made = [make() for make in (*USUAL.values(), *list(LEFT.values())[:6])]
    taken = sum(_is_read_alike(_changed(draw.choice(made), draw)) for _ in range(ROUNDS))
    assert ROUNDS / 20 < taken < ROUNDS / 2  # a change in a signature, or in a key, leaves the shape


def _is_read_alike(der: bytes) -> bool:
    """Whether a certificate is of the usual shape; what is read of it is held against the library."""
    held = usual_certificate(der)
    if held is None:
        return False
    whole = x509.load_der_x509_certificate(der)
    key = whole.public_key()
    assert held.key == key
    assert held.key_octets == key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    assert (held.not_before, held.not_after) == (whole.not_valid_before_utc, whole.not_valid_after_utc)
    assert held.serial == whole.serial_number
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", UserWarning)  # the library finds some names too long
        assert (held.issuer, held.subject) == (whole.issuer.public_bytes(), whole.subject.public_bytes())
    return True


def _changed(der: bytes, draw: random.Random) -> bytes:
    """Octets of DER with some of them changed: any, those of tags and lengths, and the first ones of contents."""
    octets = bytearray(der)
    for _ in range(draw.choice((1, 1, 1, 2, 3))):
        at, head, size = draw.choice(list(_elements(octets, 0, len(octets))) or [(0, 1, 1)])
        way = draw.random()
        if way < 0.3:
            octets[draw.randrange(len(octets))] = draw.randrange(256)
        elif way < 0.6:
            octets[at + draw.randrange(head)] ^= 1 << draw.randrange(8)
        elif size:
            place = at + head + draw.randrange(min(size, 24))
            octets[place] = draw.choice((0, 1, 0x7F, 0x80, 0xFF, 0x30, 0x5A, draw.randrange(256)))
    return bytes(octets)


def _elements(octets: bytes | bytearray, at: int, end: int) -> Iterator[tuple[int, int, int]]:
    """Where the elements of DER begin, with the sizes of their heads and contents; those within them too."""
    while at + 2 <= end:
        head, size = 2, octets[at + 1]
        if size >= 0x80:
            head += size & 0x7F
            size = int.from_bytes(octets[at + 2 : at + head], "big")
        if at + head + size > end:
            return
        yield at, head, size
        if octets[at] & 0x20 or octets[at] == 3:
            yield from _elements(octets, at + head + (octets[at] == 3), at + head + size)
        at += head + size
