"""Every repair proven where it can be: judged again as if the value were set.

A value for the application is tried by judging with it, a value for the provider by supposing that the message
carries it; the signature stays as it was judged. What does not turn its finding off is not offered.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

from trace_lens.checks.case import Case
from trace_lens.common.findings import Finding, Proof
from trace_lens.diagnosis.proposals import propose
from trace_lens.workspace.problems import SettingsError
from trace_lens.workspace.trial_settings import TrialSetting, read_supposed

if TYPE_CHECKING:
    from trace_lens.checks.oidc.case import OidcCase
    from trace_lens.checks.saml.case import SamlCase
    from trace_lens.diagnosis.judging import Diagnosis, Options


def proven(diagnosis: Diagnosis, case: SamlCase | OidcCase, options: Options) -> Diagnosis:
    """A diagnosis whose breaks say what setting their value gives."""
    if diagnosis.first_break is None or case.app is None:
        return diagnosis
    made: list[Finding] = []
    first, proposal, details = diagnosis.first_break, diagnosis.proposal, diagnosis.details
    for finding in diagnosis.findings:
        after = _tried(case, options, finding)
        if isinstance(after, Proof):
            after = finding._replace(proof=after)
        elif after is None:
            after = finding
        if finding is diagnosis.first_break:
            first = after
            if after.value_to_set is None and finding.value_to_set is not None:
                proposal, details = None, details._replace(record=None, looks_past=False)
        made.append(after)
    kept = {id(before): after for before, after in zip(diagnosis.findings, made, strict=True)}
    stages = tuple(
        stage._replace(findings=tuple(kept.get(id(finding), finding) for finding in stage.findings))
        for stage in diagnosis.stages
    )
    return diagnosis._replace(
        findings=tuple(made), stages=stages, first_break=first, proposal=proposal, details=details
    )


def _tried(case: SamlCase | OidcCase, options: Options, finding: Finding) -> Proof | Finding | None:
    """What trying a value gives; the finding without its value where that does not help; None where nothing can be
    tried.
    """
    from trace_lens.diagnosis.judging import case_of, judge

    setting = _setting_for(case, finding)
    if setting is None or case.app is None:
        return None
    again = options._replace(app=case.app.id, supposed=(*options.supposed, setting), prove=False)
    try:
        after = judge(case_of(case.attempt, case.workspace, again, case.logs), again)
    except SettingsError:
        return None
    if any(
        problem.breaks and problem.code == finding.code and problem.actual == finding.actual
        for problem in after.findings
    ):
        return finding._replace(value_to_set=None)
    return Proof(after.outcome, after.first_break.code if after.first_break else None)


def _setting_for(case: Case, finding: Finding) -> TrialSetting | None:
    if not finding.breaks:
        return None
    proposal = propose(case, finding)
    try:
        return read_supposed(str(proposal))._replace(proposed=True) if proposal else None
    except ValueError:
        return None
