"""How two identifiers, addresses or names differ: the kind of difference and the exact place.

People compare endings of long strings by eye; this does it for them. The kinds form one ordered table; the first
kind that accounts for the whole difference is the answer.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from urllib.parse import SplitResult, unquote

from trace_lens.common.addresses import parts_of
from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple

_GUID = r"[0-9a-fA-F]{8}-(?:[0-9a-fA-F]{4}-){3}[0-9a-fA-F]{12}"
_TENANT = expression(rf"(?:{_GUID}|\d+)", re.ASCII)
_DEFAULT_PORTS = {"http": 80, "https": 443, "ldap": 389, "ldaps": 636}

# Characters that print alike, folded to one of them (a small part of the idea of Unicode TS #39, skeletons).
_LOOKALIKES = str.maketrans(
    {
        "0": "o",
        "O": "o",
        "1": "l",
        "I": "l",
        "|": "l",
        "а": "a",
        "е": "e",
        "о": "o",
        "р": "p",
        "с": "c",
        "х": "x",
        "у": "y",
        "і": "i",
        "ј": "j",
        "ѕ": "s",
        "һ": "h",
        "ԁ": "d",
        "ո": "n",
        "А": "A",
        "В": "B",
        "Е": "E",
        "К": "K",
        "М": "M",
        "Н": "H",
        "О": "o",
        "Р": "P",
        "С": "C",
        "Т": "T",
        "Х": "X",
        "У": "Y",
        "І": "l",
        "α": "a",
        "ο": "o",
        "ρ": "p",
        "ν": "v",
        "ι": "i",
        "Α": "A",
        "Β": "B",
        "Ε": "E",
        "Ζ": "Z",
        "Η": "H",
        "Ι": "l",
        "Κ": "K",
        "Μ": "M",
        "Ν": "N",
        "Ο": "o",
        "Ρ": "P",
        "Τ": "T",
        "Υ": "Y",
        "Χ": "X",
        "ı": "i",
        "ɡ": "g",
        "‐": "-",
        "‑": "-",
        "‒": "-",
        "–": "-",
        "—": "-",
        "−": "-",
        "’": "'",
        "‘": "'",
        "`": "'",
        "“": '"',
        "”": '"',
        "∕": "/",
        "⁄": "/",
        "։": ":",
        "∶": ":",
        "․": ".",
    }
)
_ASCII_LOOKALIKES = bytes(ord(_LOOKALIKES.get(code, chr(code))) for code in range(128)) + bytes(range(128, 256))
_UNSEEN = dict.fromkeys(map(ord, "\u200b\u200c\u200d\u2060\ufeff\u00ad\u200e\u200f"))


def lookalike_letters() -> dict[str, str]:
    """Letters of other alphabets, each with the Latin letter that it prints like."""
    pairs = ((chr(code), letter) for code, letter in _LOOKALIKES.items())
    return {char: letter for char, letter in pairs if not char.isascii() and letter.isalpha()}


class Difference(NamedTuple):
    """What kind of difference, and which part of each value differs (start and end, in characters)."""

    kind: str
    expected_span: tuple[int, int]
    actual_span: tuple[int, int]


def difference(expected: str, actual: str) -> Difference | None:
    """The difference between two values, or None where they are equal to the letter."""
    if expected == actual:
        return None
    start = 0
    shortest = min(len(expected), len(actual))
    while start < shortest and expected[start] == actual[start]:
        start += 1
    end = 0
    while end < shortest - start and expected[-1 - end] == actual[-1 - end]:
        end += 1
    return Difference(kind(expected, actual), (start, len(expected) - end), (start, len(actual) - end))


def kind(expected: str, actual: str) -> str:
    """The name of the first kind, in the order of the table, that describes all of the difference."""
    left, right = _split(expected), _split(actual)
    for name, describes in _KINDS:
        if describes(expected, actual, left, right):
            return name
    return "other"


def edit_distance(left: str, right: str, most: int = 2) -> int:
    """Insertions, deletions, changes and swaps of neighbours between two texts, counted up to `most` + 1.

    Source: the optimal string alignment distance, after Damerau, CACM 7(3), 1964.
    """
    if abs(len(left) - len(right)) > most:
        return most + 1
    before: list[int] = []
    last = list(range(len(right) + 1))
    for i, a in enumerate(left, 1):
        row = [i]
        for j, b in enumerate(right, 1):
            cost = min(last[j] + 1, row[j - 1] + 1, last[j - 1] + (a != b))
            if i > 1 and j > 1 and a == right[j - 2] and left[i - 2] == b:
                cost = min(cost, before[j - 2] + 1)
            row.append(cost)
        if min(row) > most:
            return most + 1
        before, last = last, row
    return last[-1]


def skeleton(text: str) -> str:
    """The text with characters that look alike folded to one of them, and unseen ones removed."""
    if text.isascii():
        return look_alike(text)
    folded = unicodedata.normalize("NFKC", text).translate(_UNSEEN).translate(_LOOKALIKES)
    return unicodedata.normalize("NFC", folded).replace("rn", "m").replace("vv", "w")


def look_alike(text: str) -> str:
    """`skeleton` for a text of ASCII alone, quicker."""
    return text.encode("ascii").translate(_ASCII_LOOKALIKES).decode("ascii").replace("rn", "m").replace("vv", "w")


def nearest(wanted: str, choices: list[str]) -> str | None:
    """The choice that a person most likely meant, or None where none comes near."""
    best: tuple[int, int, str] | None = None
    for choice in choices:
        if choice == wanted:
            continue
        found = kind(wanted, choice)
        rank = _NEAR_RANK.get(found)
        if rank is None:
            continue
        if found == "edit" and edit_distance(wanted, choice) * 3 > max(len(wanted), len(choice)):
            continue
        candidate = (rank, abs(len(wanted) - len(choice)), choice)
        best = candidate if best is None or candidate < best else best
    return best[2] if best else None


def _squeezed(text: str) -> str:
    return "".join(text.translate(_UNSEEN).split())


def _split(text: str) -> SplitResult | None:
    if "://" not in text:
        return None
    parts = parts_of(text)
    return parts if parts.hostname else None


_Split = SplitResult | None


def _only(left: SplitResult, right: SplitResult, part: str) -> bool:
    """Whether two addresses differ in this part and are equal in every other."""
    differing = {
        "scheme": left.scheme != right.scheme,
        "host": (left.hostname, left.username) != (right.hostname, right.username),
        "port": left.port != right.port,
        "path": left.path != right.path,
        "query": left.query != right.query,
        "fragment": left.fragment != right.fragment,
    }
    if differing["port"] and part != "port":
        usual = _is_default(left) and _is_default(right)
        differing["port"] = not (usual if part == "scheme" else _port(left) == _port(right))
    return differing[part] and not any(differs for name, differs in differing.items() if name != part)


def _port(parts: SplitResult) -> int | None:
    return parts.port or _DEFAULT_PORTS.get(parts.scheme)


def _is_default(parts: SplitResult) -> bool:
    return parts.port is None or parts.port == _DEFAULT_PORTS.get(parts.scheme)


def _trailing_slash(a: str, b: str, left: _Split, right: _Split) -> bool:
    if a.rstrip("/") == b.rstrip("/"):
        return True
    return bool(left and right and _only(left, right, "path") and left.path.rstrip("/") == right.path.rstrip("/"))


def _domain_ending(a: str, b: str, left: _Split, right: _Split) -> bool:
    if left and right:
        if not _only(left, right, "host"):
            return False
        text, two = left.hostname or "", right.hostname or ""
    elif a.count("@") == 1 and b.count("@") == 1:
        (local, text), (other_local, two) = a.split("@"), b.split("@")
        if local != other_local:
            return False
    elif _is_host(a) and _is_host(b):
        text, two = a, b
    else:
        return False
    labels, others = text.lower().split("."), two.lower().split(".")
    return any(labels[:-i] and labels[:-i] == others[:-j] for i in (1, 2) for j in (1, 2) if len(labels) > i)


def _is_host(text: str) -> bool:
    return bool(re.fullmatch(r"[a-zA-Z0-9-]+(\.[a-zA-Z0-9-]+)+", text)) and not re.fullmatch(r"[\d.]+", text)


def _host(a: str, b: str, left: _Split, right: _Split) -> bool:
    if left and right:
        return _only(left, right, "host")
    return a.count("@") == 1 and b.count("@") == 1 and a.split("@")[0] == b.split("@")[0]


def _tenant(a: str, b: str, left: _Split, right: _Split) -> bool:
    item, two = a.split("/"), b.split("/")
    if len(item) != len(two):
        return False
    changed = [(x, y) for x, y in zip(item, two, strict=True) if x != y]
    return len(changed) == 1 and all(_TENANT.fullmatch(part) for part in changed[0])


_Describes = Callable[[str, str, _Split, _Split], bool]
_KINDS: tuple[tuple[str, _Describes], ...] = (
    ("whitespace", lambda a, b, left, right: _squeezed(a) == _squeezed(b)),
    ("percent-encoding", lambda a, b, left, right: unquote(a) == unquote(b)),
    ("case", lambda a, b, left, right: a.casefold() == b.casefold()),
    ("lookalike", lambda a, b, left, right: skeleton(a) == skeleton(b)),
    ("trailing-slash", _trailing_slash),
    ("scheme", lambda a, b, left, right: bool(left and right and _only(left, right, "scheme"))),
    ("port", lambda a, b, left, right: bool(left and right and _only(left, right, "port"))),
    ("domain-ending", _domain_ending),
    ("host", _host),
    ("tenant", _tenant),
    ("query", lambda a, b, left, right: bool(left and right and _only(left, right, "query"))),
    ("prefix", lambda a, b, left, right: bool(a and b) and (a.endswith(b) or b.endswith(a))),
    ("suffix", lambda a, b, left, right: bool(a and b) and (a.startswith(b) or b.startswith(a))),
    ("path", lambda a, b, left, right: bool(left and right and _only(left, right, "path"))),
    ("edit", lambda a, b, left, right: edit_distance(a, b) <= 2),
)

_NEAR_RANK = {
    name: rank
    for rank, name in enumerate(
        (
            "whitespace",
            "case",
            "percent-encoding",
            "lookalike",
            "trailing-slash",
            "edit",
            "scheme",
            "port",
            "domain-ending",
            "prefix",
            "suffix",
        )
    )
}


def is_near(expected: str, actual: str) -> bool:
    """Whether two different identifiers are so alike that one was surely meant to be the other."""
    if expected == actual:
        return False
    found = kind(expected, actual)
    return found in _NEAR_RANK and (found != "edit" or edit_distance(expected, actual, 1) == 1)
