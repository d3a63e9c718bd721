"""The change of a provider's signing key: which comes next, and which applications are ready for it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime

from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc.jwk import read_key_set, thumbprint
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.pki.certificates import Certificate
from trace_lens.workspace import trust
from trace_lens.workspace.records import App, Provider, Workspace
from trace_lens.workspace.snapshots import earlier

READY, FETCHES, NOT_READY, UNKNOWN = "ready", "fetches", "not-ready", "unknown"


class Readiness(NamedTuple):
    """Whether an application is ready for the next key: its `state`, and why."""

    app: str
    state: str
    because: str


class Rollover(NamedTuple):
    """A change of key that is under way: the next key (its certificate, or the id of a key of a key set), the file that
    publishes it, and each application.
    """

    provider: str
    next: Certificate | str
    file: str
    apps: tuple[Readiness, ...]


def next_of(certificate: Certificate, published: Sequence[Certificate]) -> Certificate | None:
    """The certificate that comes after one: of those that end later, the one that ends last; None where none does."""
    later = [other for other in published if other.not_after > certificate.not_after]
    return max(later, key=lambda other: (other.not_after, other.not_before), default=None)


def rollovers(workspace: Workspace, now: datetime) -> list[Rollover]:
    """Every change of key that is under way: a provider publishes several certificates that are still valid, or one of
    its applications pins another than the one that it publishes; or its key set holds several keys for signing.

    Raises SettingsError.
    """
    found = []
    for provider in workspace.providers.values():
        keys = [key for key in trust.published(provider, workspace) if key.certificate]
        valid = [key for key in keys if key.certificate and key.certificate.not_after > now]
        newest = max(valid, key=lambda key: _order(key.certificate), default=None)
        if newest is None or newest.certificate is None:
            continue
        apps = _of_provider(provider, workspace)
        others = any(_pins_another(app, newest.certificate, workspace) for app in apps)
        if len({key.certificate for key in valid}) > 1 or others:
            readiness = tuple(state_of(app, newest.certificate, workspace) for app in apps)
            found.append(Rollover(provider.id, newest.certificate, newest.file, readiness))
    return found + [change for provider in workspace.providers.values() for change in _of_key_set(provider, workspace)]


def _of_key_set(provider: Provider, workspace: Workspace) -> Iterator[Rollover]:
    """The change of a key for tokens: a key set holds several for signing. The next one is that which older snapshots
    do not hold; without them, the one that is listed last.
    """
    keys = [key for key in provider.key_set if key.for_signing and not key.problem]
    if len({thumbprint(key) for key in keys}) < 2:
        return
    before = _held_before(provider, workspace)
    new = [key for key in keys if before and thumbprint(key) not in before]
    coming = (new or keys)[-1]
    apps = [
        app
        for app in workspace.apps.values()
        if workspace.provider_of(app) is provider and app.settings.protocol == "oidc" and not app.is_interface
    ]
    yield Rollover(
        provider.id,
        coming.id or thumbprint(coming) or "a key without an id",
        provider.settings.key_set or "",
        tuple(
            Readiness(app.id, FETCHES, "it takes the key set from the discovery document")
            if app.settings.application.oidc.discovery_url
            else Readiness(app.id, UNKNOWN, "whether it fetches the key set anew is not on record")
            for app in apps
        ),
    )


def _held_before(provider: Provider, workspace: Workspace) -> set[str | None]:
    """The keys of the oldest snapshot of a key set; empty where there is none."""
    if workspace.root is None or not provider.settings.key_set:
        return set()
    for snapshot in earlier(workspace.root, provider.settings.key_set):
        try:
            return {thumbprint(key) for key in read_key_set(read_json(snapshot.read()).value)}
        except (OSError, JsonDamaged):
            continue
    return set()


def _pins_another(app: App, certificate: Certificate, workspace: Workspace) -> bool:
    usable = [pin for pin in trust.pinned(app, workspace) if pin.certificate or pin.fingerprint]
    return any(not trust.pins((pin,), certificate) for pin in usable)


def _order(certificate: Certificate | None) -> tuple[datetime, datetime]:
    assert certificate is not None
    return certificate.not_after, certificate.not_before


def _of_provider(provider: Provider, workspace: Workspace) -> list[App]:
    return [
        app
        for app in workspace.apps.values()
        if workspace.provider_of(app) is provider and app.settings.protocol == "saml"
    ]


def state_of(app: App, certificate: Certificate, workspace: Workspace) -> Readiness:
    """Whether an application is ready for a certificate."""
    pins = trust.pinned(app, workspace)
    if app.settings.application.saml.trust_from == "metadata":
        return Readiness(app.id, FETCHES, "it fetches the metadata anew by itself")
    if trust.pins(pins, certificate):
        return Readiness(app.id, READY, "it pins the next certificate")
    usable = [pin for pin in pins if pin.certificate or pin.fingerprint]
    if not pins:
        return Readiness(app.id, UNKNOWN, "nothing is on record of what it pins, or whether it fetches the metadata")
    if not usable:
        return Readiness(app.id, UNKNOWN, f"what it pins cannot be read: {pins[0].problem}")
    return Readiness(app.id, NOT_READY, "it pins other certificates only")
