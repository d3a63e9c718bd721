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
    from trace_lens.diagnosis.many import Unplaced
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
        "attempts": [attempt(one, masks) for one in found],
        "unreadable": unreadable,
        "unplaced": [
            {
                "source": one.source,
                "where": one.place,
                "method": one.method,
                "url": one.url,
                "status": one.status or None,
                "carries": list(one.carries),
            }
            for one in unplaced
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
                "findings": [one.code for one in listed(result.findings)[0]],
                "unchecked": [unchecked(one) for one in result.unchecked],
            }
            for result in diagnosis.stages
        ],
        "findings": [finding(one, masks) for one in shown],
        **({"more_findings": more} if more else {}),
        "claims": [_claim(row) for row in diagnosis.claims[: limits.LISTED_CLAIMS]],
        **({"more_claims": more_claims} if more_claims > 0 else {}),
        "hops": [step(one) for one in diagnosis.steps],
        "events": json_timeline.matched(diagnosis.logs.events, diagnosis.logs) if diagnosis.logs else [],
        "unchecked": [unchecked(one) for one in diagnosis.unchecked],
    }


def step(one: Step) -> Json:
    """One hop of the way."""
    return {
        "number": one.number,
        "where": one.place,
        "at": show_moment(one.at) if one.at else None,
        "after": one.after,
        "seconds": one.seconds,
        "how": one.how,
        "from": one.sender,
        "method": one.method,
        "url": one.url,
        "host": one.host,
        "side": one.side,
        "status": one.status or None,
        "redirects_to": one.redirects_to,
        "carries": list(one.carries),
        "shows": list(one.shows),
        "cookies_sent": list(one.cookies_sent),
        "cookies_set": list(one.cookies_set),
        "frame": one.frame,
        "broken": one.broken,
    }


def _claim(row: ClaimRow) -> Json:
    return {"name": row.name, "values": list(row.values), "from": row.source, "use": row.use}


def finding(one: Finding, masks: Masks) -> Json:
    """One finding, as every command writes it."""
    return {
        "code": one.code,
        "stage": one.stage,
        "severity": one.severity,
        "title": one.title,
        "detail": one.detail,
        "expected": one.expected,
        "actual": one.actual,
        "difference": one.difference,
        "side": one.side,
        "remedy": one.remedy,
        "value_to_set": one.value_to_set,
        "because_of": one.because_of,
        "certainty": one.certainty,
        "proof": {"outcome": one.proof.outcome, "first_break": one.proof.first_break} if one.proof else None,
        **({"overrules": list(one.overrules)} if one.overrules else {}),
        "accepted": one.accepted,
        "evidence": [evidence(item, masks) for item in one.evidence[: limits.EVIDENCE_OF_FINDING]],
        **({"more_evidence": more} if (more := len(one.evidence) - limits.EVIDENCE_OF_FINDING) > 0 else {}),
        "reference": one.reference,
    }


def evidence(item: Evidence, masks: Masks) -> Json:
    """One piece of evidence; a secret value wears its mask."""
    return {
        "label": item.label,
        "value": masks.mask(item.value) if item.secret else item.value,
        "source": item.source,
        "where": item.where,
    }


def unchecked(one: Unchecked) -> Json:
    """A question left open."""
    return {"code": one.code, "because": one.because}


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
                "source": one.source,
                "where": one.where,
                "kind": one.kind,
                "layers": list(one.layers),
                "summary": masked(one.summary, masks),
                "content": masked(one.content, masks),
                "claims": [_claim(row) for row in laid.claims],
                "findings": [finding(item, masks) for item in one.findings],
            }
            for number, laid in enumerate(messages, 1)
            for one in (laid.opened,)
        ],
        "unreadable": [unreadable(source, because) for source, because in failed],
    }


