"""Messages laid open, each with the use that the application it is for makes of its claims."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from functools import partial

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.evidence import SourceEvidence, read_evidence
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.attempts.saml import SamlAttempt
from trace_lens.attempts.saml_messages import ANSWER_KINDS
from trace_lens.checks.claims import ClaimRow, table
from trace_lens.common.guarding import Faults
from trace_lens.common.kinds import TOKEN_KINDS
from trace_lens.common.tuples import NamedTuple
from trace_lens.decoding.messages import Opened, open_messages
from trace_lens.diagnosis.judging import Options, case_of
from trace_lens.intake.found import FoundMessage
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile


class LaidOpen(NamedTuple):
    """One message laid open; `app` is the application on record that it is for, and `claims` its claims table."""

    opened: Opened
    app: str | None = None
    claims: tuple[ClaimRow, ...] = ()


def lay_open_sources(
    sources: Iterable[SourceFile], workspace: Workspace, now: datetime, app: str | None = None
) -> tuple[list[LaidOpen], list[tuple[str, str]]]:
    """Every message of the sources, and the sources (with the reason) of which something could not be read.

    Raises SettingsError where a key or list of the workspace cannot be used.
    """
    faults = Faults()
    laid: list[LaidOpen] = []
    for source in sources:
        held = read_evidence(source)
        for because in held.problems:
            faults.tell(source.name, because)
        if held.is_there and not held.found:
            faults.tell(source.name, held.peeled.because)
        laid += _lay_open(held, workspace, now, app, faults)
    return laid, faults.told


def _lay_open(
    held: SourceEvidence, workspace: Workspace, now: datetime, app: str | None, faults: Faults
) -> Iterator[LaidOpen]:
    """Every message of a source."""
    issuers = [name for provider in workspace.providers.values() for name in provider.identifiers]
    answers = {id(message.found): message for message in held.saml if message.found.kind in ANSWER_KINDS}
    tokens = {id(message.found): message for message in held.oidc if message.kind in TOKEN_KINDS}

    def of_one(found: FoundMessage) -> list[LaidOpen]:
        message, token = answers.get(id(found)), tokens.get(id(found))
        attempt = SamlAttempt(message, message) if message else OidcAttempt((token,)) if token else None
        opened = open_messages(held.source, held.peeled, issuers, found)
        return [_with_claims(opening, attempt, workspace, now, app) for opening in opened]

    for found in held.found:
        yield from faults.attempt(held.source, f"laying open {found.where or 'it'}", partial(of_one, found)) or ()


def _with_claims(
    opened: Opened, attempt: Attempt | None, workspace: Workspace, now: datetime, app: str | None
) -> LaidOpen:
    if attempt is None or attempt.main.damage:
        return LaidOpen(opened)
    case = case_of(attempt, workspace, Options(now, app=app))
    return LaidOpen(opened, case.app.name, table(case)) if case.app else LaidOpen(opened)
