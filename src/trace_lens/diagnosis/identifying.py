"""What an application's account rule makes of names: before, after each step, and the account that is found.

The names come from a capture, a list, or all accounts on record; those are carried through the provider's own rules
first. Another rule can be laid beside the one on record, to see whom it would gain, lose or merge.
"""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import NamedTuple

from trace_lens.checks.identified import account_index, account_name
from trace_lens.common.difference import difference
from trace_lens.common.octets import as_utf8
from trace_lens.diagnosis.judging import Circumstances, case_of
from trace_lens.diagnosis.many import attempts_of
from trace_lens.intake.peeling import peel
from trace_lens.workspace.accounts import AccountIndex, Near
from trace_lens.workspace.lists import AccountRow
from trace_lens.workspace.loading import App, Workspace
from trace_lens.workspace.rewriting import rewrite
from trace_lens.workspace.settings import Rewrite
from trace_lens.workspace.sources import SourceFile
from trace_lens.workspace.subjects import Made, made_name

FOUND, NEAR, AMBIGUOUS, NONE, OTHER = "found", "near", "ambiguous", "none", "other"
RESULTS = (FOUND, NEAR, AMBIGUOUS, OTHER, NONE)
"""What can come of a name: its account; one that is nearly it; several; another person's; none."""
_NAME_COLUMNS = ("name", "nameid", "name_id", "subject", "user", "username", "login", "email", "mail")


class Named(NamedTuple):
    """One name as it is sent, and where it was taken from.

    `made` says how the provider makes it, and `person` whose it is, where it was taken from an account.
    """

    name: str
    source: str
    where: str
    made: Made | None = None
    person: AccountRow | None = None


class Identified(NamedTuple):
    """What the rule makes of one name (`steps` has one entry a step), and the account that comes of it."""

    named: Named
    steps: tuple[str, ...]
    result: str
    accounts: tuple[AccountRow, ...] = ()
    near: tuple[Near, ...] = ()

    @property
    def wanted(self) -> str:
        """The name that is looked for."""
        return self.steps[-1] if self.steps else self.named.name

    @property
    def account(self) -> AccountRow | None:
        """The one account that is found, or that comes nearest."""
        if len(self.accounts) == 1:
            return self.accounts[0]
        return self.near[0].row if self.near and not self.accounts else None

    @property
    def difference(self) -> str | None:
        """The kind of difference to the account that comes nearest."""
        found = difference(self.near[0].row.user, self.wanted) if self.near and not self.accounts else None
        return found.kind if found else None


class Changed(NamedTuple):
    """What another rule changes: names that gain their account, lose it, come to another, or fall together in one."""

    gained: tuple[Identified, ...]
    lost: tuple[Identified, ...]
    moved: tuple[tuple[Identified, Identified], ...]
    merged: tuple[tuple[str, tuple[str, ...]], ...]

    @property
    def harmless(self) -> bool:
        """Whether nobody is lost, moved or merged."""
        return not (self.lost or self.moved or self.merged)


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
        return sum(one.result == result for one in self.names)


class Proposal(NamedTuple):
    """A whole rule that repairs names which fail, as the steps of a TOML list; `held_against` names were tried."""

    steps: list[dict[str, object]]
    repairs: tuple[str, ...]
    held_against: int


class NoAccounts(Exception):
    """The application has no account list on record."""


def identify(
    app: App, workspace: Workspace, sources: Iterable[SourceFile] | None, now: datetime,
    tried: App | None = None,
) -> Identification:  # fmt: skip
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
    people = list(_of_accounts(app, workspace, rows, unsent, _are_addresses(given)))
    names = people if given is None else given
    found = apply(names, app.settings.account.rewrite, index)
    all_names = names if given is None else [*names, *people]
    from trace_lens.diagnosis.rules import propose_rule

    supposed = next((one.made.field for one in names if one.made and one.made.rule is None), None)
    result = Identification(
        app, app.settings.account.rewrite, found, len(rows), supposed, unsent if sources is None else [], failed
    )
    if tried is not None:
        other = AccountIndex(rows, tried.settings.account.compare, index.home)
        before = apply(all_names, app.settings.account.rewrite, index)
        after = apply(all_names, tried.settings.account.rewrite, other)
        return result._replace(
            names=after[: len(names)], tried=tried.settings.account.rewrite, changed=compared(before, after)
        )
    return result._replace(proposal=propose_rule(app, index, found, all_names))


def everybody(app: App, workspace: Workspace, seen: Named) -> list[Named]:
    """The name of everybody with an account, as the provider that sent one name would send it. Raises SettingsError."""
    return list(_of_accounts(app, workspace, app.accounts or [], [], _are_addresses([seen])))


def _are_addresses(names: list[Named] | None) -> bool | None:
    """Whether the names seen to be sent are addresses rather than logins; None where none were seen."""
    return sum("@" in one.name for one in names) * 2 >= len(names) if names else None


