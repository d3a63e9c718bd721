"""The layers of encoding that a message may be wrapped in: each knows how to take itself off.

A layer is a function from octets to readings. A reading names what had to be repaired; a layer that does not fit gives
none. Nothing here knows what a message is.
"""

from __future__ import annotations

import base64
import binascii
import json
import quopri
import re
import zlib
from collections.abc import Callable, Iterator, Mapping
from types import MappingProxyType
from urllib.parse import unquote_to_bytes

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.locations import Location
from trace_lens.intake.markup import attributes, tags
from trace_lens.intake.pasted import escaped, hex_dump, is_escaped, unseen
from trace_lens.intake.reading import Reading

MESSAGE_FIELDS = ("SAMLResponse", "SAMLRequest", "SAMLart", "wresult")
_BESIDE = ("RelayState", "SigAlg", "Signature", "KeyInfo", "wctx", "wtrealm")
SIGNED_QUERY = "query"
"""The key under which a message's context keeps the octets of a redirect's query that its signature covers."""
ADDRESS = "address"
"""The key under which a message's context keeps the address, less its query, that it came to in a redirect."""
REPEATED = "repeated"
"""The key under which it keeps, line by line, further values of the same field, as they were sent."""
LENGTH = "length"
"""The key under which it keeps the length of that whole address, in bytes."""
_ADDRESS = expression(rb"https?://[\x21-\x7e]++")
FIELD = expression(rb"(?:^|[?&\s;'\"])(SAMLResponse|SAMLRequest|SAMLart|wresult)(?:=|%3[Dd])", re.MULTILINE)
_LISTED = expression(rb"^[ \t]*+(\w++)(?:[ \t]*+[:=]| *+\t)[ \t]*+(.*+)$", re.MULTILINE)
_BASE64 = expression(rb"[A-Za-z0-9+/=_\-\s]+")
_BASE64_RUN = expression(rb"(?:[A-Za-z0-9+/_\-]{20,}+=*+(?:[ \t]*+\r?\n[>| \t]*+)?)++[A-Za-z0-9+/_\-]*+={0,2}")
_ROOTS = (
    rb"Response|Assertion|EntityDescriptor|EntitiesDescriptor|AuthnRequest|LogoutRequest|LogoutResponse"
    rb"|ArtifactResolve|ArtifactResponse|RequestSecurityTokenResponse|RequestSecurityTokenResponseCollection"
)
MESSAGE = expression(rb"<(?:[\w.\-]++:)?+(?:" + _ROOTS + rb")\s[^<>]*?xmlns")
"""The tag with which a message begins: it declares its namespace, which a tag that words only speak of does not."""
_ALIKE = expression(rb"<(?:[\w.\-]++:)?+(?:" + _ROOTS + rb")[\s>]")
_PAGE = expression(rb"\s*<(?:!doctype html|html|body|pre|div|p|textarea|table|code)\b", re.IGNORECASE)
_PIECE = 64 * 1024
_SHORTEST_LINE = 4
"""No base64 is wrapped into lines that are shorter, in characters, all in all."""
_QUOTES = "\"'`“”‘’"


def may_hold_fields(data: bytes) -> bool:
    """Whether the name of a message's field stands in a text: a cheap test before the expressions that look for it."""
    return b"SAMLRe" in data or b"SAMLart" in data or b"wresult" in data


def _unquoted(data: bytes) -> bytes:
    """Percent-decoding (RFC 3986 §2.1), piece by piece: at once it would take many times the memory of the data."""
    if len(data) <= _PIECE:
        return unquote_to_bytes(data)
    pieces, position = [], 0
    while position < len(data):
        end = position + _PIECE
        cut = data.find(b"%", end - 2, end)
        end = cut if cut > position else end
        pieces.append(unquote_to_bytes(data[position:end]))
        position = end
    return b"".join(pieces)


def _quotes(data: bytes) -> Iterator[Reading]:
    text = data.strip()
    try:
        bare = text.decode("utf-8").strip(_QUOTES + " \t\r\n,;")
    except UnicodeDecodeError:
        return
    if bare and bare.encode() != text:
        yield Reading("", bare.encode(), ("stray quotes or punctuation around it",), cost=2)


def _utf16(data: bytes) -> Iterator[Reading]:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        yield Reading("utf-16", data.decode("utf-16", "replace").encode())


