"""The windows of time in which the messages of an attempt hold, of whatever protocol."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.checks.case import Case
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.saml.current import windows


class Validity(NamedTuple):
    """A window in which something holds: `begins` and `ends` are None where the message leaves them open."""

    what: str
    begins: datetime | None
    ends: datetime | None


def windows_of(case: Case) -> tuple[Validity, ...]:
    """The windows in which the attempt's messages hold."""
    if isinstance(case, SamlCase):
        found = [
            Validity(one.what, one.start.moment if one.start else None, one.end.moment if one.end else None)
            for one in windows(case)
        ]
    else:
        attempt: OidcAttempt = case.attempt
        found = [
            Validity(one.kind.replace("-", " "), one.token.at("nbf") or one.token.at("iat"), one.token.at("exp"))
            for one in attempt.messages
            if one.token
        ]
    return tuple(dict.fromkeys(one for one in found if one.begins or one.ends))
