"""Two documents compared: metadata, discovery documents, key sets and certificates."""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.common.moments import show_moment
from trace_lens.comparison.compared import (
    CERTIFICATES,
    DOCUMENTS,
    IDLE,
    METADATA,
    CannotCompare,
    Compared,
    ComparedSide,
    Differing,
)
from trace_lens.comparison.compared_tokens import document_items, key_items
from trace_lens.pki.certificates import Certificate, certificate_or_none
from trace_lens.pki.pem import certificates_in
from trace_lens.saml.metadata import Entity, Key, Role, scan
from trace_lens.saml.names import short
from trace_lens.saml.parsing import XMLDamaged
from trace_lens.workspace import trust
from trace_lens.workspace.records import Workspace


def metadata_compared(left: ComparedSide, right: ComparedSide, workspace: Workspace) -> Compared:
    entities = [_entities(side) for side in (left, right)]
    mine, theirs = ({entity.entity_id: entity for entity in found} for found in entities)
    found: list[Differing] = []
    if len(mine) == len(theirs) == 1 and mine.keys() != theirs.keys():
        pairs = [(next(iter(mine.values())), next(iter(theirs.values())))]
    else:
        pairs = [(mine[name], theirs[name]) for name in mine if name in theirs]
        found = [
            Differing(
                item=f"entity {name}",
                left=(name,),
                right=(),
                matters=True,
                why="it is gone",
                hits=_holders(name, workspace),
            )
            for name in mine
            if name not in theirs
        ]
        found += [
            Differing(item=f"entity {name}", left=(), right=(name,), matters=True, why="it is new")
            for name in theirs
            if name not in mine
        ]
    same = 0
    for a, b in pairs:
        prefix = f"{a.entity_id}: " if len(pairs) > 1 else ""
        document, other = dict(entity_items(a)), dict(entity_items(b))
        for name in dict.fromkeys([*document, *other]):
            before, after = document.get(name, ()), other.get(name, ())
            if before == after:
                same += 1
                continue
            matters = name not in ("validUntil", "cacheDuration", "organization")
            gone = [text for text in before if text not in after]
            hits = tuple(dict.fromkeys(app for text in gone for app in _holders(text, workspace)))
            why = "one side or the other uses it" if matters else "it does not change a sign-in"
            found.append(Differing(item=prefix + name, left=before, right=after, matters=matters, why=why, hits=hits))
    found.sort(key=lambda item: not item.matters)
    return Compared(kind=METADATA, left=left.name, right=right.name, differences=tuple(found), same=same)


def documents_compared(kind: str, left: ComparedSide, right: ComparedSide, workspace: Workspace) -> Compared:
    """Two discovery documents, key sets or registrations, member by member, with whom a value that is gone hits."""
    items = key_items if kind == "key-set" else document_items
    before, after = (dict(items(side.documents[kind])) for side in (left, right))
    found, same = [], 0
    for name in dict.fromkeys([*before, *after]):
        a, b = before.get(name, ()), after.get(name, ())
        if a == b:
            same += 1
            continue
        gone = [text for text in a if text not in b]
        hits = tuple(dict.fromkeys(app for text in gone for app in _holders(text, workspace)))
        matters = name not in IDLE and (kind != "key-set" or bool(a))
        why = "it does not change a sign-in" if not matters else "applications use it"
        if kind == "key-set":
            why = "tokens signed with it verify no more" if a else "it is new; applications that fetch the set take it"
        found.append(Differing(item=name, left=a, right=b, matters=matters, why=why, hits=hits))
    found.sort(key=lambda item: not item.matters)
    return Compared(kind=DOCUMENTS[kind], left=left.name, right=right.name, differences=tuple(found), same=same)


def _entities(side: ComparedSide) -> tuple[Entity, ...]:
    data = next(message.data for message in side.peeled.found if message.kind == "saml-metadata")
    try:
        return scan(data).entities
    except XMLDamaged as damage:
        raise CannotCompare(f"{side.name} is no metadata that can be read: {damage.reason}", unread=True) from None


def entity_items(entity: Entity) -> Iterable[tuple[str, tuple[str, ...]]]:
    yield "entityID", (entity.entity_id,)
    yield "validUntil", (show_moment(entity.valid_until),) if entity.valid_until else ()
    yield "cacheDuration", (entity.cache_duration,) if entity.cache_duration else ()
    yield "organization", (entity.organization,) if entity.organization else ()
    yield "roles", tuple(role.name for role in entity.roles)
    for role in entity.roles:
        prefix = f"{role.name}: " if len(entity.roles) > 1 else ""
        for name, values in _role_items(role):
            yield prefix + name, values


