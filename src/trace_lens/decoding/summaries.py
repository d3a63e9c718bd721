"""The handful of values that a person looks for first, of each kind of SAML message."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from lxml import etree

from trace_lens.common import limits
from trace_lens.common.moments import show_moment
from trace_lens.common.secret_names import hidden_text
from trace_lens.pki.certificates import Certificate
from trace_lens.saml import messages as m
from trace_lens.saml.metadata import Descriptors
from trace_lens.saml.names import PROTOCOL, short
from trace_lens.saml.parsing import text_of
from trace_lens.saml.signature import signatures_in


def request_summary(request: m.AuthnRequest) -> dict[str, Any]:
    policy, context, scoping = request.name_id_policy, request.requested_context, request.scoping
    subject = request.subject.name_id if request.subject else None
    return {
        "recipient": _text(request.acs_url) or (f"index {request.acs_index.value}" if request.acs_index else None),
        "binding": short(request.protocol_binding.value) if request.protocol_binding else None,
        "name_id_format": _text(policy.format) if policy else None,
        "allow_create": policy.allow_create if policy else None,
        "authentication": [value.value for value in context.classes] if context else [],
        "comparison": context.comparison if context else None,
        "force_authn": request.force_authn,
        "is_passive": request.is_passive,
        "subject": subject.value if subject else None,
        "providers": [provider.value for provider in scoping.providers] if scoping else [],
    }


def logout_summary(request: m.LogoutRequest) -> dict[str, Any]:
    return {
        "subject": request.name_id.value if request.name_id else None,
        "subject_format": request.name_id.format if request.name_id else None,
        "session_index": [index.value for index in request.session_indexes],
        "valid_until": _moment(request.not_on_or_after),
        "reason": _text(request.reason),
    }


def response_summary(response: m.Response, root: etree._Element) -> dict[str, Any]:
    status = response.status
    summary: dict[str, Any] = {
        "id": _text(response.id),
        "issued_at": _moment(response.issue_instant),
        "issuer": response.issuer.value if response.issuer else None,
        "destination": _text(response.destination),
        "in_response_to": _text(response.in_response_to),
        "status": [short(code.value) for code in status.codes] if status else [],
        "status_message": status.message.value.strip() if status and status.message else None,
        "assertions": len(response.assertions),
        "encrypted_assertions": len(response.encrypted_assertions),
    }
    if response.assertions:
        inner = assertion_summary(response.assertions[0], root)
        issuer = summary["issuer"] or inner["issuer"]
        summary = {**inner, **summary, "issuer": issuer}
    summary["signed_parts"] = signed_parts(root)
    return summary


def assertion_summary(assertion: m.Assertion, root: etree._Element) -> dict[str, Any]:
    name = assertion.subject.name_id if assertion.subject else None
    conditions = assertion.conditions
    data = (
        [confirmation.data for confirmation in assertion.subject.confirmations if confirmation.data]
        if assertion.subject
        else []
    )
    statement = assertion.authn_statements[0] if assertion.authn_statements else None
    return {
        "id": _text(assertion.id),
        "issued_at": _moment(assertion.issue_instant),
        "issuer": assertion.issuer.value if assertion.issuer else None,
        "subject": name.value if name else None,
        "subject_format": name.format if name else None,
        "audience": [audience.value for audience in conditions.audiences] if conditions else [],
        "recipient": next((confirmation.recipient.value for confirmation in data if confirmation.recipient), None),
        "valid_from": _moment(conditions.not_before) if conditions else None,
        "valid_until": _moment(conditions.not_on_or_after) if conditions else None,
        "authenticated_at": _moment(statement.authn_instant) if statement else None,
        "authentication": _text(statement.context_class) if statement else None,
        "session_index": _text(statement.session_index) if statement else None,
        "session_until": _moment(statement.session_not_on_or_after) if statement else None,
        "attributes": {
            attribute.name: [
                hidden_text(value.name_id.value if value.name_id else value.text.value) for value in attribute.values
            ]
            for attribute in assertion.attributes[: limits.LISTED_CLAIMS]
        },
        **({"more_attributes": more} if (more := len(assertion.attributes) - limits.LISTED_CLAIMS) > 0 else {}),
        "signed_parts": signed_parts(root),
    }


def signed_parts(root: etree._Element) -> list[str]:
    """The names of the elements that hold a signature of their own; whether it is good, the diagnosis says."""
    return [str(etree.QName(signature.holder).localname).lower() for signature in signatures_in(root)]


def metadata_summary(read: Descriptors) -> dict[str, Any]:
    first = read.entities[0] if read.entities else None
    return {
        "entities": read.held,
        "entity_id": first.entity_id if first else None,
        "roles": [role.name for role in first.roles] if first else [],
        "valid_until": show_moment(first.valid_until) if first and first.valid_until else None,
        "cache_duration": first.cache_duration if first else None,
        "name_id_formats": [
            format_name for role in (first.roles if first else ()) for format_name in role.name_id_formats
        ],
        "requested_attributes": [
            {"name": attribute.name, "required": attribute.required}
            for role in (first.roles if first else ())
            for attribute in role.attributes
        ],
        "keys": [key.use or "any" for role in (first.roles if first else ()) for key in role.keys],
        "endpoints": [
            {"purpose": endpoint.purpose, "binding": short(endpoint.binding), "location": endpoint.location}
            for role in (first.roles if first else ())
            for endpoint in role.endpoints
        ],
    }


def message_summary(root: etree._Element) -> dict[str, Any]:
    """What every protocol message has (SAML 2.0 Core §3.2.1)."""
    issuer = root.find("{urn:oasis:names:tc:SAML:2.0:assertion}Issuer")
    codes = [short(element.get("Value") or "") for element in root.iter(f"{{{PROTOCOL}}}StatusCode")]
    named = {"ID": "id", "IssueInstant": "issued_at", "Destination": "destination", "InResponseTo": "in_response_to"}
    return {
        **{key: root.get(name) for name, key in named.items() if root.get(name) is not None},
        "issuer": text_of(issuer) if issuer is not None else None,
        **({"status": codes} if codes else {}),
        "signed_parts": signed_parts(root),
    }


def certificate_summary(certificate: Certificate) -> dict[str, Any]:
    """The values of a certificate that people look for."""
    return {
        "subject": certificate.subject,
        "issuer": certificate.issuer,
        "serial": certificate.serial,
        "not_before": show_moment(certificate.not_before),
        "not_after": show_moment(certificate.not_after),
        "sha1": str(certificate.sha1),
        "sha256": str(certificate.sha256),
        "key": certificate.key,
        "names": list(certificate.alternative_names),
    }


def _text(value: m.Text | None) -> str | None:
    return value.value if value else None


def _moment(value: m.Instant | None) -> str | None:
    if value is None:
        return None
    moment: datetime | None = value.moment
    return show_moment(moment) if moment else value.text.value
