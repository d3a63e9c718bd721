"""An XML tree into the objects of `messages`: lenient about what is missing, exact about what is there.

A missing or misshapen part is left None here; saying that it should be there is the work of the checks.
"""

from __future__ import annotations

from lxml import etree

from trace_lens.saml import messages as m
from trace_lens.saml.names import (
    ASSERTION,
    ASSERTION_11,
    FORMAT_UNSPECIFIED,
    INSTANCE,
    KINDS,
    PROTOCOL,
    SIGNATURE,
    SOAP,
    SOAP_12,
    TRUST,
)
from trace_lens.saml.parsing import text_of
from trace_lens.saml.values import attribute, instant, text

_A = f"{{{ASSERTION}}}"
_P = f"{{{PROTOCOL}}}"
_D = f"{{{SIGNATURE}}}"
_XSI = f"{{{INSTANCE}}}"
_TRUE = ("true", "1")


def kind_of(root: etree._Element) -> str | None:
    """The kind of message that a root element makes, looking into a SOAP envelope; None for other XML."""
    inner = message_in(root)
    return KINDS.get(str(inner.tag)) if inner is not None else None


def message_in(root: etree._Element) -> etree._Element | None:
    """The message that a document carries: the root itself, or what stands in the body of a SOAP envelope."""
    for namespace in (SOAP, SOAP_12):
        if root.tag == f"{{{namespace}}}Envelope":
            body = root.find(f"{{{namespace}}}Body")
            return (
                next((element for element in body if isinstance(element.tag, str)), None) if body is not None else None
            )
    return root


def assertion_in(token_response: etree._Element) -> etree._Element | None:
    """The assertion inside a WS-Federation sign-in response (WS-Federation 1.2 §13.2.2, WS-Trust §4.4)."""
    for namespace in TRUST:
        for token in token_response.iter(f"{{{namespace}}}RequestedSecurityToken"):
            for child in token:
                if child.tag in (_A + "Assertion", f"{{{ASSERTION_11}}}Assertion"):
                    return child
    return None


def read_response(element: etree._Element) -> m.Response:
    """Read a samlp:Response element."""
    issuer = status = None
    extensions: tuple[str, ...] = ()
    assertions: list[m.Assertion] = []
    encrypted: list[m.Encrypted] = []
    for child in element:
        tag = child.tag
        if tag == _A + "Assertion":
            assertions.append(read_assertion(child))
        elif tag == _A + "EncryptedAssertion":
            encrypted.append(m.Encrypted(child))
        elif tag == _A + "Issuer":
            issuer = read_name_id(child)
        elif tag == _P + "Status":
            status = _status(child)
        elif tag == _P + "Extensions":
            extensions = tuple(str(inner.tag) for inner in child if isinstance(inner.tag, str))
    return m.Response(
        element=element,
        id=attribute(element, "ID"),
        version=attribute(element, "Version"),
        issue_instant=instant(element, "IssueInstant"),
        destination=attribute(element, "Destination"),
        in_response_to=attribute(element, "InResponseTo"),
        consent=attribute(element, "Consent"),
        issuer=issuer,
        extensions=extensions,
        status=status,
        assertions=tuple(assertions),
        encrypted_assertions=tuple(encrypted),
    )


def read_assertion(element: etree._Element) -> m.Assertion:
    """Read a saml:Assertion element, of SAML 2.0 or of SAML 1.1."""
    if element.tag == f"{{{ASSERTION_11}}}Assertion":
        from trace_lens.saml.reading_11 import read_assertion_11

        return read_assertion_11(element)
    issuer = subject = conditions = None
    has_advice = False
    authn: list[m.AuthnStatement] = []
    attributes: list[m.Attribute] = []
    encrypted: list[m.Encrypted] = []
    decisions: list[m.AuthorizationDecision] = []
    unknown: list[str] = []
    for child in element:
        tag = child.tag
        if tag == _A + "Issuer":
            issuer = read_name_id(child)
        elif tag == _A + "Subject":
            subject = _subject(child)
        elif tag == _A + "Conditions":
            conditions = _conditions(child)
        elif tag == _A + "Advice":
            has_advice = True
        elif tag == _A + "AuthnStatement":
            authn.append(_authn_statement(child))
        elif tag == _A + "AttributeStatement":
            for inner in child:
                if inner.tag == _A + "Attribute":
                    attributes.append(read_attribute(inner))
                elif inner.tag == _A + "EncryptedAttribute":
                    encrypted.append(m.Encrypted(inner))
        elif tag == _A + "AuthzDecisionStatement":
            decisions.append(_decision(child))
        elif isinstance(tag, str) and tag != _D + "Signature":
            unknown.append(child.get(_XSI + "type") or tag)
    return m.Assertion(
        element=element,
        id=attribute(element, "ID"),
        version=attribute(element, "Version"),
        issue_instant=instant(element, "IssueInstant"),
        issuer=issuer,
        subject=subject,
        conditions=conditions,
        has_advice=has_advice,
        authn_statements=tuple(authn),
        attributes=tuple(attributes),
        encrypted_attributes=tuple(encrypted),
        authorization_decisions=tuple(decisions),
        unknown_statements=tuple(unknown),
    )


