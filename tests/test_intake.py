"""Blobs as they arrive: which layers are peeled, what is repaired, and how far a hopeless one got."""

from __future__ import annotations

import base64
import gzip
import html
import json
import quopri
import zlib
from urllib.parse import quote

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import oidc_kit
from kit import SAMLP, certificate, key, pem, private_pem, response
from trace_lens.decoding.messages import open_messages
from trace_lens.intake.peeling import Peeled, peel, search
from trace_lens.intake.straight import straight
from trace_lens.oidc.parameters import KNOWN

XML = response()
B64 = base64.b64encode(XML)


def deflated(data: bytes) -> bytes:
    squeezer = zlib.compressobj(9, zlib.DEFLATED, -15)
    return squeezer.compress(data) + squeezer.flush()


def wrapped(data: bytes, size: int = 76, end: bytes = b"\n") -> bytes:
    return end.join(data[i : i + size] for i in range(0, len(data), size))


def escaped(data: bytes) -> bytes:
    return quote(data, safe="").encode()


BLOBS = [
    ("XML", XML, (), ()),
    ("XML with a declaration", b'\xef\xbb\xbf<?xml version="1.0" encoding="UTF-8"?>\n<!-- x -->\n' + XML, (), ()),
    ("base64", B64, ("base64",), ()),
    ("wrapped", wrapped(B64), ("base64",), ("line wraps",)),
    ("wrapped by Windows", wrapped(B64, 64, b"\r\n"), ("base64",), ("line wraps",)),
    ("URL-safe", base64.urlsafe_b64encode(XML).rstrip(b"="), ("base64url",), None),
    ("no padding", base64.b64encode(XML + b" ").rstrip(b"="), ("base64",), None),
    ("quoted", b'"' + B64 + b'",', ("base64",), ("stray quotes or punctuation around it",)),
    ("URL-encoded", escaped(B64), ("url", "base64"), ()),
    ("URL-encoded twice", escaped(escaped(B64)), ("url", "url", "base64"), ("URL-encoding applied more than once",)),
    ("a form", b"RelayState=home&SAMLResponse=" + escaped(B64), ("form", "base64"), ()),
    ("a form encoded twice", b"SAMLResponse=" + escaped(escaped(B64)), ("form", "url", "base64"), None),
    ("a listed field", b"RelayState: home\nSAMLResponse: " + B64 + b"\n", ("form", "base64"), ()),
    (
        "a redirect",
        b"https://a.example/acs?SAMLResponse=" + escaped(base64.b64encode(deflated(XML))),
        ("form", "base64", "deflate"),
        (),
    ),
    ("gzip", gzip.compress(XML), ("gzip",), ()),
    ("a JSON string", json.dumps(XML.decode()).encode(), ("json-string",), ()),
    ("JSON", json.dumps({"SAMLResponse": B64.decode()}).encode(), ("json-string", "base64"), ()),
    ("escaped XML", html.escape(XML.decode()).encode(), ("xml-escaped",), ()),
    (
        "a page",
        b'<html><form><input type=hidden name="SAMLResponse" value="' + B64 + b'"/></form></html>',
        ("html-form", "base64"),
        (),
    ),
    ("quoted-printable", quopri.encodestring(XML), ("quoted-printable",), ()),
    ("UTF-16", b"\xff\xfe" + B64.decode().encode("utf-16-le"), ("utf-16", "base64"), ()),
    (
        "an e-mail",
        b"Hello,\n\n> " + wrapped(B64, 70, b"\n> ") + b"\n\nRegards\nMia\n",
        ("base64",),
        ("text around the message", "line wraps"),
    ),
    ("XML in a ticket", b"The answer was: " + XML + b" and then it failed.", (), ("text around the message",)),
]


@pytest.mark.parametrize(("name", "blob", "layers", "repairs"), BLOBS, ids=[blob[0] for blob in BLOBS])
def test_layers(name: str, blob: bytes, layers: tuple[str, ...], repairs: tuple[str, ...] | None) -> None:
    (found,) = peel(blob).found
    assert (found.kind, found.layers) == ("saml-response", layers)
    assert repairs is None or found.repairs == repairs
    assert found.data.strip().endswith(b"Response>")
    if b"RelayState" in blob:
        assert found.context["RelayState"] == "home"


@settings(max_examples=60)
@given(st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), max_size=80), st.randoms())
def test_what_was_wrapped_comes_back(value: str, draw: object) -> None:
    """decode(encode(x)) = x through any three layers, plus signs turned into blanks among them."""
    message = f'<p:Response xmlns:p="{SAMLP}" ID="_1">{html.escape(value)}</p:Response>'.encode()
    layers = [
        base64.b64encode,
        base64.urlsafe_b64encode,
        lambda data: base64.b64encode(deflated(data)),
        lambda data: b"SAMLResponse=" + escaped(base64.b64encode(data)),
        lambda data: wrapped(base64.b64encode(data)),
        lambda data: base64.b64encode(data).replace(b"+", b" "),
        lambda data: escaped(base64.b64encode(data)),
        lambda data: base64.b64encode(data).rstrip(b"="),
    ]
    layer = draw.choice(layers)  # type: ignore[attr-defined]
    (found,) = peel(layer(message)).found
    assert found.data == message


