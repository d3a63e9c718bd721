"""SAML 2.0 Metadata: entities with their roles, endpoints, keys, formats and requested attributes.

Files are streamed, since those of a federation hold thousands of entities; a broken place in one of them loses only
the entity in which it stands, and is told. Sources: SAML 2.0 Metadata §2; its algorithms and limits as in `parsing`.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from datetime import datetime

from lxml import etree

from trace_lens.common import limits
from trace_lens.common.locations import Location
from trace_lens.common.moments import MomentError, read_moment
from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.pem import PastedCertificate, certificate_from_base64
from trace_lens.saml import parsing
from trace_lens.saml.names import IDP_ROLE, METADATA, SIGNATURE, SP_ROLE
from trace_lens.saml.parsing import Damage, XMLDamaged, text_of

_M = f"{{{METADATA}}}"
_D = f"{{{SIGNATURE}}}"
_A = "{urn:oasis:names:tc:SAML:2.0:assertion}"


class Endpoint(NamedTuple):
    """One endpoint (Metadata §2.2.2, §2.2.3): what it is for, its binding and its address."""

    purpose: str
    binding: str
    location: str
    number: str | None
    default: bool
    where: Location
    response_location: str | None = None

    @property
    def is_acs(self) -> bool:
        """Whether it is an assertion consumer service."""
        return self.purpose == "AssertionConsumerService"


class Key(NamedTuple):
    """One KeyDescriptor's certificate (Metadata §2.4.1.1); `use` is signing, encryption, or None for both."""

    use: str | None
    certificate: PastedCertificate
    where: Location


class RequestedAttribute(NamedTuple):
    """One RequestedAttribute (Metadata §2.4.4.2)."""

    name: str
    friendly_name: str | None
    required: bool
    where: Location


class Role(NamedTuple):
    """An IDPSSODescriptor or SPSSODescriptor (Metadata §2.4.3, §2.4.4)."""

    name: str
    endpoints: tuple[Endpoint, ...]
    keys: tuple[Key, ...]
    name_id_formats: tuple[str, ...]
    wants_signed_requests: bool
    wants_signed_assertions: bool
    signs_requests: bool = False
    attributes: tuple[RequestedAttribute, ...] = ()

    @property
    def signing_keys(self) -> tuple[Key, ...]:
        """Keys for signing: marked so, or not marked at all."""
        return tuple(key for key in self.keys if key.use in (None, "signing"))

    @property
    def encryption_keys(self) -> tuple[Key, ...]:
        """Keys for encryption: marked so, or not marked at all."""
        return tuple(key for key in self.keys if key.use in (None, "encryption"))

    def addresses(self, purpose: str) -> tuple[str, ...]:
        """The addresses of the endpoints of one purpose, the default one first (Metadata §2.2.3)."""
        found = [endpoint for endpoint in self.endpoints if endpoint.purpose == purpose]
        return tuple(endpoint.location for endpoint in sorted(found, key=lambda item: not item.default))


class Entity(NamedTuple):
    """An EntityDescriptor (Metadata §2.3.2); `valid_until` is its own or that of the group it stands in."""

    entity_id: str
    where: Location
    roles: tuple[Role, ...]
    valid_until: datetime | None
    cache_duration: str | None = None
    organization: str | None = None

    def role(self, name: str) -> Role | None:
        """The role `IDPSSODescriptor` or `SPSSODescriptor`, where the entity has it; of several, all in one."""
        found = [role for role in self.roles if role.name == name]
        if len(found) < 2:
            return found[0] if found else None
        return found[0]._replace(
            endpoints=tuple(endpoint for role in found for endpoint in role.endpoints),
            keys=tuple(key for role in found for key in role.keys),
            name_id_formats=tuple(dict.fromkeys(format_name for role in found for format_name in role.name_id_formats)),
            attributes=tuple(attribute for role in found for attribute in role.attributes),
        )


class Descriptors(NamedTuple):
    """What a pass over a metadata file gave: the entities asked for, how many it holds, and what is broken in it."""

    entities: tuple[Entity, ...]
    held: int
    damage: XMLDamaged | None = None


def read_metadata(data: bytes) -> tuple[Entity, ...]:
    """The entities of a metadata file, in order; empty where its root is no descriptor. Raises XMLDamaged."""
    return scan(data).entities


def scan(data: bytes, entity_id: str | None = None, most: int | None = None) -> Descriptors:
    """Pass over a metadata file once.

    With `entity_id` the first entity of this name is read and the pass ends there; else the first `most` entities are
    read (all, where it is None) and the others counted. A broken place is passed over where another entity can still
    be read, and raises XMLDamaged where none can.
    """
    try:
        return _pass(data, entity_id, most, recover=False)
    except etree.XMLSyntaxError as error:
        damage = parsing.damage_of(data, error)
    if damage.damage is Damage.UNSAFE:
        raise damage
    try:
        found = _pass(data, entity_id, most, recover=True)
    except etree.XMLSyntaxError:
        raise damage from None
    if not found.entities and entity_id is None:
        raise damage
    return found._replace(damage=damage)


