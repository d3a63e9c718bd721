"""The demo workspace as files: settings of both sides, certificates, lists, and the captures."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography.hazmat.primitives import hashes

from trace_lens.demo.captured import Capture
from trace_lens.demo.captures import captures
from trace_lens.demo.clients import CURRENT, ISSUER, RETIRED, client_files
from trace_lens.demo.keys import SigningKey, make_key
from trace_lens.demo.logs import log_files
from trace_lens.demo.scenario import (
    APPLICATIONS,
    GUESTS,
    NAME_ID_FORMAT,
    PARTNER,
    PEOPLE,
    PROVIDER,
    PROVIDER_SLO,
    PROVIDER_SSO,
    ROLLOVER,
    Application,
)

_METADATA = "urn:oasis:names:tc:SAML:2.0:metadata"
_BINDING = "urn:oasis:names:tc:SAML:2.0:bindings:"


@dataclass(frozen=True, slots=True)
class Earlier:
    """A document of the provider as somebody fetched it at a moment."""

    document: str
    data: bytes
    at: datetime


@dataclass(frozen=True, slots=True)
class Demo:
    """What was written: the folder, the captures, the number of files; and documents as they were earlier."""

    folder: Path
    captures: tuple[Capture, ...]
    files: int
    earlier: tuple[Earlier, ...]


class DemoExists(Exception):
    """The folder holds something already, and nothing is overwritten."""


def make_keys() -> dict[str, SigningKey]:
    """The keys of the story: the provider's old and new one, the partner's, and a stranger's."""
    ours, partner = "Northmere Ferries", "Skerry Pilots"
    return {
        "id-2025": make_key(
            "Northmere ID 2025", datetime(2024, 12, 1, tzinfo=UTC), datetime(2026, 12, 1, tzinfo=UTC), ours
        ),
        "id-2026": make_key(
            "Northmere ID 2026", datetime(2026, 11, 2, tzinfo=UTC), datetime(2028, 11, 2, tzinfo=UTC), ours
        ),
        "cargo-manifest": make_key(
            "Cargo Manifest 2026", datetime(2026, 3, 1, tzinfo=UTC), datetime(2029, 3, 1, tzinfo=UTC), ours
        ),
        "cargo-manifest-2023": make_key(
            "Cargo Manifest 2023", datetime(2023, 3, 1, tzinfo=UTC), datetime(2026, 3, 1, tzinfo=UTC), ours
        ),
        "quay-passes": make_key(
            "Quay Passes", datetime(2025, 6, 1, tzinfo=UTC), datetime(2028, 6, 1, tzinfo=UTC), ours
        ),
        **{
            name: make_key(name, datetime(2026, 5, 1, tzinfo=UTC), datetime(2028, 5, 1, tzinfo=UTC), ours)
            for name in (CURRENT, RETIRED, "night-watch")
        },
        "skerry": make_key(
            "Skerry Pilots SSO", datetime(2025, 3, 1, tzinfo=UTC), datetime(2027, 3, 1, tzinfo=UTC), partner
        ),
    }


def write_demo(folder: Path) -> Demo:
    """Write the whole workspace. Raises DemoExists where the folder is not empty, OSError."""
    if folder.exists() and any(folder.iterdir()):
        raise DemoExists(str(folder))
    keys = make_keys()
    told = captures(keys)
    made = tuple(capture for capture, _ in told)
    files = (
        {f"captures/{capture.file}": capture.data for capture in made}
        | {"README.md": _readme(made).encode()}
        | log_files(told)
    )
    written = write_settings(folder, keys) + _write(folder, files)
    return Demo(folder, made, written, tuple(_earlier(keys)))


