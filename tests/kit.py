"""What the tests build with: messages, signatures and workspaces, made from the standards' text alone."""

from __future__ import annotations

import base64
import contextlib
import hashlib
import json
import os
import subprocess
import sys
import zlib
from collections.abc import Callable
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import Any
from urllib.parse import quote, urlencode

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID
from lxml import etree

from trace_lens.attempts.saml import SamlAttempt, assemble_saml
from trace_lens.attempts.saml_messages import read_messages
from trace_lens.common.guarding import Faults
from trace_lens.diagnosis.judging import Diagnosis, Options, diagnose
from trace_lens.intake.peeling import peel
from trace_lens.workspace.loading import load_workspace

SAMLP = "urn:oasis:names:tc:SAML:2.0:protocol"
SAML = "urn:oasis:names:tc:SAML:2.0:assertion"
DS = "http://www.w3.org/2000/09/xmldsig#"
EXCLUSIVE = "http://www.w3.org/2001/10/xml-exc-c14n#"
MORE = "http://www.w3.org/2001/04/xmldsig-more#"
SHA256 = "http://www.w3.org/2001/04/xmlenc#sha256"
EMAIL = "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"
TRANSIENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:transient"
PERSISTENT = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"
STATUS = "urn:oasis:names:tc:SAML:2.0:status:"

ISSUER = "https://id.northmere.example/saml"
AUDIENCE = "https://roster.northmere.example/saml/"
ACS = "https://roster.northmere.example/saml/acs"
TERN = "m.tern@northmere.example"
ISSUED = "2026-11-20T08:14:03Z"
NOW = datetime(2026, 11, 22, 12, tzinfo=UTC)

METADATA = "urn:oasis:names:tc:SAML:2.0:metadata"
BINDINGS = "urn:oasis:names:tc:SAML:2.0:bindings:"
SLO = "https://roster.northmere.example/saml/slo"

Edit = Callable[[etree._Element], None]


def key(name: str, kind: str = "rsa-2048") -> Any:
    """A private key for a name, made once."""
    return _key(name, kind)


@cache
def _key(name: str, kind: str) -> Any:
    family, _, size = kind.partition("-")
    if family == "rsa":
        return rsa.generate_private_key(65537, int(size))
    if family == "ec":
        return ec.generate_private_key({"256": ec.SECP256R1(), "384": ec.SECP384R1(), "224": ec.SECP224R1()}[size])
    return ed25519.Ed25519PrivateKey.generate()


def certificate(
    name: str, begins: str = "2026-01-01", ends: str = "2027-12-31", kind: str = "rsa-2048"
) -> x509.Certificate:
    """A self-signed certificate over `key(name)`, made once."""
    return _certificate(name, begins, ends, kind)


@cache
def _certificate(name: str, begins: str, ends: str, kind: str) -> x509.Certificate:
    private = key(name, kind)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    return (
        x509.CertificateBuilder(subject, subject, private.public_key(), x509.random_serial_number())
        .not_valid_before(datetime.fromisoformat(begins).replace(tzinfo=UTC))
        .not_valid_after(datetime.fromisoformat(ends).replace(tzinfo=UTC))
        .sign(private, None if isinstance(private, ed25519.Ed25519PrivateKey) else hashes.SHA256())
    )


def pem(one: x509.Certificate) -> str:
    """PEM text of a certificate."""
    return one.public_bytes(Encoding.PEM).decode()


def bare(one: x509.Certificate) -> str:
    """One line of base64 of a certificate."""
    return base64.b64encode(one.public_bytes(Encoding.DER)).decode()


def private_pem(one: Any) -> str:
    """PKCS#8 PEM text of a private key."""
    return one.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()


def canonical(element: etree._Element, exclusive: bool = True, prefixes: str = "", comments: bool = False) -> bytes:
    """lxml's canonical form."""
    return etree.tostring(
        element,
        method="c14n",
        exclusive=exclusive,
        with_comments=comments,
        with_tail=False,
        inclusive_ns_prefixes=prefixes.split() or None if exclusive else None,
    )


def raw_signature(private: Any, data: bytes, hashed: hashes.HashAlgorithm, pss: bool = False) -> bytes:
    """A signature value as XML Signature writes it."""
    if isinstance(private, rsa.RSAPrivateKey):
        if pss:
            return private.sign(data, padding.PSS(padding.MGF1(hashed), hashed.digest_size), hashed)
        return private.sign(data, padding.PKCS1v15(), hashed)
    if isinstance(private, ec.EllipticCurvePrivateKey):
        r, s = decode_dss_signature(private.sign(data, ec.ECDSA(hashed)))
        size = (private.curve.key_size + 7) // 8
        return r.to_bytes(size) + s.to_bytes(size)
    return private.sign(data)


