"""Attempts as JSON Lines. Of those that are told after another one, all but what differs is written once."""

from __future__ import annotations

import re
from collections.abc import Callable, Hashable
from datetime import UTC, datetime
from functools import lru_cache
from typing import Any, TypeVar
from uuid import uuid4

from trace_lens.common.masking import Masks
from trace_lens.common.moments import show_moment
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.retold import Again, Number, told_after
from trace_lens.render import as_json

P = TypeVar("P", bound=Hashable)
_NUMBER, _SOURCE, _STAGES, _UNCHECKED, _SUBJECT, _VALUES = (f"gap-{uuid4().hex}" for _ in range(6))
_MOMENT = datetime(9999, 12, 31, 23, 59, 58, 987_654, UTC)
_MOST = 2_000
"""Texts of attempts that are kept."""
_MOST_PARTS = 500
"""Texts of parts that are kept at once."""
_AT = show_moment(_MOMENT)
_GAP = re.compile(f"({_NUMBER}|{_SOURCE}|{_SUBJECT}|{re.escape(_AT)}|{_VALUES}-[0-9]+-[0-9]+)")


class AttemptLines:
    """Writes attempts, each in one line."""

    def __init__(self, masks: Masks) -> None:
        self._masks = masks
        self._texts: dict[Number, list[str] | None] = {}
        self._parts: dict[Hashable, str] = {}

    def line(self, diagnosis: Diagnosis, number: int, again: Again | None = None) -> str:
        """One attempt by its number; `again` is what is told of it after the diagnosis, where that is of another."""
        if again is None:
            return self._whole(diagnosis._replace(id=str(number)))
        if again.number not in self._texts and len(self._texts) < _MOST:
            self._texts[again.number] = self._text(diagnosis, again)
        text = self._texts.get(again.number)
        return self._told(diagnosis, number, again) if text is None else _filled(text, number, again)

    def _told(self, first: Diagnosis, number: int, again: Again) -> str:
        return self._whole(told_after(first, again)._replace(id=str(number)))

    def _whole(self, diagnosis: Diagnosis) -> str:
        """A line of which the parts that many attempts share are written once."""
        little = as_json.attempt(diagnosis._replace(stages=(), unchecked=()), self._masks)
        line = as_json.line(little | {"stages": _STAGES, "unchecked": _UNCHECKED})
        line = line.replace(f'"{_STAGES}"', self._part(diagnosis.stages, as_json.stages))
        return line.replace(f'"{_UNCHECKED}"', self._part(diagnosis.unchecked, as_json.questions))

    def _part(self, part: P, write: Callable[[P], Any]) -> str:
        text = self._parts.get(part)
        if text is None:
            if len(self._parts) >= _MOST_PARTS:
                self._parts.clear()
            text = self._parts[part] = as_json.line(write(part))
        return text

    def _text(self, first: Diagnosis, again: Again) -> list[str] | None:
        """The line of an attempt in pieces, each second one a gap; None where it cannot be used for others."""
        if any(item.secret for finding in first.findings for item in finding.evidence):
            return None  # a mask has a number of its own
        claims = tuple(
            (tuple(f"{_VALUES}-{place}-{number}" for number in range(len(values))), mapped)
            for place, (values, mapped) in enumerate(again.claims)
        )
        marked = told_after(first, Again((0, 0), _SOURCE, first.judged.at or _MOMENT, (), _SUBJECT, claims))
        marked = marked._replace(id=_NUMBER, judged=marked.judged._replace(at=_MOMENT))
        text = _GAP.split(self._whole(marked))
        return text if _filled(text, 1, again) == self._told(first, 1, again) else None


@lru_cache(1_000)
def _inside(value: str) -> str:
    """A text as it stands between the quotes of JSON."""
    return as_json.line(value)[1:-1]


def _filled(text: list[str], number: int, again: Again) -> str:
    fills = {
        _NUMBER: str(number),
        _SOURCE: as_json.line(again.source)[1:-1],
        _SUBJECT: _inside(again.subject or ""),
        _AT: show_moment(again.at),
    }
    for place, (values, _) in enumerate(again.claims):
        for which, value in enumerate(values):
            fills[f"{_VALUES}-{place}-{which}"] = _inside(value)
    made = text.copy()
    made[1::2] = [fills[gap] for gap in text[1::2]]
    return "".join(made)
