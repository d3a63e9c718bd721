"""What is fuzzed: each reader as a function of octets that must give something, or refuse by an error of its own.

Used by `benchmarks/fuzz/fuzz.py` (coverage-guided, long) and by `test_fuzz.py` (Hypothesis, short and the same each time).
"""

from __future__ import annotations

import contextlib
import io
import json
from collections.abc import Callable, Iterator
from datetime import UTC, datetime
from pathlib import Path

from lxml import etree

from trace_lens.common.limits import Refused
from trace_lens.common.masking import Masks
from trace_lens.decoding.summaries import certificate_summary
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.diagnosis.laying_open import lay_open_sources
from trace_lens.intake.commands import read_commands
from trace_lens.intake.har import NoHar, is_har, read_har
from trace_lens.intake.heads import read_heads
from trace_lens.intake.oauth import oidc_in
from trace_lens.intake.peeling import peel
from trace_lens.logs.formats.events import events_of, rows_of, time_form
from trace_lens.logs.formats.records import unpacked
from trace_lens.logs.formats.rows import Unreadable
from trace_lens.logs.formats.times import TimeReader
from trace_lens.logs.recognising.forms import form_of
from trace_lens.oidc.encryption import Broken, NotForKey, decrypt
from trace_lens.oidc.encryption import Refused as NotOpened
from trace_lens.oidc.jose import JoseDamaged, read_jwe, read_jws
from trace_lens.oidc.jwk import read_key_set, thumbprint
from trace_lens.oidc.strict_json import JsonDamaged, read_json
from trace_lens.oidc.tokens import NoClaims, read_token
from trace_lens.pki.certificates import CertificateError, read_certificate
from trace_lens.pki.containers import ContainerError, certificates_of_pkcs7, open_pkcs12
from trace_lens.pki.pem import certificates_in
from trace_lens.render import as_json
from trace_lens.saml.encryption import DecryptionFailed, EncryptionRefused, OtherKey
from trace_lens.saml.encryption import decrypt as decrypt_xml
from trace_lens.saml.metadata import scan
from trace_lens.saml.parsing import XMLDamaged, parse
from trace_lens.saml.reading import read_response
from trace_lens.saml.signature import duplicate_ids, signatures_in
from trace_lens.workspace import lists
from trace_lens.workspace.account_rows import ListError
from trace_lens.workspace.changes import read_changes
from trace_lens.workspace.loading import load_workspace
from trace_lens.workspace.log_settings import LogSettings
from trace_lens.workspace.log_sources import LogSource
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.settings import read_table
from trace_lens.workspace.sources import SourceFile

_NOW = datetime(2026, 11, 20, 9, tzinfo=UTC)
_LOG_FORMATS = ("csv", "jsonl", "json", "ocsf", "syslog", "w3c", "combined", "parquet")


def _key() -> object:
    from cryptography.hazmat.primitives.asymmetric import rsa

    return rsa.generate_private_key(65537, 2048)


_KEYS: list[object] = []


def our_key() -> object:
    """A key of ours, made once for a process."""
    if not _KEYS:
        _KEYS.append(_key())
    return _KEYS[0]


def peeling(data: bytes) -> None:
    """The search over layers, with all grammars of messages."""
    peel(data)


def export(data: bytes) -> None:
    """HTTP Archive, also compressed."""
    if is_har(data[:65536]):
        try:
            read_har(io.BytesIO(data))
        except NoHar:
            return


def heads(data: bytes) -> None:
    """Heads of requests and responses."""
    read_heads(data)


def commands(data: bytes) -> None:
    """Shell commands and lines of a web server's log."""
    read_commands(data)


def oauth(data: bytes) -> None:
    """Tokens, documents and parameters in a text."""
    try:
        oidc_in(data)
    except Refused:
        return


def xml(data: bytes) -> None:
    """A SAML message: parsed, read, its signatures judged by form and digest."""
    try:
        root = parse(data)
    except XMLDamaged:
        return
    duplicate_ids(root)
    read_response(root)
    signatures_in(root)


def xml_encryption(data: bytes) -> None:
    """Encrypted elements, opened with a key of ours."""
    try:
        root = parse(data)
    except XMLDamaged:
        return
    for element in (root, *root.iter(etree.Element)):
        try:
            decrypt_xml(element, our_key())  # type: ignore[arg-type]
        except (EncryptionRefused, OtherKey, DecryptionFailed):
            continue


