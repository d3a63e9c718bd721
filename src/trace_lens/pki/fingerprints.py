"""Fingerprints of certificates in every spelling that people write them."""

from __future__ import annotations

import re

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple

_PREFIX = expression(r"^\s*(sha-?1|sha-?256|sha1|sha256)\s*(?:fingerprint|thumbprint)?\s*[:=]?\s*", re.IGNORECASE)
_SEPARATORS = expression(r"[\s:.\-…\u200e\u200f\u202a-\u202e\ufeff]")
_SIZES = {40: "sha1", 64: "sha256"}


class Fingerprint(NamedTuple):
    """A hash of a certificate's DER octets; `hex` is lower case without separators."""

    algorithm: str
    hex: str

    def __str__(self) -> str:
        return f"{self.algorithm}:{colons(self.hex)}"


class FingerprintError(ValueError):
    """The text is no fingerprint; the message says why."""


def colons(text: str) -> str:
    """Hexadecimal digits as pairs in upper case with colons between."""
    return ":".join(text[i : i + 2] for i in range(0, len(text), 2)).upper()


def digits(text: str) -> str:
    """The digits of a fingerprint in lower case, its prefix, separators and unseen marks taken away."""
    return _SEPARATORS.sub("", _PREFIX.sub("", text)).lower()


def is_fingerprint(text: str) -> bool:
    """Whether a setting is meant as a fingerprint rather than a file name."""
    bare = _PREFIX.sub("", text)
    return bool(_PREFIX.match(text)) or bool(re.fullmatch(r"(?:[0-9A-Fa-f]{2}[:\s-]?){20,32}", bare.strip()))


def read_fingerprint(text: str) -> Fingerprint:
    """Read a SHA-1 or SHA-256 fingerprint: any case, colons, spaces or dashes, a prefix or none.

    Raises FingerprintError.
    """
    prefix = _PREFIX.match(text)
    bare = digits(text)
    if not bare or not re.fullmatch(r"[0-9a-f]+", bare):
        raise FingerprintError(f"{text!r} holds characters that are no hexadecimal digits")
    algorithm = _SIZES.get(len(bare))
    if algorithm is None:
        raise FingerprintError(f"{text!r} has {len(bare)} hexadecimal digits; SHA-1 has 40, SHA-256 has 64")
    if prefix and prefix.group(1).lower().replace("-", "") != algorithm:
        raise FingerprintError(f"{text!r} is called {prefix.group(1)} but has the length of {algorithm}")
    return Fingerprint(algorithm, bare)
