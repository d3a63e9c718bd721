"""The windows of time in which the messages of an attempt hold, of whatever protocol."""

from __future__ import annotations

from datetime import datetime

from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.checks.case import Case
from trace_lens.checks.protocols import of_saml
from trace_lens.common.tuples import NamedTuple


class Validity(NamedTuple):
    """A window in which something holds: `begins` and `ends` are None where the message leaves them open."""

    what: str
    begins: datetime | None
    ends: datetime | None


def windows_of(case: Case) -> tuple[Validity, ...]:
    """The windows in which the attempt's messages hold."""
    if of_saml(case):
        from trace_lens.checks.saml.current import windows

        found = [
            Validity(
                window.what, window.start.moment if window.start else None, window.end.moment if window.end else None
            )
            for window in windows(case)
        ]
    else:
        attempt: OidcAttempt = case.attempt
        found = [
            Validity(
                message.kind.replace("-", " "),
                message.token.at("nbf") or message.token.at("iat"),
                message.token.at("exp"),
            )
            for message in attempt.messages
            if message.token
        ]
    return tuple(dict.fromkeys(validity for validity in found if validity.begins or validity.ends))
