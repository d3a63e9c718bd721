"""Whether the user is assigned to the application at the provider."""

from __future__ import annotations

import re
from collections.abc import Sequence

from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.claims import matches
from trace_lens.checks.identified import account_name, index_of
from trace_lens.checks.way.names import typed_names
from trace_lens.checks.way.said import refusal_page
from trace_lens.common.findings import Allows, Evidence, Finding, Unchecked, lack
from trace_lens.common.locations import Location
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.saml.names import short
from trace_lens.workspace.account_rows import AssignmentRow
from trace_lens.workspace.records import App


@check("not-assigned", requires=Need.ASSERTION)
def assigned(case: Case) -> Answer:
    """Is the user, or a group of theirs, assigned to the application at the provider?"""
    app = case.app
    if app is None:
        yield Unchecked("not-assigned", "no application is known for this message")
        return
    declared = app.settings.provider_setup.assigned
    if declared == "everyone":
        return
    if case.other_provider:
        yield Unchecked(
            "not-assigned", "the assignments on record are those of another provider than the one that answered"
        )
        return
    rows = app.assignments
    if rows is None or declared is None:
        yield Unchecked(
            "not-assigned",
            lack(f"no assignments on record for {app.id}", Allows.RECORD, app.source.file, "provider_setup.assigned"),
        )
        return
    people, told, groups = _who(case)
    if not people:
        yield Unchecked("not-assigned", "the message holds no name to look for")
        return
    users = {row.user.casefold() for row in rows if row.user}
    assigned_groups = {row.group.casefold() for row in rows if row.group}
    if {name.casefold() for name in people} & users or {name.casefold() for name in groups} & assigned_groups:
        return
    if assigned_groups and case.markers:
        yield Unchecked("not-assigned", "the groups were left out, so membership in an assigned group cannot be told")
        return
    untold = None if told else _untold(app, {row.group for row in rows if row.group})
    if untold:
        yield Unchecked("not-assigned", untold)
        return
    yield _not_assigned(case, app, rows, case.subject.value if case.subject else sorted(people)[0], groups)


def _untold(app: App, assigned: set[str]) -> str | None:
    """Why nothing tells whether the user is in an assigned group, where neither the message nor the account list told
    any group of theirs; None where a list of members tells, or no group is assigned.
    """
    unlisted = sorted(name for name in assigned if not app.members.lists(name))
    if not unlisted:
        return None
    where = app.settings.account.groups or "a list of its members ([account] groups)"
    return say(
        "{app_name} is assigned to the group {unlisted}, and nothing here tells who is in it: "
        "{where}, or the groups in the message, would",
        app_name=app.name,
        unlisted=unlisted[0],
        where=where,
    )


def _not_assigned(case: Case, app: App, rows: Sequence[AssignmentRow], name: str, groups: set[str]) -> Finding:
    nobody = say("Nobody is assigned to {app_name} at the provider yet.", app_name=app.name) if not rows else ""
    return finding(
        "not-assigned",
        nobody
        or say(
            "Neither {name} nor a group of theirs is assigned to {app_name} at the provider.",
            name=name,
            app_name=app.name,
        ),
        actual=name,
        value_to_set=name,
        evidence=[
            *(case.subject.shown(case.subject_label) if case.subject else ()),
            Evidence(
                "assignments", f"{len(rows)} on record", app.settings.provider_setup.assigned or "", Location(line=1)
            ),
            *(
                [
                    Evidence(
                        "groups", ", ".join(sorted(groups)[:6]), case.attempt.source, Location(part=case.main_source)
                    )
                ]
                if groups
                else []
            ),
        ],
    )


@check("not-assigned", requires=Need.WAY)
def assigned_by_typed_name(case: Case) -> Answer:
    """Is the person assigned who typed a name at the provider and was turned away there?"""
    app = case.app
    names = typed_names(case)
    if app is None or app.assignments is None or not names or refusal_page(case) is None:
        return
    rows = app.assignments
    index = index_of(case, app)
    people, told = set(names[:1]), set[str]()
    for row in index.find(names[0]) or [near.row for near in index.near(names[0])[:1]] if index else ():
        people |= set(row.spellings)
        told |= set(row.groups)
    groups = told | app.members.of(people | told)
    if {name.casefold() for name in people} & {row.user.casefold() for row in rows if row.user}:
        return
    if {name.casefold() for name in groups} & {row.group.casefold() for row in rows if row.group}:
        return
    if not told and _untold(app, {row.group for row in rows if row.group}):
        return
    yield _not_assigned(case, app, rows, names[0], groups)


def _who(case: Case) -> tuple[set[str], set[str], set[str]]:
    """Every spelling known for the person, the groups that the message or the account list tells, and with those of the
    lists of members every group that they are known to be in.
    """
    people = {case.subject.value} if case.subject else set()
    found = account_name(case)
    groups: set[str] = set()
    if found:
        people |= {found.sent, found.wanted}
    app = case.app
    if app is None:
        return people, groups, groups
    index = index_of(case, app)
    for row in (
        (index.find(found.wanted) or [near.row for near in index.near(found.wanted)[:1]]) if index and found else ()
    ):
        people |= set(row.spellings)
        groups |= set(row.groups)
    for name, values in case.said.items():
        last = re.split(r"[/:#]", name)[-1].casefold()
        if last in ("mail", "email", "emailaddress", "uid", "upn", "username", "login", "objectid", "objectidentifier"):
            people |= {value for value in values if value}
    for match in matches(case):
        if match.claim.means != "plain":
            groups |= set(match.filled)
    groups |= {v for name, values in case.said.items() if short(name).casefold() in ("groups", "group") for v in values}
    return people, groups, groups | app.members.of(people | groups)


CHECKS = (assigned, assigned_by_typed_name)
