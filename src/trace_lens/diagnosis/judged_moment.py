"""As of when an attempt is judged: as told, else the moment that the capture or a log recorded, else its own."""

from __future__ import annotations

from datetime import datetime, timedelta

from trace_lens.attempts.arrival import application_ahead, arrival_of
from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.oidc import OidcAttempt
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


def _made_at(attempt: OidcAttempt) -> datetime | None:
    """When the first token of an attempt that says so was issued, the judged one before all others."""
    messages = [attempt.id_token, *attempt.messages]
    return next((made for message in messages if message and message.token and (made := message.token.at("iat"))), None)