def _earlier(keys: dict[str, SigningKey]) -> Iterator[Earlier]:
    """The documents that change with the key: a day before, and just after."""
    now = _settings(keys)
    before = {
        "metadata/northmere-id.xml": _provider_metadata(keys["id-2025"]).encode(),
        "discovery/northmere-id.keys.json": now["discovery/northmere-id.keys-2026-05.json"],
    }
    for document, data in before.items():
        yield Earlier(document, data, ROLLOVER - timedelta(days=1, hours=2))
        yield Earlier(document, now[document], ROLLOVER + timedelta(minutes=20))


def _readme(made: tuple[Capture, ...]) -> str:
    """What the captures cannot tell by themselves: when a message arrived."""
    told = "\n".join(
        f"    trace-lens diagnose captures/{capture.file} --at {capture.arrived:%Y-%m-%dT%H:%M:%SZ}"
        for capture in made
        if capture.arrived
    )
    return (
        "# Northmere Ferries\n\nA made-up company's sign-ins of 9 to 20 November 2026. A captured message does not "
        "tell when it arrived. Where the clocks matter, the moment has to be told:\n\n" + told + "\n"
    )


def write_settings(folder: Path, keys: dict[str, SigningKey]) -> int:
    """Write the settings alone, without captures; the number of files."""
    return _write(folder, _settings(keys))


def _write(folder: Path, files: dict[str, bytes]) -> int:
    for name, data in files.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        secret = path.parent.name == "keys"
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600 if secret else 0o666)
        with os.fdopen(handle, "wb") as stream:
            if secret:
                os.fchmod(handle, 0o600)
            stream.write(data)
    return len(files)


def _settings(keys: dict[str, SigningKey]) -> dict[str, bytes]:
    files = {
        "trace-lens.toml": 'clock_skew = "3m"\nwarn_before = "30d"\n',
        "providers/northmere-id.toml": (
            'name = "Northmere ID"\nmetadata = "metadata/northmere-id.xml"\nemail_domains = ["northmere.example"]\n'
            f'issuer = "{ISSUER}"\ndiscovery = "discovery/northmere-id.json"\n'
            'key_set = "discovery/northmere-id.keys.json"\n'
            'left_out_markers = ["groups_elsewhere"]\nmost_groups = { assertion = 64, token = 250, url = 20 }\n'
            "guest_pattern = '^(?P<local>[^@~]+)_(?P<domain>[a-z0-9.-]+)~guest@'\n"
        ),
        "providers/skerry-pilots.toml": (
            f'name = "Skerry Pilots SSO"\nentity_id = "{PARTNER}"\ncertificates = ["certs/skerry.pem"]\n'
            'email_domains = ["skerry-pilots.example"]\n'
        ),
        "metadata/northmere-id.xml": _provider_metadata(keys["id-2026"]),
        **{f"certs/{name}.pem": key.pem for name, key in keys.items() if name in ("id-2025", "id-2026", "skerry")},
        "certs/cargo-manifest-2023.pem": keys["cargo-manifest-2023"].pem,
    }
    old = keys["id-2025"].fingerprint(hashes.SHA256())
    for application in APPLICATIONS:
        files[f"apps/{application.id}.toml"] = "\n".join(_app(application, old)) + "\n"
        files[f"accounts/{application.id}.csv"] = _accounts(application)
        files[f"assignments/{application.id}.csv"] = _assignments(application)
        if application.metadata:
            files[f"metadata/{application.id}.xml"] = _application_metadata(application, keys[application.id])
        if application.at_provider.encrypted:
            files[f"keys/{application.id}.key"] = keys[application.id].private_pem
    files |= client_files(keys)
    return {name: text.encode() for name, text in files.items()}


def _provider_metadata(key: SigningKey) -> str:
    return (
        f'<md:EntityDescriptor xmlns:md="{_METADATA}" entityID="{PROVIDER}">\n'
        '  <md:IDPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">\n'
        '    <md:KeyDescriptor use="signing"><ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:X509Data>'
        f"<ds:X509Certificate>{key.base64}</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>\n"
        f'    <md:SingleLogoutService Binding="{_BINDING}HTTP-Redirect" Location="{PROVIDER_SLO}"/>\n'
        f"    <md:NameIDFormat>{NAME_ID_FORMAT}</md:NameIDFormat>\n"
        f'    <md:SingleSignOnService Binding="{_BINDING}HTTP-Redirect" Location="{PROVIDER_SSO}"/>\n'
        "  </md:IDPSSODescriptor>\n</md:EntityDescriptor>\n"
    )


