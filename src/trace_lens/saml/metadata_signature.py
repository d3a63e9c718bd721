"""Whether signed metadata is what was signed (SAML 2.0 Metadata §3): by the certificate inside it, or by known keys.

A signature that holds by the certificate inside shows only that nothing was changed; whose it is, it does not show.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING

from trace_lens.common import limits
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.certificates import Certificate, certificate_or_none
from trace_lens.pki.pem import certificate_from_base64
from trace_lens.saml.names import METADATA
from trace_lens.saml.parsing import parse, where
from trace_lens.saml.signature import XMLSignature, signatures_in

if TYPE_CHECKING:
    from lxml import etree

_DESCRIPTORS = (f"{{{METADATA}}}EntityDescriptor", f"{{{METADATA}}}EntitiesDescriptor")


class MetadataSignature(NamedTuple):
    """One signature of a metadata file: where it stands, which entity it is over (None for all), who made it.

    `problem` says why it does not hold, and is None where it does.
    """

    place: Location
    entity_id: str | None
    problem: str | None
    signer: Certificate | None = None


def metadata_signatures(data: bytes, known: Iterable[Certificate] = ()) -> tuple[MetadataSignature, ...]:
    """The signatures over the file and over single entities in it. Raises XMLDamaged."""
    root = parse(data, limits.METADATA_BYTES)
    keys = tuple(known)
    return tuple(
        _judge(signature, keys, root) for signature in signatures_in(root) if signature.holder.tag in _DESCRIPTORS
    )


def _judge(signature: XMLSignature, known: tuple[Certificate, ...], root: etree._Element) -> MetadataSignature:
    entity_id = (
        None
        if signature.holder is root and signature.holder.tag == _DESCRIPTORS[1]
        else (signature.holder.get("entityID"))
    )
    place = where(signature.element)
    if signature.refused:
        return MetadataSignature(place, entity_id, f"it must not be accepted: {signature.refused}")
    if not signature.holds_its_own:
        return MetadataSignature(place, entity_id, "it refers to another element than the one that contains it")
    if not signature.digest_holds:
        changed = "the file was changed, or formatted anew, after it was signed"
        return MetadataSignature(place, entity_id, f"its digest is another: {changed}")
    ders = (certificate_from_base64(text).der for text in signature.certificates)
    embedded = [certificate for certificate in map(certificate_or_none, ders) if certificate]
    for certificate in (*known, *embedded):
        if signature.verified_by(certificate.public_key):
            return MetadataSignature(place, entity_id, None, certificate)
    return MetadataSignature(place, entity_id, "no key on record, nor the certificate inside it, made it")
