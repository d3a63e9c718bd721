"""Delivered, hop by hop: transport, errors, loops, messages delivered twice or too late."""

from __future__ import annotations

import json
from collections.abc import Iterator
from urllib.parse import parse_qsl

from trace_lens.attempts.attempt import messages_in
from trace_lens.attempts.journeys import BY_ITSELF, CALLED, Hop, Way
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.way.failure_words import error_in_json
from trace_lens.checks.way.page_signs import STATUS
from trace_lens.checks.way.parties import (
    ANSWERS,
    APPLICATION,
    PROVIDER,
    REQUESTS,
    SIDES,
    at_hop,
    parties,
    return_hop,
    way_of,
)
from trace_lens.checks.way.redirected import TO_KEEP_IT, came_first_to, lost_post, words_of_lost_post
from trace_lens.checks.way.signs import outcome_of, shown_in
from trace_lens.common import limits
from trace_lens.common.addresses import parts_of, plain, same_address
from trace_lens.common.findings import INFERRED, Evidence, Finding, Severity, Side
from trace_lens.common.kinds import in_a_sentence, quoted_at_end
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Count, say
from trace_lens.intake.browser_words import Trouble
from trace_lens.intake.carried import DELIVERED, EXCHANGE, IN_ADDRESS, IN_REDIRECT, PART
from trace_lens.intake.exchanges import CALL, words_of
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.layers import LENGTH


@check("redirect-loop", requires=Need.WAY)
def loop(case: Case) -> Answer:
    """Does the way come to the same place again and again?"""
    way = way_of(case)
    asked = [hop for hop in way.hops if set(hop.kinds) & set(REQUESTS) and not hop.exchange.frame]
    silent = {item.found.context.get(EXCHANGE) for item in case.attempt.earlier} if way.rounds == 1 else set()
    asked = [hop for hop in asked if not _is_silent(hop) and str(hop.exchange.number) not in silent]
    around = max(way.rounds, len(asked))
    again = (
        around > 1
        and bool(asked)
        and any(_answered_well(hop) for hop in way.before(asked[-1]) if not hop.exchange.frame)
    )
    place, times = _most_visited(way)
    stopped = next((hop for hop in way.hops if hop.exchange.trouble is Trouble.LOOP), None)
    if not again and times < limits.LOOP_VISITS and stopped is None:
        return
    rounds = around if again else times
    shown = asked[:1] + asked[-1:] if again and asked else [hop for hop in way.hops if plain(hop.exchange.url) == place]
    shown = shown or [stopped or way.hops[-1]]
    rounds = max(rounds, 1)
    yield finding(
        "redirect-loop",
        say("The browser went round {rounds} times by itself: ", rounds=rounds)
        + " → ".join(_places(way))
        + ". "
        + (say("Then it gave up ({problem}). ", problem=stopped.exchange.problem) if stopped else "")
        + ("It came to an end all the same." if shown_in(case) else "Nothing between the rounds sticks."),
        severity=Severity.RISK if shown_in(case) else Severity.BREAK,
        actual=f"{rounds} rounds",
        evidence=[
            at_hop(case, f"round {number}", hop.exchange.plain_url, hop.exchange)
            for number, hop in zip((1, rounds), (shown[0], shown[-1]), strict=True)
        ],
        compared=False,
    )


def _is_silent(hop: Hop) -> bool:
    """Whether a request may not ask the person: refused, it is followed by one that may."""
    return any(pair == ("prompt", "none") for pair in parse_qsl(hop.exchange.parts.query))


def _answered_well(hop: Hop) -> bool:
    return any(message.kind in ANSWERS and message.context[PART] in DELIVERED for message in hop.carries)


def _most_visited(way: Way) -> tuple[str, int]:
    """The address that redirects came to most often, each time by itself."""
    counts: dict[str, int] = {}
    for hop in way.hops:
        if hop.how in BY_ITSELF and hop.exchange.method == "GET" and not hop.carries:
            key = plain(hop.exchange.url)
            counts[key] = counts.get(key, 0) + 1
    place = max(counts, key=lambda item: counts[item], default="")
    return place, counts.get(place, 0)


def _places(way: Way) -> list[str]:
    """The hosts of one round, each once in a row."""
    hosts: list[str] = []
    for hop in way.hops:
        if not hosts or hosts[-1] != hop.exchange.host:
            hosts.append(hop.exchange.host)
    return hosts[:4]


_NOT_DELIVERED = (502, 503, 504)
"""By these a server in front says that it could not hand a request on (RFC 9110 §15.6)."""