def sign(
    element: etree._Element,
    signer: str = "id",
    *,
    kind: str = "rsa-2048",
    method: str = MORE + "rsa-sha256",
    hashed: hashes.HashAlgorithm | None = None,
    pss: bool = False,
    digest: str = SHA256,
    digest_name: str = "sha256",
    c14n: str = EXCLUSIVE,
    prefixes: str = "",
    reference: str | None = None,
    transforms: str | None = None,
    embed: bool = True,
    after: Edit | None = None,
    position: int = 1,
) -> None:
    """Put an enveloped signature into an element; everything that a signature may vary in can be told."""
    exclusive = "exc-c14n" in c14n
    octets = canonical(element, exclusive, prefixes)
    value = base64.b64encode(hashlib.new(digest_name, octets).digest()).decode()
    listed = f'<ec:InclusiveNamespaces xmlns:ec="{EXCLUSIVE}" PrefixList="{prefixes}"/>' if prefixes else ""
    steps = transforms or (
        f'<ds:Transform Algorithm="{DS}enveloped-signature"/><ds:Transform Algorithm="{c14n}">{listed}</ds:Transform>'
    )
    certificates = f"<ds:X509Certificate>{bare(certificate(signer, kind=kind))}</ds:X509Certificate>" if embed else ""
    signature = etree.fromstring(
        f'<ds:Signature xmlns:ds="{DS}"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="{c14n}"/>'
        f'<ds:SignatureMethod Algorithm="{method}"/>'
        f'<ds:Reference URI="{reference if reference is not None else "#" + (element.get("ID") or "")}">'
        f'<ds:Transforms>{steps}</ds:Transforms><ds:DigestMethod Algorithm="{digest}"/>'
        f"<ds:DigestValue>{value}</ds:DigestValue></ds:Reference></ds:SignedInfo><ds:SignatureValue/>"
        f"<ds:KeyInfo><ds:X509Data>{certificates}</ds:X509Data></ds:KeyInfo></ds:Signature>"
    )
    element.insert(position, signature)
    if after:
        after(signature)
    data = canonical(signature[0], exclusive, "", comments=c14n.endswith("WithComments"))
    made = raw_signature(key(signer, kind), data, hashed or hashes.SHA256(), pss)
    signature[1].text = base64.b64encode(made).decode()


def attribute(name: str, *values: str, friendly: str = "") -> str:
    """A SAML attribute."""
    inner = "".join(f"<saml:AttributeValue>{value}</saml:AttributeValue>" for value in values)
    spoken = f' FriendlyName="{friendly}"' if friendly else ""
    return f'<saml:Attribute Name="{name}"{spoken}>{inner}</saml:Attribute>'


def assertion_xml(
    *,
    issuer: str = ISSUER,
    name_id: str = TERN,
    name_format: str | None = EMAIL,
    audiences: str | None = None,
    recipient: str | None = ACS,
    request: str | None = "_rq1",
    begins: str = "2026-11-20T08:13:03Z",
    ends: str = "2026-11-20T08:19:03Z",
    confirmed_until: str | None = None,
    issued: str = ISSUED,
    authenticated: str = "2026-11-20T08:13:43Z",
    session_end: str = "2026-11-20T16:14:03Z",
    attributes: str | None = None,
    identifier: str = "_as1",
    method: str = "urn:oasis:names:tc:SAML:2.0:cm:bearer",
    confirmation: str = "",
    statement: bool = True,
    version: str = "2.0",
    subject: str | None = None,
) -> str:
    """A SAML 2.0 assertion; each part can be told."""
    restriction = (
        f"<saml:AudienceRestriction><saml:Audience>{AUDIENCE}</saml:Audience></saml:AudienceRestriction>"
        if audiences is None
        else audiences
    )
    replies = f' InResponseTo="{request}"' if request else ""
    to = f' Recipient="{recipient}"' if recipient else ""
    until = f' NotOnOrAfter="{confirmed_until or ends}"' if confirmed_until != "" else ""
    shaped = f' Format="{name_format}"' if name_format else ""
    who = f"<saml:NameID{shaped}>{name_id}</saml:NameID>" if subject is None else subject
    given = attribute("role", "mate") if attributes is None else attributes
    authn = (
        f'<saml:AuthnStatement AuthnInstant="{authenticated}" SessionIndex="_se1" SessionNotOnOrAfter="{session_end}">'
        "<saml:AuthnContext><saml:AuthnContextClassRef>urn:oasis:names:tc:SAML:2.0:ac:classes:Password"
        "</saml:AuthnContextClassRef></saml:AuthnContext></saml:AuthnStatement>"
        if statement
        else ""
    )
    return (
        f'<saml:Assertion xmlns:saml="{SAML}" ID="{identifier}" Version="{version}" IssueInstant="{issued}">'
        f'<saml:Issuer>{issuer}</saml:Issuer><saml:Subject>{who}<saml:SubjectConfirmation Method="{method}">'
        f"<saml:SubjectConfirmationData{until}{to}{replies}{confirmation}/></saml:SubjectConfirmation></saml:Subject>"
        f'<saml:Conditions NotBefore="{begins}" NotOnOrAfter="{ends}">{restriction}</saml:Conditions>{authn}'
        + (f"<saml:AttributeStatement>{given}</saml:AttributeStatement>" if given else "")
        + "</saml:Assertion>"
    )


