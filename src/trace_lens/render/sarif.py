"""Findings about settings as SARIF 2.1.0 (OASIS), for people who keep the workspace in a repository."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from typing import Any

from trace_lens.common import catalogue
from trace_lens.common.findings import Evidence, Finding
from trace_lens.common.version import __version__
from trace_lens.workspace.records import App

Json = dict[str, Any]
_LEVELS = {"break": "error", "risk": "warning", "note": "note"}


def sarif(found: Iterable[tuple[App, list[Finding]]]) -> Json:
    """One run with a rule for each code (SARIF §3.49) and a result for each finding (§3.27)."""
    results = [(app, finding) for app, findings in found for finding in findings]
    codes = list(dict.fromkeys(finding.code for _, finding in results))
    return {
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [
            {
                "tool": {
                    "driver": {
                        "name": "trace-lens",
                        "semanticVersion": __version__,
                        "rules": [_rule(code) for code in codes],
                    }
                },
                "columnKind": "unicodeCodePoints",
                "results": [_result(app, finding, codes.index(finding.code)) for app, finding in results],
            }
        ],
    }


def _rule(code: str) -> Json:
    entry = catalogue.entry(code)
    return {
        "id": code,
        "shortDescription": {"text": entry.title},
        "fullDescription": {"text": entry.why},
        "help": {"text": " ".join(entry.remedies.values())},
        "defaultConfiguration": {"level": _LEVELS[entry.severity]},
        "properties": {"stage": str(entry.stage), "reference": entry.reference},
    }


def _result(app: App, finding: Finding, rule: int) -> Json:
    value = f" Set: {finding.value_to_set}" if finding.value_to_set else ""
    mark = "\0".join((app.id, finding.code, finding.expected or "", finding.actual or ""))
    result: Json = {
        "ruleId": finding.code,
        "ruleIndex": rule,
        "level": _LEVELS[finding.severity],
        "message": {"text": f"{app.name}: {finding.detail} {finding.remedy}{value}"},
        "locations": [
            _location(finding.evidence[0]) if finding.evidence else {"physicalLocation": _file(app.source.file, 1)}
        ],
        "relatedLocations": [_location(item) | {"message": {"text": item.label}} for item in finding.evidence[1:]],
        "partialFingerprints": {"finding/v1": hashlib.sha256(mark.encode()).hexdigest()},
        "properties": {"app": app.id, "side": str(finding.side) if finding.side else None},
    }
    if finding.accepted:
        result["suppressions"] = [{"kind": "external", "status": "accepted", "justification": finding.accepted}]
    return result


def _location(item: Evidence) -> Json:
    line = item.where.line
    return {"physicalLocation": _file(item.source, line or 1)}


def _file(name: str, line: int) -> Json:
    return {"artifactLocation": {"uri": name, "uriBaseId": "WORKSPACE"}, "region": {"startLine": max(line, 1)}}
