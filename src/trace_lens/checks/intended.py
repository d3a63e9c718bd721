"""Intended, as far as it is asked of every sign-in: does anybody on record know the message?"""

from __future__ import annotations

from trace_lens.checks.case import Case, Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import closest
from trace_lens.common.raising import finding


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
            f"No provider on record has the issuer {issuer}, and no application fits the message.",
            expected=closest(issuer, known) if known else None,
            actual=issuer,
            evidence=case.issuer_evidence,
        )
        return
    fitting = (
        f"{' and '.join(case.candidates)} fit equally well; --app says which is meant"
        if case.candidates
        else "there is no workspace here"
        if case.workspace.root is None
        else f"none on record has its audience, its {case.address_label} or a provider of its own"
    )
    yield finding("application-unknown", f"The application is not known: {fitting}.")


CHECKS = (somebody_knows_it,)
