"""The diagnosis of an attempt: the checks run in order, the first break named, and what would break next."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from datetime import datetime
from typing import TYPE_CHECKING, overload

from trace_lens.agreement.explaining import settings_findings
from trace_lens.agreement.settings import of_app
from trace_lens.attempts.attempt import Attempt
from trace_lens.attempts.oidc import OidcAttempt
from trace_lens.attempts.saml import SamlAttempt
from trace_lens.checks import registry
from trace_lens.checks.before_change import before_change, still_arriving
from trace_lens.checks.case import Case
from trace_lens.checks.checking import StageAnswers
from trace_lens.checks.claims import ClaimRow, table
from trace_lens.checks.logged import let_in_by_log, log_findings
from trace_lens.checks.protocols import of_oidc
from trace_lens.checks.validity import Validity, windows_of
from trace_lens.checks.way.names import typed_names
from trace_lens.checks.way.said import SYMPTOMS
from trace_lens.checks.way.signs import outcome_of, shown_in
from trace_lens.common import catalogue
from trace_lens.common.findings import SIGN_IN_STAGES, Finding, Severity, Stage, Unchecked
from trace_lens.common.moments import MomentError, read_moment_or_date
from trace_lens.common.sentences import Person
from trace_lens.common.tuples import NamedTuple
from trace_lens.diagnosis.causes import explain
from trace_lens.diagnosis.choosing import choose
from trace_lens.diagnosis.deciding import decided
from trace_lens.diagnosis.judged_moment import moment_of
from trace_lens.diagnosis.message_facts import message_facts, message_ids
from trace_lens.diagnosis.on_record import Record, record_of
from trace_lens.diagnosis.proposals import propose
from trace_lens.diagnosis.steps import Step, steps_of
from trace_lens.diagnosis.weighing import weigh
from trace_lens.logs.matching.seen import LogView
from trace_lens.workspace.records import App, Workspace
from trace_lens.workspace.trial_settings import TrialSetting, with_trial_settings

if TYPE_CHECKING:
    from trace_lens.checks.oidc.case import OidcCase
    from trace_lens.checks.saml.case import SamlCase


class StageResult(NamedTuple):
    """One stage's result: `ok`, `break`, `risk` or `unchecked`."""

    stage: Stage
    status: str
    findings: tuple[Finding, ...]
    unchecked: tuple[Unchecked, ...]


class AttemptParties(NamedTuple):
    """Who takes part in an attempt: IDs and names of the application and the provider that are on record, who the
    person is, who began (`started_by`), and how the application was chosen (`chosen_by`).
    """

    app: str | None
    app_name: str | None
    provider: str | None
    provider_name: str | None
    subject: str | None
    started_by: str | None
    chosen_by: str | None


class Circumstances(NamedTuple):
    """What a diagnosis was made under: the moment, where that came from, and the settings that were tried.

    `redacted` says that a redacted copy was judged, of whose signatures and ciphertexts a record tells.
    """

    at: datetime | None
    at_from: str | None
    supposed: tuple[str, ...]
    redacted: bool = False


class Details(NamedTuple):
    """What a reader is shown beside the findings: claims, windows of time, the way, and what the logs say.

    `message` is what the message says by itself, where no application is known, and `candidates` are the applications
    that fit it equally well; `record` is where in the workspace the repair belongs; `looks_past` says that the setting
    to try is not of the side that must act: it shows what would break next, and is no repair. `arriving` is what is to
    be said of a change that may not have arrived yet; `ids` are those of the messages by which lines of logs are found;
    `typed` is what the person typed as their name at the provider.
    """

    claims: tuple[ClaimRow, ...]
    windows: tuple[Validity, ...]
    steps: tuple[Step, ...]
    hidden_steps: int
    logs: LogView | None
    message: tuple[tuple[str, str], ...]
    candidates: tuple[str, ...]
    record: Record | None
    looks_past: bool
    arriving: str | None
    ids: tuple[str, ...] = ()
    typed: tuple[Person, ...] = ()


class Diagnosis(NamedTuple):
    """What became of one attempt. `outcome` is `broken`, `sound` or `inconclusive`."""

    id: str
    source: str
    protocol: str
    parties: AttemptParties
    judged: Circumstances
    outcome: str
    cause: str
    first_break: Finding | None
    proposal: str | None
    next_breaks: tuple[str, ...]
    stages: tuple[StageResult, ...]
    findings: tuple[Finding, ...]
    unchecked: tuple[Unchecked, ...]
    details: Details

    @property
    def app(self) -> str | None:
        """The application's name on record."""
        return self.parties.app

    @property
    def provider(self) -> str | None:
        """The provider's name on record."""
        return self.parties.provider

    @property
    def subject(self) -> str | None:
        """Who signs in, as the message names them."""
        return self.parties.subject

    @property
    def at(self) -> datetime | None:
        """The moment that the attempt was judged at."""
        return self.judged.at


