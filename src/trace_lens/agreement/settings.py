"""Settings: the values that both sides must share, compared without any capture.

`of_app` gives all findings of one application; `beside` picks those that explain what a diagnosis found.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from trace_lens.agreement.keys import pinned_keys, signed_metadata
from trace_lens.agreement.missing import not_fetched_yet
from trace_lens.agreement.pairs import Pair, Value
from trace_lens.checks.entitled import lacks_ordinary_role
from trace_lens.common.difference import is_near
from trace_lens.common.findings import Evidence, Finding, Severity, Side, Stage
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.workspace import trust
from trace_lens.workspace.private_keys import beside_key, certificate_key_print, decryption_key, own_print
from trace_lens.workspace.records import EVERYONE, App, Workspace

STAGE = Stage.SETTINGS


def of_app(app: App, workspace: Workspace, now: datetime) -> list[Finding]:
    """All findings about one application's settings, as of `now`."""
    found: list[Finding] = []
    if app.settings.protocol == "oidc":
        from trace_lens.agreement.oidc_settings import of_client, secret_dates

        for ask in (disagreements, of_client, _open_doors):
            found += ask(app, workspace)
        return found + list(secret_dates(app, now))
    for ask in (disagreements, _missing, _shared, pinned_keys, signed_metadata, _open_doors):
        found += ask(app, workspace)
    return found + list(_dates(app, workspace, now))


def pairs(app: App, workspace: Workspace) -> Iterator[Pair]:
    """Every item of which both sides hold a value."""
    if app.settings.protocol == "oidc":
        from trace_lens.agreement.oidc_settings import client_pairs

        yield from client_pairs(app, workspace)
        return
    provider = workspace.provider_of(app)
    mine, setup = app.settings.application, app.settings.provider_setup
    identity = _in_app(app, "entity_id", mine.saml.entity_id) or _own_metadata(app)
    copied = _setup(app, "audience", setup.audience)
    if identity and copied:
        yield Pair("audience", identity, copied, Side.PROVIDER)
    acs = [found for url in app.acs_urls if (found := _in_app(app, "acs_urls", url))]
    copied = _setup(app, "acs_url", setup.acs_url)
    if acs and copied:
        same = next((value for value in acs if value.text == copied.text), acs[0])
        yield Pair("acs_url", same, copied, Side.PROVIDER)
    wanted = _in_app(app, "name_id_format", mine.saml.name_id_format)
    copied = _setup(app, "name_id_format", setup.name_id_format)
    if wanted and copied:
        yield Pair("name_id_format", wanted, copied, Side.PROVIDER)
    copied = _in_app(app, "provider_entity_id", mine.saml.provider_entity_id)
    if provider and provider.entity_id and copied:
        file, where = provider.where_entity_id()
        yield Pair(
            "issuer", Value("entity ID of the provider", provider.entity_id, file, where), copied, Side.APPLICATION
        )
    copied = _in_app(app, "provider_sso_url", mine.provider_sso_url)
    urls = provider.sign_on_urls if provider else ()
    if provider and urls and copied:
        url = copied.text if copied.text in urls else urls[0]
        file = provider.settings.metadata or provider.source.file
        yield Pair(
            "sso_url",
            Value("single sign-on URL", url, file, Location(path="SingleSignOnService")),
            copied,
            Side.APPLICATION,
        )
    yield from _own_pairs(app)
    yield from _key_pairs(app, workspace)
    if provider and provider.role and provider.role.wants_signed_requests and mine.saml.signs_requests is False:
        wants = Value(
            "WantAuthnRequestsSigned", "true", provider.settings.metadata or "", Location(path="IDPSSODescriptor")
        )
        yield Pair("signed requests", wants, _in_app(app, "signs_requests", "false") or wants, Side.APPLICATION)
    if app.entity and mine.saml.entity_id and mine.saml.metadata:
        yield Pair(
            "entity_id",
            Value("entityID of the application's metadata", app.entity.entity_id, mine.saml.metadata, app.entity.where),
            Value("entity_id", mine.saml.entity_id, app.source.file, app.source.where("application", "entity_id")),
            Side.APPLICATION,
        )


