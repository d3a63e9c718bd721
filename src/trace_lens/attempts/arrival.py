"""When the judged message reached the application, and how far its clock was ahead, as far as a capture shows it."""

from __future__ import annotations

from datetime import datetime, timedelta

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.common import limits
from trace_lens.intake.carried import DELIVERED, PART
from trace_lens.intake.exchanges import clock_ahead
from trace_lens.intake.found import FoundMessage


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
        for exchange in way.exchanges
        if exchange.number >= way.hops[0].exchange.number
        and exchange.received
        and exchange.host == hop.exchange.host
        and (offset := clock_ahead(exchange)) is not None
    ]
    if not found or max(found) - min(found) > limits.DATES_AGREE_SECONDS:
        return None
    middle = sorted(found)[len(found) // 2]
    return middle if abs(middle) > limits.DATES_AGREE_SECONDS else None
