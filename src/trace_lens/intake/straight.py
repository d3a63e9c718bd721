"""The straight way in: what plainly is one message in one wrapping is taken as that, without a search over layers.

It gives what the search gives, or nothing; then the search is made. Only texts that leave the search no choice are
taken:

- one line `SAMLResponse=…` or `SAMLRequest=…`, percent-encoded, whose value is base64 to the letter of an XML message
  that is there to its end, with a `RelayState` at most beside it that is a plain word or address;
- one XML message, there to its end, in which nothing looks like a recording or a page;
- one line that is one compact token to the letter.
"""

from __future__ import annotations

import base64
import binascii

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.locations import Location
from trace_lens.intake.captures import may_be_capture
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.kinds import whole_kind
from trace_lens.intake.layers import form_value
from trace_lens.intake.markup import first_element
from trace_lens.intake.oauth_pieces import damaged, whole_token

_FORM = expression(
    rb"(SAMLResponse|SAMLRequest)=((?:[A-Za-z0-9/]++|%2[BbFf])++(?:=|%3[Dd]){0,2})"
    rb"(?:&RelayState=((?:[\w.~*-]|%[0-9A-Fa-f]{2})*+))?\s*+"
)
_RELAY = expression(rb"[\w.~*:/?&=#@,; -]*+")
_TOKEN = expression(rb"eyJ[A-Za-z0-9_-]++\.[A-Za-z0-9_-]++\.[A-Za-z0-9_-]++\s*+")
_TAKEN = (
    b"SAML",
    b"wresult",
    b"code",
    b"eyJ",
    b"token",
    b"state",
    b"error",
    b"client",
    b"request",
    b"assertion",
    b"grant",
    b"logout",
)
"""What makes more of a relay state than a value beside a message."""


def straight(data: bytes) -> FoundMessage | None:
    """The one message that a text plainly is; None where it takes a search."""
    if data[:4] == b"SAML":
        return _form(data)
    if data[:1] == b"<":
        return _xml(data)
    if data[:3] == b"eyJ" and len(data) <= limits.TOKEN_CHARACTERS and _TOKEN.fullmatch(data):
        (found, *_) = [*whole_token(data.decode("ascii").rstrip()), None]
        return found if found and not found.repairs and not damaged(found) else None
    return None


def _xml(data: bytes) -> FoundMessage | None:
    root = first_element(data)
    if root is None or data.count(b"</" + b"".join(root) + b">") != 1 or may_be_capture(data):
        return None
    kind = None if b"<input" in data.lower() else whole_kind(data)
    return FoundMessage(kind, data) if kind else None


def _form(data: bytes) -> FoundMessage | None:
    match = _FORM.fullmatch(data)
    if match is None:
        return None
    relay = None if match[3] is None else form_value(match[3])
    if relay and (not _RELAY.fullmatch(relay) or any(word in relay or word in match[3] for word in _TAKEN)):
        return None
    try:
        xml = base64.b64decode(form_value(match[2]), validate=True)
    except binascii.Error:
        return None
    kind = whole_kind(xml) if xml[:1] == b"<" else None
    if kind is None:
        return None
    context = {} if relay is None else {"RelayState": relay.decode()}
    where = Location(field=f"field {match[1].decode()}")
    return FoundMessage(kind, xml, ("form", "base64"), (), where, context)
