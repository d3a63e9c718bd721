"""What an account rule makes of names: after each step, and the account that is found."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from trace_lens.common.difference import difference
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple
from trace_lens.people.accounts import AccountIndex, Near
from trace_lens.people.rewriting import rewrite
from trace_lens.people.subjects import Made, made_name
from trace_lens.workspace.account_rows import AccountRow
from trace_lens.workspace.records import App, Workspace
from trace_lens.workspace.settings import Rewrite

FOUND, NEAR, AMBIGUOUS, NONE, OTHER = "found", "near", "ambiguous", "none", "other"


RESULTS = (FOUND, NEAR, AMBIGUOUS, OTHER, NONE)
"""What can come of a name: its account; one that is nearly it; several; another person's; none."""


class Named(NamedTuple):
    """One name as it is sent, and where it was taken from.

    `made` says how the provider makes it, and `person` whose it is, where it was taken from an account.
    """

    name: str
    source: str
    where: Location
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


class Proposal(NamedTuple):
    """A whole rule that repairs names which fail, as the steps of a TOML list; `held_against` names were tried."""

    steps: list[dict[str, object]]
    repairs: tuple[str, ...]
    held_against: int


def everybody(app: App, workspace: Workspace, seen: Named) -> list[Named]:
    """The name of everybody with an account, as the provider that sent one name would send it. Raises SettingsError."""
    return list(names_of_accounts(app, workspace, app.accounts or [], [], are_addresses([seen])))


def are_addresses(names: list[Named] | None) -> bool | None:
    """Whether the names seen to be sent are addresses rather than logins; None where none were seen."""
    return sum("@" in name.name for name in names) * 2 >= len(names) if names else None


def apply(names: Iterable[Named], rule: tuple[Rewrite, ...], index: AccountIndex) -> list[Identified]:
    """What a rule makes of each name, and which account comes of it."""
    made = [(named, tuple(rewrite(named.name, rule)) if rule else ()) for named in names]
    found = [index.find(steps[-1] if steps else named.name) for named, steps in made]
    index.look_for(
        [steps[-1] if steps else pair.name for (pair, steps), rows in zip(made, found, strict=True) if not rows]
    )
    return [_one(named, steps, rows, index) for (named, steps), rows in zip(made, found, strict=True)]


def _one(named: Named, steps: tuple[str, ...], rows: list[AccountRow], index: AccountIndex) -> Identified:
    if len(rows) == 1:
        own = named.person is None or rows[0] is named.person
        return Identified(named, steps, FOUND if own else OTHER, (rows[0],))
    if rows:
        return Identified(named, steps, AMBIGUOUS, tuple(rows))
    near = tuple(index.near(steps[-1] if steps else named.name))
    return Identified(named=named, steps=steps, result=NEAR if near else NONE, accounts=(), near=near)


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
    for item in found:
        if item.result in (FOUND, OTHER) and item.account:
            person = item.named.person
            if person is None and "@" not in item.named.name:
                continue
            who = person.user if person else item.named.name.casefold()
            leading.setdefault((item.account.user, person is not None), {}).setdefault(who, item.named.name)
    return {account: tuple(names.values()) for (account, _), names in leading.items() if len(names) > 1}


def names_of_accounts(
    app: App, workspace: Workspace, rows: list[AccountRow], unsent: list[AccountRow], addresses: bool | None
) -> Iterator[Named]:
    """The name of everybody with an account, as the provider would send it; who has none is put into `unsent`."""
    provider = workspace.provider_of(app)
    file = app.settings.account.list_file or ""
    for row in rows:
        made = made_name(row, app, provider, addresses=addresses)
        if made is None:
            unsent.append(row)
        else:
            yield Named(name=made.name, source=file, where=Location(line=row.line), made=made, person=row)
