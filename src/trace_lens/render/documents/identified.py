"""What an account rule makes of names, in the terminal: counts first, then those that fail, then what repairs them."""

from __future__ import annotations

import shlex

from trace_lens.common.difference import difference
from trace_lens.common.masking import visible
from trace_lens.common.toml import inline
from trace_lens.diagnosis.identification import Identification
from trace_lens.people.names import AMBIGUOUS, FOUND, NEAR, NONE, OTHER, Changed, Identified, Proposal
from trace_lens.render.document import (
    BLANK,
    Copied,
    Document,
    Fact,
    Paragraph,
    Span,
    TwoValues,
    answer,
    heading,
    prose,
    spans_of,
    table,
)
from trace_lens.workspace.settings import Rewrite

_WORDS = {
    FOUND: "found",
    NEAR: "near miss",
    AMBIGUOUS: "ambiguous",
    OTHER: "another's",
    NONE: "none",
}
_MOST = 40


def identified_pages(found: Identification, *, verbose: bool = False) -> Document:
    """The whole page."""
    good, count = found.counted(FOUND), len(found.names)
    if found.changed:
        yield _change_counts(found, found.changed)
    else:
        names = "1 name leads to its account" if count == 1 else f"{count:,} names lead to their account"
        head = f"{good:,} of {names}"
        yield answer(head, "ok" if good == count else "break", f" at {found.app.name}.")
    yield from _setting(found)
    if found.changed:
        yield from _changes(found.changed)
        return
    yield BLANK
    for result, words in _WORDS.items():
        if found.counted(result):
            number = f"{found.counted(result):,}"
            yield Fact(words, number, style="ok" if result == FOUND else "break")
    states = [name for name in found.names if name.result == FOUND and name.account and _state(name)]
    if states:
        yield Fact("of these", f"{len(states):,} marked inactive or set to a password", style="risk")
    failing = [name for name in found.names if name.result != FOUND]
    for person in failing[:_MOST]:
        yield BLANK
        yield from _failing(person)
    if len(failing) > _MOST:
        yield BLANK
        yield prose(f"and {len(failing) - _MOST:,} more that fail; --format json lists all.")
    if states or verbose:
        yield BLANK
        listed = [name for name in found.names if name.result == FOUND] if verbose else states
        yield table(
            ("sent", "looked for", "account", ""),
            [
                (person.named.name, person.wanted, person.account.user if person.account else "", _state(person))
                for person in listed
            ],
        )
    if found.unsent:
        yield BLANK
        people = ", ".join(row.user for row in found.unsent[:8])
        yield prose(f"No rule of the provider's makes a name for {len(found.unsent):,} people: {people}.", 0)
    if found.proposal:
        yield BLANK
        yield from _proposed(found, found.proposal)
    for source, because in found.failed:
        yield prose(f"{source}: {because}.", 0, "break")


def _setting(found: Identification) -> Document:
    """The rule, and where the names come from."""
    account = found.app.settings.account
    yield Fact("rule", f"{account.source}, {_rule_words(found.rule)}; compared {account.compare}")
    if found.tried is not None:
        yield Fact("tried", f"{account.source}, {_rule_words(found.tried)}")
    yield Fact("accounts", f"{found.listed:,} in {account.list_file}")
    if found.supposed:
        yield Fact(
            "sent",
            f"supposed to be the person's {found.supposed}: no rule of the provider's is on record "
            "([[provider_setup.subject]])",
        )


def _rule_words(rule: tuple[Rewrite, ...]) -> str:
    return " → ".join(_step_words(rewrite) for rewrite in rule) or "as it is"


def _step_words(step: Rewrite) -> str:
    if step.drop_domain:
        return "drop the domain"
    if step.case:
        return f"{step.case} case"
    if step.replace is not None:
        return f"replace {step.replace} with {step.replacement!r}"
    if step.add_suffix is not None:
        return f"add {step.add_suffix} behind"
    return f"add {step.add_prefix} before"


def _state(person: Identified) -> str:
    row = person.account
    if row is None:
        return ""
    return "inactive" if not row.active else "local password" if not row.federated else ""


