"""Entitled, as far as it is OpenID Connect's own: scopes, strength of authentication, size of the token."""

from __future__ import annotations

import re

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.claims import matches
from trace_lens.checks.oidc.case import OidcCase, values_of
from trace_lens.checks.way.parties import APPLICATION
from trace_lens.checks.way.said import quoted, said
from trace_lens.common import limits
from trace_lens.common.findings import Allows, Evidence, Severity, Side, Unchecked, lack
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Count, say
from trace_lens.oidc.documents import SCOPE_OF
from trace_lens.oidc.strict_json import JsonDamaged
from trace_lens.workspace.settings import Claim

_JUDGED_ELSEWHERE = ("acr", "amr", "auth_time", "sub")


def scope_for(case: OidcCase, claim: str) -> str | None:
    """The scope that a claim follows from: of the standard (Core §5.4), or one of its own name that is on offer."""
    if claim in SCOPE_OF:
        return SCOPE_OF[claim]
    listed = case.provider.discovery.get("scopes_supported") if case.provider else None
    granted = case.app.settings.provider_setup.scopes_granted if case.app else ()
    offered = {*(listed if isinstance(listed, list) else ()), *granted}
    return claim if claim in offered else None


def _needed(case: OidcCase) -> list[str]:
    """The claims that must be there and are not."""
    lacking = [match.claim.name for match in matches(case) if match.claim.need == "must" and match.sent_as is None]
    source = case.account_source
    if source not in (case.subject_label, *lacking) and source not in case.said:
        lacking.append(source)
    return lacking


@check("scope-not-granted")
def scopes(case: OidcCase) -> Answer:
    """Were the scopes asked for, and granted, that the needed claims depend on?"""
    app = case.app
    if app is None:
        return
    asked_at = case.asked("scope")
    asked = set((asked_at or "").split()) or set(app.settings.application.oidc.scopes)
    response = case.attempt.token_response
    told = response.get("scope") if response else None
    granted = set(told.split()) if told else set(app.settings.provider_setup.scopes_granted)
    wanted = {name: scope for name in _needed(case) if (scope := scope_for(case, name))}
    if not wanted:
        return
    if not asked and not granted:
        yield Unchecked("scope-not-granted", "the scopes that were asked for are not on record")
        return
    not_asked = sorted({text for text in wanted.values() if asked and text not in asked})
    not_granted = sorted(
        {text for text in wanted.values() if granted and text not in granted and text not in not_asked}
    )
    missing = not_asked or not_granted
    if not missing:
        return
    names = " and ".join(sorted(name for name, scope in wanted.items() if scope in missing))
    setting = (
        [case.set_in_app("scopes", " ".join(app.settings.application.oidc.scopes), "application", "scopes")]
        if not asked_at
        else []
    )
    yield finding(
        "scope-not-granted",
        say(
            "{names} {words} missing because the scope {missing} was ",
            names=names,
            words="is" if " and " not in names else "are",
            missing=" and ".join(missing),
        )
        + ("not asked for." if not_asked else "asked for, but not granted."),
        side=Side.APPLICATION if not_asked else Side.PROVIDER,
        expected=" ".join(missing),
        actual=" ".join(sorted(asked if not_asked else granted)),
        value_to_set=" ".join([*(asked_at or " ".join(app.settings.application.oidc.scopes)).split(), *missing])
        if not_asked
        else " ".join(missing),
        evidence=[
            *case.parameter(case.attempt.request, "scope"),
            *(case.parameter(response, "scope") if response else ()),
            *setting,
        ]
        or [Evidence("scopes", " ".join(sorted(asked)), app.source.file, app.source.where("application", "scopes"))],
        compared=False,
    )


