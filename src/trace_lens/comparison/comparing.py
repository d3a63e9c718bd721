"""Two attempts, two metadata or discovery documents, two key sets or lots of certificates: what differs and matters.

What differs in any two messages (identifiers, moments, signature values) is counted, not listed. A difference matters
where it is a value that one side sets or checks, or where a finding that came or went is about it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.evidence import assemble, read_evidence
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.saml.case import SamlCase
from trace_lens.common.difference import difference
from trace_lens.common.findings import Finding
from trace_lens.common.moments import show_moment
from trace_lens.comparison.compared_items import items_of
from trace_lens.comparison.compared_tokens import document_items, items_of_token, key_items
from trace_lens.comparison.comparing_ways import SideBySide, side_by_side
from trace_lens.comparison.items import Item
from trace_lens.diagnosis.judging import Diagnosis, Options, case_of, diagnose
from trace_lens.intake.peeling import Peeled
from trace_lens.pki.certificates import Certificate, certificate_or_none
from trace_lens.pki.pem import certificates_in
from trace_lens.saml.metadata import Entity, Key, Role, scan
from trace_lens.saml.names import short
from trace_lens.saml.parsing import XMLDamaged
from trace_lens.workspace import trust
from trace_lens.workspace.loading import Workspace
from trace_lens.workspace.sources import SourceFile

ATTEMPTS, METADATA, CERTIFICATES = "attempts", "metadata", "certificates"
DOCUMENTS = {
    "discovery-document": "discovery documents",
    "key-set": "key sets",
    "client-registration": "client registrations",
}
_IDLE = (
    "service_documentation",
    "op_policy_uri",
    "op_tos_uri",
    "ui_locales_supported",
    "claims_locales_supported",
    "display_values_supported",
)
"""Members of a discovery document that no sign-in depends on."""


class CannotCompare(ValueError):
    """The two sources cannot be laid side by side; the message says why, `unread` whether one of them holds nothing."""

    def __init__(self, reason: str, *, unread: bool = False) -> None:
        super().__init__(reason)
        self.unread = unread


class Differing(NamedTuple):
    """One item that is not the same left and right; `hits` are the applications whose settings hold the left value."""

    item: str
    left: tuple[str, ...]
    right: tuple[str, ...]
    matters: bool
    why: str
    hits: tuple[str, ...] = ()

    @property
    def kind(self) -> str | None:
        """The kind of difference, where each side has one value."""
        if len(self.left) != 1 or len(self.right) != 1:
            return None
        found = difference(self.left[0], self.right[0])
        return found.kind if found else None


class Compared(NamedTuple):
    """What came of a comparison. `noise` counts what always differs; `same` how many items are equal.

    The diagnoses and the findings that came, went and stayed are there for attempts only; `notes` say what was passed
    over.
    """

    kind: str
    left: str
    right: str
    differences: tuple[Differing, ...]
    same: int
    noise: tuple[tuple[str, int], ...] = ()
    diagnoses: tuple[Diagnosis, Diagnosis] | None = None
    came: tuple[Finding, ...] = ()
    went: tuple[Finding, ...] = ()
    stayed: tuple[Finding, ...] = ()
    notes: tuple[str, ...] = ()
    ways: SideBySide | None = None

    @property
    def matters(self) -> bool:
        """Whether they differ where it matters."""
        return any(difference.matters for difference in self.differences) or any(
            finding.breaks and finding.because_of is None for finding in (*self.came, *self.went)
        )


class _Side(NamedTuple):
    name: str
    peeled: Peeled
    attempts: list[Attempt]
    documents: dict[str, OidcMessage]

    @property
    def kinds(self) -> set[str]:
        return {message.kind for message in self.peeled.found}


def compare(left: SourceFile, right: SourceFile, workspace: Workspace, options: Options) -> Compared:
    """Lay two sources side by side. Raises CannotCompare, SettingsError, KeyError."""
    pair, other = _side(left), _side(right)
    if pair.attempts and other.attempts:
        return _attempts(pair, other, workspace, options)
    if "saml-metadata" in pair.kinds and "saml-metadata" in other.kinds:
        return _metadata(pair, other, workspace)
    for kind in DOCUMENTS:
        if kind in pair.documents and kind in other.documents:
            return _documents(kind, pair, other, workspace)
    if "certificate" in pair.kinds and "certificate" in other.kinds:
        return _certificates(pair, other, workspace)
    for side in (pair, other):
        if not side.kinds:
            raise CannotCompare(f"{side.name}: {side.peeled.because}", unread=True)
    raise CannotCompare(
        "two of one kind are needed: attempts, metadata files, discovery documents, key sets or lots of certificates; "
        + " and ".join(f"{side.name} holds {', '.join(sorted(side.kinds))}" for side in (pair, other))
    )


def _side(source: SourceFile) -> _Side:
    held = read_evidence(source)
    if held.problems:
        raise CannotCompare(f"{source.name}: {held.problems[0]}", unread=True)
    documents = {item.kind: item for item in reversed(held.oidc) if item.kind in DOCUMENTS and item.damage is None}
    return _Side(source.name, held.peeled, assemble([held]), documents)


def _attempts(left: _Side, right: _Side, workspace: Workspace, options: Options) -> Compared:
    """Two attempts: of several in one source, those of the same application are laid beside each other."""
    pair = _pair(left, right, workspace, options)
    notes = tuple(
        f"{side.name} holds {len(side.attempts)} attempts; number {side.attempts.index(chosen) + 1} is compared"
        for side, chosen in zip((left, right), pair, strict=True)
        if len(side.attempts) > 1
    )
    cases = [case_of(attempt, workspace, options) for attempt in pair]
    first, second = (diagnose(attempt, workspace, options) for attempt in pair)
    came, went, stayed = _findings(first.findings, second.findings)
    moving = {
        finding.code: finding.severity for finding in sorted((*came, *went), key=lambda item: item.severity == "break")
    }
    mine, theirs = (_items_of(case) for case in cases)
    differences, same = _differences(mine, theirs, moving)
    noise = _noise(mine, theirs)
    return Compared(
        kind=ATTEMPTS,
        left=left.name,
        right=right.name,
        differences=differences,
        same=same,
        noise=noise,
        diagnoses=(first, second),
        came=came,
        went=went,
        stayed=stayed,
        notes=notes,
        ways=side_by_side(first.details.steps, second.details.steps),
    )


def _items_of(case: SamlCase | OidcCase) -> list[Item]:
    return items_of_token(case) if isinstance(case, OidcCase) else items_of(case)


def _pair(left: _Side, right: _Side, workspace: Workspace, options: Options) -> tuple[Attempt, Attempt]:
    for attempt in left.attempts:
        app = case_of(attempt, workspace, options).app
        for other in right.attempts:
            if app and case_of(other, workspace, options).app is app and attempt.kind == other.kind:
                return attempt, other
    return left.attempts[0], right.attempts[0]


def _findings(
    left: tuple[Finding, ...], right: tuple[Finding, ...]
) -> tuple[tuple[Finding, ...], tuple[Finding, ...], tuple[Finding, ...]]:
    """Findings that only the right one has, that only the left one has, and that both have (as in the right one)."""

    def key(finding: Finding) -> tuple[str, str, str | None]:
        return finding.code, finding.severity, finding.expected if finding.code.startswith("claim-") else None

    before, after = Counter(map(key, left)), Counter(map(key, right))
    came = tuple(finding for finding in right if not before[key(finding)])
    went = tuple(finding for finding in left if not after[key(finding)])
    return came, went, tuple(finding for finding in right if before[key(finding)])


def _differences(left: list[Item], right: list[Item], moving: Mapping[str, str]) -> tuple[tuple[Differing, ...], int]:
    """Items that differ, those that matter most first, and how many are equal.

    `moving` are the findings that came or went, with their severity: what a break is about comes before all else.
    """
    mine = {item.name: item for item in left if not item.noise}
    theirs = {item.name: item for item in right if not item.noise}
    found = []
    same = 0
    for name in dict.fromkeys([*mine, *theirs]):
        a, b = mine.get(name), theirs.get(name)
        item = a or b
        if item is None or (item.only_if_both and not (a and b)):
            continue
        if a and b and a.values == b.values:
            same += 1
            continue
        about = sorted((code for code in item.codes if code in moving), key=lambda code: moving[code] != "break")
        matters = item.matters or bool(about) or (item.matters_if_missing and not (a and b))
        rank = 0 if about and moving[about[0]] == "break" else 1 if about else 2 if matters else 3
        why = _why(item, about, matters=matters)
        found.append(
            (
                rank,
                Differing(item=name, left=a.values if a else (), right=b.values if b else (), matters=matters, why=why),
            )
        )
    return tuple(difference for _, difference in sorted(found, key=lambda pair: pair[0])), same


def _why(item: Item, about: list[str], *, matters: bool) -> str:
    if about:
        return f"{about[0]} is about it"
    if matters:
        return item.why
    return "it may differ from person to person" if item.personal else "nothing here reads it"


def _noise(left: list[Item], right: list[Item]) -> tuple[tuple[str, int], ...]:
    """What differs in any two messages, counted by kind."""
    mine = [(item.name, item.noise, item.values) for item in left if item.noise]
    theirs = {item.name: item.values for item in right if item.noise}
    counted = Counter(kind for name, kind, values in mine if theirs.get(name) != values)
    return tuple(sorted((kind or "", count) for kind, count in counted.items()))


def _metadata(left: _Side, right: _Side, workspace: Workspace) -> Compared:
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
        document, other = dict(_entity_items(a)), dict(_entity_items(b))
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


def _documents(kind: str, left: _Side, right: _Side, workspace: Workspace) -> Compared:
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
        matters = name not in _IDLE and (kind != "key-set" or bool(a))
        why = "it does not change a sign-in" if not matters else "applications use it"
        if kind == "key-set":
            why = "tokens signed with it verify no more" if a else "it is new; applications that fetch the set take it"
        found.append(Differing(item=name, left=a, right=b, matters=matters, why=why, hits=hits))
    found.sort(key=lambda item: not item.matters)
    return Compared(kind=DOCUMENTS[kind], left=left.name, right=right.name, differences=tuple(found), same=same)


def _entities(side: _Side) -> tuple[Entity, ...]:
    data = next(message.data for message in side.peeled.found if message.kind == "saml-metadata")
    try:
        return scan(data).entities
    except XMLDamaged as damage:
        raise CannotCompare(f"{side.name} is no metadata that can be read: {damage.reason}", unread=True) from None


def _entity_items(entity: Entity) -> Iterable[tuple[str, tuple[str, ...]]]:
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


def _certificates(left: _Side, right: _Side, workspace: Workspace) -> Compared:
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


def _certificates_of(side: _Side) -> list[Certificate]:
    found: list[Certificate] = []
    for message in side.peeled.found:
        for pasted in certificates_in(message.data) if message.kind == "certificate" else ():
            certificate = certificate_or_none(pasted.der)
            if certificate is None:
                raise CannotCompare(f"{side.name} holds a certificate that cannot be read", unread=True)
            if certificate not in found:
                found.append(certificate)
    return found
