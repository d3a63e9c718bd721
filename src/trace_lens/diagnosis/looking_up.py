"""A fingerprint, a serial number or an error code on its own, looked up: whose it is here, and what it means."""

from __future__ import annotations

import re

from trace_lens.common.expressions import expression
from trace_lens.common.moments import show_moment
from trace_lens.common.tuples import NamedTuple
from trace_lens.oidc import errors
from trace_lens.pki.certificates import Certificate
from trace_lens.pki.fingerprints import digits, is_fingerprint
from trace_lens.saml import statuses
from trace_lens.saml.names import STATUS_PREFIX
from trace_lens.workspace import trust
from trace_lens.workspace.records import Workspace

FINGERPRINT, SERIAL, CODE = "fingerprint", "serial", "code"
_SHORT = expression(r"[\w:.\-/ ]{2,200}")
_SERIAL = expression(r"[0-9A-Fa-f](?:[: -]?[0-9A-Fa-f]){7,49}")


class LookedUp(NamedTuple):
    """What a text is: its kind, what it means in words, and where on record it stands."""

    text: str
    kind: str
    words: str
    places: tuple[str, ...]


def look_up(text: str, workspace: Workspace) -> list[LookedUp]:
    """What a short text that is no message may be; empty where it is nothing known."""
    told = text.strip()
    if not _SHORT.fullmatch(told):
        return []
    found = _of_codes(told, workspace)
    if found:
        return found
    by_print = _by_fingerprint(digits(told), workspace) if is_fingerprint(told) else []
    by_serial = _by_serial(told, workspace) if _SERIAL.fullmatch(told) and not by_print else []
    if by_serial:
        return [_of_certificates(told, SERIAL, by_serial)]
    return [_of_certificates(told, FINGERPRINT, by_print)] if is_fingerprint(told) else []


def _of_certificates(text: str, kind: str, held: list[trust.RecordedKey]) -> LookedUp:
    certificate = next((key.certificate for key in held if key.certificate), None)
    if certificate is None and not held:
        return LookedUp(text, kind, "no certificate on record has it", ())
    words = (
        f"{certificate.subject or '(no name)'}, until {show_moment(certificate.not_after)}" if certificate else "pinned"
    )
    return LookedUp(text, kind, words, tuple(dict.fromkeys(f"{key.words}: {key.where}" for key in held)))


def _held(workspace: Workspace) -> list[trust.RecordedKey]:
    fingerprints = [
        key
        for app in workspace.apps.values()
        for key in (*trust.pinned(app, workspace), *trust.seen(app, workspace))
        if key.fingerprint
    ]
    return [*trust.everything(workspace), *fingerprints]


def _by_fingerprint(hexes: str, workspace: Workspace) -> list[trust.RecordedKey]:
    found = []
    for key in _held(workspace):
        own = {key.certificate.sha1.hex, key.certificate.sha256.hex} if key.certificate else set()
        own |= {key.fingerprint.hex} if key.fingerprint else set()
        if hexes in own:
            found.append(key)
    return found


def _by_serial(text: str, workspace: Workspace) -> list[trust.RecordedKey]:
    bare = re.sub(r"[^0-9A-Fa-f]", "", text).lower().lstrip("0")
    return [key for key in _held(workspace) if key.certificate and bare in _serials(key.certificate)]


def _serials(certificate: Certificate) -> set[str]:
    """The serial number in hexadecimal and in decimal digits, as tools write it."""
    number = re.sub(r"[^0-9A-Fa-f]", "", certificate.serial).lower().lstrip("0")
    return {number, str(int(number or "0", 16))}


def _of_codes(text: str, workspace: Workspace) -> list[LookedUp]:
    found = []
    status = statuses.meaning_of(text if text.startswith(STATUS_PREFIX) else STATUS_PREFIX + text)
    if status:
        words = f"SAML status: {status.meaning}; the usual cause: {status.cause}"
        found.append(LookedUp(text, CODE, words, ("SAML 2.0 Core §3.2.2.2",)))
    error = errors.meaning_of(text)
    if error:
        words = f"OAuth error: {error.meaning}; the usual cause: {error.cause}"
        found.append(LookedUp(text, CODE, words, ("RFC 6749 §4.1.2.1, §5.2; OpenID Connect Core 1.0 §3.1.2.6",)))
    if workspace.root is not None and not found:
        from trace_lens.workspace.log_sources import log_sources

        for source in log_sources(workspace).values():
            meaning = source.settings.codes.get(text)
            if meaning:
                side = f", {meaning.side}'s side" if meaning.side else ""
                stage = f" ({meaning.stage}{side})" if meaning.stage else ""
                found.append(LookedUp(text, CODE, f"{meaning.means}{stage}", (f"logs/{source.id}.toml, [codes]",)))
    return found