def jose(data: bytes) -> None:
    """JWS and JWE, and what is in them."""
    text = data.decode("utf-8", "replace")
    with contextlib.suppress(JoseDamaged, NoClaims):
        read_token(read_jws(text))
    try:
        decrypt(read_jwe(text), our_key())
    except (JoseDamaged, NotOpened, NotForKey, Broken):
        return


def keys(data: bytes) -> None:
    """Key sets and single keys."""
    try:
        document = read_json(data).value
    except JsonDamaged:
        return
    for key in read_key_set(document, own=True):
        thumbprint(key)
        str(key.words)
        bool(key.weakness)


def pki(data: bytes) -> None:
    """Certificates, damaged pastes of them, containers."""
    for pasted in certificates_in(data):
        if pasted.der:
            try:
                certificate = read_certificate(pasted.der)
            except CertificateError:
                continue
            certificate_summary(certificate)
    for opening in (certificates_of_pkcs7, lambda octets: open_pkcs12(octets, None)):
        try:
            opening(data)
        except ContainerError:
            continue


def metadata(data: bytes) -> None:
    """SAML metadata, streamed."""
    try:
        scan(data)
    except XMLDamaged:
        return


def log_of(form: str) -> Callable[[bytes], None]:
    """A log file in one format, as a description reads it."""

    def reader(data: bytes) -> None:
        told = read_table(
            LogSettings,
            {
                "role": "provider",
                "format": form,
                "rows": "rows" if data[:1] == b"{" and form == "json" else None,
                "fields": {"time": "time", "user": "user", "reason": "reason", "ids": ["session", "id"]},
            },
        )
        source = LogSource("x", "logs/x.toml", told)
        try:
            rows = rows_of(unpacked(io.BytesIO(data)), source)
            for _ in events_of(source, "x", rows, TimeReader(time_form(source), descending=False)):
                pass
            form_of(data[:65536])
        except Unreadable:
            return

    reader.__name__ = f"log_{form}"
    return reader


def account_lists(data: bytes) -> None:
    """Lists of accounts, assignments, members and changes, in every format."""
    for reader in (
        lambda octets: lists.read_accounts(octets, None),
        lists.read_assignments,
        lists.read_members,
        read_changes,
    ):
        try:
            reader(data)
        except ListError:
            continue


def settings_in(folder: Path) -> Callable[[bytes], None]:
    """Settings of an application, a provider and the whole, in a folder of its own."""

    def settings(data: bytes) -> None:
        plain = {"trace-lens.toml": b"", "apps/a.toml": b"", "providers/p.toml": b'name = "P"\n'}
        for name in plain:
            for other, text in (plain | {name: data}).items():
                (folder / other).parent.mkdir(exist_ok=True, parents=True)
                (folder / other).write_bytes(text)
            try:
                load_workspace(folder)
            except SettingsError:
                continue

    return settings


def whole(data: bytes) -> None:
    """One source from its octets to the JSON of `decode` and `diagnose`; a fault of the program fails here."""
    source = [SourceFile("x", data)]
    options = Options(_NOW)
    laid, unread = lay_open_sources(source, Workspace(), _NOW)
    result = diagnose_sources(source, Workspace(), options, workers=1)
    masks = Masks()
    json.loads(as_json.line(as_json.opened(laid, unread, masks)))
    json.loads(as_json.line(as_json.diagnoses(result.diagnoses, [], masks, result.unplaced)))
    faults = [because for _, because in (*unread, *result.unreadable) if "fault of trace-lens" in because]
    assert not faults, faults


def readers(folder: Path) -> dict[str, Callable[[bytes], None]]:
    """Every reader by its name; `folder` is for those that need files."""
    of_messages = (peeling, export, heads, commands, oauth, xml, xml_encryption, jose, keys, pki, metadata, whole)
    return {
        **{reader.__name__: reader for reader in (*of_messages, account_lists)},
        **{f"log_{form}": log_of(form) for form in _LOG_FORMATS},
        "settings": settings_in(folder),
    }


def seeds(demo: Path) -> Iterator[bytes]:
    """What a fuzzer begins with: the demo's captures, settings, keys and logs, each at most 64 KiB of it."""
    for path in sorted(demo.rglob("*")):
        if path.is_file() and ".trace-lens" not in path.parts:
            yield path.read_bytes()[:65536]
