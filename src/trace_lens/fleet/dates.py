"""Every date on record on which something ends: certificates, client secrets, metadata, keys; whom it hits, and how.

Sources: RFC 5280 §4.1.2.5 (validity of certificates), SAML 2.0 Metadata §2.3.2 (validUntil), RFC 7517 §4.7 (x5c),
OpenID Federation 1.0 §8.7.2 (exp of keys), OpenID Connect Dynamic Client Registration 1.0 §3.2.1 (end of a secret).
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime, timedelta

from trace_lens.common.locations import Location
from trace_lens.common.moments import MomentError, read_moment_or_date
from trace_lens.common.tuples import NamedTuple
from trace_lens.fleet.rollovers import FETCHES, READY, next_of, state_of
from trace_lens.oidc.jwk import Jwk
from trace_lens.pki.certificates import Certificate, certificate_or_none
from trace_lens.saml.metadata import Key
from trace_lens.workspace import trust
from trace_lens.workspace.own_files import OWN_FOLDER
from trace_lens.workspace.records import App, Provider, Workspace
from trace_lens.workspace.seen_tls import FILE, seen_tls

CERTIFICATE, SECRET, METADATA, KEY_SET = "certificate", "client-secret", "metadata", "key-set"
SIGNING, ENCRYPTION, TLS = "signing", "encryption", "tls"
YES, NO, UNKNOWN = "yes", "no", "unknown"
_DAY = timedelta(days=1)


class Hit(NamedTuple):
    """An application that a date hits, and how."""

    app: str
    how: str


class Ending(NamedTuple):
    """One date: what ends (`kind`, `what`), whose it is, where it stands, whom it hits.

    `sha256` is the fingerprint of a certificate. `ready` says whether those whom it hits are ready for what comes
    after: `yes`, `no`, or `unknown` where nothing is on record that comes after.
    """

    at: datetime
    kind: str
    what: str
    provider: str | None
    app: str | None
    purpose: str | None
    sha256: str | None
    file: str
    where: Location
    hits: tuple[Hit, ...]
    ready: str

    def days(self, now: datetime) -> int:
        """Whole days until then, negative where it lies in the past."""
        return (self.at - now) // _DAY


def endings(workspace: Workspace) -> list[Ending]:
    """Every date on record, the earliest first; one certificate is told once for each purpose.

    Raises SettingsError where a document on record cannot be read.
    """
    found: dict[tuple[str, ...], Ending] = {}
    for ending in _all(workspace):
        own = ("", "") if ending.sha256 else (ending.app or "", ending.file)
        told = ending.sha256 if ending.sha256 and ending.purpose != TLS else f"{ending.what} {ending.at}"
        key = (ending.kind, told, ending.purpose or "", ending.provider or "", *own)
        before = found.get(key)
        found[key] = ending if before is None else _together(before, ending)
    return sorted(found.values(), key=lambda ending: (ending.at, ending.kind, ending.what, ending.file))


def within(found: list[Ending], now: datetime, span: timedelta) -> list[Ending]:
    """Those that lie in the past, or within a span from now."""
    return [ending for ending in found if ending.at <= now + span]


def _together(one: Ending, other: Ending) -> Ending:
    """The same certificate in two places: all whom it hits, and the less ready of the two."""
    hits = tuple(dict.fromkeys((*one.hits, *other.hits)))
    order = (NO, UNKNOWN, YES)
    ready = min(one.ready, other.ready, key=order.index)
    return one._replace(hits=hits, ready=ready, app=one.app if one.app == other.app else None)


def _all(workspace: Workspace) -> Iterator[Ending]:
    for provider in workspace.providers.values():
        apps = [app for app in workspace.apps.values() if workspace.provider_of(app) is provider]
        yield from _published(provider, apps, workspace)
        yield from _keys_of_tokens(provider, apps)
        yield from _metadata(provider, apps, workspace)
    yield from _of_hosts(workspace)
    for app in workspace.apps.values():
        yield from _pinned(app, workspace)
        yield from _own(app)
        yield from _secret(app)


def _of_hosts(workspace: Workspace) -> Iterator[Ending]:
    """The TLS certificates of hosts, as the last probes saw them."""
    for item in seen_tls(workspace.root) if workspace.root else ():
        yield Ending(
            at=item.not_after,
            kind=CERTIFICATE,
            what=f"TLS certificate of {item.host}",
            provider=None,
            app=None,
            purpose=TLS,
            sha256=item.sha256,
            file=f"{OWN_FOLDER}/{FILE}",
            where=Location(part=f"seen {item.seen:%Y-%m-%d}"),
            hits=tuple(Hit(app, "connects to it, or is it") for app in item.apps if app in workspace.apps),
            ready=UNKNOWN,
        )


def _published(provider: Provider, apps: list[App], workspace: Workspace) -> Iterator[Ending]:
    """The signing certificates of a provider."""
    keys = trust.published(provider, workspace)
    certificates = [key.certificate for key in keys if key.certificate]
    for key in keys:
        certificate = key.certificate
        if certificate is None:
            continue
        hit = [app for app in apps if app.settings.protocol == "saml" and _trusts(app, certificate, workspace)]
        follower = next_of(certificate, certificates)
        states = [state_of(app, follower, workspace).state for app in hit] if follower else []
        ready = UNKNOWN if follower is None else YES if all(state in (READY, FETCHES) for state in states) else NO
        yield Ending(
            at=certificate.not_after,
            kind=CERTIFICATE,
            what=f"signing certificate {_short(certificate)} of {provider.name}",
            provider=provider.id,
            app=None,
            purpose=SIGNING,
            sha256=str(certificate.sha256),
            file=key.file,
            where=key.where,
            hits=tuple(Hit(app.id, _how(app, workspace)) for app in hit),
            ready=ready,
        )


def _trusts(app: App, certificate: Certificate, workspace: Workspace) -> bool:
    pins = trust.pinned(app, workspace)
    return not pins or app.settings.application.saml.trust_from == "metadata" or trust.pins(pins, certificate)


def _how(app: App, workspace: Workspace) -> str:
    fetches = app.settings.application.saml.trust_from == "metadata" or not trust.pinned(app, workspace)
    return "takes it from the metadata" if fetches else "pins it"


def _pinned(app: App, workspace: Workspace) -> Iterator[Ending]:
    """Certificates that an application pins and its provider does not publish."""
    provider = workspace.provider_of(app)
    published = trust.published(provider, workspace) if provider else ()
    certificates = [key.certificate for key in published if key.certificate]
    pins = trust.pinned(app, workspace)
    for pin in pins:
        certificate = pin.certificate or _of_print(pin, workspace)
        if certificate is None or certificate in certificates:
            continue
        also = any(trust.pins(pins, other) for other in certificates)
        yield Ending(
            at=certificate.not_after,
            kind=CERTIFICATE,
            what=f"pinned certificate {_short(certificate)}",
            provider=provider.id if provider else None,
            app=app.id,
            purpose=SIGNING,
            sha256=str(certificate.sha256),
            file=pin.file,
            where=pin.where,
            hits=(Hit(app.id, "pins it" if pin.certificate else "pins its fingerprint"),),
            ready=YES if also else NO if certificates else UNKNOWN,
        )


def _of_print(pin: trust.RecordedKey, workspace: Workspace) -> Certificate | None:
    """The certificate on record anywhere that a pinned fingerprint is of."""
    for key in trust.everything(workspace) if pin.fingerprint else ():
        if key.certificate and pin.fingerprint and key.certificate.matches(pin.fingerprint):
            return key.certificate
    return None


def _own(app: App) -> Iterator[Ending]:
    """The certificates in an application's own metadata, and how long that is valid."""
    told = app.settings.application.saml
    keys: tuple[Key, ...] = app.role.keys if app.role else ()
    for key in keys:
        certificate = certificate_or_none(key.certificate.der)
        if certificate is None:
            continue
        for purpose in (SIGNING, ENCRYPTION) if key.use is None else (key.use,):
            how = "signs what it sends with it" if purpose == SIGNING else "is encrypted to with it"
            others = [certificate_or_none(other.certificate.der) for other in keys if other.use in (None, purpose)]
            follower = next_of(certificate, [other for other in others if other])
            yield Ending(
                at=certificate.not_after,
                kind=CERTIFICATE,
                what=f"{purpose} certificate {_short(certificate)} of {app.name}",
                provider=app.provider_id,
                app=app.id,
                purpose=purpose,
                sha256=str(certificate.sha256),
                file=told.metadata or "",
                where=key.where,
                hits=(Hit(app.id, how),),
                ready=YES if follower else UNKNOWN,
            )
    entity = app.entity
    if entity and entity.valid_until:
        yield _of_metadata(app.name, told.metadata, entity.where, entity.valid_until, (app,))._replace(app=app.id)


