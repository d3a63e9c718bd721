"""The settings that redacted copies need to be diagnosed, and no more, redacted by the same key.

The files of the application and of the provider, the documents and certificates that they name, and of the lists of
accounts, groups and assignments the lines of those concerned. A private key is never among them: a new one stands in.
"""

from __future__ import annotations

import csv
import io
import json
import re
import secrets
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import Any

import tomli
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, PublicFormat

from trace_lens.common.octets import as_utf8
from trace_lens.common.toml import document_of
from trace_lens.common.tuples import NamedTuple
from trace_lens.handover.redaction.files import FileCopy
from trace_lens.handover.redaction.kept import RUN, Kept
from trace_lens.handover.redaction.substitutes import folded
from trace_lens.oidc.jose import to_base64url
from trace_lens.pki.certificates import certificate_or_none
from trace_lens.pki.fingerprints import is_fingerprint
from trace_lens.workspace.changes import CHANGES_FILE
from trace_lens.workspace.loading import ROOT_FILE
from trace_lens.workspace.private_keys import STANDS_IN_FOR, key_print, readable_key
from trace_lens.workspace.problems import Problem, SettingsError
from trace_lens.workspace.records import EVERYONE, App, Provider, Workspace

_SHORT_NAME = 3


class Needed(NamedTuple):
    """What of a workspace some captures need: its applications and providers by name, and further files."""

    apps: frozenset[str]
    providers: frozenset[str]
    files: frozenset[str]


