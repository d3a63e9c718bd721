"""What an application's account rule makes of names: before, after each step, and the account that is found.

The names come from a capture, a list, or all accounts on record; those are carried through the provider's own rules
first. Another rule can be laid beside the one on record, to see whom it would gain, lose or merge.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime

from trace_lens.attempts.evidence import SourceEvidence, read_evidence
from trace_lens.checks.identified import account_name
from trace_lens.common.locations import NOWHERE
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.gathering import attempts_in
from trace_lens.diagnosis.judging import Options, case_of
from trace_lens.people.accounts import AccountIndex, account_index
from trace_lens.people.name_lists import names_in
from trace_lens.people.names import (
    Changed,
    Identified,
    Named,
    Proposal,
    apply,
    are_addresses,
    compared,
    names_of_accounts,
)
from trace_lens.workspace.account_rows import AccountRow
from trace_lens.workspace.records import App, Workspace
from trace_lens.workspace.settings import Rewrite
from trace_lens.workspace.sources import SourceFile


class Identification(NamedTuple):
    """All names of one application with what becomes of them; `failed` are sources that could not be read.

    `supposed` is the field that is taken to be sent, where no rule of the provider's says so. Where another rule was
    `tried`, the names are those under it and `changed` says what that changes; else `proposal` is the rule, if any,
    that would repair names which fail.
    """

    app: App
    rule: tuple[Rewrite, ...]
    names: list[Identified]
    listed: int
    supposed: str | None
    unsent: list[AccountRow]
    failed: list[tuple[str, str]]
    tried: tuple[Rewrite, ...] | None = None
    changed: Changed | None = None
    proposal: Proposal | None = None

    def counted(self, result: str) -> int:
        """How many names came to this result."""
        return sum(name.result == result for name in self.names)


class NoAccounts(Exception):
    """The application has no account list on record."""


def identify(
    app: App,
    workspace: Workspace,
    sources: Iterable[SourceFile] | None,
    now: datetime,
    tried: App | None = None,
) -> Identification:
    """Apply the account rule to the names of sources, or of all accounts where `sources` is None.

    `tried` is the same application under another rule. Raises NoAccounts, SettingsError.
    """
    rows = app.accounts
    if rows is None:
        raise NoAccounts(app.id)
    index = account_index(app, rows, workspace)
    failed: list[tuple[str, str]] = []
    unsent: list[AccountRow] = []
    given = None if sources is None else list(_of_sources(app, workspace, sources, now, failed))
    people = list(names_of_accounts(app, workspace, rows, unsent, are_addresses(given)))
    names = people if given is None else given
    found = apply(names, app.settings.account.rewrite, index)
    all_names = names if given is None else [*names, *people]
    from trace_lens.people.rules import propose_rule

    supposed = next((name.made.field for name in names if name.made and name.made.rule is None), None)
    result = Identification(
        app=app,
        rule=app.settings.account.rewrite,
        names=found,
        listed=len(rows),
        supposed=supposed,
        unsent=unsent if sources is None else [],
        failed=failed,
    )
    if tried is not None:
        other = AccountIndex(rows, tried.settings.account.compare, index.home)
        before = apply(all_names, app.settings.account.rewrite, index)
        after = apply(all_names, tried.settings.account.rewrite, other)
        return result._replace(
            names=after[: len(names)], tried=tried.settings.account.rewrite, changed=compared(before, after)
        )
    return result._replace(proposal=propose_rule(app, index, found, all_names))


def _of_sources(
    app: App, workspace: Workspace, sources: Iterable[SourceFile], now: datetime, failed: list[tuple[str, str]]
) -> Iterator[Named]:
    """The names of captures and of lists."""
    for source in sources:
        held = read_evidence(source)
        if source.data is None and not held.found:
            failed += ((source.name, because) for because in held.problems)
        elif held.found:
            yield from _of_capture(app, workspace, held, now, failed)
        elif source.data is not None:
            listed = list(names_in(source.name, source.data))
            if not listed:
                failed.append((source.name, "it holds neither a message nor a list of names"))
            yield from listed


def _of_capture(
    app: App, workspace: Workspace, source: SourceEvidence, now: datetime, failed: list[tuple[str, str]]
) -> Iterator[Named]:
    attempts, wrong = attempts_in([source])
    failed += wrong
    for attempt in attempts:
        case = case_of(attempt, workspace, Options(now, app=app.id))
        name = account_name(case)
        if name is None:
            failed.append((source.source, "its message holds no name that the account rule could be applied to"))
            continue
        shown = next(iter(name.at.shown("name")), None)
        yield Named(name.sent, shown.source if shown else source.source, shown.where if shown else NOWHERE)
