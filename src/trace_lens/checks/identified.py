"""Identified: the subject is an account of the application, of the format and spelling that it wants."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from trace_lens.checks.case import Case, Sent
from trace_lens.checks.checking import Answer, check
from trace_lens.checks.claims import matches
from trace_lens.common.expressions import expression
from trace_lens.common.findings import Allows, Evidence, Finding, Severity, Side, Unchecked, lack
from trace_lens.common.locations import Location
from trace_lens.common.raising import finding
from trace_lens.common.sentences import Person, say
from trace_lens.common.tuples import NamedTuple
from trace_lens.people import guests
from trace_lens.people.accounts import AccountIndex, Near, account_index
from trace_lens.people.rewriting import result
from trace_lens.workspace.account_rows import AccountRow
from trace_lens.workspace.patterns import compiled
from trace_lens.workspace.records import App, Provider, Workspace

_ADDRESS = expression(r"[^@\s]++@((?=[^@\s]+?\.[^@\s])[^@\s]++)")


class Name(NamedTuple):
    """The name that the application looks for: as sent, and as its account rule makes it."""

    sent: str
    wanted: str
    at: Sent


def account_name(case: Case) -> Name | None:
    """What the account rule makes of the message; None where the message lacks what the rule needs."""
    sent = _sent(case)
    if sent is None:
        return None
    steps = case.app.settings.account.rewrite if case.app else ()
    return Name(sent.value, result(sent.value, steps), sent)


def _sent(case: Case) -> Sent | None:
    source = case.account_source
    if source == case.subject_label:
        return case.subject
    value = next((value for value in case.said.get(source, ()) if value.strip()), None)
    return Sent(Person(value), lambda label: case.evidence_of(source)) if value is not None else None


def index_of(case: Case, app: App) -> AccountIndex | None:
    """The application's accounts, made ready for looking up once; None where no list is declared."""
    rows = app.accounts
    if rows is None:
        return None
    return account_index(app, rows, case.workspace)


def is_of(case: Case, asked_for: str, answered: Iterable[str]) -> bool:
    """Whether a name asked for may be the person's who answered: one of their spellings, those of their account among
    them; or the same name once without and once with a domain, which tells nothing apart.
    """
    spelled = {name.casefold() for name in answered}
    index = index_of(case, case.app) if case.app else None
    for name in list(spelled) if index else ():
        for row in index.find(name) if index else ():
            spelled |= {spelling.casefold() for spelling in row.spellings}
    wanted = asked_for.strip().casefold()
    if wanted in spelled:
        return True
    local, _, domain = wanted.partition("@")
    return any(name == local if domain else name.partition("@")[0] == wanted for name in spelled)


@check("subject-missing")
def subject_there(case: Case) -> Answer:
    """Does the message hold what the account is found by?"""
    if _sent(case) is not None:
        return
    source, label = case.account_source, case.subject_label
    if source == label and case.name_closed:
        yield Unchecked("subject-missing", "the name is encrypted and could not be opened")
        return
    what = (
        say("no {label}, or an empty one", label=label)
        if source == label
        else say("no value of {source}, which the account rule needs", source=source)
    )
    yield finding(
        "subject-missing",
        say("The message holds {what}.", what=what),
        expected=source,
        value_to_set=source if source != label else None,
        evidence=case.subject.shown(label) if case.subject else (),
    )


@check(
    "account-not-found",
    "account-near-match",
    "account-ambiguous",
    "account-disabled",
    "account-not-federated",
    "account-creation-blocked",
)
def account(case: Case) -> Answer:
    """Is there exactly one account of that name, active, and set to single sign-on?"""
    if case.app is None:
        yield Unchecked("account-not-found", "no application is known for this message")
        return
    name = account_name(case)
    if name is None:
        yield Unchecked("account-not-found", "the message holds no name to look for")
        return
    index = index_of(case, case.app)
    if index is None:
        yield Unchecked(
            "account-not-found",
            lack(f"no account list for {case.app.id}", Allows.RECORD, case.app.source.file, "account.list"),
        )
        return
    found = index.find(name.wanted)
    if len(found) > 1:
        yield _ambiguous(case, name, found)
    elif found:
        yield from _state(case, name, found[0])
    else:
        yield from _absent(case, name, index.near(name.wanted))