def response(
    *,
    signed: str = "assertion",
    signing: dict[str, Any] | None = None,
    edit: Edit | None = None,
    destination: str | None = ACS,
    response_issuer: str | None = None,
    status: tuple[str, ...] = ("Success",),
    message: str = "",
    response_id: str = "_rs1",
    response_version: str = "2.0",
    response_request: str | None = None,
    inner: str | None = None,
    **assertion: Any,
) -> bytes:
    """A SAML response, signed as told, changed by `edit` after signing."""
    issuer = response_issuer or assertion.get("issuer", ISSUER)
    request = response_request if response_request is not None else assertion.get("request", "_rq1")
    codes = "".join(f'<samlp:StatusCode Value="{STATUS}{code}">' for code in status)
    said = f"<samlp:StatusMessage>{message}</samlp:StatusMessage>" if message else ""
    to = f' Destination="{destination}"' if destination else ""
    replies = f' InResponseTo="{request}"' if request else ""
    root = etree.fromstring(
        f'<samlp:Response xmlns:samlp="{SAMLP}" xmlns:saml="{SAML}" ID="{response_id}" Version="{response_version}" '
        f'IssueInstant="{assertion.get("issued", ISSUED)}"{to}{replies}><saml:Issuer>{issuer}</saml:Issuer>'
        f"<samlp:Status>{codes}{'</samlp:StatusCode>' * len(status)}{said}</samlp:Status></samlp:Response>"
    )
    if status == ("Success",):
        one = etree.fromstring(assertion_xml(**assertion) if inner is None else inner)
        if signed in ("assertion", "both"):
            sign(one, **(signing or {}))
        root.append(one)
    if signed in ("response", "both"):
        sign(root, **(signing or {}))
    if edit:
        edit(root)
    return etree.tostring(root)


SSO = "https://id.northmere.example/saml/sso"


def authn_request(
    inner: str = "",
    *,
    issuer: str = AUDIENCE,
    acs: str | None = ACS,
    destination: str | None = SSO,
    identifier: str = "_rq1",
    issued: str = "2026-11-20T08:13:30Z",
    extra: str = "",
) -> etree._Element:
    """A SAML 2.0 AuthnRequest; `inner` stands after its Issuer, `extra` among its attributes."""
    to = f' Destination="{destination}"' if destination else ""
    back = f' AssertionConsumerServiceURL="{acs}"' if acs else ""
    return etree.fromstring(
        f'<samlp:AuthnRequest xmlns:samlp="{SAMLP}" xmlns:saml="{SAML}" ID="{identifier}" Version="2.0" '
        f'IssueInstant="{issued}"{to}{back} {extra}><saml:Issuer>{issuer}</saml:Issuer>{inner}</samlp:AuthnRequest>'
    )


def logout_request(
    name: str = TERN,
    session: str = "_se1",
    *,
    issuer: str = ISSUER,
    destination: str = SLO,
    identifier: str = "_lo1",
    issued: str = "2026-11-20T09:00:00Z",
    extra: str = "",
) -> etree._Element:
    """A SAML 2.0 LogoutRequest."""
    return etree.fromstring(
        f'<samlp:LogoutRequest xmlns:samlp="{SAMLP}" xmlns:saml="{SAML}" ID="{identifier}" Version="2.0" '
        f'IssueInstant="{issued}" Destination="{destination}" {extra}><saml:Issuer>{issuer}</saml:Issuer>'
        f'<saml:NameID Format="{EMAIL}">{name}</saml:NameID><samlp:SessionIndex>{session}</samlp:SessionIndex>'
        "</samlp:LogoutRequest>"
    )


