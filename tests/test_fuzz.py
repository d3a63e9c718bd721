"""A short run of the fuzz harness, the same each time: whole inputs cut, changed and put together, through every reader.

The long runs, guided by coverage, are those of benchmarks/fuzz/; what they found is listed here.
"""

from __future__ import annotations

import base64
import gzip
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fuzz_readers import readers
from kit import certificate, idp_metadata, posted, response
from trace_lens.demo.tokens import compact

_TOKEN = f"{compact({'alg': 'RS256', 'kid': 'a'})}.{compact({'iss': 'a', 'sub': 'b', 'aud': 'c', 'exp': 1, 'iat': 1})}.{'A' * 86}"
_LOG = "time,user,session\n2026-11-20T08:14:01Z,m.tern,abc\n"
WHOLE: tuple[bytes, ...] = (
    response(),
    posted(response()),
    idp_metadata().encode(),
    _TOKEN.encode(),
    f"Bearer {_TOKEN}".encode(),
    b"GET /a?code=abcdefghijklmnop&state=b HTTP/1.1\nHost: a.example\nCookie: a=b\n\nHTTP/1.1 302 Found\nLocation: /\n",
    b"curl 'https://a.example/?code=abcdefghijklmnop&state=b' -H 'Cookie: a=b' --data-raw 'grant_type=x'",
    b'{"log":{"version":"1.2","entries":[{"startedDateTime":"2026-11-20T08:14:03Z","request":{"method":"GET","url":"https://a.example/?code=abcdefghijklmnop&state=b","headers":[]},"response":{"status":302,"headers":[],"content":{}}}]}}',
    b'{"keys":[{"kty":"RSA","n":"AQAB","e":"AQAB","kid":"a","x5c":["MIIB"]},{"kty":"EC","crv":"P-256","x":"AA","y":"AA"},{"kty":"OKP","crv":"Ed25519","x":"AA"}]}',
    b'{"issuer":"https://a.example","jwks_uri":"https://a.example/keys","authorization_endpoint":"https://a.example/a"}',
    b'{"access_token":"abcdefghijklmnopqrst","token_type":"Bearer","id_token":"' + _TOKEN.encode() + b'"}',
    b"-----BEGIN CERTIFICATE-----\nMIIBszCCAVmgAwIBAgIUQ\n-----END CERTIFICATE-----\n",
    _LOG.encode(),
    gzip.compress(_LOG.encode()),
    b'{"time":"2026-11-20T08:14:01Z","user":"m.tern"}\n[{"time":1}]',
    b'<34>1 2026-11-20T08:14:01Z gate app 1 - [x user="m.tern"] a=b',
    b"#Fields: date time user\n2026-11-20 08:14:01 m.tern\n",
    b'192.0.2.1 - m.tern [20/Nov/2026:08:14:01 +0000] "GET / HTTP/1.1" 200 1 "-" "x"\n',
    b"user;email;active\nm.tern;m.tern@northmere.example;yes\n",
    b'{"Resources":[{"userName":"a","active":true}]}',
    b"dn: uid=a,dc=example\nuid: a\nmail: a@northmere.example\n\n",
    b'name = "x"\nprotocol = "saml"\n[application]\nentity_id = "a"\n',
)
OTHER_VERSION = (
    certificate("id").public_bytes(Encoding.DER).replace(b"\xa0\x03\x02\x01\x02", b"\xa0\x03\x02\x01\x16", 1)
)


def pem_of(der: bytes) -> bytes:
    return b"-----BEGIN CERTIFICATE-----\n" + base64.encodebytes(der) + b"-----END CERTIFICATE-----\n"


FOUND: dict[str, tuple[str, bytes]] = {
    "an encoding that no parser knows": ("xml", b'<?xml version="1.0" encoding="UTF-9"?><a/>'),
    "the same in encrypted content": ("xml_encryption", b'<?xml version="1.0" encoding="UTF.8"?><a/>'),
    "the same in metadata": ("metadata", b'<?xml version="1.0" encoding="UTF-0"?><EntityDescriptor/>'),
    "a cut log of JSON": ("log_json", gzip.compress(b'[{"time":1}]')[:-4]),
    "a broken log of JSON": ("log_ocsf", b"\x1f\x8b\x08\x00" + b"\xff" * 40),
    "a log that is no Zstandard after all": ("log_json", b"\x28\xb5\x2f\xfd" + b"\xff" * 40),
    "a certificate of a version that is none": ("pki", pem_of(OTHER_VERSION)),
    "a token whose beginning is wrapped": (
        "oauth",
        b"ey\n\nJhbGciOiJSUzI1NiIsInR5cCIwMjYtMTEifQ.eyiIjiVDAXoNx8AKI53BA2_w\n",
    ),
    "an answer at an address that is none": (
        "whole",
        b"https://parcels.northmere.example[/callback?code=NSkrHuLI9VFPczZETJRX1-Xd&state=Z2vHcfvKfEOm\n",
    ),
}
"""What the long runs found: the reader, and the input that made it fail."""


@pytest.fixture(scope="module")
def known(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("fuzz")


@pytest.mark.parametrize("name", FOUND)
def test_finds_stay_mended(name: str, known: Path) -> None:
    reader, data = FOUND[name]
    readers(known)[reader](data)


@st.composite
def changed(draw: st.DrawFn) -> bytes:
    """Whole inputs with a few things done to them: cut, doubled, a stretch replaced, two spliced, wrapped once more."""
    data = draw(st.sampled_from(WHOLE))
    for _ in range(draw(st.integers(1, 4))):
        start = draw(st.integers(0, len(data)))
        end = min(len(data), start + draw(st.integers(0, 40)))
        match draw(st.integers(0, 6)):
            case 0:
                data = data[:start]
            case 1:
                data = data[:end] + data[start:]
            case 2:
                data = data[:start] + draw(st.binary(max_size=12)) + data[end:]
            case 3:
                data = data[:start] + draw(st.sampled_from(WHOLE))[draw(st.integers(0, 200)) :]
            case 4:
                data = (
                    data[:start]
                    + draw(st.sampled_from((b'"', b"<", b"{", b"[", b"\\ud800", b"%", b"\0", b"]]>", b"--")))
                    + data[start:]
                )
            case 5:
                data = base64.b64encode(data)
            case _:
                data = data.swapcase()
    return data


@pytest.mark.parametrize("name", sorted(readers(Path())))
def test_readers_take_anything(name: str, known: Path) -> None:
    reader = readers(known)[name]

    @settings(max_examples=25, derandomize=True, suppress_health_check=list(HealthCheck), database=None)
    @given(changed())
    def whatever(data: bytes) -> None:
        reader(data)

    whatever()
