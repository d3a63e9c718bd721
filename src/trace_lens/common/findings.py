"""The words of a diagnosis: stages, severities, sides, evidence, findings, and questions left open.

Only value types live here. What each code means stands in the catalogue; who raises it, in `trace_lens.checks`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from enum import StrEnum

from trace_lens.common import limits
from trace_lens.common.locations import Location
from trace_lens.common.tuples import NamedTuple

PROVEN, INFERRED, RECORDED = "proven", "inferred", "recorded"
"""How certain a break is: shown by facts, concluded from what is usual, or told by the record of a redacted copy."""


class Stage(StrEnum):
    """The nine steps of a sign-in, in order; before them whether the addresses could be reached, which is asked only
    where a capture holds a browser's own words for that; after them the settings, that explain but do not decide.
    """

    REACHABLE = "reachable"
    READABLE = "readable"
    ANSWERED = "answered"
    DELIVERED = "delivered"
    AUTHENTIC = "authentic"
    INTENDED = "intended"
    CURRENT = "current"
    IDENTIFIED = "identified"
    ENTITLED = "entitled"
    ADMITTED = "admitted"
    SETTINGS = "settings"


SIGN_IN_STAGES: tuple[Stage, ...] = tuple(stage for stage in Stage if stage not in (Stage.REACHABLE, Stage.SETTINGS))

STAGE_SENTENCES: dict[Stage, str] = {
    Stage.REACHABLE: "every address answers",
    Stage.READABLE: "the capture decodes to a well-formed message",
    Stage.ANSWERED: "the provider said yes, not an error",
    Stage.DELIVERED: "it came to the right address, in answer to the right request",
    Stage.AUTHENTIC: "signature, key and certificate hold",
    Stage.INTENDED: "issuer, audience and kind are meant for this application",
    Stage.CURRENT: "the moment lies in its time windows",
    Stage.IDENTIFIED: "the subject is an account here",
    Stage.ENTITLED: "claims, roles, groups and assignment allow it",
    Stage.ADMITTED: "the application let the user in",
    Stage.SETTINGS: "both sides hold the same values",
}


class Severity(StrEnum):
    """`break` stops the sign-in, `risk` works today, `note` is worth knowing."""

    BREAK = "break"
    RISK = "risk"
    NOTE = "note"


def certainty_of(severity: Severity) -> str | None:
    """How certain a finding is unless it says otherwise: a break is proven, all else is no claim of that kind."""
    return PROVEN if severity is Severity.BREAK else None


class Side(StrEnum):
    """Who must act."""

    APPLICATION = "application"
    PROVIDER = "provider"
    USER = "user"
    NETWORK = "network"
    BOTH = "both"


class Evidence(NamedTuple):
    """One value that was looked at, and the place where it is.

    `secret` marks a value that may only be shown masked. `exchange` is the number of the exchange of a capture that it
    is in, None where it is in none.
    """

    label: str
    value: str
    source: str
    where: Location
    secret: bool = False
    exchange: int | None = None


class Proof(NamedTuple):
    """What judging again with the value to set gives: the outcome, and the first break that is left."""

    outcome: str
    first_break: str | None


class Finding(NamedTuple):
    """One answer of one check. Field meanings follow `diagnose --format json` (see the JSON reference).

    `difference` says how `expected` and `actual` differ, and `differing` where: the beginning and the end of what
    differs in each. `certainty` is `proven`, `inferred` or `recorded` for a
    break, None otherwise. `overrules` names the findings
    that a sign-in that was let in all the same makes doubtful. `setting` is the one that it is about, where it compares
    the settings of both sides.
    """

    code: str
    stage: Stage
    severity: Severity
    title: str
    detail: str
    side: Side | None
    remedy: str
    reference: str
    expected: str | None = None
    actual: str | None = None
    difference: str | None = None
    differing: tuple[tuple[int, int], tuple[int, int]] | None = None
    value_to_set: str | None = None
    because_of: str | None = None
    evidence: tuple[Evidence, ...] = ()
    accepted: str | None = None
    certainty: str | None = None
    overrules: tuple[str, ...] = ()
    proof: Proof | None = None
    setting: str | None = None

    @property
    def breaks(self) -> bool:
        """Whether it stops the sign-in."""
        return self.severity is Severity.BREAK


def listed(findings: Iterable[Finding]) -> tuple[list[Finding], dict[str, int]]:
    """The findings that an output lists, at most so many of one code; and how many more of each code there are."""
    counts: dict[str, int] = {}
    kept = []
    for finding in findings:
        counts[finding.code] = counts.get(finding.code, 0) + 1
        if counts[finding.code] <= limits.FINDINGS_OF_KIND:
            kept.append(finding)
    return kept, {
        code: count - limits.FINDINGS_OF_KIND for code, count in counts.items() if count > limits.FINDINGS_OF_KIND
    }


class Allows(StrEnum):
    """What would allow a question that could not be asked."""

    RECORDING = "recording"
    """A recording of the whole sign-in by the browser."""
    SERVER_MESSAGE = "server-message"
    """What the application's own server fetched, and no browser sees."""
    APPLICATION_LOG = "application-log"
    PROVIDER_LOG = "provider-log"
    RECORD = "record"
    """A setting or a list on record."""


class Lacking(str):
    """What was lacking, in words; and what would allow the question, with the file and key where it is a setting."""

    allows: Allows | None
    file: str | None
    key: str | None
    __slots__ = ("allows", "file", "key")

    def __eq__(self, other: object) -> bool:
        if isinstance(other, Lacking) and (self.allows, self.file, self.key) != (other.allows, other.file, other.key):
            return False
        return str.__eq__(self, other) is True

    def __ne__(self, other: object) -> bool:
        return not self == other

    __hash__ = str.__hash__

    def __reduce__(self) -> tuple[Callable[..., Lacking], tuple[object, ...]]:
        return lack, (str(self), self.allows, self.file, self.key)


def lack(words: str, allows: Allows | None, file: str | None = None, key: str | None = None) -> Lacking:
    """Words for what was lacking, with what would allow the question."""
    made = Lacking(words)
    made.allows, made.file, made.key = allows, file, key
    return made


class Unchecked(NamedTuple):
    """A question that could not be asked, and what was lacking.

    `decides` marks the questions without whose answer a sign-in cannot be called sound. `needs` is what was lacking in
    few words, the same for all questions that lacked it; empty where `because` says no more.
    """

    code: str
    because: str
    decides: bool = False
    needs: str = ""

    @property
    def lacking(self) -> str:
        """What was lacking, in few words."""
        return self.needs or self.because

    @property
    def allowed_by(self) -> Lacking | None:
        """What would allow it; None where nothing that anybody could bring would."""
        return self.because if isinstance(self.because, Lacking) and self.because.allows else None
