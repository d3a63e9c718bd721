"""Guests: the address of somebody from elsewhere, folded by a directory into a name of its own.

Directories fold in many ways: the at sign becomes another character or a word, is written as an escape, the domain
stands first or backwards, dots are replaced, a marker or the home domain is put before or behind. Rather than know
each, this looks for what they leave alone: the letters and digits of a known foreign domain, between two boundaries,
and those of the local part beside it. Whether a candidate is right, the account list tells.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from functools import lru_cache
from typing import NamedTuple

_ALNUM = re.compile(r"[^\W_]")
_RUN = re.compile(r"[^\W_]+")
_OTHER = re.compile(r"[\W_]+")
_AT_WORDS = {"at", "40", "x40", "0x40", "x0040", "u0040", "commat"}
_ESCAPES = tuple(
    (words, re.compile(pattern, re.IGNORECASE))
    for words, pattern in (
        ("percent-encoded", r"%(?:25)*([0-9a-f]{2})"),
        ("as in quoted-printable", r"=([0-9a-f]{2})"),
        ("by a number in hexadecimal", r"(?:_x|\\u|\\x|&#x|0x|[+_~!^])(00[0-9a-f]{2}|[0-9a-f]{2})[_;]?"),
    )
)
_MARKERS = {
    "ext", "extern", "external", "guest", "gast", "guests", "partner", "partners", "visitor", "foreign", "fed",
    "federated", "user", "users", "contractor", "b2b", "invited", "x", "g",
}  # fmt: skip
_ENDINGS = re.compile(
    r"(?:[a-z]{2}|com|org|net|edu|gov|int|mil|info|biz|aero|coop|museum|travel|example|test|invalid|local|email|online"
    r"|cloud|group|global|systems|services|solutions|world|company|agency|digital|network|tech|shop|store|site)"
)
_SEEN = re.compile(
    r"(?P<local>[^@]+?)(?P<at>[^A-Za-z0-9.@-]+|-at-|\.at\.)(?P<domain>[A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+)"
    r"(?P<marker>[^A-Za-z0-9@.][^@]*)?@(?P<home>[^@]+)",
)


class Folded(NamedTuple):
    """A name read as a folded address. `local` is in the squeezed form that the account list is asked by.

    The spans (start, end) say where local part and domain stand in the name as it was written. `how` tells in words
    what the folding did.
    """

    local: str
    domain: str
    local_span: tuple[int, int]
    domain_span: tuple[int, int]
    how: tuple[str, ...]

    @property
    def key(self) -> tuple[str, str]:
        """What an account's address must have for it to be the one meant."""
        return self.local, self.domain


def squeezed(text: str) -> str:
    """Letters and digits only, in one case; one character for one."""
    if text.isascii():
        return _OTHER.sub("", text).lower()
    return _flat(text, [match.start() for match in _ALNUM.finditer(text)])


def _flat(text: str, places: list[int]) -> str:
    return "".join(text[place].casefold() if len(text[place].casefold()) == 1 else text[place] for place in places)


def address_key(address: str) -> tuple[str, str] | None:
    """The key by which a folded form of an address finds it; None for what is no address."""
    local, at, domain = address.rpartition("@")
    if not at or "." not in domain or not squeezed(local):
        return None
    return squeezed(local), domain.casefold()


def readings(name: str, domains: Iterable[str], home: Iterable[str] = ()) -> Iterator[Folded]:
    """Every way to read a name as a folded address at one of some domains, the likeliest first.

    `home` are the directory's own domains, which a folding puts before or behind.
    """
    homes = tuple(sorted({domain.casefold() for domain in home}))
    forms = _undone(name)
    known = sorted({domain.casefold() for domain in domains}, key=len, reverse=True)
    seen: set[tuple[str, str]] = set()
    for domain in known:
        if re.fullmatch(rf"[^@]+@{re.escape(domain)}", name.casefold()):
            continue
        for form in forms:
            for found in _at_domain(form, domain, homes):
                if found.key not in seen:
                    seen.add(found.key)
                    yield found


class _Form(NamedTuple):
    """One spelling of a name: its text, for each character where it begins in the name as written, and what was undone.

    `origin` has one entry more than the text has characters: where the name ends.
    """

    text: str
    origin: tuple[int, ...]
    escape: str = ""


def _undone(name: str) -> list[_Form]:
    """The name as written, and with the escapes in it undone."""
    forms = [_Form(name, tuple(range(len(name) + 1)))]
    for words, pattern in _ESCAPES:
        text, origin, at = "", [], 0
        for match in pattern.finditer(name):
            char = chr(int(match[1], 16))
            if not char.isascii() or not char.isprintable() or char.isalnum():
                continue
            text += name[at : match.start()] + char
            origin += [*range(at, match.start()), match.start()]
            at = match.end()
        if at:
            forms.append(_Form(text + name[at:], (*origin, *range(at, len(name) + 1)), words))
    return forms