class Options(NamedTuple):
    """What the user has told: the moment (`at`), today (`now`), the application, the provider, and the settings that
    are to be supposed for the application. `with_logs` says that attempts are to be laid beside logs; `prove` that
    every value to set is tried by judging again with it.
    """

    now: datetime
    at: datetime | None = None
    app: str | None = None
    provider: str | None = None
    supposed: tuple[TrialSetting, ...] = ()
    with_logs: bool = False
    prove: bool = False


def diagnose(attempt: Attempt, workspace: Workspace, options: Options, number: int = 1) -> Diagnosis:
    """Judge one attempt. Raises KeyError for an application or provider that is not on record, SettingsError."""
    return judge(case_of(attempt, workspace, options), options, number)


def judge(case: SamlCase | OidcCase, options: Options, number: int = 1) -> Diagnosis:
    """Judge a case. Raises SettingsError."""
    attempt = case.attempt
    answers = registry.ask_all(case)
    findings = [finding for stage in Stage for finding in answers[stage].findings]
    findings = weigh(case, log_findings(case, findings))
    findings, open_ended = without_old_symptoms(case, findings, options)
    findings += before_change(case, findings)
    findings = accept(explain(case, findings), case.app, options.at or case.at or options.now)
    findings = in_order(findings)
    findings += in_order(settings_findings(case, findings))
    first_stage = (Stage.REACHABLE,) if any(finding.stage is Stage.REACHABLE for finding in findings) else ()
    stages = tuple(
        _stage(stage, [finding for finding in findings if finding.stage is stage], answers[stage], case)
        for stage in (*first_stage, *SIGN_IN_STAGES)
    )
    unchecked = (*(question for result in stages for question in result.unchecked), *open_ended)
    roots = [
        finding
        for finding in findings
        if finding.breaks and finding.because_of is None and finding.stage is not Stage.SETTINGS
    ]
    first = roots[0] if roots else None
    doubts = [] if first else _doubts(case, unchecked)
    outcome = "broken" if first else "inconclusive" if doubts else "sound"
    proposal = propose(case, first) if first else None
    return Diagnosis(
        id=str(number),
        source=attempt.source,
        protocol=case.protocol,
        parties=_parties(case),
        judged=Circumstances(case.at, case.at_from, tuple(f"{key}={value}" for key, value in case.supposed.items())),
        outcome=outcome,
        cause=_cause(case, first, doubts, findings),
        first_break=first,
        proposal=str(proposal) if proposal else None,
        next_breaks=tuple(dict.fromkeys(root.code for root in roots if first and root.code != first.code)),
        stages=stages,
        findings=tuple(findings),
        unchecked=unchecked,
        details=Details(
            claims=table(case),
            windows=windows_of(case),
            steps=steps_of(case, findings, first),
            hidden_steps=attempt.way.hidden if attempt.way else 0,
            logs=case.logs,
            message=message_facts(case) if case.app is None else (),
            candidates=tuple(case.candidates) if case.app is None else (),
            record=record_of(case, first, proposal) if first else None,
            looks_past=first is not None and proposal is not None and proposal.side is not first.side,
            arriving=still_arriving(case) if first else None,
            ids=message_ids(case),
            typed=tuple(map(Person, typed_names(case))),
        ),
    )


def _parties(case: SamlCase | OidcCase) -> AttemptParties:
    app, provider = case.app, case.provider
    return AttemptParties(
        app=app.id if app else None,
        app_name=app.name if app else None,
        provider=provider.id if provider else None,
        provider_name=provider.name if provider else None,
        subject=case.subject.value if case.subject else None,
        started_by=case.started_by,
        chosen_by=case.chosen_by,
    )


@overload
def case_of(attempt: SamlAttempt, workspace: Workspace, options: Options, logs: LogView | None = None) -> SamlCase: ...
@overload
def case_of(attempt: OidcAttempt, workspace: Workspace, options: Options, logs: LogView | None = None) -> OidcCase: ...
@overload
def case_of(
    attempt: Attempt, workspace: Workspace, options: Options, logs: LogView | None = None
) -> SamlCase | OidcCase: ...
def case_of(
    attempt: Attempt, workspace: Workspace, options: Options, logs: LogView | None = None
) -> SamlCase | OidcCase:
    """The case that the checks look at; `logs` is what the loaded logs say of it."""
    choice = choose(attempt, workspace, options.app, options.provider)
    at, at_from = moment_of(attempt, options.at, logs)
    app, provider = choice.app, choice.provider
    recorded = workspace
    if options.supposed and app:
        own = provider is workspace.provider_of(app)
        workspace = with_trial_settings(workspace, app, options.supposed)
        app = workspace.apps[app.id]
        provider = workspace.provider_of(app) if own else provider
    sent = {setting.key: str(setting.value) for setting in options.supposed} if app else {}
    before = case_of(attempt, recorded, options._replace(supposed=()), logs) if sent else None
    about = (workspace, app, provider, choice.by, at, at_from, options.now, choice.candidates, sent, logs, before)
    if not isinstance(attempt, OidcAttempt):
        from trace_lens.checks.saml.case import SamlCase

        return SamlCase(attempt, *about)
    from trace_lens.checks.oidc.case import OidcCase

    case = OidcCase(attempt, *about)
    if at is None and case.opening and case.made_at:
        return replace(case, at=case.made_at[0], at_from="message")
    return case


