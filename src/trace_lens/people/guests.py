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
from itertools import pairwise

from trace_lens.common import limits
from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple

_ALNUM = expression(r"[^\W_]")
_RUN = expression(r"[^\W_]+")
_OTHER = expression(r"[\W_]+")
_AT_WORDS = {"at", "40", "x40", "0x40", "x0040", "u0040", "commat"}
_ESCAPES = tuple(
    (words, expression(pattern, re.IGNORECASE))
    for words, pattern in (
        ("percent-encoded", r"%(?:25)*([0-9a-f]{2})"),
        ("as in quoted-printable", r"=([0-9a-f]{2})"),
        ("by a number in hexadecimal", r"(?:_x|\\u|\\x|&#x|0x|[+_~!^])(00[0-9a-f]{2}|[0-9a-f]{2})[_;]?"),
    )
)
GUEST_MARKERS = {
    "ext",
    "extern",
    "external",
    "guest",
    "gast",
    "guests",
    "partner",
    "partners",
    "visitor",
    "foreign",
    "fed",
    "federated",
    "user",
    "users",
    "contractor",
    "b2b",
    "invited",
    "x",
    "g",
}
_BRACKETS = {"()", "[]", "{}", "<>"}
DOMAIN_ENDINGS = expression(
    r"(?:[a-z]{2}|com|org|net|edu|gov|int|mil|info|biz|aero|coop|museum|travel|example|test|invalid|local|email|online"
    r"|cloud|group|global|systems|services|solutions|world|company|agency|digital|network|tech|shop|store|site)"
)
_AT_SIGN = expression(r"[^A-Za-z0-9.@-]++|-at-|\.at\.")
_DOMAIN = expression(r"[A-Za-z0-9-]++(?:\.[A-Za-z0-9-]++)++")


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


def readings(name: str, domains: Iterable[str], home: Iterable[str] = ()) -> Iterator[Folded]:
    """Every way to read a name as a folded address at one of some domains, the likeliest first.

    `home` are the directory's own domains, which a folding puts before or behind.
    """
    homes = tuple(squeezed(domain) for domain in sorted({domain.casefold() for domain in home}))
    forms = _undone(name)
    seen: set[tuple[str, str]] = set()
    for domain in sorted({domain.casefold() for domain in domains}, key=lambda item: (-len(item), item)):
        forwards, backwards = squeezed(domain), squeezed("".join(domain.split(".")[::-1]))
        here = [form for form in forms if forwards in form.flat or backwards in form.flat]
        if not here or re.fullmatch(rf"[^@]+@{re.escape(domain)}", name.casefold()):
            continue
        for form in here:
            for wanted in dict.fromkeys((forwards, backwards)):
                for found in _at_domain(form, wanted, domain, homes, backwards=wanted != forwards):
                    if found.key not in seen:
                        seen.add(found.key)
                        yield found


class _Form(NamedTuple):
    """One spelling of a name, the letters and digits in it (`flat`, at `places`), and what was undone to get it.

    `origin` says for each character where it begins in the name as written, and last where that ends. Stretches are
    pairs of indexes into `flat`.
    """

    text: str
    origin: tuple[int, ...]
    places: list[int]
    flat: str
    escape: str = ""

    def edge(self, index: int) -> bool:
        """Whether a run begins or ends before a letter or digit: another character, or nothing, stands there."""
        return index in (0, len(self.places)) or self.places[index] != self.places[index - 1] + 1

    def gap(self, index: int) -> str:
        """What stands before a letter or digit, after the one before it."""
        before = self.places[index - 1] + 1 if index else 0
        return self.text[before : self.places[index]] if index < len(self.places) else self.text[before:]

    def runs(self, low: int, high: int) -> list[tuple[int, int]]:
        """The runs of letters and digits in a stretch."""
        edges = [index for index in range(low, high + 1) if index in (low, high) or self.edge(index)]
        return list(pairwise(edges)) if low < high else []

    def words(self, stretch: tuple[int, int]) -> str:
        """A stretch as it stands in the text."""
        return self.text[self.places[stretch[0]] : self.places[stretch[1] - 1] + 1]

    def written(self, stretch: tuple[int, int]) -> tuple[int, int]:
        """Where a stretch stands in the name as it was written."""
        return self.origin[self.places[stretch[0]]], self.origin[self.places[stretch[1] - 1] + 1]


def _form(text: str, origin: Iterable[int], escape: str = "") -> _Form:
    places = [match.start() for match in _ALNUM.finditer(text)]
    return _Form(text=text, origin=tuple(origin), places=places, flat=_flat(text, places), escape=escape)


def _undone(name: str) -> list[_Form]:
    """The name as written, and with the escapes in it undone."""
    forms = [_form(name, range(len(name) + 1))]
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
            forms.append(_form(text + name[at:], (*origin, *range(at, len(name) + 1)), words))
    return forms


