"""The request: whether the provider can take it, and whether the answer gives what it asked for.

Sources: SAML 2.0 Core §3.3.2.2.1, §3.4.1; Profiles §4.1.4.1; Metadata §2.4.3, §2.4.4.
"""

from __future__ import annotations

from datetime import timedelta

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.comparing import closest, differs
from trace_lens.checks.identified import account_name, index_of, is_of
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.saml.signed import Verdict, judge_message
from trace_lens.checks.way.names import names_of
from trace_lens.common.findings import Evidence, Severity, Side, Unchecked
from trace_lens.common.locations import Location
from trace_lens.common.moments import show_duration, show_moment
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Person, say
from trace_lens.saml.messages import Located, Text
from trace_lens.saml.names import FORMAT_UNSPECIFIED, short


def _answered_well(case: SamlCase) -> bool:
    """Whether the provider plainly took the request, whatever is wrong with it."""
    return case.attempt.answer is not None and not case.attempt.damage and not case.refused


def _by_index(case: SamlCase, index: Text, registered: str | None, indexed: dict[str | None, str]) -> Answer:
    """A request that names its ACS URL by index: the metadata must have it, and the provider that address."""
    if not indexed:
        app = case.app.id if case.app else "the application"
        yield Unchecked("acs-not-registered", f"no metadata of {app} says which address has an index")
        return
    location = indexed.get(index.value)
    if location is not None and registered in (None, location):
        return
    words = say("which is {location}", location=location) if location else "which its metadata does not have"
    yield finding(
        "acs-not-registered",
        say(
            "The request wants the answer at its ACS URL of index {acs_index_value}, {words}.",
            acs_index_value=index.value,
            words=words,
        ),
        expected=registered or ", ".join(indexed.values()),
        actual=location or index.value,
        value_to_set=location,
        side=Side.PROVIDER if location else Side.APPLICATION,
        evidence=case.asked("AssertionConsumerServiceIndex", index),
        compared=False,
    )


@check("acs-not-registered", requires=Need.REQUEST)
def return_address(case: SamlCase) -> Answer:
    """Does the provider have the address that the request wants the answer sent to?"""
    request = case.request
    if request is None or case.app is None:
        yield Unchecked("acs-not-registered", "no application is known for this request")
        return
    registered = case.app.settings.provider_setup.acs_url
    role = case.app.role
    indexed = {endpoint.number: endpoint.location for endpoint in (role.endpoints if role else ()) if endpoint.is_acs}
    asked = request.acs_url
    if asked is None and request.acs_index is not None:
        yield from _by_index(case, request.acs_index, registered, indexed)
        return
    if asked is None:
        return
    known = [registered] if registered else list(indexed.values())
    if not known:
        yield Unchecked("acs-not-registered", f"no acs_url is on record in provider_setup of {case.app.id}")
        return
    expected = closest(asked.value, known)
    severity = differs(expected, asked.value)
    if severity is None:
        return
    ours = asked.value in case.app.acs_urls
    taken = case.response is not None and not case.refused and case.response.destination is not None
    yield finding(
        "acs-not-registered",
        say(
            "The request wants the answer at {asked_value}, which the provider does not have for {app_name}.",
            asked_value=asked.value,
            app_name=case.app.name,
        ),
        severity=Severity.RISK if taken and case.response.destination.value == asked.value else severity,  # type: ignore[union-attr]
        side=Side.PROVIDER if ours else Side.APPLICATION,
        expected=expected,
        actual=asked.value,
        value_to_set=asked.value if ours else expected,
        evidence=[
            *case.asked("AssertionConsumerServiceURL", asked),
            case.set_in_app("acs_url at the provider", expected, "provider_setup", "acs_url"),
        ],
    )


@check("identifier-in-request-unknown", requires=Need.REQUEST)
def identifier(case: SamlCase) -> Answer:
    """Does the request bear the identifier that is set at the provider?"""
    issuer = case.request.issuer if case.request else None
    if issuer is None or case.app is None:
        yield Unchecked("identifier-in-request-unknown", "no application is known for this request")
        return
    at_provider = case.app.settings.provider_setup.audience
    expected = at_provider or case.app.entity_id
    if expected is None:
        yield Unchecked("identifier-in-request-unknown", f"no identifier of {case.app.id} is on record")
        return
    severity = differs(expected, issuer.value)
    if severity is None:
        return
    ours = issuer.value == case.app.entity_id
    key = ("provider_setup", "audience") if at_provider else ("application", "entity_id")
    yield finding(
        "identifier-in-request-unknown",
        say(
            "The request names its sender {issuer_value}; the provider knows {app_name} as {expected}.",
            issuer_value=issuer.value,
            app_name=case.app.name,
            expected=expected,
        ),
        severity=severity,
        side=Side.PROVIDER if ours else Side.APPLICATION,
        expected=expected,
        actual=issuer.value,
        value_to_set=issuer.value if ours else expected,
        evidence=[*case.asked("Issuer of the request", issuer), case.set_in_app(key[1], expected, *key)],
    )


