"""What a comparison says: the differences, which of them matter, and why."""

from __future__ import annotations

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.oidc_messages import OidcMessage
from trace_lens.common.difference import difference
from trace_lens.common.findings import Finding
from trace_lens.common.tuples import NamedTuple
from trace_lens.comparison.comparing_ways import SideBySide
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.intake.peeling import Peeled

ATTEMPTS, METADATA, CERTIFICATES = "attempts", "metadata", "certificates"
DOCUMENTS = {
    "discovery-document": "discovery documents",
    "key-set": "key sets",
    "client-registration": "client registrations",
}


IDLE = (
    "service_documentation",
    "op_policy_uri",
    "op_tos_uri",
    "ui_locales_supported",
    "claims_locales_supported",
    "display_values_supported",
)
"""Members of a discovery document that no sign-in depends on."""


class CannotCompare(ValueError):
    """The two sources cannot be laid side by side; the message says why, `unread` whether one of them holds nothing."""

    def __init__(self, reason: str, *, unread: bool = False) -> None:
        super().__init__(reason)
        self.unread = unread


class Differing(NamedTuple):
    """One item that is not the same left and right; `hits` are the applications whose settings hold the left value."""

    item: str
    left: tuple[str, ...]
    right: tuple[str, ...]
    matters: bool
    why: str
    hits: tuple[str, ...] = ()

    @property
    def kind(self) -> str | None:
        """The kind of difference, where each side has one value."""
        if len(self.left) != 1 or len(self.right) != 1:
            return None
        found = difference(self.left[0], self.right[0])
        return found.kind if found else None


class Compared(NamedTuple):
    """What came of a comparison. `noise` counts what always differs; `same` how many items are equal.

    The diagnoses and the findings that came, went and stayed are there for attempts only; `notes` say what was passed
    over.
    """

    kind: str
    left: str
    right: str
    differences: tuple[Differing, ...]
    same: int
    noise: tuple[tuple[str, int], ...] = ()
    diagnoses: tuple[Diagnosis, Diagnosis] | None = None
    came: tuple[Finding, ...] = ()
    went: tuple[Finding, ...] = ()
    stayed: tuple[Finding, ...] = ()
    notes: tuple[str, ...] = ()
    ways: SideBySide | None = None

    @property
    def matters(self) -> bool:
        """Whether they differ where it matters."""
        return any(difference.matters for difference in self.differences) or any(
            finding.breaks and finding.because_of is None for finding in (*self.came, *self.went)
        )


class ComparedSide(NamedTuple):
    name: str
    peeled: Peeled
    attempts: list[Attempt]
    documents: dict[str, OidcMessage]

    @property
    def kinds(self) -> set[str]:
        return {message.kind for message in self.peeled.found}
