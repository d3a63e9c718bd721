"""Precision and recall of recognising guests whose address was folded, on foldings drawn at random.

A folding is put together from parts drawn independently: what stands for the at sign, for the dots, the order, markers,
the home domain, the case. None of the drawn signs and words is taken from the program. Beside the folded guests stand
names that must not be taken for one: members with odd names, folded guests without an account who are named like
somebody who has one, and opaque identifiers. Ten seeds, the spread is printed.
"""

from __future__ import annotations

import random
import statistics
import time
from dataclasses import dataclass

from trace_lens.people.accounts import AccountIndex
from trace_lens.people.guests import unfolding
from trace_lens.people.names import Named, apply
from trace_lens.workspace.account_rows import AccountRow
from trace_lens.workspace.settings import Rewrite

HOME = "northmere.example"
SYLLABLES = ("ka", "lo", "mi", "ten", "ru", "sol", "vik", "ane", "bor", "dal", "e", "fin", "gu", "hal", "ost")
SIGNS = "_#$%&!+~=^|:;/-.*'"
WORDS = ("at", "hos", "chez", "bei", "van", "from", "AT", "a", "tra", "pri")
ESCAPES = ("%40", "=40", "_40_", "-0x40-", "\\u0040", "(at)", "[a]", "{at}", "%2540", "&#x40;", " at ", "<->")
MARKS = ("besuch", "vieras", "out", "aux", "zz", "p7", "ekstern", "m2m", "tmp9", "leih")


@dataclass(frozen=True)
class Folding:
    """One way to fold an address."""

    at: str
    dot: str
    order: str
    before: str
    behind: str
    home: str
    case: str

    def of(self, local: str, domain: str) -> str:
        """The folded name."""
        labels = domain.split(".")[:: -1 if self.order == "backwards" else 1]
        written = self.dot.join(labels)
        spoken = local if self.dot == "." or self.order != "all" else local.replace(".", self.dot)
        pair = (spoken, written) if self.order in ("local", "all") else (written, spoken)
        name = f"{self.before}{pair[0]}{self.at}{pair[1]}{self.behind}"
        name = {"suffix": f"{name}@{HOME}", "prefix": f"{HOME}/{name}", "none": name}[self.home]
        return {"as": name, "upper": name.upper(), "title": name.title()}[self.case]


def draw_folding(draw: random.Random) -> Folding:
    """A folding from parts drawn independently of each other."""
    sign = "".join(draw.choice(SIGNS) for _ in range(draw.choice((1, 1, 1, 2, 3))))
    edge = draw.choice(SIGNS)
    word = draw.choice(WORDS)
    mark = draw.choice(MARKS)
    return Folding(
        at=draw.choice((sign, sign, f"{edge}{word}{edge}", draw.choice(ESCAPES))),
        dot=draw.choice((".", ".", ".", "_", "-", "+", "!")),
        order=draw.choice(("local", "local", "all", "domain", "backwards")),
        before=draw.choice(("", "", f"{mark}{edge}", f"{edge}{mark}{edge}")),
        behind=draw.choice(("", "", f"{edge}{mark}", f"{edge}{mark}{edge}")),
        home=draw.choice(("suffix", "suffix", "prefix", "none")),
        case=draw.choice(("as", "as", "upper", "title")),
    )


def word(draw: random.Random, least: int = 1) -> str:
    """A made-up name."""
    return "".join(draw.choice(SYLLABLES) for _ in range(draw.randrange(least, 4)))


def population(draw: random.Random) -> tuple[list[tuple[str, str]], list[str], list[str]]:
    """Guests as local part and domain, members' addresses, and domains; some guests are named alike."""
    domains = [f"{word(draw, 2)}{draw.choice(('', '-' + word(draw)))}.example" for _ in range(30)]
    guests: list[tuple[str, str]] = []
    for _ in range(600):
        local = draw.choice(("{0}.{1}", "{0}{1}", "{0}-{1}", "{0}", "{0}.{1}{2}")).format(
            word(draw, 2), word(draw, 2), draw.randrange(1, 99)
        )
        guests.append((local, draw.choice(domains)))
        if draw.random() < 0.2:
            guests.append((local, draw.choice(domains)))
        if draw.random() < 0.2:
            guests.append((local + draw.choice("aeiou"), guests[-1][1]))
    members = [f"{word(draw, 2)}{draw.choice('._-')}{word(draw, 2)}@{HOME}" for _ in range(1500)]
    return list(dict.fromkeys(guests)), list(dict.fromkeys(members)), domains


def one_seed(seed: int, foldings: int = 120) -> tuple[float, float, float, int]:
    """Precision, recall, the share of foldings whose proposed step repairs every guest folded so, and names asked."""
    draw = random.Random(seed)
    guests, members, domains = population(draw)
    draw.shuffle(guests)
    known, strangers = guests[: len(guests) * 2 // 3], guests[len(guests) * 2 // 3 :]
    rows = [AccountRow(f"{local}@{domain}", line) for line, (local, domain) in enumerate(known, 2)]
    rows += [AccountRow(member, line) for line, member in enumerate(members, len(rows) + 2)]
    index = AccountIndex(rows, home=(HOME,))
    right = named = asked = repaired = 0
    for _ in range(foldings):
        folding = draw_folding(draw)
        some = draw.sample(known, 15)
        steps: list[dict[str, str]] = []
        for local, domain in some:
            name = folding.of(local, domain)
            asked += 1
            near = [one for one in index.near(name) if one.folded]
            if near:
                named += 1
                right += len(near) == 1 and near[0].row.user == f"{local}@{domain}"
            if near and near[0].folded and (step := unfolding(name, near[0].folded, near[0].row.user)):
                steps.append(step)
        repaired += _repairs(steps, [Named(folding.of(*one), "", "") for one in some], index)
        decoys = [folding.of(*one) for one in draw.sample(strangers, 10)]
        decoys += [folding.of(local, draw.choice(domains[:3])[::-1]) for local, _ in draw.sample(known, 3)]
        decoys += [f"{word(draw, 2)}_{word(draw, 2)}.{word(draw)}@{HOME}" for _ in range(5)]
        decoys += [f"_{draw.getrandbits(80):020x}", f"{word(draw, 3)}@{HOME}"]
        known_names = {f"{local}@{domain}" for local, domain in known}
        for decoy in decoys:
            near = [one for one in index.near(decoy) if one.folded]
            named += bool(near) and near[0].row.user in known_names
    return right / named, right / asked, repaired / foldings, asked


def _repairs(steps: list[dict[str, str]], names: list[Named], index: AccountIndex) -> bool:
    """Whether at most three of the proposed steps, in lower case, lead every name of one folding to its account."""
    distinct = list({step["replace"]: step for step in steps}.values())
    for count in (1, 2, 3):
        rule = tuple(Rewrite(replace=one["replace"], replacement=one["with"]) for one in distinct[:count])
        results = apply(names, (*rule, Rewrite(case="lower")), index)
        if distinct and all(one.result == "found" for one in results):
            return True
    return False


def main() -> None:
    """Measure and print."""
    start = time.perf_counter()
    results = [one_seed(seed) for seed in range(10)]
    took = time.perf_counter() - start
    for name, column in (("precision", 0), ("recall", 1), ("foldings that one rule repairs", 2)):
        values = [one[column] for one in results]
        print(
            f"{name:32} mean {statistics.mean(values):.3f}, from {min(values):.3f} to {max(values):.3f} over ten seeds"
        )
    print(f"{sum(one[3] for one in results):,} folded names and as many others in {took:.0f} s")


if __name__ == "__main__":
    main()
