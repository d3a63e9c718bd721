"""The demo's other forms of message: encrypted, over redirects, WS-Federation, artifacts.

Made from the standards' texts and nothing else of this program: SAML 2.0 Bindings §3.4 and §3.6.4, XML Encryption 1.1
§5, WS-Federation 1.2 §13, SAML 1.1 Core §2.
"""

from __future__ import annotations

import base64
import hashlib
import random
import secrets
import zlib
from datetime import timedelta
from html import escape
from urllib.parse import quote, urlencode, urlsplit

from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import padding
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from lxml import etree

from trace_lens.demo.diary import Entry, put_down
from trace_lens.demo.keys import SigningKey
from trace_lens.demo.messages import Answer, response, stamp
from trace_lens.demo.signing import sign

_SAML = "urn:oasis:names:tc:SAML:2.0:"
_A = "{urn:oasis:names:tc:SAML:2.0:assertion}"
_A11 = "urn:oasis:names:tc:SAML:1.0:assertion"
_ENC = "http://www.w3.org/2001/04/xmlenc#"
_ENC11 = "http://www.w3.org/2009/xmlenc11#"
_DS = "http://www.w3.org/2000/09/xmldsig#"
_SHA256 = "http://www.w3.org/2001/04/xmlenc#sha256"
_RSA_SHA256 = "http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"
_SECOND_FACTOR = _SAML + "ac:classes:TimeSyncToken"


def encrypt(root: etree._Element, key: SigningKey, *, first_oaep: bool = False) -> etree._Element:
    """The response with its assertion encrypted: AES-256-GCM, the key by RSA-OAEP to the certificate of `key`.

    RSA-OAEP with SHA-256 (XML Encryption 1.1 §5.5.2), or with `first_oaep` as version 1.0 has it, which all know.
    """
    assertion = root.find(_A + "Assertion")
    if assertion is None:
        raise ValueError("the response holds no assertion to encrypt")
    content_key, vector = secrets.token_bytes(32), secrets.token_bytes(12)
    sealed = vector + AESGCM(content_key).encrypt(vector, etree.tostring(assertion, with_tail=False), None)
    oaep = padding.OAEP(padding.MGF1(hashes.SHA256()), hashes.SHA256(), None)
    method = (
        f'<xenc:EncryptionMethod Algorithm="{_ENC11}rsa-oaep"><ds:DigestMethod Algorithm="{_SHA256}"/>'
        f'<xenc11:MGF xmlns:xenc11="{_ENC11}" Algorithm="{_ENC11}mgf1sha256"/></xenc:EncryptionMethod>'
    )
    if first_oaep:
        oaep = padding.OAEP(padding.MGF1(hashes.SHA1()), hashes.SHA1(), None)
        method = f'<xenc:EncryptionMethod Algorithm="{_ENC}rsa-oaep-mgf1p"/>'
    wrapped = key.private.public_key().encrypt(content_key, oaep)
    closed = etree.fromstring(
        f'<saml:EncryptedAssertion xmlns:saml="{_SAML}assertion" xmlns:xenc="{_ENC}" xmlns:ds="{_DS}">'
        f'<xenc:EncryptedData Type="{_ENC}Element"><xenc:EncryptionMethod Algorithm="{_ENC11}aes256-gcm"/><ds:KeyInfo>'
        f"<xenc:EncryptedKey>{method}<ds:KeyInfo>"
        f"<ds:X509Data><ds:X509Certificate>{key.base64}</ds:X509Certificate></ds:X509Data></ds:KeyInfo>"
        f"<xenc:CipherData><xenc:CipherValue>{base64.b64encode(wrapped).decode()}</xenc:CipherValue></xenc:CipherData>"
        "</xenc:EncryptedKey></ds:KeyInfo><xenc:CipherData>"
        f"<xenc:CipherValue>{base64.b64encode(sealed).decode()}</xenc:CipherValue></xenc:CipherData>"
        "</xenc:EncryptedData></saml:EncryptedAssertion>"
    )
    root.replace(assertion, closed)
    return root


