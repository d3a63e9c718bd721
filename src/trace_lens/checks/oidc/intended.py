"""Intended: issuer, audience and kind are meant for this application (OpenID Connect Core 1.0 §2, §3.1.3.7)."""

from __future__ import annotations

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import closest, differs
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.common.findings import Allows, Evidence, Finding, Severity, Side, Unchecked, lack
from trace_lens.common.locations import Location
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.intake.layers import ADDRESS
from trace_lens.oidc.tokens import ACCESS, ID, OTHER, USERINFO, texts
from trace_lens.workspace.records import App

WELL_KNOWN = "/.well-known/openid-configuration"
_WORDS = {
    "access-token": "an access token",
    "logout-token": "a logout token",
    "userinfo": "a userinfo answer",
    "authorization-request": "a request object",
    "id-token": "an ID token",
    "jwt": "a token of no known kind",
}


def _whose_move(*, wrong_setting: bool, is_other: bool, agreed: bool) -> Side:
    """Who must act: the application where the provider's own documents say what came; the user who went to another
    provider; the provider where the application has what its documents say and its token says something else.
    """
    if is_other:
        return Side.USER
    return Side.PROVIDER if agreed and not wrong_setting else Side.APPLICATION


@check("issuer-mismatch", decides=True)
def issuer(case: OidcCase) -> Answer:
    """Is the issuer the provider's, to the letter (OpenID Connect Core 1.0 §3.1.3.7, point 2)?"""
    came = case.token.text("iss") if case.token else None
    if case.app is None:
        yield Unchecked("issuer-mismatch", "no application is known for this message", decides=True)
        return
    expected = case.expected_issuer
    if expected is None:
        yield Unchecked(
            "issuer-mismatch",
            lack(
                f"no issuer of the provider is on record for {case.app.id}",
                Allows.RECORD,
                case.app.source.file,
                "application.provider_issuer",
            ),
            decides=True,
        )
        return
    severity = differs(expected, came) if came else None
    if came is not None and severity is not None:
        yield _other_issuer(case, case.app, expected, came, severity)


def _other_issuer(case: OidcCase, app: App, expected: str, came: str, severity: Severity) -> Finding:
    """The issuer is another one than expected: of another provider on record, or unlike what one side says."""
    of_provider = case.provider.issuer if case.provider else None
    other = case.other_provider
    told = app.settings.application.oidc.provider_issuer
    wrong_setting = came == of_provider
    if other:
        detail = say(
            "The token is from {came}, which is {other_name}; {app_name} trusts {expected}.",
            came=came,
            other_name=other.name,
            app_name=app.name,
            expected=expected,
        )
        trusted = case.provider.name if case.provider else "the provider"
        remedy = say("Sign in through {provider_name}.", provider_name=trusted)
    else:
        detail = say(
            "The token is from {came}; {app_name} expects {expected}.", came=came, app_name=app.name, expected=expected
        )
        remedy = None
    return finding(
        "issuer-mismatch",
        detail,
        severity=severity,
        side=_whose_move(wrong_setting=wrong_setting, is_other=bool(other), agreed=expected == of_provider),
        expected=expected,
        actual=came,
        value_to_set=came if wrong_setting else None if other or expected != of_provider else expected,
        remedy=remedy,
        evidence=[
            *case.of_token("iss", "iss"),
            case.set_in_app("provider_issuer", expected, "application", "provider_issuer")
            if told or case.provider is None
            else Evidence("issuer", expected, case.provider.source.file, case.provider.source.where("issuer")),
        ],
    )


@check("audience-mismatch", "audience-missing", decides=True)
def audience(case: OidcCase) -> Answer:
    """Is the client among the audiences (OpenID Connect Core 1.0 §3.1.3.7, point 3)?"""
    token, app = case.token, case.app
    if token is None:
        return
    if not token.audience:
        of_client = case.client_id if token.kind == ID else None
        yield finding(
            "audience-missing",
            "The token names no audience (aud).",
            remedy="Put the client_id into the audience (aud)."
            if token.kind == ID
            else "Put the identifier of the interface into the audience (aud).",
            expected=of_client,
            value_to_set=of_client,
            evidence=case.of_token("iss", "iss"),
        )
        return
    if app is None:
        yield Unchecked("audience-mismatch", "no application is known for this message", decides=True)
        return
    if case.as_access_token:
        return
    expected = case.client_id
    if expected is None:
        yield Unchecked(
            "audience-mismatch",
            lack(f"no client_id is on record for {app.id}", Allows.RECORD, app.source.file, "application.client_id"),
            decides=True,
        )
        return
    if expected in token.audience or case.supposed.get("provider_setup.client_id") == expected:
        return
    nearest = closest(expected, token.audience)
    yield finding(
        "audience-mismatch",
        say(
            "The token is made out to {audience}; {app_name} is {expected}.",
            audience=", ".join(token.audience),
            app_name=app.name,
            expected=expected,
        ),
        side=Side.PROVIDER if app.settings.provider_setup.client_id not in token.audience else Side.APPLICATION,
        remedy="Issue tokens for the client_id that the application has."
        if app.settings.provider_setup.client_id not in token.audience
        else "Set in the application the client_id that the provider has for it.",
        expected=expected,
        actual=nearest,
        value_to_set=nearest if app.settings.provider_setup.client_id in token.audience else expected,
        evidence=[*case.of_token("aud", "aud"), case.set_in_app("client_id", expected, "application", "client_id")],
    )