def _evidence(case: Case, name: Name, *rows: AccountRow) -> list[Evidence]:
    found = name.at.shown(case.account_source)
    if name.sent != name.wanted:
        found.append(case.set_in_app("after the account rule", name.wanted, "account", "rewrite"))
    file = (case.app.settings.account.list_file if case.app else None) or ""
    return found + [Evidence("account", row.user, file, Location(line=row.line)) for row in rows]


def _ambiguous(case: Case, name: Name, found: list[AccountRow]) -> Finding:
    names = ", ".join(f"{row.user} (line {row.line})" for row in found[:4])
    return finding(
        "account-ambiguous",
        say("{wanted} leads to {found} accounts: {names}.", wanted=name.wanted, found=len(found), names=names),
        actual=name.wanted,
        evidence=_evidence(case, name, *found[:4]),
    )


def _state(case: Case, name: Name, row: AccountRow) -> Iterator[Finding]:
    if not row.active:
        yield finding(
            "account-disabled",
            say("The account {user} is there, but marked inactive.", user=row.user),
            actual=row.user,
            evidence=_evidence(case, name, row),
        )
    if not row.federated:
        yield finding(
            "account-not-federated",
            say("The account {user} is there, but set to sign in with a local password.", user=row.user),
            actual=row.user,
            value_to_set="federated",
            evidence=_evidence(case, name, row),
        )


def _absent(case: Case, name: Name, near: list[Near]) -> Iterator[Finding]:
    assert case.app is not None
    settings = case.app.settings.account
    if settings.created_at_first_sign_in:
        blocked = settings.creates_from not in ("both", case.started_by)
        if blocked:
            yield finding(
                "account-creation-blocked",
                say(
                    "{wanted} has no account, and {app_name} creates accounts only in sign-ins started at "
                    "the {creates_from}; this one was started at the {started_by}.",
                    wanted=name.wanted,
                    app_name=case.app.name,
                    creates_from=settings.creates_from,
                    started_by=case.started_by,
                ),
                expected=settings.creates_from,
                actual=case.started_by,
                evidence=_evidence(case, name),
                compared=False,
            )
            return
        blocked_by_claims = list(_creation_needs(case, name))
        yield from blocked_by_claims
        if blocked_by_claims:
            return
        lookalike = (
            say(" Note that {user} exists; there would then be two accounts.", user=near[0].row.user) if near else ""
        )
        yield finding(
            "account-not-found",
            say(
                "{wanted} has no account yet; one would be created at this sign-in.{lookalike}",
                wanted=name.wanted,
                lookalike=lookalike,
            ),
            severity=Severity.RISK,
            actual=name.wanted,
            evidence=_evidence(case, name, *(neighbour.row for neighbour in near[:1])),
        )
    elif near:
        yield _near(case, name, near)
    else:
        yield finding(
            "account-not-found",
            say("There is no account named {wanted}, and none comes near.", wanted=name.wanted),
            actual=name.wanted,
            value_to_set=name.wanted,
            evidence=_evidence(case, name),
        )


def _creation_needs(case: Case, name: Name) -> Iterator[Finding]:
    """A new account is made from the claims, so one that must be there and is not stands in its way."""
    lacking = [
        match.claim.name
        for match in matches(case)
        if match.claim.need == "must" and not (match.served and match.filled)
    ]
    if lacking:
        yield finding(
            "account-creation-blocked",
            say(
                "{wanted} has no account, and none can be created without {lacking}.",
                wanted=name.wanted,
                lacking=" and ".join(lacking),
            ),
            expected=lacking[0],
            evidence=_evidence(case, name),
        )


def _near(case: Case, name: Name, near: list[Near]) -> Finding:
    best = near[0]
    user, spelling = best.row.user, Person(best.spelling)
    if best.by == "another of its names":
        how = say("{spelling} is another name of the account {user}", spelling=spelling, user=user)
    elif best.by == "folding":
        folding = _and(best.folded.how) if best.folded else ""
        how = say("it is {spelling}, folded: the directory {folding}", spelling=spelling, folding=folding)
    else:
        how = say("the account {user} differs only by {by}", user=user, by=best.by)
    others = say(" ({near} more come as near)", near=len(near) - 1) if len(near) > 1 else ""
    side = Side.APPLICATION if best.by in ("folding", "case") else Side.PROVIDER
    return finding(
        "account-near-match",
        say("There is no account named {wanted}; {how}{others}.", wanted=name.wanted, how=how, others=others),
        side=side,
        expected=best.row.user,
        actual=name.wanted,
        value_to_set=best.row.user,
        evidence=_evidence(case, name, best.row),
    )