@check("destination-mismatch", requires=Need.REQUEST)
def destination(case: SamlCase) -> Answer:
    """Was the request sent to the provider's own address?"""
    target = case.request.destination if case.request else None
    known = case.provider.sign_on_urls if case.provider else ()
    if target is None:
        return
    if not known:
        yield Unchecked("destination-mismatch", "no sign-on URL of the provider is on record")
        return
    expected = closest(target.value, known)
    severity = differs(expected, target.value)
    if severity:
        yield finding(
            "destination-mismatch",
            say(
                "The request is addressed to {target_value}, which is no sign-on URL of the provider.",
                target_value=target.value,
            ),
            severity=Severity.RISK if _answered_well(case) else severity,
            side=Side.APPLICATION,
            expected=expected,
            actual=target.value,
            value_to_set=expected,
            evidence=case.asked("Destination of the request", target),
        )


@check("request-unsigned", requires=Need.REQUEST)
def signed_request(case: SamlCase) -> Answer:
    """Is the request signed where the provider's metadata wants that, and does its signature hold?"""
    message = case.attempt.request
    if message is None or case.request is None:
        return
    verdicts = judge_message(message, case.keys_of_application)
    wants = bool(case.provider and case.provider.role and case.provider.role.wants_signed_requests)
    if not verdicts:
        if wants and case.provider:
            yield finding(
                "request-unsigned",
                say(
                    "{provider_name} wants requests signed (WantAuthnRequestsSigned in its metadata), and "
                    "this one is not.",
                    provider_name=case.provider.name,
                ),
                severity=Severity.RISK if _answered_well(case) else Severity.BREAK,
                value_to_set="true",
                evidence=[
                    *case.asked("ID of the request", case.request.id),
                    Evidence(
                        "WantAuthnRequestsSigned",
                        "true",
                        case.provider.settings.metadata or "",
                        Location(path="IDPSSODescriptor/@WantAuthnRequestsSigned"),
                    ),
                ],
            )
        return
    yield from _request_signature(case, verdicts)


def _request_signature(case: SamlCase, verdicts: tuple[Verdict, ...]) -> Answer:
    """The request's own signature, held against the keys of the application's metadata."""
    message = case.attempt.request
    name = case.app.name if case.app else "the application"
    for verdict in verdicts:
        if verdict.standing == "trusted" and verdict.digest_holds:
            continue
        evidence = Evidence(
            "Signature of the request",
            verdict.signature.algorithm_uri or "",
            message.source if message else "",
            message.place.then(verdict.place) if message else verdict.place,
            exchange=message.exchange if message else None,
        )
        severity = Severity.RISK if _answered_well(case) else Severity.BREAK
        if verdict.signature.refused:
            code, detail = (
                "signature-form-refused",
                say("must not be accepted: {refused}", refused=verdict.signature.refused),
            )
        elif not verdict.digest_holds:
            code, detail = "digest-mismatch", "covers other content than what is here"
        elif not case.app or case.app.entity is None:
            yield Unchecked("request-unsigned", "no metadata of the application holds the key that signs its requests")
            continue
        else:
            code, detail = "signature-value-invalid", say("was made by no key in the metadata of {name}", name=name)
        yield finding(
            code,
            say("The signature of the request {detail}.", detail=detail),
            severity=severity,
            side=Side.APPLICATION,
            evidence=[evidence],
        )


