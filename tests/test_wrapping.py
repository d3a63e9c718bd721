"""Signature wrapping: a second assertion or response in every place of a message, however it is signed, is named.

Arrangements follow Somorovsky et al., On Breaking SAML, USENIX Security 2012, §4: place × signing mode × kind of what is
put there, and whether the forged part or the signed one stands first.
"""

from __future__ import annotations

import base64
from collections.abc import Callable
from pathlib import Path
from urllib.parse import quote

import pytest
from lxml import etree

from kit import DS, SAML, SAMLP, TERN, broke, judge, response, sign, workspace
from trace_lens.common.findings import Severity
from trace_lens.diagnosis.strict import sound
from trace_lens.workspace.loading import load_workspace

FULMAR = "a.fulmar@northmere.example"
SOAP = "http://schemas.xmlsoap.org/soap/envelope/"
Put = Callable[[etree._Element, etree._Element], None]


def forged_assertion(root: etree._Element) -> etree._Element:
    """A copy of the signed assertion about another person, without a signature."""
    signed = next(root.iter(f"{{{SAML}}}Assertion"))
    forged = etree.fromstring(etree.tostring(signed))
    for signature in forged.findall(f"{{{DS}}}Signature"):
        forged.remove(signature)
    forged.set("ID", "_forged")
    name = next(forged.iter(f"{{{SAML}}}NameID"))
    name.text = FULMAR
    return forged


def forged_response(root: etree._Element) -> etree._Element:
    inner = etree.Element(f"{{{SAMLP}}}Response", ID="_forgedrs", Version="2.0", IssueInstant="2026-11-20T08:14:03Z")
    inner.append(forged_assertion(root))
    return inner


def forged_11(root: etree._Element) -> etree._Element:
    return etree.fromstring(
        '<a:Assertion xmlns:a="urn:oasis:names:tc:SAML:1.0:assertion" AssertionID="_forged11" '
        'MajorVersion="1" MinorVersion="1" Issuer="https://id.northmere.example/saml"/>'
    )


def closed(root: etree._Element) -> etree._Element:
    return etree.Element(f"{{{SAML}}}EncryptedAssertion")


KINDS = {"assertion": forged_assertion, "response": forged_response, "assertion 1.1": forged_11, "closed": closed}


def _in_signature(root: etree._Element, name: str) -> etree._Element:
    return etree.SubElement(next(root.iter(f"{{{DS}}}Signature")), f"{{{DS}}}{name}")


def _object(root: etree._Element, forged: etree._Element) -> None:
    _in_signature(root, "Object").append(forged)


def _key_info(root: etree._Element, forged: etree._Element) -> None:
    found = next(root.iter(f"{{{DS}}}KeyInfo"), None)
    (_in_signature(root, "KeyInfo") if found is None else found).append(forged)


def _extensions(root: etree._Element, forged: etree._Element) -> None:
    aside = etree.Element(f"{{{SAMLP}}}Extensions")
    aside.append(forged)
    root.insert(1, aside)


def _status(root: etree._Element, forged: etree._Element) -> None:
    status = root.find(f"{{{SAMLP}}}Status")
    assert status is not None
    etree.SubElement(status, f"{{{SAMLP}}}StatusDetail").append(forged)


def _before(root: etree._Element, forged: etree._Element) -> None:
    root.insert(0, forged)


def _behind(root: etree._Element, forged: etree._Element) -> None:
    root.append(forged)


PLACES: dict[str, Put] = {
    "before": _before,
    "behind": _behind,
    "in Extensions": _extensions,
    "in StatusDetail": _status,
    "in Object": _object,
    "in KeyInfo": _key_info,
}


