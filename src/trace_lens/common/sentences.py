"""Sentences as data: a template of the program, and the values that fill it in, each of its kind.

A sentence is text, and can be shown as it is. It also keeps what it was made of, so that an output can leave out, or
replace, what is of one kind (the names of people, secrets) without searching the text. A value gets its kind where it
enters the program (the subject of a message, the list of accounts), and keeps it as long as it is passed on whole.
Identifiers and addresses have no kind of their own: they are text, in which names of people are looked for too.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any


class Value(str):
    """A value of a known kind; where it is only passed on, it keeps that kind."""

    __slots__ = ()


class Person(Value):
    """What names a person: a login, an e-mail address, a NameID, a subject."""

    __slots__ = ()


class Secret(Value):
    """What must not be shown: a token, a code, a password, a cookie."""

    __slots__ = ()


class FileName(Value):
    """What names a file of the workspace: it says nothing to the other side."""

    __slots__ = ()


class Quotation(Value):
    """Words of somebody else (of a page, an error, a log): they may name anybody."""

    __slots__ = ()


class Moment(Value):
    """A moment, or how long something takes, as it is shown."""

    __slots__ = ()


class Count(Value):
    """A number of things, as it is shown."""

    __slots__ = ()


class Sentence(str):
    """Text that keeps the template it was made from, and the values in it by their names."""

    template: str
    values: Mapping[str, Any]
    __slots__ = ("template", "values")

    def __add__(self, other: str) -> str:
        return say("{before}{after}", before=self, after=other)

    def __radd__(self, other: str) -> str:
        return say("{before}{after}", before=other, after=self)

    def __reduce__(self) -> tuple[Callable[..., str], tuple[str, dict[str, Any]]]:
        return _again, (self.template, dict(self.values))

    def strip(self, chars: str | None = None, /) -> str:
        """The text without blanks at its ends; still a sentence where there are none."""
        return self if str(self) == str.strip(self, chars) else super().strip(chars)


def say(template: str, /, **values: object) -> str:
    """A Sentence: the template (see `str.format`) filled in. Values that are no text are shown as `str` shows them."""
    sentence = Sentence(template.format_map(values))
    sentence.template = template
    sentence.values = values
    return sentence


def _again(template: str, values: dict[str, Any]) -> str:
    return say(template, **values)


def filled(text: str, replaced: Callable[[Value], str]) -> str:
    """The text with each value of a known kind replaced, in sentences within sentences too.

    What is neither a value nor a sentence is left as it is: nothing is searched for.
    """
    if isinstance(text, Value):
        return replaced(text)
    if not isinstance(text, Sentence):
        return text
    shown = {name: filled(value, replaced) if isinstance(value, str) else value for name, value in text.values.items()}
    return text.template.format_map(shown)
