"""What arithmetic said of a message before it was redacted, told in the place of the arithmetic on its copy.

The signature over a redacted copy can hold no more, and what is encrypted in it is no ciphertext. So whoever makes the
copy listens to each such question while the original is judged (`Listening`), asks the same questions of the copy and
writes down, for the octets as they stand there, what held (`Replaying`); whoever judges the copy is told that
(`Verdicts`). A verdict is bound to the very octets that it is about: a changed copy finds none.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any, Protocol

Parts = tuple[bytes, ...]


class Answering(Protocol):
    """Answers the questions of arithmetic in its place; `compute` is the arithmetic itself."""

    def holds(self, kind: str, key: bytes, value: bytes, octets: bytes, compute: Callable[[], bool]) -> bool: ...

    def opened(self, key: bytes, value: bytes, compute: Callable[[], bytes], broken: type[Exception]) -> bytes: ...


_answering: ContextVar[Answering | None] = ContextVar("answering", default=None)


@contextmanager
def answered_by(answering: Answering | None) -> Iterator[None]:
    """Let something else answer within this block; None lets arithmetic answer."""
    token = _answering.set(answering)
    try:
        yield
    finally:
        _answering.reset(token)


def answering() -> Answering | None:
    """Who answers in the place of arithmetic; None where nobody does."""
    return _answering.get()


def mark(*parts: bytes) -> str:
    """The mark under which a verdict is kept: a digest of everything that it is about."""
    made = hashlib.sha256()
    for part in parts:
        made.update(len(part).to_bytes(8) + part)
    return made.hexdigest()


class Verdicts:
    """What a record tells of one copy: the marks of what held, and what came out of what was encrypted.

    `used` says whether anything was answered by the record alone.
    """

    def __init__(self, held: frozenset[str], inside: Mapping[str, bytes | None]) -> None:
        self._held, self._inside = held, inside
        self.used = False

    def holds(self, kind: str, key: bytes, value: bytes, octets: bytes, compute: Callable[[], bool]) -> bool:
        """Whether it holds by arithmetic, or held as the record has it."""
        if compute():
            return True
        told = mark(kind.encode(), key, value, octets) in self._held
        self.used = self.used or told
        return told

    def opened(self, key: bytes, value: bytes, compute: Callable[[], bytes], broken: type[Exception]) -> bytes:
        """What came out of a ciphertext, as the record has it; else what the arithmetic gives or raises."""
        name = mark(b"opened", key, value)
        if name not in self._inside:
            return compute()
        self.used = True
        return _given(self._inside[name], broken)


class Listening:
    """Writes down what arithmetic answers, in the order of the questions."""

    def __init__(self) -> None:
        self.answers: dict[tuple[str, bytes, bytes], list[Any]] = {}

    def holds(self, kind: str, key: bytes, value: bytes, octets: bytes, compute: Callable[[], bool]) -> bool:
        """The answer of arithmetic; one question that is asked twice counts once."""
        told = compute()
        asked = self.answers.setdefault((kind, key, value), [])
        if not any(before == octets for before, _ in asked):
            asked.append((octets, told))
        return told

    def opened(self, key: bytes, value: bytes, compute: Callable[[], bytes], broken: type[Exception]) -> bytes:
        """What the arithmetic gives, or that what came out was broken."""
        try:
            told: bytes | None = compute()
        except broken:
            told = None
        self.answers[("opened", key, value)] = [(b"", told)]
        return _given(told, broken)


class Replaying:
    """Answers of a copy what was answered of its original, and writes down under which mark each is to be found.

    `original` gives the octets that a stand-in is for; `inside` makes a copy of what had come out of a ciphertext.
    """

    def __init__(
        self, heard: Listening, original: Callable[[bytes], bytes | None], inside: Callable[[bytes], bytes]
    ) -> None:
        self._heard, self._original, self._copied = heard, original, inside
        self._asked: dict[tuple[str, bytes, bytes], list[bytes]] = {}
        self.held: set[str] = set()
        self.inside: dict[str, bytes | None] = {}

    def holds(self, kind: str, key: bytes, value: bytes, octets: bytes, compute: Callable[[], bool]) -> bool:
        """The answer to the same question, by its place among those about the same value and key."""
        if compute():
            return True
        asked = self._asked.setdefault((kind, key, value), [])
        if octets not in asked:
            asked.append(octets)
        answers = self._heard.answers.get((kind, self._original(key) or key, self._original(value) or value), [])
        place = asked.index(octets)
        told = place < len(answers) and bool(answers[place][1])
        if told:
            self.held.add(mark(kind.encode(), key, value, octets))
        return told

    def opened(self, key: bytes, value: bytes, compute: Callable[[], bytes], broken: type[Exception]) -> bytes:
        """The copy of what had come out of the ciphertext that this one is for."""
        asked = ("opened", self._original(key) or key, self._original(value) or value)
        answers = self._heard.answers.get(asked)
        if not answers:
            return compute()
        told = answers[0][1]
        copied = None if told is None else self._copied(told)
        self.inside[mark(b"opened", key, value)] = copied
        return _given(copied, broken)


def holds(kind: str, key: Callable[[], bytes], value: bytes, octets: bytes, compute: Callable[[], bool]) -> bool:
    """Whether something holds: by arithmetic, or by whoever answers in its place."""
    other = _answering.get()
    return compute() if other is None else other.holds(kind, key(), value, octets, compute)


def opened(key: Callable[[], bytes], value: bytes, compute: Callable[[], bytes], broken: type[Exception]) -> bytes:
    """What is inside a ciphertext: by arithmetic, or by whoever answers in its place. Raises what that raises.

    `broken` is the error that says that the key is right and what comes out is not intact.
    """
    other = _answering.get()
    return compute() if other is None else other.opened(key(), value, compute, broken)


def _given(told: bytes | None, broken: type[Exception]) -> bytes:
    if told is None:
        raise broken
    return told
