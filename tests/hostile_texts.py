"""Texts of any size that a reader works longest on, by name: each takes a size in octets and gives about so many."""

from __future__ import annotations

import base64
import gzip
import json
import zlib
from collections.abc import Callable
from urllib.parse import quote_from_bytes

from trace_lens.saml.names import ASSERTION, PROTOCOL, SIGNATURE


def _times(unit: bytes, before: bytes = b"", after: bytes = b"") -> Callable[[int], bytes]:
    return lambda size: before + unit * max(1, size // len(unit)) + after


def _response(inside: Callable[[int], bytes]) -> Callable[[int], bytes]:
    """A SAML response that holds something of a size."""
    head = f'<p:Response xmlns:p="{PROTOCOL}" xmlns:a="{ASSERTION}" ID="_r" Version="2.0">'.encode()
    return lambda size: head + inside(size) + b"</p:Response>"


def _attributes(size: int) -> bytes:
    unit = '<a:Attribute Name="a{0}"><a:AttributeValue>v{0}</a:AttributeValue></a:Attribute>'
    listed = "".join(unit.format(number) for number in range(max(1, size // 75)))
    return f'<a:Assertion ID="_a" Version="2.0"><a:AttributeStatement>{listed}</a:AttributeStatement></a:Assertion>'.encode()


def _signatures(size: int) -> bytes:
    one = (
        f'<d:Signature xmlns:d="{SIGNATURE}"><d:SignedInfo>'
        '<d:CanonicalizationMethod Algorithm="http://www.w3.org/2001/10/xml-exc-c14n#"/>'
        '<d:SignatureMethod Algorithm="http://www.w3.org/2001/04/xmldsig-more#rsa-sha256"/>'
        '<d:Reference URI="#_r"><d:Transforms><d:Transform '
        'Algorithm="http://www.w3.org/2000/09/xmldsig#enveloped-signature"/></d:Transforms>'
        '<d:DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/>'
        "<d:DigestValue>AAAA</d:DigestValue></d:Reference></d:SignedInfo><d:SignatureValue>AAAA</d:SignatureValue>"
        "</d:Signature>"
    ).encode()
    return one * 20 + _attributes(size)


def _token(claims: Callable[[int], object]) -> Callable[[int], bytes]:
    def made(size: int) -> bytes:
        parts = ({"alg": "RS256", "typ": "JWT"}, claims(size))
        text = b".".join(base64.urlsafe_b64encode(json.dumps(part).encode()).rstrip(b"=") for part in parts)
        return text + b"." + b"A" * 342

    return made


def _layers(layer: Callable[[bytes], bytes], times: int) -> Callable[[int], bytes]:
    def made(size: int) -> bytes:
        data = b"<x>" + b"a" * size + b"</x>"
        for _ in range(times):
            data = layer(data)
        return data[: size * 2]

    return made


def _export(size: int) -> bytes:
    entry = {
        "startedDateTime": "2026-11-20T08:00:00Z",
        "time": 1,
        "request": {"method": "GET", "url": "https://roster.northmere.example/?SAMLResponse=", "headers": []},
        "response": {"status": 302, "headers": [{"name": "Location", "value": "/"}], "content": {}, "redirectURL": "/"},
    }
    return json.dumps({"log": {"entries": [entry] * max(1, size // 330)}}).encode()


HOSTILE: dict[str, Callable[[int], bytes]] = {
    "comments that lead to nothing": _times(b"<!---->", after=b"!"),
    "comments before an element": _times(b"<!---->", after=b"<x/>"),
    "processing instructions": _times(b"<?a?>"),
    "document types": _times(b"<!DOCTYPE a [b]>"),
    "tags without an end": _times(b"<form "),
    "input fields without an end": _times(b"<input name="),
    "elements without an end": _times(b"<title><script><!--"),
    "opened elements": _times(b"<a>"),
    "small documents": _times(b'<a b="c"/>'),
    "nested elements": lambda size: b"<a>" * (size // 7) + b"</a>" * (size // 7),
    "many siblings": _times(b"<b/>", b"<Response>", b"</Response>"),
    "many attributes of a person": _response(_attributes),
    "twenty signatures over all of it": _response(_signatures),
    "many namespaces": _response(
        lambda size: b"".join(b'<x xmlns:n%d="urn:%d">' % (n, n) for n in range(90)) + b"x" * size + b"</x>" * 90
    ),
    "many assertions": _response(
        lambda size: b"".join(b'<a:Assertion ID="_%d" Version="2.0"/>' % n for n in range(size // 40))
    ),
    "dashes": _times(b"-"),
    "beginnings of certificates": _times(b"-----BEGIN CERTIFICATE-----\n"),
    "one letter": _times(b"A"),
    "base64 in short lines": _times(b"QUFB\n"),
    "base64 in lines": _times(b"QUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFB\r\n"),
    "blanks": _times(b" ", b"x", b"x"),
    "line ends": _times(b"\n", b"x", b"x"),
    "blanks after base64": _times(b" ", b"QUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFBQUFB", b"!"),
    "percent signs": _times(b"%25"),
    "ampersands": _times(b"&lt;"),
    "fields": _times(b"SAMLResponse=a&"),
    "fields one a line": _times(b"SAMLResponse=AAAA\n"),
    "listed fields": _times(b"SAMLResponse: AAAA\n"),
    "one field with many parameters": _times(b"&b=c", b"SAMLResponse=AAAAAAAAAAAAAAAAAAAA"),
    "forms": _times(b"a=b&", b"grant_type=x&"),
    "addresses": _times(b"https://a.example/?code=b&state=c "),
    "beginnings of addresses": _times(b"http:"),
    "letters and colons": _times(b"a0"),
    "beginnings of tokens": _times(b"eyJ"),
    "beginnings of tokens, one a line": _times(b"xeyJhbGciOiJ\n"),
    "beginnings of tokens with a plus": _times(b"eyJhbGciOiJSUzI1NiJ9.b+"),
    "tokens that are none": _times(b"eyJAAAAAAAA.AA.AA "),
    "cut tokens": _times(b"eyJhbGciOiJSUzI1NiJ9.eyJpc3MiOi "),
    "full stops": _times(b"eyJhbGciOiJSUzI1NiJ9."),
    "a token of many claims": _token(lambda size: {f"c{number}": number for number in range(size // 14)}),
    "a token of many groups": _token(lambda size: {"groups": [f"g{number}" for number in range(size // 10)]}),
    "a token of one long claim": _token(lambda size: {"sub": "a" * size}),
    "opened lists": _times(b"["),
    "opened objects": _times(b'{"a":'),
    "opened objects with members": _times(b'{"keys":1,"a":'),
    "lists in lists": lambda size: b"[" * (size // 2) + b"]" * (size // 2),
    "strings without an end": _times(b'"\\"'),
    "objects": _times(b'{"error":"a"} '),
    "a long list": _times(b"1,", b"[", b"1]"),
    "many keys": _times(b'{"kty":"oct","k":"AA"},', b'{"keys":[', b"{}]}"),
    "texts in texts": lambda size: json.dumps(
        {"error": json.dumps({"error": json.dumps({"error": "eyJ" * (size // 6)})})}
    ).encode(),
    "heads of requests": _times(b"GET /a HTTP/1.1\nHost: a.example\n\n"),
    "heads of answers": _times(b"HTTP/1.1 302 Found\nSet-Cookie: a=b\n\n"),
    "header fields": _times(b"A: b\n", b"GET / HTTP/1.1\n"),
    "folded header fields": _times(b" a\n", b"GET / HTTP/1.1\nHost: a.example\nA: b\n"),
    "pseudo header fields": _times(b":method: GET\n:path: /\n"),
    "a long header field": _times(b"a", b"GET / HTTP/1.1\nHost: a.example\nCookie: "),
    "commands": _times(b"curl 'https://a.example/' -H 'a: b'\n"),
    "quotes of a command": _times(b"'", b"curl "),
    "escapes of a command": _times(b"$'\\n", b"curl "),
    "calls of a script": _times(b'fetch("https://a.example/", {"a": 1});\n'),
    "lines of a log": _times(b'192.0.2.1 - - [20/Nov/2026:08:00:00 +0000] "GET / HTTP/1.1" 200 1\n'),
    "a browser export": _export,
    "a browser export without an end": lambda size: _export(size)[:-200],
    "gzip": _layers(gzip.compress, 3),
    "zlib": _layers(zlib.compress, 3),
    "base64 over base64": _layers(base64.b64encode, 3),
    "percent-encoding over itself": _layers(lambda data: quote_from_bytes(data, safe="").encode(), 3),
    "quoted-printable": _times(b"=3D"),
    "UTF-16": lambda size: ("\ufeff" + "A" * (size // 2)).encode("utf-16-le"),
    "hexadecimal digits": _times(b"3c"),
    "lines of a dump": _times(b"00000000  3c 73 61 6d 6c 3a 52 65 73 70 6f 6e 73 65 20 49  |<saml:Response I|\n"),
    "nearly lines of a dump": _times(b"00000000  3c 73 61 6d 6c 3a 52 6\n"),
    "marks before each line": _times(b"\n12:00 a-1 1 1 1 1 1 1 1 1: <b>", b"12:00 a-1 1 1 1 1 1 1 1 1: <Response>"),
    "blanks before each line": _times(b"\n" + b" " * 200 + b"<b>", b" 1" * 90 + b" <Response>"),
    "escapes before brackets": _times(b'\\u003cb a=\\"c\\"'),
    "characters that nobody sees": _times("\u200ba\u00a0".encode()),
    "zeros": _times(b"\0"),
    "binary": lambda size: bytes(range(256)) * (size // 256),
}
