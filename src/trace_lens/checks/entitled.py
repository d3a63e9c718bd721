"""Entitled: claims, roles, groups and assignment allow the user in."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.claims import Match, matches, table
from trace_lens.checks.identified import account_name, index_of
from trace_lens.checks.way.said import refusal_page
from trace_lens.checks.way.signs import typed_names
from trace_lens.common.difference import nearest
from trace_lens.common.findings import Evidence, Finding, Severity, Unchecked
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.saml.names import short
from trace_lens.workspace.account_rows import AssignmentRow
from trace_lens.workspace.loading import App
from trace_lens.workspace.settings import Claim

_GUID = re.compile(r"\{?[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}\}?")


def _app(case: Case) -> str:
    return case.app.name if case.app else "the application"


def _sent(case: Case, match: Match) -> list[Evidence]:
    shown = ", ".join(match.values[:6]) + (f" … ({len(match.values)} in all)" if len(match.values) > 6 else "")
    return [evidence._replace(value=shown) for evidence in case.evidence_of(match.sent_as or "")]


def _wanted(case: Case, match: Match, label: str = "claim", *key: str) -> Evidence:
    return case.set_in_app(label, match.claim.name, "claims", match.position, *key)


@check("claim-missing", "claim-empty", "claim-name-near-match")
def claims_there(case: Case) -> Answer:
    """Is every claim there that must or should be, under its name, with a value?"""
    if case.app is None:
        yield Unchecked("claim-missing", "no application is known for this message")
        return
    for match in matches(case):
        claim = match.claim
        severity = {"must": Severity.BREAK, "should": Severity.RISK}.get(claim.need)
        if severity is None:
            continue
        if match.near:
            yield finding(
                "claim-name-near-match",
                say(
                    "{app_name} reads {claim_name}; it was sent as {sent_as}.",
                    app_name=case.app.name,
                    claim_name=claim.name,
                    sent_as=match.sent_as,
                ),
                severity=severity,
                expected=claim.name,
                actual=match.sent_as,
                value_to_set=claim.name,
                evidence=[*_sent(case, match), _wanted(case, match)],
            )
        elif match.sent_as is None:
            yield finding(
                "claim-missing",
                say(
                    "The claim {claim_name}, which {app_name} {words}, was not sent{not_released}.",
                    claim_name=claim.name,
                    app_name=case.app.name,
                    words="needs" if claim.need == "must" else "expects",
                    not_released=_not_released(case, claim),
                ),
                severity=severity,
                expected=claim.name,
                value_to_set=claim.name,
                evidence=[_wanted(case, match)],
            )
        elif not match.filled:
            yield finding(
                "claim-empty",
                say("The claim {claim_name} was sent without a value.", claim_name=claim.name),
                severity=severity,
                expected=claim.name,
                evidence=[*_sent(case, match), _wanted(case, match)],
            )


def _not_released(case: Case, claim: Claim) -> str:
    """That a claim is not among those that the provider releases to the application, where these are on record."""
    released = case.app.settings.provider_setup.claims_released if case.app else ()
    if not released or {claim.name, *claim.also_as} & set(released):
        return ""
    return say(": the provider releases only {released} to it", released=", ".join(released))


@check("claim-value-not-allowed", "claim-not-single")
def values_allowed(case: Case) -> Answer:
    """Does the application know the values that were sent?"""
    for match in matches(case):
        claim = match.claim
        if not match.served or not match.filled:
            continue
        if claim.single and len(match.filled) > 1:
            yield finding(
                "claim-not-single",
                say(
                    "{claim_name} was sent with {filled} values where one is expected.",
                    claim_name=claim.name,
                    filled=len(match.filled),
                ),
                expected="one value",
                actual=", ".join(match.filled[:6]),
                evidence=[*_sent(case, match), _wanted(case, match)],
                compared=False,
            )
        if claim.means != "groups":
            yield from _unknown_values(case, match)


def _known(claim: Claim) -> list[str]:
    known = list(dict.fromkeys([*claim.one_of, *claim.elevated]))
    if claim.default_role and known:
        known.append(claim.default_role)
    return known


def _unknown_values(case: Case, match: Match) -> Iterator[Finding]:
    claim = match.claim
    known = _known(claim)
    if known:
        wrong = [value for value, mapped in zip(match.filled, match.mapped(), strict=True) if mapped not in known]
    elif claim.maps:
        wrong = [value for value in match.filled if value not in claim.maps and value not in claim.maps.values()]
        known = list(claim.maps)
    else:
        return
    some_fit = len(wrong) < len(match.filled)
    for value in wrong[:3]:
        near = nearest(value, known)
        yield finding(
            "claim-value-not-allowed",
            say("{value} is no value of {claim_name} that the application knows", value=value, claim_name=claim.name)
            + (
                say("; the nearest one is {near}.", near=near)
                if near
                else say(" (it knows {known}).", known=", ".join(known[:6]))
            ),
            severity=Severity.RISK if some_fit else Severity.BREAK,
            expected=near or ", ".join(known[:6]),
            actual=value,
            value_to_set=near,
            evidence=[*_sent(case, match), _wanted(case, match, "claim", "one_of")],
            compared=near is not None,
        )


@check("claim-unused")
def claims_used(case: Case) -> Answer:
    """Is anything sent that nothing here reads?"""
    if case.app is None:
        return
    for row in table(case):
        if row.use == "unused":
            yield finding(
                "claim-unused",
                say("{row_name} was sent, and nothing on record reads it.", row_name=row.name),
                actual=row.name,
                evidence=case.evidence_of(row.name),
            )


@check("ordinary-role-missing")
def ordinary_role(case: Case) -> Answer:
    """Is there a role for ordinary users?"""
    for position, claim in enumerate(case.app.settings.claims if case.app else ()):
        if lacks_ordinary_role(claim):
            yield finding(
                "ordinary-role-missing",
                say(
                    "Every role that {app} knows is elevated ({one_of}), so whoever is let in is powerful.",
                    app=_app(case),
                    one_of=", ".join(claim.one_of),
                ),
                actual=", ".join(claim.one_of),
                evidence=[case.set_in_app("one_of", ", ".join(claim.one_of), "claims", position, "one_of")],
            )


def lacks_ordinary_role(claim: Claim) -> bool:
    """Whether a role claim knows elevated values only."""
    return bool(
        claim.means == "role" and claim.one_of and set(claim.one_of) <= set(claim.elevated) and not claim.default_role
    )


@check("groups-left-out")
def groups_fit(case: Case) -> Answer:
    """Were groups left out because they did not fit?"""
    for marker in case.markers:
        lacking = [match.claim.name for match in matches(case) if _depends_on_groups(match)]
        yield finding(
            "groups-left-out",
            say("The provider left the groups out because they did not fit, and says so by {marker}.", marker=marker)
            + (say(" {app} needs them for: {lacking}.", app=_app(case), lacking=", ".join(lacking)) if lacking else ""),
            severity=Severity.BREAK if lacking else Severity.RISK,
            actual=marker,
            evidence=[
                evidence._replace(value=", ".join(case.said.get(marker, ())) or evidence.value)
                for evidence in case.evidence_of(marker)
            ],
        )


def _depends_on_groups(match: Match) -> bool:
    """A group or role claim that must be there, or that is mapped, and has no value."""
    claim = match.claim
    if match.filled or claim.means == "plain":
        return False
    return claim.need == "must" or bool(claim.maps)


@check("groups-near-limit")
def groups_room(case: Case) -> Answer:
    """Is there room for more groups?"""
    most = case.most_groups
    for match in matches(case):
        if most and match.claim.means == "groups" and len(match.filled) * 10 >= most * 9:
            yield finding(
                "groups-near-limit",
                say(
                    "{filled} groups were sent, and at most {most} fit; with more, none will be sent.",
                    filled=len(match.filled),
                    most=most,
                ),
                expected=f"at most {most}",
                actual=str(len(match.filled)),
                evidence=_sent(case, match),
                compared=False,
            )


@check("group-style-mismatch", "group-unmapped")
def groups_known(case: Case) -> Answer:
    """Are the groups named as the application names them, and does any of them mean something here?"""
    for match in matches(case):
        claim = match.claim
        known = [*claim.maps, *_known(claim)] if not claim.maps else list(claim.maps)
        if claim.means == "plain" or (claim.means == "role" and not claim.maps) or not match.served:
            continue
        if not known or not match.filled or any(value in known for value in match.filled):
            continue
        if claim.means == "role" and any(value in _known(claim) for value in match.filled):
            continue
        ids_sent = all(_GUID.fullmatch(value) for value in match.filled)
        ids_known = all(_GUID.fullmatch(value) for value in known)
        if ids_sent != ids_known and not (_mixed(match.filled) or _mixed(known)):
            yield finding(
                "group-style-mismatch",
                say(
                    "The groups were sent {words}, and {app} knows them {words_2}.",
                    words="by directory id" if ids_sent else "by name",
                    app=_app(case),
                    words_2="by directory id" if ids_known else "by name",
                ),
                expected=known[0],
                actual=match.filled[0],
                evidence=[*_sent(case, match), _wanted(case, match, "known groups", "maps")],
                compared=False,
            )
        elif claim.means == "groups":
            near = next((found for value in match.filled if (found := nearest(value, known))), None)
            yield finding(
                "group-unmapped",
                say(
                    "None of the {filled} groups sent means anything to {app}.",
                    filled=len(match.filled),
                    app=_app(case),
                )
                + (say(" The nearest one it knows is {near}.", near=near) if near else ""),
                expected=", ".join(known[:6]),
                actual=", ".join(match.filled[:6]),
                evidence=[*_sent(case, match), _wanted(case, match, "known groups", "maps")],
                compared=False,
            )


def _mixed(values: list[str] | tuple[str, ...]) -> bool:
    ids = sum(bool(_GUID.fullmatch(value)) for value in values)
    return 0 < ids < len(values)


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
        yield Unchecked("not-assigned", f"no assignments on record for {app.id}")
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
            Evidence("assignments", f"{len(rows)} on record", app.settings.provider_setup.assigned or "", "line 1"),
            *(
                [Evidence("groups", ", ".join(sorted(groups)[:6]), case.attempt.source, case.main_source)]
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


CHECKS = (
    claims_there,
    values_allowed,
    claims_used,
    ordinary_role,
    groups_fit,
    groups_room,
    groups_known,
    assigned,
    assigned_by_typed_name,
)
