"""Two attempts, two metadata or discovery documents, two key sets or lots of certificates: what differs and matters.

What differs in any two messages (identifiers, moments, signature values) is counted, not listed. A difference matters
where it is a value that one side sets or checks, or where a finding that came or went is about it.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping

from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.evidence import assemble, read_evidence
from trace_lens.checks.oidc.case import OidcCase
from trace_lens.checks.saml.case import SamlCase
from trace_lens.common.findings import Finding
from trace_lens.comparison.compared import (
    ATTEMPTS,
    DOCUMENTS,
    CannotCompare,
    Compared,
    ComparedSide,
    Differing,
)
from trace_lens.comparison.compared_items import items_of
from trace_lens.comparison.compared_tokens import items_of_token
from trace_lens.comparison.comparing_ways import side_by_side
from trace_lens.comparison.documents import certificates_compared, documents_compared, metadata_compared
from trace_lens.comparison.items import Item
from trace_lens.diagnosis.judging import Options, case_of, diagnose
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile


def compare(left: SourceFile, right: SourceFile, workspace: Workspace, options: Options) -> Compared:
    """Lay two sources side by side. Raises CannotCompare, SettingsError, KeyError."""
    pair, other = _side(left), _side(right)
    if pair.attempts and other.attempts:
        return _attempts(pair, other, workspace, options)
    if "saml-metadata" in pair.kinds and "saml-metadata" in other.kinds:
        return metadata_compared(pair, other, workspace)
    for kind in DOCUMENTS:
        if kind in pair.documents and kind in other.documents:
            return documents_compared(kind, pair, other, workspace)
    if "certificate" in pair.kinds and "certificate" in other.kinds:
        return certificates_compared(pair, other, workspace)
    for side in (pair, other):
        if not side.kinds:
            raise CannotCompare(f"{side.name}: {side.peeled.because}", unread=True)
    raise CannotCompare(
        "two of one kind are needed: attempts, metadata files, discovery documents, key sets or lots of certificates; "
        + " and ".join(f"{side.name} holds {', '.join(sorted(side.kinds))}" for side in (pair, other))
    )


def _side(source: SourceFile) -> ComparedSide:
    held = read_evidence(source)
    if held.problems:
        raise CannotCompare(f"{source.name}: {held.problems[0]}", unread=True)
    documents = {item.kind: item for item in reversed(held.oidc) if item.kind in DOCUMENTS and item.damage is None}
    return ComparedSide(source.name, held.peeled, assemble([held]), documents)


def _attempts(left: ComparedSide, right: ComparedSide, workspace: Workspace, options: Options) -> Compared:
    """Two attempts: of several in one source, those of the same application are laid beside each other."""
    pair = _pair(left, right, workspace, options)
    notes = tuple(
        f"{side.name} holds {len(side.attempts)} attempts; number {side.attempts.index(chosen) + 1} is compared"
        for side, chosen in zip((left, right), pair, strict=True)
        if len(side.attempts) > 1
    )
    cases = [case_of(attempt, workspace, options) for attempt in pair]
    first, second = (diagnose(attempt, workspace, options) for attempt in pair)
    came, went, stayed = _findings(first.findings, second.findings)
    moving = {
        finding.code: finding.severity for finding in sorted((*came, *went), key=lambda item: item.severity == "break")
    }
    mine, theirs = (_items_of(case) for case in cases)
    differences, same = _differences(mine, theirs, moving)
    noise = _noise(mine, theirs)
    return Compared(
        kind=ATTEMPTS,
        left=left.name,
        right=right.name,
        differences=differences,
        same=same,
        noise=noise,
        diagnoses=(first, second),
        came=came,
        went=went,
        stayed=stayed,
        notes=notes,
        ways=side_by_side(first.details.steps, second.details.steps),
    )


def _items_of(case: SamlCase | OidcCase) -> list[Item]:
    return items_of_token(case) if isinstance(case, OidcCase) else items_of(case)


def _pair(left: ComparedSide, right: ComparedSide, workspace: Workspace, options: Options) -> tuple[Attempt, Attempt]:
    for attempt in left.attempts:
        app = case_of(attempt, workspace, options).app
        for other in right.attempts:
            if app and case_of(other, workspace, options).app is app and attempt.kind == other.kind:
                return attempt, other
    return left.attempts[0], right.attempts[0]


def _findings(
    left: tuple[Finding, ...], right: tuple[Finding, ...]
) -> tuple[tuple[Finding, ...], tuple[Finding, ...], tuple[Finding, ...]]:
    """Findings that only the right one has, that only the left one has, and that both have (as in the right one)."""

    def key(finding: Finding) -> tuple[str, str, str | None]:
        return finding.code, finding.severity, finding.expected if finding.code.startswith("claim-") else None

    before, after = Counter(map(key, left)), Counter(map(key, right))
    came = tuple(finding for finding in right if not before[key(finding)])
    went = tuple(finding for finding in left if not after[key(finding)])
    return came, went, tuple(finding for finding in right if before[key(finding)])


def _differences(left: list[Item], right: list[Item], moving: Mapping[str, str]) -> tuple[tuple[Differing, ...], int]:
    """Items that differ, those that matter most first, and how many are equal.

    `moving` are the findings that came or went, with their severity: what a break is about comes before all else.
    """
    mine = {item.name: item for item in left if not item.noise}
    theirs = {item.name: item for item in right if not item.noise}
    found = []
    same = 0
    for name in dict.fromkeys([*mine, *theirs]):
        a, b = mine.get(name), theirs.get(name)
        item = a or b
        if item is None or (item.only_if_both and not (a and b)):
            continue
        if a and b and a.values == b.values:
            same += 1
            continue
        about = sorted((code for code in item.codes if code in moving), key=lambda code: moving[code] != "break")
        matters = item.matters or bool(about) or (item.matters_if_missing and not (a and b))
        rank = 0 if about and moving[about[0]] == "break" else 1 if about else 2 if matters else 3
        why = _why(item, about, matters=matters)
        found.append(
            (
                rank,
                Differing(item=name, left=a.values if a else (), right=b.values if b else (), matters=matters, why=why),
            )
        )
    return tuple(difference for _, difference in sorted(found, key=lambda pair: pair[0])), same


def _why(item: Item, about: list[str], *, matters: bool) -> str:
    if about:
        return f"{about[0]} is about it"
    if matters:
        return item.why
    return "it may differ from person to person" if item.personal else "nothing here reads it"


def _noise(left: list[Item], right: list[Item]) -> tuple[tuple[str, int], ...]:
    """What differs in any two messages, counted by kind."""
    mine = [(item.name, item.noise, item.values) for item in left if item.noise]
    theirs = {item.name: item.values for item in right if item.noise}
    counted = Counter(kind for name, kind, values in mine if theirs.get(name) != values)
    return tuple(sorted((kind or "", count) for kind, count in counted.items()))