def _at_domain(form: _Form, wanted: str, domain: str, homes: tuple[str, ...], *, backwards: bool) -> Iterator[Folded]:
    """The readings of one spelling of a name at one domain, whose letters and digits are `wanted`."""
    start = form.flat.find(wanted)
    while start >= 0:
        end = start + len(wanted)
        further = start and not backwards and _goes_on(form, end, homes)
        if form.edge(start) and form.edge(end) and not further:
            for stretch, first in (((0, start), False), ((end, len(form.flat)), True)):
                for beside in _stretches(form, stretch, homes, at_end=not first):
                    for local in _locals(form, *beside, from_left=not first):
                        how = _told(form, local, (start, end), domain, backwards=backwards, first=first)
                        spans = form.written(local), form.written((start, end))
                        yield Folded(form.flat[slice(*local)], domain, *spans, how)
        start = form.flat.find(wanted, start + 1)


def _goes_on(form: _Form, end: int, homes: tuple[str, ...]) -> bool:
    """Whether further labels follow a domain, so that it is another one: a dot, then neither home nor a marker."""
    if end == len(form.flat) or form.gap(end) != ".":
        return False
    follows = form.flat[slice(*form.runs(end, len(form.flat))[0])]
    return follows not in GUEST_MARKERS and not any(form.flat[end:].startswith(home) for home in homes)


def _stretches(
    form: _Form, stretch: tuple[int, int], homes: tuple[str, ...], *, at_end: bool
) -> Iterator[tuple[int, int]]:
    """What stands on one side of the domain, less the home domain at the far end: whole, and less a word for at.

    `at_end` says that the domain follows. A word next to the domain stands for the at sign where it means that, where
    brackets enclose it, or one and the same sign, none of those that part names.
    """
    low, high = stretch
    for home in homes:
        if at_end and form.flat[low:high].startswith(home) and form.edge(low + len(home)):
            low += len(home)
        elif not at_end and form.flat[low:high].endswith(home) and form.edge(high - len(home)):
            high -= len(home)
    runs = form.runs(low, high)
    if len(runs) < 2:
        yield low, high
        return
    left, right = runs[-1] if at_end else runs[0]
    rest = (low, left) if at_end else (right, high)
    if form.flat[left:right] in _AT_WORDS:
        yield rest
        if form.gap(left) != form.gap(right):
            yield low, high
        return
    yield low, high
    around = form.gap(left) + form.gap(right)
    same = form.gap(left) == form.gap(right) and not set(around) & set("._-@")
    if same or around in _BRACKETS:
        yield rest


def _locals(form: _Form, low: int, high: int, *, from_left: bool) -> Iterator[tuple[int, int]]:
    """The stretches that may be the local part: the whole first, then with a marker at the far end left out.

    What is left out is a marker only where another character parts it from the rest than the rest has inside, where it
    is a word that means a guest, or where it stands at the name's other end too.
    """
    runs = form.runs(low, high)
    if not runs:
        return
    yield low, high
    every = form.runs(0, len(form.flat))
    ends = {form.flat[slice(*every[0])], form.flat[slice(*every[-1])]} if len(every) > 2 else set()
    for count in range(1, len(runs)):
        kept, dropped = (runs[count:], runs[count - 1]) if from_left else (runs[:-count], runs[-count])
        cut = kept[0][0] if from_left else kept[-1][1]
        inside = {form.gap(item[0]) for item in kept[1:]}
        marker = form.flat[slice(*dropped)]
        if form.gap(cut) not in inside or marker in GUEST_MARKERS or ends == {marker}:
            yield (cut, high) if from_left else (low, cut)


def _told(
    form: _Form, local: tuple[int, int], domain_at: tuple[int, int], domain: str, *, backwards: bool, first: bool
) -> tuple[str, ...]:
    """What the folding did, in words that complete "the directory …"."""
    near, far = (domain_at, local) if first else (local, domain_at)
    gap = form.text[form.places[near[1] - 1] + 1 : form.places[far[0]]]
    written = form.words(domain_at)
    words = ["put the domain first"] if first else []
    if gap == "@" and form.escape:
        words.append(f"wrote the at sign {form.escape}")
    elif gap != "@":
        words.append(f"put {gap} where the at sign was" if gap else "left the at sign out")
    if backwards:
        words.append("wrote the domain backwards")
    elif written.casefold() != domain:
        words.append(f"wrote the domain as {written}")
    head, tail = form.text[: form.places[near[0]]], form.text[form.places[far[1] - 1] + 1 :]
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
    folded, _, home = name.partition("@")
    if not home or "@" in home or len(name) > limits.ADDRESS_CHARACTERS:
        return None
    for sign in _AT_SIGN.finditer(folded):
        domain = _DOMAIN.match(folded, sign.end())
        if sign.start() == 0 or domain is None:
            continue
        marker = folded[domain.end() :]
        if marker[:1] == "." or (marker and marker[0].isascii() and marker[0].isalnum()):
            continue
        ending = domain[0].rpartition(".")[2].casefold()
        return (folded[: sign.start()], domain[0], home) if marker or DOMAIN_ENDINGS.fullmatch(ending) else None
    return None


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
    if [run.casefold() for run in runs] != [aim.casefold() for aim in aims]:
        return None
    between, aimed = _RUN.split(written), _RUN.split(wanted)
    pattern = literal(between[0]) + "".join(f"([A-Za-z0-9]+){literal(text)}" for text in between[1:])
    return pattern, aimed[0] + "".join("{}" + text for text in aimed[1:])


def literal(text: str) -> str:
    """A text as a regular expression that matches it, with no more escapes than are needed."""
    return re.sub(r"[.^$*+?{}\[\]\\|()]", lambda match: "\\" + match[0], text)
