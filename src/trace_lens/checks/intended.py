"""Intended, as far as it is asked of every sign-in: does anybody on record know the message?"""

from __future__ import annotations

from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import closest
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say


@check("application-unknown", "issuer-unknown", requires=Need.MESSAGE)
def somebody_knows_it(case: Case) -> Answer:
    """Does the message fit an application and a provider on record?"""
    if case.app:
        return
    issuer = case.issuer_name
    if issuer and case.workspace.providers and not case.provider:
        known = [name for provider in case.workspace.providers.values() for name in provider.identifiers]
        yield finding(
            "issuer-unknown",
            say("No provider on record has the issuer {issuer}, and no application fits the message.", issuer=issuer),
            expected=closest(issuer, known) if known else None,
            actual=issuer,
            evidence=case.issuer_evidence,
        )
        return
    fitting = (
        say("{candidates} fit equally well; --app says which is meant", candidates=" and ".join(case.candidates))
        if case.candidates
        else "there is no workspace here"
        if case.workspace.root is None
        else say(
            "none on record has its audience, its {address_label} or a provider of its own",
            address_label=case.address_label,
        )
    )
    yield finding("application-unknown", say("The application is not known: {fitting}.", fitting=fitting))


CHECKS = (somebody_knows_it,)
