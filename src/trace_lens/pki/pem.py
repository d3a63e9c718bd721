"""Certificates as people hand them on: PEM, DER or bare base64, often damaged by the paste.

`certificates_in` repairs what can be repaired beyond doubt (the repaired octets are a whole certificate) and says
what it repaired; what cannot be is described.
"""

from __future__ import annotations

import base64
import binascii
import re
from typing import NamedTuple

from trace_lens.pki.containers import ContainerError, certificates_of_pkcs7, is_pkcs7

_BLOCK = re.compile(
    r"(?P<begin>-{2,}\s*BEGIN\s+(?P<label>[A-Z0-9 ]+?)\s*-{2,})(?P<body>.*?)"
    r"(?P<end>-{2,}\s*END\s+(?P<closing>[A-Z0-9 ]+?)\s*-{2,}|(?=-{2,}\s*BEGIN)|\Z)",
    re.DOTALL | re.IGNORECASE,
)
_CERTIFICATE_LABELS = {"CERTIFICATE", "X509 CERTIFICATE", "TRUSTED CERTIFICATE"}
_PKCS7_LABELS = {"PKCS7", "CMS"}
_BARE = re.compile(r"[A-Za-z0-9+/=_\-\s\"',]+")


class PastedCertificate(NamedTuple):
    """One certificate found in a text.

    `der` is None where it could not be repaired, and `problem` then says why; `repairs` lists what was mended.
    `line` is where it begins, from 1.
    """

    der: bytes | None
    line: int
    repairs: tuple[str, ...] = ()
    problem: str | None = None


def certificates_in(data: bytes) -> list[PastedCertificate]:
    """Every certificate in a file's bytes, whole or damaged, in order; empty where there is none at all."""
    if is_pkcs7(data):
        return _from_pkcs7(data, 1)
    if data[:1] == b"\x30" and _der_length(data) is not None:
        return [_from_der(data, 1, ())]
    text = _as_text(data)
    found = [one for match in _BLOCK.finditer(text) for one in _in_block(match, text.count("\n", 0, match.start()) + 1)]
    if not found and _BARE.fullmatch(text.strip() or "-") and _looks_like_certificate(text):
        found = [_from_base64(text, 1, ("no BEGIN and END lines",))]
    return found


def certificate_from_base64(text: str) -> PastedCertificate:
    """A certificate from the bare base64 of an XML element or a JSON string; line breaks are no damage there."""
    return _from_base64("".join(text.split()), 1, ())


def _as_text(data: bytes) -> str:
    if data[:2] in (b"\xff\xfe", b"\xfe\xff"):
        return data.decode("utf-16", "replace")
    return data.decode("utf-8-sig", "replace").replace("\r\n", "\n").replace("\r", "\n")


def _looks_like_certificate(text: str) -> bool:
    """Whether base64 begins as a certificate does: a SEQUENCE, and in it another (RFC 5280 §4.1).

    The first five octets are `30 82 .. .. 30`; a private key has an INTEGER where the second SEQUENCE begins.
    """
    match = re.match(r"[\s\"'>]*(MI[A-P][A-Za-z0-9+/]{5})", text)
    return match is not None and len(text) > 100 and base64.b64decode(match[1])[4] == 0x30


def _in_block(match: re.Match[str], line: int) -> list[PastedCertificate]:
    label = match["label"].upper()
    if label in _PKCS7_LABELS:
        return _from_pkcs7(match[0].replace(match["label"], "PKCS7").encode(), line)
    if label in _CERTIFICATE_LABELS or _looks_like_certificate(match["body"]):
        return [_from_block(match, line)]
    return []


def _from_pkcs7(data: bytes, line: int) -> list[PastedCertificate]:
    try:
        return [PastedCertificate(der, line) for der in certificates_of_pkcs7(data)]
    except ContainerError as error:
        return [PastedCertificate(None, line, (), str(error))]


def _from_block(match: re.Match[str], line: int) -> PastedCertificate:
    repairs = []
    if not match["end"]:
        repairs.append("the END line is missing")
    elif (match["closing"] or "").upper() != match["label"].upper():
        repairs.append("the END line names another thing than the BEGIN line")
    if match["label"].upper() not in _CERTIFICATE_LABELS:
        repairs.append(f"the header says {match['label'].upper()}, not CERTIFICATE")
    if not re.fullmatch(r"-----BEGIN [A-Z0-9 ]+-----", match["begin"]):
        repairs.append("the BEGIN line is misspelt")
    body = match["body"]
    if "\n" not in body.strip("\n") and len(body.strip()) > 80:
        repairs.append("the line breaks are lost")
    return _from_base64(body, line, tuple(repairs))


def _from_base64(text: str, line: int, repairs: tuple[str, ...]) -> PastedCertificate:
    mended = list(repairs)
    body = text
    if re.search(r"^\s*[>|]\s*\S", body, re.MULTILINE):
        body = re.sub(r"^\s*[>|]+ ?", "", body, flags=re.MULTILINE)
        mended.append("e-mail quotation marks at the beginning of lines")
    if "\\n" in body or "\\r" in body:
        body = body.replace("\\r", "").replace("\\n", "\n")
        mended.append(r"line breaks written as \n")
    if re.search(r"%[0-9A-Fa-f]{2}", body):
        body = re.sub(r"%([0-9A-Fa-f]{2})", lambda m: chr(int(m[1], 16)), body)
        mended.append("URL-encoding")
    if re.search(r"\S[ \t]+\S", body):
        mended.append("blanks inside the lines")
    compact = "".join(body.split())
    if re.search(r"[-_]", compact):
        compact = compact.replace("-", "+").replace("_", "/")
        mended.append("the URL-safe alphabet")
    strange = re.sub(r"[A-Za-z0-9+/=]", "", compact)
    if strange:
        compact = re.sub(r"[^A-Za-z0-9+/=]", "", compact)
        mended.append(f"stray characters ({' '.join(sorted(set(strange)))[:30]})")
    bare = compact.rstrip("=")
    if len(bare) % 4 == 1:
        return PastedCertificate(None, line, tuple(mended), "a character is missing or one too many stands in it")
    padded = bare + "=" * (-len(bare) % 4)
    if padded != compact:
        mended.append("the padding at the end")
    try:
        der = base64.b64decode(padded, validate=True)
    except (binascii.Error, ValueError):
        return PastedCertificate(None, line, tuple(mended), "it is not base64")
    return _from_der(der, line, tuple(mended))


def _from_der(der: bytes, line: int, repairs: tuple[str, ...]) -> PastedCertificate:
    length = _der_length(der)
    if length is None:
        return PastedCertificate(None, line, repairs, "its first bytes are not those of a certificate")
    if len(der) < length:
        return PastedCertificate(
            None, line, repairs, f"it is cut off: {len(der):,} of {length:,} bytes are there (lines are missing)"
        )
    if len(der) > length:
        der, repairs = der[:length], (*repairs, f"{len(der) - length:,} bytes after its end")
    return PastedCertificate(der, line, repairs)


def _der_length(data: bytes) -> int | None:
    """The whole length that a DER SEQUENCE announces for itself (X.690 §8.1.3), or None."""
    if len(data) < 4 or data[0] != 0x30:
        return None
    if data[1] < 0x80:
        return 2 + data[1]
    count = data[1] & 0x7F
    if not 1 <= count <= 4 or len(data) < 2 + count:
        return None
    return 2 + count + int.from_bytes(data[2 : 2 + count])