def apply(names: Iterable[Named], rule: tuple[Rewrite, ...], index: AccountIndex) -> list[Identified]:
    """What a rule makes of each name, and which account comes of it."""
    made = [(named, tuple(rewrite(named.name, rule)) if rule else ()) for named in names]
    found = [index.find(steps[-1] if steps else named.name) for named, steps in made]
    index.look_for(
        [steps[-1] if steps else one.name for (one, steps), rows in zip(made, found, strict=True) if not rows]
    )
    return [_one(named, steps, rows, index) for (named, steps), rows in zip(made, found, strict=True)]


def _one(named: Named, steps: tuple[str, ...], rows: list[AccountRow], index: AccountIndex) -> Identified:
    if len(rows) == 1:
        own = named.person is None or rows[0] is named.person
        return Identified(named, steps, FOUND if own else OTHER, (rows[0],))
    if rows:
        return Identified(named, steps, AMBIGUOUS, tuple(rows))
    near = tuple(index.near(steps[-1] if steps else named.name))
    return Identified(named, steps, NEAR if near else NONE, (), near)


def compared(before: list[Identified], after: list[Identified]) -> Changed:
    """What changes for the same names between two rules."""
    gained, lost, moved = [], [], []
    for old, new in zip(before, after, strict=True):
        if old.result != FOUND and new.result == FOUND:
            gained.append(new)
        elif old.result == FOUND and new.result != FOUND:
            lost.append(new)
        elif old.result == new.result == FOUND and old.account is not new.account:
            moved.append((old, new))
    together = _together(before)
    merged = tuple((name, who) for name, who in _together(after).items() if who != together.get(name))
    return Changed(tuple(gained), tuple(lost), tuple(moved), merged)


def _together(found: list[Identified]) -> dict[str, tuple[str, ...]]:
    """Accounts that several people's names lead to, with those names.

    Names of known people count by person. A name from elsewhere counts as a person of its own only where it is a whole
    address, and only beside others from elsewhere: a login or a known person's name may be the same person's.
    """
    leading: dict[tuple[str, bool], dict[str, str]] = {}
    for one in found:
        if one.result in (FOUND, OTHER) and one.account:
            person = one.named.person
            if person is None and "@" not in one.named.name:
                continue
            who = person.user if person else one.named.name.casefold()
            leading.setdefault((one.account.user, person is not None), {}).setdefault(who, one.named.name)
    return {account: tuple(names.values()) for (account, _), names in leading.items() if len(names) > 1}


def _of_accounts(
    app: App, workspace: Workspace, rows: list[AccountRow], unsent: list[AccountRow], addresses: bool | None
) -> Iterator[Named]:
    provider = workspace.provider_of(app)
    file = app.settings.account.list_file or ""
    for row in rows:
        made = made_name(row, app, provider, addresses=addresses)
        if made is None:
            unsent.append(row)
        else:
            yield Named(made.name, file, f"line {row.line}", made, row)


def _of_sources(
    app: App, workspace: Workspace, sources: Iterable[SourceFile], now: datetime, failed: list[tuple[str, str]]
) -> Iterator[Named]:
    """The names of captures and of lists."""
    for source in sources:
        if source.data is None:
            failed.append((source.name, source.problem or ""))
        elif peel(source.data).found:
            yield from _of_capture(app, workspace, source, now, failed)
        else:
            listed = list(_of_list(source.name, source.data))
            if not listed:
                failed.append((source.name, "it holds neither a message nor a list of names"))
            yield from listed


def _of_capture(
    app: App, workspace: Workspace, source: SourceFile, now: datetime, failed: list[tuple[str, str]]
) -> Iterator[Named]:
    attempts, wrong = attempts_of([source])
    failed += wrong
    for attempt in attempts:
        case = case_of(attempt, workspace, Circumstances(now, app=app.id))
        name = account_name(case)
        if name is None:
            failed.append((source.name, "its message holds no name that the account rule could be applied to"))
            continue
        shown = next(iter(name.at.shown("name")), None)
        yield Named(name.sent, shown.source if shown else source.name, shown.where if shown else "")


def _of_list(source: str, data: bytes) -> Iterator[Named]:
    """Names one a line, in a column of a CSV with a header, or as a JSON list of texts."""
    if b"\0" in data[:4096]:
        return
    text = as_utf8(data).decode("utf-8-sig", "replace")
    if text.lstrip()[:1] == "[":
        try:
            listed = json.loads(text)
        except ValueError:
            return
        for number, one in enumerate(listed, 1):
            if isinstance(one, str) and one.strip():
                yield Named(one.strip(), source, f"entry {number}")
        return
    first = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=first.count)
    header = [name.strip().strip('"').casefold() for name in first.split(delimiter)]
    column = next((header.index(name) for name in _NAME_COLUMNS if name in header), None)
    if column is None:
        for number, line in enumerate(text.splitlines(), 1):
            if line.strip() and not line.startswith("#"):
                yield Named(line.strip(), source, f"line {number}")
        return
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=delimiter)
    next(reader)
    for row in reader:
        if column < len(row) and row[column].strip():
            yield Named(row[column].strip(), source, f"line {reader.line_num}")