@check("audience-shared")
def audience_of_one(case: OidcCase) -> Answer:
    """Is the client the only one on record with its identifier?"""
    token = case.token
    audiences = set(token.audience) if token else set()
    holders = [
        app
        for app in case.workspace.apps.values()
        if app.settings.application.oidc.client_id in audiences and app.settings.protocol == "oidc"
    ]
    for shared in sorted({app.settings.application.oidc.client_id or "" for app in holders}):
        with_it = [app for app in holders if app.settings.application.oidc.client_id == shared]
        if len(with_it) > 1 and len({app.provider_id for app in with_it}) < len(with_it):
            yield finding(
                "audience-shared",
                say(
                    "{with_it} have the same client_id, so a token for one is good at the other.",
                    with_it=" and ".join(app.name for app in with_it),
                ),
                actual=shared,
                evidence=[
                    Evidence("client_id", shared, app.source.file, app.source.where("application", "client_id"))
                    for app in with_it
                ],
            )


@check("authorized-party-mismatch")
def authorized_party(case: OidcCase) -> Answer:
    """Is the authorized party this client (OpenID Connect Core 1.0 §3.1.3.7, points 4 and 5)?"""
    token, expected = case.token, case.client_id
    if token is None or expected is None or token.kind != ID:
        return
    azp = token.text("azp")
    if azp == expected or (azp is None and len(token.audience) < 2):
        return
    if case.supposed.get("provider_setup.client_id") == expected:
        return
    yield finding(
        "authorized-party-mismatch",
        say("The token was made for the client {azp} (azp); this one is {expected}.", azp=azp, expected=expected)
        if azp
        else say(
            "The token has {audience} audiences and does not say which client it was made for (azp).",
            audience=len(token.audience),
        ),
        expected=expected,
        actual=azp,
        evidence=[
            *case.of_token("azp", "azp" if azp else "aud"),
            case.set_in_app("client_id", expected, "application", "client_id"),
        ],
    )


@check("wrong-token-kind", requires=Need.MESSAGE)
def kinds(case: OidcCase) -> Answer:
    """Is each token of the kind that belongs in its place?"""
    token, judged = case.token, case.judged
    if token and judged and token.kind != ID and not case.as_access_token:
        fine = token.kind == OTHER and judged.named in ("", "id_token")
        if not fine and not (token.kind == USERINFO and judged.named == ""):
            named = say(" under the name {named}", named=judged.named) if judged.named else ""
            meant = (
                token.kind == ACCESS and case.client_id in token.audience and token.jws.header.get("typ") != "at+jwt"
            )
            yield finding(
                "wrong-token-kind",
                say(
                    "{upper}{WORDS} was sent{named} where an ID token is required: {why}.",
                    upper=_WORDS[token.kind][:1].upper(),
                    WORDS=_WORDS[token.kind][1:],
                    named=named,
                    why=token.why,
                ),
                severity=Severity.RISK if meant else None,
                expected="id-token",
                actual=token.kind,
                evidence=[*case.of_header("typ"), *case.of_token("aud", "aud")],
                compared=False,
            )
    access = case.attempt.access_token
    if access and access.token and access.token.kind == ID and access.named == "access_token":
        yield finding(
            "wrong-token-kind",
            say("An ID token was sent where an access token is required: {why}.", why=access.token.why),
            expected="access-token",
            actual="id-token",
            evidence=case.shown(access, "aud", texts(access.token.claims.get("aud")), Location(field="payload /aud")),
            compared=False,
        )


@check("discovery-issuer-mismatch", requires=Need.MESSAGE)
def discovery_issuer(case: OidcCase) -> Answer:
    """Is the discovery document's issuer where it came from, and who signed (OpenID Connect Discovery 1.0 §4.3)?"""
    provider, token = case.provider, case.token
    came = token.text("iss") if token else None
    for message in case.attempt.of("discovery-document"):
        told = message.get("issuer")
        if told and came and told != came:
            yield finding(
                "discovery-issuer-mismatch",
                say("The captured discovery document is of {told}; the token is from {came}.", told=told, came=came),
                expected=came,
                actual=told,
                evidence=[*case.parameter(message, "issuer"), *case.of_token("iss", "iss")],
            )
            return
        address = message.found.context.get(ADDRESS, "")
        if told and address.endswith(WELL_KNOWN) and address.removesuffix(WELL_KNOWN) != told.rstrip("/"):
            yield finding(
                "discovery-issuer-mismatch",
                say(
                    "The discovery document names the issuer {told}; it came from {address}.",
                    told=told,
                    address=address,
                ),
                expected=address.removesuffix(WELL_KNOWN),
                actual=told,
                evidence=case.parameter(message, "issuer"),
            )
            return
    listed = provider.discovery.get("issuer") if provider else None
    if provider is None or not isinstance(listed, str) or not provider.settings.discovery:
        return
    url = case.app.settings.application.oidc.discovery_url if case.app else None
    fetched = url and url.endswith(WELL_KNOWN) and url.removesuffix(WELL_KNOWN) != listed.rstrip("/")
    if fetched or (came == case.expected_issuer and came is not None and came != listed):
        expected = (url or "").removesuffix(WELL_KNOWN) if fetched else came
        yield finding(
            "discovery-issuer-mismatch",
            say("The discovery document names the issuer {listed}; ", listed=listed)
            + (say("it is fetched from {url}.", url=url) if fetched else say("the token is from {came}.", came=came)),
            expected=expected,
            actual=listed,
            evidence=[Evidence("issuer", listed, provider.settings.discovery, Location(path="/issuer"))],
        )


CHECKS = (
    issuer,
    audience,
    audience_of_one,
    authorized_party,
    kinds,
    discovery_issuer,
)
