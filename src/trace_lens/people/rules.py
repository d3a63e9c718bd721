"""Which account rule would repair the names that lead to no account, and whether it holds for all others.

Candidates are the steps that the near misses call for: a folded guest unfolded, a domain dropped or added, the case
changed. A step is kept only where more names find their own account and nobody is lost, moved or merged.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator

from trace_lens.common.tuples import NamedTuple
from trace_lens.people import guests
from trace_lens.people.accounts import AccountIndex
from trace_lens.people.names import NEAR, Identified, Named, Proposal, apply, compared
from trace_lens.people.rewriting import result
from trace_lens.workspace.records import App
from trace_lens.workspace.settings import Rewrite, read_table

Step = dict[str, object]
_LOOKED_AT = 300
"""Most failing names that candidates are drawn from."""
_STEPS = 8
"""Most steps that a proposed rule adds."""


class _Candidate(NamedTuple):
    """A step, and whether it belongs before the steps on record, which see the name as sent, or after them."""

    key: str
    step: Step
    first: bool


def propose_rule(app: App, index: AccountIndex, found: list[Identified], everybody: list[Named]) -> Proposal | None:
    """The rule on record with the steps that repair failing names; None where no step does so without harm."""
    failing = [person for person in found if person.result == NEAR][:_LOOKED_AT]
    if not failing:
        return None
    on_record = _on_record(app)
    before: list[Step] = []
    after: list[Step] = []
    repaired: set[str] = set()
    for group in _candidates(failing):
        if len(before) + len(after) >= _STEPS:
            break
        trial = [*(candidate.step for candidate in group if candidate.first and candidate.step not in before), *before]
        tail = [*after, *(candidate.step for candidate in group if not candidate.first and candidate.step not in after)]
        rule = _rule([*trial, *on_record, *tail])
        fixed = {person.named.name for person in failing if len(index.find(result(person.named.name, rule))) == 1}
        if fixed > repaired:
            before, after, repaired = trial, tail, fixed
    if not repaired:
        return None
    steps = [*before, *on_record, *after]
    gained = _gained(everybody, app.settings.account.rewrite, _rule(steps), index)
    return Proposal(steps, gained, len(everybody)) if gained else None


def _gained(
    everybody: list[Named], old: tuple[Rewrite, ...], new: tuple[Rewrite, ...], index: AccountIndex
) -> tuple[str, ...]:
    """The names that gain their account by another rule; none at all where it would lose, move or merge anybody.

    Only the names that the two rules make something different of are looked at closely.
    """
    changing = [pair for pair in everybody if result(pair.name, old) != result(pair.name, new)]
    changed = compared(apply(changing, old, index), apply(changing, new, index))
    if not changed.harmless:
        return ()
    names = {id(person.account): person.named.name for person in changed.gained if person.named.person}
    staying = [pair for pair in everybody if pair.person and id(pair.person) not in names]
    taken = {id(row) for pair in staying for row in index.find(result(pair.name, new))[:1] if row is not pair.person}
    if taken & set(names):
        return ()
    return tuple(dict.fromkeys(person.named.name for person in changed.gained))


def _on_record(app: App) -> list[Step]:
    account = app.source.raw.get("account")
    steps = account.get("rewrite") if isinstance(account, dict) else None
    return [dict(step) for step in steps] if isinstance(steps, list) else []


def _rule(steps: list[Step]) -> tuple[Rewrite, ...]:
    return tuple(read_table(Rewrite, step) for step in steps)


def _candidates(failing: list[Identified]) -> Iterator[tuple[_Candidate, ...]]:
    """The groups of steps that near misses call for, the one that most of them call for first."""
    counted: Counter[tuple[str, ...]] = Counter()
    known: dict[tuple[str, ...], tuple[_Candidate, ...]] = {}
    for person in failing:
        group = tuple(_of_one(person))
        if group:
            keys = tuple(candidate.key for candidate in group)
            counted[keys] += 1
            known.setdefault(keys, group)
    for keys, _ in counted.most_common():
        yield known[keys]


def _of_one(person: Identified) -> Iterator[_Candidate]:
    near = person.near[0]
    target, wanted = near.row.user, person.wanted
    if near.folded:
        yield from _unfolded(person, target)
        return
    if wanted.casefold() == target.casefold():
        yield from _cased(target)
        return
    local, at, domain = wanted.rpartition("@")
    aimed, aimed_at, aimed_domain = target.rpartition("@")
    if at and not aimed_at and local.casefold() == target.casefold():
        yield _Candidate("drop_domain", {"drop_domain": True}, False)
    elif aimed_at and not at and aimed.casefold() == wanted.casefold():
        yield _Candidate(f"add {aimed_domain}", {"add_suffix": f"@{aimed_domain}"}, False)
    elif at and aimed_at and local.casefold() == aimed.casefold():
        step: Step = {"replace": f"@{guests.literal(domain)}$", "with": f"@{aimed_domain}"}
        yield _Candidate(f"{domain} to {aimed_domain}", step, False)
    elif (
        "\\" in wanted and wanted.rpartition("\\")[2].casefold() == aimed.casefold() if aimed_at else target.casefold()
    ):
        yield _Candidate("drop what comes before \\", {"replace": r"^.*\\", "with": ""}, False)
    elif "".join(wanted.split()) == target:
        yield _Candidate("white space", {"replace": r"\s+", "with": ""}, False)
    spoken = (local if at else wanted).rpartition("\\")[2]
    if spoken.casefold() != spoken and target.casefold() == target:
        yield from _cased(target)


def _cased(target: str) -> Iterator[_Candidate]:
    if target == target.lower():
        yield _Candidate("lower", {"case": "lower"}, False)
    elif target == target.upper():
        yield _Candidate("upper", {"case": "upper"}, False)


def _unfolded(person: Identified, target: str) -> Iterator[_Candidate]:
    """The step that undoes a folding, read from the name as it was sent."""
    name = person.named.name
    folded = person.near[0].folded
    if folded is None:
        return
    at_first = next(
        (reading for reading in guests.readings(name, [folded.domain]) if reading.key == folded.key), folded
    )
    step = guests.unfolding(name, at_first, target)
    if step:
        yield _Candidate(step["replace"], dict(step), True)
        if name != name.lower():
            yield from _cased(target)
