"""SAML 2.0 Metadata: one entity's roles, endpoints, keys and formats, as far as a sign-in needs them."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from lxml import etree

from trace_lens.common.moments import MomentError, read_moment
from trace_lens.pki.pem import PastedCertificate, certificate_from_base64
from trace_lens.saml import parsing
from trace_lens.saml.names import METADATA, SIGNATURE
from trace_lens.saml.parsing import text_of

_M = f"{{{METADATA}}}"
_D = f"{{{SIGNATURE}}}"


class Endpoint(NamedTuple):
    """One endpoint (Metadata §2.2.2, §2.2.3): what it is for, its binding and its address."""

    purpose: str
    binding: str
    location: str
    number: str | None
    default: bool
    where: str


class Key(NamedTuple):
    """One KeyDescriptor's certificate (Metadata §2.4.1.1); `use` is signing, encryption, or None for both."""

    use: str | None
    certificate: PastedCertificate
    where: str


class Role(NamedTuple):
    """An IDPSSODescriptor or SPSSODescriptor (Metadata §2.4.3, §2.4.4)."""

    name: str
    endpoints: tuple[Endpoint, ...]
    keys: tuple[Key, ...]
    name_id_formats: tuple[str, ...]
    wants_signed_requests: bool
    wants_signed_assertions: bool

    @property
    def signing_keys(self) -> tuple[Key, ...]:
        """Keys for signing: marked so, or not marked at all."""
        return tuple(key for key in self.keys if key.use in (None, "signing"))


class Entity(NamedTuple):
    """An EntityDescriptor (Metadata §2.3.2)."""

    entity_id: str
    where: str
    roles: tuple[Role, ...]
    valid_until: datetime | None

    def role(self, name: str) -> Role | None:
        """The role `IDPSSODescriptor` or `SPSSODescriptor`, where the entity has it."""
        return next((role for role in self.roles if role.name == name), None)


def read_metadata(data: bytes) -> tuple[Entity, ...]:
    """The entities of a metadata file, in order; empty where its root is no descriptor. Raises XMLDamaged."""
    root = parsing.parse(data)
    return tuple(_entity(element) for element in root.iter(f"{_M}EntityDescriptor"))


def _entity(element: etree._Element) -> Entity:
    until = element.get("validUntil")
    parent = element.getparent()
    if until is None and parent is not None:
        until = parent.get("validUntil")
    try:
        valid_until = read_moment(until)[0] if until else None
    except MomentError:
        valid_until = None
    roles = [
        _role(child, child.tag.removeprefix(_M))
        for child in element
        if isinstance(child.tag, str) and child.tag in (_M + "IDPSSODescriptor", _M + "SPSSODescriptor")
    ]
    return Entity(element.get("entityID") or "", parsing.where(element, "entityID"), tuple(roles), valid_until)


def _role(element: etree._Element, name: str) -> Role:
    endpoints = [
        Endpoint(
            str(child.tag).removeprefix(_M),
            child.get("Binding") or "",
            child.get("Location") or "",
            child.get("index"),
            child.get("isDefault") in ("true", "1"),
            parsing.where(child, "Location"),
        )
        for child in element
        if isinstance(child.tag, str) and child.get("Location") is not None
    ]
    keys = [
        Key(descriptor.get("use"), certificate_from_base64(text_of(certificate)), parsing.where(certificate))
        for descriptor in element.iterchildren(_M + "KeyDescriptor")
        for certificate in descriptor.iter(_D + "X509Certificate")
    ]
    return Role(
        name,
        tuple(endpoints),
        tuple(keys),
        tuple(text_of(child).strip() for child in element.iterchildren(_M + "NameIDFormat")),
        element.get("WantAuthnRequestsSigned") in ("true", "1"),
        element.get("WantAssertionsSigned") in ("true", "1"),
    )
