"""What is tried of some applications: which names, ports, documents, keys, endpoints, clocks and requests, and what
each of these depends on.

The hosts are those in the files of the applications and their providers, and in their documents; no others.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import ExitStack
from datetime import datetime
from functools import partial
from typing import Any

from trace_lens.common.addresses import parts_of, plain
from trace_lens.common.findings import Severity
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.common.tuples import NamedTuple
from trace_lens.fleet.documents import DISCOVERY_DOCUMENT, METADATA
from trace_lens.live import connecting, judging
from trace_lens.live.connecting import Host
from trace_lens.live.requests import authn_request, of_client
from trace_lens.live.steps import (
    BLOCKED,
    CLOCK,
    DNS,
    DOCUMENT,
    DOMAIN,
    ENDPOINT,
    FAILED,
    HTTP,
    KEYS,
    OK,
    REQUEST,
    RISK,
    SKIPPED,
    TCP,
    TLS,
    Outcome,
    Step,
    Tried,
    carry_out,
)
from trace_lens.live.transport import Transport, proxy_of, said_host
from trace_lens.saml.metadata import Entity
from trace_lens.workspace.records import App, Provider, Workspace

WHOLE_SECONDS = 25.0
"""The time for all steps of one probe."""
_STEP_SECONDS = 8.0
_DISCOVERY = "/.well-known/openid-configuration"
_REDIRECT = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect"


class Probe(NamedTuple):
    """What was tried, and when that began."""

    at: datetime
    steps: tuple[Tried, ...]


_WORST = (FAILED, BLOCKED, RISK, OK, SKIPPED)


def overall(runs: Sequence[Probe]) -> Probe:
    """Several runs as one: of each step what was worst, the first time that it was.

    A fault that comes and goes is a fault.
    """
    if len(runs) == 1:
        return runs[0]
    worst: dict[str, Tried] = {}
    for tried in (tried for run in runs for tried in run.steps):
        held = worst.get(tried.step.id)
        if held is None or _WORST.index(tried.outcome.status) < _WORST.index(held.outcome.status):
            worst[tried.step.id] = tried
    return Probe(runs[-1].at, tuple(worst.values()))


def probe(
    apps: Sequence[App],
    workspace: Workspace,
    now: datetime,
    seconds: float = WHOLE_SECONDS,
    *,
    shows_only: bool = False,
) -> Probe:
    """Try everything that can be tried of some applications; if `shows_only`, names, ports and certificates alone,
    and nothing is sent. Raises SettingsError.
    """
    with ExitStack() as stack:
        plan = _Plan(workspace, now, stack)
        for app in apps:
            plan.of_app(app)
        steps = [step for step in plan.ordered() if not shows_only or step.what in (DNS, TCP, TLS)]
        return Probe(now, tuple(carry_out(steps, seconds)))


def hosts_of(apps: Sequence[App], workspace: Workspace, now: datetime) -> list[str]:
    """The hosts that a probe would speak to first, with their ports; documents may name more."""
    with ExitStack() as stack:
        plan = _Plan(workspace, now, stack)
        for app in apps:
            plan.of_app(app)
        targets = {step.target for step in plan.ordered() if step.what == HTTP}
        return sorted(said_host(f"https://{target}/", target) for target in targets)


class _Plan:
    """The steps, each once however many applications need it."""

    def __init__(self, workspace: Workspace, now: datetime, stack: ExitStack) -> None:
        self.workspace, self.now = workspace, now
        self.transport = stack.enter_context(Transport(seconds=_STEP_SECONDS))
        self.stack = stack
        self.steps: dict[str, Step] = {}

    def ordered(self) -> list[Step]:
        return list(self.steps.values())

    def add(self, step: Step, app: App) -> str:
        """A step for an application; one that is there already is for it, too."""
        held = self.steps.get(step.id)
        apps = (*(held.apps if held else ()), app.id)
        self.steps[step.id] = (held or step)._replace(apps=tuple(dict.fromkeys(apps)))
        return step.id

    # -- hosts

    def host(self, url: str, app: App) -> tuple[str, ...]:
        """The steps of the host of an address: its name, its port, its TLS; those that what is there depends on."""
        parts = parts_of(url)
        secure = parts.scheme == "https"
        if parts.scheme not in ("http", "https") or not parts.hostname:
            return ()
        host = _host(url)
        proxy = proxy_of(url)
        if proxy:
            reached = self._proxy(proxy, host, app, tunnels=secure)
        else:
            reached = self._port(host, app)
            if not host.is_literal and not host.is_local:
                name = f"cname:{host.name}"
                self.add(Step(name, DNS, f"{host.name} CNAME", (), lambda _: connecting.aliases(host)), app)
        before = reached
        if secure and reached == f"tcp:{host}":

            def shake(made: dict[str, Any]) -> Outcome:
                return connecting.handshake(host, made[reached], self.now)

            before = self.add(Step(f"tls:{host}", TLS, str(host), (reached,), shake), app)
        root = f"{parts.scheme}://{parts.netloc}/"

        def speaks(made: dict[str, Any]) -> Outcome:
            return judging.speaks(root, connecting.compared_addresses(made[reached]), self.transport)

        step = Step(f"http:{host}", HTTP, str(host), (before,), speaks, soft=(reached,))
        return (self.add(step, app),)

    def _port(self, host: Host, app: App) -> str:
        """The steps of a name and a port; the latter's id."""
        named = self.add(Step(f"dns:{host.name}", DNS, host.name, (), lambda _: connecting.resolve(host)), app)

        def connect(made: dict[str, Any]) -> Outcome:
            return connecting.connect(host, made[named])

        return self.add(Step(f"tcp:{host}", TCP, str(host), (named,), connect), app)

    def _proxy(self, proxy: str, host: Host, app: App, *, tunnels: bool) -> str:
        """The steps of a proxy, and of the host behind it where a tunnel leads there; the last one's id.

        Through TLS to the proxy there is none: the answer in HTTP then tells what is wrong.
        """
        reached = self._port(_host(proxy), app)
        if not tunnels or not proxy.startswith("http://"):
            return reached
        return self.add(
            Step(f"tcp:{host}", TCP, str(host), (reached,), lambda _: connecting.connect_through(host, proxy)), app
        )

    def endpoint(self, url: str | None, kind: str, app: App) -> None:
        """A step for an address that is asked without a message."""
        after = self.host(url, app) if url else ()
        if url and after:
            work = partial(judging.endpoint, url, kind, self.transport)
            self.add(Step(f"endpoint:{plain(url)}", ENDPOINT, plain(url), after, lambda _: work()), app)

    # -- applications

    def of_app(self, app: App) -> None:
        """All steps of one application."""
        told = app.settings.application
        addresses = told.oidc.redirect_uris if app.settings.protocol == "oidc" else app.acs_urls
        for url in addresses:
            if not _is_loopback_redirect(url, app):
                self.endpoint(url, judging.CALLBACK, app)
        self.endpoint(told.sign_in_url, judging.PAGE, app)
        provider = self.workspace.provider_of(app)
        if provider is None:
            return
        if app.settings.protocol == "saml":
            self._saml(app, provider)
        else:
            self._oidc(app, provider)
        for domain in dict.fromkeys((*told.email_domains, *provider.settings.email_domains)):
            work = partial(connecting.proofs, domain, provider.settings.domain_proof)
            self.add(Step(f"domain:{domain}", DOMAIN, domain, (), partial(_alone, work)), app)

    def _saml(self, app: App, provider: Provider) -> None:
        url = provider.settings.metadata
        had = ""
        if url and "://" in url:
            work = partial(judging.document, url, METADATA, provider, self.transport)
            had = self.add(Step(f"document:{url}", DOCUMENT, url, self.host(url, app), lambda _: work()), app)
            self._clock(url, app)
        known = [
            app.settings.application.provider_sso_url,
            *(_redirect_urls(provider.entity) if provider.entity else ()),
        ]
        target = next((address for address in known if address), None)
        if target is None and not had:
            return
        after = self.host(target, app) if target else (had,)
        if target and not had:
            self._clock(target, app)

        def ask(made: dict[str, Any]) -> Outcome:
            where = target or next(iter(_redirect_urls(made.get(had))), None)
            if app.settings.application.saml.signs_requests:
                return Outcome(SKIPPED, "the application signs its requests, and its key is not here")
            if not where or not app.entity_id:
                return Outcome(SKIPPED, "no sign-on address for the redirect binding, or no entity ID, is on record")
            url = authn_request(where, app.entity_id, next(iter(app.acs_urls), None), self.now)
            return self._request(url, app)

        self.add(Step(f"request:{app.id}", REQUEST, target or f"{provider.name}", after, ask), app)

    def _oidc(self, app: App, provider: Provider) -> None:
        told = app.settings.application
        named = provider.settings.discovery
        issuer = provider.issuer or told.oidc.provider_issuer
        url = named if named and "://" in named else told.oidc.discovery_url
        url = url or (issuer.rstrip("/") + _DISCOVERY if issuer and "://" in issuer else None)
        had = ""
        if url:
            had = self.add(
                Step(
                    f"document:{url}",
                    DOCUMENT,
                    url,
                    self.host(url, app),
                    lambda _: self._discovered(
                        judging.document(url, DISCOVERY_DOCUMENT, provider, self.transport), app, provider
                    ),
                ),
                app,
            )
            self._clock(url, app)
        for step in self._of_document(provider.discovery, app, provider):
            self.add(step, app)
        key_set = provider.settings.key_set
        jwks = provider.discovery.get("jwks_uri")
        address = key_set if key_set and "://" in key_set else jwks if isinstance(jwks, str) else None
        if had and not address:
            self.add(
                Step(
                    f"keys:{provider.id}",
                    KEYS,
                    f"key set of {provider.name}",
                    (had,),
                    lambda made: self._keys_of(made.get(had), provider),
                ),
                app,
            )
        self._ask(app, provider, had)

    def _keys_of(self, document: object, provider: Provider) -> Outcome:
        """The key set that a discovery document names."""
        jwks = document.get("jwks_uri") if isinstance(document, dict) else None
        if not isinstance(jwks, str):
            words = say("The discovery document of {name} names no key set.", name=provider.name)
            return Outcome(FAILED, words, (), finding("endpoint-missing", words, severity=Severity.BREAK))
        return judging.keys(jwks, provider, self.transport)

    def _of_document(
        self, document: dict[str, Any], app: App, provider: Provider, *, live: bool = False
    ) -> Iterator[Step]:
        """The steps of the endpoints in a discovery document, with those of their hosts. Where it was had just now
        (`live`), its key set has a step already.
        """
        before = set(self.steps)
        jwks = document.get("jwks_uri")
        if isinstance(jwks, str) and not live:
            work = partial(judging.keys, jwks, provider, self.transport)
            self.add(Step(f"keys:{jwks}", KEYS, jwks, self.host(jwks, app), lambda _: work()), app)
        for member, kind in (
            ("token_endpoint", judging.TOKEN),
            ("userinfo_endpoint", judging.USERINFO),
            ("end_session_endpoint", judging.SIGN_OUT),
        ):
            value = document.get(member)
            if isinstance(value, str):
                self.endpoint(value, kind, app)
        value = document.get("authorization_endpoint")
        if isinstance(value, str):
            self.host(value, app)
        yield from (step for name, step in self.steps.items() if name not in before)

    def _discovered(self, outcome: Outcome, app: App, provider: Provider) -> Outcome:
        """A discovery document that was had names further endpoints, which only now are known."""
        if not isinstance(outcome.made, dict):
            return outcome
        fresh = _Plan(self.workspace, self.now, self.stack)
        more = tuple(fresh._of_document(outcome.made, app, provider, live=True))
        return outcome._replace(more=more)

    def _ask(self, app: App, provider: Provider, had: str) -> None:
        """The step of a real request."""
        known = app.settings.application.provider_sso_url or provider.discovery.get("authorization_endpoint")
        target = known if isinstance(known, str) else None
        after = self.host(target, app) if target else (had,) if had else ()
        if not after:
            return

        def ask(made: dict[str, Any]) -> Outcome:
            document = made.get(had)
            listed = document.get("authorization_endpoint") if isinstance(document, dict) else None
            where = target or (listed if isinstance(listed, str) else None)
            sent = of_client(app, where) if where else None
            if sent is None:
                return Outcome(SKIPPED, "no authorization endpoint, client_id or redirect URI is on record")
            return self._request(sent.url, app)

        self.add(Step(f"request:{app.id}", REQUEST, target or provider.name, after, ask), app)

    def _request(self, url: str, app: App) -> Outcome:
        """A real request, in a session of its own."""
        with Transport(seconds=_STEP_SECONDS) as alone:
            return judging.request(url, app, self.workspace, alone, self.now)

    def _clock(self, url: str, app: App) -> None:
        host = parts_of(url).netloc
        work = partial(judging.clock, url, app.clock_skew, self.transport, time.sleep)
        self.add(Step(f"clock:{host}", CLOCK, host, self.host(url, app), lambda _: work()), app)


def _host(url: str) -> Host:
    """The host and port of an address."""
    parts = parts_of(url)
    name = f"[{parts.hostname}]" if ":" in (parts.hostname or "") else parts.hostname or ""
    return Host(name, parts.port or (443 if parts.scheme == "https" else 80))


def _alone(work: Callable[[], Outcome], _: dict[str, Any]) -> Outcome:
    """Work that needs nothing of the steps before it."""
    return work()


def _redirect_urls(entity: Entity | None) -> Iterable[str]:
    """The sign-on addresses of an identity provider for HTTP-Redirect."""
    role = entity.role("IDPSSODescriptor") if entity else None
    for item in role.endpoints if role else ():
        if item.purpose == "SingleSignOnService" and item.binding == _REDIRECT:
            yield item.location


def _is_loopback_redirect(url: str, app: App) -> bool:
    """Whether a redirect URI is that of a program on a desk (RFC 8252 §7.3), which listens only while it signs in."""
    parts = parts_of(url)
    if parts.scheme != "http" or parts.hostname not in ("127.0.0.1", "::1", "localhost"):
        return False
    return bool(app.settings.application.oidc.public) or parts.port is None
