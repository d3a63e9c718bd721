"""Entitled: claims, roles, groups and assignment allow the user in."""

from __future__ import annotations

from collections.abc import Iterator

from trace_lens.checks.case import Case
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.claims import Match, by_attribute_map, matches, table
from trace_lens.common.difference import nearest
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Evidence, Finding, Severity, Unchecked
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.workspace.settings import Claim

_GUID = expression(r"\{?[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}\}?")


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
            mapped = by_attribute_map(claim, match.sent_as or "", case)
            yield finding(
                "claim-name-near-match",
                say(
                    "{app_name} reads {claim_name}; it was sent as {sent_as}.",
                    app_name=case.app.name,
                    claim_name=claim.name,
                    sent_as=match.sent_as,
                )
                + (" An application with a table of attributes reads it all the same." if mapped else ""),
                severity=Severity.RISK if mapped else severity,
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


def known_values(claim: Claim) -> list[str]:
    """The values of a claim that the application knows, where any are on record."""
    known = list(dict.fromkeys([*claim.one_of, *claim.elevated]))
    if claim.default_role and known:
        known.append(claim.default_role)
    return known


def _unknown_values(case: Case, match: Match) -> Iterator[Finding]:
    claim = match.claim
    known = known_values(claim)
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
    if case.app is None or not case.app.settings.claims:
        return  # where no claim is on record, nothing tells what is read
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
        known = [*claim.maps, *known_values(claim)] if not claim.maps else list(claim.maps)
        if claim.means == "plain" or (claim.means == "role" and not claim.maps) or not match.served:
            continue
        if not known or not match.filled or any(value in known for value in match.filled):
            continue
        if claim.means == "role" and any(value in known_values(claim) for value in match.filled):
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


CHECKS = (
    claims_there,
    values_allowed,
    claims_used,
    ordinary_role,
    groups_fit,
    groups_room,
    groups_known,
)
