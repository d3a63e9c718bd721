"""What octets plainly are, without any layer taken off: a message of a kind, by how it begins."""

from __future__ import annotations

import re

from trace_lens.common.expressions import expression
from trace_lens.intake.markup import first_element
from trace_lens.pki.containers import is_pkcs7, is_pkcs12
from trace_lens.saml.artifact import is_artifact
from trace_lens.saml.names import KINDS

_BODY = expression(rb"<(?:[\w.\-]++:)?Body(?=[\s>/])[^<>]*+>")
_ROOT_KINDS = {name.rpartition("}")[2]: kind for name, kind in KINDS.items()}
_PEM = expression(rb"(?<!-)-{2,}+\s*+BEGIN ([A-Z0-9 ]++)\s*+-{2,}")


def recognise(data: bytes) -> str | None:
    """The kind of message that octets plainly are, without any further layer."""
    head = data[:4096]
    root = first_element(data)
    if root and b'=3D"' not in head:
        if root[1] == b"Envelope":
            body = _BODY.search(head)
            inside = first_element(data, body.end()) if body else None
            return _ROOT_KINDS.get(inside[1].decode()) if inside else None
        return _ROOT_KINDS.get(root[1].decode())
    if is_artifact(data):
        return "saml-artifact"
    pem = _PEM.search(data) if b"BEGIN " in data else None
    if pem:
        if b"PRIVATE KEY" in pem[1]:
            return "private-key"
        if b"CERTIFICATE" in pem[1] or pem[1].strip() in (b"PKCS7", b"CMS"):
            return "certificate"
    if is_pkcs12(data):
        return "private-key"
    if is_pkcs7(data) or _is_der_certificate(data):
        return "certificate"
    return None


def whole_kind(data: bytes) -> str | None:
    """The kind of message that octets plainly are, where it is there to its end."""
    kind = recognise(data)
    return kind if kind and is_whole(kind, data) else None


def is_whole(kind: str, data: bytes) -> bool:
    """Whether an XML message is there to its end: its last tag closes its first. All else counts as whole."""
    root = first_element(data)
    if root is None or not kind.startswith(("saml-", "ws-")):
        return True
    tail = data[-256:].rstrip(b" \t\r\n\0")
    name = re.escape(b"".join(root))
    return re.search(rb"</" + name + rb"\s*+>(?:\s*+<!--[^<]*-->)*+$|/>$", tail) is not None


def _is_der_certificate(data: bytes) -> bool:
    """SEQUENCE of SEQUENCE beginning with [0] version or an INTEGER, as RFC 5280 §4.1 lays it out."""
    if len(data) < 64 or data[:2] not in (b"\x30\x82", b"\x30\x81"):
        return False
    start = 4 if data[1] == 0x82 else 3
    return data[start] == 0x30 and data[start + (4 if data[start + 1] == 0x82 else 3)] in (0xA0, 0x02)