def _role_items(role: Role) -> Iterable[tuple[str, tuple[str, ...]]]:
    grouped: dict[str, list[str]] = {}
    for endpoint in role.endpoints:
        grouped.setdefault(f"{endpoint.purpose} ({short(endpoint.binding)})", []).append(endpoint.location)
    for name, places in grouped.items():
        yield name, tuple(places)
    for use in ("signing", "encryption", None):
        keys = tuple(_print(key) for key in role.keys if key.use == use)
        if keys:
            yield f"{use or 'any'} key", keys
    yield "NameIDFormat", tuple(role.name_id_formats)
    wanted = tuple(attribute.name + (" (required)" if attribute.required else "") for attribute in role.attributes)
    if wanted:
        yield "RequestedAttribute", wanted
    yield "WantAuthnRequestsSigned", (str(role.wants_signed_requests).lower(),)
    yield "WantAssertionsSigned", (str(role.wants_signed_assertions).lower(),)
    yield "AuthnRequestsSigned", (str(role.signs_requests).lower(),)


def _print(key: Key) -> str:
    certificate = certificate_or_none(key.certificate.der)
    return str(certificate.sha256) if certificate else "(damaged)"


def _holders(text: str, workspace: Workspace) -> tuple[str, ...]:
    """The applications whose settings hold a value, or pin a certificate of that fingerprint."""
    found = []
    for app in workspace.apps.values():
        held = text in _texts(app.source.raw)
        pinned = any(
            text in (str(pin.fingerprint), str(pin.certificate.sha256) if pin.certificate else "")
            for pin in trust.pinned(app, workspace)
        )
        if held or pinned:
            found.append(app.id)
    return tuple(found)


def _texts(value: object) -> set[str]:
    if isinstance(value, str):
        return {value}
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return {text for item in inner for text in _texts(item)}


def certificates_compared(left: ComparedSide, right: ComparedSide, workspace: Workspace) -> Compared:
    """Two lots of certificates: those in both are set aside, the others laid beside each other by their subject."""
    mine, theirs = (_certificates_of(side) for side in (left, right))
    both = [certificate for certificate in mine if certificate in theirs]
    only_left = [certificate for certificate in mine if certificate not in theirs]
    only_right = [their for their in theirs if their not in mine]
    found: list[Differing] = []
    same = len(both)
    while only_left and only_right:
        item = only_left.pop(0)
        other = next((certificate for certificate in only_right if certificate.subject == item.subject), only_right[0])
        only_right.remove(other)
        prefix = f"{item.subject}: " if len(mine) > 1 else ""
        before, after = dict(_certificate_items(item)), dict(_certificate_items(other))
        for name, value in before.items():
            if value == after[name]:
                same += 1
                continue
            matters, why = _CERTIFICATE_MATTERS[name]
            hits = _holders(value, workspace) if name == "sha256" else ()
            found.append(
                Differing(item=prefix + name, left=(value,), right=(after[name],), matters=matters, why=why, hits=hits)
            )
    found += [
        Differing(
            item="certificate",
            left=(f"{certificate.subject} ({certificate.sha256})",),
            right=(),
            matters=True,
            why="it is gone",
            hits=_holders(str(certificate.sha256), workspace),
        )
        for certificate in only_left
    ]
    found += [
        Differing(
            item="certificate",
            left=(),
            right=(f"{certificate.subject} ({certificate.sha256})",),
            matters=True,
            why="it is new",
        )
        for certificate in only_right
    ]
    return Compared(
        kind=CERTIFICATES,
        left=left.name,
        right=right.name,
        differences=tuple(sorted(found, key=lambda member: not member.matters)),
        same=same,
    )


_CERTIFICATE_MATTERS = {
    "subject": (False, "an application that pins a certificate does not read it"),
    "issuer": (False, "an application that pins a certificate does not read it"),
    "serial": (False, "it differs in any two certificates"),
    "valid from": (True, "an application may check it"),
    "valid until": (True, "an application may check it"),
    "public key": (True, "signatures of one do not hold with the other"),
    "key": (True, "the kind or size of key is another"),
    "names": (False, "it counts for TLS, not for signing messages"),
    "sha1": (True, "who pins this fingerprint needs the new one"),
    "sha256": (True, "who pins this fingerprint needs the new one"),
}


def _certificate_items(certificate: Certificate) -> Iterable[tuple[str, str]]:
    yield "sha256", str(certificate.sha256)
    yield "sha1", str(certificate.sha1)
    yield "public key", certificate.key_print
    yield "key", certificate.key
    yield "valid from", show_moment(certificate.not_before)
    yield "valid until", show_moment(certificate.not_after)
    yield "subject", certificate.subject
    yield "issuer", certificate.issuer
    yield "serial", certificate.serial
    yield "names", ", ".join(certificate.alternative_names)


def _certificates_of(side: ComparedSide) -> list[Certificate]:
    found: list[Certificate] = []
    for message in side.peeled.found:
        for pasted in certificates_in(message.data) if message.kind == "certificate" else ():
            certificate = certificate_or_none(pasted.der)
            if certificate is None:
                raise CannotCompare(f"{side.name} holds a certificate that cannot be read", unread=True)
            if certificate not in found:
                found.append(certificate)
    return found
