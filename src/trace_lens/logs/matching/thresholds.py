"""The thresholds of the matching, in one place. Seconds, probabilities and counts, as each says.

What each costs when it is moved is measured by benchmarks/thresholds.py; the figures are in docs/correlation.md.
"""

from __future__ import annotations

OTHER_SIDE = 0.15
"""How much the moments of the other side count for a log of one side, against its own."""
SURE = 0.95
"""From this probability on, an event tells more of its attempt: the address, the session, how a log writes the
person.
"""
NARROW = 150.0
"""Seconds to either side of a moment within which lines without a user are looked for by address."""
TOO_MANY = 200.0
"""An address behind which more events than so many lie around a moment says too little to be looked for."""

FEW_PAIRS = 3
"""So few pairs tell no clock."""
ENOUGH_PAIRS = 8
"""From so many pairs on, the attempts tell a clock by themselves."""
LIKELY_NAMES = 0.02
"""The doubt allowed where logs that agree with each other are laid beside an attempt: it is in them, most likely."""

WRITING = 2.0
"""Seconds that a system may take between an exchange and its line in the log, where nothing tells more."""
HEAP = 4.0
"""Width, in seconds, of the window in which right pairs heap up."""
STEEPEST = 90.0
"""The strongest drift looked for where pairs are not joined by ids, in seconds a day."""
BY_CHANCE = 1e-4
"""A heap of pairs that would come about by chance with a higher probability than this is no clock."""
STEP = 4.0
"""The least by which a clock is set, in seconds: less cannot be told from how late lines are written."""
EACH_SIDE = 4
"""So many pairs at least stand on each side of a step."""
STAYS = 0.45
"""The share of the pairs on each side of a step that have its offset: where it is set again, not all do."""
MANY_PAIRS = 12
"""A heap of more attempts than so has no rival by chance."""
PARTED = 0.7
"""How much a step may leave at most of what was beside it: where it is set again, the rest is parted then."""

BELONGS = 0.5
"""The probability from which on an event counts as one of the attempt; below it is only possible."""
POSSIBLE = 0.05
"""From this probability on, an event is told as possible."""
CHANCE = 0.02
"""How many events of a whole log share a rare id by chance."""
STRAY = 0.3
"""How many events of a person a log is supposed to hold beside those that are known."""
OWN = 1.5
"""Events that an attempt is supposed to own in a log where nothing is known yet."""

PRIOR_GAPS = 8.0
"""How many pairs the usual density of gaps counts for, beside those that are seen."""
PRIOR_TAILS = 20.0
"""How many pairs the usual share of events far from every moment counts for, beside those that are seen."""
NEARBY = 30.0
"""Seconds to either side of an event within which other tries are counted."""
CROWD = 2
"""So many further lines of one kind near a line are tries of their own, where the log has one line for each."""
SHAPE = 0.05
"""How much the usual rate of other tries weighs against what is counted around an event: little, since most people
try once and some try twenty times.
"""
PRIOR_ATTEMPTS = 5.0
"""How many attempts the usual rate of other tries counts for, beside those that are seen."""
ONE_EACH = 1.1
"""Up to so many lines of a kind for each sure attempt, an attempt owns one of them."""
THERE = 0.9
"""A log has the line of an attempt with this probability at most, where it has one for each."""
FEW_OWNERS = 5
"""Of fewer sure attempts nothing is learned about how many lines each owns."""
TOGETHER = 0.1
"""The share of attempts with both kinds of line up to which the kinds exclude each other."""
WORTH_A_LOOK = 0.1
"""The probability from which on a pair takes part in the choice of the best whole assignment."""

BESIDE = 20_000
"""So many events at most are looked at to learn how a log writes people whom nothing on record joins."""
OF_ONE = 500
"""A name that more events bear is not looked at for that."""
ONE_OF_MANY = 8
"""An id that more events of a source carry is a session's: it says little of the clock, and of names."""
AGREED = 0.8
"""The share of the ids that must say the same of how a log writes somebody."""