@pytest.fixture(scope="module")
def known(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return workspace(tmp_path_factory.mktemp("wrapping"), {"application": {"signed_part": "either"}})


@pytest.mark.parametrize("signed", ["assertion", "response", "both"])
@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize("kind", KINDS)
def test_a_second_one_in_any_place_is_named(kind: str, place: str, signed: str, known: Path) -> None:
    """Never sound, never the forged subject; named as wrapping unless it lies inside what was signed, whose digest then fails."""

    def edit(root: etree._Element) -> None:
        PLACES[place](root, KINDS[kind](root))

    found = judge(response(signed=signed, edit=edit), known)
    assert sound(response(signed=signed, edit=edit), load_workspace(known)) is None
    codes = {one.code for one in found.findings if one.severity is Severity.BREAK}
    inside = signed in ("response", "both") and place not in ("in Object", "in KeyInfo")
    sealed = kind == "closed"
    assert found.subject != FULMAR or "digest-mismatch" in codes, (
        "where no signature holds, none tells which one is forged"
    )
    assert found.outcome != "sound" or sealed
    if sealed:
        told = codes | {one.code for one in found.unchecked}
        assert {"signature-wrapping", "digest-mismatch", "malformed-message", "encryption-form-refused"} & told
    elif inside and signed == "response":
        assert {"digest-mismatch", "signature-wrapping"} & codes
    else:
        assert "signature-wrapping" in codes or (inside and "digest-mismatch" in codes)


@pytest.mark.parametrize("wrapper", ["soap header", "soap body"])
def test_parts_of_an_envelope(wrapper: str, known: Path) -> None:
    root = etree.fromstring(response())
    envelope = etree.Element(f"{{{SOAP}}}Envelope")
    header, body = (etree.SubElement(envelope, f"{{{SOAP}}}{name}") for name in ("Header", "Body"))
    body.append(root)
    assert broke(judge(etree.tostring(envelope), known)) is None
    (header if wrapper == "soap header" else body).append(forged_assertion(root))
    assert broke(judge(etree.tostring(envelope), known)) == "signature-wrapping"


def test_a_field_that_is_there_twice(known: Path) -> None:
    good = response()
    forged = etree.fromstring(good)
    for signature in list(forged.iter(f"{{{DS}}}Signature")):
        parent = signature.getparent()
        assert parent is not None
        parent.remove(signature)
    fields = [
        f"SAMLResponse={quote(base64.b64encode(one).decode(), safe='')}" for one in (good, etree.tostring(forged))
    ]
    assert broke(judge("&".join(fields).encode(), known)) == "signature-wrapping"
    assert broke(judge("&".join(fields[:1] * 2).encode(), known)) is None, "the same value twice deceives nobody"


def test_what_works_is_not_wrapped(known: Path) -> None:
    """Advice inside signed octets is covered; so is a response inside its ArtifactResponse."""
    advice = f'<saml:Advice xmlns:saml="{SAML}"><saml:Assertion ID="_adv" Version="2.0" IssueInstant="2026-11-20T08:14:03Z"><saml:Issuer>x</saml:Issuer></saml:Assertion></saml:Advice>'

    def edit(root: etree._Element) -> None:
        root.append(etree.fromstring(advice))

    assert broke(judge(response(), known)) is None
    assert broke(judge(response(edit=edit), known)) == "signature-wrapping", "outside of what was signed it counts"
    assert judge(response(), known).subject == TERN


def _same_id(root: etree._Element) -> etree._Element:
    forged = forged_assertion(root)
    forged.set("ID", str(next(root.iter(f"{{{SAML}}}Assertion")).get("ID")))
    return forged


def _no_id(root: etree._Element) -> etree._Element:
    forged = forged_assertion(root)
    del forged.attrib["ID"]
    return forged


def _with_its_signature(root: etree._Element) -> etree._Element:
    """A forged assertion that carries a copy of the signature over the other one."""
    forged = forged_assertion(root)
    forged.insert(1, etree.fromstring(etree.tostring(next(root.iter(f"{{{DS}}}Signature")))))
    return forged


def _self_signed(root: etree._Element) -> etree._Element:
    forged = forged_assertion(root)
    sign(forged, "attacker")
    return forged


def _in_a_response_in_a_response(root: etree._Element) -> etree._Element:
    outer = etree.Element(f"{{{SAMLP}}}Response", ID="_outer", Version="2.0", IssueInstant="2026-11-20T08:14:03Z")
    outer.append(forged_response(root))
    return outer


MORE_KINDS = {
    **KINDS,
    "same ID": _same_id,
    "no ID": _no_id,
    "with its signature": _with_its_signature,
    "self-signed": _self_signed,
    "response in a response": _in_a_response_in_a_response,
}


def _into(path: str) -> Put:
    """Into the first element of a name, as its last child."""

    def put(root: etree._Element, forged: etree._Element) -> None:
        found = next(root.iter(path), None)
        assert found is not None
        found.append(forged)

    return put


def _aside(root: etree._Element, forged: etree._Element) -> None:
    """Into an element of another vocabulary at the end."""
    etree.SubElement(root, "{urn:x}Other").append(forged)


def _deep_object(root: etree._Element, forged: etree._Element) -> None:
    inner = etree.SubElement(_in_signature(root, "Object"), f"{{{DS}}}SignatureProperties")
    etree.SubElement(inner, f"{{{DS}}}SignatureProperty", Target="#x").append(forged)


MORE_PLACES: dict[str, Put] = {
    **PLACES,
    "in the issuer": _into(f"{{{SAML}}}Issuer"),
    "in the subject": _into(f"{{{SAML}}}Subject"),
    "in a condition": _into(f"{{{SAML}}}Conditions"),
    "in a value": _into(f"{{{SAML}}}AttributeValue"),
    "in the confirmation": _into(f"{{{SAML}}}SubjectConfirmationData"),
    "aside": _aside,
    "in a signature property": _deep_object,
    "in the signed information": _into(f"{{{DS}}}SignedInfo"),
    "in the digest value": _into(f"{{{DS}}}DigestValue"),
}
_NAMED = {"signature-wrapping", "duplicate-id", "signature-form-refused"}
_ALTERED = {"digest-mismatch", "signature-value-invalid"}


@pytest.mark.parametrize("signed", ["assertion", "response", "both"])
@pytest.mark.parametrize("place", MORE_PLACES)
@pytest.mark.parametrize("kind", MORE_KINDS)
@pytest.mark.parametrize("moved", [False, True], ids=["added", "changed places"])
def test_every_arrangement_is_named(moved: bool, kind: str, place: str, signed: str, known: Path) -> None:
    """The forged part in the place, or the signed one in the place and the forged in its stead: always named.

    What lies inside signed octets changes their digest: then that is the name.
    """

    def edit(root: etree._Element) -> None:
        forged = MORE_KINDS[kind](root)
        if not moved:
            MORE_PLACES[place](root, forged)
            return
        real = next(root.iter(f"{{{SAML}}}Assertion"))
        copied = etree.fromstring(etree.tostring(real))
        MORE_PLACES[place](root, copied)
        if real.getparent() is root:
            root.replace(real, forged)

    data = response(signed=signed, edit=edit)
    found = judge(data, known)
    assert sound(data, load_workspace(known)) is None
    codes = {finding.code for finding in found.findings if finding.severity is Severity.BREAK}
    told = codes | {question.code for question in found.unchecked if kind == "closed"}
    assert found.outcome != "sound" or kind == "closed"
    if b"SignatureValue>" not in data:
        assert "not-signed" in codes or kind == "closed", "the place lay in what was put aside, the signature with it"
        return
    if kind == "self-signed" and "signed-by-untrusted-key" in codes:
        return
    assert (_NAMED | _ALTERED | {"encryption-form-refused", "malformed-message"}) & told, sorted(codes)
    if not _ALTERED & codes and kind != "closed":
        assert _NAMED & codes, sorted(codes)
