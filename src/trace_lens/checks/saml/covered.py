"""What a signature covers: one element, by its ID, and no other beside it (SAML 2.0 Core §5.4, XML Signature)."""

from __future__ import annotations

from lxml import etree

from trace_lens.checks.case import Need
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.saml.case import SamlCase
from trace_lens.checks.saml.signed import Verdict
from trace_lens.common.findings import Evidence, Finding, Unchecked
from trace_lens.common.raising import finding
from trace_lens.common.sentences import say
from trace_lens.saml.parsing import where


def at_signature(case: SamlCase, verdict: Verdict) -> Evidence:
    uri = verdict.signature.algorithm_uri or "(none given)"
    place = case.attempt.place.then(verdict.place)
    return Evidence(
        f"Signature of the {verdict.part}", uri, case.attempt.source, place, exchange=case.attempt.main.exchange
    )


def at_certificate(case: SamlCase, verdict: Verdict) -> list[Evidence]:
    if verdict.certificate is None:
        return []
    label, value = "certificate that verifies it", str(verdict.certificate.sha256)
    if verdict.key:
        return [Evidence(label, value, verdict.key.file, verdict.key.where)]
    return [
        Evidence(
            label,
            value,
            case.attempt.source,
            case.attempt.place.then(verdict.place),
            exchange=case.attempt.main.exchange,
        )
    ]


@check("signature-wrapping", requires=Need.SIGNATURE)
def signed_is_read(case: SamlCase) -> Answer:
    """Is the signed element the one that a reader would take?"""
    wrapping = case.signed.wrapping
    uncovered = case.signed.uncovered
    if uncovered:
        yield _uncovered(case, uncovered)
    elif wrapping is not None and wrapping.signature.signed is not None:
        place = where(wrapping.signature.signed)
        yield finding(
            "signature-wrapping",
            say(
                "The signature is good, but it covers the element at {place}, while an application that "
                "looks in the usual place reads another one that nobody signed.",
                place=place,
            ),
            evidence=[at_signature(case, wrapping)],
        )
    elif case.signed.sealed:
        yield Unchecked(
            "signature-wrapping", "an encrypted assertion that no signature covers could not be opened", decides=False
        )


def _id_of(element: etree._Element) -> str:
    return element.get("ID") or element.get("AssertionID") or "no ID"


def _uncovered(case: SamlCase, elements: tuple[etree._Element, ...]) -> Finding:
    """Something that a reader might take, in whatever place, and that no trusted signature covers."""
    first = elements[0]
    name = etree.QName(first).localname
    more = say(", and {elements} more", elements=len(elements) - 1) if len(elements) > 1 else ""
    good = [verdict for verdict in case.signed.verdicts if verdict.standing == "trusted" and verdict.good]
    return finding(
        "signature-wrapping",
        say(
            "A trusted signature is good, but {words} {name} at {where}{more} lies outside what it "
            "covers. Nobody signed that part; an application that reads it can be deceived.",
            words="an" if name[0] in "AE" else "a",
            name=name,
            where=where(first),
            more=more,
        ),
        evidence=[
            *(at_signature(case, verdict) for verdict in good[:1]),
            *(
                Evidence(
                    f"not covered: {etree.QName(element).localname}",
                    _id_of(element),
                    case.attempt.source,
                    case.attempt.place.then(where(element)),
                    exchange=case.attempt.main.exchange,
                )
                for element in elements[:4]
            ),
        ],
    )


@check("duplicate-id", requires=Need.SIGNATURE)
def ids_unique(case: SamlCase) -> Answer:
    """Does each ID stand once (XML Schema Part 2 §3.3.8, SAML 2.0 Core §1.3.4)?"""
    for value in case.signed.duplicates:
        yield finding(
            "duplicate-id",
            say("Two elements have the ID {value}, so it is open which of them a signature refers to.", value=value),
            actual=value,
        )


@check("signature-form-refused", requires=Need.SIGNATURE)
def form(case: SamlCase) -> Answer:
    """Has each signature a form that may be accepted (SAML 2.0 Core §5.4)?"""
    own = case.signed.own or case.signed.verdicts
    for verdict in own:
        if verdict.signature.refused:
            yield finding(
                "signature-form-refused",
                say(
                    "The signature of the {part} must not be accepted: {refused}.",
                    part=verdict.part,
                    refused=verdict.signature.refused,
                ),
                evidence=[at_signature(case, verdict)],
            )
        elif not verdict.signature.holds_its_own and verdict.signature.signed is not None and not case.signed.wrapping:
            yield finding(
                "signature-form-refused",
                "The signature must not be accepted: it refers to another element than the one that contains it.",
                evidence=[at_signature(case, verdict)],
            )


CHECKS = (signed_is_read, ids_unique, form)
