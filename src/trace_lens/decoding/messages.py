"""Messages laid open for reading: kind, layers, the handful of values looked for first, and the whole content.

Nothing is judged here, but what cannot be read, or only after a repair, is said.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import Any

from lxml import etree

from trace_lens.common import limits
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.locations import NOWHERE, Location
from trace_lens.common.masking import Secret
from trace_lens.common.raising import finding
from trace_lens.common.secret_names import XML_ELEMENTS, hidden_text, relay_state
from trace_lens.common.tuples import NamedTuple
from trace_lens.decoding.summaries import (
    assertion_summary,
    certificate_summary,
    logout_summary,
    message_summary,
    metadata_summary,
    request_summary,
    response_summary,
    signed_parts,
)
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.peeling import Peeled
from trace_lens.pki.certificates import CertificateError, read_certificate
from trace_lens.pki.pem import certificates_in
from trace_lens.saml.artifact import read_artifact
from trace_lens.saml.metadata import Entity, scan
from trace_lens.saml.metadata_signature import metadata_signatures
from trace_lens.saml.names import PROTOCOL
from trace_lens.saml.parsing import XMLDamaged, parse, text_of
from trace_lens.saml.reading import (
    assertion_in,
    message_in,
    read_assertion,
    read_authn_request,
    read_logout_request,
    read_response,
)
from trace_lens.saml.signature import refuse_many_signatures

OIDC_KINDS = (
    "id-token",
    "access-token",
    "logout-token",
    "jwt",
    "jwe",
    "authorization-request",
    "authorization-response",
    "token-request",
    "logout-request",
    "token-response",
    "userinfo",
    "introspection",
    "client-registration",
    "discovery-document",
    "key-set",
    "jwk",
)
_LOOKED_FOR_SIGNATURE = 64 * 1024
"""A metadata file's own signature stands near its beginning (Metadata §2.3.1: before the entities)."""


class Opened(NamedTuple):
    """One message laid open. Texts that are `Secret` must be masked when shown.

    `content` holds plain lists, dicts, strings, numbers and None.
    """

    source: str
    where: Location
    kind: str
    layers: tuple[str, ...]
    summary: dict[str, Any]
    content: dict[str, Any]
    findings: tuple[Finding, ...]
    root: etree._Element | None = None


def open_messages(
    source: str, peeled: Peeled, issuers: Iterable[str] = (), only: FoundMessage | None = None
) -> Iterator[Opened]:
    """Every message of a source, or `only` one, laid open; `issuers` are the entity IDs that an artifact may be of."""
    for found in peeled.found if only is None else (only,):
        if found.kind == "certificate":
            yield from _certificates(source, found)
        elif found.kind == "saml-artifact":
            yield _artifact(source, found, issuers)
        elif found.kind == "saml-metadata":
            yield _metadata(source, found)
        elif found.kind in OIDC_KINDS:
            yield _oidc(source, found)
        elif found.kind in ("har", "header-dump"):
            yield _capture(source, found, peeled)
        elif found.kind == "private-key":
            yield _opened(source, found, {}, {"note": "a private key; it is never shown"})
        else:
            yield _xml(source, found)


def _capture(source: str, found: FoundMessage, peeled: Peeled) -> Opened:
    from trace_lens.decoding import captures

    if peeled.capture is None:
        return _opened(source, found, {}, {})
    more = captures.findings_of(source, peeled.capture)
    return _opened(source, found, captures.summary_of(peeled.capture), captures.content_of(source, peeled), more=more)


def _opened(
    source: str,
    found: FoundMessage,
    summary: dict[str, Any],
    content: dict[str, Any],
    root: etree._Element | None = None,
    more: tuple[Finding, ...] = (),
    where: Location = NOWHERE,
) -> Opened:
    findings = list(more)
    if found.repairs:
        evidence = Evidence(
            "layers", " → ".join(found.layers) or "none", source, found.where or Location(part="the whole")
        )
        detail = f"It decoded only after a repair: {', '.join(found.repairs)}."
        findings.append(finding("repaired-encoding", detail, evidence=(evidence,)))
    return Opened(
        source=source,
        where=where or found.where,
        kind=found.kind,
        layers=found.layers,
        summary=summary,
        content=content,
        findings=tuple(findings),
        root=root,
    )


def _artifact(source: str, found: FoundMessage, issuers: Iterable[str]) -> Opened:
    artifact = read_artifact(found.data)
    summary = {
        "endpoint_index": artifact.endpoint_index,
        "source_id": artifact.source_id,
        "issuer": next((issuer for issuer in issuers if artifact.is_of(issuer)), None),
        "handle": Secret(artifact.handle),
        **_beside(found),
    }
    return _opened(source, found, summary, {"type": 4, "octets": len(found.data)})


def _oidc(source: str, found: FoundMessage) -> Opened:
    from trace_lens.decoding.oidc_messages import lay

    laid = lay(found)
    evidence = Evidence("the message", f"{len(found.data):,} bytes", source, found.where or Location(part="the whole"))
    more = tuple(
        finding(
            code,
            f"{'The message cannot be read' if not laid.content else 'Take care'}: {reason}.",
            evidence=(evidence,),
        )
        for code, reason in laid.damage
    )
    return _opened(source, found, laid.summary, laid.content, more=more)