def _at_domain(form: _Form, domain: str, homes: tuple[str, ...]) -> Iterator[Folded]:
    """The readings of one spelling of a name at one domain."""
    text = form.text
    places = [match.start() for match in _ALNUM.finditer(text)]
    flat = _flat(text, places)
    for wanted, backwards in ((squeezed(domain), False), (squeezed("".join(_backwards(domain))), True)):
        start = flat.find(wanted)
        while start >= 0:
            end = start + len(wanted)
            if _edge(places, start) and _edge(places, end) and not (backwards and wanted == squeezed(domain)):
                yield from _around(form, places, flat, (start, end), domain, homes, backwards)
            start = flat.find(wanted, start + 1)


def _backwards(domain: str) -> list[str]:
    return domain.split(".")[::-1]


def _edge(places: list[int], index: int) -> bool:
    """Whether a letter or digit begins or ends a run: nothing, or another character, stands before it."""
    return index in (0, len(places)) or places[index] != places[index - 1] + 1


def _around(
    form: _Form, places: list[int], flat: str, span: tuple[int, int], domain: str, homes: tuple[str, ...],
    backwards: bool,
) -> Iterator[Folded]:  # fmt: skip
    """The local parts that may stand before or behind the domain."""
    start, end = span
    text = form.text
    if start and not backwards and _goes_on(text, places, flat, end, homes):
        return
    domain_span = _written(form, places, span)
    before = _trimmed(text, places, flat, 0, start, homes, at_end=True)
    after = _trimmed(text, places, flat, end, len(places), homes, at_end=False)
    for (low, high), first in ((before, False), (after, True)):
        for local in _locals(text, places, flat, low, high, from_left=not first):
            how = _told(form, places, local, span, domain, backwards=backwards, first=first)
            yield Folded(flat[slice(*local)], domain, _written(form, places, local), domain_span, how)


def _goes_on(text: str, places: list[int], flat: str, end: int, homes: tuple[str, ...]) -> bool:
    """Whether further labels follow a domain, so that it is another one: a dot, then neither home nor a marker."""
    if end == len(places) or text[places[end - 1] + 1 : places[end]] != ".":
        return False
    follows = flat[end : _runs(places, end, len(places))[0][1]]
    return follows not in _MARKERS and not any(flat[end:].startswith(squeezed(home)) for home in homes)


def _written(form: _Form, places: list[int], span: tuple[int, int]) -> tuple[int, int]:
    """Where a stretch of letters and digits stands in the name as it was written."""
    return form.origin[places[span[0]]], form.origin[places[span[1] - 1] + 1]


def _trimmed(
    text: str, places: list[int], flat: str, low: int, high: int, homes: tuple[str, ...], *, at_end: bool
) -> tuple[int, int]:
    """A stretch beside the domain, less the word for the at sign next to it and the home domain at its far end."""
    runs = _runs(places, low, high)
    if runs:
        left, right = runs[-1] if at_end else runs[0]
        if flat[left:right] in _AT_WORDS and len(runs) > 1:
            low, high = (low, left) if at_end else (right, high)
    for home in homes:
        bare = squeezed(home)
        if at_end and flat[low:high].startswith(bare) and _edge(places, low + len(bare)):
            low += len(bare)
        elif not at_end and flat[low:high].endswith(bare) and _edge(places, high - len(bare)):
            high -= len(bare)
    return low, high


def _runs(places: list[int], low: int, high: int) -> list[tuple[int, int]]:
    """The runs of letters and digits in a stretch."""
    runs: list[tuple[int, int]] = []
    begin = low
    for index in range(low + 1, high + 1):
        if index == high or _edge(places, index):
            runs.append((begin, index))
            begin = index
    return runs


def _locals(
    text: str, places: list[int], flat: str, low: int, high: int, *, from_left: bool
) -> Iterator[tuple[int, int]]:
    """The stretches that may be the local part: the whole first, then with a marker at the far end left out.

    What is left out is a marker only where another character parts it from the rest than the rest has inside, or where
    it is a word that means a guest.
    """
    runs = _runs(places, low, high)
    if not runs:
        return
    yield low, high
    for count in range(1, len(runs)):
        if from_left:
            cut, kept = runs[count][0], runs[count:]
            gap, dropped = text[places[cut - 1] + 1 : places[cut]], runs[count - 1]
        else:
            cut, kept = runs[-count - 1][1], runs[:-count]
            gap, dropped = text[places[cut - 1] + 1 : places[cut]], runs[-count]
        inside = {text[places[one[1] - 1] + 1 : places[one[1]]] for one in kept[:-1]}
        if gap not in inside or flat[dropped[0] : dropped[1]] in _MARKERS:
            yield (cut, high) if from_left else (low, cut)


