"""Messages laid open for reading: kind, layers, the handful of values looked for first, and the whole content.

Nothing is judged here, but what cannot be read, or only after a repair, is said.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from typing import Any, NamedTuple

from lxml import etree

from trace_lens.common import catalogue
from trace_lens.common.findings import Evidence, Finding, Stage
from trace_lens.common.moments import show_moment
from trace_lens.intake.peeling import Found, Peeled
from trace_lens.pki.certificates import Certificate, CertificateError, read_certificate
from trace_lens.pki.pem import certificates_in
from trace_lens.saml import messages as m
from trace_lens.saml.metadata import Entity, read_metadata
from trace_lens.saml.names import short
from trace_lens.saml.parsing import XMLDamaged, parse, text_of
from trace_lens.saml.reading import read_assertion, read_response
from trace_lens.saml.signature import signatures_in

_SECRET_ELEMENTS = {"SignatureValue", "CipherValue"}


class Opened(NamedTuple):
    """One message laid open. Values under a key of `SECRET` are secrets and must be masked when shown.

    `content` holds plain lists, dicts, strings, numbers and None.
    """

    source: str
    where: str
    kind: str
    layers: tuple[str, ...]
    summary: dict[str, Any]
    content: dict[str, Any]
    findings: tuple[Finding, ...]
    root: etree._Element | None = None


SECRET = "secret"
"""The key under which the outline of an element keeps a text that must be masked."""


def open_messages(source: str, peeled: Peeled) -> Iterator[Opened]:
    """Every message of a source, laid open."""
    for found in peeled.found:
        if found.kind == "certificate":
            yield from _certificates(source, found)
        elif found.kind == "private-key":
            yield _opened(source, found, {}, {"note": "a private key; it is never shown"})
        else:
            yield _xml(source, found)


def _opened(
    source: str, found: Found, summary: dict[str, Any], content: dict[str, Any],
    root: etree._Element | None = None, more: tuple[Finding, ...] = (), where: str = "",
) -> Opened:  # fmt: skip
    findings = list(more)
    if found.repairs:
        evidence = Evidence("layers", " → ".join(found.layers) or "none", source, found.where or "the whole")
        detail = f"It decoded only after a repair: {', '.join(found.repairs)}."
        findings.append(_finding("repaired-encoding", detail, evidence))
    return Opened(source, where or found.where, found.kind, found.layers, summary, content, tuple(findings), root)


def _finding(code: str, detail: str, evidence: Evidence) -> Finding:
    entry = catalogue.entry(code, Stage.READABLE)
    return Finding(
        code, entry.stage, entry.severity, entry.title, detail, entry.side, entry.remedies[entry.side],
        entry.reference, evidence=(evidence,),
    )  # fmt: skip


def _xml(source: str, found: Found) -> Opened:
    try:
        root = parse(found.data)
    except XMLDamaged as damage:
        evidence = Evidence("the message", f"{len(found.data):,} bytes", source, f"line {damage.line}")
        broken = _finding(damage.damage, f"The message cannot be read: {damage.reason}.", evidence)
        return _opened(source, found, {}, {}, more=(broken,))
    if found.kind == "saml-response":
        summary = _response_summary(read_response(root), root)
    elif found.kind == "saml-assertion":
        summary = _assertion_summary(read_assertion(root), root)
    elif found.kind == "saml-metadata":
        summary = _metadata_summary(read_metadata(found.data))
    else:
        summary = _message_summary(root)
    if "RelayState" in found.context:
        summary["relay_state"] = found.context["RelayState"]
    return _opened(source, found, summary, outline(root), root)


def _response_summary(response: m.Response, root: etree._Element) -> dict[str, Any]:
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
        inner = _assertion_summary(response.assertions[0], root)
        issuer = summary["issuer"] or inner["issuer"]
        summary = {**inner, **summary, "issuer": issuer}
    summary["signed_parts"] = _signed_parts(root)
    return summary


def _assertion_summary(assertion: m.Assertion, root: etree._Element) -> dict[str, Any]:
    name = assertion.subject.name_id if assertion.subject else None
    conditions = assertion.conditions
    data = [one.data for one in assertion.subject.confirmations if one.data] if assertion.subject else []
    statement = assertion.authn_statements[0] if assertion.authn_statements else None
    return {
        "id": _text(assertion.id),
        "issued_at": _moment(assertion.issue_instant),
        "issuer": assertion.issuer.value if assertion.issuer else None,
        "subject": name.value if name else None,
        "subject_format": name.format if name else None,
        "audience": [one.value for one in conditions.audiences] if conditions else [],
        "recipient": next((one.recipient.value for one in data if one.recipient), None),
        "valid_from": _moment(conditions.not_before) if conditions else None,
        "valid_until": _moment(conditions.not_on_or_after) if conditions else None,
        "authenticated_at": _moment(statement.authn_instant) if statement else None,
        "authentication": _text(statement.context_class) if statement else None,
        "session_index": _text(statement.session_index) if statement else None,
        "session_until": _moment(statement.session_not_on_or_after) if statement else None,
        "attributes": {
            one.name: [value.name_id.value if value.name_id else value.text.value for value in one.values]
            for one in assertion.attributes
        },
        "signed_parts": _signed_parts(root),
    }


def _signed_parts(root: etree._Element) -> list[str]:
    """The names of the elements that hold a signature of their own; whether it is good, the diagnosis says."""
    return [str(etree.QName(one.holder).localname).lower() for one in signatures_in(root)]


def _metadata_summary(entities: tuple[Entity, ...]) -> dict[str, Any]:
    first = entities[0] if entities else None
    return {
        "entities": len(entities),
        "entity_id": first.entity_id if first else None,
        "roles": [role.name for role in first.roles] if first else [],
        "valid_until": show_moment(first.valid_until) if first and first.valid_until else None,
        "endpoints": [
            {"purpose": one.purpose, "binding": short(one.binding), "location": one.location}
            for role in (first.roles if first else ())
            for one in role.endpoints
        ],
    }


def _message_summary(root: etree._Element) -> dict[str, Any]:
    """What every protocol message has (SAML 2.0 Core §3.2.1)."""
    issuer = root.find("{urn:oasis:names:tc:SAML:2.0:assertion}Issuer")
    named = {"ID": "id", "IssueInstant": "issued_at", "Destination": "destination", "InResponseTo": "in_response_to"}
    return {
        **{key: root.get(name) for name, key in named.items() if root.get(name) is not None},
        "issuer": text_of(issuer) if issuer is not None else None,
        "signed_parts": _signed_parts(root),
    }


def outline(element: etree._Element) -> dict[str, Any]:
    """An element as plain data: name, namespace, attributes, text, children; secret texts under their own key."""
    name = etree.QName(element)
    text = text_of(element) if len(element) == 0 or not any(isinstance(c.tag, str) for c in element) else ""
    children = [outline(child) for child in element if isinstance(child.tag, str)]
    data: dict[str, Any] = {"name": name.localname, "namespace": name.namespace}
    if element.attrib:
        data["attributes"] = {etree.QName(str(key)).localname: str(value) for key, value in element.attrib.items()}
    if text.strip():
        data[SECRET if name.localname in _SECRET_ELEMENTS else "text"] = text
    if children:
        data["children"] = children
    return data


def _certificates(source: str, found: Found) -> Iterator[Opened]:
    for pasted in certificates_in(found.data):
        place = f"line {pasted.line}"
        try:
            certificate = read_certificate(pasted.der) if pasted.der else None
            problem = pasted.problem
        except CertificateError as error:
            certificate, problem = None, str(error)
        if certificate is None:
            evidence = Evidence("certificate", problem or "", source, place)
            broken = _finding("malformed-message", f"The certificate cannot be read: {problem}.", evidence)
            yield _opened(source, found, {}, {}, more=(broken,), where=place)
        else:
            yield _opened(
                source, found, certificate_summary(certificate), {"repairs": list(pasted.repairs)}, where=place
            )


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