def read_authn_request(element: etree._Element) -> m.AuthnRequest:
    """Read a samlp:AuthnRequest element."""
    issuer, subject = element.find(_A + "Issuer"), element.find(_A + "Subject")
    policy = element.find(_P + "NameIDPolicy")
    context, scoping = element.find(_P + "RequestedAuthnContext"), element.find(_P + "Scoping")
    return m.AuthnRequest(
        element=element,
        id=attribute(element, "ID"),
        version=attribute(element, "Version"),
        issue_instant=instant(element, "IssueInstant"),
        destination=attribute(element, "Destination"),
        issuer=None if issuer is None else read_name_id(issuer),
        subject=None if subject is None else _subject(subject),
        name_id_policy=None
        if policy is None
        else m.NameIDPolicy(
            policy,
            attribute(policy, "Format"),
            attribute(policy, "SPNameQualifier"),
            policy.get("AllowCreate") in _TRUE,
        ),
        requested_context=None
        if context is None
        else m.RequestedAuthnContext(
            context,
            context.get("Comparison") or "exact",
            tuple(text(element) for element in context.iterchildren(_A + "AuthnContextClassRef")),
            tuple(text(element) for element in context.iterchildren(_A + "AuthnContextDeclRef")),
        ),
        scoping=None if scoping is None else _scoping(scoping),
        force_authn=element.get("ForceAuthn") in _TRUE,
        is_passive=element.get("IsPassive") in _TRUE,
        protocol_binding=attribute(element, "ProtocolBinding"),
        acs_url=attribute(element, "AssertionConsumerServiceURL"),
        acs_index=attribute(element, "AssertionConsumerServiceIndex"),
        attribute_index=attribute(element, "AttributeConsumingServiceIndex"),
        provider_name=attribute(element, "ProviderName"),
    )


def _scoping(element: etree._Element) -> m.Scoping:
    count = element.get("ProxyCount") or ""
    entries = element.iterfind(f"{_P}IDPList/{_P}IDPEntry")
    return m.Scoping(
        element,
        int(count) if count.isascii() and count.isdigit() else None,
        tuple(m.Located(entry.get("ProviderID") or "", entry, "ProviderID") for entry in entries),
        tuple(text(node) for node in element.iterchildren(_P + "RequesterID")),
    )


def read_logout_request(element: etree._Element) -> m.LogoutRequest:
    """Read a samlp:LogoutRequest element."""
    issuer, name = element.find(_A + "Issuer"), element.find(_A + "NameID")
    encrypted = element.find(_A + "EncryptedID")
    return m.LogoutRequest(
        element=element,
        id=attribute(element, "ID"),
        version=attribute(element, "Version"),
        issue_instant=instant(element, "IssueInstant"),
        destination=attribute(element, "Destination"),
        issuer=None if issuer is None else read_name_id(issuer),
        name_id=None if name is None else read_name_id(name),
        encrypted_id=None if encrypted is None else m.Encrypted(encrypted),
        session_indexes=tuple(text(node) for node in element.iterchildren(_P + "SessionIndex")),
        not_on_or_after=instant(element, "NotOnOrAfter"),
        reason=attribute(element, "Reason"),
    )


def read_logout_response(element: etree._Element) -> m.LogoutResponse:
    """Read a samlp:LogoutResponse element."""
    issuer, status = element.find(_A + "Issuer"), element.find(_P + "Status")
    return m.LogoutResponse(
        element=element,
        id=attribute(element, "ID"),
        version=attribute(element, "Version"),
        issue_instant=instant(element, "IssueInstant"),
        destination=attribute(element, "Destination"),
        in_response_to=attribute(element, "InResponseTo"),
        issuer=None if issuer is None else read_name_id(issuer),
        status=None if status is None else _status(status),
    )


def read_name_id(element: etree._Element) -> m.NameID:
    """Read a saml:NameID or saml:Issuer element."""
    given = element.get("Format")
    return m.NameID(
        text=text(element),
        format=given or FORMAT_UNSPECIFIED,
        name_qualifier=element.get("NameQualifier"),
        sp_name_qualifier=element.get("SPNameQualifier"),
        sp_provided_id=element.get("SPProvidedID"),
        format_given=given is not None,
    )