def _told(
    form: _Form, places: list[int], local: tuple[int, int], domain_at: tuple[int, int], domain: str,
    *, backwards: bool, first: bool,
) -> tuple[str, ...]:  # fmt: skip
    """What the folding did, in words that complete "the directory …"."""
    text = form.text
    words = []
    written = text[places[domain_at[0]] : places[domain_at[1] - 1] + 1]
    if first:
        words.append("put the domain first")
        gap = text[places[domain_at[1] - 1] + 1 : places[local[0]]]
    else:
        gap = text[places[local[1] - 1] + 1 : places[domain_at[0]]]
    if gap == "@" and form.escape:
        words.append(f"wrote the at sign {form.escape}")
    elif gap != "@":
        words.append(f"put {gap} where the at sign was" if gap else "left the at sign out")
    if backwards:
        words.append("wrote the domain backwards")
    elif written.casefold() != domain:
        words.append(f"wrote the domain as {written}")
    head, tail = text[: places[min(local[0], domain_at[0])]], text[places[max(local[1], domain_at[1]) - 1] + 1 :]
    if head:
        words.append(f"put {head} before it")
    if tail:
        words.append(f"put {tail} behind it")
    return tuple(words)


@lru_cache(maxsize=4096)
def seen_guest(name: str) -> tuple[str, str, str] | None:
    """Local part, domain and home of a name that looks like a folded address although its domain is not on record.

    Only a domain whose ending is one that domains have, or a name with a marker, counts, so that a name of the house
    with an underscore in it is none.
    """
    match = _SEEN.fullmatch(name)
    if match is None:
        return None
    ending = match["domain"].rpartition(".")[2].casefold()
    if not _ENDINGS.fullmatch(ending) and not match["marker"]:
        return None
    return match["local"], match["domain"], match["home"]


def unfolding(name: str, found: Folded, target: str) -> dict[str, str] | None:
    """A rewriting step that makes the account's name of the folded one, and does so for others folded likewise.

    None where the folding lost what the account's name holds. The step has the keys `replace` and `with`.
    """
    local, written = name[slice(*found.local_span)], name[slice(*found.domain_span)]
    wanted, at, behind = target.rpartition("@")
    if not at:
        wanted, behind = target, ""
    parts = _local_parts(local, wanted)
    if parts is None:
        return None
    domain_parts = (_ANY_DOMAIN, "{}") if written.casefold() == found.domain else (literal(written), found.domain)
    if behind.casefold() != found.domain:
        domain_parts = (literal(written) if at else _ANY_DOMAIN.replace("(", "(?:", 1), "")
    pieces = sorted([(found.local_span, parts, "local"), (found.domain_span, domain_parts, "domain")])
    made, last, group = "^", 0, 0
    shapes = {}
    for (start, end), (pattern, shape), kind in pieces:
        made += literal(name[last:start]) + pattern
        while "{}" in shape:
            group += 1
            shape = shape.replace("{}", f"\\{group}", 1)
        shapes[kind] = shape
        last = end
    made += literal(name[last:]) + "$"
    tail = f"@{shapes['domain']}" if behind.casefold() == found.domain else f"{at}{behind}"
    return {"replace": made, "with": shapes["local"] + tail}


_ANY_DOMAIN = r"([A-Za-z0-9-]+(?:\.[A-Za-z0-9-]+)+)"


def _local_parts(written: str, wanted: str) -> tuple[str, str] | None:
    """The pattern for a local part, and its shape with `{}` for each group; None where they are not of one name."""
    if written.casefold() == wanted.casefold():
        return "(.+)", "{}"
    runs, aims = _RUN.findall(written), _RUN.findall(wanted)
    if [one.casefold() for one in runs] != [one.casefold() for one in aims]:
        return None
    between, aimed = _RUN.split(written), _RUN.split(wanted)
    pattern = literal(between[0]) + "".join(f"([A-Za-z0-9]+){literal(one)}" for one in between[1:])
    return pattern, aimed[0] + "".join("{}" + one for one in aimed[1:])


def literal(text: str) -> str:
    """A text as a regular expression that matches it, with no more escapes than are needed."""
    return re.sub(r"[.^$*+?{}\[\]\\|()]", lambda match: "\\" + match[0], text)
