"""An attempt of either protocol, and what both have in common."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.attempts.saml import SamlAttempt
from trace_lens.attempts.saml_messages import SamlMessage

Attempt = SamlAttempt | OidcAttempt
"""One try at signing in, or a sign-out by itself."""
Message = SamlMessage | OidcMessage


def messages_in(attempt: Attempt) -> Iterator[Message]:
    """Every message of an attempt, those of earlier rounds among them."""
    if isinstance(attempt, OidcAttempt):
        yield from (*attempt.earlier, *attempt.messages)
        return
    for message in (*attempt.earlier, attempt.request, attempt.artifact, attempt.answer, *attempt.sign_out):
        if message:
            yield message