def exchange(
    draw: random.Random,
    answer: Answer,
    application: SigningKey,
    provider: SigningKey,
    *,
    demands: bool = False,
    signs_out: bool = False,
) -> bytes:
    """The request in a signed redirect and the answer to it, as two lines of a ticket; a sign-out after it, if told."""
    root = response(answer, provider, draw)
    asked = str(root.get("InResponseTo"))
    sso = answer.issuer + "/sso"
    context = (
        f'<samlp:RequestedAuthnContext Comparison="exact"><saml:AuthnContextClassRef>{_SECOND_FACTOR}'
        "</saml:AuthnContextClassRef></samlp:RequestedAuthnContext>"
        if demands
        else ""
    )
    request = _request(answer, sso, asked, context)
    state = f"ss:mem:{draw.getrandbits(32):08x}"
    body = urlencode({"SAMLResponse": base64.b64encode(etree.tostring(root)).decode(), "RelayState": state})
    lines = [_redirect(sso, "SAMLRequest", request, application, state), body]
    if signs_out:
        lines += _sign_out(draw, answer, root, application, provider)
    return "\n\n".join(lines).encode() + b"\n"


def _request(answer: Answer, sso: str, identifier: str, inner: str = "") -> str:
    """The request that an answer is to."""
    return (
        f'<samlp:AuthnRequest xmlns:samlp="{_SAML}protocol" xmlns:saml="{_SAML}assertion" ID="{identifier}" '
        f'Version="2.0" IssueInstant="{stamp(answer.issued - timedelta(seconds=41))}" Destination="{sso}" '
        f'AssertionConsumerServiceURL="{answer.acs_url}" ProtocolBinding="{_SAML}bindings:HTTP-POST">'
        f'<saml:Issuer>{answer.audience}</saml:Issuer><samlp:NameIDPolicy Format="{answer.name_id_format}" '
        f'AllowCreate="true"/>{inner}</samlp:AuthnRequest>'
    )


def asked_in_address(answer: Answer, sso: str, identifier: str, state: str, key: SigningKey | None = None) -> str:
    """The address by which the request of an answer travels, signed where a key is given (Bindings §3.4)."""
    return _redirect(sso, "SAMLRequest", _request(answer, sso, identifier), key, state)


def _sign_out(
    draw: random.Random, answer: Answer, root: etree._Element, application: SigningKey, provider: SigningKey
) -> list[str]:
    """A logout request of the provider that names another session than the one opened, and the answer to it."""
    identifier = f"_lo{draw.getrandbits(96):024x}"
    later = answer.issued + timedelta(hours=6)
    slo = f"https://{urlsplit(answer.acs_url).netloc}/saml/slo"
    request = (
        f'<samlp:LogoutRequest xmlns:samlp="{_SAML}protocol" xmlns:saml="{_SAML}assertion" ID="{identifier}" '
        f'Version="2.0" IssueInstant="{stamp(later)}" Destination="{slo}"><saml:Issuer>{answer.issuer}</saml:Issuer>'
        f'<saml:NameID Format="{answer.name_id_format}">{answer.name_id}</saml:NameID>'
        f"<samlp:SessionIndex>_se{draw.getrandbits(64):016x}</samlp:SessionIndex></samlp:LogoutRequest>"
    )
    reply = (
        f'<samlp:LogoutResponse xmlns:samlp="{_SAML}protocol" xmlns:saml="{_SAML}assertion" '
        f'ID="_lr{draw.getrandbits(96):024x}" Version="2.0" IssueInstant="{stamp(later)}" '
        f'Destination="{answer.issuer}/slo" InResponseTo="{identifier}"><saml:Issuer>{answer.audience}</saml:Issuer>'
        f'<samlp:Status><samlp:StatusCode Value="{_SAML}status:Requester"/></samlp:Status></samlp:LogoutResponse>'
    )
    return [
        _redirect(slo, "SAMLRequest", request, provider, None),
        _redirect(f"{answer.issuer}/slo", "SAMLResponse", reply, application, None),
    ]