class SettingsCopy:
    """Writes a small workspace. `stand_ins` are the octets of the public halves of keys, each with its stand-in's."""

    def __init__(self, workspace: Workspace, files: FileCopy, kept: Kept) -> None:
        self._workspace, self._files, self._kept = workspace, files, kept
        self.stand_ins: dict[bytes, bytes] = {}

    def write(self, folder: Path, needed: Needed) -> list[str]:
        """Write it; the names of its files come back, in order. Raises SettingsError, OSError."""
        made = dict(self._settings(needed))
        for name in sorted(needed.files - made.keys()):
            data = self._of_file(name)
            if data is not None:
                made[name] = data
        outside = [name for name in made if not (folder / name).resolve().is_relative_to(folder.resolve())]
        if outside:
            raise SettingsError(
                [Problem(name, 1, "", "is outside this workspace, so a copy of it cannot hold it") for name in outside]
            )
        for name, data in made.items():
            target = folder / name
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
        return sorted(made)

    def _settings(self, needed: Needed) -> Iterator[tuple[str, bytes]]:
        root = self._workspace.root
        if root is None:
            return
        told = tomli.loads(as_utf8((root / ROOT_FILE).read_bytes()).decode("utf-8-sig"))
        yield ROOT_FILE, document_of({key: value for key, value in told.items() if key != "store"}).as_string().encode()
        for name in sorted(needed.apps & self._workspace.apps.keys()):
            yield from self._of_app(self._workspace.apps[name])
        for name in sorted(needed.providers & self._workspace.providers.keys()):
            yield from self._of_provider(self._workspace.providers[name])
        if (root / CHANGES_FILE).is_file():
            yield CHANGES_FILE, self._changes((root / CHANGES_FILE).read_bytes(), needed)

    def _of_app(self, app: App) -> Iterator[tuple[str, bytes]]:
        yield app.source.file, self._files.settings(app.source.text).encode()
        told = app.settings
        for name in (told.application.saml.metadata, *_files(told.application.saml.trusted_certificates)):
            yield from self._named(name)
        for name in _files(told.application.saml.seen_certificates):
            yield from self._named(name)
        if key := told.application.decryption_key:
            yield key, self._key(app)
        if name := told.account.list_file:
            yield name, self._people(app.source.read(name))
        if name := told.account.groups:
            yield name, self._people(app.source.read(name), group_column="group")
        if (name := told.provider_setup.assigned) and name != EVERYONE:
            yield name, self._people(app.source.read(name), group_column="group")

    def _of_provider(self, provider: Provider) -> Iterator[tuple[str, bytes]]:
        yield provider.source.file, self._files.settings(provider.source.text).encode()
        told = provider.settings
        for name in (told.metadata, told.discovery, told.key_set, *_files(told.certificates)):
            yield from self._named(name)

    def _named(self, name: str | None) -> Iterator[tuple[str, bytes]]:
        data = self._of_file(name) if name else None
        if name and data is not None:
            yield name, data

    def _of_file(self, name: str) -> bytes | None:
        """A document, certificate or key set; None where it is none of the workspace."""
        root = self._workspace.root
        if root is None or "://" in name or not (root / name).is_file():
            return None
        data = (root / name).read_bytes()
        if data[:1] == b"\x30":
            return data if certificate_or_none(data) else None
        return self._files.of(data, name)

    def _key(self, app: App) -> bytes:
        """A new key of the same kind, in the place of one that opens what is encrypted for an application."""
        private: Any = readable_key(app)
        if isinstance(private, bytes):
            self.stand_ins[b"shared"] = b"shared"
            return json.dumps({"kty": "oct", "k": to_base64url(secrets.token_bytes(len(private)))}).encode()
        made: Any
        if isinstance(private, ec.EllipticCurvePrivateKey):
            made = ec.generate_private_key(private.curve)
        elif private is None or isinstance(private, rsa.RSAPrivateKey):
            made = rsa.generate_private_key(65537, private.key_size if private else 2048)
        else:
            made = type(private).generate()
        words = "This is no key of anybody: it keeps the place of one that is not handed out.\n"
        if private is not None:
            words += f"{STANDS_IN_FOR} {key_print(private.public_key())}\n"
            self.stand_ins[_public(made)] = _public(private)
        pem: bytes = made.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        return words.encode() + pem

    # lists

    def _people(self, data: bytes, group_column: str | None = None) -> bytes:
        """The lines of a list that are about those concerned; lines about groups alone stay."""
        text = as_utf8(data).decode("utf-8-sig", "replace")
        head = text.lstrip()[:1]
        if head == "{":
            return self._users(text).encode()
        if re.match(r"(?:version:|dn:)", text.lstrip(), re.IGNORECASE):
            entries = re.split(r"(?:\r?\n){2,}", text)
            kept = [entry for entry in entries if self._concerns(entry) or entry.startswith("version")]
            return self._files.text("\n\n".join(kept) + "\n", "people.ldif").encode()
        rows = list(csv.reader(io.StringIO(text, newline="")))
        header = [cell.strip().casefold() for cell in rows[0]] if rows else []
        chosen = [row for number, row in enumerate(rows) if number == 0 or self._keeps(row, header, group_column)]
        target = io.StringIO(newline="")
        csv.writer(target, lineterminator="\n").writerows(chosen)
        return self._files.table(target.getvalue()).encode()

    def _keeps(self, row: list[str], header: list[str], group_column: str | None) -> bool:
        if self._concerns(" ".join(row)):
            return True
        if group_column is None or group_column not in header:
            return False
        others = [cell for at, cell in enumerate(row) if at < len(header) and header[at] != group_column]
        return not any(cell.strip() for cell in others) or not any("@" in cell or "." in cell for cell in others)

    def _users(self, text: str) -> str:
        """The users of a SCIM 2.0 answer (RFC 7644 §3.4.2) that are concerned."""
        told = json.loads(text)
        if isinstance(told, dict) and isinstance(told.get("Resources"), list):
            told["Resources"] = [user for user in told["Resources"] if self._concerns(json.dumps(user))]
            told["totalResults"] = len(told["Resources"])
        return self._files.text(json.dumps(told, ensure_ascii=False, indent=1), "users.json")

    def _concerns(self, text: str) -> bool:
        """Whether a text holds a word of the names of those concerned, in any spelling."""
        runs = set(RUN.findall(folded(text)))
        telling = {word for word in self._kept.people if len(word) >= _SHORT_NAME}
        return not runs.isdisjoint(telling) or any(joined in runs for joined in self._kept.joined)

    def _changes(self, data: bytes, needed: Needed) -> bytes:
        rows = list(csv.reader(io.StringIO(as_utf8(data).decode("utf-8-sig", "replace"), newline="")))
        header = [cell.strip().casefold() for cell in rows[0]] if rows else []
        at = header.index("app") if "app" in header else None
        concerned = needed.apps | needed.providers | {""}
        chosen = [
            row
            for number, row in enumerate(rows)
            if number == 0 or at is None or (row + [""] * len(header))[at] in concerned
        ]
        target = io.StringIO(newline="")
        csv.writer(target, lineterminator="\n").writerows(chosen)
        return self._files.table(target.getvalue()).encode()


def _files(names: Iterable[str]) -> list[str]:
    return [name for name in names if not is_fingerprint(name)]


def _public(key: Any) -> bytes:
    octets: bytes = key.public_key().public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return octets
