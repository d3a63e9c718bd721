"""A certificate of the shape that nearly all signing certificates have, read without the library for all of them.

Importing that library's certificates takes as long as a fifth of one diagnosis. Here each octet has to be what DER
allows there (X.690 §8, §10, §11): version 3, signed with RSA, names of single parts as text, a validity in whole
seconds, an RSA key with the exponent 65537. Whatever else there is, be it right or wrong, is left to the library, so
that nothing is taken for a certificate here that the library would not read, and read as the same.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from cryptography.hazmat.primitives.asymmetric import rsa

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple

if TYPE_CHECKING:
    from collections.abc import Iterator

_SEQUENCE, _SET, _INTEGER, _BITS, _OCTETS, _OID = 0x30, 0x31, 0x02, 0x03, 0x04, 0x06
_UTC_TIME, _GENERALIZED_TIME, _EXTENSIONS = 0x17, 0x18, 0xA3
_VERSION_3 = bytes.fromhex("a003020102")
_RSA_KEY = bytes.fromhex("300d06092a864886f70d0101010500")
_RSA_SIGNATURES = tuple(bytes.fromhex(f"300d06092a864886f70d0101{last}0500") for last in ("0b", "0c", "0d"))
"""sha256, sha384 and sha512WithRSAEncryption (RFC 4055 §5)."""
_CRITICAL = bytes.fromhex("0101ff")
_TEXTS = {0x0C: "utf-8", 0x13: "ascii", 0x16: "ascii"}
"""UTF8String, PrintableString and IA5String."""
_PRINTABLE = expression(rb"[A-Za-z0-9 '()+,\-./:=?]*")
_LONGEST_SERIAL = 20
_EXPONENT, _KEY_BITS = 65_537, range(2048, 8193)


class UsualCertificate(NamedTuple):
    """What was read of one: its key with the octets of its SubjectPublicKeyInfo, the ends of its validity, its serial
    number, and the names of issuer and subject in DER.
    """

    key: rsa.RSAPublicKey
    key_octets: bytes
    not_before: datetime
    not_after: datetime
    serial: int
    issuer: bytes
    subject: bytes


class _Unusual(ValueError):
    """Something here is left to the library."""


def usual_certificate(der: bytes) -> UsualCertificate | None:
    """The certificate (RFC 5280 §4.1) in DER octets; None where it is of another shape, or none."""
    try:
        return _certificate(der)
    except (_Unusual, ValueError, IndexError):
        return None


def _certificate(der: bytes) -> UsualCertificate:
    outer = _Reader(der)
    whole = _Reader(outer.take(_SEQUENCE))
    outer.end()
    told = _Reader(whole.take(_SEQUENCE))
    signed_with = whole.either(_RSA_SIGNATURES)
    if whole.take(_BITS)[:1] != b"\0":
        raise _Unusual
    whole.end()
    told.exactly(_VERSION_3)
    serial = told.number(_LONGEST_SERIAL)
    told.exactly(signed_with)
    issuer = _name(told)
    ends = _Reader(told.take(_SEQUENCE))
    not_before, not_after = _moment(ends), _moment(ends)
    ends.end()
    subject = _name(told)
    at = told.at
    modulus = _modulus(_Reader(told.take(_SEQUENCE)))
    key_octets = told.octets[at : told.at]
    if told.left():
        _extensions(_Reader(told.take(_EXTENSIONS)))
    told.end()
    key = rsa.RSAPublicNumbers(_EXPONENT, modulus).public_key()
    return UsualCertificate(key, key_octets, not_before, not_after, serial, issuer, subject)


class _Reader:
    """Octets of DER, taken from the front."""

    def __init__(self, octets: bytes) -> None:
        self.octets, self.at = octets, 0

    def left(self) -> bool:
        """Whether there are more octets."""
        return self.at < len(self.octets)

    def end(self) -> None:
        """Nothing may follow."""
        if self.left():
            raise _Unusual

    def exactly(self, octets: bytes) -> None:
        """These octets follow."""
        if not self.octets.startswith(octets, self.at):
            raise _Unusual
        self.at += len(octets)

    def either(self, several: tuple[bytes, ...]) -> bytes:
        """One of these follows: which?"""
        found = next((octets for octets in several if self.octets.startswith(octets, self.at)), None)
        if found is None:
            raise _Unusual
        self.at += len(found)
        return found

    def take(self, tag: int) -> bytes:
        """The contents of an element with a tag, its length written as shortly as can be (X.690 §10.1)."""
        octets, at = self.octets, self.at
        if octets[at] != tag:
            raise _Unusual
        size, at = octets[at + 1], at + 2
        if size >= 0x80:
            count = size & 0x7F
            if not 1 <= count <= 3:
                raise _Unusual
            size, at = int.from_bytes(octets[at : at + count], "big"), at + count
            if size < 0x80 or size >> 8 * (count - 1) == 0:
                raise _Unusual
        if at + size > len(octets):
            raise _Unusual
        self.at = at + size
        return octets[at : self.at]

    def number(self, longest: int) -> int:
        """A whole number above zero, of so many octets at most, without a needless one before it (X.690 §8.3)."""
        octets = self.take(_INTEGER)
        value = int.from_bytes(octets, "big", signed=True)
        needless = len(octets) > 1 and octets[0] == 0 and octets[1] < 0x80
        if len(octets) > longest or value <= 0 or needless:
            raise _Unusual
        return value


def _name(told: _Reader) -> bytes:
    """The octets of a Name whose parts are single, and each a text."""
    at = told.at
    parts = _Reader(told.take(_SEQUENCE))
    while parts.left():
        alone = _Reader(parts.take(_SET))
        part = _Reader(alone.take(_SEQUENCE))
        alone.end()
        _identifier(part)
        tag = part.octets[part.at]
        if tag not in _TEXTS:
            raise _Unusual
        text = part.take(tag)
        part.end()
        text.decode(_TEXTS[tag])
        if tag == 0x13 and not _PRINTABLE.fullmatch(text):
            raise _Unusual
    return told.octets[at : told.at]


def _identifier(told: _Reader) -> None:
    """An object identifier whose numbers are short (X.690 §8.19)."""
    octets = told.take(_OID)
    if not octets or octets[-1] >= 0x80 or b"\x80" in octets or len(octets) > _LONGEST_SERIAL:
        raise _Unusual


def _moment(told: _Reader) -> datetime:
    """A time in UTC, before 2050 with two digits of the year (RFC 5280 §4.1.2.5)."""
    if told.octets[told.at] == _UTC_TIME:
        text = told.take(_UTC_TIME).decode("ascii")
        text = ("19" if text >= "50" else "20") + text
    else:
        text = told.take(_GENERALIZED_TIME).decode("ascii")
        if text < "2050":
            raise _Unusual
    if not re.fullmatch(r"[0-9]{14}Z", text):
        raise _Unusual
    year, rest = int(text[:4]), [int(text[at : at + 2]) for at in range(4, 14, 2)]
    return datetime(year, *rest, tzinfo=UTC)  # type: ignore[arg-type, misc]


def _modulus(told: _Reader) -> int:
    """The modulus of an RSA key with the usual exponent (RFC 8017 §A.1.1)."""
    told.exactly(_RSA_KEY)
    bits = told.take(_BITS)
    told.end()
    if bits[:1] != b"\0":
        raise _Unusual
    held = _Reader(bits[1:])
    key = _Reader(held.take(_SEQUENCE))
    held.end()
    modulus, exponent = key.number(_KEY_BITS.stop // 8 + 1), key.number(3)
    key.end()
    if exponent != _EXPONENT or modulus.bit_length() not in _KEY_BITS or modulus % 2 == 0:
        raise _Unusual
    return modulus


def _extensions(told: _Reader) -> None:
    """A list of extensions, of which nothing is kept."""
    listed = _Reader(told.take(_SEQUENCE))
    told.end()
    if not listed.left():
        raise _Unusual
    for extension in _elements(listed):
        _identifier(extension)
        if extension.octets.startswith(_CRITICAL, extension.at):
            extension.at += len(_CRITICAL)
        extension.take(_OCTETS)
        extension.end()


def _elements(listed: _Reader) -> Iterator[_Reader]:
    while listed.left():
        yield _Reader(listed.take(_SEQUENCE))
