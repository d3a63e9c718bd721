"""Which question decides a stage, and whether it could be answered: without that a stage is not ok but unchecked."""

from __future__ import annotations

from collections.abc import Callable

from trace_lens.checks.case import Case
from trace_lens.checks.identified import account_name
from trace_lens.checks.logged import let_in_by_log
from trace_lens.checks.protocols import of_oidc, of_saml
from trace_lens.checks.way.signs import outcome_of
from trace_lens.common.findings import Stage


def decided(stage: Stage, case: Case) -> bool:
    """Whether the deciding question of a stage was answered.

    readable: it parses; answered: a status or a token; delivered: recipient or redirect URI against the record;
    authentic: a signature judged; intended: issuer and audience; current: a window against a moment; identified: an
    account list asked, or none needed; entitled: claims or assignments on record asked, or none demanded; admitted: a
    sign of it.
    """
    return _QUESTIONS[stage](case)


def _parsed(case: Case) -> bool:
    return not case.attempt.main.damage


def _answered(case: Case) -> bool:
    attempt = case.attempt
    if of_saml(case):
        return bool((attempt.response and attempt.response.status) or attempt.assertion)
    return bool(attempt.answer or attempt.token_response or attempt.id_token)


def _delivered(case: Case) -> bool:
    if case.app is None:
        return False
    if of_saml(case):
        from trace_lens.checks.saml.delivered import bearers

        told = any(bearer.data and bearer.data.recipient for bearer in bearers(case))
        return bool(case.app.acs_urls) and (told or bool(case.response and case.response.destination))
    registered = case.app.settings.provider_setup.redirect_uris or case.app.settings.application.oidc.redirect_uris
    answer = case.attempt.answer
    came_to = answer.parameters.address if answer and answer.parameters else None
    asked = case.asked("redirect_uri") if of_oidc(case) else None
    redeemed = any(request.get("redirect_uri") for request in case.attempt.code_requests)
    return bool(registered and (came_to or asked or redeemed))


def _authentic(case: Case) -> bool:
    if of_saml(case):
        return any(verdict.standing == "trusted" and verdict.digest_holds for verdict in case.signed.own)
    return bool(of_oidc(case) and case.verdict and case.verdict.key)


def _intended(case: Case) -> bool:
    if case.app is None:
        return False
    if of_saml(case):
        expected = case.app.settings.application.saml.provider_entity_id or (case.provider and case.provider.entity_id)
        return bool(expected and case.app.entity_id and case.assertion and case.issuer)
    assert of_oidc(case)
    return bool(case.token and case.expected_issuer and case.client_id)


def _current(case: Case) -> bool:
    held = case.assertion if of_saml(case) else getattr(case, "token", None)
    return bool(held) and case.at is not None and case.at_from != "message"


def _identified(case: Case) -> bool:
    if case.app is None or account_name(case) is None:
        return False
    return case.app.accounts is not None or case.app.settings.account.created_at_first_sign_in


def _entitled(case: Case) -> bool:
    if case.app is None or account_name(case) is None:
        return False
    demanded = any(claim.need != "may" for claim in case.app.settings.claims)
    assigned = case.app.settings.provider_setup.assigned
    if demanded or assigned == "everyone" or case.app.assignments is not None:
        return True
    return assigned is None


def _admitted(case: Case) -> bool:
    """Whether anything says yes; what says no is a break, or leaves it open whether the session or its use failed."""
    end = outcome_of(case)
    in_vain = end.only_tokens and of_oidc(case) and any(one.get("error") for one in case.attempt.of("token-response"))
    return (end.let_in is True and not in_vain) or let_in_by_log(case) is not None


_QUESTIONS: dict[Stage, Callable[[Case], bool]] = {
    Stage.REACHABLE: lambda case: True,
    Stage.READABLE: _parsed,
    Stage.ANSWERED: _answered,
    Stage.DELIVERED: _delivered,
    Stage.AUTHENTIC: _authentic,
    Stage.INTENDED: _intended,
    Stage.CURRENT: _current,
    Stage.IDENTIFIED: _identified,
    Stage.ENTITLED: _entitled,
    Stage.ADMITTED: _admitted,
}
