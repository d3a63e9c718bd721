"""What a message says by itself, without anything on record: whom it is from and for, about whom, for how long, signed
by what.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import TYPE_CHECKING

from trace_lens.checks.protocols import of_oidc, of_saml
from trace_lens.common.addresses import host_of
from trace_lens.common.moments import show_moment
from trace_lens.common.personal import person
from trace_lens.saml.names import short

if TYPE_CHECKING:
    from trace_lens.checks.oidc.case import OidcCase
    from trace_lens.checks.saml.case import SamlCase

Fact = tuple[str, str]


def message_facts(case: SamlCase | OidcCase) -> tuple[Fact, ...]:
    """Labels and values, in the order in which people look for them; only what is there."""
    if of_saml(case):
        return tuple(_of_saml(case))
    return tuple(_of_oidc(case)) if of_oidc(case) else ()


def provider_at(case: SamlCase | OidcCase, address: str) -> str | None:
    """The name of the provider on record that has the host of an address."""
    for provider in case.workspace.providers.values():
        endpoints = [item for item in provider.discovery.values() if isinstance(item, str)]
        known = (*provider.identifiers, *provider.sign_on_urls, *endpoints)
        if host_of(address) in {host_of(item) for item in known} - {""}:
            return provider.name
    return None


def message_ids(case: SamlCase | OidcCase) -> tuple[str, ...]:
    """The ids of the messages that logs hold too: of request, response, assertion and session, of tokens."""
    found: list[str | None] = []
    if of_saml(case):
        response, assertion, request = case.response, case.assertion, case.request
        found += [request.id.value if request and request.id else None]
        found += [response.in_response_to.value if response and response.in_response_to else None]
        found += [response.id.value if response and response.id else None]
        found += [assertion.id.value if assertion and assertion.id else None]
        statements = assertion.authn_statements if assertion else ()
        found += [statement.session_index.value for statement in statements if statement.session_index]
    elif of_oidc(case) and case.token:
        found += [value for name in ("jti", "sid") if isinstance(value := case.token.claims.get(name), str)]
    return tuple(dict.fromkeys(text for text in found if text))


def _of_saml(case: SamlCase) -> Iterator[Fact]:
    assertion, response, request = case.assertion, case.response, case.request
    if case.issuer:
        yield "issuer", case.issuer.value
    for audience in assertion.conditions.audiences if assertion and assertion.conditions else ():
        yield "audience", audience.value
    if request and request.issuer and not assertion:
        yield "application", request.issuer.value
    bearer = case.bearer
    recipient = bearer.data.recipient if bearer and bearer.data else None
    destination = response.destination if response else None
    came_to = recipient or destination or (request.acs_url if request else None)
    if came_to:
        yield "ACS URL", came_to.value
        own = provider_at(case, came_to.value)
        if own:
            yield "", f"an address of {own}, a provider on record: its own sign-in at another one"
    if case.name_id:
        yield "NameID", person(case.name_id.value)
        yield "format", short(case.name_id.format)
    conditions = assertion.conditions if assertion else None
    if conditions:
        begins, ends = conditions.not_before, conditions.not_on_or_after
        yield from _window(begins.moment if begins else None, ends.moment if ends else None)
    for verdict in case.signed.own:
        signed = f"{verdict.signature.algorithm_uri or 'unknown algorithm'}"
        held = verdict.certificate
        yield "signed by", f"{held.subject or 'no name'}, until {show_moment(held.not_after)}" if held else signed
        if held:
            yield "", str(held.sha256)
    if assertion and not case.signed.own:
        yield "signed by", "nobody"


def _of_oidc(case: OidcCase) -> Iterator[Fact]:
    token = case.token
    if case.issuer_name:
        yield "issuer", case.issuer_name
    audience = token.claims.get("aud") if token else None
    for value in audience if isinstance(audience, list) else [audience] if audience else []:
        yield "audience", str(value)
    for label, name in (("client_id", "client_id"), ("redirect URI", "redirect_uri"), ("scopes", "scope")):
        asked = case.asked(name)
        if asked and not (name == "client_id" and audience):
            yield label, asked
    if case.subject:
        yield "subject", person(case.subject.value)
    if token:
        yield from _window(token.at("nbf") or token.at("iat"), token.at("exp"))
        yield (
            "signed with",
            " ".join(filter(None, (token.jws.algorithm, f"key {token.jws.key_id}" if token.jws.key_id else ""))),
        )


def _window(begins: datetime | None, ends: datetime | None) -> Iterator[Fact]:
    if begins or ends:
        yield "valid", f"{show_moment(begins) if begins else 'always'} to {show_moment(ends) if ends else 'no end'}"
