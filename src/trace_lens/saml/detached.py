"""Signatures beside a message instead of in it: over a redirect's query string, and over the fields of a form post.

Sources: SAML 2.0 Bindings §3.4.4.1 (HTTP-Redirect, DEFLATE encoding); HTTP POST "SimpleSign" Binding §2.5. A redirect's
signature covers the octets of the query as they stood in the address, so an address that was decoded and encoded anew
on the way may no longer fit; `verified_by` tries the usual spellings and says which one fits.
"""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterator
from functools import lru_cache
from typing import TYPE_CHECKING
from urllib.parse import quote, quote_plus, unquote_plus

from trace_lens.common.tuples import NamedTuple
from trace_lens.saml import algorithms
from trace_lens.saml.names import short

if TYPE_CHECKING:
    from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes
    from lxml import etree


class DetachedSignature(NamedTuple):
    """A signature that came beside a message. `binding` is `redirect` or `simple-sign`.

    `pieces` are the signed fields in the standard's order (message, relay state, algorithm): of a redirect as they
    stood in the address, of a form post decoded. `refused` says why it must not be accepted, else None.
    """

    holder: etree._Element
    binding: str
    algorithm_uri: str
    value: bytes
    pieces: tuple[tuple[str, bytes], ...]
    refused: str | None = None
    certificates: tuple[str, ...] = ()

    @property
    def digest_holds(self) -> bool:
        """Whether the content is what was signed: of a detached signature its value alone tells."""
        return True

    @property
    def signed(self) -> etree._Element:
        """The message that it came beside."""
        return self.holder

    @property
    def holds_its_own(self) -> bool:
        """Whether it signs the message that it belongs to: a detached one can sign no other."""
        return True

    @property
    def algorithm(self) -> algorithms.SignatureAlgorithm | None:
        """The algorithm's row, where it is one that is accepted."""
        return algorithms.SIGNATURES.get(self.algorithm_uri)

    @property
    def weak_parts(self) -> tuple[str, ...]:
        """The algorithm, where it rests on SHA-1 or MD5."""
        return (short(self.algorithm_uri),) if self.algorithm and self.algorithm.weak else ()

    def spellings(self) -> Iterator[tuple[str, bytes]]:
        """The octets that may have been signed, first as they stand here: what was done to them, and the octets."""
        yield "", _joined(self.pieces)
        if self.binding == "redirect":
            yield from _spelt_anew(self.pieces)

    def verified_by(self, key: PublicKeyTypes) -> bool:
        """Whether this key made the signature, over the octets as they stand or in another spelling of them."""
        return self.spelling_signed_by(key) is not None

    def spelling_signed_by(self, key: PublicKeyTypes) -> str | None:
        """What was done to the address since this key signed it, empty where nothing; None where it did not sign."""
        if self.algorithm is None or not self.value:
            return None
        for how, octets in self.spellings():
            if algorithms.verifies(key, self.algorithm, self.value, octets):
                return how
        return None


@lru_cache(maxsize=64)
def _spelt_anew(pieces: tuple[tuple[str, bytes], ...]) -> tuple[tuple[str, bytes], ...]:
    """Other spellings of the same address, each once; many keys are held against them."""
    plain = [(name, unquote_plus(value.decode("latin-1"))) for name, value in pieces]
    found = {_joined(pieces): ""}
    for how, encode in _ENCODINGS:
        found.setdefault(_joined(tuple((name, encode(text).encode("latin-1")) for name, text in plain)), how)
    return tuple((how, octets) for octets, how in found.items() if how)


def _lower(text: str) -> str:
    return re.sub(r"%[0-9A-F]{2}", lambda match: match[0].lower(), quote(text, safe=""))


_ENCODINGS = (
    ("the address was percent-encoded anew, in capitals", lambda text: quote(text, safe="")),
    ("the address was percent-encoded anew, in capitals, blanks as plus signs", quote_plus),
    ("the address was percent-encoded anew, in small letters", _lower),
    ("the address was percent-encoded anew, slashes left as they are", lambda text: quote(text, safe="/")),
    ("the address was percent-encoded anew, with fewer signs encoded", lambda text: quote(text, safe="/:;,@!$'()*~")),
)


def _joined(pieces: tuple[tuple[str, bytes], ...]) -> bytes:
    return b"&".join(name.encode() + b"=" + value for name, value in pieces)


def read_detached(
    holder: etree._Element,
    binding: str,
    pieces: tuple[tuple[str, bytes], ...],
    algorithm_uri: str,
    signature: str,
    certificates: tuple[str, ...] = (),
) -> DetachedSignature:
    """A detached signature from its fields; `certificates` came beside it, as base64."""
    refused = None
    try:
        value = base64.b64decode("".join(signature.replace(" ", "+").split()), validate=True)
    except (binascii.Error, ValueError):
        value, refused = b"", "its Signature is not base64"
    if algorithm_uri not in algorithms.SIGNATURES:
        named = algorithm_uri or "(none given)"
        symmetric = "hmac" in algorithm_uri.lower()
        refused = (
            f"{short(algorithm_uri)} is a symmetric algorithm, for which both sides would share one secret"
            if symmetric
            else f"its SigAlg {named} is not one that is accepted"
        )
    return DetachedSignature(
        holder=holder,
        binding=binding,
        algorithm_uri=algorithm_uri,
        value=value,
        pieces=pieces,
        refused=refused,
        certificates=certificates,
    )
