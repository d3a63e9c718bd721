"""What each source is, so that it can be copied; one that is nothing, or a private key, is not copied at all."""

from __future__ import annotations

import io
from collections.abc import Iterable
from typing import BinaryIO

import tomli

from trace_lens.attempts.evidence import read_evidence
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.common.octets import as_utf8
from trace_lens.common.tuples import NamedTuple
from trace_lens.handover.redaction.on_record import log_form
from trace_lens.intake.har import is_har
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile

EXPORT, TEXT = "har", "text"
_HEAD = 64 * 1024
_HASHED = ("code", "access_token", "code_verifier", "state", "id_token")
"""What others may be hashes of, by the name it goes by."""


class Recognised(NamedTuple):
    """One source: what it `is` (an export, the format of a log, a text), or `because` of what it is not copied.

    `hashed` are the values in it of which others may be hashes, each with the name it goes by.
    """

    is_a: str = ""
    because: str | None = None
    hashed: dict[str, str] = {}  # noqa: RUF012  an empty default that nothing writes to


def opened(source: SourceFile) -> BinaryIO:
    """The octets of a source, as a stream."""
    return source.path.open("rb") if source.path else io.BytesIO(source.data or b"")


def recognise(source: SourceFile, workspace: Workspace) -> Recognised:
    """What a source is."""
    with opened(source) as stream:
        head = stream.read(_HEAD)
    if source.path is not None or is_har(head):
        evidence = read_evidence(source)
        if not evidence.found:
            return Recognised(because=evidence.without_sign_in() or "; ".join(evidence.problems))
        return Recognised(EXPORT, hashed=_hashed(evidence.oidc))
    if source.name.endswith(".toml"):
        return _settings(source.data or b"")
    form = log_form(source, workspace)
    evidence = read_evidence(source)
    if evidence.kinds == ("private-key",) and not _is_text_around(source.data or b""):
        return Recognised(because="it is a private key, which leaves no house")
    if evidence.found:
        return Recognised(form or TEXT, hashed=_hashed(evidence.oidc))
    if form:
        return Recognised(form)
    because = evidence.without_sign_in() or "; ".join(evidence.problems)
    return Recognised(because=f"it cannot be told what it is: {because}")


def _is_text_around(data: bytes) -> bool:
    """Whether a key stands within other text: that is copied, without the key."""
    bare = data.strip()
    return b"-----BEGIN" in bare and not bare.startswith(b"-----BEGIN")


def _settings(data: bytes) -> Recognised:
    try:
        tomli.loads(as_utf8(data).decode("utf-8-sig"))
    except (ValueError, UnicodeDecodeError) as error:
        return Recognised(because=f"it is no TOML that can be read: {error}")
    return Recognised(TEXT)


def _hashed(messages: Iterable[OidcMessage]) -> dict[str, str]:
    found: dict[str, str] = {}
    for message in messages:
        for name in _HASHED:
            if value := message.get(name):
                found[value] = name
        if message.token is not None and message.token.jws.text:
            found[message.token.jws.text] = "access_token"
    return found
