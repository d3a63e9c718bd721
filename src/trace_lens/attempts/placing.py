"""Attempts placed on the way that a capture shows: the hops of each, and rounds of a loop taken as one attempt."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from trace_lens.attempts.attempt import Attempt, messages_in
from trace_lens.attempts.journeys import SCRIPT, Way, ways, whole_way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.attempts.saml import SamlAttempt
from trace_lens.attempts.saml_messages import SamlMessage
from trace_lens.intake.exchanges import STATIC
from trace_lens.intake.peeling import Peeled


def placed(attempts: Sequence[Attempt], captures: Mapping[str, Peeled]) -> list[Attempt]:
    """The attempts, each with its way where its source is a capture of one, and rounds of a loop joined."""
    made = list(attempts)
    joined: set[int] = set()
    for source, peeled in captures.items():
        if peeled.capture is None:
            continue
        mine = [
            place
            for place, attempt in enumerate(made)
            if any(message.source == source for message in messages_in(attempt))
        ]
        if not mine:
            continue
        found = [[message.found for message in messages_in(made[place]) if message.source == source] for place in mine]
        for place, (way, before) in zip(mine, ways(source, peeled.capture, found, peeled.found), strict=True):
            if not way.hops:
                continue
            again = made[place]._replace(way=way)
            first = made[mine[before]] if before is not None else None
            if first and first.way and _same_sign_in(first, again, way):
                again = _as_round(first, again, first.way, way)
                joined.add(mine[before or 0])
            made[place] = again
    return [attempt for place, attempt in enumerate(made) if place not in joined]


def _as_round(first: Attempt, again: Attempt, before: Way, after: Way) -> Attempt:
    """Two rounds of the same sign-in as one attempt, named after the last round that has an answer."""
    places = {exchange.number: place for place, exchange in enumerate(before.capture.exchanges)}
    hops = tuple(sorted((*before.hops, *after.hops), key=lambda item: places[item.exchange.number]))
    way = after._replace(hops=hops, rounds=before.rounds + after.rounds, hidden=before.hidden + after.hidden)
    if isinstance(first, OidcAttempt) and isinstance(again, OidcAttempt):
        late, other = (again, first) if again.kind == "answer" or first.kind != "answer" else (first, again)
        return late._replace(earlier=(*other.earlier, *other.messages), way=way)
    if isinstance(first, SamlAttempt) and isinstance(again, SamlAttempt):
        main, rest = (again, first) if again.answer or not first.answer else (first, again)
        earlier = tuple(message for message in messages_in(rest) if isinstance(message, SamlMessage))
        return main._replace(earlier=earlier, way=way)
    return again


def _same_sign_in(first: Attempt, again: Attempt, way: Way) -> bool:
    if type(first) is not type(again) or again.kind == "sign-out" or first.kind == "sign-out":
        return False
    starts = [hop for hop in way.hops if hop.carries]
    if starts and (starts[0].exchange.frame or (starts[0].how == SCRIPT and _renews(first, again))):
        return False
    names = _parties(first), _parties(again)
    return not names[0] or not names[1] or bool(names[0] & names[1])


def _renews(first: Attempt, again: Attempt) -> bool:
    """Whether a page that had got its tokens asks for new ones without showing anything (OpenID Connect Core §3.1.2.1):
    in a frame, though not every capture says so.
    """
    if not isinstance(first, OidcAttempt) or not isinstance(again, OidcAttempt):
        return False
    asked, told = again.request, first.token_response
    return bool(asked and asked.get("prompt") == "none" and told and not told.get("error"))


def _parties(attempt: Attempt) -> set[str]:
    """Whom an attempt is for, as its messages say."""
    if isinstance(attempt, OidcAttempt):
        return {name for message in attempt.messages if (name := message.get("client_id"))}
    request = attempt.authn_request
    named = {request.issuer.value} if request and request.issuer else set()
    response = attempt.response
    assertions = response.assertions if response else ()
    for assertion in assertions:
        named |= {audience.value for audience in (assertion.conditions.audiences if assertion.conditions else ())}
    return named


def way_alone(source: str, peeled: Peeled, protocol: str) -> Attempt | None:
    """An attempt of hops alone, where a capture holds no message of a sign-in; None where it holds no hops either."""
    if peeled.capture is None or not peeled.found:
        return None
    way = whole_way(source, peeled.capture, peeled.found)
    if not way.hops:
        return None
    found = peeled.found[0]
    if protocol == "oidc":
        return OidcAttempt((OidcMessage(source, found),), way=way)
    return SamlAttempt(SamlMessage(source, found), way=way)


def hosts_of(peeled: Peeled) -> set[str]:
    """The hosts that the steps of a capture touched."""
    return (
        {exchange.host for exchange in peeled.capture.exchanges if exchange.kind != STATIC} if peeled.capture else set()
    )