@check("scope-not-granted", requires=Need.ASSERTION)
def scopes_of_interface(case: OidcCase) -> Answer:
    """Does an access token hold the scopes that the interface demands (RFC 6750 §3.1, insufficient_scope)?"""
    token, app = case.token, case.app
    wanted = app.settings.application.oidc.api_scopes if app else ()
    if token is None or app is None or not wanted or not case.as_access_token:
        return
    name = next((name for name in ("scope", "scp") if name in token.claims), None)
    told = token.claims[name] if name else ""
    held = told.split() if isinstance(told, str) else [str(item) for item in told] if isinstance(told, list) else []
    missing = [scope for scope in wanted if scope not in held]
    if not missing:
        return
    asked = (case.asked("scope") or "").split()
    unasked = bool(asked) and not set(missing) <= set(asked)
    yield finding(
        "scope-not-granted",
        say(
            "{app} demands the scope {missing}; the access token holds {held}.",
            app=app.name,
            missing=" ".join(missing),
            held=" ".join(held) or "no scope",
        ),
        side=Side.APPLICATION if unasked else Side.PROVIDER,
        expected=" ".join(wanted),
        actual=" ".join(held) or None,
        value_to_set=" ".join([*asked, *(scope for scope in missing if scope not in asked)])
        if unasked
        else " ".join(missing),
        evidence=[
            *(case.of_token(name, name) if name else ()),
            case.set_in_app("api_scopes", " ".join(wanted), "application", "api_scopes"),
        ],
        compared=False,
    )


@check("scope-not-granted", requires=Need.WAY)
def scope_that_a_page_misses(case: OidcCase) -> Answer:
    """Does the application's page miss a group, role or claim whose scope was not asked for?"""
    asked = (case.asked("scope") or "").split()
    page = next(
        (
            statement
            for statement in said(case)
            if statement.side == APPLICATION and "scope-not-granted" in statement.codes
        ),
        None,
    )
    if page is None or case.app is None or not asked or case.token:
        return
    missing = {
        claim.name: scope
        for claim in case.app.settings.claims
        if (scope := scope_for(case, claim.name)) and scope not in asked and _speaks_of(page.quote, claim)
    }
    if not missing:
        return
    scopes = sorted(set(missing.values()))
    yield finding(
        "scope-not-granted",
        say(
            '{app_name} says: "{quote}". It reads {missing}, which follows from the scope {scopes}; '
            "that scope was not asked for.",
            app_name=case.app.name,
            quote=page.quote,
            missing=" and ".join(sorted(missing)),
            scopes=" ".join(scopes),
        ),
        side=Side.APPLICATION,
        expected=" ".join(scopes),
        actual=" ".join(asked),
        value_to_set=" ".join([*asked, *scopes]),
        evidence=[*case.parameter(case.attempt.request, "scope"), *quoted(case, page)],
        compared=False,
    )


def _speaks_of(words: str, claim: Claim) -> bool:
    """Whether a page's words name a claim, what it means, or one of its values."""
    names = [claim.name, *claim.one_of, *claim.elevated, *claim.maps]
    names += {"groups": ["group"], "role": ["role"]}.get(claim.means, [])
    return any(re.search(rf"(?<!\w){re.escape(name)}", words, re.IGNORECASE) for name in names if len(name) > 2)


@check("assurance-too-low")
def assurance(case: OidcCase) -> Answer:
    """Is the authentication of a kind that the application, or the request, demands (Core §2, acr)?"""
    parameter = "claims" if case.demanded("acr") else "acr_values"
    asked = list(case.demanded("acr")) or (case.asked("acr_values") or "").split()
    told = case.app.settings.application.oidc.acr_values if case.app else ()
    demanded = asked or list(told)
    if not demanded and case.token is not None and case.request is None and not case.attempt.request_object:
        yield Unchecked(
            "assurance-too-low",
            lack("the request is not in this capture, so what it demands is not known", Allows.RECORDING),
            needs="the request is not in this capture",
        )
    if not demanded or case.token is None:
        return
    acr = case.token.text("acr")
    if acr in demanded:
        return
    yield finding(
        "assurance-too-low",
        say(
            "The authentication was of the kind {acr}; demanded is {demanded}.", acr=acr, demanded=" or ".join(demanded)
        )
        if acr
        else say(
            "The token does not say of what kind the authentication was (acr); demanded is {demanded}.",
            demanded=" or ".join(demanded),
        ),
        expected=" or ".join(demanded),
        actual=acr,
        value_to_set=demanded[0],
        evidence=[
            *case.of_token("acr", "acr" if acr else "iss"),
            *(
                case.parameter(case.attempt.request, parameter)
                if asked
                else [case.set_in_app("acr_values", ", ".join(told), "application", "acr_values")]
            ),
        ],
        compared=False,
    )


