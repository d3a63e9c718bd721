"""A description proposed for a log file that none is on record for.

Every guess is drawn from a sample, and said with its reason; the user reads the proposal before it is saved.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from trace_lens.common.toml import fill, inline_item
from trace_lens.common.tuples import NamedTuple
from trace_lens.logs.event import FIELDS
from trace_lens.logs.formats.events import OWN_FIELDS, OWN_IDS
from trace_lens.logs.formats.rows import Record
from trace_lens.logs.recognising.columns import Column, columns_of
from trace_lens.logs.recognising.fields import LIKELY, SURE, Match, Recognised, recognise
from trace_lens.logs.recognising.forms import Form
from trace_lens.logs.recognising.known import Known
from trace_lens.logs.recognising.owners import Owner, owner_of


class Proposal(NamedTuple):
    """What was made out: the form, the column of each field, how times are written, words of outcomes, the owner.

    `remarks` are what the user should look at before saving it.
    """

    form: Form
    found: Recognised
    owner: Owner
    remarks: tuple[str, ...] = ()

    def settings(self) -> dict[str, Any]:
        """The description as the settings of a source have it."""
        form, found = self.form, self.found
        times = found.times
        told: dict[str, Any] = {"role": self.owner.role}
        told |= {"provider": self.owner.provider} if self.owner.provider else {}
        told |= {"app": self.owner.app} if self.owner.app else {}
        told["format"] = form.format
        told |= {"delimiter": form.delimiter} if form.delimiter and form.delimiter != "," else {}
        told |= {"encoding": form.encoding} if form.encoding else {}
        told |= {"rows": form.rows} if form.rows else {}
        told |= {"time_format": times.pattern} if times and times.pattern else {}
        told |= {"day_first": True} if times and times.day_first and times.share else {}
        fields: dict[str, Any] = {
            match.field: match.columns[0] if len(match.columns) == 1 else list(match.columns)
            for match in found.matches
            if match.field != "ids"
        }
        ids = [match.columns[0] for match in found.matches if match.field == "ids"]
        told["fields"] = {**fields, **({"ids": ids} if ids else {})}
        outcomes = {"success": list(found.words.success), "failure": list(found.words.failure)}
        if any(outcomes.values()) and form.format not in ("w3c", "combined", "ocsf"):
            told["outcomes"] = outcomes
        return told


def propose(form: Form, records: Sequence[Record], file: str, known: Known | None) -> Proposal:
    """What a sample of records seems to hold; `file` is the name of theirs."""
    columns = columns_of(records)
    found = recognise(columns, len(records), known)
    order = (*FIELDS, "ids")
    matches = sorted(_with_own(form, columns, found.matches), key=lambda match: order.index(match.field))
    found = found._replace(matches=tuple(matches))
    owner = owner_of(file, form.format, columns, found, known)
    return Proposal(form, found, owner, tuple(_remarks(form, found, owner, known)))


def _with_own(form: Form, columns: Sequence[Column], matches: Sequence[Match]) -> Iterator[Match]:
    """The matches, with the columns that the format itself has for a field in the place of those made out."""
    there = {column.name for column in columns if column.filled}
    own = {field: path for field, path in OWN_FIELDS.get(form.format, {}).items() if path in there}
    if form.format in ("syslog", "pairs"):
        guessed = {match.field for match in matches}
        own = {
            field: path
            for field, path in own.items()
            if (field == "time" and form.format == "syslog") or field not in guessed
        }
    for field, path in own.items():
        yield Match(field, (path,), 2.0, SURE, "the format itself keeps it there")
    used = set(own.values())
    own_ids = [path for path in OWN_IDS.get(form.format, ()) if path in there]
    for path in own_ids:
        yield Match("ids", (path,), 2.0, SURE, "the format itself keeps it there")
    for match in matches:
        if match.field not in own and not used.intersection(match.columns) and match.columns[0] not in own_ids:
            yield match


def _remarks(form: Form, found: Recognised, owner: Owner, known: Known | None) -> Iterator[str]:
    fields = {match.field for match in found.matches}
    if "time" not in fields:
        yield "no column of times was made out; [fields] time must be told"
    elif found.times and found.times.zoneless and form.format != "w3c":
        yield "the times carry no zone: set time_zone, or they are read as UTC"
    if found.times and found.times.either_day:
        yield "day and month could be the other way round: set day_first = true if the day comes first"
    if found.words.unknown:
        listed = ", ".join(found.words.unknown[:6])
        yield f"these words of the outcome were not understood: {listed}"
    elif found.words.sure == LIKELY:
        yield f"look at the words of the outcome: {found.words.because}"
    if "user" not in fields:
        yield "no column of users was made out"
    if "outcome" not in fields:
        yield "no column of outcomes was made out; without one every event counts as other"
    if form.encoding:
        yield f"it is not in Unicode; {form.encoding} is a guess, look at letters beyond English"
    if owner.sure not in (SURE, LIKELY):
        yield f"role is a guess: {owner.because}"
    if known is None or not (known.workspace.apps or known.workspace.providers):
        yield "no application is on record here, by whose people and names columns could be told"


def as_toml(proposal: Proposal, name: str, files: str) -> str:
    """The proposal as a description, ready to be saved and corrected; what is not sure says why."""
    import tomlkit

    told = proposal.settings()
    owner = proposal.owner
    made = tomlkit.document()
    made.append("name", inline_item(name))
    made.append("role", tomlkit.item(told.pop("role")).comment(f"{owner.sure}: {owner.because}"))
    for key in ("provider", "app"):
        if key in told:
            made.append(key, inline_item(told.pop(key)))
    if not owner.provider and not owner.app:
        made.add(tomlkit.comment('provider = "…"    # or app = "…"; neither where the log covers several applications'))
    made.append("files", inline_item([files]))
    fields, outcomes = told.pop("fields"), told.pop("outcomes", None)
    for key, value in told.items():
        made.append(key, inline_item(value))
    if proposal.found.times and proposal.found.times.zoneless and proposal.form.format != "w3c":
        made.add(tomlkit.comment('time_zone = "Europe/Oslo"    # the times carry none'))
    fill(made, {"fields": fields, **({"outcomes": outcomes} if outcomes else {})})
    unsure = {match.field: match for match in proposal.found.matches if match.sure != SURE and match.field != "ids"}
    for field, match in unsure.items():
        item = made["fields"][field]
        item.comment(f"{match.sure}: {match.because}")
    return made.as_string()