def logout_response(
    *,
    request: str = "_lo1",
    status: tuple[str, ...] = ("Success",),
    issuer: str = AUDIENCE,
    destination: str = "https://id.northmere.example/saml/slo",
) -> etree._Element:
    """A SAML 2.0 LogoutResponse."""
    codes = "".join(f'<samlp:StatusCode Value="{STATUS}{code}">' for code in status)
    return etree.fromstring(
        f'<samlp:LogoutResponse xmlns:samlp="{SAMLP}" xmlns:saml="{SAML}" ID="_lr1" Version="2.0" '
        f'IssueInstant="2026-11-20T09:00:02Z" Destination="{destination}" InResponseTo="{request}">'
        f"<saml:Issuer>{issuer}</saml:Issuer><samlp:Status>{codes}{'</samlp:StatusCode>' * len(status)}</samlp:Status>"
        "</samlp:LogoutResponse>"
    )


def redirect(
    message: etree._Element,
    signer: str | None = None,
    *,
    field: str = "SAMLRequest",
    relay: str | None = "ss:4d1f",
    address: str = SSO,
    method: str = MORE + "rsa-sha256",
) -> bytes:
    """A message in the query of a redirect (Bindings §3.4.4.1), signed where a signer is named."""
    squeeze = zlib.compressobj(9, zlib.DEFLATED, -15)
    octets = squeeze.compress(etree.tostring(message)) + squeeze.flush()
    query = f"{field}={quote(base64.b64encode(octets).decode(), safe='')}"
    query += f"&RelayState={quote(relay, safe='')}" if relay is not None else ""
    if signer:
        query += f"&SigAlg={quote(method, safe='')}"
        made = raw_signature(key(signer), query.encode(), hashes.SHA256())
        query += f"&Signature={quote(base64.b64encode(made).decode(), safe='')}"
    return f"{address}?{query}".encode()


def posted(message: bytes, field: str = "SAMLResponse", **beside: str) -> bytes:
    """A message in the body of a form post."""
    return urlencode({field: base64.b64encode(message).decode(), **beside}).encode()


def sp_metadata(inner: str = "", *, entity_id: str = AUDIENCE, signer: str = "app", extra: str = "") -> str:
    """A service provider's metadata with one key for signing and encryption."""
    return (
        f'<md:EntityDescriptor xmlns:md="{METADATA}" xmlns:ds="{DS}" entityID="{entity_id}" {extra}>'
        f'<md:SPSSODescriptor protocolSupportEnumeration="{SAMLP}"><md:KeyDescriptor><ds:KeyInfo><ds:X509Data>'
        f"<ds:X509Certificate>{bare(certificate(signer))}</ds:X509Certificate></ds:X509Data></ds:KeyInfo>"
        f'</md:KeyDescriptor><md:SingleLogoutService Binding="{BINDINGS}HTTP-Redirect" Location="{SLO}"/>'
        f'<md:AssertionConsumerService Binding="{BINDINGS}HTTP-POST" Location="{ACS}" index="0"/>{inner}'
        "</md:SPSSODescriptor></md:EntityDescriptor>"
    )


def idp_metadata(
    inner: str = "",
    *,
    entity_id: str = ISSUER,
    signers: tuple[str, ...] = ("id",),
    extra: str = "",
    role: str = "",
) -> str:
    """An identity provider's metadata."""
    keys = "".join(
        f'<md:KeyDescriptor use="signing"><ds:KeyInfo><ds:X509Data><ds:X509Certificate>{bare(certificate(one))}'
        "</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>"
        for one in signers
    )
    return (
        f'<md:EntityDescriptor xmlns:md="{METADATA}" xmlns:ds="{DS}" entityID="{entity_id}" {extra}>'
        f'<md:IDPSSODescriptor protocolSupportEnumeration="{SAMLP}" {role}>{keys}<md:SingleLogoutService '
        f'Binding="{BINDINGS}HTTP-Redirect" Location="https://id.northmere.example/saml/slo"/>{inner}'
        f'<md:SingleSignOnService Binding="{BINDINGS}HTTP-Redirect" Location="{SSO}"/>'
        "</md:IDPSSODescriptor></md:EntityDescriptor>"
    )


