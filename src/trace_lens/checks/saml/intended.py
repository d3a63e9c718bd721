"""Intended: issuer and audience are meant for this application (SAML 2.0 Core §2.2.5, §2.5.1.4)."""

from __future__ import annotations

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import closest, differs
from trace_lens.checks.saml.case import SamlCase
from trace_lens.common.findings import Allows, Evidence, Side, Unchecked, lack
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.saml.messages import NameID


@check("issuer-mismatch", requires=Need.MESSAGE, decides=True)
def issuer(case: SamlCase) -> Answer:
    """Is the issuer the provider's entity ID, to the letter?"""
    assertion = case.assertion
    issuers: list[NameID] = [
        name_id
        for name_id in ((assertion.issuer if assertion else None), (case.response.issuer if case.response else None))
        if name_id
    ]
    if not issuers:
        yield Unchecked("issuer-mismatch", "the message names no issuer", decides=True)
        return
    if case.app is None:
        yield Unchecked("issuer-mismatch", "no application is known for this message", decides=True)
        return
    set_in_app = case.app.settings.application.saml.provider_entity_id
    of_provider = case.provider.entity_id if case.provider else None
    expected = set_in_app or of_provider
    if expected is None:
        yield Unchecked(
            "issuer-mismatch",
            lack(
                f"no entity ID of the provider is on record for {case.app.id}",
                Allows.RECORD,
                case.app.source.file,
                "application.provider_entity_id",
            ),
            decides=True,
        )
        return
    for issuer in issuers:
        severity = differs(expected, issuer.value)
        if severity is None:
            continue
        side, detail, value, remedy = _whose_move(case, issuer.value, expected, of_provider)
        yield finding(
            "issuer-mismatch",
            detail,
            severity=severity,
            side=side,
            expected=expected,
            actual=issuer.value,
            value_to_set=value,
            remedy=remedy,
            evidence=[*case.shown("Issuer", issuer), _on_record(case, expected, set_in_app)],
        )
        return


def _whose_move(
    case: SamlCase, actual: str, expected: str, of_provider: str | None
) -> tuple[Side, str, str | None, str | None]:
    """The side to act, what is wrong, the value to set, and the remedy where it is not the catalogue's."""
    app = case.app.name if case.app else ""
    if actual == of_provider:
        detail = f"The issuer is the provider's, but {app} is set to expect {expected}."
        return Side.APPLICATION, detail, actual, None
    if case.other_provider:
        detail = f"The message is from {case.other_provider.name}, not from the provider that {app} trusts."
        urls = case.provider.sign_on_urls if case.provider else ()
        sign_on = case.app.settings.application.provider_sso_url if case.app else None
        address = urls[0] if urls else sign_on
        name = case.provider.name if case.provider else "the provider that it trusts"
        remedy = f"Send these users to {name} to sign in" + (": set its sign-on URL." if address else ".")
        return Side.APPLICATION, detail, address or expected, remedy
    detail = f"The issuer is {actual}, which is not the entity ID that {app} expects."
    return Side.PROVIDER, detail, expected, None


def _on_record(case: SamlCase, expected: str, set_in_app: str | None) -> Evidence:
    if set_in_app or case.provider is None:
        return case.set_in_app("provider_entity_id", expected, "application", "provider_entity_id")
    file, place = case.provider.where_entity_id()
    return Evidence("entity ID of the provider", expected, file, place)


@check("audience-mismatch", "audience-missing", decides=True)
def audience(case: SamlCase) -> Answer:
    """Is the application named in every audience restriction?"""
    conditions = case.assertion.conditions if case.assertion else None
    restrictions = conditions.audience_restrictions if conditions else ()
    expected = case.app.entity_id if case.app else None
    if not any(restrictions):
        yield finding(
            "audience-missing",
            "The assertion names no audience, so it could be used at any application.",
            expected=expected,
            value_to_set=expected,
            evidence=case.shown("Assertion ID", case.assertion.id if case.assertion else None),
        )
        return
    if case.app is None or expected is None:
        lacking = (
            say("no entity_id on record for {app_id}", app_id=case.app.id)
            if case.app
            else "no application is known for this message"
        )
        yield Unchecked("audience-mismatch", lacking, decides=True)
        return
    if case.supposed.get("provider_setup.audience") == expected:
        return
    for restriction in restrictions:
        values = {value.value: value for value in restriction}
        if expected in values:
            continue
        actual = closest(expected, values) if values else ""
        others = [app.name for app in case.workspace.apps_called(actual) if app is not case.app]
        belongs = say(" It is that of {others}.", others=others[0]) if others else ""
        if actual in case.app.acs_urls:
            belongs = " It is the application's ACS URL, which belongs into another field."
        yield finding(
            "audience-mismatch",
            say(
                "The audience of the assertion is not the identifier of {app_name}.{belongs}",
                app_name=case.app.name,
                belongs=belongs,
            ),
            severity=differs(expected, actual),
            expected=expected,
            actual=actual,
            value_to_set=expected,
            evidence=[
                *case.shown("Audience", values.get(actual)),
                case.set_in_app("entity_id", expected, "application", "entity_id"),
            ],
        )
        return


@check("audience-shared")
def audience_shared(case: SamlCase) -> Answer:
    """Is the audience that of one application only?"""
    conditions = case.assertion.conditions if case.assertion else None
    audiences = {audience.value for audience in conditions.audiences} if conditions else set()
    for shared in sorted(audiences):
        holders = case.workspace.apps_called(shared)
        names = [app.name for app in holders]
        if len(names) > 1:
            yield finding(
                "audience-shared",
                say(
                    "{names} have the same identifier, so a message for one is good at the other.",
                    names=" and ".join(names),
                ),
                actual=shared,
                evidence=[
                    Evidence(
                        "entity_id", app.entity_id or "", app.source.file, app.source.where("application", "entity_id")
                    )
                    for app in holders
                ],
            )


CHECKS = (
    issuer,
    audience,
    audience_shared,
)
