"""What a page may call the person who signs in."""

from __future__ import annotations

import re
from urllib.parse import parse_qsl

from trace_lens.attempts.journeys import Way
from trace_lens.checks.case import Case
from trace_lens.checks.way.parties import PROVIDER, parties
from trace_lens.common.expressions import expression
from trace_lens.intake.field_names import NAME_FIELD, PASSWORD_FIELD

_SHORTEST_NAME = 4


def names_of(case: Case) -> tuple[str, ...]:
    """The spellings of the person that a page may show: the subject, addresses and names that were sent, what was
    typed.
    """
    found = [case.subject.value] if case.subject else []
    for name, values in case.said.items():
        last = re.split(r"[/:#]", name)[-1].casefold()
        if last in (
            "name",
            "email",
            "mail",
            "emailaddress",
            "preferred_username",
            "upn",
            "displayname",
            "login",
            "uid",
        ):
            found += values
    found += typed_names(case)
    return tuple(dict.fromkeys(text.strip() for text in found if len(text.strip()) >= _SHORTEST_NAME))


_NOT_A_NAME = expression(r"pass|pwd|wort|mdp|token|csrf|state|code|secret", re.IGNORECASE)


def typed_names(case: Case) -> list[str]:
    """What the person typed as their name at the provider's sign-in page, the latest first."""
    way: Way | None = case.attempt.way
    found: list[str] = []
    for hop in way.hops if way else ():
        exchange = hop.exchange
        if exchange.method != "POST" or not exchange.body or parties(case).side_of(exchange) != PROVIDER or hop.carries:
            continue
        pairs = parse_qsl(exchange.body[:20_000].decode("utf-8", "replace"))
        if not any("pass" in name.lower() or PASSWORD_FIELD.search(name) for name, _ in pairs):
            continue
        found += [value for name, value in pairs if NAME_FIELD.search(name) and not _NOT_A_NAME.search(name) and value]
    return list(reversed(found))