PROVIDER = f"""name = "Northmere ID"
entity_id = "{ISSUER}"
certificates = ["certs/id.pem"]
email_domains = ["northmere.example"]
"""
APP: dict[str, Any] = {
    "name": "Crew Roster",
    "provider": "northmere-id",
    "application": {
        "entity_id": AUDIENCE,
        "acs_urls": [ACS],
        "provider_entity_id": ISSUER,
        "trusted_certificates": ["certs/id.pem"],
        "accepts_unsolicited": True,
    },
}


def toml(table: dict[str, Any], path: str = "") -> str:
    """A table as TOML; nested tables and lists of tables under their own headers."""
    plain, nested = [], []
    for name, value in table.items():
        if isinstance(value, dict):
            nested.append(f"\n[{path}{name}]\n{toml(value, f'{path}{name}.')}")
        elif isinstance(value, list) and value and isinstance(value[0], dict) and name in ("claims", "accepted"):
            nested += [f"\n[[{path}{name}]]\n{toml(one, f'{path}{name}.')}" for one in value]
        else:
            plain.append(f"{name} = {_inline(value)}")
    return "\n".join([*plain, *nested]) + "\n"


def _inline(value: Any) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{name} = {_inline(one)}" for name, one in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(map(_inline, value)) + "]"
    return json.dumps(value)


def merged(base: dict[str, Any], changes: dict[str, Any]) -> dict[str, Any]:
    """A table with changes laid over it; None takes a key out."""
    result = dict(base)
    for name, value in changes.items():
        if value is None:
            result.pop(name, None)
        elif isinstance(value, dict) and isinstance(result.get(name), dict):
            result[name] = merged(result[name], value)
        else:
            result[name] = value
    return result


def workspace(
    folder: Path,
    app: dict[str, Any] | None = None,
    files: dict[str, str] | None = None,
    provider: str = PROVIDER,
    main: str = "",
) -> Path:
    """A workspace with one provider and one application, changed as told; `files` are further ones."""
    written = {
        "trace-lens.toml": main,
        "providers/northmere-id.toml": provider,
        "apps/crew-roster.toml": toml(merged(APP, app or {})),
        "certs/id.pem": pem(certificate("id")),
        **(files or {}),
    }
    for name, text in written.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")
    return folder


def attempts_in(data: bytes) -> list[SamlAttempt]:
    """The attempts that the SAML messages of a text make; whatever makes the program fail fails the test."""
    faults = Faults()
    made = assemble_saml(read_messages("capture", peel(data), faults))
    assert not faults.told, faults.told
    return made


def judge(data: bytes, folder: Path, at: str | None = None, app: str | None = None) -> Diagnosis:
    """The diagnosis of the first attempt in some octets."""
    moment = datetime.fromisoformat(at) if at else None
    attempt = attempts_in(data)[0]
    return diagnose(attempt, load_workspace(folder), Options(NOW, moment, app))


def broke(found: Diagnosis) -> str | None:
    """The code of the first break."""
    return found.first_break.code if found.first_break else None


Done = subprocess.CompletedProcess[bytes]


def run_program(*arguments: str, folder: Path | None = None, stdin: bytes = b"", **environment: str) -> Done:
    """Run the installed program as a process of its own."""
    program = Path(sys.executable).with_name("trace-lens")
    inherited = {name: value for name, value in os.environ.items() if name not in ("NO_COLOR", "COLUMNS")}
    return subprocess.run(
        [str(program), *arguments],
        cwd=folder,
        input=stdin,
        capture_output=True,
        env={**inherited, **environment},
        check=False,
    )


def run(*arguments: str, folder: Path | None = None, stdin: bytes = b"", **environment: str) -> Done:
    """Run the command line in this process, as if started in a folder: far quicker than a process of its own."""
    from click.testing import CliRunner

    from trace_lens import cli

    told = {"NO_COLOR": None, "COLUMNS": None, **environment}
    with contextlib.chdir(folder or Path.cwd()), CliRunner().isolation(stdin, told) as streams:
        status = cli._run(arguments)
        sys.stdout.flush()
        sys.stderr.flush()
        return subprocess.CompletedProcess(arguments, status, streams[0].getvalue(), streams[1].getvalue())


def run_json(*arguments: str, folder: Path | None = None, stdin: bytes = b"") -> tuple[int, Any]:
    """The same with `--format json`: its exit status and what it wrote."""
    done = run(*arguments, "--format", "json", folder=folder, stdin=stdin)
    assert done.stdout, done.stderr.decode()
    return done.returncode, json.loads(done.stdout)


def parse_all(data: bytes) -> list[Any]:
    """The attempts in some octets."""
    return attempts_in(data)
