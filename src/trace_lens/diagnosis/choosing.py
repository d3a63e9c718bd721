"""Which application a message belongs to: by audience, destination and issuer, and how that was told."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.journeys import Hop
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.attempts.saml import SamlAttempt
from trace_lens.common import limits
from trace_lens.common.addresses import host_of
from trace_lens.common.difference import is_near
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import forms_of
from trace_lens.intake.layers import ADDRESS
from trace_lens.oidc.jose import Jwe
from trace_lens.oidc.tokens import texts
from trace_lens.saml.artifact import Artifact
from trace_lens.saml.messages import AuthnRequest, LogoutRequest, LogoutResponse
from trace_lens.workspace.private_keys import readable_key
from trace_lens.workspace.records import App, Provider, Workspace


class Choice(NamedTuple):
    """The application and provider chosen. `by` is option, audience, destination, issuer or key; `candidates` name the
    applications between which nothing decides.
    """

    app: App | None
    provider: Provider | None
    by: str | None
    candidates: tuple[str, ...] = ()


def choose(attempt: Attempt, workspace: Workspace, app: str | None = None, provider: str | None = None) -> Choice:
    """Choose the application of an attempt; `app` and `provider` name those that the user has told.

    Raises KeyError where a name that was told is not on record.
    """
    told = workspace.providers[provider] if provider else None
    if app:
        chosen = workspace.apps[app]
        return Choice(chosen, told or workspace.provider_of(chosen), "option")
    clues = _OidcClues(attempt) if isinstance(attempt, OidcAttempt) else _SamlClues(attempt)
    protocol = "oidc" if isinstance(attempt, OidcAttempt) else "saml"
    if attempt.way is not None or clues.sealed or clues.artifact:
        return _chosen(attempt, clues, protocol, workspace, told)
    # By its clues alone: what was chosen for the same ones before is chosen again, however many applications there are.
    made: dict[object, Choice] = workspace.once("choices", dict)
    key = (protocol, provider, *map(frozenset, (clues.audiences, clues.destinations, clues.issuers)))
    if key not in made:
        if len(made) >= limits.CHOICES:
            made.clear()
        made[key] = _chosen(attempt, clues, protocol, workspace, told)
    return made[key]


def _chosen(attempt: Attempt, clues: _Clues, protocol: str, workspace: Workspace, told: Provider | None) -> Choice:
    by_issuer = told or clues.provider(workspace)
    known = identities(workspace)
    fitting = [identity for identity in known if identity.app.settings.protocol == protocol]
    fitting = [identity for identity in fitting if told is None or identity.app.provider_id == told.id]
    scored = [(identity.app, clues.exact(identity)) for identity in fitting]
    if not any(clues.of_audience(identity) for identity in fitting):
        scored = [
            (identity.app, clues.near(identity) or exact) for identity, (_, exact) in zip(fitting, scored, strict=True)
        ]
    most = max((found.points for _, found in scored), default=0)
    best = [(app, found) for app, found in scored if found.points == most > 0]
    if not best and clues.sealed:
        found = _by_key(clues.sealed, [identity.app for identity in fitting])
        if found:
            return Choice(found, told or workspace.provider_of(found), "key")
    if not best and attempt.way:
        touched = {host for hop in attempt.way.hops for host in _hosts_at(hop)}
        best = [(identity.app, _Score(1, "destination")) for identity in fitting if touched & identity.hosts]
    if len(best) != 1:
        # That several trust its issuer makes none of them fit a message that is made out to another.
        by_issuer_alone = bool(clues.audiences) and all(found.by == "issuer" for _, found in best)
        return Choice(None, by_issuer, None, () if by_issuer_alone else tuple(app.id for app, _ in best))
    chosen, score = best[0]
    return Choice(chosen, told or workspace.provider_of(chosen), score.by)


def _hosts_at(hop: Hop) -> Iterator[str]:
    """The hosts that a hop was at, or was to lead to: by a redirect, or by a form that its page sends off."""
    exchange = hop.exchange
    yield exchange.host
    for address in (exchange.redirects_to, *(form.action for form in forms_of(exchange) if form.by_itself)):
        if address:
            yield host_of(address)


def _by_key(sealed: list[Jwe], apps: list[App]) -> App | None:
    """The one application whose key opens what is encrypted; else the only one that has a key at all."""
    keyed = [(app, key) for app in apps if (key := readable_key(app)) is not None]
    opening = [app for app, key in keyed if any(_opens(jwe, key) for jwe in sealed)]
    chosen = opening or [app for app, _ in keyed]
    return chosen[0] if len(chosen) == 1 else None


def _opens(jwe: Jwe, key: object) -> bool:
    from trace_lens.oidc.encryption import Broken, NotForKey, Refused, decrypt

    try:
        return bool(decrypt(jwe, key))
    except (Refused, NotForKey, Broken):
        return False


class _Identity(NamedTuple):
    """What an application is known by."""

    app: App
    names: frozenset[str]
    addresses: frozenset[str]
    issuers: frozenset[str]

    @property
    def hosts(self) -> set[str]:
        """The hosts of its addresses, the one where people begin among them."""
        told = self.app.settings.application.sign_in_url
        return {host for address in (*self.addresses, told or "") if (host := host_of(address))}


def identities(workspace: Workspace) -> list[_Identity]:
    """What each application on record is known by."""
    return workspace.once("identities", lambda: _identities(workspace))


def protocol_at(hosts: set[str], workspace: Workspace, app: str | None = None) -> str:
    """The protocol of the application that was told, else of the one that has one of these hosts; else `saml`."""
    if app in workspace.apps:
        return workspace.apps[app].settings.protocol
    return next(
        (identity.app.settings.protocol for identity in identities(workspace) if identity.hosts & hosts), "saml"
    )


class _Score(NamedTuple):
    """How well an application fits, and by which clue first of all."""

    points: int
    by: str


def _identities(workspace: Workspace) -> list[_Identity]:
    found = []
    for app in workspace.apps.values():
        provider = workspace.provider_of(app)
        told = app.settings.application
        if app.settings.protocol == "saml":
            setup = app.settings.provider_setup
            names: set[str | None] = {app.entity_id, setup.audience}
            addresses = {*app.acs_urls, *app.sign_out_urls, *([setup.acs_url] if setup.acs_url else [])}
            set_in_app = told.saml.provider_entity_id
        else:
            names = {told.oidc.client_id, app.settings.provider_setup.client_id, *told.oidc.api_audience}
            addresses = {*told.oidc.redirect_uris, *app.settings.provider_setup.redirect_uris}
            set_in_app = told.oidc.provider_issuer
        issuers = {*([set_in_app] if set_in_app else []), *(provider.identifiers if provider else ())}
        known = frozenset(name for name in names if name)
        found.append(_Identity(app, known, frozenset(addresses), frozenset(issuers)))
    return found


def _sum(*clues: tuple[int, str, bool]) -> _Score:
    """The points of all clues that hold, and the name of the first one."""
    holding = [(points, by) for points, by, holds in clues if holds and points]
    return _Score(sum(points for points, _ in holding), holding[0][1] if holding else "")


class _Clues:
    """What a message says of where it belongs, before anything in it is trusted."""

    audiences: set[str]
    destinations: set[str]
    issuers: set[str]
    artifact: Artifact | None = None
    sealed: list[Jwe]
    """Encrypted tokens, where nothing else tells."""

    def of_audience(self, identity: _Identity) -> bool:
        """Whether the message is made out to this application, to the letter."""
        return not self.audiences.isdisjoint(identity.names)

    def exact(self, identity: _Identity) -> _Score:
        """The fit by values that are equal to the letter, each in its own field or, for less, in the other's."""
        return _sum(
            (32, "audience", self.of_audience(identity)),
            (16, "destination", not self.destinations.isdisjoint(identity.addresses)),
            (8, "audience", not self.audiences.isdisjoint(identity.addresses)),
            (4, "destination", not self.destinations.isdisjoint(identity.names)),
            (2, "issuer", not self.issuers.isdisjoint(identity.issuers)),
        )

    def near(self, identity: _Identity) -> _Score | None:
        """The fit with values that are nearly equal too; None where none is."""
        audience = any(is_near(name, other) for name in identity.names for other in self.audiences)
        destination = any(is_near(url, other) for url in identity.addresses for other in self.destinations)
        if not audience and not destination:
            return None
        exact = self.exact(identity)
        score = _sum((8, "audience", audience), (exact.points, exact.by, True), (4, "destination", destination))
        return score._replace(by=score.by or exact.by)

    def provider(self, workspace: Workspace) -> Provider | None:
        """The provider on record that the message's issuer names."""
        for provider in workspace.providers.values():
            if self.issuers & set(provider.identifiers):
                return provider
            if self.artifact and any(self.artifact.is_of(name) for name in provider.identifiers):
                return provider
        return None


