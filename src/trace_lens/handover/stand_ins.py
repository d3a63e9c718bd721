"""People, their addresses in the network and secrets out of a diagnosis: the same stand-in for the same one throughout.

What is replaced is known by its kind: a value that names a person is a Person wherever it goes. Words of others (a
page, a log) are no such values; in them every name that was met elsewhere is replaced, in every spelling on record.
"""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Iterable, Iterator
from typing import Any, TypeVar

from trace_lens.checks.claims import ClaimRow
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.masking import Masks
from trace_lens.common.masking import Secret as MaskedSecret
from trace_lens.common.personal import names_person
from trace_lens.common.sentences import Count, FileName, Moment, Person, Secret, Sentence, Value, filled
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.logs.event import Event
from trace_lens.people.spellings import People

T = TypeVar("T")
_ON_RECORD = "the support desk's records"
_SHORTEST = 4
"""Names of fewer letters are not looked for in the words of others: they would be found in other words."""
_EDGE = r"(?<![\w.@+-]){}(?![\w@]|[.-]\w)"
"""Where a name begins and ends in words: an identifier that holds it (a host, say) is another word."""
_EDGE_IN_FILES = r"(?<![^\W_]){}(?![^\W_])"
"""The same in the name of a file: `m.tern-fails.har` holds one."""


class StandIns:
    """Hands out stand-ins: `person 1`, `address 1`; all spellings of a person on record share one."""

    def __init__(self, people: People, masks: Masks, *, hides_files: bool = False) -> None:
        """`hides_files` says that files of the workspace are not named: the reader is of another house."""
        self._people = people
        self._hides_files = hides_files
        self._masks = masks
        self._numbers: dict[object, int] = {}
        self._names: dict[str, str] = {}
        self._addresses: dict[str, str] = {}
        self._patterns: dict[str, re.Pattern[str]] = {}

    def person(self, name: str) -> str:
        """The stand-in of a person, by any of their spellings."""
        known = name.strip().casefold()
        if not known:
            return name
        if known not in self._names:
            meant = self._people.of([name])
            key: object = next(iter(meant)) if len(meant) == 1 else self._alike(known)
            number = self._numbers.setdefault(key, len(self._numbers) + 1)
            self._names[known] = f"person {number}"
            for spelling in self._people.spellings(key) if isinstance(key, int) else ():
                self._names.setdefault(spelling, f"person {number}")
            self._patterns = {}
        return self._names[known]

    def _alike(self, name: str) -> object:
        """Under what somebody is known whom nothing on record knows: the one whom a name may mean, else the name."""
        reading = self._people.read(name)
        return next(iter(reading)) if len(reading) == 1 else name

    def address(self, text: str) -> str:
        """The stand-in of an address in the network."""
        return self._addresses.setdefault(text, f"address {len(self._addresses) + 1}")

    def of_value(self, value: Value) -> str:
        """What is shown in the place of a value of a known kind."""
        if isinstance(value, Person):
            return self.person(value)
        if isinstance(value, Secret):
            return self._masks.mask(value)
        if isinstance(value, FileName):
            return _ON_RECORD if self._hides_files else value
        if isinstance(value, Moment | Count):
            return value
        return self.in_words(str(value))

    def in_words(self, text: str) -> str:
        """Words of others, with every name and address in them replaced that was met elsewhere."""
        for address, stand_in in self._addresses.items():
            if address in text:
                text = re.sub(_EDGE.format(re.escape(address)), stand_in, text)
        return self._pattern(_EDGE).sub(lambda match: self._names[match[0].casefold()], text)

    def in_file_name(self, text: str) -> str:
        """The name of a file, with every person in it replaced whom something else names."""
        return self._pattern(_EDGE_IN_FILES).sub(lambda match: self._names[match[0].casefold()], text)

    def _pattern(self, edge: str) -> re.Pattern[str]:
        """The names met so far, the longest first."""
        if edge not in self._patterns:
            names = sorted((name for name in self._names if len(name) >= _SHORTEST), key=len, reverse=True)
            listed = f"(?:{'|'.join(map(re.escape, names))})"
            self._patterns[edge] = re.compile(edge.format(listed) if names else r"(?!)", re.IGNORECASE)
        return self._patterns[edge]


def without_people(diagnoses: Iterable[Diagnosis], stand_ins: StandIns) -> list[Diagnosis]:
    """Diagnoses in which no person, no address of one, and no secret is left."""
    found = list(diagnoses)
    for diagnosis in found:
        for name in people_in(diagnosis):
            stand_ins.person(name)
        for address in addresses_in(diagnosis):
            stand_ins.address(address)
    return [_replaced(diagnosis, stand_ins) for diagnosis in found]


def people_in(value: Any) -> Iterator[str]:
    """Every name of a person in a diagnosis."""
    if isinstance(value, Person):
        yield value
    elif isinstance(value, Sentence):
        for part in value.values.values():
            yield from people_in(part)
    elif isinstance(value, Diagnosis):
        if value.subject:
            yield value.subject
        for field in value:
            yield from people_in(field)
    elif isinstance(value, Event):
        if value.user:
            yield value.user
    elif isinstance(value, ClaimRow):
        if names_person(value.name) or names_person(value.serves or ""):
            yield from (*value.values, *value.mapped)
        for row_field in value:
            yield from people_in(row_field)
    elif isinstance(value, tuple):
        for member in value:
            yield from people_in(member)


def addresses_in(value: Any) -> Iterator[str]:
    """The network addresses that people came from."""
    if isinstance(value, Event):
        if value.ip and _is_address(value.ip):
            yield value.ip
    elif isinstance(value, tuple):
        for member in value:
            yield from addresses_in(member)


def _is_address(text: str) -> bool:
    try:
        ipaddress.ip_address(text)
    except ValueError:
        return False
    return True


def _replaced(value: T, stand_ins: StandIns) -> T:
    """A value, and all that it is made of, with people replaced."""
    made: Any = _part(value, stand_ins)
    if (
        isinstance(value, Finding)
        and value.difference
        and (made.expected, made.actual) != (value.expected, value.actual)
    ):
        made = made._replace(actual=f"{made.actual} ({value.difference})", differing=None)
    return made  # type: ignore[no-any-return]


def _part(value: Any, stand_ins: StandIns) -> Any:
    made: Any = value
    if isinstance(value, Evidence) and value.secret:
        made = value._replace(
            value=stand_ins.of_value(Secret(value.value)),
            label=stand_ins.in_words(value.label),
            source=stand_ins.in_file_name(value.source),
        )
    elif isinstance(value, Event):
        made = value._replace(
            user=stand_ins.person(value.user) if value.user else None,
            ip=stand_ins.address(value.ip) if value.ip else None,
            reason=stand_ins.in_words(value.reason) if value.reason else None,
            ids=(),
        )
    elif isinstance(value, MaskedSecret):
        made = stand_ins.of_value(Secret(value))
    elif isinstance(value, Value):
        made = type(value)(stand_ins.of_value(value))
    elif isinstance(value, Sentence):
        made = stand_ins.in_words(filled(value, stand_ins.of_value))
    elif type(value) is str:
        made = stand_ins.in_words(value)
    elif isinstance(value, tuple) and hasattr(value, "_make"):
        made = type(value)._make(_replaced(member, stand_ins) for member in value)
        source = getattr(value, "source", None)
        if type(source) is str:
            made = made._replace(source=stand_ins.in_file_name(source))
    elif type(value) is tuple:
        made = tuple(_replaced(member, stand_ins) for member in value)
    return made