def explanations(entries: Iterable[Entry]) -> Json:
    """`trace-lens/explain/1`."""
    return {
        "schema": "trace-lens/explain/1",
        "findings": [
            {
                "code": one.code,
                "stage": one.stage,
                "severities": list(one.severities),
                "title": one.title,
                "why": one.why,
                "causes": list(one.causes),
                "look": one.look,
                "remedies": [{"side": side, "remedy": text} for side, text in one.remedies.items()],
                "reference": one.reference,
            }
            for one in entries
        ],
    }


def _chain(chain: Chain | None) -> Json | None:
    if chain is None:
        return None
    subjects = [one.subject for one in chain.links]
    return {"subjects": subjects, "holds": chain.holds, "reason": chain.reason or None}


def certificates(
    found: Iterable[SeenCertificate], failed: Iterable[tuple[str, str]], masks: Masks, now: datetime
) -> Json:
    """`trace-lens/certs/1`."""
    return {
        "schema": "trace-lens/certs/1",
        "certificates": [
            {
                "source": one.source,
                "where": one.where,
                "seen_in": [{"source": place.source, "where": place.where} for place in one.places],
                **(
                    certificate_summary(one.certificate)
                    if one.certificate
                    else dict.fromkeys(
                        ("subject", "issuer", "serial", "not_before", "not_after", "sha1", "sha256", "key", "names")
                    )
                ),
                "spellings": one.certificate.spellings if one.certificate else {},
                "public_key_sha256": one.certificate.key_print if one.certificate else None,
                "valid_now": one.certificate.valid(now) if one.certificate else None,
                "at": show_moment(one.at) if one.at else None,
                "valid_at": one.certificate.valid(one.at) if one.certificate and one.at else None,
                "chain": _chain(one.chain),
                "used_by": list(one.used_by),
                "matches": one.matches,
                "findings": [finding(item, masks) for item in one.findings],
            }
            for one in found
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
                "item": one.item,
                "side": one.side,
                "value": one.value.text,
                "from": {"label": one.value.meant, "source": one.value.file, "where": one.value.where},
                "to": {"label": one.into.meant, "source": one.into.file, "where": one.into.where},
            }
            for one in found.copies
        ],
        "findings": [finding(one, masks) for one in found.findings],
        "unreadable": [unreadable(source, because) for source, because in found.failed],
    }


def comparison(found: Compared, masks: Masks) -> Json:
    """`trace-lens/compare/1`."""
    sides: list[Json] = [{"source": found.left}, {"source": found.right}]
    for side, one in zip(sides, found.diagnoses or (), strict=False):
        side |= {
            "app": one.app,
            "subject": one.subject,
            "outcome": one.outcome,
            "first_break": one.first_break.code if one.first_break else None,
        }
    return {
        "schema": "trace-lens/compare/1",
        "kind": found.kind,
        "left": sides[0],
        "right": sides[1],
        "matters": found.matters,
        "findings": {
            "came": [finding(one, masks) for one in found.came],
            "went": [finding(one, masks) for one in found.went],
            "stayed": [finding(one, masks) for one in found.stayed],
        },
        "differences": [
            {
                "item": one.item,
                "left": list(one.left),
                "right": list(one.right),
                "difference": one.kind,
                "matters": one.matters,
                "why": one.why,
                "hits": list(one.hits),
            }
            for one in found.differences
        ],
        "same": found.same,
        "noise": [{"kind": kind, "count": count} for kind, count in found.noise],
        "notes": list(found.notes),
        "parts_at": found.ways.parts_at if found.ways else None,
        "hops": [
            {
                "left": step(one.left) if one.left else None,
                "right": step(one.right) if one.right else None,
                "differs": list(one.differs),
            }
            for one in (found.ways.pairs if found.ways else ())
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
        "bad_rows": [{"line": one.line, "because": one.because, "text": one.text} for one in found.examples],
        "first": show_moment(found.first) if found.first else None,
        "last": show_moment(found.last) if found.last else None,
        "ambiguous": found.ambiguous,
        "zoneless": found.zoneless,
        "lacking": {name: round(share, 4) for name, share in found.lacking.items()},
        "columns": [
            {
                "column": one.name,
                "field": field,
                "filled": one.filled,
                "distinct": one.distinct,
                "examples": list(one.examples),
            }
            for one, field in found.columns
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
                "source": one.source,
                "file": one.file,
                "state": one.state,
                "rows": one.rows,
                "bad": one.bad,
                "bad_rows": [{"line": bad.line, "because": bad.because, "text": bad.text} for bad in one.examples],
                "ambiguous": one.ambiguous,
                "problem": one.problem,
            }
            for one in loaded
        ],
    }