@check("replayed-message", "code-reused", requires=Need.WAY)
def delivered_once(case: Case) -> Answer:
    """Was the answer delivered once only?"""
    way = way_of(case)
    seen: dict[tuple[str, bytes], Hop] = {}
    for hop in way.hops:
        for message in hop.carries:
            if message.context[PART] not in DELIVERED or message.kind not in (*ANSWERS, "id-token"):
                continue
            code = message.kind == "authorization-response" and _brings_code_alone(message)
            if hop.exchange.status in _NOT_DELIVERED or hop.exchange.status <= 0:
                continue
            before = seen.setdefault((message.kind, message.data), hop)
            if before is hop or plain(before.exchange.url) != plain(hop.exchange.url) or _asked_anew(way, before, hop):
                continue
            if code:
                yield from _code_again(case, before, hop)
                return
            yield finding(
                "replayed-message",
                say(
                    "The same {message_kind} was delivered twice: an application must take it once only.",
                    message_kind=in_a_sentence(message.kind),
                ),
                side=Side.USER,
                evidence=[
                    at_hop(case, "first", before.exchange.plain_url, before.exchange),
                    at_hop(case, "again", hop.exchange.plain_url, hop.exchange),
                ],
            )
            return


def _brings_code_alone(message: FoundMessage) -> bool:
    """Whether an authorization response brings a code, and no token beside it."""
    names = {name for name, _ in json.loads(message.data)}
    return "code" in names and not names & {"id_token", "access_token"}


def _code_again(case: Case, before: Hop, again: Hop) -> Iterator[Finding]:
    """A callback that was loaded again with its code: nothing where the application is content with its session."""
    if again.exchange.status < 400 or shown_in(case):
        return
    yield finding(
        "code-reused",
        "The callback was loaded again with a code that had been delivered before; it is good for once, and the "
        "application answered with an error.",
        evidence=[
            at_hop(case, "first", before.exchange.plain_url, before.exchange),
            at_hop(case, "again", again.exchange.plain_url, again.exchange),
        ],
    )


def _asked_anew(way: Way, before: Hop, again: Hop) -> bool:
    """Whether a request went to the provider between two deliveries: then it is a round of its own."""
    return any(set(hop.kinds) & set(REQUESTS) for hop in way.after(before) if hop in way.before(again))


@check("code-too-old", requires=Need.WAY)
def redeemed_in_time(case: Case) -> Answer:
    """Was the code redeemed soon after it was given (RFC 6749 §4.1.2), by the moments of the requests?"""
    attempt, way = case.attempt, way_of(case)
    if not isinstance(attempt, OidcAttempt) or attempt.answer is None:
        return
    given = way.hop_of(attempt.answer.found)
    refused = attempt.token_response is not None and attempt.token_response.get("error") == "invalid_grant"
    for request in attempt.code_requests:
        redeemed = way.hop_of(request.found)
        if not (given and redeemed and given.exchange.at and redeemed.exchange.at):
            continue
        waited = redeemed.exchange.at - given.exchange.at
        if waited.total_seconds() > limits.CODE_SECONDS:
            made = finding(
                "code-too-old",
                say(
                    "The code was redeemed {waited} after it came; codes should live ten minutes at most.",
                    waited=show_duration(waited),
                ),
                severity=Severity.BREAK if refused else Severity.RISK,
                actual=show_duration(waited),
                evidence=[
                    at_hop(case, "code came", given.exchange.plain_url, given.exchange),
                    at_hop(case, "code redeemed", redeemed.exchange.plain_url, redeemed.exchange),
                ],
            )
            yield made._replace(certainty=INFERRED) if refused else made
            return


@check("destination-mismatch", requires=Need.WAY)
def posted_where_it_was_meant(case: Case) -> Answer:
    """Was the response posted to the address that it names (SAML 2.0 Core §3.2.2)?

    A query counts only where Destination has one: applications add their own to the address that they registered.
    """
    response = getattr(case, "response", None)
    back = return_hop(case)
    destination = response.destination if response else None
    if back is None or destination is None or back.exchange.method != "POST":
        return
    posted = back.exchange.url if parts_of(destination.value).query else back.exchange.plain_url
    if not same_address(destination.value, posted) and not came_first_to(way_of(case), back, destination.value):
        yield finding(
            "destination-mismatch",
            say(
                "The response is addressed to {destination_value}; it was posted to {posted}.",
                destination_value=destination.value,
                posted=posted,
            ),
            expected=destination.value,
            actual=posted,
            evidence=[
                *case.shown("Destination", destination),  # type: ignore[attr-defined]
                at_hop(case, "posted to", posted, back.exchange),
            ],
        )


