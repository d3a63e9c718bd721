"""The one way in: what a source holds, read once, and the attempts that the evidence of several sources makes.

Every command reads its sources here, so that no two of them read one file differently. What comes from elsewhere than a
file, as exchanges, becomes evidence the same way.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.journeys import carried_by, steps_in
from trace_lens.attempts.oidc import assemble_oidc
from trace_lens.attempts.oidc_groups import hold_attempt
from trace_lens.attempts.oidc_messages import OidcMessage, read_oidc
from trace_lens.attempts.placing import hosts_of, placed, way_alone
from trace_lens.attempts.saml import assemble_saml
from trace_lens.attempts.saml_messages import SamlMessage, read_messages
from trace_lens.common.guarding import Faults
from trace_lens.common.tuples import NamedTuple
from trace_lens.intake.exchanges import Capture
from trace_lens.intake.found import FoundMessage
from trace_lens.intake.peeling import Peeled
from trace_lens.workspace.sources import SourceFile


class SourceEvidence(NamedTuple):
    """What one source holds.

    `peeled` are the messages in it with the layers and repairs that led to them, and the exchanges of a capture; `saml`
    and `oidc` the messages as read. `problems` say what of it could not be read; `is_there` is False where the source
    itself could not be.
    """

    source: str
    peeled: Peeled
    saml: tuple[SamlMessage, ...] = ()
    oidc: tuple[OidcMessage, ...] = ()
    problems: tuple[str, ...] = ()
    is_there: bool = True

    @property
    def found(self) -> tuple[FoundMessage, ...]:
        """The messages, as octets."""
        return self.peeled.found

    @property
    def capture(self) -> Capture | None:
        """What passed between browser and hosts, where the source is a capture of that."""
        return self.peeled.capture

    @property
    def kinds(self) -> tuple[str, ...]:
        """The kinds of messages in it, each once."""
        return tuple(dict.fromkeys(found.kind for found in self.found))

    @property
    def is_way_alone(self) -> bool:
        """Whether it holds the steps of a capture, and no message of a sign-in."""
        if self.capture is None or not self.found or self.saml or self.oidc:
            return False
        return bool(steps_in(self.capture, carried_by(self.found)))

    def without_sign_in(self, *, together: bool = False) -> str | None:
        """Why it holds nothing of a sign-in; None where it does, or where it is `together` with others that do."""
        if not self.found:
            return self.peeled.because if self.is_there else None
        if self.saml or hold_attempt(self.oidc) or (self.oidc if together else self.is_way_alone):
            return None
        return f"it holds no message of a sign-in, only: {', '.join(self.kinds)}"


def read_evidence(source: SourceFile) -> SourceEvidence:
    """Read a source: peel it once, and read each message once. Whatever fails becomes a problem that is told."""
    peeled = source.peeled()
    if peeled is None:
        return SourceEvidence(source.name, Peeled(()), problems=(source.problem or "",), is_there=False)
    faults = Faults()
    if peeled.left_out:
        faults.tell(source.name, peeled.left_out)
    saml = read_messages(source.name, peeled, faults)
    oidc = read_oidc(source.name, peeled, faults)
    return SourceEvidence(source.name, peeled, tuple(saml), tuple(oidc), tuple(because for _, because in faults.told))


def assemble(
    evidence: Sequence[SourceEvidence],
    *,
    together: bool = False,
    protocol_at: Callable[[set[str]], str] | None = None,
) -> list[Attempt]:
    """The attempts of some evidence, each with its way where a capture shows it; `together` says that all is of one.

    `protocol_at` tells the protocol of the hosts of a capture without any message: its steps are an attempt then.
    """
    saml = [message for held in evidence for message in held.saml]
    oidc = [message for held in evidence for message in held.oidc]
    attempts: list[Attempt] = [*(assemble_saml(saml, together=together) if saml else ())]
    attempts += assemble_oidc(oidc, together=together)
    captures = {held.source: held.peeled for held in evidence if held.capture}
    return [*placed(attempts, captures), *(_ways_alone(evidence, protocol_at) if protocol_at and not together else ())]


def _ways_alone(evidence: Iterable[SourceEvidence], protocol_at: Callable[[set[str]], str]) -> Iterable[Attempt]:
    for held in evidence:
        if held.is_way_alone:
            way = way_alone(held.source, held.peeled, protocol_at(hosts_of(held.peeled)))
            if way:
                yield way