def _and(words: tuple[str, ...]) -> str:
    return " and ".join(filter(None, (", ".join(words[:-1]), words[-1]))) if words else "rewrote it"


@check("guest-identifier")
def guest_name(case: Case) -> Answer:
    """Is the name a rewritten one, of somebody from another organisation?"""
    name = case.subject if case.protocol == "saml" else _sent(case) or case.subject
    if name is None:
        return
    found = guest_of(case, name.value)
    if found:
        local, domain = found
        yield finding(
            "guest-identifier",
            say(
                "The name is that of a guest, rewritten by the provider's directory: {guest}.",
                guest=Person(f"{local}@{domain}"),
            ),
            expected=Person(f"{local}@{domain}"),
            actual=name.value,
            evidence=name.shown(case.subject_label),
            compared=False,
        )


def guest_of(case: Case, value: str) -> tuple[str, str] | None:
    """The local part and domain of the guest whose address was folded into a name; None for a name of the house."""
    index = index_of(case, case.app) if case.app else None
    return guest(value, case.provider, case.workspace, index)


def guest(
    value: str, provider: Provider | None, workspace: Workspace, index: AccountIndex | None
) -> tuple[str, str] | None:
    """The local part and domain of the guest whose address a provider folded into a name.

    The provider's own pattern tells, where one is set; else an account that the name is a folded form of; else the
    domains of the other providers on record; else how a folded name looks.
    """
    pattern = provider.settings.guest_pattern if provider else None
    if pattern:
        match = compiled(pattern).search(value)
        return (match["local"], match["domain"]) if match and match["local"] and match["domain"] else None
    home = {domain.casefold() for domain in (provider.settings.email_domains if provider else ())}
    for near in index.near(value) if index and not index.find(value) else ():
        if near.folded and near.folded.domain not in home:
            local, _, domain = near.spelling.rpartition("@")
            return local, domain
    partners = {
        domain for provider in workspace.providers.values() for domain in provider.settings.email_domains
    } - home
    for folded in guests.readings(value, partners, home):
        if folded.local_span[0] == 0:
            return value[slice(*folded.local_span)], folded.domain
    seen = guests.seen_guest(value)
    if seen and seen[1].casefold() not in home and (not home or seen[2].casefold() in home):
        return seen[0], seen[1]
    return None


def domain_of(name: str) -> str | None:
    """The domain of a name that is an e-mail address, in lower case; None of any other."""
    match = _ADDRESS.fullmatch(name.strip())
    return match[1].casefold() if match else None


@check("domain-not-routed")
def routed(case: Case) -> Answer:
    """Does the user's e-mail domain lead to this provider?"""
    name = account_name(case)
    domain = domain_of(name.sent) if name else None
    if domain is None or case.provider is None:
        return
    if case.other_provider:
        yield Unchecked("domain-not-routed", "another provider answered than the one that the application trusts")
        return
    owners = [
        provider
        for provider in case.workspace.providers.values()
        if domain in (domain.casefold() for domain in provider.settings.email_domains)
    ]
    sent_here = [domain.casefold() for domain in (case.app.settings.application.email_domains if case.app else ())]
    declared = any(provider.settings.email_domains for provider in case.workspace.providers.values())
    if sent_here and domain not in sent_here:
        reason = say(
            "{app_name} does not send addresses of {domain} to {provider_name}",
            app_name=case.app.name if case.app else "",
            domain=domain,
            provider_name=case.provider.name,
        )
    elif owners and case.provider not in owners:
        reason = say(
            "{domain} belongs to {name}, and the sign-in was answered by {provider_name}",
            domain=domain,
            name=owners[0].name,
            provider_name=case.provider.name,
        )
    elif declared and not owners and not sent_here:
        reason = say("no provider on record has the domain {domain}", domain=domain)
    elif not declared and not sent_here:
        yield Unchecked("domain-not-routed", "no email_domains are on record")
        return
    else:
        return
    yield finding(
        "domain-not-routed",
        say("A user who types that address may not get to this provider: {reason}.", reason=reason),
        actual=domain,
        value_to_set=domain,
        evidence=name.at.shown("name") if name else (),
    )


CHECKS = (
    subject_there,
    account,
    guest_name,
    routed,
)
