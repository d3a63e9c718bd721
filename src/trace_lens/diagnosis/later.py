"""Diagnoses of which only what a summary needs is known; the rest is made by the full judge when it is looked at."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, cast

from trace_lens.common.findings import Finding, Unchecked
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.judging import AttemptParties, Circumstances, Details, Diagnosis, StageResult
from trace_lens.diagnosis.sound import Sound


class Rest:
    """What is not known yet of the diagnosis of the source at a place. `make` gives the whole of it; it cannot leave
    its process, and is set anew where the diagnosis comes from another one.
    """

    __slots__ = ("made", "make", "place")

    def __init__(self, place: int) -> None:
        self.place = place
        self.make: Callable[[int], Diagnosis] | None = None
        self.made: Diagnosis | None = None

    def __reduce__(self) -> tuple[type[Rest], tuple[int]]:
        return Rest, (self.place,)

    def whole(self) -> Diagnosis:
        """The whole diagnosis, made once."""
        if self.made is None:
            assert self.make is not None
            self.made = self.make(self.place)
        return self.made


class LaterDiagnosis(Diagnosis):
    """A sign-in whose outcome, application, person and moment are known, and what broke it, but for the evidence."""

    __slots__ = ()

    @property
    def rest(self) -> Rest:
        """How the rest is made."""
        return cast("Rest", tuple.__getitem__(self, -1))

    @property
    def whole(self) -> Diagnosis:
        """The whole diagnosis, with the number of this one."""
        return self.rest.whole()._replace(id=self.id)

    @property
    def cause(self) -> str:
        """One sentence."""
        return self.rest.whole().cause

    @property
    def stages(self) -> tuple[StageResult, ...]:
        """The nine stages."""
        return self.rest.whole().stages

    @property
    def findings(self) -> tuple[Finding, ...]:
        """All findings."""
        return self.rest.whole().findings

    @property
    def unchecked(self) -> tuple[Unchecked, ...]:
        """What could not be asked."""
        return self.rest.whole().unchecked

    @property
    def details(self) -> Details:
        """What a reader is shown beside the findings."""
        return self.rest.whole().details

    def _replace(self, **changes: Any) -> Diagnosis:  # type: ignore[override]
        known = changes.keys() <= {"id", "first_break", "proposal"}
        return super()._replace(**changes) if known else self.whole._replace(**changes)


class Broken(NamedTuple):
    """What a summary needs of a sign-in that broke, beside what is known of its message; the break without evidence."""

    first_break: Finding
    proposal: str | None
    next_breaks: tuple[str, ...]
    chosen_by: str | None
    cause: str


def later(source: str, place: int, sound: Sound, broken: Broken | None = None) -> LaterDiagnosis:
    """The diagnosis of a message from the strict path: it is sound, or would be but for what `broken` says."""
    app, provider = sound.app, sound.provider
    parties = AttemptParties(
        app=app.id,
        app_name=app.name,
        provider=provider.id,
        provider_name=provider.name,
        subject=sound.subject,
        started_by=sound.started_by,
        chosen_by=broken.chosen_by if broken else "audience",
    )
    rest: Any = Rest(place)
    judged = Circumstances(sound.at, "message", ())
    made = LaterDiagnosis("1", source, sound.protocol, parties, judged, "sound", "", None, None, (), (), (), (), rest)
    if broken is None:
        return made
    outcome, first, proposal, others = "broken", broken.first_break, broken.proposal, broken.next_breaks
    return LaterDiagnosis(*made[:5], outcome, "", first, proposal, others, (), (), (), rest)


def in_full(diagnosis: Diagnosis) -> Diagnosis:
    """A diagnosis with all that is known of it."""
    return diagnosis.whole if isinstance(diagnosis, LaterDiagnosis) else diagnosis
