"""Documents against their last snapshots: what appeared, went and changed, and which applications it hits, and how.

Sources: SAML 2.0 Metadata §2.4 (keys, endpoints and bindings of a role), OpenID Connect Discovery 1.0 §3, RFC 7517 §5.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator
from datetime import datetime
from pathlib import Path

from trace_lens.common import catalogue
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.fleet.documents import (
    DISCOVERY_DOCUMENT,
    KEY_SET,
    METADATA,
    SIGNING_KEY,
    Items,
    NoDocument,
    OnRecord,
    Read,
    on_record,
    read_document,
)
from trace_lens.oidc.documents import ENDPOINTS
from trace_lens.pki.fingerprints import is_fingerprint, read_fingerprint
from trace_lens.workspace import trust
from trace_lens.workspace.records import App, Workspace
from trace_lens.workspace.snapshots import Snapshot, earlier, keep, snapshots_of

FIRST, SAME, CHANGED, UNREACHABLE, UNREADABLE = "first", "same", "changed", "unreachable", "unreadable"
ADDED, REMOVED, OTHER = "added", "removed", "changed"
BREAK, RISK, NOTE = "break", "risk", "note"
_IDLE = ("organization", "service_documentation", "op_policy_uri", "op_tos_uri", "ui_locales_supported")
_USED = ("SingleSignOnService", "SingleLogoutService", "AssertionConsumerService", "ArtifactResolutionService")


class DocumentHit(NamedTuple):
    """An application that a change hits: the code, how severe it is there, and a sentence.

    `alike` is the same for applications that it hits in the same way.
    """

    app: str
    code: str
    severity: str
    detail: str
    alike: tuple[str, ...] = ()


class ItemChange(NamedTuple):
    """One item that is other than before; `before` and `after` are None where it was not, or is not, there."""

    item: str
    change: str
    before: str | None
    after: str | None
    hits: tuple[DocumentHit, ...]


class Version(NamedTuple):
    """A document as of a moment, by its digest."""

    at: datetime
    sha256: str


class Drift(NamedTuple):
    """What became of one document since a snapshot. `because` says why it could not be had or read, `code` with which
    code of the catalogue.
    """

    document: OnRecord
    status: str
    before: Version | None
    after: Version | None
    changes: tuple[ItemChange, ...] = ()
    because: str | None = None
    code: str | None = None

    @property
    def hits(self) -> tuple[DocumentHit, ...]:
        """All hits of all changes."""
        return tuple(hit for change in self.changes for hit in change.hits)


def drift_of(
    document: OnRecord, data: bytes, workspace: Workspace, now: datetime, since: datetime | None, *, kept: bool
) -> Drift:
    """A document as it is now against the newest snapshot, or that of a moment (`since`); `kept` keeps it as a new one
    where something changed. Raises OSError where it cannot be kept.
    """
    assert workspace.root is not None
    root = workspace.root
    before = _snapshot(snapshots_of(root, document.name), since or now)
    earlier = Version(before.at, before.sha256) if before else None
    try:
        read = read_document(document, data)
    except NoDocument as error:
        return Drift(document, UNREADABLE, earlier, None, because=str(error), code="unexpected-answer")
    after = Version(now, hashlib.sha256(data).hexdigest())
    old = _read_snapshot(document, before)
    changes = tuple(_changes(document, old.items, read.items, workspace)) if old else ()
    status = FIRST if old is None else CHANGED if changes else SAME
    if kept and _worth_keeping(document, root, read, now):
        keep(root, document.name, data, now)
    return Drift(document, status, earlier if old else None, after, changes)


class Recorded(NamedTuple):
    """A change between two snapshots of a document: it happened after `since` and up to `at`."""

    document: OnRecord
    since: datetime
    at: datetime
    words: str


def changes_on_record(workspace: Workspace) -> Iterator[Recorded]:
    """What changed between the snapshots of each document on record, in the order of time."""
    if workspace.root is None:
        return
    for document in on_record(workspace):
        before: tuple[Snapshot, Read] | None = None
        for snapshot in earlier(workspace.root, document.name):
            read = _read_snapshot(document, snapshot)
            if read is None:
                continue
            if before is not None and read.items != before[1].items:
                owner = document.provider or document.app
                name = owner.name if owner else ""
                items = sorted(
                    item
                    for item in {*read.items, *before[1].items}
                    if read.items.get(item) != before[1].items.get(item)
                )
                more = f" and {len(items) - 3} more" if len(items) > 3 else ""
                words = f"{document.kind} of {name} changed: {', '.join(items[:3])}{more}"
                yield Recorded(document, before[0].at, snapshot.at, words)
            before = snapshot, read


def _snapshot(held: tuple[Snapshot, ...], moment: datetime) -> Snapshot | None:
    """The newest one up to a moment."""
    return next((snapshot for snapshot in reversed(held) if snapshot.at <= moment), None)


def _read_snapshot(document: OnRecord, snapshot: Snapshot | None) -> Read | None:
    if snapshot is None:
        return None
    try:
        return read_document(document, snapshot.read())
    except (NoDocument, OSError):
        return None


def _worth_keeping(document: OnRecord, root: Path, read: Read, now: datetime) -> bool:
    """Whether it says something else than the newest snapshot, or is valid for another time."""
    newest = _snapshot(snapshots_of(root, document.name), now)
    held = _read_snapshot(document, newest)
    return held is None or held != read


def _changes(document: OnRecord, before: Items, after: Items, workspace: Workspace) -> Iterator[ItemChange]:
    """Item by item; where one value took the place of one other, the item changed."""
    for item in dict.fromkeys([*before, *after]):
        gone = [value for value in before.get(item, ()) if value not in after.get(item, ())]
        new = [value for value in after.get(item, ()) if value not in before.get(item, ())]
        bare = item.rpartition(": ")[2]
        if len(gone) == len(new) == 1 and SIGNING_KEY not in bare:
            pairs: list[tuple[str, str | None, str | None]] = [(OTHER, gone[0], new[0])]
        else:
            pairs = [(REMOVED, value, None) for value in gone] + [(ADDED, None, value) for value in new]
        for change, old, fresh in pairs:
            hits = _hits(_Changed(document, bare, old, fresh, after, workspace))
            yield ItemChange(item, change, old, fresh, tuple(hits))


class _Changed(NamedTuple):
    """One change, with all that the document says now."""

    document: OnRecord
    item: str
    before: str | None
    after: str | None
    now: Items
    workspace: Workspace

    @property
    def apps(self) -> list[App]:
        """The applications that the document concerns."""
        if self.document.app is not None:
            return [self.document.app]
        protocol = "saml" if self.document.kind == METADATA else "oidc"
        return [
            app
            for app in self.workspace.apps.values()
            if self.workspace.provider_of(app) is self.document.provider and app.settings.protocol == protocol
        ]


def _hits(changed: _Changed) -> Iterator[DocumentHit]:
    if changed.item in _IDLE:
        return
    for app in changed.apps:
        hit = _hit(changed, app)
        if hit is not None:
            yield hit


def _hit(changed: _Changed, app: App) -> DocumentHit | None:
    """How a change hits one application; None where it does not."""
    if changed.document.app is not None:
        return _of_own(changed, app)
    if changed.document.kind == KEY_SET:
        return None
    if changed.item == SIGNING_KEY:
        return _of_key(changed, app)
    if changed.item in ("entityID", "issuer"):
        return _of_issuer(changed, app)
    if changed.item.partition(" ")[0] in _USED or changed.item in ENDPOINTS:
        return _of_endpoint(changed, app)
    if changed.document.kind == DISCOVERY_DOCUMENT:
        return _of_offer(changed, app)
    if changed.item == "WantAuthnRequestsSigned" and changed.after == "true":
        if app.settings.application.saml.signs_requests:
            return None
        return _made(
            app,
            "metadata-changed",
            RISK,
            "The provider now wants signed requests; {app} is not on record as signing them.",
        )
    if (
        changed.item == "NameIDFormat"
        and changed.before
        and changed.before == app.settings.application.saml.name_id_format
    ):
        return _made(
            app,
            "metadata-changed",
            RISK,
            "{app} wants the NameID format {value}, which is no longer listed.",
            value=changed.before,
        )
    return None


def _made(app: App, code: str, severity: str, words: str, **values: str) -> DocumentHit:
    assert catalogue.entry(code)
    return DocumentHit(app.id, code, severity, say(words, app=app.name, **values), (words, *values.values()))


def _of_key(changed: _Changed, app: App) -> DocumentHit | None:
    """A signing key that came or went, for an application that pins keys."""
    pins = trust.pinned(app, changed.workspace)
    if not pins or app.settings.application.saml.trust_from == "metadata":
        return None
    if changed.after is not None:
        if _pins(pins, changed.after):
            return None
        words = "The provider publishes a key that {app} does not pin; sign-ins break when the provider signs with it."
        return _made(app, "next-key-not-pinned", RISK, words)
    assert changed.before is not None
    if not _pins(pins, changed.before):
        return None
    others = any(_pins(pins, value) for value in changed.now.get(SIGNING_KEY, ()))
    if others:
        words = "{app} pins a key that is gone. It also pins one that is published."
        return _made(app, "certificate-not-published", RISK, words)
    words = "{app} pins a key that is gone, and none that is published: sign-ins break."
    return _made(app, "certificate-not-published", BREAK, words)


def _pins(pins: tuple[trust.RecordedKey, ...], value: str) -> bool:
    """Whether any pin is the certificate of a fingerprint, or that fingerprint."""
    if not is_fingerprint(value):
        return False
    told = read_fingerprint(value)
    return any(
        (pin.certificate is not None and pin.certificate.matches(told)) or pin.fingerprint == told for pin in pins
    )


def _of_issuer(changed: _Changed, app: App) -> DocumentHit | None:
    told = app.settings.application
    held = told.saml.provider_entity_id if changed.item == "entityID" else told.oidc.provider_issuer
    if changed.before is None or (held is not None and held == changed.after):
        return None
    words = "The provider now calls itself {after}; {app} has {held}."
    return _made(app, "issuer-mismatch", BREAK, words, after=changed.after or "nothing", held=held or changed.before)


def _of_endpoint(changed: _Changed, app: App) -> DocumentHit | None:
    """An endpoint that moved or went, or a binding of it."""
    if changed.before is None:
        return None
    held = app.settings.application.provider_sso_url
    still = {value for item, values in changed.now.items() if _is_address(item) for value in values}
    if changed.before == held:
        if changed.before in still:
            words = "{app} uses {value}; the provider no longer offers it as {item}."
            return _made(app, "metadata-changed", NOTE, words, value=changed.before, item=changed.item)
        words = "{app} uses {value}, which is gone from the document."
        return _made(app, "endpoint-missing", RISK, words, value=changed.before)
    follows = app.settings.application.saml.trust_from == "metadata"
    if not held and not follows and changed.item.startswith("SingleSignOnService") and changed.before not in still:
        words = "{value} is gone from the document; which sign-on address {app} uses is not on record."
        return _made(app, "metadata-changed", NOTE, words, value=changed.before)
    if changed.document.kind == DISCOVERY_DOCUMENT and changed.after is None and changed.item in _needed(app):
        words = "{app} uses the {item}, and the discovery document no longer has one."
        return _made(app, "endpoint-missing", RISK, words, item=changed.item.replace("_", " "))
    return None


def _is_address(item: str) -> bool:
    bare = item.rpartition(": ")[2]
    return bare.partition(" ")[0] in _USED or bare in ENDPOINTS


def _needed(app: App) -> list[str]:
    """The endpoints that an application of OpenID Connect cannot do without."""
    told = app.settings.application
    kinds = (told.oidc.response_type or "code").split()
    needed = ["authorization_endpoint", "jwks_uri"]
    needed += ["token_endpoint"] if "code" in kinds else []
    return needed + (["end_session_endpoint"] if told.sign_out_url else [])


def _of_offer(changed: _Changed, app: App) -> DocumentHit | None:
    """Something that the provider no longer offers and the application is set to use."""
    if changed.before is None:
        return None
    told = app.settings.application.oidc
    used = {
        "id_token_signing_alg_values_supported": list(told.token_algorithm),
        "scopes_supported": list(told.scopes),
        "response_types_supported": [told.response_type] if told.response_type else [],
        "response_modes_supported": [told.response_mode] if told.response_mode else [],
        "token_endpoint_auth_methods_supported": [told.client_authentication] if told.client_authentication else [],
        "acr_values_supported": list(told.acr_values),
    }
    if changed.before not in used.get(changed.item, []):
        return None
    words = "{app} is set to use {value}, and the provider no longer lists it ({item})."
    return _made(app, "metadata-changed", RISK, words, value=changed.before, item=changed.item)


def _of_own(changed: _Changed, app: App) -> DocumentHit | None:
    """A change in an application's own metadata, against what the provider has set for it."""
    setup = app.settings.provider_setup
    if changed.item == "entityID" and changed.before is not None and setup.audience == changed.before:
        words = "{app} now calls itself {after}; the provider has {before} as the audience."
        return _made(app, "issuer-mismatch", BREAK, words, after=changed.after or "nothing", before=changed.before)
    if changed.item.startswith("AssertionConsumerService") and changed.before and setup.acs_url == changed.before:
        still = {value for item, values in changed.now.items() if _is_address(item) for value in values}
        if changed.before in still:
            return None
        words = "The provider sends to {value}, which is gone from the metadata of {app}."
        return _made(app, "endpoint-missing", RISK, words, value=changed.before)
    return None
