"""Attempts placed on the way that a capture shows: the hops of each, and rounds of a loop taken as one attempt."""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping, Sequence

from trace_lens.attempts.attempt import Attempt, messages_in
from trace_lens.attempts.journeys import SCRIPT, Links, Way, begun_between, link, ways, whole_way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.attempts.oidc_groups import ALONE, answers_another, keys_of
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.attempts.saml import SamlAttempt
from trace_lens.attempts.saml_messages import SamlMessage
from trace_lens.intake.carried import DELIVERED, EXCHANGE, PART
from trace_lens.intake.exchanges import STATIC
from trace_lens.intake.peeling import Peeled

RETURNING = ("saml-response", "ws-federation-response", "saml-artifact", "authorization-response")


def placed(attempts: Sequence[Attempt], captures: Mapping[str, Peeled]) -> list[Attempt]:
    """The attempts, each with its way where its source is a capture of one, and rounds of a loop joined.

    What stands together only for following each other is parted where the way shows two beginnings.
    """
    links = {
        source: link(peeled.capture, peeled.found) for source, peeled in captures.items() if attempts and peeled.capture
    }
    made = [part for attempt in attempts for part in _parted(attempt, links)]
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
        for place, (way, before) in zip(
            mine, ways(source, peeled.capture, found, peeled.found, links[source]), strict=True
        ):
            if not way.hops:
                continue
            again = made[place]._replace(way=way)
            first = made[mine[before]] if before is not None else None
            if first and first.way and _same_sign_in(first, again, way):
                again = _as_round(first, again, first.way, way)
                joined.add(mine[before or 0])
            made[place] = again
        alone = [place for place in mine if place not in joined]
        for place, until in zip(alone, _ends([made[place] for place in alone]), strict=True):
            if until is not None and (own := made[place].way):
                made[place] = made[place]._replace(way=own._replace(until=until))
    return [attempt for place, attempt in enumerate(made) if place not in joined]


def _parted(attempt: Attempt, links: Mapping[str, Links]) -> list[Attempt]:
    """An attempt, or two where its answer does not name its request, and began elsewhere or long after it."""
    asked, came = attempt.request, attempt.answer
    if not asked or not came or asked.source != came.source or asked.source not in links:
        return [attempt]
    if isinstance(attempt, SamlAttempt):
        if attempt.request and attempt.answer and attempt.request.id in attempt.answer.answers:
            return [attempt]
        begun = begun_between(links[asked.source], asked.found, came.found)
        unnamed = not attempt.answer.answers if attempt.answer else False
        if begun is None or (unnamed and str(begun) == came.found.context.get(EXCHANGE)):
            return [attempt]  # it names none, and where it came from does not show
        alone = attempt._replace(first=attempt.artifact or attempt.answer or attempt.first, request=None, earlier=())
        return [SamlAttempt(attempt.first, request=attempt.request, earlier=attempt.earlier), alone]
    number = begun_between(links[asked.source], asked.found, came.found)
    if number is None:
        return [attempt]
    before = tuple(one for one in attempt.messages if int(one.found.context.get(EXCHANGE, 0)) < number)
    after = tuple(one for one in attempt.messages if one not in before)
    if not before or not after or keys_of(before) & keys_of(after):
        return [attempt]
    return [attempt._replace(messages=before), OidcAttempt(after)]


def _ends(attempts: list[Attempt]) -> list[int | None]:
    """For each attempt of one capture the number of the exchange with which the next one to the same application
    begins, where that comes after its last message.

    A silent request, a frame and a sign-out go on with the session that there is.
    """
    begins: dict[str, list[int]] = {}
    for attempt in attempts:
        if attempt.way and _begins(attempt.way) and not _goes_on(attempt):
            for name in _names(attempt):
                begins.setdefault(name, []).append(attempt.way.hops[0].exchange.number)
    for numbers in begins.values():
        numbers.sort()
    made: list[int | None] = []
    for attempt in attempts:
        carrying = [
            hop.exchange.number for hop in (attempt.way.hops if attempt.way else ()) if not set(hop.kinds) <= set(ALONE)
        ]
        after = [
            numbers[place]
            for name in (_names(attempt) if carrying else ())
            if (place := bisect_right(numbers := begins.get(name, []), carrying[-1])) < len(numbers)
        ]
        made.append(min(after, default=None))
    return made


def _begins(way: Way) -> bool:
    """Whether a request or an answer shows a sign-in of its own."""
    return any(
        kind in (*RETURNING, "saml-authn-request", "authorization-request") for hop in way.hops for kind in hop.kinds
    )


def _goes_on(attempt: Attempt) -> bool:
    starts = [hop for hop in attempt.way.hops if hop.carries] if attempt.way else []
    if attempt.kind == "sign-out" or (starts and starts[0].exchange.frame):
        return True
    if isinstance(attempt, OidcAttempt):
        return bool(attempt.request and attempt.request.get("prompt") == "none")
    return bool(attempt.authn_request and attempt.authn_request.is_passive)


def _names(attempt: Attempt) -> set[str]:
    """By what two attempts are known to be for the same application: names, or the host of return."""
    hosts = {
        f"host {hop.exchange.host}"
        for hop in (attempt.way.hops if attempt.way else ())
        if any(message.kind in RETURNING and message.context.get(PART) in DELIVERED for message in hop.carries)
    }
    return _parties(attempt) | hosts


def _as_round(first: Attempt, again: Attempt, before: Way, after: Way) -> Attempt:
    """Two rounds of the same sign-in as one attempt, named after the last round that has an answer."""
    places = before.capture.places
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
    if isinstance(first, OidcAttempt) and isinstance(again, OidcAttempt) and _is_to_another(first, again):
        return False
    names = _parties(first), _parties(again)
    return not names[0] or not names[1] or bool(names[0] & names[1])


def _is_to_another(first: OidcAttempt, again: OidcAttempt) -> bool:
    return not again.request and answers_another(first.messages, again.messages)


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
