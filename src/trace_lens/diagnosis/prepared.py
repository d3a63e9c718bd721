"""What sound messages of each application are compared with: made once, for those that one comparison can judge."""

from __future__ import annotations

from collections.abc import Callable
from datetime import timedelta

from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.choosing import identities
from trace_lens.diagnosis.sound import knows
from trace_lens.saml.names import FORMAT_UNSPECIFIED
from trace_lens.workspace import trust
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.records import App, Provider, Workspace


class Prepared(NamedTuple):
    """What messages for one application are compared with."""

    app: App
    provider: Provider
    issuer: str
    acs_urls: frozenset[str]
    keys: list[PublicKeyTypes]
    signed: frozenset[str]
    name_format: str | None
    unsolicited: bool
    contexts: frozenset[str]
    skew: timedelta
    knows: Callable[[str], bool]
    assigned: frozenset[str] | None


def prepared(workspace: Workspace) -> dict[str, Prepared]:
    """The applications whose messages can be judged here, by their identifier. Raises SettingsError."""
    return workspace.once("prepared", lambda: _all_prepared(workspace))


def _all_prepared(workspace: Workspace) -> dict[str, Prepared]:
    known = identities(workspace)
    found = {}
    for identity in known:
        app = identity.app
        if app.settings.protocol != "saml" or app.is_interface or app.entity_id is None:
            continue
        if sum(app.entity_id in other.names for other in known if other.app.settings.protocol == "saml") != 1:
            continue
        try:
            made = _prepare(app, workspace)
        except SettingsError:
            continue  # the full judge says what is wrong with it
        if made:
            found[app.entity_id] = made
    return found


def _prepare(app: App, workspace: Workspace) -> Prepared | None:
    provider, told = workspace.provider_of(app), app.settings.application.saml
    if provider is None or not provider.entity_id or not app.acs_urls or app.checks_certificate_dates:
        return None
    others = [other for other in workspace.providers.values() if provider.entity_id in other.identifiers]
    if told.provider_entity_id not in (None, provider.entity_id) or others != [provider]:
        return None
    pins = trust.pinned(app, workspace)
    held = pins if pins and told.trust_from != "metadata" else trust.published(provider, workspace)
    if any(key.problem or key.repairs for key in (*pins, *held)) or any(key.certificate is None for key in held):
        return None
    signed = {"either": ("assertion", "response")}.get(told.signed_part, (told.signed_part,))
    declared = app.settings.provider_setup.assigned
    rows = app.assignments if declared not in (None, "everyone") else None
    return Prepared(
        app=app,
        provider=provider,
        issuer=provider.entity_id,
        acs_urls=frozenset(app.acs_urls),
        keys=[key.certificate.public_key for key in held if key.certificate],
        signed=frozenset(signed),
        name_format=told.name_id_format if told.name_id_format != FORMAT_UNSPECIFIED else None,
        unsolicited=told.accepts_unsolicited is not False,
        contexts=frozenset(told.authn_contexts),
        skew=app.clock_skew,
        knows=knows(app, workspace),
        assigned=None if rows is None else frozenset(row.user.casefold() for row in rows if row.user),
    )