def _way(person: Identified) -> str:
    """What is held, what is sent, and the name after each step, without repeating what stays the same."""
    made = person.named.made
    stops = [made.held, *made.steps] if made and made.steps else []
    stops += [person.named.name, *person.steps]
    shown = [stop for position, stop in enumerate(stops) if position == 0 or stop != stops[position - 1]]
    return " → ".join(shown)


def _failing(person: Identified) -> Document:
    yield heading(Span(_WORDS[person.result], "break"), Span(f"  {_way(person)}"), level=3)
    yield prose(f"{person.named.source}, {person.named.where}", 2, "quiet")
    if person.result == AMBIGUOUS:
        names = ", ".join(f"{row.user} (line {row.line})" for row in person.accounts[:4])
        yield prose(f"It leads to {len(person.accounts)} accounts: {names}.", 2)
    elif person.result == OTHER and person.account and person.named.person:
        yield prose(f"It leads to the account {person.account.user}, not to {person.named.person.user}.", 2)
    elif person.near:
        yield from _near(person)
    else:
        yield prose("There is no account of that name, and none comes near.", 2)


def _near(person: Identified) -> Document:
    near = person.near[0]
    if near.folded:
        yield prose(f"It is {near.spelling}, a guest: the directory {', '.join(near.folded.how) or 'rewrote it'}.", 2)
        if near.spelling != near.row.user:
            yield Fact("account", near.row.user)
        return
    found = difference(near.row.user, person.wanted)
    if found:
        places = (found.expected_span, found.actual_span)
        yield TwoValues(("expected", "actual"), (near.row.user, person.wanted), places, found.kind)
    if len(person.near) > 1:
        others = ", ".join(near.row.user for near in person.near[1:5])
        yield prose(f"As near: {others}.", 2)


def _proposed(found: Identification, proposal: Proposal) -> Document:
    count = len(proposal.repairs)
    every = proposal.held_against == len(found.names)
    held = f"{'all ' if every else ''}{proposal.held_against:,} names" + ("" if every else ", all accounts among them")
    yield heading(
        Span(f"A rule that repairs {'it' if len(found.names) == count == 1 else f'{count:,} of them'}", "head")
    )
    yield Copied(f"rewrite = {inline(proposal.steps, literal=True)}")
    yield prose(
        f"Held against {held}: {count:,} "
        f"{'gains its' if count == 1 else 'gain their'} account, none loses it or comes to another's, no two people "
        "fall together.",
        2,
    )
    rule = shlex.quote(visible(inline(proposal.steps)))
    yield prose("Try it before it goes live:", 2)
    yield Copied(f"trace-lens identify {found.app.id} --rule {rule}", is_command=True)


def _change_counts(found: Identification, changed: Changed) -> Paragraph:
    parts = [
        (f"gains {len(changed.gained):,}", "ok" if changed.gained else ""),
        (f"loses {len(changed.lost):,}", "break" if changed.lost else ""),
        (f"moves {len(changed.moved):,}", "break" if changed.moved else ""),
        (f"merges {len(changed.merged):,}", "break" if changed.merged else ""),
    ]
    spans: list[Span | str] = ["This rule "]
    for number, (text, style) in enumerate(parts):
        spans += [Span(text, style), ", " if number < 2 else " and " if number == 2 else ""]
    return Paragraph(spans_of(*spans, f" at {found.app.name}."))


def _changes(changed: Changed) -> Document:
    """Whom another rule would gain, lose, move or merge."""
    for title, rows in (
        ("Gained", [(_way(person), person.account.user if person.account else "") for person in changed.gained]),
        ("Lost", [(_way(person), _WORDS[person.result]) for person in changed.lost]),
        ("Moved", [(_way(new), f"{_user(old)}, now {_user(new)}") for old, new in changed.moved]),
        ("Merged", [(account, ", ".join(names)) for account, names in changed.merged]),
    ):
        if rows:
            yield BLANK
            yield heading(Span(title, "head"))
            yield table(("", ""), rows[:_MOST])
            if len(rows) > _MOST:
                yield prose(f"and {len(rows) - _MOST:,} more", 2)


def _user(person: Identified) -> str:
    return person.account.user if person.account else ""
