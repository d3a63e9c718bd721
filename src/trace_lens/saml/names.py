"""The namespaces and URIs of SAML 2.0 and XML Signature, spelled once.

Sources: SAML 2.0 Core §1.1, §8; XML Signature §1.3; XML Encryption §1.3.
"""

PROTOCOL = "urn:oasis:names:tc:SAML:2.0:protocol"
ASSERTION = "urn:oasis:names:tc:SAML:2.0:assertion"
METADATA = "urn:oasis:names:tc:SAML:2.0:metadata"
SIGNATURE = "http://www.w3.org/2000/09/xmldsig#"
ENCRYPTION = "http://www.w3.org/2001/04/xmlenc#"
INSTANCE = "http://www.w3.org/2001/XMLSchema-instance"
XML = "http://www.w3.org/XML/1998/namespace"
EXCLUSIVE = "http://www.w3.org/2001/10/xml-exc-c14n#"
SOAP = "http://schemas.xmlsoap.org/soap/envelope/"
SOAP_12 = "http://www.w3.org/2003/05/soap-envelope"
ASSERTION_11 = "urn:oasis:names:tc:SAML:1.0:assertion"
PROTOCOL_11 = "urn:oasis:names:tc:SAML:1.0:protocol"
TRUST = ("http://schemas.xmlsoap.org/ws/2005/02/trust", "http://docs.oasis-open.org/ws-sx/ws-trust/200512")
"""WS-Trust, in which WS-Federation wraps its sign-in response: of February 2005, and 1.3."""

PREFIXES = {
    PROTOCOL: "samlp",
    ASSERTION: "saml",
    METADATA: "md",
    SIGNATURE: "ds",
    ENCRYPTION: "xenc",
    SOAP: "soap",
    SOAP_12: "soap",
    ASSERTION_11: "saml1",
    TRUST[0]: "t",
    TRUST[1]: "t",
}
"""The prefixes that this program prints, whatever the message itself used."""

BEARER = "urn:oasis:names:tc:SAML:2.0:cm:bearer"

BINDING_REDIRECT = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect"
BINDING_POST = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"
BINDING_SIMPLE_SIGN = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST-SimpleSign"
BINDING_ARTIFACT = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Artifact"
BINDING_SOAP = "urn:oasis:names:tc:SAML:2.0:bindings:SOAP"

FORMAT_UNSPECIFIED = "urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified"
FORMAT_EMAIL = "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"
FORMAT_X509 = "urn:oasis:names:tc:SAML:1.1:nameid-format:X509SubjectName"
FORMAT_WINDOWS = "urn:oasis:names:tc:SAML:1.1:nameid-format:WindowsDomainQualifiedName"
FORMAT_KERBEROS = "urn:oasis:names:tc:SAML:2.0:nameid-format:kerberos"
FORMAT_ENTITY = "urn:oasis:names:tc:SAML:2.0:nameid-format:entity"
FORMAT_PERSISTENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"
FORMAT_TRANSIENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:transient"

STATUS_PREFIX = "urn:oasis:names:tc:SAML:2.0:status:"
SUCCESS = STATUS_PREFIX + "Success"

KINDS = {
    f"{{{PROTOCOL}}}Response": "saml-response",
    f"{{{ASSERTION}}}Assertion": "saml-assertion",
    f"{{{PROTOCOL}}}AuthnRequest": "saml-authn-request",
    f"{{{PROTOCOL}}}LogoutRequest": "saml-logout-request",
    f"{{{PROTOCOL}}}LogoutResponse": "saml-logout-response",
    f"{{{PROTOCOL}}}ArtifactResolve": "saml-artifact-resolve",
    f"{{{PROTOCOL}}}ArtifactResponse": "saml-artifact-response",
    f"{{{PROTOCOL}}}ManageNameIDRequest": "saml-name-id-request",
    f"{{{PROTOCOL}}}ManageNameIDResponse": "saml-name-id-request",
    f"{{{ASSERTION_11}}}Assertion": "saml-assertion",
    f"{{{TRUST[0]}}}RequestSecurityTokenResponse": "ws-federation-response",
    f"{{{TRUST[1]}}}RequestSecurityTokenResponse": "ws-federation-response",
    f"{{{TRUST[0]}}}RequestSecurityTokenResponseCollection": "ws-federation-response",
    f"{{{TRUST[1]}}}RequestSecurityTokenResponseCollection": "ws-federation-response",
    f"{{{METADATA}}}EntityDescriptor": "saml-metadata",
    f"{{{METADATA}}}EntitiesDescriptor": "saml-metadata",
}
"""The kind of message that each root element makes."""


def short(uri: str) -> str:
    """The last part of a URI, for a sentence: `emailAddress`, `rsa-sha256`."""
    return uri.rsplit("#", 1)[-1].rsplit(":", 1)[-1].rsplit("/", 1)[-1] or uri


IDP_ROLE, SP_ROLE = "IDPSSODescriptor", "SPSSODescriptor"
"""Roles of an entity in metadata (SAML 2.0 Metadata §2.4.3, §2.4.4)."""