@check("issuer-mismatch", requires=Need.REQUEST)
def scoping(case: SamlCase) -> Answer:
    """Is the provider that answered one of those that the request named?"""
    wanted = case.request.scoping if case.request else None
    if wanted is None or case.assertion is None or case.issuer is None:
        return
    statements = case.assertion.authn_statements
    authorities = {authority.value for statement in statements for authority in statement.authenticating_authorities}
    named = {provider.value for provider in wanted.providers}
    if named and not named & {case.issuer.value, *authorities}:
        yield finding(
            "issuer-mismatch",
            say(
                "The request named the providers that may answer ({named}), and the answer is by none of them.",
                named=", ".join(sorted(named)),
            ),
            severity=Severity.RISK,
            expected=", ".join(sorted(named)),
            actual=case.issuer.value,
            evidence=[*case.asked("IDPEntry", wanted.providers[0]), *case.shown("Issuer", case.issuer)],
            compared=False,
        )
    elif wanted.proxy_count == 0 and authorities:
        yield finding(
            "issuer-mismatch",
            say(
                "The request forbids passing it on (ProxyCount 0), and the user was authenticated by {authorities}.",
                authorities=", ".join(sorted(authorities)),
            ),
            severity=Severity.RISK,
            actual=", ".join(sorted(authorities)),
            evidence=case.asked("Scoping", Located("ProxyCount 0", wanted.element, "ProxyCount")),
        )


@check("authentication-too-old", requires=Need.REQUEST)
def authenticated_anew(case: SamlCase) -> Answer:
    """Was the user authenticated anew where the request demanded it?"""
    request = case.request
    if request is None or not request.force_authn or case.assertion is None:
        return
    asked_at = request.issue_instant.moment if request.issue_instant else None
    skew = case.app.clock_skew if case.app else timedelta(minutes=3)
    for statement in case.assertion.authn_statements:
        instant = statement.authn_instant
        if asked_at and instant and instant.moment and instant.moment < asked_at - skew:
            yield finding(
                "authentication-too-old",
                say(
                    "The request demands a new authentication (ForceAuthn), and the user had authenticated "
                    "{asked_at} before it was sent.",
                    asked_at=show_duration(asked_at - instant.moment),
                ),
                side=Side.PROVIDER,
                expected=f"not before {show_moment(asked_at)}",
                actual=show_moment(instant.moment),
                evidence=[
                    *case.asked("IssueInstant of the request", request.issue_instant),
                    *case.shown("AuthnInstant", instant),
                ],
                compared=False,
            )
            return


@check("name-id-format-mismatch", requires=Need.REQUEST)
def name_asked_for(case: SamlCase) -> Answer:
    """Has the name the format that the request asked for (SAML 2.0 Core §3.4.1.1)?"""
    policy = case.request.name_id_policy if case.request else None
    wanted = policy.format if policy else None
    name = case.name_id
    if wanted is None or name is None or wanted.value in (FORMAT_UNSPECIFIED, name.format):
        return
    if case.app and case.app.settings.application.saml.name_id_format == wanted.value:
        return
    index = index_of(case, case.app) if case.app else None
    found = account_name(case)
    fits = bool(index and found and index.find(found.wanted))
    yield finding(
        "name-id-format-mismatch",
        say(
            "The request asked for a NameID of the format {wanted_value}; the one sent is {format}.",
            wanted_value=short(wanted.value),
            format=short(name.format),
        )
        + (" Its value leads to an account all the same." if fits else ""),
        severity=Severity.RISK if fits else Severity.BREAK,
        expected=wanted.value,
        actual=name.format,
        value_to_set=wanted.value,
        evidence=[*case.asked("NameIDPolicy", wanted), *case.shown("NameID", name)],
        compared=False,
    )


@check("other-user-answered", requires=Need.REQUEST)
def asked_user(case: SamlCase) -> Answer:
    """Is the answer about the person whom the request named (SAML 2.0 Core §3.4.1.4)?"""
    subject = case.request.subject if case.request else None
    wanted = subject.name_id if subject else None
    if wanted is None or case.name_id is None or is_of(case, wanted.value, [case.name_id.value, *names_of(case)]):
        return
    yield finding(
        "other-user-answered",
        say(
            "The request asks for {wanted_value}, and the answer is about {name_id_value}: an open "
            "session of another person, most likely.",
            wanted_value=Person(wanted.value),
            name_id_value=Person(case.name_id.value),
        ),
        expected=Person(wanted.value),
        actual=Person(case.name_id.value),
        evidence=[*case.asked("Subject of the request", wanted), *case.shown("NameID", case.name_id)],
    )


CHECKS = (
    return_address,
    identifier,
    destination,
    signed_request,
    scoping,
    authenticated_anew,
    name_asked_for,
    asked_user,
)
