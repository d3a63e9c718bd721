"""Canonical XML: the octets of an element, as a signature sees them.

lxml's canonicaliser does the work on the whole tree. Two things it leaves undone are done here: what the top element
of a part inherits from its ancestors (Canonical XML 1.0 §2.4, 1.1 §2.4), and the `#default` entry of a prefix list
(Exclusive XML Canonicalization 1.0 §3).
"""

from __future__ import annotations

import copy
from collections.abc import Iterator
from contextlib import contextmanager

from lxml import etree

from trace_lens.common.addresses import resolved
from trace_lens.common.tuples import NamedTuple
from trace_lens.saml.names import XML

_XML = f"{{{XML}}}"


class NotCanonical(ValueError):
    """The element has no canonical form (Canonical XML 1.0 §1.3: a namespace name that is a relative URI)."""


class Canonicalization(NamedTuple):
    """One canonicalization algorithm; `prefixes` are those of InclusiveNamespaces."""

    exclusive: bool
    comments: bool
    version: str = "1.0"
    prefixes: tuple[str, ...] = ()


ALGORITHMS: dict[str, Canonicalization] = {
    "http://www.w3.org/TR/2001/REC-xml-c14n-20010315": Canonicalization(False, False),
    "http://www.w3.org/TR/2001/REC-xml-c14n-20010315#WithComments": Canonicalization(False, True),
    "http://www.w3.org/2006/12/xml-c14n11": Canonicalization(False, False, "1.1"),
    "http://www.w3.org/2006/12/xml-c14n11#WithComments": Canonicalization(False, True, "1.1"),
    "http://www.w3.org/2001/10/xml-exc-c14n#": Canonicalization(True, False),
    "http://www.w3.org/2001/10/xml-exc-c14n#WithComments": Canonicalization(True, True),
}


def canonical(element: etree._Element, how: Canonicalization, leave_out: etree._Element | None = None) -> bytes:
    """The canonical octets of an element and all below it, less one descendant where `leave_out` names it.

    The tree is as before when this returns. Raises NotCanonical.
    """
    if leave_out is not None:
        return canonical(_less(element, leave_out), how)
    try:
        return _canonical(element, how)
    except etree.C14NError:
        raise NotCanonical("a namespace name in it is no absolute URI") from None


def _canonical(element: etree._Element, how: Canonicalization) -> bytes:
    if how.exclusive:
        if "#default" in how.prefixes:
            return b"".join(_by_hand(element, how, {}, frozenset(how.prefixes)))
        return etree.tostring(
            element,
            method="c14n",
            exclusive=True,
            with_comments=how.comments,
            inclusive_ns_prefixes=list(how.prefixes) or None,
            with_tail=False,
        )
    with _inheriting(element, how.version):
        return etree.tostring(element, method="c14n", exclusive=False, with_comments=how.comments, with_tail=False)


def _less(element: etree._Element, left_out: etree._Element) -> etree._Element:
    """The element in a copy of its document, a descendant taken out of it and that one's tail left standing.

    The whole document is copied, since the element's namespaces may be declared above it.
    """
    top = element.getroottree().getroot()
    copied = copy.deepcopy(top)
    found = _at(copied, _path(element))
    gone = _at(copied, _path(left_out))
    parent, before = gone.getparent(), gone.getprevious()
    if parent is None or gone is found:
        raise ValueError("an element cannot be left out of itself")
    if gone.tail:
        if before is None:
            parent.text = (parent.text or "") + gone.tail
        else:
            before.tail = (before.tail or "") + gone.tail
    parent.remove(gone)
    return found


def _path(element: etree._Element) -> list[int]:
    """The positions that lead to an element from the top of its document."""
    path = []
    parent = element.getparent()
    while parent is not None:
        path.append(parent.index(element))
        element, parent = parent, parent.getparent()
    return path[::-1]


def _at(top: etree._Element, path: list[int]) -> etree._Element:
    for position in path:
        top = top[position]
    return top