@check("assurance-too-low")
def methods(case: OidcCase) -> Answer:
    """Was one of the methods used that the request demands (amr: Core §2, RFC 8176; claims: Core §5.5.1)?"""
    demanded = case.demanded("amr")
    if case.token is None or not demanded:
        return
    used = values_of(case.token.claims.get("amr", []))
    if set(used) & set(demanded):
        return
    yield finding(
        "assurance-too-low",
        say("The request demands authentication by {demanded}; the token ", demanded=" or ".join(demanded))
        + (say("says {used}.", used=" and ".join(used)) if used else "does not say how the user authenticated (amr)."),
        expected=" or ".join(demanded),
        actual=" ".join(used) or None,
        value_to_set=demanded[0],
        evidence=[
            *case.of_token("amr", "amr" if used else "iss"),
            *case.parameter(case.attempt.request, "claims"),
        ],
        compared=False,
    )


@check("claim-missing", "malformed-message")
def essential_claims(case: OidcCase) -> Answer:
    """Are the claims there that the request calls essential (Core §5.5.1)? Being left out, they are no error there."""
    try:
        asked = [
            claim_asked
            for claim_asked in case.claims_asked
            if claim_asked.essential and claim_asked.name not in _JUDGED_ELSEWHERE
        ]
    except JsonDamaged as error:
        yield finding(
            "malformed-message",
            say("The claims parameter of the request cannot be read: {reason}.", reason=error.reason),
            severity=Severity.RISK,
            side=Side.APPLICATION,
            remedy="Send the claims parameter as JSON.",
            evidence=case.parameter(case.attempt.request, "claims"),
        )
        return
    on_record = {name for match in matches(case) for name in (match.claim.name, *match.claim.also_as)}
    for claim_asked in asked:
        if case.token is None or claim_asked.name in on_record or case.claim(claim_asked.name) is not None:
            continue
        yield finding(
            "claim-missing",
            say(
                "The request calls {claim_asked_name} essential, and neither the token nor userinfo holds it.",
                claim_asked_name=claim_asked.name,
            ),
            severity=Severity.RISK,
            expected=claim_asked.name,
            evidence=case.parameter(case.attempt.request, "claims"),
        )


@check("token-too-large")
def size(case: OidcCase) -> Answer:
    """Does the token fit into a header and a cookie?"""
    if case.judged is None:
        return
    length = len(case.judged.found.data)
    if length <= limits.COOKIE_BYTES:
        return
    what, most = ("header", limits.HEADER_BYTES) if length > limits.HEADER_BYTES else ("cookie", limits.COOKIE_BYTES)
    yield finding(
        "token-too-large",
        say(
            "The token has {length} bytes; common servers and browsers take at most {most} as one {what}.",
            length=Count(f"{length:,}"),
            most=Count(f"{most:,}"),
            what=what,
        ),
        expected=f"at most {most:,} bytes",
        actual=f"{length:,} bytes",
        evidence=[
            Evidence(
                "the token", f"{length:,} bytes", case.judged.source, case.judged.place, exchange=case.judged.exchange
            )
        ],
        compared=False,
    )


CHECKS = (
    scopes,
    scopes_of_interface,
    scope_that_a_page_misses,
    assurance,
    methods,
    essential_claims,
    size,
)