def _form(data: bytes) -> Iterator[Reading]:
    """application/x-www-form-urlencoded, as a body or as the query of an address."""
    if not may_hold_fields(data) or not FIELD.search(data):
        return
    body = data.strip()
    if b"=" not in body:
        body = _unquoted(body)
    start = min((body.find(b"?") + 1) if b"?" in body.split(b"&", 1)[0] else 0, len(body))
    address = _address_before(body[:start])
    pairs: dict[str, bytes] = {}
    again: list[bytes] = []
    for part in body[start:].split(b"#", 1)[0].split(b"&"):
        key, equals, value = part.strip().partition(b"=")
        name = key.strip(_QUOTES.encode()).decode("utf-8", "replace")
        if equals and pairs.setdefault(name, value) != value and name in MESSAGE_FIELDS:
            again.append(form_value(value))
    for field in _of_fields("form", {name: form_value(value) for name, value in pairs.items()}, pairs):
        told = {ADDRESS: address, LENGTH: str(len(body))} if address else {}
        told |= {REPEATED: b"\n".join(again[: limits.REPEATED_FIELDS]).decode("latin-1")} if again else {}
        yield field._replace(context={**field.context, **told})


def _address_before(text: bytes) -> str | None:
    """The address that a text ends with, where a query follows it, without its question mark."""
    last = re.split(rb"[^\x21-\x7e]", text.removesuffix(b"?"))[-1] if text.endswith(b"?") else b""
    match = _ADDRESS.search(last)
    return match[0].decode() if match else None


def form_value(value: bytes) -> bytes:
    """Percent-decoding; a blank that was a plus is left for base64 to repair, since which it was shows only there."""
    return _unquoted(value.replace(b"+", b" ") if b"%" in value else value)


def _of_fields(
    layer: str, fields: dict[str, bytes], raw: Mapping[str, bytes] = MappingProxyType({})
) -> Iterator[Reading]:
    """The message fields among some fields; `raw` are the same before decoding, of which a signature is made."""
    beside = {name: fields[name].decode("utf-8", "replace") for name in _BESIDE if name in fields}
    for name in MESSAGE_FIELDS:
        if fields.get(name):
            signed = [(text, raw[text]) for text in (name, "RelayState", "SigAlg") if text in raw]
            query = {SIGNED_QUERY: "&".join(f"{text}={value.decode('latin-1')}" for text, value in signed)}
            context = {**beside, **query} if "Signature" in raw else beside
            yield Reading(layer, fields[name], where=Location(field=f"field {name}"), context=context)


def _listed_fields(data: bytes) -> Iterator[Reading]:
    """Fields as a network panel lists them: one a line, name and value parted by a colon or a tab."""
    if not may_hold_fields(data) or b"<" in data[:1]:
        return
    fields = {match[1].decode(): match[2].rstrip(b" \t\r") for match in _LISTED.finditer(data)}
    fields = {name: _unquoted(value) if b"%" in value else value for name, value in fields.items()}
    yield from _of_fields("form", fields)


def _html_form(data: bytes) -> Iterator[Reading]:
    """The hidden fields of a page that posts itself."""
    fields: dict[str, bytes] = {}
    if b"<" not in data:
        return
    text = data.decode("utf-8", "replace")
    for start, end in tags(text, "input"):
        told = attributes(text[start:end])
        fields[told.get("name", "")] = told.get("value", "").encode("utf-8", "surrogatepass")
    yield from _of_fields("html-form", fields)


def _url(data: bytes) -> Iterator[Reading]:
    if re.search(rb"%[0-9A-Fa-f]{2}", data):
        yield Reading("url", _unquoted(data.strip()))


def _json_string(data: bytes) -> Iterator[Reading]:
    text = data.strip()
    if text[:1] == b'"' and text[-1:] == b'"' and b"\\" in text:
        try:
            value = json.loads(text)
        except ValueError:
            return
        if isinstance(value, str):
            yield Reading("json-string", value.encode("utf-8", "surrogatepass"))
    for match in re.finditer(rb'"(SAMLResponse|SAMLRequest|SAMLart|wresult)"\s*+:\s*+("(?:[^"\\]++|\\.)*+")', data):
        try:
            value = json.loads(match[2])
        except ValueError:
            continue
        yield Reading(
            "json-string", value.encode("utf-8", "surrogatepass"), where=Location(field=f"member {match[1].decode()}")
        )


def _xml_escaped(data: bytes) -> Iterator[Reading]:
    if re.search(rb"&(?:lt|#60|#x3[Cc]);", data):
        from html import unescape

        yield Reading("xml-escaped", unescape(data.decode("utf-8", "replace")).encode())


def _quoted_printable(data: bytes) -> Iterator[Reading]:
    if b"=3D" in data or re.search(rb"=\r?\n", data):
        yield Reading("quoted-printable", quopri.decodestring(data), cost=3)


