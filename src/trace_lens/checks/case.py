"""The case that checks look at: one attempt, the two sides' settings, the moment, and what is said of the person.

What the protocols share stands here; each has a case of its own below. A case answers where a value came from and makes
findings with the catalogue's words; it judges nothing itself.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from functools import cached_property
from typing import TYPE_CHECKING, Any, ClassVar, TypeVar, cast

from trace_lens.common.findings import Evidence
from trace_lens.common.locations import NOWHERE
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.records import App, Provider, Workspace

if TYPE_CHECKING:
    from trace_lens.logs.matching.seen import LogView

T = TypeVar("T")


class Need(StrEnum):
    """What a case must hold before a check can be asked."""

    NOTHING = "nothing"
    MESSAGE = "message"
    ASSERTION = "assertion"
    """An assertion, or the token in its place."""
    SIGNATURE = "signature"
    REQUEST = "request"
    SIGN_OUT = "sign-out"
    WAY = "way"
    LOGS = "logs"


class Sent(NamedTuple):
    """One value that names the person, and how to show where it stands, given a label."""

    value: str
    shown: Callable[[str], list[Evidence]]


@dataclass(frozen=True, eq=False, repr=False)
class Case:
    """Everything that a check of any protocol may ask about.

    `at` is the moment that times are judged at and `at_from` what told it (`option`, `capture`, `log`, `message`);
    both are None where nothing tells. `now` serves only what asks about today. `supposed` are settings that are only
    tried, by key: where one of the provider's is, the message counts as sent by it. `logs` is what the loaded logs say
    of the attempt, None where none are loaded. `as_it_was` is the same case without what is supposed.
    """

    attempt: Any
    workspace: Workspace
    app: App | None
    provider: Provider | None
    chosen_by: str | None
    at: datetime | None
    at_from: str | None
    now: datetime
    candidates: tuple[str, ...] = ()
    supposed: dict[str, str] = field(default_factory=dict)
    logs: LogView | None = None
    as_it_was: Case | None = None
    _kept: dict[str, object] = field(default_factory=dict, compare=False, repr=False)

    protocol: ClassVar[str] = ""
    subject_label: ClassVar[str] = ""
    """What the protocol calls the name of the person: `NameID` or `sub`."""
    address_label: ClassVar[str] = ""
    """What the protocol calls the address that a message is made out to: `destination` or `redirect URI`."""
    main_source: ClassVar[str] = ""
    """What usually says something of the person: `assertion` or `id-token`."""

    def once(self, key: str, make: Callable[[], T]) -> T:
        """What `make` gives, made once for this case and key."""
        if key not in self._kept:
            self._kept[key] = make()
        return cast("T", self._kept[key])

    @property
    def subject(self) -> Sent | None:
        """The name of the person in the protocol's own place."""
        raise NotImplementedError

    @property
    def said(self) -> Mapping[str, tuple[str, ...]]:
        """What is said of the person: every attribute or claim with its values."""
        raise NotImplementedError

    def evidence_of(self, name: str) -> list[Evidence]:
        """Where the first value of an attribute or claim stands; empty where it has none."""
        raise NotImplementedError

    def source_of(self, name: str) -> str:
        """What said it: `assertion`, `id-token`, `userinfo`."""
        return self.main_source

    def also_called(self, name: str) -> tuple[str, ...]:
        """Other names that an attribute bears in the message."""
        return ()

    @property
    def started_by(self) -> str | None:
        """`application` or `provider`; None where nothing tells."""
        raise NotImplementedError

    @property
    def refused(self) -> bool:
        """Whether the provider answered with an error."""
        raise NotImplementedError

    @property
    def issuer_name(self) -> str | None:
        """Who issued what is judged."""
        raise NotImplementedError

    @property
    def issuer_evidence(self) -> list[Evidence]:
        """Where the issuer's name stands."""
        raise NotImplementedError

    @property
    def name_closed(self) -> bool:
        """Whether the name of the person is encrypted and could not be opened."""
        return False

    @property
    def made_at(self) -> list[datetime]:
        """The moments at which what is judged was made."""
        raise NotImplementedError

    @property
    def most_groups(self) -> int | None:
        """The most groups that fit, by how the message travels; None where that is not on record."""
        raise NotImplementedError

    @property
    def markers(self) -> tuple[str, ...]:
        """What in the message says that the groups did not fit."""
        left_out = self.provider.settings.left_out_markers if self.provider else ()
        return tuple(name for name in left_out if name in self.said)

    def decided_by(self) -> bool:
        """Whether a diagnosis stays inconclusive where a question that decides could not be asked."""
        return True

    def lacks(self, need: Need) -> str | None:
        """Why a check that requires a part of the attempt cannot be asked; None where it can."""
        raise NotImplementedError

    @property
    def account_source(self) -> str:
        """What the account is found by: the protocol's own name of the person, or an attribute or claim."""
        source = self.app.settings.account.source if self.app else self.subject_label
        return self.subject_label if source in ("NameID", "sub") else source

    @property
    def skew(self) -> timedelta:
        """How far the two sides' clocks may differ."""
        return self.app.clock_skew if self.app else self.workspace.settings.judgement.clock_skew or timedelta(minutes=3)

    @property
    def latest(self) -> datetime | None:
        """The latest moment that `at` may be: one from a capture or a log that is told in whole seconds, as a Date
        field is (RFC 9110 §5.6.7), may be any of that second.
        """
        if self.at is None or self.at.microsecond or self.at_from not in ("capture", "log"):
            return self.at
        return self.at.replace(microsecond=999_999)

    @property
    def longest_validity(self) -> timedelta:
        """The longest window that a message should have."""
        if self.app:
            return self.app.longest_validity
        return self.workspace.settings.judgement.longest_validity or timedelta(hours=24)

    @cached_property
    def other_provider(self) -> Provider | None:
        """The provider on record, other than the application's own, whose issuer name the message bears."""
        if self.issuer_name is None:
            return None
        for provider in self.workspace.providers.values():
            if provider is not self.provider and self.issuer_name in provider.identifiers:
                return provider
        return None

    def set_in_app(self, label: str, value: str, *path: str | int) -> Evidence:
        """A setting of the application as evidence."""
        if self.app is None:
            return Evidence(label, value, "", NOWHERE)
        return Evidence(label, value, self.app.source.file, self.app.source.where(*path))
