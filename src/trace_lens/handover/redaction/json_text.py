"""JSON rewritten where it stands: strings and numbers get what a visitor makes of them, all else stays to the letter.

Read by its tokens (RFC 8259 §2), so that a text that breaks off, has a comma too many or names a member twice stays so.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple

_TOKEN = expression(
    r'"(?:[^"\\]|\\.)*+"|"(?:[^"\\]|\\.)*+|[{}\[\]:,]|-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?|[^\s"{}\[\]:,]+|\s+', re.DOTALL
)
_NUMBER = expression(r"-?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?")
_NAMES = ("name", "key", "Name", "Key", "header", "field")


class Member(NamedTuple):
    """A value in JSON: its text, the name it stands under, and the names above, outermost first.

    `beside` are the texts that stand beside it in the same object, by their names. `is_number` and `is_key` say what
    it is.
    """

    text: str
    name: str
    above: tuple[str, ...]
    beside: dict[str, str]
    is_number: bool = False
    is_key: bool = False


Visit = Callable[[Member], str]


def rewritten(text: str, visit: Visit, name: str = "", above: tuple[str, ...] = ()) -> str:
    """JSON with what the visitor makes of each string, number and name of a member."""
    walk = _Walk(tokens(text), visit)
    while walk.place < len(walk.tokens):
        walk.value(name, above, {})
    return "".join(walk.made)


def string(token: str) -> str | None:
    """The text of a string's token; None where it is no whole string."""
    if "\\" not in token and len(token) > 1 and token[-1] == '"':
        return token[1:-1]
    try:
        value = json.loads(token, strict=False)
    except ValueError:
        return None
    return value if isinstance(value, str) else None


def as_token(value: str, like: str) -> str:
    """A text as a token, written as another one was."""
    made = json.dumps(value, ensure_ascii=like.isascii())
    return made.replace("/", "\\/") if "\\/" in like else made


class _Walk:
    """One walk over the tokens; `made` are those that were written."""

    def __init__(self, tokens: list[str], visit: Visit) -> None:
        self.tokens, self.visit = tokens, visit
        self.made: list[str] = []
        self.place = 0

    def value(self, name: str, above: tuple[str, ...], beside: dict[str, str]) -> None:
        """One value, or whatever else stands where one is expected. Goes down without recursion's limit."""
        stack: list[tuple[str, str, tuple[str, ...], dict[str, str], str]] = []
        here, kind, key = beside, "", name
        waiting_for_key = False
        while self.place < len(self.tokens):
            token = self.tokens[self.place]
            self.place += 1
            if token.isspace() or token == ",":
                self.made.append(token)
                waiting_for_key = waiting_for_key or (token == "," and kind == "{")
                continue
            if token in "{[":
                stack.append((kind, key, above, here, "k" if waiting_for_key else ""))
                above = (*above[-_ABOVE:], key) if key else above
                kind = token
                here = self._texts(self.place) if token == "{" else here
                waiting_for_key = token == "{"
                self.made.append(token)
                continue
            if token in "}]":
                self.made.append(token)
                if stack:
                    kind, key, above, here, _ = stack.pop()
                waiting_for_key = False
            elif token == ":":
                self.made.append(token)
                waiting_for_key = False
                continue
            elif waiting_for_key and token[0] == '"':
                key = string(token) or ""
                self.made.append(self._string(token, Member(key, key, above, here, is_key=True)))
                waiting_for_key = False
                continue
            else:
                self.made.append(self._leaf(token, key, above, here))
            if not stack:
                return

    def _texts(self, place: int) -> dict[str, str]:
        """The texts of the members of an object that begins before a place."""
        found: dict[str, str] = {}
        depth, key, is_key = 0, "", True
        for token in self.tokens[place : place + _LOOKED_AT]:
            if token in "{[":
                depth += 1
            elif token in "}]":
                depth -= 1
                if depth < 0:
                    break
            elif depth == 0 and token == ":":
                is_key = False
            elif depth == 0 and token == ",":
                is_key = True
            elif depth == 0 and token[0] == '"' and len(token) < _LONG:
                if is_key:
                    key = string(token) or ""
                else:
                    found.setdefault(key, string(token) or "")
        return found

    def _leaf(self, token: str, key: str, above: tuple[str, ...], here: dict[str, str]) -> str:
        if token[0] == '"':
            return self._string(token, Member("", key, above, here))
        if _NUMBER.fullmatch(token):
            return self.visit(Member(token, key, above, here, is_number=True))
        if token in ("true", "false", "null"):
            return token
        return self.visit(Member(token, key, above, here))

    def _string(self, token: str, member: Member) -> str:
        value = string(token)
        if value is None:  # it breaks off
            bare = token[1:].rstrip("\\")
            return '"' + self.visit(member._replace(text=bare))
        made = self.visit(member._replace(text=value))
        return token if made == value else as_token(made, token)


_ABOVE = 24
"""So many of the names above a value are told."""
_LOOKED_AT = 400
"""So many tokens of an object are looked at for the name that a value in it goes by."""
_LONG = 2000


def named_by(member: Member) -> str:
    """The name that a value goes by: of a pair of name and value that beside it, else that of its member."""
    if member.name in ("value", "Value", "values", "content"):
        for name in _NAMES:
            if member.beside.get(name):
                return member.beside[name]
    return member.name


def tokens(text: str) -> list[str]:
    """The tokens of a text, as they stand."""
    return _TOKEN.findall(text)