def find_entity(data: bytes, entity_id: str | None, role: str) -> tuple[Entity | None, XMLDamaged | None]:
    """The entity of a name, else the first that has a role, else the first; and what is broken in the file.

    Raises XMLDamaged where no entity can be read.
    """
    if entity_id is not None and _may_name(data, entity_id):
        named = scan(data, entity_id)
        if named.entities:
            return named.entities[0], named.damage
    first: Entity | None = None
    damage: XMLDamaged | None = None
    try:
        for element in _entities(data, recover=False):
            entity = _entity(element)
            if entity.role(role):
                return entity, None
            first = first or entity
    except etree.XMLSyntaxError as error:
        damage = parsing.damage_of(data, error)
        if first is None:
            found = scan(data, most=200)
            damage = found.damage
            first = next((entity for entity in found.entities if entity.role(role)), found.entities[0])
    return first, damage


def _may_name(data: bytes, entity_id: str) -> bool:
    """Whether the name can stand in the file at all; escaped or in another encoding it may hide."""
    return entity_id.encode() in data or "&" in entity_id or data[:2] in (b"\xff\xfe", b"\xfe\xff")


def _pass(data: bytes, entity_id: str | None, most: int | None, *, recover: bool) -> Descriptors:
    found: list[Entity] = []
    count = 0
    for element in _entities(data, recover=recover):
        count += 1
        if entity_id is not None:
            if (element.get("entityID") or "") == entity_id:
                return Descriptors((_entity(element),), count)
        elif most is None or len(found) < most:
            found.append(_entity(element))
    return Descriptors(tuple(found), count)


def _entities(data: bytes, *, recover: bool) -> Iterator[etree._Element]:
    """Every EntityDescriptor as it ends, taken out of the tree once it was looked at."""
    if len(data) > limits.METADATA_BYTES:
        raise XMLDamaged(Damage.UNSAFE, f"it is larger than {limits.METADATA_BYTES:,} bytes", 0)
    parsing.refuse_doctype(data)
    events = etree.iterparse(
        io.BytesIO(data),
        events=("end",),
        tag=_M + "EntityDescriptor",
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        huge_tree=True,
        recover=recover,
        remove_comments=False,
    )
    for _, element in events:
        yield element
        parent = element.getparent()
        element.clear()
        if parent is not None:
            while element.getprevious() is not None:
                del parent[0]


def _entity(element: etree._Element) -> Entity:
    until = element.get("validUntil")
    parent = element.getparent()
    while until is None and parent is not None:
        until = parent.get("validUntil")
        parent = parent.getparent()
    try:
        valid_until = read_moment(until)[0] if until else None
    except MomentError:
        valid_until = None
    roles = [
        _role(child, child.tag.removeprefix(_M))
        for child in element
        if isinstance(child.tag, str) and child.tag in (_M + IDP_ROLE, _M + SP_ROLE)
    ]
    organization = element.find(f"{_M}Organization/{_M}OrganizationDisplayName")
    return Entity(
        entity_id=element.get("entityID") or "",
        where=parsing.where(element, "entityID"),
        roles=tuple(roles),
        valid_until=valid_until,
        cache_duration=element.get("cacheDuration"),
        organization=None if organization is None else text_of(organization).strip(),
    )


def _role(element: etree._Element, name: str) -> Role:
    endpoints = [
        Endpoint(
            purpose=str(child.tag).removeprefix(_M),
            binding=child.get("Binding") or "",
            location=child.get("Location") or "",
            number=child.get("index"),
            default=child.get("isDefault") in ("true", "1"),
            where=parsing.where(child, "Location"),
            response_location=child.get("ResponseLocation"),
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
        name=name,
        endpoints=tuple(endpoints),
        keys=tuple(keys),
        name_id_formats=tuple(text_of(child).strip() for child in element.iterchildren(_M + "NameIDFormat")),
        wants_signed_requests=element.get("WantAuthnRequestsSigned") in ("true", "1"),
        wants_signed_assertions=element.get("WantAssertionsSigned") in ("true", "1"),
        signs_requests=element.get("AuthnRequestsSigned") in ("true", "1"),
        attributes=tuple(
            RequestedAttribute(
                node.get("Name") or "",
                node.get("FriendlyName"),
                node.get("isRequired") in ("true", "1"),
                parsing.where(node, "Name"),
            )
            for node in (*element.iter(_M + "RequestedAttribute"), *element.iterchildren(_A + "Attribute"))
        ),
    )