def _own_pairs(app: App) -> Iterator[Pair]:
    """What is set for the application and what its own metadata says: addresses that the metadata does not have."""
    mine, role = app.settings.application, app.role
    for key, purpose, texts in (
        ("acs_urls", "AssertionConsumerService", mine.saml.acs_urls),
        ("sign_out_url", "SingleLogoutService", (mine.sign_out_url,) if mine.sign_out_url else ()),
    ):
        listed = [endpoint for endpoint in (role.endpoints if role else ()) if endpoint.purpose == purpose]
        for text in texts:
            own = _in_app(app, key, text)
            if listed and own and text not in {endpoint.location for endpoint in listed}:
                near = next((endpoint for endpoint in listed if is_near(endpoint.location, text)), listed[0])
                file = mine.saml.metadata or ""
                told = Value(f"{purpose} in the application's metadata", near.location, file, near.where)
                yield Pair(key, told, own, Side.APPLICATION)


def _key_pairs(app: App, workspace: Workspace) -> Iterator[Pair]:
    """The key that opens what is encrypted, and the one that the application's metadata tells others to encrypt to."""
    role = app.role
    published = [
        (found, key)
        for key in (role.encryption_keys if role else ())
        if (found := certificate_key_print(key.certificate.der))
    ]
    if app.settings.application.decryption_key is None:
        return
    private = decryption_key(app, workspace)
    own = own_print(app, private.public_key()) if private else None
    if own is None:
        return
    kept_beside = beside_key(app)
    if kept_beside and not kept_beside[1]:
        file = app.settings.application.decryption_key
        told = Value(
            "key that the certificate in that file certifies", kept_beside[0], file, Location(part="the certificate")
        )
        yield Pair(
            "encryption key",
            told,
            Value("decryption_key", own, file, Location(part="the private key")),
            Side.APPLICATION,
        )
    if published and own not in {found for found, _ in published}:
        told = Value(
            "public key in the application's metadata",
            published[0][0],
            app.settings.application.saml.metadata or "",
            published[0][1].where,
        )
        held = Value("decryption_key", own, app.source.file, app.source.where("application", "decryption_key"))
        yield Pair("encryption key", told, held, Side.APPLICATION)


def _in_app(app: App, key: str, text: str | None) -> Value | None:
    return Value(key, text, app.source.file, app.source.where("application", key)) if text else None


def _own_metadata(app: App) -> Value | None:
    name = app.settings.application.saml.metadata
    return Value("entityID", app.entity.entity_id, name, app.entity.where) if app.entity and name else None


def _setup(app: App, key: str, text: str | None) -> Value | None:
    return Value(key, text, app.source.file, app.source.where("provider_setup", key)) if text else None


def disagreements(app: App, workspace: Workspace) -> Iterator[Finding]:
    for pair in pairs(app, workspace):
        if pair.owner.text == pair.copy.text:
            continue
        belongs = misplaced(app, workspace, pair.item, pair.copy.text)
        if belongs:
            yield finding(
                "setting-misplaced",
                say(
                    "{meant} at the {copying_side} holds {copy_text}, which is {belongs}.",
                    meant=pair.copy.meant,
                    copying_side=pair.copying_side,
                    copy_text=pair.copy.text,
                    belongs=belongs,
                ),
                side=pair.copying_side,
                expected=pair.owner.text,
                actual=pair.copy.text,
                value_to_set=pair.owner.text,
                evidence=(pair.copy.evidence, pair.owner.evidence),
                setting=pair.copy.meant,
            )
        else:
            yield finding(
                "settings-disagree",
                say(
                    "{item}: {meant} is {owner_text}; {meant_2} at the {copying_side} is {copy_text}.",
                    item=pair.item,
                    meant=pair.owner.meant,
                    owner_text=pair.owner.text,
                    meant_2=pair.copy.meant,
                    copying_side=pair.copying_side,
                    copy_text=pair.copy.text,
                ),
                side=pair.copying_side,
                expected=pair.owner.text,
                actual=pair.copy.text,
                value_to_set=pair.owner.text,
                evidence=(pair.copy.evidence, pair.owner.evidence),
                setting=pair.copy.meant,
            )


