"""What the answer to a page's call says of who is there, by its JSON alone.

Interfaces answer 200 to whom they do not know, too, and say so inside. Read are the members of the object itself and of
those that only wrap it; the members of things that it lists are about those things.
"""

from __future__ import annotations

import json
import re
from typing import Any

from trace_lens.common.expressions import expression
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import Exchange

_WRAPPERS = ("data", "result", "response", "payload", "body", "session", "auth")
_FLAGS = expression(r"(?:is_?)?(?:authenticated|logged_?(?:in|on)|signed_?(?:in|on))")
_PERSON = expression(r"(?:current_?)?(?:user|me|viewer|account|profile|person|principal|identity|session)(?:_?info)?")
_OF_PERSON = (
    "email",
    "mail",
    "username",
    "user_name",
    "userid",
    "user_id",
    "login",
    "upn",
    "sub",
    "preferred_username",
    "displayname",
    "display_name",
    "givenname",
    "given_name",
)
_WHO = expression(
    r"/(?:me|self|viewer|who-?am-?i|(?:current[-_]?)?(?:user|session|account|identity|profile)(?:[-_]?info)?)/?$",
    re.IGNORECASE,
)
_ANONYMOUS = expression(r"anonymous(?:_?user)?|guest|nobody|none|null|", re.IGNORECASE)
_MOST = 65_536
_DEEPEST = 3


class Told(NamedTuple):
    """What an answer says: `there` is True of somebody, False of nobody, None where it tells of neither; `words` are
    the member that says so.
    """

    there: bool | None
    words: str = ""


_NEITHER = Told(None)


def told_by(exchange: Exchange) -> Told:
    """Whether the JSON of an answer says that somebody is signed in, or that nobody is."""
    answer = exchange.answer or b""
    if answer.lstrip()[:1] != b"{" or len(answer) > _MOST:
        return _NEITHER
    try:
        found = json.loads(exchange.text)
    except (ValueError, RecursionError):
        return _NEITHER
    return _told(found, asks_who(exchange))


def asks_who(exchange: Exchange) -> bool:
    """Whether a call asks who is there, by the end of its address."""
    return _WHO.search(exchange.parts.path) is not None


def _told(found: dict[str, Any], asked_who: bool) -> Told:
    members = list(_members(found, _DEEPEST))
    yes = [name for name, value in members if _says_somebody(name, value, asked_who)]
    flags = [name for name, value in members if value is False and _FLAGS.fullmatch(_plain(name))]
    if flags:
        return _NEITHER if yes else Told(False, f'"{flags[0]}": false')
    if yes:
        return Told(True, f'"{yes[0]}"')
    missing = [name for name, value in members if _is_none(value) and _PERSON.fullmatch(_plain(name))]
    if missing and all(_is_none(value) for _, value in members):  # beside other things it may be the person of those
        return Told(False, f'"{missing[0]}": {json.dumps(dict(members)[missing[0]])}')
    return _NEITHER


def _members(found: dict[str, Any], deep: int) -> list[tuple[str, Any]]:
    made: list[tuple[str, Any]] = []
    for name, value in found.items():
        if deep and isinstance(value, dict) and value and _plain(name) in _WRAPPERS:
            made += _members(value, deep - 1)
        else:
            made.append((name, value))
    return made


def _says_somebody(name: str, value: object, asked_who: bool) -> bool:
    plain = _plain(name)
    if value is True:
        return _FLAGS.fullmatch(plain) is not None
    if _is_none(value) or not isinstance(value, str | dict):
        return False
    if isinstance(value, str):
        return plain in _OF_PERSON or (asked_who and plain in ("name", "user"))
    return _PERSON.fullmatch(plain) is not None and any(
        _says_somebody(inner, told, True) for inner, told in value.items()
    )


def _is_none(value: object) -> bool:
    return _ANONYMOUS.fullmatch(value) is not None if isinstance(value, str) else not value


def _plain(name: str) -> str:
    """A member's name as it is compared: isLoggedIn and is-logged-in are one."""
    return re.sub(r"(?<=[a-z])(?=[A-Z])|-", "_", name).lower()
