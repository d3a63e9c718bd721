"""Texts encoded as others were: the same alphabet, padding, line ends and signs left bare."""

from __future__ import annotations

import base64
import re
from urllib.parse import quote

from trace_lens.oidc.jose import to_base64url


def like(octets: bytes, bare: str) -> str:
    """Octets in the alphabet, and with or without the padding, of a text in base64."""
    made = base64.b64encode(octets).decode()
    if ("-" in bare or "_" in bare) or (len(bare) % 4 and "+" not in bare and "/" not in bare):
        made = made.replace("+", "-").replace("/", "_") if "-" in bare or "_" in bare else made
    if not bare.endswith("=") and len(bare) % 4:
        made = made.rstrip("=")
    return made[:-1] if len(bare.rstrip("=")) % 4 == 1 and len(made) > 1 else made


def spread(made: str, like: str) -> str:
    """A text with line ends and blanks where another one had them; what is longer goes into its last line."""
    if not any(map(str.isspace, like)):
        return made
    out, place = [], 0
    for piece in re.findall(r"\s+(?:[>|]+[ \t]*)*|[^\s]+", like):
        if piece[0].isspace():
            out.append(piece)
        else:
            out.append(made[place : place + len(piece)])
            place += len(piece)
    rest = made[place:]
    text = "".join(out)
    stem = text.rstrip()
    return stem + rest + text[len(stem) :]


def as_written(octets: bytes, part: str, *, lenient: bool) -> str:
    made = to_base64url(octets)
    if lenient:
        made = made.replace("-", "+").replace("_", "/") if "+" in part or "/" in part else made
        made += "=" * (-len(made) % 4) if part.endswith("=") else ""
    return made


def percent(plain: str, like: str, *, plus: bool) -> str:
    """A text percent-encoded in the manner of another: the same signs left bare, digits in the same case."""
    bare = set(re.sub(r"%[0-9A-Fa-f]{2}", "", like)) - ({"+"} if plus else set())
    made = quote(plain.encode("utf-8", "surrogateescape"), safe="".join(sign for sign in bare if sign.isascii()))
    coded = {code.upper() for code in re.findall(r"%[0-9A-Fa-f]{2}", like)}
    for sign in "-._~":
        if quote_of(sign) in coded and sign not in bare:
            made = made.replace(sign, quote_of(sign))
    if plus:
        made = made.replace("%20", "+")
    if re.search(r"%[0-9a-f]?[a-f]", like) and not re.search(r"%[0-9A-F]?[A-F]", like):
        made = re.sub(r"%[0-9A-F]{2}", lambda match: match[0].lower(), made)
    return made


def quote_of(sign: str) -> str:
    """A sign, percent-encoded."""
    return f"%{ord(sign):02X}"


def is_wrapped(text: str) -> bool:
    """Whether lines are those of one value that was wrapped: all as long, but for the last one, which is no longer, and
    the first one, before which the name of a field may stand.
    """
    first, *others = [len(line.strip("> |\t\r")) for line in text.split("\n")]
    if not others:
        return False
    *middle, last = others
    width = middle[0] if middle else max(first, last)
    return first <= width and last <= width and all(length == width for length in middle)