def _base64(data: bytes) -> Iterator[Reading]:
    text = data.strip()
    if len(text) < 16 or not _BASE64.fullmatch(text):
        return
    repairs: list[str] = []
    layer = "base64"
    if re.search(rb"[\r\n]", text):
        if text.count(b"\n") * _SHORTEST_LINE > len(text):
            return
        repairs.append("line wraps")
        bare = _unwrapped(text)
        joined = b"".join(line.strip(b" \t") for line in re.split(rb"[\r\n]++", text))
        if len(bare) < len(joined) and joined.startswith(bare):
            repairs.append("text around the message")
            joined = bare
        text = joined
    candidates = [(text, repairs)]
    if re.search(rb"[ \t]", text):
        candidates = [
            (text.replace(b" ", b"+").replace(b"\t", b"+"), [*repairs, "spaces where plus signs were"]),
            (text.translate(None, b" \t"), [*repairs, "blanks between the characters"]),
        ]
    for position, (compact, mended) in enumerate(candidates):
        if b"-" in compact or b"_" in compact:
            layer = "base64url"
            mended = [*mended, "the URL-safe alphabet"]
            compact = compact.replace(b"-", b"+").replace(b"_", b"/")
        bare = compact.rstrip(b"=")
        if b"=" in bare:
            continue
        if len(bare) % 4 == 3 and bare == compact and _lost_plus(bare):
            bare, compact = bare + b"+", compact + b"+"
            mended = [*mended, "a plus sign lost at the end"]
        if len(bare) % 4 == 1:
            bare = bare[:-1]
            mended = [*mended, "a single character left over at the end"]
        padded = bare + b"=" * (-len(bare) % 4)
        if len(padded) != len(compact):
            mended = [*mended, "missing padding"]
        try:
            yield Reading(layer, base64.b64decode(padded, validate=True), tuple(mended), cost=1 + position)
        except (binascii.Error, ValueError):
            continue


def _lost_plus(bare: bytes) -> bool:
    """Whether XML ends whole only with a plus sign put back at the end of its base64, where a blank was trimmed."""
    tail = bare[-7:]
    return base64.b64decode(tail + b"+")[-1:] == b">" and base64.b64decode(tail + b"=")[-1:] != b">"


def _inflate(data: bytes) -> Iterator[Reading]:
    """DEFLATE (RFC 1951), zlib (RFC 1950) and gzip (RFC 1952); a cut stream gives what there is of it."""
    if data[:2] == b"\x1f\x8b":
        kinds = (("gzip", 31),)
    elif data[:1] == b"\x78":
        kinds = (("deflate", 15),)
    elif data[:1] in (b"<", b"{", b"-") or len(data) < 8:
        return
    else:
        kinds = (("deflate", -15),)
    for layer, window in kinds:
        inflater = zlib.decompressobj(window)
        try:
            out = inflater.decompress(data, limits.INFLATED_BYTES)
        except zlib.error:
            continue
        if inflater.unconsumed_tail:
            continue
        if out:
            yield Reading(layer, out)


def _unwrapped(run: bytes) -> bytes:
    """A run of base64 over several lines as one; the last line is left out where the message ends before it."""
    lines = [line.rstrip(b" \t") for line in re.split(rb"\r?\n[>| \t]*+", run)]
    whole = b"".join(lines)
    if len(lines) > 1 and not _ends_xml(whole) and _ends_xml(b"".join(lines[:-1])):
        return b"".join(lines[:-1])
    return whole


def _ends_xml(text: bytes) -> bool:
    """Whether base64 ends with the end of a tag."""
    bare = text.rstrip(b"=").replace(b"-", b"+").replace(b"_", b"/")
    if b"=" in bare:
        return False
    begin = max(0, len(bare) - 8 - len(bare) % 4)
    tail = bare[begin - begin % 4 :]
    try:
        return base64.b64decode(tail + b"=" * (-len(tail) % 4)).rstrip()[-1:] == b">"
    except (binascii.Error, ValueError):
        return False


def _excerpt(data: bytes) -> Iterator[Reading]:
    """A message inside other text: an e-mail, a ticket, a log line."""
    start = MESSAGE.search(data) or _ALIKE.search(data)
    if start and start.start() > 0 and (data[:1] != b"<" or _PAGE.match(data)) and not is_escaped(data):
        name = re.split(rb"[\s>]", start[0][1:], maxsplit=1)[0]
        end = data.rfind(b"</" + name + b">")
        stop = end + len(name) + 3 if end > 0 else len(data)
        yield Reading("", data[start.start() : stop], ("text around the message",), cost=4)
    runs = sorted(_BASE64_RUN.findall(data), key=len, reverse=True)[:3]
    for run in runs:
        if len(run) >= 100 and len(run) < len(data.strip()):
            bare = _unwrapped(run)
            repairs = ("text around the message", "line wraps") if bare != run else ("text around the message",)
            yield Reading("", bare, repairs, cost=5)


LAYERS: tuple[Callable[[bytes], Iterator[Reading]], ...] = (
    _utf16,
    _html_form,
    _form,
    _listed_fields,
    _json_string,
    _base64,
    _url,
    _xml_escaped,
    _quoted_printable,
    _inflate,
    _quotes,
    unseen,
    escaped,
    hex_dump,
    _excerpt,
)