@contextmanager
def _inheriting(element: etree._Element, version: str) -> Iterator[None]:
    """Give the top element of a part the `xml:` attributes of its ancestors, for as long as it is canonicalised."""
    inherited: dict[str, str] = {}
    bases: list[str] = []
    for ancestor in element.iterancestors():
        for name, value in ancestor.attrib.items():
            key = str(name)
            if not key.startswith(_XML) or (version == "1.1" and key == _XML + "id"):
                continue
            if version == "1.1" and key == _XML + "base":
                bases.append(str(value))
            else:
                inherited.setdefault(key, str(value))
    own_base = element.get(_XML + "base")
    if bases:
        joined = ""
        for base in [*reversed(bases), *([own_base] if own_base is not None else [])]:
            joined = resolved(joined, base) if joined else base
        inherited[_XML + "base"] = joined
    added = {
        name: value
        for name, value in inherited.items()
        if name not in element.attrib or (bases and name == _XML + "base")
    }
    for name, value in added.items():
        element.set(name, value)
    try:
        yield
    finally:
        for name in added:
            if name == _XML + "base" and own_base is not None:
                element.set(name, own_base)
            else:
                del element.attrib[name]


def _by_hand(
    element: etree._Element, how: Canonicalization, rendered: dict[str, str], inclusive: frozenset[str]
) -> Iterator[bytes]:
    """Exclusive canonicalization, step by step, for prefix lists that lxml passes over (§3 of the standard)."""
    if isinstance(element, etree._Comment | etree._ProcessingInstruction):
        if how.comments or isinstance(element, etree._ProcessingInstruction):
            yield _aside(element)
        return
    scope = {prefix or "": uri for prefix, uri in element.nsmap.items()}
    used = {element.prefix or ""}
    attributes = []
    for name, value in element.attrib.items():
        namespace, _, local = str(name).rpartition("}")
        prefix = ""
        if namespace == f"{{{XML}":
            prefix = "xml"
        elif namespace:
            prefix = next(p for p, uri in sorted(scope.items()) if p and uri == namespace[1:])
            used.add(prefix)
        attributes.append((namespace[1:], local, prefix, str(value)))
    wanted = used | {prefix for prefix in scope if (prefix or "#default") in inclusive}
    declared = {prefix: scope.get(prefix, "") for prefix in wanted if prefix != "xml"}
    changed = {prefix: uri for prefix, uri in declared.items() if rendered.get(prefix, "") != uri}
    name = f"{element.prefix}:{element.tag.rpartition('}')[2]}" if element.prefix else element.tag.rpartition("}")[2]
    out = ["<", name]
    out += [f' xmlns{":" + p if p else ""}="{_escaped(uri, True)}"' for p, uri in sorted(changed.items())]
    out += [
        f' {prefix + ":" if prefix else ""}{local}="{_escaped(value, True)}"'
        for _, local, prefix, value in sorted(attributes)
    ]
    yield "".join([*out, ">", _escaped(element.text or "", False)]).encode()
    for child in element:
        yield from _by_hand(child, how, {**rendered, **changed}, inclusive)
        yield _escaped(child.tail or "", False).encode()
    yield f"</{name}>".encode()


def _aside(node: etree._Comment | etree._ProcessingInstruction) -> bytes:
    text = str(node.text or "")
    if isinstance(node, etree._ProcessingInstruction):
        return ("<?" + str(node.target) + (" " + text if text else "") + "?>").encode()
    return ("<!--" + text + "-->").replace("\r", "&#xD;").encode()


def _escaped(text: str, attribute: bool) -> str:
    text = text.replace("&", "&amp;").replace("<", "&lt;").replace("\r", "&#xD;")
    if attribute:
        return text.replace('"', "&quot;").replace("\t", "&#x9;").replace("\n", "&#xA;")
    return text.replace(">", "&gt;")
