"""Which column is which field: by what its cells hold first, by its name and by what stands beside it then."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Callable, Sequence

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.formats.events import client_address
from trace_lens.logs.recognising.columns import Column, split_by
from trace_lens.logs.recognising.known import Known
from trace_lens.logs.recognising.moments import CLOCK, DATE, Reading, read_times
from trace_lens.logs.recognising.names import called
from trace_lens.logs.recognising.outcomes import Words, read_words

SURE, LIKELY, GUESS = "sure", "likely", "guess"
_TAKEN = 1.0
"""From this score on, a column is taken for a field."""
_SAMPLE = 200
_SEVERAL = 3
"""So many different names on record are no chance, however many others there are."""
_EMAIL = expression(r"(?<![^@\s])[^@\s]++@(?=[^@\s]+?\.[^@\s])[^@\s]++")
_LOGIN = expression(r"[A-Za-z][\w.\-]{1,40}(?:\\[\w.\-]+)?")
_OPAQUE = expression(
    r"\{?[0-9A-Fa-f]{8}-(?:[0-9A-Fa-f]{4}-){3}[0-9A-Fa-f]{12}\}?|_?[0-9A-Fa-f]{12,64}"
    r"|[\w-]{20,}|(?=[\w-]*\d)[\w-]{12,}"
)
_CODE = expression(r"[A-Za-z]{0,8}[-_ ]?\d{1,7}|0x[0-9A-Fa-f]+|(?=[A-Z_]*_)[A-Z_]{4,40}")
_AGENT = expression(r"\w[\w-]*/\d.*")
_DISPLAY_NAME = expression(r"[A-ZÀ-Ý][\w'.-]*,?(?: [A-ZÀ-Ý][\w'.-]*){1,3}")


class Match(NamedTuple):
    """A column that is taken for a field; two for a time that is written as a date and a time of day.

    `score` says how well it fits, `sure` that in a word, `because` why, in words.
    """

    field: str
    columns: tuple[str, ...]
    score: float
    sure: str
    because: str


class Recognised(NamedTuple):
    """The columns of the fields and of ids, how times are written, and what the words of the outcome say."""

    matches: tuple[Match, ...]
    times: Reading | None
    words: Words

    def column(self, field: str) -> str | None:
        """The column of a field, the first where it has two."""
        return next((match.columns[0] for match in self.matches if match.field == field), None)


class _Fit(NamedTuple):
    score: float
    because: str = ""
    sure: str = LIKELY


_NONE = _Fit(0.0)


def recognise(columns: Sequence[Column], rows: int, known: Known | None) -> Recognised:
    """Hold every column against every field, and give each field the column that fits it best.

    The best fit of all is taken first, then the best of what is left: a column has one field only.
    """
    work = _Work(columns, rows, known)
    left = {column.name: column for column in columns if column.filled}
    open_fields = set(_FITS)
    taken: list[Match] = []
    words = Words()
    times: Reading | None = None
    while open_fields and left:
        fits = [
            (work.fit(field, column), -place, field, column)
            for place, column in enumerate(left.values())
            for field in sorted(open_fields)
        ]
        fit, _, field, column = max(fits, key=lambda item: (round(item[0].score, 3), item[1]))
        if fit.score < _TAKEN:
            break
        taken.append(Match(field, (column.name,), fit.score, fit.sure, fit.because))
        open_fields.remove(field)
        del left[column.name]
        if field == "outcome":
            words = work.words[column.name]
            work.failures = frozenset(words.failure), column
        if field == "time":
            times = work.times[column.name]
    if "code" in open_fields and (match := _code_of(taken, words)):
        taken.append(match)
    if "time" in open_fields and (found := work.date_and_time(list(left.values()))):
        match, times = found
        taken.append(match)
    taken += _ids(taken, columns, rows, known)
    return Recognised(tuple(taken), times, words)


class _Work:
    """The columns of one sample, with what was made out of each so far."""

    def __init__(self, columns: Sequence[Column], rows: int, known: Known | None) -> None:
        self.columns, self.rows, self.known = columns, rows, known
        self.words: dict[str, Words] = {}
        self.times: dict[str, Reading | None] = {}
        self.failures: tuple[frozenset[str], Column] | None = None
        self._kept: dict[tuple[str, str, bool], _Fit] = {}

    def fit(self, field: str, column: Column) -> _Fit:
        """How well a column fits a field."""
        key = (field, column.name, self.failures is not None)
        if key not in self._kept:
            self._kept[key] = _FITS[field](self, column)
        return self._kept[key]

    def time(self, column: Column) -> _Fit:
        """Moments, best in the order of the rows."""
        read = self.times[column.name] = read_times(column.values)
        if read is None or read.share < 0.75 or not read.plausible:
            return _NONE
        name = called("time", column)
        ordered = max(0.0, (read.ordered - 0.8) * 5) if column.distinct > 1 else 0.0
        bare = column.values[0].replace(".", "").isdigit()
        score = (0.9 if bare else 1.2) * read.share + 0.5 * ordered + 0.5 * name
        order = ", in the order of the rows" if ordered > 0.5 else ""
        return _Fit(score, f"{read.share:.0%} of its values are moments{order}", SURE if score >= 1.6 else LIKELY)

    def ip(self, column: Column) -> _Fit:
        """Addresses, best many different ones."""
        share = _share(column, _is_ip)
        if share < 0.75:
            return _NONE
        name = called("ip", column)
        score = 1.2 * share + 0.4 * min(1.0, (column.distinct - 1) / 5) + 0.4 * name
        told = f"{share:.0%} of its values are IP addresses, {column.distinct:,} different ones"
        return _Fit(score, told, SURE if name >= 0 else LIKELY)

    def user(self, column: Column) -> _Fit:
        """Names of people on record, else addresses or logins under a name that says so."""
        name = called("user", column)
        some = _distinct(column)
        known = sum(self.known.person(value) for value in some) if self.known else 0.0
        spread = 0.3 * min(1.0, (column.distinct - 1) / 5)
        if (known >= _SEVERAL or known >= len(some) / 2) and column.distinct > 1:
            told = f"{round(known):,} of its {len(some):,} names are of people on record"
            by_name = 0.5 * name if name > 0 else name
            return _Fit(1.5 + known / len(some) / 2 + spread + by_name, told, SURE if name >= 0 else GUESS)
        mail = _share(column, lambda value: bool(_EMAIL.fullmatch(value)))
        if mail > 0.75:
            return _Fit(0.9 * mail + spread + 0.5 * name, f"{mail:.0%} of its values are written like mail addresses")
        login = _share(column, lambda value: bool(_LOGIN.fullmatch(value)))
        return _Fit(0.7 * max(name, 0) + 0.4 * login + spread if name > 0 else 0.0, "its name says so", GUESS)

    def app(self, column: Column) -> _Fit:
        """Names of applications on record, else few different values under a name that says so."""
        name = called("app", column)
        some = _distinct(column)
        known = sum(bool(self.known.apps(value)) for value in some) if self.known else 0
        if known >= _SEVERAL or known >= len(some) / 2:
            told = f"{known:,} of its {len(some):,} values are applications on record"
            score = 1.5 + known / len(some) / 2 + (0.2 if column.distinct > 1 else 0.0) + 0.3 * name
            return _Fit(score, told, SURE if column.distinct > 1 else LIKELY)
        few = 1 < column.distinct <= max(3, self.rows // 4)
        texts = _share(column, lambda value: not value.replace(".", "").isdigit() and not _is_ip(value))
        return _Fit(0.8 + 0.4 * texts if name > 0 and few and texts > 0.5 else 0.0, "its name says so", GUESS)

    def outcome(self, column: Column) -> _Fit:
        """Few words that say how it went, or that stand beside codes and reasons."""
        words = self.words[column.name] = read_words(column, self.columns, self.rows)
        name = called("outcome", column)
        if not words.strength:
            rare = not words.unknown or column.distinct < 2
            return _NONE if rare or name <= 0 else _Fit(1.0, "its name says so; its words say nothing", GUESS)
        if column.filled < self.rows * 0.5:
            return _NONE
        both = 0.2 if words.success and words.failure else 0.0
        return _Fit(words.strength + both + 0.5 * name, words.because, words.sure)

    def code(self, column: Column) -> _Fit:
        """Short codes of few kinds, best filled beside failures only, or beginning alike."""
        fit = _share(column, lambda value: bool(_CODE.fullmatch(value)))
        if fit < 0.9 or column.distinct > max(20, self.rows // 5):
            return _NONE
        name, failing = called("code", column), self._beside_failures(column)
        prefix = re.match(r"[A-Za-z]+", column.values[0])
        alike = prefix is not None and all(value.startswith(prefix[0]) for value in column.values)
        score = 0.4 * fit + 0.7 * max(name, 0) + (0.7 if failing else 0.0) + (0.2 if alike else 0.0)
        if name < 0:
            return _NONE
        told = "it is filled in beside failures only" if failing else "its name says so"
        return _Fit(score, told + (f", and every value begins with {prefix[0]}" if alike and prefix else ""))

    def reason(self, column: Column) -> _Fit:
        """Texts of several words, best filled beside failures only."""
        if called("reason", column) < 0:
            return _NONE
        words = _share(column, lambda value: " " in value)
        name, failing = called("reason", column), self._beside_failures(column)
        other = _share(column, lambda value: bool(_AGENT.match(value) or _DISPLAY_NAME.fullmatch(value)))
        if other > 0.5 or (words < 0.3 and not (name > 0 and failing)):
            return _NONE
        score = 0.5 * words + 0.7 * max(name, 0) + (0.6 if failing else 0.0)
        return _Fit(
            score, "texts that are filled in beside failures only" if failing else "texts, and its name says so"
        )

    def _beside_failures(self, column: Column) -> bool:
        """Whether a column is filled, or says something else than usual, just where the outcome is a failure."""
        if self.failures is None:
            return False
        words, outcome = self.failures
        if split_by(outcome, column, self.rows) == words:
            return True
        common, count = column.counts.most_common(1)[0]
        if column.filled < self.rows * 0.98 or count * 2 < column.filled:
            return False
        rare = [row for row, value in zip(column.rows, column.values, strict=True) if value != common]
        unusual = column._replace(rows=tuple(rare), filled=len(rare))
        return split_by(outcome, unusual, self.rows) == words

    def date_and_time(self, left: Sequence[Column]) -> tuple[Match, Reading] | None:
        """A column of dates and one of times of day that together are moments."""
        dates = [column for column in left if _share(column, lambda value: bool(DATE.fullmatch(value))) > 0.9]
        clocks = [column for column in left if _share(column, lambda value: bool(CLOCK.fullmatch(value))) > 0.9]
        for date in dates:
            for clock in clocks:
                if date is clock or date.rows != clock.rows:
                    continue
                read = read_times([f"{day} {hour}" for day, hour in zip(date.values, clock.values, strict=True)])
                if read and read.share > 0.9 and read.plausible:
                    told = f"a date and a time of day, which together are moments in {read.share:.0%} of the rows"
                    return Match("time", (date.name, clock.name), 1.5, SURE, told), read
        return None


_FITS: dict[str, Callable[[_Work, Column], _Fit]] = {
    "time": _Work.time,
    "ip": _Work.ip,
    "user": _Work.user,
    "app": _Work.app,
    "outcome": _Work.outcome,
    "code": _Work.code,
    "reason": _Work.reason,
}


def _code_of(taken: Sequence[Match], words: Words) -> Match | None:
    """The column of the outcome once more, where its words are numbers: then they are codes too."""
    outcome = next((match for match in taken if match.field == "outcome"), None)
    told = (*words.success, *words.failure)
    if outcome is None or not told or not all(word.lstrip("-").isdigit() for word in told):
        return None
    return Match("code", outcome.columns, outcome.score, LIKELY, "its outcomes are numbers")


def _ids(taken: Sequence[Match], columns: Sequence[Column], rows: int, known: Known | None) -> list[Match]:
    """The columns of ids: those whose values stand in captures, else opaque ones that are named so or differ."""
    used = {name for match in taken for name in match.columns}
    found = []
    for column in columns:
        if column.name in used or not column.filled:
            continue
        carried = [value for value in _distinct(column) if known and value in known.carried]
        if carried:
            where = known.carried[carried[0]] if known else ""
            stand = "stands" if len(carried) == 1 else "stand"
            told = f"{len(carried):,} of its values {stand} in captures, as in {where}"
            found.append(Match("ids", (column.name,), 2.0, SURE, told))
            continue
        opaque = _share(column, lambda value: bool(_OPAQUE.fullmatch(value)) and not _is_ip(value))
        name = called("ids", column)
        if opaque > 0.7 and name > 0:
            found.append(Match("ids", (column.name,), 1.2, LIKELY, "opaque values, and its name says so"))
        elif opaque > 0.9 and name == 0 and column.distinct > max(column.filled // 2, 3):
            told = "opaque values, most of them different"
            found.append(Match("ids", (column.name,), 1.0, GUESS, told))
    return found


def _distinct(column: Column) -> list[str]:
    return list(dict.fromkeys(column.values))


def _share(column: Column, holds: Callable[[str], bool]) -> float:
    some = column.values[:_SAMPLE]
    return sum(holds(value) for value in some) / len(some) if some else 0.0


def _is_ip(text: str) -> bool:
    try:
        ipaddress.ip_address(client_address(text).split("%")[0])
    except ValueError:
        return False
    return True