def _application_metadata(application: Application, key: SigningKey) -> str:
    slo = f"{application.base}/saml/slo"
    return (
        f'<md:EntityDescriptor xmlns:md="{_METADATA}" entityID="{application.entity_id}">\n'
        '  <md:SPSSODescriptor protocolSupportEnumeration="urn:oasis:names:tc:SAML:2.0:protocol">\n'
        '    <md:KeyDescriptor><ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:X509Data>'
        f"<ds:X509Certificate>{key.base64}</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>\n"
        f'    <md:SingleLogoutService Binding="{_BINDING}HTTP-Redirect" Location="{slo}"/>\n'
        f"    <md:NameIDFormat>{NAME_ID_FORMAT}</md:NameIDFormat>\n"
        f'    <md:AssertionConsumerService Binding="{_BINDING}HTTP-POST" Location="{application.acs_url}" index="0"/>\n'
        "  </md:SPSSODescriptor>\n</md:EntityDescriptor>\n"
    )


def _app(application: Application, old_fingerprint: str) -> Iterator[str]:
    pins = ", ".join(f'"{pin}"' for pin in application.pins)
    pins = pins.replace("sha256 of certs/id-2025.pem", f"sha256:{old_fingerprint}")
    yield from (
        f'name = "{application.name}"',
        'protocol = "saml"',
        'provider = "northmere-id"',
        'owner = "crew-systems@northmere.example"',
        f"users = {application.users}",
        "",
        "[application]",
        f'entity_id = "{application.entity_id}"',
        f'acs_urls = ["{application.acs_url}"]',
        f'sign_in_url = "{application.base}/"',
        f'provider_entity_id = "{PROVIDER}"',
        f'provider_sso_url = "{PROVIDER_SSO}"',
        f"trusted_certificates = [{pins}]",
        f'signed_part = "{application.at_provider.signed_part}"',
        f"accepts_unsolicited = {str(application.unsolicited).lower()}",
        *([] if application.id == "fuel-ledger" else [f'name_id_format = "{NAME_ID_FORMAT}"']),
        *([f'metadata = "metadata/{application.id}.xml"'] if application.metadata else []),
        *application.lines.application,
        "",
        "[provider_setup]",
        f'audience = "{application.at_provider.audience or application.entity_id}"',
        f'acs_url = "{application.acs_url}"',
        f'assigned = "assignments/{application.id}.csv"',
        *application.lines.setup,
        "",
        "[account]",
        'from = "NameID"',
        f'list = "accounts/{application.id}.csv"',
        *application.lines.account,
    )
    for rule in application.lines.subject:
        yield from ("", "[[provider_setup.subject]]", *rule)
    for claim in application.claims:
        yield from ("", "[[claims]]", f'name = "{claim.name}"', *claim.lines)
    if application.lines.accepted:
        yield from ("", "[[accepted]]", *application.lines.accepted)


def _accounts(application: Application) -> str:
    short = application.id == "fuel-ledger"
    rows = [
        f"{person.login if short else person.email},{person.email},{person.held},yes" for person in application.people
    ]
    return "\n".join(["user,email,login,active", *rows]) + "\n"


def _assignments(application: Application) -> str:
    """Assigned groups with their members spelt out as users, as exports of providers often give them."""
    rows = []
    for name in application.at_provider.assigned:
        if "@" in name:
            rows.append(f"{name},")
        else:
            rows += [f"{person.email},{name}" for person in (*PEOPLE, *GUESTS) if name in person.groups]
    return "\n".join(["user,group", *rows]) + "\n"
