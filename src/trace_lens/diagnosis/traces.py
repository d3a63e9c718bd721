"""What an attempt shows that the logs may show too, drawn from its case."""

from __future__ import annotations

import re
from collections.abc import Iterator
from urllib.parse import parse_qsl

from trace_lens.attempts.journeys import Way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.attempts.saml_messages import SamlMessage, assertions_of
from trace_lens.checks.case import Case
from trace_lens.checks.protocols import of_saml
from trace_lens.checks.way.parties import parties
from trace_lens.checks.way.signs import outcome_of
from trace_lens.common.expressions import expression
from trace_lens.intake.exchanges import Exchange, words_of
from trace_lens.logs.matching.seen import Instant, Seen

_NAMES = expression(
    r"(?:.*[/:.])?(?:e?mail(?:address)?|upn|userprincipalname|uid|user_?name|login|account_?name|preferred_username"
    r"|eduPersonPrincipalName|unique_name)",
    re.IGNORECASE,
)
_TYPED = expression(r"(?:user(?:_?name|_?id)?|account|login(?:_?name|_?id)?|e?-?mail|identifier)", re.IGNORECASE)
_ID_FIELD = expression(
    r"(?:.*[-_])?(?:request|correlation|trace|transaction|session|activity)[-_]?(?:id)?", re.IGNORECASE
)
_ID = expression(r"(?=[A-Za-z_]*\d|[0-9a-f-]{12,})[A-Za-z0-9_][A-Za-z0-9_.~+=:-]{6,127}")
_IN_TEXT = expression(r"(?<![\w-])(?=[\w-]*\d)[A-Za-z0-9_][\w-]{6,63}(?![\w-])")
_ADDRESS = expression(r"\d{1,3}(?:\.\d{1,3}){3}|[0-9a-fA-F]*+:[0-9a-fA-F:.]++")
_NOT_IDS = {
    "iss",
    "aud",
    "sub",
    "azp",
    "client_id",
    "redirect_uri",
    "scope",
    "response_type",
    "grant_type",
    "acr",
    "amr",
    "login_hint",
    "code_challenge_method",
    "response_mode",
    "prompt",
    "email",
    "name",
    "preferred_username",
    "groups",
    "at_hash",
    "c_hash",
    "s_hash",
    "code_verifier",
    "client_secret",
    "post_logout_redirect_uri",
    "request_uri",
}
"""Parameters and claims that no log would tell an attempt by: what they hold is the same in many, or a secret."""
_LONGEST = 128


def seen_of(case: Case, key: str) -> Seen:
    """What the logs may hold of an attempt, which goes by a key."""
    way: Way | None = case.attempt.way
    answered = None if case.attempt.kind in ("request", "way", "sign-out", "artifact") else not case.refused
    return Seen(
        key=key,
        at=case.at,
        moments=tuple(_moments(case)),
        names=frozenset(_names(case)),
        app=case.app.id if case.app else None,
        provider=case.provider.id if case.provider else None,
        ids=frozenset(_ids(case)),
        addresses=frozenset(_addresses(case)),
        answered=answered,
        let_in=_let_in(case),
        rounds=way.rounds if way else 1,
    )


def _let_in(case: Case) -> bool | None:
    return outcome_of(case).let_in


def _moments(case: Case) -> Iterator[Instant]:
    way: Way | None = case.attempt.way
    if way is not None and any(hop.exchange.at for hop in way.hops):
        sides = parties(case)
        for hop in way.hops:
            if hop.exchange.at:
                side = sides.side_of(hop.exchange)
                yield Instant(hop.exchange.at, None if side == "other" else side)
        return
    yield from (Instant(made, None) for made in dict.fromkeys(case.made_at))


def _names(case: Case) -> Iterator[str]:
    if case.subject:
        yield case.subject.value
    for name, values in case.said.items():
        if _NAMES.fullmatch(name) or name == "sub":
            yield from (value for value in values if 0 < len(value) <= _LONGEST)
    if isinstance(case.attempt, OidcAttempt):
        yield from (hint for message in case.attempt.messages if (hint := message.get("login_hint")))
    if case.subject is None:
        for exchange in _exchanges(case):
            yield from (value for name, value in _fields(exchange) if _TYPED.fullmatch(name) and value)


def _exchanges(case: Case) -> list[Exchange]:
    way: Way | None = case.attempt.way
    return [hop.exchange for hop in way.hops] if way else []


def _fields(exchange: Exchange) -> list[tuple[str, str]]:
    """The fields of a form that was posted."""
    if exchange.method != "POST" or exchange.body is None or "form" not in (exchange.request("content-type") or "form"):
        return []
    return parse_qsl(exchange.body.decode("utf-8", "replace")[:4096])


def _ids(case: Case) -> Iterator[str]:
    attempt = case.attempt
    if isinstance(attempt, OidcAttempt):
        for other_message in (*attempt.messages, *attempt.earlier):
            pairs = other_message.parameters.pairs if other_message.parameters else ()
            claims = other_message.token.claims.items() if other_message.token else other_message.document.items()
            for name, value in (*pairs, *claims):
                if name not in _NOT_IDS and isinstance(value, str) and _ID.fullmatch(value):
                    yield value
    else:
        for message in (attempt.answer, attempt.request, attempt.artifact, *attempt.earlier, *attempt.sign_out):
            if message is not None:
                yield from _ids_of(message)
        if of_saml(case) and case.assertion is not None:
            statements = case.assertion.authn_statements
            yield from (statement.session_index.value for statement in statements if statement.session_index)
            if case.assertion.id:
                yield case.assertion.id.value
        if attempt.relay_state and _ID.fullmatch(attempt.relay_state):
            yield attempt.relay_state
    for exchange in _exchanges(case):
        for name, value in (*exchange.sent, *exchange.received):
            if _ID_FIELD.fullmatch(name) and len(value) <= _LONGEST:
                yield value
            elif name.casefold() == "traceparent":
                yield from value.split("-")[1:3]
        for name, value in parse_qsl(exchange.parts.query):
            if name not in _NOT_IDS and _ID.fullmatch(value):
                yield value
        if exchange.status >= 400 or exchange.status == 200:
            yield from _IN_TEXT.findall(str(words_of(exchange)))


def _ids_of(message: SamlMessage) -> Iterator[str]:
    if message.id:
        yield message.id
    yield from message.answers
    yield from message.sessions
    yield from (assertion.id.value for assertion in assertions_of(message.content) if assertion.id)


def _addresses(case: Case) -> Iterator[str]:
    found: list[str | None] = []
    if of_saml(case) and case.assertion is not None:
        found += [statement.locality_address for statement in case.assertion.authn_statements]
        confirmations = case.assertion.subject.confirmations if case.assertion.subject else ()
        found += [
            confirmation.data.address.value
            for confirmation in confirmations
            if confirmation.data and confirmation.data.address
        ]
    found += [value for name in ("ipaddr", "ip", "client_ip") for value in case.said.get(name, ())]
    yield from (text.strip() for text in found if text and _ADDRESS.fullmatch(text.strip()))