@check("message-in-url-too-long", requires=Need.NOTHING)
def url_length(case: Case) -> Answer:
    """Is every address short enough for common servers?"""
    for message in messages_in(case.attempt):
        size = int(message.found.context.get(LENGTH, 0))
        if size > limits.URL_BYTES and message.found.context.get(PART, IN_ADDRESS) in (IN_ADDRESS, IN_REDIRECT):
            where = message.found.where or Location(part="the whole")
            yield finding(
                "message-in-url-too-long",
                say(
                    "The address that carries the {found_kind} has {size} bytes; common servers take at most "
                    "{URL_BYTES}.",
                    found_kind=in_a_sentence(message.found.kind),
                    size=Count(f"{size:,}"),
                    URL_BYTES=Count(f"{limits.URL_BYTES:,}"),
                ),
                side=Side.PROVIDER if message.found.kind in ANSWERS else Side.APPLICATION,
                expected=f"at most {limits.URL_BYTES:,} bytes",
                actual=f"{size:,} bytes",
                evidence=[
                    Evidence(
                        "address",
                        message.found.context.get("address", ""),
                        message.source,
                        where,
                        exchange=message.exchange,
                    )
                ],
                compared=False,
            )
            return


@check("http-error", requires=Need.WAY)
def errors(case: Case) -> Answer:
    """Did every hop of the sign-in answer without an error, and the calls by which the application draws its page?"""
    way = way_of(case)
    failed = [
        hop
        for place, hop in enumerate(way.hops)
        if hop.exchange.status >= 400
        and not (_is_sign_out(hop) or _is_handshake(way, place) or _says_more(hop) or is_interface_call(case, hop))
    ]
    for hop in (*(hop for hop in failed if not _came_through(case, way, hop)), *failed[:1]):
        severity = Severity.RISK if _came_through(case, way, hop) else Severity.BREAK
        yield _http_error(case, way, hop)._replace(severity=severity)
        return
    steps = {hop.exchange.number for hop in way.hops}
    for sign in outcome_of(case).against:
        if sign.name == STATUS and sign.exchange.number not in steps:
            yield _http_error(case, way, Hop(sign.exchange, CALLED, None))
            return


def _came_through(case: Case, way: Way, hop: Hop) -> bool:
    """Whether the sign-in went on after an error all the same."""
    back = return_hop(case)
    return shown_in(case) or (back is not None and back in way.after(hop)) or _goes_on(case, way, hop)


def _http_error(case: Case, way: Way, hop: Hop) -> Finding:
    in_json = error_in_json(hop.exchange)
    said = in_json or str(words_of(hop.exchange))
    lost = lost_post(way, hop)
    return finding(
        "http-error",
        say(
            "{host} answered {status} to {method} {path}",
            host=hop.exchange.host or "The server",
            status=hop.exchange.status,
            method=hop.exchange.method,
            path=hop.exchange.parts.path or "/",
        )
        + (
            say(
                "; its {what} says: {quoted_at_end}",
                what="answer" if in_json else "page",
                quoted_at_end=quoted_at_end(said),
            )
            if said
            else "."
        )
        + (words_of_lost_post(lost) if lost else ""),
        side=SIDES.get(parties(case).side_of(hop.exchange), Side.NETWORK),
        remedy=TO_KEEP_IT if lost else None,
        actual=str(hop.exchange.status),
        evidence=[at_hop(case, "status", str(hop.exchange.status), hop.exchange, "response")],
    )


def _is_sign_out(hop: Hop) -> bool:
    """Whether a hop is of a sign-out: its error is none of the sign-in."""
    return any("logout" in kind for kind in hop.kinds)


def _is_handshake(way: Way, place: int) -> bool:
    """Whether a 401 is the first half of an authentication by the browser itself (RFC 4559), gone on with at once."""
    exchange = way.hops[place].exchange
    challenge = (exchange.response("www-authenticate") or "").lower()
    later = [hop.exchange for hop in way.hops[place + 1 :]]
    return exchange.status in (401, 407) and (
        "negotiate" in challenge or any(plain(other.url) == plain(exchange.url) for other in later)
    )


def _goes_on(case: Case, way: Way, hop: Hop) -> bool:
    """Whether, where no message tells more, a page of the application came after an error of the other side."""
    if case.attempt.kind != "way" or parties(case).side_of(hop.exchange) == APPLICATION:
        return False
    return any(
        parties(case).side_of(later.exchange) == APPLICATION and later.exchange.served for later in way.after(hop)
    )


def is_interface_call(case: Case, hop: Hop) -> bool:
    """Whether a hop is a call to an interface with an access token: what it answers is no part of the sign-in."""
    exchange = hop.exchange
    return (
        exchange.kind == CALL
        and exchange.request("authorization") is not None
        and parties(case).side_of(exchange) != PROVIDER
    )


def _says_more(hop: Hop) -> bool:
    """Whether the error is one that a message tells: of the token endpoint, of userinfo."""
    return any(message.kind in ("token-response", "introspection") for message in hop.carries)


CHECKS = (
    loop,
    delivered_once,
    redeemed_in_time,
    posted_where_it_was_meant,
    url_length,
    errors,
)
