"""XML signatures for the demo's messages, made from the standard's text and nothing else of this program."""

from __future__ import annotations

import base64
import hashlib

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding
from lxml import etree

from trace_lens.demo.keys import SigningKey

_DS = "http://www.w3.org/2000/09/xmldsig#"
_EXCLUSIVE = "http://www.w3.org/2001/10/xml-exc-c14n#"
_ISSUER = "{urn:oasis:names:tc:SAML:2.0:assertion}Issuer"


def sign(element: etree._Element, key: SigningKey, *, identified_by: str = "ID", position: int | None = None) -> None:
    """Put an enveloped signature (RSA-SHA256, exclusive canonicalization) into an element.

    It stands after the Issuer, or where `position` says; `identified_by` is the attribute that holds the identifier.
    """
    digest = base64.b64encode(hashlib.sha256(_canonical(element)).digest()).decode()
    signature = etree.fromstring(
        f'<ds:Signature xmlns:ds="{_DS}"><ds:SignedInfo>'
        f'<ds:CanonicalizationMethod Algorithm="{_EXCLUSIVE}"/>'
        '<ds:SignatureMethod Algorithm="http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"/>'
        f'<ds:Reference URI="#{element.get(identified_by)}"><ds:Transforms>'
        f'<ds:Transform Algorithm="{_DS}enveloped-signature"/><ds:Transform Algorithm="{_EXCLUSIVE}"/>'
        '</ds:Transforms><ds:DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/>'
        f"<ds:DigestValue>{digest}</ds:DigestValue></ds:Reference></ds:SignedInfo><ds:SignatureValue/>"
        f"<ds:KeyInfo><ds:X509Data><ds:X509Certificate>{key.base64}</ds:X509Certificate></ds:X509Data></ds:KeyInfo>"
        "</ds:Signature>"
    )
    issuer = element.find(_ISSUER)
    after_issuer = 0 if issuer is None else element.index(issuer) + 1
    element.insert(after_issuer if position is None else position, signature)
    value = key.private.sign(_canonical(signature[0]), padding.PKCS1v15(), hashes.SHA256())
    signature[1].text = base64.b64encode(value).decode()


def _canonical(element: etree._Element) -> bytes:
    return etree.tostring(element, method="c14n", exclusive=True, with_comments=False, with_tail=False)
