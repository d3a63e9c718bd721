"""Whose each hop is, and which hops matter: where the browser left the application, and where it came back."""

from __future__ import annotations

from trace_lens.attempts.journeys import FORM, REDIRECT, Hop, Way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.checks.case import Case
from trace_lens.common.addresses import host_of, parts_of, plain
from trace_lens.common.findings import Evidence, Side
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.carried import DELIVERED, PART
from trace_lens.intake.exchanges import Exchange
from trace_lens.intake.found import FoundMessage

APPLICATION, PROVIDER, OTHER = "application", "provider", "other"
SIDES = {APPLICATION: Side.APPLICATION, PROVIDER: Side.PROVIDER}
REQUESTS = ("saml-authn-request", "authorization-request")
ANSWERS = ("saml-response", "ws-federation-response", "saml-artifact", "authorization-response")


class Parties(NamedTuple):
    """The hosts of both sides, as the settings and the messages tell."""

    application: frozenset[str]
    provider: frozenset[str]

    def side_of(self, exchange: Exchange) -> str:
        """`application`, `provider` or `other`."""
        host = exchange.host
        if host in self.application:
            return APPLICATION
        return PROVIDER if host in self.provider else OTHER


def parties(case: Case) -> Parties:
    """The hosts of both sides. A host that both claim counts as the application's.

    Where neither application nor provider is known, the hosts of every provider on record are the provider's.
    """
    return case.once("parties", lambda: _parties(case))


def _parties(case: Case) -> Parties:
    ours: set[str] = set()
    theirs: set[str] = set()
    if case.app:
        told, there = case.app.settings.application, case.app.settings.provider_setup
        addresses = [
            told.sign_in_url,
            told.sign_out_url,
            there.acs_url,
            *case.app.acs_urls,
            *told.oidc.redirect_uris,
            *there.redirect_uris,
        ]
        ours |= _hosts(addresses)
        theirs |= _hosts([told.provider_sso_url, told.oidc.provider_issuer, told.saml.provider_entity_id])
    for provider in [case.provider] if case.provider else [] if case.app else case.workspace.providers.values():
        endpoints = [item for item in provider.discovery.values() if isinstance(item, str)]
        theirs |= _hosts([*provider.identifiers, *provider.sign_on_urls, *endpoints])
    way = case.attempt.way
    for hop in way.hops if way else ():
        if set(hop.kinds) & set(REQUESTS):
            theirs |= {hop.exchange.host} - ours
            ours |= ({hop.cause.host} if hop.cause and hop.how == REDIRECT else set()) - theirs
        if brings_answer(hop):
            ours |= {hop.exchange.host} - theirs
            sends = hop.cause is not None and hop.how in (FORM, REDIRECT)
            theirs |= ({hop.cause.host} if hop.cause and sends else set()) - ours
    return Parties(frozenset(ours), frozenset(theirs - ours))


def _hosts(addresses: list[str | None]) -> set[str]:
    return {host for address in addresses if address and (host := host_of(address))}


def brings_answer(hop: Hop) -> bool:
    """Whether a hop hands an answer over."""
    return any(message.kind in ANSWERS and message.context[PART] in DELIVERED for message in hop.carries)


def answer_found(case: Case) -> FoundMessage | None:
    """The answer as it travelled through the browser."""
    attempt = case.attempt
    if isinstance(attempt, OidcAttempt):
        return attempt.answer.found if attempt.answer else None
    message = attempt.answer or attempt.artifact
    return message.found if message else None


def return_hop(case: Case) -> Hop | None:
    """The hop by which the answer came to the application; None where it never did.

    An address of a scheme of its own is handed to a program at once (RFC 8252 §7.1); no hop shows that.
    """
    way: Way | None = case.attempt.way
    found = answer_found(case)
    if way is None or found is None:
        return None
    hop = way.hop_of(found)
    if hop is None or found.context[PART] in DELIVERED:
        return hop
    target = hop.exchange.redirects_to or found.context.get("address")
    if target and parts_of(target).scheme not in ("http", "https", ""):
        return hop
    return next(
        (visited for visited in way.after(hop) if target and plain(visited.exchange.url) == plain(target)), None
    )


def way_of(case: Case) -> Way:
    """The way of an attempt that has one."""
    way: Way | None = case.attempt.way
    if way is None:
        raise ValueError("the attempt has no way")
    return way


def leaving(case: Case, back: Hop | None) -> list[Hop]:
    """The hops at the application before it sent the browser away, of the round whose answer came back at `back`."""
    way: Way | None = case.attempt.way
    if way is None:
        return []
    before = list(way.before(back) if back else way.hops)
    for place in range(len(before) - 1, -1, -1):
        if brings_answer(before[place]):
            before = before[place + 1 :]
            break
    sides = parties(case)
    own = [sides.side_of(hop.exchange) == APPLICATION for hop in before]
    last_elsewhere = max((place for place, is_own in enumerate(own) if not is_own), default=-1)
    asked = [hop for hop in way.hops if set(hop.kinds) & set(REQUESTS)]
    causes = {id(hop.cause) for hop in asked}
    addresses = {hop.exchange.url for hop in asked}
    return [
        hop
        for is_own, hop in list(zip(own, before, strict=True))[: max(last_elsewhere, 0)]
        if is_own or id(hop.exchange) in causes or hop.exchange.redirects_to in addresses
    ]


def came_from(case: Case, hop: Hop) -> str | None:
    """The page whose navigation a hop belongs to, over all redirects; None where the person opened it."""
    way: Way | None = case.attempt.way
    by_number = {hop.exchange.number: hop for hop in way.hops} if way else {}
    here = hop
    for _ in range(len(by_number) + 1):
        if here.cause is None:
            return None
        if here.how != REDIRECT:
            return here.cause.url
        cause = by_number.get(here.cause.number)
        if cause is None:
            return None
        here = cause
    return None


def at_hop(case: Case, label: str, value: str, exchange: Exchange, part: str = "", *, secret: bool = False) -> Evidence:
    """Something of an exchange as evidence."""
    way = case.attempt.way
    place = Location(entry=exchange.place, part=part)
    return Evidence(
        label, value, way.source if way else case.attempt.source, place, secret=secret, exchange=exchange.number
    )