def _redirect(address: str, field: str, message: str, key: SigningKey | None, state: str | None) -> str:
    """A message in an address, with the signature over the query where a key is given (Bindings §3.4.4.1)."""
    squeeze = zlib.compressobj(9, zlib.DEFLATED, -15)
    octets = squeeze.compress(message.encode()) + squeeze.flush()
    pieces = [(field, base64.b64encode(octets).decode()), *([("RelayState", state)] if state else [])]
    pieces += [("SigAlg", _RSA_SHA256)] if key else []
    query = "&".join(f"{name}={quote(value, safe='')}" for name, value in pieces)
    if key is None:
        return f"{address}?{query}"
    value = key.private.sign(query.encode(), padding.PKCS1v15(), hashes.SHA256())
    return f"{address}?{query}&Signature={quote(base64.b64encode(value).decode(), safe='')}"


def federation(draw: random.Random, answer: Answer, key: SigningKey) -> bytes:
    """A WS-Federation sign-in response with a signed SAML 1.1 assertion, as a form post."""
    identifier = f"_fa{draw.getrandbits(96):024x}"
    put_down(draw, Entry(answer.name_id, answer.acs_url, answer.issuer, answer.issued, identifier, ""))

    def at(seconds: int) -> str:
        return stamp(answer.issued + timedelta(seconds=seconds))

    subject = (
        f'<saml:Subject><saml:NameIdentifier Format="{answer.name_id_format}">{escape(answer.name_id)}'
        "</saml:NameIdentifier><saml:SubjectConfirmation><saml:ConfirmationMethod>urn:oasis:names:tc:SAML:1.0:cm:bearer"
        "</saml:ConfirmationMethod></saml:SubjectConfirmation></saml:Subject>"
    )
    attributes = "".join(
        f'<saml:Attribute AttributeName="{name.rpartition("/")[2]}" AttributeNamespace="{name.rpartition("/")[0]}">'
        + "".join(f"<saml:AttributeValue>{escape(value)}</saml:AttributeValue>" for value in values)
        + "</saml:Attribute>"
        for name, values in answer.attributes.items()
    )
    assertion = etree.fromstring(
        f'<saml:Assertion xmlns:saml="{_A11}" MajorVersion="1" MinorVersion="1" AssertionID="{identifier}" '
        f'Issuer="{escape(answer.issuer)}" IssueInstant="{at(0)}"><saml:Conditions NotBefore="{at(answer.begins)}" '
        f'NotOnOrAfter="{at(answer.ends)}"><saml:AudienceRestrictionCondition><saml:Audience>{escape(answer.audience)}'
        "</saml:Audience></saml:AudienceRestrictionCondition></saml:Conditions>"
        f'<saml:AuthenticationStatement AuthenticationInstant="{at(answer.authenticated)}" '
        f'AuthenticationMethod="urn:oasis:names:tc:SAML:1.0:am:password">{subject}</saml:AuthenticationStatement>'
        f"<saml:AttributeStatement>{subject}{attributes}</saml:AttributeStatement></saml:Assertion>"
    )
    sign(assertion, key, identified_by="AssertionID", position=len(assertion))
    trust = "http://schemas.xmlsoap.org/ws/2005/02/trust"
    token = (
        f'<t:RequestSecurityTokenResponse xmlns:t="{trust}"><t:RequestedSecurityToken>'
        f"{etree.tostring(assertion).decode()}</t:RequestedSecurityToken></t:RequestSecurityTokenResponse>"
    )
    return urlencode({"wa": "wsignin1.0", "wresult": token, "wctx": "rm=0&id=passive"}).encode()


def artifact(draw: random.Random, issuer: str, acs_url: str) -> bytes:
    """The address by which an artifact of type 4 comes (Bindings §3.6.4)."""
    handle = draw.randbytes(20)
    octets = b"\x00\x04\x00\x00" + hashlib.sha1(issuer.encode(), usedforsecurity=False).digest() + handle
    return f"{acs_url}?SAMLart={quote(base64.b64encode(octets).decode(), safe='')}&RelayState=home\n".encode()
