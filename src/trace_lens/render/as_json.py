"""The JSON forms: UTF-8, times as RFC 3339 in UTC, findings everywhere the same (see the JSON reference in docs/)."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from datetime import datetime
from typing import TYPE_CHECKING, Any

from trace_lens.agreement.rows import COLUMNS
from trace_lens.checks.claims import ClaimRow
from trace_lens.common import limits
from trace_lens.common.catalogue import Entry
from trace_lens.common.findings import Evidence, Finding, Unchecked, listed
from trace_lens.common.masking import Masks, escaped, masked
from trace_lens.common.moments import show_moment
from trace_lens.comparison.comparing import Compared
from trace_lens.comparison.comparing_sides import TwoSides
from trace_lens.decoding.messages import certificate_summary
from trace_lens.diagnosis.certificates import SeenCertificate
from trace_lens.diagnosis.identification import Identification
from trace_lens.diagnosis.judging import Diagnosis
from trace_lens.diagnosis.laying_open import LaidOpen
from trace_lens.diagnosis.steps import Step
from trace_lens.people.names import AMBIGUOUS, FOUND, OTHER, RESULTS, Identified
from trace_lens.pki.chains import Chain
from trace_lens.render import json_timeline
from trace_lens.render.json_text import one_line, write_indented
from trace_lens.workspace.loading import App, Workspace

if TYPE_CHECKING:
    from trace_lens.diagnosis.diagnosing import Unplaced
    from trace_lens.logs.event import Event
    from trace_lens.logs.formats.checking import Checked
    from trace_lens.logs.store.loading import Loaded
    from trace_lens.logs.store.store import LoadedFile

Json = dict[str, Any]


def write(document: Json, put: Callable[[str], object]) -> None:
    """Hand over indented JSON text piece by piece. What a terminal would obey or hide is escaped in it."""
    write_indented(document, lambda text: put(escaped(text)))


def line(document: Json) -> str:
    """JSON text in one line, as JSON Lines have it; escaped likewise."""
    return escaped(one_line(document))


def diagnoses(
    found: Iterable[Diagnosis], unreadable: list[Json], masks: Masks, unplaced: Iterable[Unplaced] = ()
) -> Json:
    """`trace-lens/diagnosis/1`."""
    return {
        "schema": "trace-lens/diagnosis/1",
        "attempts": [attempt(diagnosis, masks) for diagnosis in found],
        "unreadable": unreadable,
        "unplaced": [
            {
                "source": step.source,
                "where": step.place,
                "method": step.method,
                "url": step.url,
                "status": step.status or None,
                "carries": list(step.carries),
            }
            for step in unplaced
        ],
    }


def attempt(diagnosis: Diagnosis, masks: Masks) -> Json:
    """One attempt of `trace-lens/diagnosis/1`."""
    shown, more = listed(diagnosis.findings)
    more_claims = len(diagnosis.claims) - limits.LISTED_CLAIMS
    return {
        "id": diagnosis.id,
        "source": diagnosis.source,
        "protocol": diagnosis.protocol,
        "started_by": diagnosis.started_by,
        "app": diagnosis.app,
        "provider": diagnosis.provider,
        "subject": diagnosis.subject,
        "at": show_moment(diagnosis.at) if diagnosis.at else None,
        "at_from": diagnosis.at_from,
        "chosen_by": diagnosis.chosen_by,
        "outcome": diagnosis.outcome,
        "first_break": diagnosis.first_break.code if diagnosis.first_break else None,
        "cause": diagnosis.cause,
        "try": diagnosis.proposal,
        "supposed": list(diagnosis.supposed),
        "next_breaks": list(diagnosis.next_breaks),
        "stages": [
            {
                "stage": result.stage,
                "status": result.status,
                "findings": [finding.code for finding in listed(result.findings)[0]],
                "unchecked": [unchecked(question) for question in result.unchecked],
            }
            for result in diagnosis.stages
        ],
        "findings": [finding(problem, masks) for problem in shown],
        **({"more_findings": more} if more else {}),
        "claims": [_claim(row) for row in diagnosis.claims[: limits.LISTED_CLAIMS]],
        **({"more_claims": more_claims} if more_claims > 0 else {}),
        "hops": [step(taken) for taken in diagnosis.steps],
        "events": json_timeline.matched(diagnosis.logs.events, diagnosis.logs) if diagnosis.logs else [],
        "unchecked": [unchecked(question) for question in diagnosis.unchecked],
    }


def step(step: Step) -> Json:
    """One hop of the way."""
    return {
        "number": step.number,
        "where": step.place,
        "at": show_moment(step.at) if step.at else None,
        "after": step.after,
        "seconds": step.seconds,
        "how": step.how,
        "from": step.sender,
        "method": step.method,
        "url": step.url,
        "host": step.host,
        "side": step.side,
        "status": step.status or None,
        "redirects_to": step.redirects_to,
        "carries": list(step.carries),
        "shows": list(step.shows),
        "cookies_sent": list(step.cookies_sent),
        "cookies_set": list(step.cookies_set),
        "frame": step.frame,
        "broken": step.broken,
    }


def _claim(row: ClaimRow) -> Json:
    return {"name": row.name, "values": list(row.values), "from": row.source, "use": row.use}


def finding(finding: Finding, masks: Masks) -> Json:
    """One finding, as every command writes it."""
    return {
        "code": finding.code,
        "stage": finding.stage,
        "severity": finding.severity,
        "title": finding.title,
        "detail": finding.detail,
        "expected": finding.expected,
        "actual": finding.actual,
        "difference": finding.difference,
        "side": finding.side,
        "remedy": finding.remedy,
        "value_to_set": finding.value_to_set,
        "because_of": finding.because_of,
        "certainty": finding.certainty,
        "proof": {"outcome": finding.proof.outcome, "first_break": finding.proof.first_break}
        if finding.proof
        else None,
        **({"overrules": list(finding.overrules)} if finding.overrules else {}),
        "accepted": finding.accepted,
        "evidence": [evidence(item, masks) for item in finding.evidence[: limits.EVIDENCE_OF_FINDING]],
        **({"more_evidence": more} if (more := len(finding.evidence) - limits.EVIDENCE_OF_FINDING) > 0 else {}),
        "reference": finding.reference,
    }


def evidence(item: Evidence, masks: Masks) -> Json:
    """One piece of evidence; a secret value wears its mask."""
    return {
        "label": item.label,
        "value": masks.mask(item.value) if item.secret else item.value,
        "source": item.source,
        "where": item.where,
    }


def unchecked(question: Unchecked) -> Json:
    """A question left open."""
    return {"code": question.code, "because": question.because}


def unreadable(source: str, because: str) -> Json:
    """A source that was recognised as nothing."""
    return {"source": source, "code": "unreadable-input", "because": because}


def opened(messages: Iterable[LaidOpen], failed: Iterable[tuple[str, str]], masks: Masks) -> Json:
    """`trace-lens/decode/1`."""
    return {
        "schema": "trace-lens/decode/1",
        "messages": [
            {
                "id": str(number),
                "source": opened.source,
                "where": opened.where,
                "kind": opened.kind,
                "layers": list(opened.layers),
                "summary": masked(opened.summary, masks),
                "content": masked(opened.content, masks),
                "claims": [_claim(row) for row in laid.claims],
                "findings": [finding(item, masks) for item in opened.findings],
            }
            for number, laid in enumerate(messages, 1)
            for opened in (laid.opened,)
        ],
        "unreadable": [unreadable(source, because) for source, because in failed],
    }


def explanations(entries: Iterable[Entry]) -> Json:
    """`trace-lens/explain/1`."""
    return {
        "schema": "trace-lens/explain/1",
        "findings": [
            {
                "code": entry.code,
                "stage": entry.stage,
                "severities": list(entry.severities),
                "title": entry.title,
                "why": entry.why,
                "causes": list(entry.causes),
                "look": entry.look,
                "remedies": [{"side": side, "remedy": text} for side, text in entry.remedies.items()],
                "reference": entry.reference,
            }
            for entry in entries
        ],
    }


def _chain(chain: Chain | None) -> Json | None:
    if chain is None:
        return None
    subjects = [link.subject for link in chain.links]
    return {"subjects": subjects, "holds": chain.holds, "reason": chain.reason or None}


def certificates(
    found: Iterable[SeenCertificate], failed: Iterable[tuple[str, str]], masks: Masks, now: datetime
) -> Json:
    """`trace-lens/certs/1`."""
    return {
        "schema": "trace-lens/certs/1",
        "certificates": [
            {
                "source": certificate.source,
                "where": certificate.where,
                "seen_in": [{"source": place.source, "where": place.where} for place in certificate.places],
                **(
                    certificate_summary(certificate.certificate)
                    if certificate.certificate
                    else dict.fromkeys(
                        ("subject", "issuer", "serial", "not_before", "not_after", "sha1", "sha256", "key", "names")
                    )
                ),
                "spellings": certificate.certificate.spellings if certificate.certificate else {},
                "public_key_sha256": certificate.certificate.key_print if certificate.certificate else None,
                "valid_now": certificate.certificate.valid(now) if certificate.certificate else None,
                "at": show_moment(certificate.at) if certificate.at else None,
                "valid_at": certificate.certificate.valid(certificate.at)
                if certificate.certificate and certificate.at
                else None,
                "chain": _chain(certificate.chain),
                "used_by": list(certificate.used_by),
                "matches": certificate.matches,
                "findings": [finding(item, masks) for item in certificate.findings],
            }
            for certificate in found
        ],
        "unreadable": [unreadable(source, because) for source, because in failed],
    }


def two_sides(found: TwoSides, masks: Masks) -> Json:
    """`trace-lens/sides/1`."""
    return {
        "schema": "trace-lens/sides/1",
        "app": found.app.id,
        "provider": found.provider.id if found.provider else None,
        "capture": found.capture,
        "capture_fits": found.fits_other,
        "items": [
            {
                "item": row.item,
                "owner": row.owner,
                "verdict": row.verdict,
                "value": row.counts.text if row.counts else None,
                **{
                    column: [
                        {
                            "value": cell.value.text,
                            "label": cell.value.meant,
                            "verdict": cell.verdict,
                            "difference": cell.difference.kind if cell.difference else None,
                            "belongs_to": cell.belongs,
                            "source": cell.value.file,
                            "where": cell.value.where,
                        }
                        for cell in row.cells
                        if cell.column == column
                    ]
                    for column in COLUMNS
                },
            }
            for row in found.rows
        ],
        "to_copy": [
            {
                "item": copy.item,
                "side": copy.side,
                "value": copy.value.text,
                "from": {"label": copy.value.meant, "source": copy.value.file, "where": copy.value.where},
                "to": {"label": copy.into.meant, "source": copy.into.file, "where": copy.into.where},
            }
            for copy in found.copies
        ],
        "findings": [finding(problem, masks) for problem in found.findings],
        "unreadable": [unreadable(source, because) for source, because in found.failed],
    }


def comparison(found: Compared, masks: Masks) -> Json:
    """`trace-lens/compare/1`."""
    sides: list[Json] = [{"source": found.left}, {"source": found.right}]
    for side, diagnosis in zip(sides, found.diagnoses or (), strict=False):
        side |= {
            "app": diagnosis.app,
            "subject": diagnosis.subject,
            "outcome": diagnosis.outcome,
            "first_break": diagnosis.first_break.code if diagnosis.first_break else None,
        }
    return {
        "schema": "trace-lens/compare/1",
        "kind": found.kind,
        "left": sides[0],
        "right": sides[1],
        "matters": found.matters,
        "findings": {
            "came": [finding(problem, masks) for problem in found.came],
            "went": [finding(problem, masks) for problem in found.went],
            "stayed": [finding(problem, masks) for problem in found.stayed],
        },
        "differences": [
            {
                "item": difference.item,
                "left": list(difference.left),
                "right": list(difference.right),
                "difference": difference.kind,
                "matters": difference.matters,
                "why": difference.why,
                "hits": list(difference.hits),
            }
            for difference in found.differences
        ],
        "same": found.same,
        "noise": [{"kind": kind, "count": count} for kind, count in found.noise],
        "notes": list(found.notes),
        "parts_at": found.ways.parts_at if found.ways else None,
        "hops": [
            {
                "left": step(pair.left) if pair.left else None,
                "right": step(pair.right) if pair.right else None,
                "differs": list(pair.differs),
            }
            for pair in (found.ways.pairs if found.ways else ())
        ],
    }


def checked_log(found: Checked, proposed: str | None) -> Json:
    """`trace-lens/log-check/1`."""
    return {
        "schema": "trace-lens/log-check/1",
        "file": found.file,
        "source": found.source,
        "format": found.form,
        "rows": found.rows,
        "whole": found.whole,
        "bad": found.bad,
        "bad_rows": [
            {"line": example.line, "because": example.because, "text": example.text} for example in found.examples
        ],
        "first": show_moment(found.first) if found.first else None,
        "last": show_moment(found.last) if found.last else None,
        "ambiguous": found.ambiguous,
        "zoneless": found.zoneless,
        "lacking": {name: round(share, 4) for name, share in found.lacking.items()},
        "columns": [
            {
                "column": column.name,
                "field": field,
                "filled": column.filled,
                "distinct": column.distinct,
                "examples": list(column.examples),
            }
            for column, field in found.columns
        ],
        "outcomes": [{"word": word, "count": count, "outcome": outcome} for word, count, outcome in found.outcomes],
        "remarks": list(found.proposal.remarks) if found.proposal else [],
        "proposal": proposed,
    }


def loaded_logs(loaded: Iterable[Loaded]) -> Json:
    """`trace-lens/log-load/1`."""
    return {
        "schema": "trace-lens/log-load/1",
        "files": [
            {
                "source": loading.source,
                "file": loading.file,
                "state": loading.state,
                "rows": loading.rows,
                "bad": loading.bad,
                "bad_rows": [{"line": bad.line, "because": bad.because, "text": bad.text} for bad in loading.examples],
                "ambiguous": loading.ambiguous,
                "problem": loading.problem,
            }
            for loading in loaded
        ],
    }


def log_files(files: Iterable[LoadedFile]) -> Json:
    """`trace-lens/log-files/1`."""
    return {
        "schema": "trace-lens/log-files/1",
        "files": [
            {
                "source": file.source,
                "file": file.file,
                "octets": file.octets,
                "sha256": file.digest,
                "rows": file.rows,
                "bad": file.bad,
                "loaded_at": show_moment(file.loaded_at),
            }
            for file in files
        ],
    }


def found_events(found: Iterable[Event]) -> Json:
    """`trace-lens/events/1`."""
    return {
        "schema": "trace-lens/events/1",
        "events": [
            {
                "source": event.source,
                "file": event.file,
                "line": event.line,
                "time": show_moment(event.time),
                "user": event.user,
                "app": event.app,
                "outcome": event.outcome,
                "code": event.code,
                "reason": event.reason,
                "ip": event.ip,
                "ids": list(event.ids),
                "doubled": event.doubled,
            }
            for event in found
        ],
    }


def identification(found: Identification) -> Json:
    """`trace-lens/identify/1`."""
    changed = found.changed
    return {
        "schema": "trace-lens/identify/1",
        "app": found.app.id,
        "accounts": found.listed,
        "supposed": found.supposed,
        "counts": {result: found.counted(result) for result in RESULTS},
        "names": [_identified(name) for name in found.names],
        "unsent": [row.user for row in found.unsent],
        "proposal": {
            "rewrite": found.proposal.steps,
            "repairs": list(found.proposal.repairs),
            "held_against": found.proposal.held_against,
        }
        if found.proposal
        else None,
        "changes": {
            "gained": [_identified(person) for person in changed.gained],
            "lost": [_identified(person) for person in changed.lost],
            "moved": [{"name": new.named.name, "from": _user(old), "to": _user(new)} for old, new in changed.moved],
            "merged": [{"account": account, "names": list(names)} for account, names in changed.merged],
        }
        if changed
        else None,
        "unreadable": [unreadable(source, because) for source, because in found.failed],
    }


def _identified(person: Identified) -> Json:
    made = person.named.made
    return {
        "name": person.named.name,
        "source": person.named.source,
        "where": person.named.where,
        "held": made.held if made else None,
        "sent_steps": list(made.steps) if made else [],
        "guest": made.guest if made else None,
        "steps": list(person.steps),
        "looked_for": person.wanted,
        "result": person.result,
        "account": _user(person) if person.result in (FOUND, OTHER) else None,
        "active": person.account.active if person.account and person.accounts else None,
        "candidates": [row.user for row in person.accounts]
        if person.result == AMBIGUOUS
        else [near.row.user for near in person.near],
        "near_by": person.near[0].by if person.near else None,
        "difference": person.difference,
    }


def _user(person: Identified) -> str | None:
    return person.account.user if person.account else None


def apps(found: Iterable[App], workspace: Workspace) -> Json:
    """`trace-lens/apps/1`."""
    return {
        "schema": "trace-lens/apps/1",
        "applications": [
            {
                "app": app.id,
                "name": app.name,
                "protocol": app.settings.protocol,
                "provider": app.provider_id,
                "owner": app.settings.owner,
                "users": app.settings.users,
                "entity_id": app.entity_id,
                "acs_urls": list(app.acs_urls),
                "file": app.source.file,
                "settings": app.source.raw,
            }
            for app in found
        ],
    }


def settings_check(found: Iterable[tuple[App, list[Finding]]], masks: Masks) -> Json:
    """`trace-lens/check/1`."""
    return {
        "schema": "trace-lens/check/1",
        "applications": [
            {
                "app": app.id,
                "breaks": sum(finding.breaks for finding in findings),
                "risks": sum(finding.severity == "risk" and not finding.accepted for finding in findings),
                "findings": [finding(problem, masks) for problem in findings],
            }
            for app, findings in found
        ],
    }
