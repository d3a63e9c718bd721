"""The name that a provider makes of a person: what the directory holds, rewritten by the provider's own rules.

The rules stand in `[[provider_setup.subject]]`; the first that fits a person is used. Without any, it is supposed that
the e-mail address is sent, where there is one.
"""

from __future__ import annotations

import re

from trace_lens.common.tuples import NamedTuple
from trace_lens.people.rewriting import rewrite
from trace_lens.workspace.account_rows import AccountRow
from trace_lens.workspace.patterns import compiled
from trace_lens.workspace.records import App, Provider

_FIELDS = {
    "login": "login",
    "uid": "login",
    "username": "login",
    "email": "email",
    "mail": "email",
    "emailaddress": "email",
    "id": "id",
    "objectid": "id",
    "employeenumber": "id",
    "user": "user",
}


class Made(NamedTuple):
    """How a person's name came about: the field of the directory, its value, and the name after each step.

    `rule` is the number of the provider's rule, from 1; None where it is only supposed that this field is sent, and
    then `guest` is None too.
    """

    field: str
    held: str
    steps: tuple[str, ...]
    rule: int | None
    guest: bool | None = None

    @property
    def name(self) -> str:
        """What is sent."""
        return self.steps[-1] if self.steps else self.held


def made_name(row: AccountRow, app: App, provider: Provider | None, *, addresses: bool | None = None) -> Made | None:
    """What the provider sends about a person; None where no rule fits, or the directory lacks the field.

    Where no rule is on record, `addresses` says whether addresses or bare logins are seen to be sent, if that is known.
    """
    rules = app.settings.provider_setup.subject
    if app.settings.account.source != "NameID":
        field = _field(app.settings.account.source)
        held = _held(row, field) or row.user
        return Made(field, held, (), None)
    if not rules:
        return _supposed(row, addresses)
    guest = is_guest(row, provider)
    for number, rule in enumerate(rules, 1):
        fits = rule.when == "any" or (rule.when == "guest") is guest
        held = _held(row, _field(rule.source)) or "" if fits else ""
        if held:
            return Made(
                field=rule.source, held=held, steps=tuple(rewrite(held, rule.rewrite)), rule=number, guest=guest
            )
    return None


def _supposed(row: AccountRow, addresses: bool | None) -> Made | None:
    fields = ("login", "user") if addresses is False else ("email", "user")
    for field in fields:
        held = _held(row, field)
        if held and (addresses is None or ("@" in held) is addresses):
            return Made(field, held, (), None)
    return None


def is_guest(row: AccountRow, provider: Provider | None) -> bool:
    """Whether a person is of another organisation than the provider's own."""
    if provider is None:
        return False
    pattern = provider.settings.guest_pattern
    if pattern and any(compiled(pattern).search(name) for name in row.spellings):
        return True
    home = {domain.casefold() for domain in provider.settings.email_domains}
    address = row.email or next((name for name in row.spellings if "@" in name), "")
    domain = address.rpartition("@")[2].casefold()
    return bool(home and domain and address and domain not in home)


def _field(source: str) -> str:
    last = re.sub(r"[\W_]", "", re.split(r"[/:#]", source)[-1]).casefold()
    return _FIELDS.get(last, "user")


def _held(row: AccountRow, field: str) -> str | None:
    value = getattr(row, field, None)
    return value if isinstance(value, str) else None
