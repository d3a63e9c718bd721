"""As of when an attempt is judged: as told, else the moment that the capture or a log recorded, else its own."""

from __future__ import annotations

from datetime import datetime

from trace_lens.attempts.assembly import Attempt
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.saml.messages import Instant


def moment_of(attempt: Attempt | OidcAttempt, told: datetime | None) -> tuple[datetime | None, str | None]:
    """The moment and what told it: `option` or `message`; both None where nothing tells."""
    if told:
        return told, "option"
    if isinstance(attempt, OidcAttempt):
        made = _made_at(attempt)
        return made, "message" if made else None
    assertions = attempt.response.assertions if attempt.response else (attempt.assertion,)
    instants: list[Instant | None] = [attempt.response.issue_instant] if attempt.response else []
    instants += [one.issue_instant for one in assertions if one]
    for message in (attempt.request, *attempt.sign_out):
        if message and not attempt.answer:
            instants.append(getattr(message.content, "issue_instant", None))
    for instant in instants:
        if instant and instant.moment:
            return instant.moment, "message"
    return None, None


def _made_at(attempt: OidcAttempt) -> datetime | None:
    """When the first token of an attempt that says so was issued, the judged one before all others."""
    messages = [attempt.id_token, *attempt.messages]
    return next((made for one in messages if one and one.token and (made := one.token.at("iat"))), None)
