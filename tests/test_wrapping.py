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

from kit import DS, SAML, SAMLP, TERN, broke, judge, response, workspace
from trace_lens.common.findings import Severity

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
    "before": _before, "behind": _behind, "in Extensions": _extensions, "in StatusDetail": _status, "in Object": _object,
    "in KeyInfo": _key_info,
}  # fmt: skip


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