def misplaced(app: App, workspace: Workspace, item: str, text: str) -> str | None:
    """What a value really is, where it is one that belongs in another field than `item`; else None."""
    provider = workspace.provider_of(app)
    mine = app.settings.application
    meanings: dict[str, tuple[str, set[str | None]]] = {
        "acs_url": ("the ACS URL", set(app.acs_urls)),
        "audience": ("the entity ID of the application", {app.entity_id}),
        "sign_in_url": ("the sign-in URL of the application", {mine.sign_in_url}),
        "sign_out_url": ("the sign-out URL of the application", set(app.sign_out_urls)),
        "issuer": ("the entity ID of the provider", {provider.entity_id if provider else None}),
        "sso_url": ("the sign-on URL of the provider", set(provider.sign_on_urls if provider else ())),
        "provider_sign_out_url": ("the sign-out URL of the provider", set(provider.sign_out_urls if provider else ())),
        "relay_state": ("the default relay state", {mine.saml.relay_state}),
        "name_id_format": ("a name identifier format", {mine.saml.name_id_format}),
        "metadata": ("the name of a metadata file", {mine.saml.metadata}),
    }
    if app.settings.protocol == "oidc":
        issuer = provider.issuer if provider else None
        meanings = {
            "client_id": ("the client_id", {mine.oidc.client_id, app.settings.provider_setup.client_id}),
            "redirect_uris": ("a redirect URI", {*mine.oidc.redirect_uris, *app.settings.provider_setup.redirect_uris}),
            "sign_in_url": ("the sign-in URL of the application", {mine.sign_in_url}),
            "issuer": ("the issuer of the provider", {issuer}),
            "discovery_url": ("the address of the discovery document", {mine.oidc.discovery_url}),
            "api_audience": ("the audience of access tokens", set(mine.oidc.api_audience)),
        }
    own = meanings.get(_SAME_FIELD.get(item, item), ("", set()))[1]
    for name, (words, values) in meanings.items():
        if name != _SAME_FIELD.get(item, item) and text in values and text not in own:
            return words
    if item in ("audience", "acs_url", "acs_urls", "entity_id"):
        for what, others in (("entity ID", workspace.apps_called(text)), ("ACS URL", workspace.apps_at(text))):
            for other in others:
                if other is not app:
                    return f"the {what} of {other.name}"
    return None


_SAME_FIELD = {"acs_urls": "acs_url", "entity_id": "audience", "provider_issuer": "issuer"}


def _missing(app: App, workspace: Workspace) -> Iterator[Finding]:
    """Values without which a sign-in cannot be judged, or cannot work."""
    mine = app.settings.application
    lacking: list[tuple[str, str, Side]] = []
    if app.provider_id is None:
        lacking.append(
            ("provider", "no provider is named, so nothing tells whose messages it trusts", Side.APPLICATION)
        )
    if not app.entity_id:
        lacking.append(("application.entity_id", "its entity ID is not on record", Side.APPLICATION))
    if not app.acs_urls:
        lacking.append(("application.acs_urls", "its ACS URL is not on record", Side.APPLICATION))
    if app.assignments is not None and not app.assignments:
        reason = "its list of assignments names nobody, so nobody may sign in"
        lacking.append(("provider_setup.assigned", reason, Side.PROVIDER))
    provider = workspace.provider_of(app)
    if provider and not provider.entity_id and not mine.saml.provider_entity_id:
        lacking.append(("entity_id", f"the entity ID of {provider.name} is not on record", Side.PROVIDER))
    if provider and not trust.published(provider, workspace) and not mine.saml.trusted_certificates:
        lacking.append(("certificates", f"no signing certificate of {provider.name} is on record", Side.PROVIDER))
    if app.sign_out_urls and provider and provider.role and not provider.sign_out_urls:
        yield finding(
            "endpoint-missing",
            say(
                "{app_name} has a sign-out URL, and the metadata of {provider_name} has no SingleLogoutService.",
                app_name=app.name,
                provider_name=provider.name,
            ),
            expected="SingleLogoutService",
            evidence=(
                Evidence(
                    "sign_out_url",
                    app.sign_out_urls[0],
                    app.source.file,
                    app.source.where("application", "sign_out_url"),
                )
                if mine.sign_out_url
                else Evidence(
                    "SingleLogoutService",
                    app.sign_out_urls[0],
                    mine.saml.metadata or "",
                    Location(path="SPSSODescriptor"),
                ),
            ),
        )
    yield from not_fetched_yet(app, workspace.provider_of(app))
    for key, reason, side in lacking:
        yield finding(
            "setting-missing",
            say("{app_name}: {reason}.", app_name=app.name, reason=reason),
            side=side,
            expected=key,
            evidence=(Evidence(key, "(not set)", _file_of(app, workspace, side), Location(part="not set")),),
        )


def _file_of(app: App, workspace: Workspace, side: Side) -> str:
    provider = workspace.provider_of(app)
    return provider.source.file if provider and side is Side.PROVIDER else app.source.file


