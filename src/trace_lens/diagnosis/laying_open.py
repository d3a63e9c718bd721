"""Messages laid open, each with the use that the application it is for makes of its claims."""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from trace_lens.attempts.assembly import Attempt
from trace_lens.attempts.oidc import OidcAttempt, read_oidc
from trace_lens.attempts.opening import Opened, open_messages
from trace_lens.attempts.opening_oidc import TOKEN_KINDS
from trace_lens.attempts.reading import ANSWER_KINDS, read_messages
from trace_lens.checks.claims import ClaimRow, table
from trace_lens.diagnosis.judging import Circumstances, case_of
from trace_lens.intake.peeling import Peeled
from trace_lens.workspace.loading import Workspace


class LaidOpen(NamedTuple):
    """One message laid open; `app` is the application on record that it is for, and `claims` its claims table."""

    opened: Opened
    app: str | None = None
    claims: tuple[ClaimRow, ...] = ()


def lay_open(
    source: str, peeled: Peeled, workspace: Workspace, now: datetime, app: str | None = None
) -> list[LaidOpen]:
    """Every message of a source. Raises SettingsError where a key or list of the workspace cannot be used."""
    issuers = [name for one in workspace.providers.values() for name in one.identifiers]
    answers = {id(one.found): one for one in read_messages(source, peeled) if one.found.kind in ANSWER_KINDS}
    tokens = {id(one.found): one for one in read_oidc(source, peeled) if one.kind in TOKEN_KINDS}
    laid = []
    for found in peeled.found:
        one_by_one = open_messages(source, peeled, issuers, found)
        message = answers.get(id(found))
        token = tokens.get(id(found))
        attempt = Attempt(message, message) if message else OidcAttempt((token,)) if token else None
        laid += [_with_claims(one, attempt, workspace, now, app) for one in one_by_one]
    return laid


def _with_claims(
    opened: Opened, attempt: Attempt | OidcAttempt | None, workspace: Workspace, now: datetime, app: str | None
) -> LaidOpen:
    if attempt is None or attempt.main.damage:
        return LaidOpen(opened)
    case = case_of(attempt, workspace, Circumstances(now, app=app))
    return LaidOpen(opened, case.app.name, table(case)) if case.app else LaidOpen(opened)
