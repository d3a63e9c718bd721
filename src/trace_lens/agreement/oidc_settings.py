"""Settings of an OpenID Connect client, held against what is set at the provider and what its discovery document says.

Sources: OpenID Connect Discovery 1.0 §3 and §4; RFC 8414 §2; RFC 6749 §3.1.2; RFC 8252 §7.3; RFC 7591 §2.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime

from trace_lens.agreement.missing import not_fetched_yet
from trace_lens.agreement.pairs import Pair, Value
from trace_lens.checks.comparing import closest
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.oidc.intended import WELL_KNOWN
from trace_lens.checks.oidc.redirected import same_redirect
from trace_lens.common.findings import Evidence, Finding, Severity, Side
from trace_lens.common.locations import Location
from trace_lens.common.moments import MomentError, read_moment_or_date, show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.oidc.algorithms import same_algorithm
from trace_lens.workspace import token_keys
from trace_lens.workspace.records import App, Provider, Workspace

OFFERED = (
    ("response_type", "response_types_supported"),
    ("response_mode", "response_modes_supported"),
    ("client_authentication", "token_endpoint_auth_methods_supported"),
    ("token_algorithm", "id_token_signing_alg_values_supported"),
    ("subject_type", "subject_types_supported"),
    ("scopes", "scopes_supported"),
    ("acr_values", "acr_values_supported"),
)
"""Settings of the application, and the member of the discovery document that lists what the provider offers."""


def in_app(app: App, key: str, text: str) -> Value:
    """A setting of the application with its place."""
    return Value(key, text, app.source.file, app.source.where("application", key))


def at_provider(app: App, key: str, text: str) -> Value:
    """A setting at the provider with its place."""
    return Value(key, text, app.source.file, app.source.where("provider_setup", key))


def of_issuer(provider: Provider) -> Value | None:
    """The provider's issuer with its place: as set, else as discovered."""
    if provider.issuer is None:
        return None
    if provider.settings.issuer:
        return Value("issuer", provider.issuer, provider.source.file, provider.source.where("issuer"))
    return Value(
        "issuer of the discovery document", provider.issuer, provider.settings.discovery or "", Location(path="/issuer")
    )


def in_discovery(provider: Provider, member: str, text: str) -> Value:
    """A value of the discovery document with its place."""
    return Value(member, text, provider.settings.discovery or provider.source.file, Location(path=f"/{member}"))


def client_pairs(app: App, workspace: Workspace) -> Iterator[Pair]:
    """Every item of which both sides hold a value."""
    provider = workspace.provider_of(app)
    mine, setup = app.settings.application, app.settings.provider_setup
    if mine.oidc.client_id and setup.client_id:
        yield Pair(
            "client_id",
            at_provider(app, "client_id", setup.client_id),
            in_app(app, "client_id", mine.oidc.client_id),
            Side.APPLICATION,
        )
    for url in mine.oidc.redirect_uris if setup.redirect_uris else ():
        if not any(same_redirect(text, url) for text in setup.redirect_uris):
            held = closest(url, setup.redirect_uris)
            yield Pair(
                "redirect_uris",
                in_app(app, "redirect_uris", url),
                at_provider(app, "redirect_uris", held),
                Side.PROVIDER,
            )
    issuer = of_issuer(provider) if provider else None
    if issuer and mine.oidc.provider_issuer:
        yield Pair("issuer", issuer, in_app(app, "provider_issuer", mine.oidc.provider_issuer), Side.APPLICATION)
    lacking = [
        scope
        for scope in mine.oidc.scopes
        if scope not in setup.scopes_granted and scope not in ("openid", "offline_access")
    ]
    if setup.scopes_granted and lacking:
        yield Pair(
            "scopes",
            in_app(app, "scopes", " ".join(mine.oidc.scopes)),
            at_provider(app, "scopes_granted", " ".join(setup.scopes_granted)),
            Side.PROVIDER,
        )


def of_client(app: App, workspace: Workspace) -> Iterator[Finding]:
    """What is wrong in a client's settings, besides what the two sides hold differently."""
    yield from _missing(app, workspace)
    yield from _shared(app, workspace)
    provider = workspace.provider_of(app)
    if provider and provider.discovery:
        yield from _offers(app, provider)
        yield from _endpoints(app, provider)
    if provider:
        yield from _discovered(app, provider)


