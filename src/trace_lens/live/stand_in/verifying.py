"""What the stand-in's application asks of an ID token (OpenID Connect Core §3.1.3.7) and of a response (SAML 2.0
Profiles §4.1.4.3) before it lets anybody in.
"""

from __future__ import annotations

import base64
from typing import Any

from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
from lxml import etree

from trace_lens.common.moments import read_moment
from trace_lens.oidc import algorithms
from trace_lens.oidc.jose import JoseDamaged, read_jws
from trace_lens.oidc.jwk import read_key_set
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.pki.certificates import certificate_or_none
from trace_lens.pki.pem import certificate_from_base64
from trace_lens.saml.encryption import DecryptionFailed, EncryptionRefused, OtherKey, decrypt
from trace_lens.saml.signature import signatures_in

LEEWAY = 60
"""The seconds that the clocks may be apart."""
_A, _MD = "{urn:oasis:names:tc:SAML:2.0:assertion}", "{urn:oasis:names:tc:SAML:2.0:metadata}"
_CERTIFICATE = "{http://www.w3.org/2000/09/xmldsig#}X509Certificate"


class Refused(ValueError):
    """What was sent is not taken; the message says why."""


def claims_of(token: str, keys: Any, issuer: str, audience: str, nonce: str, at: float) -> dict[str, Any]:
    """The claims of an ID token that holds at a moment in seconds. Raises Refused."""
    try:
        jws = read_jws(token)
        claims = read_json(jws.payload).value
        found = [key.public for key in read_key_set(keys) if key.public and key.members.get("kid") == jws.header["kid"]]
    except (JoseDamaged, JsonDamaged, ValueError, KeyError, TypeError) as error:
        raise Refused(f"The token cannot be read: {error}.") from None
    if not any(algorithms.verifies(jws.algorithm, key, jws.signature, jws.signing_input) for key in found):
        raise Refused("No key of the provider made the signature of the token.")
    if claims.get("iss") != issuer:
        raise Refused("The token is from another issuer.")
    if claims.get("aud") != audience or claims.get("nonce") != nonce:
        raise Refused("The token is not for this sign-in.")
    if claims.get("iat", at) > at + LEEWAY or claims.get("exp", 0) < at - LEEWAY:
        raise Refused("The token is not valid at this time.")
    return dict(claims)


def signers(metadata: bytes) -> list[Any]:
    """The public keys that metadata names for signing. Raises XMLSyntaxError."""
    root = etree.fromstring(metadata, etree.XMLParser(resolve_entities=False, no_network=True))
    read = (certificate_or_none(certificate_from_base64(found.text or "").der) for found in root.iter(_CERTIFICATE))
    return [certificate.public_key for certificate in read if certificate]


def assertion_of(root: etree._Element, key: RSAPrivateKey, signed_by: list[Any], audience: str, at: float) -> Any:
    """The assertion of a response that holds at a moment in seconds. Raises Refused."""
    for holder in root.iter(_A + "EncryptedAssertion"):
        try:
            assertion = etree.fromstring(decrypt(holder, key), etree.XMLParser(resolve_entities=False))
        except (EncryptionRefused, OtherKey, DecryptionFailed, etree.XMLSyntaxError):
            raise Refused("The assertion cannot be decrypted.") from None
        own = next((found for found in signatures_in(assertion) if found.holds_its_own), None)
        if own is None or not own.digest_holds or not any(own.verified_by(public) for public in signed_by):
            raise Refused("No key of the provider made the signature of the assertion.")
        conditions = assertion.find(_A + "Conditions")
        if conditions is None or conditions.findtext(f"{_A}AudienceRestriction/{_A}Audience") != audience:
            raise Refused("The assertion is for another audience.")
        begin, end = (read_moment(conditions.get(name, ""))[0].timestamp() for name in ("NotBefore", "NotOnOrAfter"))
        if not begin - LEEWAY <= at < end + LEEWAY:
            raise Refused("The assertion is not valid at this time.")
        return assertion
    raise Refused("There is no encrypted assertion.")


def octets(text: str) -> bytes:
    """What stands in base64. Raises Refused."""
    try:
        return base64.b64decode(text, validate=True)
    except ValueError:
        raise Refused("There is no response here.") from None