def _shared(app: App, workspace: Workspace) -> Iterator[Finding]:
    others = [
        application
        for application in workspace.apps.values()
        if application is not app and app.entity_id and application.entity_id == app.entity_id
    ]
    for other in others:
        yield finding(
            "identifier-shared",
            say(
                "{app_name} and {other_name} have the same identifier {entity_id}.",
                app_name=app.name if app.name != other.name else f"{app.name} ({app.source.file})",
                other_name=other.name if app.name != other.name else f"{other.name} ({other.source.file})",
                entity_id=app.entity_id,
            ),
            actual=app.entity_id,
            evidence=tuple(
                Evidence(
                    "entity_id",
                    application.entity_id or "",
                    application.source.file,
                    application.source.where("application", "entity_id"),
                )
                for application in (app, other)
            ),
        )


def _open_doors(app: App, workspace: Workspace) -> Iterator[Finding]:
    if app.settings.application.password_sign_in:
        yield finding(
            "password-sign-in-open",
            say("{app_name} still lets users in with a local password, past single sign-on.", app_name=app.name),
            value_to_set="false",
            evidence=(_setting(app, "true", "application", "password_sign_in"),),
        )
    if app.settings.provider_setup.assigned == EVERYONE:
        yield finding(
            "sign-in-left-open",
            say("Everyone in the directory may sign in to {app_name}.", app_name=app.name),
            evidence=(_setting(app, EVERYONE, "provider_setup", "assigned"),),
        )
    for row in app.assignments or ():
        name = row.user or row.group or ""
        if name.casefold().split("@")[0].rstrip("0123456789").strip(".-_") in (
            "test",
            "test-user",
            "testuser",
            "sso-test",
        ):
            yield finding(
                "sign-in-left-open",
                say("{name}, by its name a test, is still assigned to {app_name}.", name=name, app_name=app.name),
                actual=name,
                evidence=(
                    Evidence("assigned", name, app.settings.provider_setup.assigned or "", Location(line=row.line)),
                ),
            )
    for position, claim in enumerate(app.settings.claims):
        if lacks_ordinary_role(claim):
            yield finding(
                "ordinary-role-missing",
                say(
                    "Every role that {app_name} knows is elevated ({one_of}), so whoever is let in is powerful.",
                    app_name=app.name,
                    one_of=", ".join(claim.one_of),
                ),
                actual=", ".join(claim.one_of),
                evidence=(_setting(app, ", ".join(claim.one_of), "claims", position, "one_of"),),
            )


def _setting(app: App, text: str, *path: str | int) -> Evidence:
    return Evidence(str(path[-1]), text, app.source.file, app.source.where(*path))


def _dates(app: App, workspace: Workspace, now: datetime) -> Iterator[Finding]:
    """What has ended, or ends within the warning days."""
    provider = workspace.provider_of(app)
    for entity, file in (
        (provider.entity if provider else None, (provider.settings.metadata if provider else None) or ""),
        (app.entity, app.settings.application.saml.metadata or ""),
    ):
        if entity and entity.valid_until and entity.valid_until <= now:
            yield finding(
                "metadata-expired",
                say(
                    "The metadata in {file} was valid until {valid_until}.",
                    file=file,
                    valid_until=show_moment(entity.valid_until),
                ),
                actual=show_moment(entity.valid_until),
                evidence=(Evidence("validUntil", show_moment(entity.valid_until), file, entity.where),),
            )
    pins = trust.pinned(app, workspace)
    published = trust.published(provider, workspace) if provider else ()
    trusted = pins if pins and app.settings.application.saml.trust_from != "metadata" else published
    for key in trusted:
        certificate = key.certificate
        if certificate is None:
            continue
        left = certificate.not_after - now
        if left.total_seconds() < 0:
            code, words = "certificate-expired", say("ended {value} ago", value=show_duration(-left))
        elif left <= app.warn_before:
            code, words = "certificate-expiring", say("ends in {left}", left=show_duration(left))
        else:
            continue
        strict = code == "certificate-expired" and app.checks_certificate_dates
        yield finding(
            code,
            say(
                "The certificate in {file}, which {app_name} trusts, {words}.",
                file=key.file,
                app_name=app.name,
                words=words,
            ),
            severity=Severity.BREAK if strict else Severity.RISK,
            actual=show_moment(certificate.not_after),
            evidence=(Evidence("certificate", str(certificate.sha256), key.file, key.where),),
        )