def _missing(app: App, workspace: Workspace) -> Iterator[Finding]:
    mine, setup = app.settings.application, app.settings.provider_setup
    provider = workspace.provider_of(app)
    lacking: list[tuple[str, str, Side]] = []
    if app.provider_id is None:
        lacking.append(("provider", "no provider is named, so nothing tells whose tokens it trusts", Side.APPLICATION))
    if app.is_interface:
        if not mine.oidc.api_audience:
            lacking.append(
                ("application.api_audience", "the audience of its access tokens is not on record", Side.APPLICATION)
            )
    elif not mine.oidc.client_id:
        lacking.append(("application.client_id", "its client_id is not on record", Side.APPLICATION))
    if not app.is_interface and not mine.oidc.redirect_uris and not setup.redirect_uris:
        lacking.append(("application.redirect_uris", "its redirect URIs are not on record", Side.APPLICATION))
    if app.assignments is not None and not app.assignments:
        reason = "its list of assignments names nobody, so nobody may sign in"
        lacking.append(("provider_setup.assigned", reason, Side.PROVIDER))
    if provider and not provider.issuer and not mine.oidc.provider_issuer:
        lacking.append(("issuer", f"the issuer of {provider.name} is not on record", Side.PROVIDER))
    if provider and not any(key.key.for_signing for key in token_keys.published(provider, workspace)):
        lacking.append(("key_set", f"no signing key of {provider.name} is on record", Side.PROVIDER))
    yield from not_fetched_yet(app, provider)
    for key, reason, side in lacking:
        file = provider.source.file if provider and side is Side.PROVIDER else app.source.file
        yield finding(
            "setting-missing",
            say("{app_name}: {reason}.", app_name=app.name, reason=reason),
            side=side,
            expected=key,
            evidence=(Evidence(key, "(not set)", file, Location(part="not set")),),
        )


def _shared(app: App, workspace: Workspace) -> Iterator[Finding]:
    own = app.settings.application.oidc.client_id
    for other in workspace.apps.values():
        if (
            own
            and other is not app
            and other.settings.application.oidc.client_id == own
            and (other.provider_id == app.provider_id and other.settings.protocol == "oidc")
        ):
            yield finding(
                "identifier-shared",
                say(
                    "{app_name} and {other_name} have the same client_id {own}.",
                    app_name=app.name,
                    other_name=other.name,
                    own=own,
                ),
                actual=own,
                evidence=tuple(in_app(application, "client_id", own).evidence for application in (app, other)),
            )


def _offers(app: App, provider: Provider) -> Iterator[Finding]:
    """What the application asks for and the provider does not offer."""
    mine = app.settings.application.oidc
    for key, member in OFFERED:
        offers = provider.discovery.get(member)
        told = getattr(mine, key)
        if isinstance(offers, list):
            offered = [str(offer) for offer in offers]
            for value in told if isinstance(told, tuple) else (told,) if told else ():
                if not any(same_offer(key, value, text) for text in offered):
                    yield _not_offered(app, provider, key, member, value, offered)
    methods = provider.discovery.get("code_challenge_methods_supported")
    if mine.requires_pkce and isinstance(methods, list) and "S256" not in methods:
        listed = in_discovery(provider, "code_challenge_methods_supported", ", ".join(map(str, methods)) or "nothing")
        yield finding(
            "settings-disagree",
            say(
                "{app_name} asks for PKCE; the discovery document of {provider_name} does not list S256.",
                app_name=app.name,
                provider_name=provider.name,
            ),
            side=Side.PROVIDER,
            expected="S256",
            actual=listed.text,
            evidence=(in_app(app, "requires_pkce", "true").evidence, listed.evidence),
            setting="requires_pkce",
            compared=False,
        )


def _not_offered(app: App, provider: Provider, key: str, member: str, wanted: str, offered: list[str]) -> Finding:
    """One value that the application wants and the discovery document does not list; of scopes no list is whole."""
    listed_only = key == "scopes"
    return finding(
        "settings-disagree",
        say(
            "{key}: {app_name} wants {value}; {provider_name} offers {offered}.",
            key=key,
            app_name=app.name,
            value=wanted,
            provider_name=provider.name,
            offered=", ".join(offered) or "nothing",
        )
        + (" A provider need not list every scope that it grants." if listed_only else ""),
        severity=Severity.NOTE if listed_only else None,
        side=Side.APPLICATION,
        expected=", ".join(offered),
        actual=wanted,
        value_to_set=closest(wanted, offered) if offered and not listed_only else None,
        evidence=(in_app(app, key, wanted).evidence, in_discovery(provider, member, ", ".join(offered)).evidence),
        setting=key,
        compared=False,
    )


def same_offer(key: str, wanted: str, offered: str) -> bool:
    """Whether what an application wants and what a provider offers are one thing under a setting's key."""
    if key == "response_type":
        return sorted(wanted.split()) == sorted(offered.split())
    return same_algorithm(wanted, offered) if key == "token_algorithm" else wanted == offered


def _endpoints(app: App, provider: Provider) -> Iterator[Finding]:
    """Endpoints that the application uses and the discovery document lacks."""
    mine = app.settings.application
    kinds = (mine.oidc.response_type or "code").split()
    uses = ["authorization_endpoint", "jwks_uri"]
    if "code" in kinds:
        uses.insert(1, "token_endpoint")
    if mine.sign_out_url:
        uses.append("end_session_endpoint")
    file = provider.settings.discovery or ""
    for member in uses:
        if not provider.discovery.get(member):
            yield finding(
                "endpoint-missing",
                say(
                    "{app_name} uses the {replace}, and {provider_name}'s discovery document has none.",
                    app_name=app.name,
                    replace=member.replace("_", " "),
                    provider_name=provider.name,
                ),
                expected=member,
                evidence=(Evidence(member, "not there", file, Location(part="the whole")),),
            )
    told, listed = mine.provider_sso_url, provider.discovery.get("authorization_endpoint")
    if told and isinstance(listed, str) and told != listed:
        yield guessed(provider, told, listed, in_app(app, "provider_sso_url", told).evidence)


