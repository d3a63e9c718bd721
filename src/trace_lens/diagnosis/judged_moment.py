"""As of when an attempt is judged: as told, else the moment that the capture or a log recorded, else its own."""

from __future__ import annotations

from datetime import datetime, timedelta

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.common import limits
from trace_lens.intake.carried import DELIVERED, PART
from trace_lens.intake.exchanges import clock_ahead
from trace_lens.intake.found import FoundMessage
from trace_lens.logs.event import APPLICATION, OTHER, PROVIDER
from trace_lens.logs.matching.seen import LogView
from trace_lens.saml.messages import Instant


def moment_of(
    attempt: Attempt, told: datetime | None, logs: LogView | None = None
) -> tuple[datetime | None, str | None]:
    """The moment and what told it: `option`, `capture`, `log` or `message`; both None where nothing tells."""
    if told:
        return told, "option"
    arrived = arrival_of(attempt)
    if arrived:
        return arrived + timedelta(seconds=application_ahead(attempt) or 0.0), "capture"
    logged = _logged(logs) if logs else None
    if logged:
        return logged, "log"
    if isinstance(attempt, OidcAttempt):
        made = _made_at(attempt)
        return made, "message" if made else None
    assertions = attempt.response.assertions if attempt.response else (attempt.assertion,)
    instants: list[Instant | None] = [attempt.response.issue_instant] if attempt.response else []
    instants += [assertion.issue_instant for assertion in assertions if assertion]
    for message in (attempt.request, *attempt.sign_out):
        if message and not attempt.answer:
            instants.append(getattr(message.content, "issue_instant", None))
    for instant in instants:
        if instant and instant.moment:
            return instant.moment, "message"
    return None, None


def _logged(logs: LogView) -> datetime | None:
    """When the application (else the provider, else whatever is between) wrote of the attempt, by the true clock."""
    for role in (APPLICATION, PROVIDER, "gateway"):
        sure = [matched for matched in logs.of(role) if matched.event.outcome != OTHER] or logs.of(role)
        if sure:
            moment = max(sure, key=lambda item: item.probability).corrected
            return moment.replace(microsecond=moment.microsecond // 1000 * 1000)
    return None


def arrival_of(attempt: Attempt) -> datetime | None:
    """When the judged message reached the application, where the capture recorded that.

    A message in a request arrives when the request begins; one in a response when that has been received.
    """
    way = attempt.way
    if way is None:
        return None
    if isinstance(attempt, OidcAttempt):
        named: list[FoundMessage | None] = [
            message.found if message else None for message in (attempt.id_token, attempt.answer)
        ]
    else:
        named = [attempt.answer.found if attempt.answer else None]
    for found in (*named, attempt.found):
        hop = way.hop_of(found)
        if hop and hop.exchange.at and found:
            late = found.context.get(PART) not in DELIVERED
            return hop.exchange.at + timedelta(seconds=hop.exchange.seconds or 0) if late else hop.exchange.at
    return next((hop.exchange.at for hop in way.hops if hop.exchange.at), None)


def application_ahead(attempt: Attempt) -> float | None:
    """By how many seconds the application's clock is ahead of the browser's, by the Date of its answers (RFC 9110
    §6.6.1).

    None where no message was handed to a server of the application, its answers tell no time, or they do not agree
    among themselves; small differences count as none. What an application judges by is its own clock.
    """
    way = attempt.way
    if way is None:
        return None
    held = attempt.answer.found if attempt.answer else attempt.found
    hop = way.hop_of(held)
    if hop is None or held.context.get(PART) not in DELIVERED:
        return None
    found = [
        offset
        for exchange in way.capture.exchanges
        if exchange.host == hop.exchange.host and (offset := clock_ahead(exchange)) is not None
    ]
    if not found or max(found) - min(found) > limits.DATES_AGREE_SECONDS:
        return None
    middle = sorted(found)[len(found) // 2]
    return middle if abs(middle) > limits.DATES_AGREE_SECONDS else None


def _made_at(attempt: OidcAttempt) -> datetime | None:
    """When the first token of an attempt that says so was issued, the judged one before all others."""
    messages = [attempt.id_token, *attempt.messages]
    return next((made for message in messages if message and message.token and (made := message.token.at("iat"))), None)