def _metadata(provider: Provider, apps: list[App], workspace: Workspace) -> Iterator[Ending]:
    entity = provider.entity
    if entity and entity.valid_until:
        hit = [
            app
            for app in apps
            if app.settings.protocol == "saml" and _how(app, workspace) == "takes it from the metadata"
        ]
        made = _of_metadata(provider.name, provider.settings.metadata, entity.where, entity.valid_until, hit)
        yield made._replace(provider=provider.id)


def _of_metadata(
    name: str, file: str | None, where: Location, at: datetime, apps: list[App] | tuple[App, ...]
) -> Ending:
    hits = tuple(Hit(app.id, "takes keys and addresses from it") for app in apps)
    return Ending(at, METADATA, f"metadata of {name}", None, None, None, None, file or "", where, hits, UNKNOWN)


def _keys_of_tokens(provider: Provider, apps: list[App]) -> Iterator[Ending]:
    """Keys of a key set that say when they end, by themselves or by their certificate."""
    hit = tuple(
        Hit(app.id, "verifies tokens with it")
        for app in apps
        if app.settings.protocol == "oidc" and not app.is_interface
    )
    for position, key in enumerate(provider.key_set):
        at, certificate = _end_of(key)
        if at is not None:
            yield Ending(
                at=at,
                kind=KEY_SET,
                what=f"key {key.id or position + 1} of {provider.name}",
                provider=provider.id,
                app=None,
                purpose=SIGNING,
                sha256=str(certificate.sha256) if certificate else None,
                file=provider.settings.key_set or "",
                where=Location(path=f"keys[{position + 1}]"),
                hits=hit,
                ready=YES if len(provider.key_set) > 1 else UNKNOWN,
            )


def _end_of(key: Jwk) -> tuple[datetime | None, Certificate | None]:
    told = key.members.get("exp")
    if isinstance(told, int | float) and not isinstance(told, bool):
        try:
            return datetime.fromtimestamp(told, UTC), None
        except (ValueError, OverflowError, OSError):
            return None, None
    certificate = key.certificate
    return (certificate.not_after, certificate) if certificate else (None, None)


def _secret(app: App) -> Iterator[Ending]:
    told = app.settings.application.oidc.secret_expires
    at = _moment(told)
    if at is not None:
        yield Ending(
            at=at,
            kind=SECRET,
            what=f"client secret of {app.name}",
            provider=app.provider_id,
            app=app.id,
            purpose=None,
            sha256=None,
            file=app.source.file,
            where=app.source.where("application", "secret_expires"),
            hits=(Hit(app.id, "proves with it who it is"),),
            ready=UNKNOWN,
        )


def _moment(told: date | datetime | str | None) -> datetime | None:
    try:
        return read_moment_or_date(str(told)) if told else None
    except MomentError:
        return None


def _short(certificate: Certificate) -> str:
    """The beginning of a fingerprint: enough to tell certificates of one name apart."""
    return certificate.sha256.hex[:8]