def log_files(files: Iterable[LoadedFile]) -> Json:
    """`trace-lens/log-files/1`."""
    return {
        "schema": "trace-lens/log-files/1",
        "files": [
            {
                "source": one.source,
                "file": one.file,
                "octets": one.octets,
                "sha256": one.digest,
                "rows": one.rows,
                "bad": one.bad,
                "loaded_at": show_moment(one.loaded_at),
            }
            for one in files
        ],
    }


def found_events(found: Iterable[Event]) -> Json:
    """`trace-lens/events/1`."""
    return {
        "schema": "trace-lens/events/1",
        "events": [
            {
                "source": one.source,
                "file": one.file,
                "line": one.line,
                "time": show_moment(one.time),
                "user": one.user,
                "app": one.app,
                "outcome": one.outcome,
                "code": one.code,
                "reason": one.reason,
                "ip": one.ip,
                "ids": list(one.ids),
                "doubled": one.doubled,
            }
            for one in found
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
        "names": [_identified(one) for one in found.names],
        "unsent": [row.user for row in found.unsent],
        "proposal": {
            "rewrite": found.proposal.steps,
            "repairs": list(found.proposal.repairs),
            "held_against": found.proposal.held_against,
        }
        if found.proposal
        else None,
        "changes": {
            "gained": [_identified(one) for one in changed.gained],
            "lost": [_identified(one) for one in changed.lost],
            "moved": [{"name": new.named.name, "from": _user(old), "to": _user(new)} for old, new in changed.moved],
            "merged": [{"account": account, "names": list(names)} for account, names in changed.merged],
        }
        if changed
        else None,
        "unreadable": [unreadable(source, because) for source, because in found.failed],
    }


def _identified(one: Identified) -> Json:
    made = one.named.made
    return {
        "name": one.named.name,
        "source": one.named.source,
        "where": one.named.where,
        "held": made.held if made else None,
        "sent_steps": list(made.steps) if made else [],
        "guest": made.guest if made else None,
        "steps": list(one.steps),
        "looked_for": one.wanted,
        "result": one.result,
        "account": _user(one) if one.result in (FOUND, OTHER) else None,
        "active": one.account.active if one.account and one.accounts else None,
        "candidates": [row.user for row in one.accounts]
        if one.result == AMBIGUOUS
        else [near.row.user for near in one.near],
        "near_by": one.near[0].by if one.near else None,
        "difference": one.difference,
    }


def _user(one: Identified) -> str | None:
    return one.account.user if one.account else None


def apps(found: Iterable[App], workspace: Workspace) -> Json:
    """`trace-lens/apps/1`."""
    return {
        "schema": "trace-lens/apps/1",
        "applications": [
            {
                "app": one.id,
                "name": one.name,
                "protocol": one.settings.protocol,
                "provider": one.provider_id,
                "owner": one.settings.owner,
                "users": one.settings.users,
                "entity_id": one.entity_id,
                "acs_urls": list(one.acs_urls),
                "file": one.source.file,
                "settings": one.source.raw,
            }
            for one in found
        ],
    }


def settings_check(found: Iterable[tuple[App, list[Finding]]], masks: Masks) -> Json:
    """`trace-lens/check/1`."""
    return {
        "schema": "trace-lens/check/1",
        "applications": [
            {
                "app": app.id,
                "breaks": sum(one.breaks for one in findings),
                "risks": sum(one.severity == "risk" and not one.accepted for one in findings),
                "findings": [finding(one, masks) for one in findings],
            }
            for app, findings in found
        ],
    }
