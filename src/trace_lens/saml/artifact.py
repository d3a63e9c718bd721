"""SAML artifacts of type 4 (SAML 2.0 Bindings §3.6.4): a reference to a message, resolved over a back channel."""

from __future__ import annotations

import hashlib

from trace_lens.common.tuples import NamedTuple

TYPE_CODE = b"\x00\x04"
LENGTH = 44


class Artifact(NamedTuple):
    """An artifact taken apart; `source_id` is the SHA-1 of the issuer's entity ID, in hexadecimal digits."""

    endpoint_index: int
    source_id: str
    handle: str

    def is_of(self, entity_id: str) -> bool:
        """Whether an entity of this identifier issued it."""
        return hashlib.sha1(entity_id.encode(), usedforsecurity=False).hexdigest() == self.source_id


def is_artifact(data: bytes) -> bool:
    """Whether octets have the length and type code of an artifact."""
    return len(data) == LENGTH and data[:2] == TYPE_CODE


def read_artifact(data: bytes) -> Artifact:
    """An artifact from its 44 octets. Raises ValueError where they are not those of one."""
    if not is_artifact(data):
        raise ValueError("an artifact of type 4 has 44 octets, of which the first two are 00 04")
    return Artifact(int.from_bytes(data[2:4]), data[4:24].hex(), data[24:44].hex())
