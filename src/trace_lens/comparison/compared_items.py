"""The values of an attempt that another attempt can be held against: each with what a difference in it means."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime

from trace_lens.checks.claims import matches
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.saml.delivered import bearers
from trace_lens.common.moments import show_duration
from trace_lens.common.secret_names import relay_words
from trace_lens.comparison.items import IDS, MOMENTS, SIGNATURES, Item, some
from trace_lens.saml.messages import Instant
from trace_lens.saml.names import short
from trace_lens.saml.signature import XMLSignature


def items_of(case: SamlCase) -> list[Item]:
    """All items of an attempt that have a value."""
    return [item for item in (*_message(case), *_claims(case), *_request(case), *_noise(case)) if item.values]


def _message(case: SamlCase) -> Iterator[Item]:
    response, assertion, name = case.response, case.assertion, case.name_id
    status = response.status if response else None
    yield Item("protocol", some("SAML 1.1" if case.is_saml_11 else "SAML 2.0"))
    yield Item("status", tuple(short(code.value) for code in status.codes) if status else (), ("provider-refused",))
    yield Item("issuer", some(case.issuer.value if case.issuer else None), ("issuer-mismatch", "issuer-unknown"))
    conditions = assertion.conditions if assertion else None
    audiences = tuple(audience.value for audience in conditions.audiences) if conditions else ()
    yield Item("audience", audiences, ("audience-mismatch", "audience-missing"))
    destination = response.destination if response else None
    yield Item("destination", some(destination.value if destination else None), ("destination-mismatch",))
    recipients = [bearer.data.recipient.value for bearer in bearers(case) if bearer.data and bearer.data.recipient]
    yield Item("recipient", tuple(recipients), ("recipient-mismatch",))
    binding = some(short(case.attempt.main.binding or ""))
    yield Item("binding", binding, ("wrong-binding",), why="how it travelled", only_if_both=True)
    started = ("unsolicited-not-accepted",)
    yield Item("started by", some(case.started_by), started, why="who started the sign-in", only_if_both=True)
    relay_state = some(relay_words(case.attempt.relay_state) if case.attempt.relay_state else None)
    yield Item("relay state", relay_state, ("relay-state-unexpected",), False, personal=True, only_if_both=True)
    identified = ("account-not-found", "account-near-match", "account-ambiguous", "guest-identifier", "not-assigned")
    yield Item("name identifier", some(name.value if name else None), identified, matters=False, personal=True)
    yield Item("name identifier format", some(name.format if name else None), ("name-id-format-mismatch",))
    yield Item("name qualifier", some(name.name_qualifier if name else None))
    yield Item("qualifier of the application", some(name.sp_name_qualifier if name else None))
    for statement in assertion.authn_statements[:1] if assertion else ():
        context = statement.context_class
        yield Item("authentication", some(context.value if context else None), ("assurance-too-low",))
        yield Item(
            "session lasts",
            some(_span(assertion and assertion.issue_instant, statement.session_not_on_or_after)),
            ("session-ends-early", "session-expired"),
        )
    if conditions:
        yield Item("valid for", some(_span(conditions.not_before, conditions.not_on_or_after)), ("validity-too-long",))
    yield from _signatures(case)


def _signatures(case: SamlCase) -> Iterator[Item]:
    own = case.signed.own
    yield Item("signed part", tuple(verdict.part for verdict in own), ("not-signed", "signed-part-wrong"))
    yield Item(
        "signature algorithm",
        tuple(dict.fromkeys(short(verdict.signature.algorithm_uri or "none") for verdict in own)),
        ("weak-signature", "signature-form-refused"),
    )
    digests = (
        short(verdict.signature.digest_uri or "") for verdict in own if isinstance(verdict.signature, XMLSignature)
    )
    yield Item("digest algorithm", tuple(dict.fromkeys(filter(None, digests))), ("weak-signature",))
    keys = tuple(dict.fromkeys(str(verdict.certificate.sha256) for verdict in own if verdict.certificate))
    yield Item(
        "signing certificate",
        keys,
        (
            "signed-by-other-known-key",
            "fingerprint-mismatch",
            "signed-by-untrusted-key",
            "certificate-expired",
            "certificate-expiring",
            "signature-value-invalid",
        ),
    )
    kinds = [
        ("assertion", len(case.openings)),
        ("name", int(case.name_opening is not None)),
        ("attributes", len(case.attribute_openings)),
    ]
    yield Item(
        "encrypted", tuple(what for what, count in kinds if count), ("encrypted-no-key", "encrypted-to-other-key")
    )


def _claims(case: SamlCase) -> Iterator[Item]:
    """Each attribute: that it is there matters where it is needed, its values where they decide something."""
    read = {match.sent_as: match for match in matches(case) if match.sent_as}
    codes = (
        "claim-missing",
        "claim-empty",
        "claim-name-near-match",
        "claim-value-not-allowed",
        "claim-not-single",
        "group-unmapped",
        "group-style-mismatch",
    )
    for name in case.said:
        match = read.get(name)
        decides = bool(match and (match.claim.means != "plain" or match.claim.one_of or match.claim.maps))
        why = f"{case.app.name if case.app else 'the application'} decides by it" if decides else "it must be there"
        yield Item(
            f"attribute {name}",
            case.said[name],
            codes if match else (),
            matters=decides,
            why=why,
            personal=bool(match) and not decides,
            matters_if_missing=bool(match and match.claim.need in ("must", "should")),
        )


def _request(case: SamlCase) -> Iterator[Item]:
    request = case.request
    if request is None:
        return
    policy, context = request.name_id_policy, request.requested_context
    classes = tuple(value.value for value in context.classes) if context else ()
    binding = request.protocol_binding
    for name, values in (
        ("issuer", some(request.issuer.value if request.issuer else None)),
        ("ACS URL", some(request.acs_url.value if request.acs_url else None)),
        ("destination", some(request.destination.value if request.destination else None)),
        ("format", some(policy.format.value if policy and policy.format else None)),
        ("authentication", (*some(context.comparison if context else None), *classes)),
        ("ForceAuthn", some(str(request.force_authn).lower())),
        ("IsPassive", some(str(request.is_passive).lower())),
        ("binding", some(short(binding.value) if binding else None)),
    ):
        yield Item(f"request: {name}", values or ("(not given)",), only_if_both=True)


def _noise(case: SamlCase) -> Iterator[Item]:
    """What differs in any two messages."""

    def noise(kind: str, named: Iterable[tuple[str, str | None]]) -> Iterator[Item]:
        for name, value in named:
            yield Item(name, some(value), noise=kind)

    response, assertion = case.response, case.assertion
    ids = [("Response ID", response.id if response else None), ("Assertion ID", assertion.id if assertion else None)]
    ids += [(f"InResponseTo {number}", value) for number, value in enumerate(case.request_ids)]
    ids += [
        (f"SessionIndex {number}", statement.session_index)
        for number, statement in enumerate(assertion.authn_statements if assertion else ())
    ]
    yield from noise(IDS, ((name, value.value if value else None) for name, value in ids))
    moments: list[tuple[str, Instant | None]] = [("Response", response.issue_instant if response else None)]
    if assertion:
        moments.append(("Assertion", assertion.issue_instant))
        if assertion.conditions:
            moments += [
                ("NotBefore", assertion.conditions.not_before),
                ("NotOnOrAfter", assertion.conditions.not_on_or_after),
            ]
        moments += [("AuthnInstant", statement.authn_instant) for statement in assertion.authn_statements]
    yield from noise(MOMENTS, ((name, instant.text.value if instant else None) for name, instant in moments))
    yield from noise(
        SIGNATURES,
        ((f"signature {number}", verdict.signature.value.hex()) for number, verdict in enumerate(case.signed.own)),
    )


def _span(start: Instant | None, end: Instant | None) -> str | None:
    first: datetime | None = start.moment if start else None
    last = end.moment if end else None
    return show_duration(last - first) if first and last else None