def in_order(findings: Iterable[Finding]) -> list[Finding]:
    """Stage order; within a stage breaks first, then risks, then notes, each in the catalogue's order."""
    severities = list(Severity)
    stages = list(Stage)

    def place(finding: Finding) -> tuple[int, int, int]:
        return stages.index(finding.stage), severities.index(finding.severity), catalogue.position_of(finding.code)

    return sorted(findings, key=place)


def without_old_symptoms(
    case: SamlCase | OidcCase, findings: list[Finding], options: Options
) -> tuple[list[Finding], list[Unchecked]]:
    """Where settings are supposed: the findings without those that only tell how the attempt ended as it was, if what
    explained that end is no break any more; and that the end under these settings is not known.
    """
    was = case.as_it_was
    if was is None:
        return findings, []
    before = judge(was, options._replace(supposed=(), prove=False))  # type: ignore[arg-type]
    causes = {
        finding.code: finding.because_of for finding in before.findings if finding.breaks and finding.code in SYMPTOMS
    }
    breaks = {finding.code for finding in findings if finding.breaks}
    gone = [
        finding
        for finding in findings
        if finding.breaks and (cause := causes.get(finding.code)) and cause not in breaks
    ]
    words = "the capture shows how the attempt ended as it was, not how it would end with this setting"
    return [finding for finding in findings if finding not in gone], [Unchecked(item.code, words) for item in gone]


def _doubts(case: Case, unchecked: tuple[Unchecked, ...]) -> list[str]:
    """Why a sign-in cannot be called sound though nothing breaks: a question that decides is open, or nothing tells how
    it ended. Empty where it can.
    """
    found = [question.because for question in unchecked if question.decides]
    if not found and case.attempt.kind != "sign-out" and not _came_to_an_end(case):
        found = ["nothing in the capture tells how it ended"]
    return list(dict.fromkeys(found))


def _came_to_an_end(case: Case) -> bool:
    """Whether an answer of the provider is there to be judged, or something shows that the user was let in.

    A code alone is no such answer where the browser never sees the token.
    """
    if shown_in(case) or let_in_by_log(case) is not None:
        return True
    if case.attempt.kind != "answer":
        return False
    return not of_oidc(case) or case.token is not None or bool(case.attempt.token_response)


def _stage(stage: Stage, findings: list[Finding], answers: StageAnswers, case: Case) -> StageResult:
    counted = [finding.severity for finding in findings if not finding.accepted]
    if Severity.BREAK in counted:
        status = "break"
    elif Severity.RISK in counted:
        status = "risk"
    else:
        status = "ok" if decided(stage, case) else "unchecked"
    return StageResult(stage, status, tuple(findings), tuple(answers.unchecked))


def accept(findings: list[Finding], app: App | None, at: datetime) -> list[Finding]:
    """Mark the risks that were agreed to and whose time has not run out."""
    agreed = {}
    for accepted in app.settings.accepted if app else ():
        if accepted.until is None or _lasts(str(accepted.until), at):
            agreed[accepted.code] = accepted.reason
    return [
        finding._replace(accepted=agreed[finding.code])
        if finding.code in agreed and finding.severity is Severity.RISK
        else finding
        for finding in findings
    ]


def _lasts(until: str, at: datetime) -> bool:
    try:
        return at < read_moment_or_date(until)
    except MomentError:
        return False


def _cause(case: Case, first: Finding | None, doubts: list[str], findings: list[Finding]) -> str:
    if first:
        return first.detail
    if doubts:
        return f"Nothing that could be checked breaks this sign-in, but it cannot be called sound: {'; '.join(doubts)}."
    name = case.app.name if case.app else "the application"
    for finding in findings:
        if finding.code in ("application-too-lenient", "record-contradicted"):
            return finding.detail
    if case.supposed:
        return f"With this setting nothing that the capture shows stops the sign-in to {name}."
    if outcome_of(case).only_tokens and not let_in_by_log(case):
        return f"Nothing stops this sign-in: the page of {name} got its tokens."
    if shown_in(case) or let_in_by_log(case):
        return f"Nothing stops this sign-in: {name} let the user in."
    return f"Nothing in this message stops the sign-in to {name}."


def check_settings(apps: Iterable[App], workspace: Workspace, now: datetime) -> list[tuple[App, list[Finding]]]:
    """The settings findings of applications, sorted, accepted ones marked. Raises SettingsError."""
    return [(app, in_order(accept(of_app(app, workspace, now), app, now))) for app in apps]