def _broken(source: str, found: FoundMessage, damage: XMLDamaged) -> Finding:
    evidence = Evidence("the message", f"{len(found.data):,} bytes", source, Location(line=damage.line))
    return finding(damage.damage, f"The message cannot be read: {damage.reason}.", evidence=(evidence,))


def _metadata(source: str, found: FoundMessage) -> Opened:
    """Metadata, streamed: the entities are listed, and one by itself is laid open whole."""
    try:
        read = scan(found.data, most=limits.LISTED_ENTITIES)
        root = parse(found.data) if read.held == 1 and not read.damage else None
    except XMLDamaged as damage:
        return _opened(source, found, {}, {}, more=(_broken(source, found, damage),))
    summary = metadata_summary(read)
    listed = {"entities": [_entity_content(entity) for entity in read.entities], "listed": len(read.entities)}
    more = (_broken(source, found, read.damage),) if read.damage else ()
    summary["signed_parts"] = signed_parts(root) if root is not None else []
    if b"SignatureValue" in found.data[:_LOOKED_FOR_SIGNATURE] and not read.damage:
        more = (*more, *_metadata_signed(source, found, summary))
    return _opened(source, found, summary, listed if root is None else outline(root), root, more=more)


def _metadata_signed(source: str, found: FoundMessage, summary: dict[str, Any]) -> Iterator[Finding]:
    """Whether the metadata's own signature holds, into the summary; and a finding where it does not."""
    for signature in metadata_signatures(found.data)[:1]:
        holder = f", by {signature.signer.subject} ({signature.signer.sha256})" if signature.signer else ""
        summary["signature"] = f"does not hold: {signature.problem}" if signature.problem else f"holds{holder}"
        if signature.problem:
            evidence = Evidence("Signature", "does not hold", source, signature.place)
            detail = f"The metadata's own signature does not hold: {signature.problem}."
            yield finding("metadata-signature-invalid", detail, evidence=(evidence,))


def _entity_content(entity: Entity) -> dict[str, Any]:
    return {"entity_id": entity.entity_id, "roles": [role.name for role in entity.roles], "where": str(entity.where)}


def _xml(source: str, found: FoundMessage) -> Opened:
    try:
        root = parse(found.data)
        refuse_many_signatures(root, len(found.data))
    except XMLDamaged as damage:
        return _opened(source, found, {}, {}, more=(_broken(source, found, damage),))
    element = message_in(root)
    inner = element if element is not None else root
    answer: etree._Element | None = inner
    if found.kind == "saml-artifact-response":
        answer = inner.find(f"{{{PROTOCOL}}}Response")
    elif found.kind == "ws-federation-response":
        answer = assertion_in(inner)
    if found.kind in ("saml-response", "saml-artifact-response") and answer is not None:
        summary = response_summary(read_response(answer), root)
    elif found.kind in ("saml-assertion", "ws-federation-response") and answer is not None:
        summary = assertion_summary(read_assertion(answer), root)
    elif found.kind == "saml-authn-request":
        summary = message_summary(inner) | request_summary(read_authn_request(inner))
    elif found.kind == "saml-logout-request":
        summary = message_summary(inner) | logout_summary(read_logout_request(inner))
    else:
        summary = message_summary(inner)
    return _opened(source, found, summary | _beside(found), outline(root), root)


def _beside(found: FoundMessage) -> dict[str, Any]:
    """What travelled beside a message and people look for."""
    named = {"RelayState": "relay_state", "wctx": "relay_state", "wtrealm": "realm", "SigAlg": "signature_algorithm"}
    told = {key: found.context[name] for name, key in named.items() if name in found.context}
    return told | ({"relay_state": relay_state(told["relay_state"])} if "relay_state" in told else {})


def outline(element: etree._Element) -> dict[str, Any]:
    """An element as plain data: name, namespace, attributes, text, children; of very many the first."""
    return _outline(element, [limits.LISTED_ELEMENTS])


def _outline(element: etree._Element, left: list[int]) -> dict[str, Any]:
    """`left` holds how many elements may still be laid open."""
    left[0] -= 1
    name = etree.QName(element)
    text = text_of(element) if len(element) == 0 or not any(isinstance(c.tag, str) for c in element) else ""
    children = []
    more = 0
    for child in element.iterchildren(etree.Element):
        if left[0] > 0:
            children.append(_outline(child, left))
        else:
            more += 1
    data: dict[str, Any] = {"name": name.localname, "namespace": name.namespace}
    if element.attrib:
        data["attributes"] = {etree.QName(str(key)).localname: str(value) for key, value in element.attrib.items()}
    if text.strip():
        data["text"] = Secret(text) if name.localname in XML_ELEMENTS else hidden_text(text)
    if children:
        data["children"] = children
    if more:
        data["more"] = f"{more:,} more elements"
    return data


def _certificates(source: str, found: FoundMessage) -> Iterator[Opened]:
    for pasted in certificates_in(found.data):
        place = Location(line=pasted.line)
        try:
            certificate = read_certificate(pasted.der) if pasted.der else None
            problem = pasted.problem
        except CertificateError as error:
            certificate, problem = None, str(error)
        if certificate is None:
            evidence = Evidence("certificate", problem or "", source, place)
            broken = finding("malformed-message", f"The certificate cannot be read: {problem}.", evidence=(evidence,))
            yield _opened(source, found, {}, {}, more=(broken,), where=place)
        else:
            yield _opened(
                source, found, certificate_summary(certificate), {"repairs": list(pasted.repairs)}, where=place
            )
