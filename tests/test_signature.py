"""XML Signature and canonicalization: algorithms, refusals, and the published examples."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives import hashes
from hypothesis import given, settings
from hypothesis import strategies as st
from lxml import etree

from kit import DS, EXCLUSIVE, MORE, SAML, SHA256, certificate, judge, key, pem, response, workspace
from trace_lens.saml.canonical import ALGORITHMS, Canonicalization, canonical
from trace_lens.saml.parsing import parse
from trace_lens.saml.signature import signatures_in

INCLUSIVE = "http://www.w3.org/TR/2001/REC-xml-c14n-20010315"
ENC = "http://www.w3.org/2001/04/xmlenc#"
M2007 = "http://www.w3.org/2007/05/xmldsig-more#"
GOOD: list[tuple[str, dict[str, Any]]] = [
    ("RSA-SHA256", {}),
    ("RSA-SHA384", {"method": MORE + "rsa-sha384", "hashed": hashes.SHA384()}),
    (
        "RSA-SHA512",
        {"method": MORE + "rsa-sha512", "hashed": hashes.SHA512(), "digest": ENC + "sha512", "digest_name": "sha512"},
    ),
    ("RSA-SHA1", {"method": DS + "rsa-sha1", "hashed": hashes.SHA1(), "digest": DS + "sha1", "digest_name": "sha1"}),
    ("RSA-PSS", {"method": M2007 + "sha256-rsa-MGF1", "pss": True}),
    ("RSA-PSS with SHA-512", {"method": M2007 + "sha512-rsa-MGF1", "hashed": hashes.SHA512(), "pss": True}),
    ("ECDSA P-256", {"signer": "ec", "kind": "ec-256", "method": MORE + "ecdsa-sha256"}),
    ("ECDSA P-384", {"signer": "ec384", "kind": "ec-384", "method": MORE + "ecdsa-sha384", "hashed": hashes.SHA384()}),
    ("Ed25519", {"signer": "ed", "kind": "ed25519", "method": "http://www.w3.org/2021/04/xmldsig-more#eddsa-ed25519"}),
    ("SHA3 digest", {"digest": M2007 + "sha3-256", "digest_name": "sha3_256"}),
    ("inclusive", {"c14n": INCLUSIVE}),
    ("inclusive 1.1", {"c14n": "http://www.w3.org/2006/12/xml-c14n11"}),
    ("with comments", {"c14n": EXCLUSIVE + "WithComments"}),
    ("inclusive with comments", {"c14n": INCLUSIVE + "#WithComments"}),
    ("a prefix list", {"prefixes": "saml xs"}),
]


@pytest.mark.parametrize(("name", "signing"), GOOD, ids=[one[0] for one in GOOD])
@pytest.mark.parametrize("part", ["assertion", "response"])
def test_algorithms(name: str, signing: dict[str, Any], part: str, tmp_path: Path) -> None:
    kind = signing.get("kind", "rsa-2048")
    files = {"certs/id.pem": pem(certificate(signing.get("signer", "id"), kind=kind))}
    data = (
        _inclusive_in_place(signing)
        if "xml-c14n" in signing.get("c14n", "")
        else response(signed=part, signing=signing)
    )
    found = judge(data, workspace(tmp_path, files=files))
    assert found.outcome == "sound", [one.detail for one in found.findings]


def _inclusive_in_place(signing: dict[str, Any]) -> bytes:
    """Inclusive canonicalization takes in the namespaces around, so the signature is made where it will stand."""
    from kit import assertion_xml, sign

    root = parse(response(signed="none"))
    root.remove(root[-1])
    root.append(etree.fromstring(assertion_xml()))
    sign(root[-1], **signing)
    return etree.tostring(root)


@settings(max_examples=120)
@given(st.data())
def test_a_changed_character_in_signed_content_never_verifies(data: st.DataObject) -> None:
    whole = response()
    root = parse(whole)
    texts = [
        one for one in root.iter(f"{{{SAML}}}*") if one.text and one is not root[0] and one.getparent() is not root
    ]
    chosen = data.draw(st.sampled_from(texts))
    position = data.draw(st.integers(0, len(chosen.text or "") - 1))
    text = chosen.text or ""
    chosen.text = text[:position] + ("x" if text[position] != "x" else "y") + text[position + 1 :]
    (signature,) = signatures_in(root)
    assert signature.digest_holds is False
    assert signature.verified_by(key("id").public_key())


def test_a_changed_signed_info_does_not_verify() -> None:
    root = parse(response())
    method = next(root.iter(f"{{{DS}}}Transform"))
    method.set("Algorithm", EXCLUSIVE)
    (signature,) = signatures_in(root)
    assert not signature.verified_by(key("id").public_key())


def _edit(path: str, **changes: Any) -> Any:
    def edit(signature: etree._Element) -> None:
        found = signature.find(path.replace("ds:", f"{{{DS}}}"))
        assert found is not None
        for name, value in changes.items():
            if name == "text":
                found.text = value
            elif name == "remove":
                found.getparent().remove(found)  # type: ignore[union-attr]
            else:
                found.set(name, value)

    return edit


def _second_reference(signature: etree._Element) -> None:
    info = signature[0]
    info.append(etree.fromstring(etree.tostring(info[-1])))


TRANSFORM = '<ds:Transform Algorithm="{}"/>'
REFUSED: list[tuple[str, dict[str, Any], str]] = [
    ("two references", {"after": _second_reference}, "2 references"),
    ("no reference", {"after": _edit("ds:SignedInfo/ds:Reference", remove=True)}, "0 references"),
    ("HMAC", {"method": DS + "hmac-sha1"}, "symmetric"),
    ("an unknown algorithm", {"method": "urn:x"}, "not one that is accepted"),
    ("an unknown digest", {"digest": "urn:x"}, "digest algorithm urn:x"),
    (
        "an unknown canonicalization",
        {"after": _edit("ds:SignedInfo/ds:CanonicalizationMethod", Algorithm="urn:x")},
        "urn:x",
    ),
    ("the empty URI", {"reference": ""}, "empty URI"),
    ("an address", {"reference": "https://a.example/x.xml"}, "outside this document"),
    ("a file", {"reference": "file:///etc/hostname"}, "outside this document"),
    ("an expression", {"reference": "#xpointer(/)"}, "expression"),
    ("nobody's ID", {"reference": "#_nobody"}, "no element here"),
    ("no enveloped transform", {"transforms": TRANSFORM.format(EXCLUSIVE)}, "no enveloped-signature"),
    (
        "XPath",
        {
            "transforms": TRANSFORM.format(DS + "enveloped-signature")
            + TRANSFORM.format("http://www.w3.org/TR/1999/REC-xpath-19991116")
        },
        "transform",
    ),
    (
        "two canonicalizations",
        {"transforms": TRANSFORM.format(DS + "enveloped-signature") + TRANSFORM.format(EXCLUSIVE) * 2},
        "more than one",
    ),
    (
        "canonicalized first",
        {"transforms": TRANSFORM.format(EXCLUSIVE) + TRANSFORM.format(DS + "enveloped-signature")},
        "",
    ),
    (
        "no digest value",
        {"after": _edit("ds:SignedInfo/ds:Reference/ds:DigestValue", text="***")},
        "DigestValue is not base64",
    ),
]


@pytest.mark.parametrize(("name", "signing", "words"), REFUSED, ids=[one[0] for one in REFUSED])
def test_refused_forms(name: str, signing: dict[str, Any], words: str) -> None:
    (signature,) = signatures_in(parse(response(signing=signing)))
    assert signature.refused
    assert words in signature.refused


def test_the_standard_s_own_simple_example_is_refused_for_its_external_reference() -> None:
    """XML Signature §2.1: a detached signature over a page on the web."""
    root = etree.fromstring(
        f'<r><Signature Id="MyFirstSignature" xmlns="{DS}"><SignedInfo>'
        '<CanonicalizationMethod Algorithm="http://www.w3.org/2006/12/xml-c14n11"/>'
        f'<SignatureMethod Algorithm="{MORE}rsa-sha256"/>'
        '<Reference URI="http://www.w3.org/TR/2000/REC-xhtml1-20000126/"><Transforms>'
        '<Transform Algorithm="http://www.w3.org/2006/12/xml-c14n11"/></Transforms>'
        f'<DigestMethod Algorithm="{SHA256}"/><DigestValue>dGhpcyBpcyBub3QgYSBzaWduYXR1cmUK</DigestValue></Reference>'
        "</SignedInfo><SignatureValue>dGhpcyBpcyBub3QgYSBzaWduYXR1cmUK</SignatureValue></Signature></r>"
    )
    (signature,) = signatures_in(root)
    assert signature.refused
    assert "outside this document" in signature.refused
    assert not signature.verified_by(key("id").public_key())


# Canonical XML 1.0 §3, the published examples that need no document type declaration.
EXAMPLES = [
    (
        "3.1 without comments",
        '<?xml version="1.0"?>\n\n<?xml-stylesheet   href="doc.xsl"\n   type="text/xsl"   ?>\n\n<doc>Hello, world!'
        "<!-- Comment 1 --></doc>\n\n<?pi-without-data     ?>\n\n<!-- Comment 2 -->\n\n<!-- Comment 3 -->",
        "<doc>Hello, world!</doc>",
    ),
    (
        "3.2 white space",
        "<doc>\n   <clean>   </clean>\n   <dirty>   A   B   </dirty>\n   <mixed>\n      A\n      <clean>   </clean>\n      B\n"
        "      <dirty>   A   B   </dirty>\n      C\n   </mixed>\n</doc>",
        "<doc>\n   <clean>   </clean>\n   <dirty>   A   B   </dirty>\n   <mixed>\n      A\n      <clean>   </clean>\n      B\n"
        "      <dirty>   A   B   </dirty>\n      C\n   </mixed>\n</doc>",
    ),
    (
        "3.3 start and end tags",
        '<doc>\n   <e1   />\n   <e2   ></e2>\n   <e3   name = "elem3"   id="elem3"   />\n'
        '   <e5 a:attr="out" b:attr="sorted" attr2="all" attr="I\'m"\n'
        '      xmlns:b="http://www.ietf.org"\n      xmlns:a="http://www.w3.org"\n      xmlns="http://example.org"/>\n</doc>',
        '<doc>\n   <e1></e1>\n   <e2></e2>\n   <e3 id="elem3" name="elem3"></e3>\n'
        '   <e5 xmlns="http://example.org" xmlns:a="http://www.w3.org" xmlns:b="http://www.ietf.org" attr="I\'m" '
        'attr2="all" b:attr="sorted" a:attr="out"></e5>\n</doc>',
    ),
    (
        "3.4 character modifications",
        "<doc>\n   <text>First line&#x0d;&#10;Second line</text>\n   <value>&#x32;</value>\n"
        '   <compute><![CDATA[value>"0" && value<"10" ?"valid":"error"]]></compute>\n'
        '   <compute expr=\'value>"0" &amp;&amp; value&lt;"10" ?"valid":"error"\'>valid</compute>\n'
        "   <norm attr=' &apos;   &#x20;&#13;&#xa;&#9;   &apos; '/>\n</doc>",
        "<doc>\n   <text>First line&#xD;\nSecond line</text>\n   <value>2</value>\n"
        '   <compute>value&gt;"0" &amp;&amp; value&lt;"10" ?"valid":"error"</compute>\n'
        '   <compute expr="value>&quot;0&quot; &amp;&amp; value&lt;&quot;10&quot; ?&quot;valid&quot;:&quot;error&quot;">valid</compute>\n'
        "   <norm attr=\" '    &#xD;&#xA;&#x9;   ' \"></norm>\n</doc>",
    ),
    ("3.6 UTF-8", '<?xml version="1.0" encoding="ISO-8859-1"?><doc>&#169;</doc>', "<doc>\u00a9</doc>"),
]


@pytest.mark.parametrize(("name", "text", "expected"), EXAMPLES, ids=[one[0] for one in EXAMPLES])
def test_canonical_xml_examples(name: str, text: str, expected: str) -> None:
    root = etree.fromstring(text.encode("latin-1"))
    assert canonical(root, ALGORITHMS[INCLUSIVE]).decode() == expected


def test_exclusive_canonicalization_examples() -> None:
    """Exclusive XML Canonicalization 1.0 §2.2: the same element inside two contexts."""
    inner = '<n1:elem2 xmlns:n1="http://example.net" xml:lang="en"><n3:stuff xmlns:n3="ftp://example.org"/></n1:elem2>'
    first = etree.fromstring(f'<n0:pdu xmlns:n0="http://a.example" xml:lang="fr" xml:space="retain">{inner}</n0:pdu>')
    second = etree.fromstring(
        f'<n2:pdu xmlns:n1="http://example.com" xmlns:n2="http://foo.example" xml:lang="fr" xml:space="retain">{inner}</n2:pdu>'
    )
    expected = '<n1:elem2 xmlns:n1="http://example.net" xml:lang="en"><n3:stuff xmlns:n3="ftp://example.org"></n3:stuff></n1:elem2>'
    for root in (first, second):
        assert canonical(root[0], ALGORITHMS[EXCLUSIVE]).decode() == expected
    inclusive = canonical(first[0], ALGORITHMS[INCLUSIVE]).decode()
    assert inclusive.startswith(
        '<n1:elem2 xmlns:n0="http://a.example" xmlns:n1="http://example.net" xml:lang="en" xml:space="retain">'
    )


def test_inherited_xml_attributes() -> None:
    """Canonical XML 1.1 §2.4: lang and space are inherited, id is not, base is joined; 1.0 inherits all as they are."""
    text = '<a xml:base="http://x.example/one/" xml:lang="no" xml:id="i"><b xml:base="two/"><c/></b></a>'
    element = etree.fromstring(text)[0][0]
    eleven = Canonicalization(False, False, "1.1")
    assert canonical(element, eleven) == b'<c xml:base="http://x.example/one/two/" xml:lang="no"></c>'
    ten = canonical(element, ALGORITHMS[INCLUSIVE])
    assert ten == b'<c xml:base="two/" xml:id="i" xml:lang="no"></c>'
    assert dict(element.attrib) == {}


def test_the_default_prefix_in_a_prefix_list() -> None:
    root = etree.fromstring('<a xmlns="urn:d" xmlns:x="urn:x"><p:b xmlns:p="urn:p" x="1"><p:c/><d/></p:b></a>')
    how = Canonicalization(True, False, prefixes=("#default", "x"))
    assert (
        canonical(root[0], how) == b'<p:b xmlns="urn:d" xmlns:p="urn:p" xmlns:x="urn:x" x="1"><p:c></p:c><d></d></p:b>'
    )


NAMES = st.sampled_from(["a", "b", "p:a", "q:b"])
TEXTS = st.text(st.sampled_from("ab<>&\"'\r\n\t \u00e9"), max_size=6)


@st.composite
def trees(draw: st.DrawFn, depth: int = 3) -> etree._Element:
    spaces = draw(st.dictionaries(st.sampled_from(["p", "q", None]), st.sampled_from(["urn:1", "urn:2"]), max_size=3))
    root = etree.Element("root", nsmap={"p": "urn:p", "q": "urn:q", **spaces})
    nodes = [root]
    for _ in range(draw(st.integers(0, 8))):
        parent = draw(st.sampled_from(nodes))
        child = etree.SubElement(parent, draw(st.sampled_from(["{urn:1}a", "{urn:p}b", "{urn:2}c", "d"])))
        child.text, child.tail = draw(TEXTS), draw(TEXTS)
        for name in draw(st.lists(st.sampled_from(["x", "{urn:1}y", "{urn:2}z"]), unique=True, max_size=3)):
            child.set(name, draw(TEXTS))
        nodes.append(child)
    return root


@settings(max_examples=80)
@given(trees())
def test_by_hand_and_by_library_agree(root: etree._Element) -> None:
    """The canonicaliser for `#default` lists gives what lxml gives where the list changes nothing."""
    from trace_lens.saml.canonical import _by_hand

    for element in root.iter(etree.Element):
        how = ALGORITHMS[EXCLUSIVE]
        assert b"".join(_by_hand(element, how, {}, frozenset())) == canonical(element, how)


@settings(max_examples=60)
@given(trees())
def test_leaving_an_element_out_puts_it_back(root: etree._Element) -> None:
    before = etree.tostring(root)
    for element in list(root.iterdescendants(etree.Element)):
        whole = canonical(root, ALGORITHMS[EXCLUSIVE])
        less = canonical(root, ALGORITHMS[EXCLUSIVE], leave_out=element)
        assert len(less) < len(whole)
        assert etree.tostring(root) == before


def test_a_relative_namespace_name_has_no_canonical_form() -> None:
    """Canonical XML 1.0 §1.3: such a document is refused, not passed over."""
    root = etree.fromstring(response(edit=lambda root: root[-1].append(etree.Element("{relative}x"))))
    (one,) = signatures_in(root)
    assert one.refused
    assert "canonical form" in one.refused