def guessed(provider: Provider, used: str, listed: str | None, evidence: Evidence) -> Finding:
    """The finding for an address that stands in no document of the provider."""
    return finding(
        "endpoint-guessed",
        say("{used} is in no document of {provider_name}", used=used, provider_name=provider.name)
        + (say("; the nearest there is {listed}.", listed=listed) if listed else "."),
        side=Side.APPLICATION,
        expected=listed,
        actual=used,
        value_to_set=listed,
        evidence=(evidence,),
    )


_CALLS = {
    "authorization-request": ("authorization_endpoint", "pushed_authorization_request_endpoint"),
    "token-request": ("token_endpoint",),
    "logout-request": ("end_session_endpoint",),
}


def endpoints_called(case: OidcCase) -> Iterator[Finding]:
    """Captured requests to addresses that the provider's discovery document does not have."""
    provider = case.provider
    if provider is None or not provider.discovery:
        return
    for message in case.attempt.messages:
        address = message.parameters.address if message.parameters else None
        to_application = message.kind == "logout-request" and message.get("iss") is not None
        if address is None or message.kind not in _CALLS or to_application:
            continue
        listed = [str(url) for member in _CALLS[message.kind] if (url := provider.discovery.get(member))]
        evidence = Evidence("address", address, message.source, message.place, exchange=message.exchange)
        if not listed:
            yield finding(
                "endpoint-missing",
                say(
                    "The {replace} went to {address}; the discovery document of {provider_name} has no {replace_2}.",
                    replace=message.kind.replace("-", " "),
                    address=address,
                    provider_name=provider.name,
                    replace_2=_CALLS[message.kind][0].replace("_", " "),
                ),
                expected=_CALLS[message.kind][0],
                evidence=(evidence,),
            )
        elif address not in listed:
            yield guessed(provider, address, closest(address, listed), evidence)


def _discovered(app: App, provider: Provider) -> Iterator[Finding]:
    """The issuer of the discovery document against the address it came from, and against what is set."""
    listed = provider.discovery.get("issuer")
    url = app.settings.application.oidc.discovery_url
    told = listed if isinstance(listed, str) else provider.settings.issuer
    if not isinstance(told, str):
        return
    place = Evidence(
        "issuer",
        told,
        (provider.settings.discovery or "") if listed else provider.source.file,
        Location(path="/issuer") if listed else provider.source.where("issuer"),
    )
    if url and (not url.endswith(WELL_KNOWN) or url.removesuffix(WELL_KNOWN) != told.rstrip("/")):
        yield finding(
            "discovery-issuer-mismatch",
            say(
                "{app_name} fetches {url}; the document of the issuer {told} is at {rstrip}{WELL_KNOWN}.",
                app_name=app.name,
                url=url,
                told=told,
                rstrip=told.rstrip("/"),
                WELL_KNOWN=WELL_KNOWN,
            ),
            side=Side.APPLICATION,
            expected=told.rstrip("/") + WELL_KNOWN,
            actual=url,
            value_to_set=told.rstrip("/") + WELL_KNOWN,
            evidence=(in_app(app, "discovery_url", url).evidence, place),
        )
    own = provider.settings.issuer
    if listed and own and own != listed:
        yield finding(
            "discovery-issuer-mismatch",
            say(
                "The discovery document names the issuer {listed}; on record for {provider_name} is {own}.",
                listed=listed,
                provider_name=provider.name,
                own=own,
            ),
            side=Side.PROVIDER,
            expected=own,
            actual=told,
            evidence=(place, Evidence("issuer", own, provider.source.file, provider.source.where("issuer"))),
        )


def secret_dates(app: App, now: datetime) -> Iterator[Finding]:
    """The end of the client secret, where it lies behind or within the warning days."""
    told = app.settings.application.oidc.secret_expires
    try:
        ends = read_moment_or_date(str(told)) if told else None
    except MomentError:
        return
    if ends is None or ends - now > app.warn_before:
        return
    code, words = ("client-secret-expiring", say("ends in {ends}", ends=show_duration(ends - now)))
    if ends <= now:
        code, words = ("client-secret-expired", say("ended {now} ago", now=show_duration(now - ends)))
    yield finding(
        code,
        say("The client secret of {app_name} {words}.", app_name=app.name, words=words),
        severity=Severity.RISK,
        actual=show_moment(ends),
        evidence=(in_app(app, "secret_expires", str(told)).evidence,),
    )
