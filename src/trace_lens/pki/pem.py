"""Certificates as people hand them on: PEM, DER or bare base64, often damaged by the paste.

`certificates_in` repairs what can be repaired beyond doubt (the repaired octets are a whole certificate) and says
what it repaired; what cannot be is described.
"""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterator
from itertools import islice, zip_longest

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.limits import Refused
from trace_lens.common.tuples import NamedTuple
from trace_lens.pki.containers import ContainerError, certificates_of_pkcs7, is_pkcs7

_MARK = expression(r"(?<!-)-{2,}+\s*+(BEGIN|END)\s++([A-Z0-9 ]++)\s*+-{2,}+", re.IGNORECASE)
_CERTIFICATE_LABELS = {"CERTIFICATE", "X509 CERTIFICATE", "TRUSTED CERTIFICATE"}
_PKCS7_LABELS = {"PKCS7", "CMS"}
_BARE = expression(r"[A-Za-z0-9+/=_\-\s\"',]+")


class _Block(NamedTuple):
    """What stands between a BEGIN line and its END line, or what comes instead of that. `closing` is the END line's
    label, None where there is none.
    """

    start: int
    begin: str
    label: str
    body: str
    closing: str | None
    text: str


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
    found: list[PastedCertificate] = []
    line, counted = 1, 0
    for block in _blocks(text):
        line += text.count("\n", counted, block.start)
        counted = block.start
        found += _in_block(block, line)
    if not found and _BARE.fullmatch(text.strip() or "-") and _looks_like_certificate(text):
        found = [_from_base64(text, 1, ("no BEGIN and END lines",))]
    return found


def _blocks(text: str) -> Iterator[_Block]:
    """Each BEGIN line with what follows it, up to its END line, the next BEGIN line, or the end of the text."""
    marks = list(islice(_MARK.finditer(text), 2 * limits.CERTIFICATES + 1))
    if len(marks) > 2 * limits.CERTIFICATES:
        raise Refused(f"it holds more than {limits.CERTIFICATES:,} certificates")
    for mark, following in zip_longest(marks, marks[1:]):
        if mark[1].upper() != "BEGIN":
            continue
        stop = following.start() if following else len(text)
        closing = following if following and following[1].upper() == "END" else None
        yield _Block(
            start=mark.start(),
            begin=mark[0],
            label=mark[2].strip().upper(),
            body=text[mark.end() : stop],
            closing=closing[2].strip().upper() if closing else None,
            text=text[mark.start() : closing.end() if closing else stop],
        )


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
    match = re.match(r"[\s\"'>]*+(MI[A-P][A-Za-z0-9+/]{5})", text)
    return match is not None and len(text) > 100 and base64.b64decode(match[1])[4] == 0x30


def _in_block(block: _Block, line: int) -> list[PastedCertificate]:
    if block.label in _PKCS7_LABELS:
        text = f"-----BEGIN PKCS7-----{block.body}-----END PKCS7-----\n" if block.closing else block.text
        return _from_pkcs7(text.encode("utf-8", "replace"), line)
    if block.label in _CERTIFICATE_LABELS or _looks_like_certificate(block.body):
        return [_from_block(block, line)]
    return []


def _from_pkcs7(data: bytes, line: int) -> list[PastedCertificate]:
    try:
        return [PastedCertificate(der, line) for der in certificates_of_pkcs7(data)]
    except ContainerError as error:
        return [PastedCertificate(None, line, (), str(error))]


def _from_block(block: _Block, line: int) -> PastedCertificate:
    repairs = []
    if block.closing is None:
        repairs.append("the END line is missing")
    elif block.closing != block.label:
        repairs.append("the END line names another thing than the BEGIN line")
    if block.label not in _CERTIFICATE_LABELS:
        repairs.append(f"the header says {block.label}, not CERTIFICATE")
    if not re.fullmatch(r"-----BEGIN [A-Z0-9 ]++-----", block.begin):
        repairs.append("the BEGIN line is misspelt")
    body = block.body
    if "\n" not in body.strip("\n") and len(body.strip()) > 80:
        repairs.append("the line breaks are lost")
    return _from_base64(body, line, tuple(repairs))


def _from_base64(text: str, line: int, repairs: tuple[str, ...]) -> PastedCertificate:
    mended = list(repairs)
    body = text
    if re.search(r"^[ \t]*+[>|][ \t]*+\S", body, re.MULTILINE):
        body = re.sub(r"^[ \t]*+[>|]++ ?", "", body, flags=re.MULTILINE)
        mended.append("e-mail quotation marks at the beginning of lines")
    if "\\n" in body or "\\r" in body:
        body = body.replace("\\r", "").replace("\\n", "\n")
        mended.append(r"line breaks written as \n")
    if re.search(r"%[0-9A-Fa-f]{2}", body):
        body = re.sub(r"%([0-9A-Fa-f]{2})", lambda m: chr(int(m[1], 16)), body)
        mended.append("URL-encoding")
    if re.search(r"\S[ \t]++\S", body):
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
        return PastedCertificate(None, line, tuple(mended), "it has one character too many, or one is missing")
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
