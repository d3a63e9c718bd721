"""What `sides`, `compare`, `identify`, `apps` and `certs` give as JSON."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from trace_lens.agreement.rows import COLUMNS
from trace_lens.common.findings import Finding
from trace_lens.common.masking import Masks
from trace_lens.common.moments import show_moment
from trace_lens.comparison.compared import Compared
from trace_lens.comparison.comparing_sides import TwoSides
from trace_lens.decoding.summaries import certificate_summary
from trace_lens.diagnosis.certificates import SeenCertificate
from trace_lens.diagnosis.identification import Identification
from trace_lens.people.names import AMBIGUOUS, FOUND, OTHER, RESULTS, Identified
from trace_lens.pki.chains import Chain
from trace_lens.render.as_json import Json, finding, step, unreadable
from trace_lens.workspace.records import App, Workspace


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
                            "where": str(cell.value.where),
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
                "from": {"label": copy.value.meant, "source": copy.value.file, "where": str(copy.value.where)},
                "to": {"label": copy.into.meant, "source": copy.into.file, "where": str(copy.into.where)},
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
        "where": str(person.named.where),
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


def certificates(
    found: Iterable[SeenCertificate], failed: Iterable[tuple[str, str]], masks: Masks, now: datetime
) -> Json:
    """`trace-lens/certs/1`."""
    return {
        "schema": "trace-lens/certs/1",
        "certificates": [
            {
                "source": certificate.source,
                "where": str(certificate.where),
                "seen_in": [{"source": place.source, "where": str(place.where)} for place in certificate.places],
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


def _chain(chain: Chain | None) -> Json | None:
    if chain is None:
        return None
    subjects = [link.subject for link in chain.links]
    return {"subjects": subjects, "holds": chain.holds, "reason": chain.reason or None}