class _OidcClues(_Clues):
    """Clues of OpenID Connect messages: client and redirect URI of requests, audience and issuer of tokens."""

    def __init__(self, attempt: OidcAttempt) -> None:
        tokens = [message.token for message in attempt.messages if message.token]
        asking = [message for message in attempt.messages if message.kind in ("authorization-request", "token-request")]
        self.audiences = {name for token in tokens for name in (*token.audience, token.text("azp") or "") if name}
        self.audiences |= {name for message in asking if (name := message.get("client_id"))}
        self.destinations = {url for message in asking if (url := message.get("redirect_uri"))}
        for message in attempt.of("authorization-response"):
            if message.parameters and message.parameters.address:
                self.destinations.add(message.parameters.address)
        self.issuers = {name for token in tokens if (name := token.text("iss"))}
        self.issuers |= {name for message in attempt.messages if (name := message.get("iss") or message.get("issuer"))}
        self.sealed = [message.content for message in attempt.messages if isinstance(message.content, Jwe)]
        for jwe in self.sealed:
            self.audiences |= set(texts(jwe.header.get("aud")))
            self.issuers |= set(texts(jwe.header.get("iss")))


class _SamlClues(_Clues):
    """Clues of SAML messages: audience, destination, recipient, issuer."""

    def __init__(self, attempt: SamlAttempt) -> None:
        self.sealed = []
        response = attempt.response
        assertions = response.assertions if response else (attempt.assertion,) if attempt.assertion else ()
        self.audiences = {
            audience.value
            for assertion in assertions
            if assertion and assertion.conditions
            for audience in assertion.conditions.audiences
        }
        self.destinations = {response.destination.value} if response and response.destination else set()
        for assertion in assertions:
            for confirmation in assertion.subject.confirmations if assertion and assertion.subject else ():
                if confirmation.data and confirmation.data.recipient:
                    self.destinations.add(confirmation.data.recipient.value)
        self.issuers = {assertion.issuer.value for assertion in assertions if assertion and assertion.issuer}
        if response and response.issuer:
            self.issuers.add(response.issuer.value)
        self._of_request(attempt.authn_request)
        if attempt.artifact and isinstance(attempt.artifact.content, Artifact) and not attempt.answer:
            self.artifact = attempt.artifact.content
            came_to = attempt.artifact.found.context.get(ADDRESS)
            self.destinations |= {came_to} if came_to else set()
        if attempt.answer is None:
            for message in attempt.sign_out:
                self._of_sign_out(message.content)

    def _of_request(self, request: AuthnRequest | None) -> None:
        """A request is made out by the application: its issuer is what an answer's audience should be."""
        if request and request.issuer and not self.audiences:
            self.audiences.add(request.issuer.value)
        if request and request.acs_url and not self.destinations:
            self.destinations.add(request.acs_url.value)

    def _of_sign_out(self, message: object) -> None:
        if isinstance(message, LogoutRequest | LogoutResponse):
            if message.issuer:
                self.issuers.add(message.issuer.value)
                self.audiences.add(message.issuer.value)
            if message.destination:
                self.destinations.add(message.destination.value)