def _subject(element: etree._Element) -> m.Subject:
    name_id = base_id = encrypted_id = None
    confirmations: list[m.SubjectConfirmation] = []
    for child in element:
        if child.tag == _A + "NameID":
            name_id = name_id or read_name_id(child)
        elif child.tag == _A + "BaseID":
            base_id = text(child)
        elif child.tag == _A + "EncryptedID":
            encrypted_id = m.Encrypted(child)
        elif child.tag == _A + "SubjectConfirmation":
            confirmations.append(_confirmation(child))
    return m.Subject(element, name_id, base_id, encrypted_id, tuple(confirmations))


def _confirmation(element: etree._Element) -> m.SubjectConfirmation:
    data = element.find(_A + "SubjectConfirmationData")
    name = element.find(_A + "NameID")
    return m.SubjectConfirmation(
        element,
        attribute(element, "Method"),
        None
        if data is None
        else m.ConfirmationData(
            data,
            instant(data, "NotBefore"),
            instant(data, "NotOnOrAfter"),
            attribute(data, "Recipient"),
            attribute(data, "InResponseTo"),
            attribute(data, "Address"),
        ),
        None if name is None else read_name_id(name),
    )


def _conditions(element: etree._Element) -> m.Conditions:
    restrictions: list[tuple[m.Text, ...]] = []
    one_time_use = False
    proxy_count: str | None = None
    proxy_audiences: tuple[m.Text, ...] = ()
    unknown: list[str] = []
    for child in element:
        if child.tag == _A + "AudienceRestriction":
            restrictions.append(tuple(text(audience) for audience in child.iterchildren(_A + "Audience")))
        elif child.tag == _A + "OneTimeUse":
            one_time_use = True
        elif child.tag == _A + "ProxyRestriction":
            proxy_count = child.get("Count")
            proxy_audiences = tuple(text(audience) for audience in child.iterchildren(_A + "Audience"))
        elif isinstance(child.tag, str):
            unknown.append(child.get(_XSI + "type") or child.tag)
    return m.Conditions(
        element,
        instant(element, "NotBefore"),
        instant(element, "NotOnOrAfter"),
        tuple(restrictions),
        one_time_use,
        proxy_count,
        proxy_audiences,
        tuple(unknown),
    )


def _authn_statement(element: etree._Element) -> m.AuthnStatement:
    locality = element.find(_A + "SubjectLocality")
    context = element.find(_A + "AuthnContext")
    class_ref = declaration = None
    authorities: list[m.Text] = []
    for child in context if context is not None else ():
        if child.tag == _A + "AuthnContextClassRef":
            class_ref = text(child)
        elif child.tag in (_A + "AuthnContextDeclRef", _A + "AuthnContextDecl"):
            declaration = text(child)
        elif child.tag == _A + "AuthenticatingAuthority":
            authorities.append(text(child))
    return m.AuthnStatement(
        element,
        instant(element, "AuthnInstant"),
        attribute(element, "SessionIndex"),
        instant(element, "SessionNotOnOrAfter"),
        None if locality is None else locality.get("Address"),
        None if locality is None else locality.get("DNSName"),
        class_ref,
        declaration,
        tuple(authorities),
    )


def read_attribute(element: etree._Element) -> m.Attribute:
    """Read a saml:Attribute element."""
    return m.Attribute(
        element,
        element.get("Name") or "",
        element.get("NameFormat"),
        element.get("FriendlyName"),
        tuple(_attribute_value(value) for value in element.iterchildren(_A + "AttributeValue")),
    )


def _attribute_value(element: etree._Element) -> m.AttributeValue:
    inner = next((child for child in element if isinstance(child.tag, str)), None)
    return m.AttributeValue(
        text=text(element),
        nil=element.get(_XSI + "nil") in ("true", "1"),
        xsi_type=element.get(_XSI + "type"),
        holds_element=None if inner is None else str(inner.tag),
        name_id=read_name_id(inner) if inner is not None and inner.tag == _A + "NameID" else None,
    )


def _decision(element: etree._Element) -> m.AuthorizationDecision:
    return m.AuthorizationDecision(
        element,
        element.get("Resource"),
        element.get("Decision"),
        tuple(text_of(action) for action in element.iterchildren(_A + "Action")),
    )


def _status(element: etree._Element) -> m.Status:
    codes: list[m.Text] = []
    code = element.find(_P + "StatusCode")
    while code is not None and len(codes) < 10:
        codes.append(m.Located(code.get("Value") or "", code, "Value"))
        code = code.find(_P + "StatusCode")
    message = element.find(_P + "StatusMessage")
    detail = element.find(_P + "StatusDetail")
    return m.Status(
        element,
        tuple(codes),
        None if message is None else text(message),
        None if detail is None else m.Located(" ".join(text_of(detail).split()), detail),
    )
