"""SAML 1.1 assertions, as they come inside a WS-Federation sign-in response, into the objects of SAML 2.0.

What the two versions share keeps its meaning: NameIdentifier is the name, AuthenticationMethod the context class, an
attribute's namespace and name make one name. Source: SAML 1.1 Core §2.
"""

from __future__ import annotations

from lxml import etree

from trace_lens.saml import messages as m
from trace_lens.saml.names import ASSERTION_11, FORMAT_UNSPECIFIED, SIGNATURE
from trace_lens.saml.parsing import text_of
from trace_lens.saml.values import attribute, instant, text

_A = f"{{{ASSERTION_11}}}"
_STATEMENTS = (_A + "AuthenticationStatement", _A + "AttributeStatement", _A + "AuthorizationDecisionStatement")


def read_assertion_11(element: etree._Element) -> m.Assertion:
    """Read a SAML 1.1 Assertion element; its Version is `1.` and the minor version that it names."""
    major, minor = element.get("MajorVersion"), element.get("MinorVersion")
    issuer = attribute(element, "Issuer")
    conditions = element.find(_A + "Conditions")
    statements = [child for child in element if child.tag in _STATEMENTS]
    subjects = [found for statement in statements if (found := statement.find(_A + "Subject")) is not None]
    known = {*_STATEMENTS, _A + "Conditions", _A + "Advice", f"{{{SIGNATURE}}}Signature"}
    return m.Assertion(
        element=element,
        id=attribute(element, "AssertionID"),
        version=m.Located(f"{major}.{minor}", element, "MinorVersion") if major and minor else None,
        issue_instant=instant(element, "IssueInstant"),
        issuer=m.NameID(issuer, FORMAT_UNSPECIFIED) if issuer else None,
        subject=_subject(subjects[0]) if subjects else None,
        conditions=None if conditions is None else _conditions(conditions),
        has_advice=element.find(_A + "Advice") is not None,
        authn_statements=tuple(_authn(statement) for statement in statements if statement.tag == _STATEMENTS[0]),
        attributes=tuple(
            _attribute(element)
            for found in statements
            if found.tag == _STATEMENTS[1]
            for element in found.iterchildren(_A + "Attribute")
        ),
        encrypted_attributes=(),
        authorization_decisions=(),
        unknown_statements=tuple(
            str(child.tag) for child in element if isinstance(child.tag, str) and child.tag not in known
        ),
    )


def _subject(element: etree._Element) -> m.Subject:
    name = element.find(_A + "NameIdentifier")
    confirmation = element.find(_A + "SubjectConfirmation")
    methods = () if confirmation is None else tuple(confirmation.iterchildren(_A + "ConfirmationMethod"))
    return m.Subject(
        element,
        None
        if name is None
        else m.NameID(
            text(name),
            name.get("Format") or FORMAT_UNSPECIFIED,
            name.get("NameQualifier"),
            format_given=name.get("Format") is not None,
        ),
        None,
        None,
        tuple(m.SubjectConfirmation(element, text(method), None, None) for method in methods),
    )


def _conditions(element: etree._Element) -> m.Conditions:
    restrictions = tuple(
        tuple(text(audience) for audience in node.iterchildren(_A + "Audience"))
        for node in element.iterchildren(_A + "AudienceRestrictionCondition")
    )
    known = (_A + "AudienceRestrictionCondition", _A + "DoNotCacheCondition")
    return m.Conditions(
        element,
        instant(element, "NotBefore"),
        instant(element, "NotOnOrAfter"),
        restrictions,
        element.find(_A + "DoNotCacheCondition") is not None,
        None,
        (),
        tuple(str(child.tag) for child in element if isinstance(child.tag, str) and child.tag not in known),
    )


def _authn(element: etree._Element) -> m.AuthnStatement:
    locality = element.find(_A + "SubjectLocality")
    return m.AuthnStatement(
        element,
        instant(element, "AuthenticationInstant"),
        None,
        None,
        None if locality is None else locality.get("IPAddress"),
        None if locality is None else locality.get("DNSAddress"),
        attribute(element, "AuthenticationMethod"),
        None,
        (),
    )


def _attribute(element: etree._Element) -> m.Attribute:
    """The namespace and the name make one name, `namespace/name`; the name alone is kept as the friendly one."""
    name, namespace = element.get("AttributeName") or "", (element.get("AttributeNamespace") or "").rstrip("/")
    return m.Attribute(
        element,
        f"{namespace}/{name}" if namespace else name,
        None,
        name,
        tuple(
            m.AttributeValue(m.Located(text_of(node), node), False, None, None, None)
            for node in element.iterchildren(_A + "AttributeValue")
        ),
    )