HOPELESS = [
    (b"", "it is empty"),
    (b" \n\t ", "it is empty"),
    (b"hello there, this is a sentence", "no part of which is long enough"),
    (b"A" * 60 + b", this is a sentence", "base64 stops at ','"),
    (b'{"iss": "https://id.example", "aud": "x", "exp": 1}', "the claims of a token that was taken apart"),
    (b"\x89PNG\r\n\x1a\n\0\0", "a picture; take the message as text"),
    (b"<html><body>Sign in</body></html>", "XML whose root element html is no message"),
    (bytes(range(256)) * 20, "binary data"),
    (base64.b64encode(bytes(1_500_000)), "all zero"),
    (base64.b64encode(b"{ not a message, but text }"), "text"),
    (gzip.compress(b"\0" * 50_000_000), "binary data"),
]


@pytest.mark.parametrize(("blob", "words"), HOPELESS, ids=range(len(HOPELESS)))
def test_nothing_known(blob: bytes, words: str) -> None:
    peeled = peel(blob)
    assert not peeled.found
    assert words in peeled.because


def test_damaged_messages_are_recognised_by_their_beginning() -> None:
    for blob in (XML[:300], B64[:401], base64.b64encode(deflated(XML)[:200])):
        assert [found.kind for found in peel(blob).found] == ["saml-response"]


KINDS = [
    (pem(certificate("id")).encode(), "certificate"),
    (private_pem(key("id")).encode(), "private-key"),
    (f'<p:AuthnRequest xmlns:p="{SAMLP}" ID="_1"/>'.encode(), "saml-authn-request"),
    (f'<p:LogoutRequest xmlns:p="{SAMLP}" ID="_1"/>'.encode(), "saml-logout-request"),
    (b'<md:EntityDescriptor xmlns:md="urn:oasis:names:tc:SAML:2.0:metadata" entityID="x"/>', "saml-metadata"),
]


@pytest.mark.parametrize(("blob", "kind"), KINDS, ids=[kind for _, kind in KINDS])
def test_kinds(blob: bytes, kind: str) -> None:
    (message,) = open_messages("x", peel(blob))
    assert message.kind == kind
    assert "PRIVATE" not in str(message.content)


# -- the straight way in

TOKEN = oidc_kit.token().encode()
PLAIN = [
    b"SAMLResponse=" + escaped(B64),
    b"SAMLResponse=" + B64.replace(b"+", b"%2B"),
    b"SAMLResponse=" + escaped(B64) + b"&RelayState=ss-4d1f",
    b"SAMLRequest=" + escaped(base64.b64encode(b"<x>" + XML + b"</x>")),
    b"SAMLResponse=" + escaped(B64) + b"&RelayState=https%3A%2F%2Froster.northmere.example%2Fdeck%3Fday%3D2",
    TOKEN,
    XML,
    b'<?xml version="1.0"?>\n' + XML + b"\n",
]


@pytest.mark.parametrize("number", range(len(PLAIN)))
def test_what_plainly_is_one_message_goes_straight(number: int) -> None:
    blob = PLAIN[number]
    found = straight(blob)
    if number == 3:
        assert found is None
    else:
        assert (found,) == search(blob).found
    assert peel(blob) == search(blob)


@given(
    blob=st.sampled_from(PLAIN),
    edits=st.lists(
        st.tuples(st.integers(0, 6000), st.sampled_from(["put", "cut", "drop"]), st.binary(max_size=9)), max_size=3
    ),
    around=st.sampled_from(
        [b"", b"\n", b"  ", b"Bearer ", b"&SAMLResponse=", b"&code=x", b"#", b'"', b"&RelayState=eyJ"]
    ),
)
@settings(max_examples=150)
def test_the_straight_way_gives_what_the_search_gives(
    blob: bytes, edits: list[tuple[int, str, bytes]], around: bytes
) -> None:
    """Whatever is changed in a plain text: it is not taken straight, or the search finds the same."""
    for at, how, text in edits:
        place = at % (len(blob) + 1)
        blob = {
            "put": blob[:place] + text + blob[place:],
            "cut": blob[:place],
            "drop": blob[:place] + blob[place + 1 :],
        }[how]
    blob += around
    found = straight(blob)
    assert found is None or search(blob) == Peeled((found,))


WORDS = [
    "https://roster.northmere.example/x",
    "?",
    "&",
    "#",
    "day",
    "2",
    ":",
    "/",
    "GET ",
    "SAMLart",
    "wctx",
    "iss",
    "x" * 40,
]


@given(words=st.lists(st.sampled_from([*WORDS, *(f"&{name}=" for name in sorted(KNOWN))]), max_size=7))
@settings(max_examples=100)
def test_whatever_the_relay_state_holds(words: list[str]) -> None:
    blob = PLAIN[0] + b"&RelayState=" + quote("".join(words), safe="").encode()
    found = straight(blob)
    assert found is None or search(blob) == Peeled((found,))
