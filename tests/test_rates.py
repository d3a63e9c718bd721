"""The statistics of failure rates: intervals, changes and their moments, who fails apart; each with what must not fire."""

from __future__ import annotations

from collections.abc import Callable
from math import comb

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from trace_lens.fleet.apart import Apart, Attempts, hypergeometric, networks_of, stratified_fisher, who_fails_apart
from trace_lens.fleet.binomial import logistic, plogp, slope, wilson
from trace_lens.fleet.change_points import Series, Step, find_changes, group_edges
from trace_lens.fleet.scanning import best

BEGIN = 1_794_182_400.0
"""Monday, 9 November 2026, midnight UTC."""
DAY = 86_400.0
Rate = Callable[[np.ndarray], np.ndarray]


def series(seed: int, per_hour: float, rate: float | Rate, people: int = 300, days: float = 14) -> Series:
    draw = np.random.default_rng(seed)
    at = np.sort(draw.uniform(0, days, draw.poisson(per_hour * 24 * days)))
    chance = rate(at) if callable(rate) else np.full(len(at), rate)
    return Series(BEGIN + at * DAY, draw.random(len(at)) < chance, draw.integers(0, people, len(at)))


def quiet(seed: int) -> list[Series]:
    return [series(100 * seed + number, 3, 0.04) for number in range(20)]


def jump(before: float, after: float, day: float, until: float = 99.0) -> Rate:
    return lambda days: np.where((days >= day) & (days < until), after, before)


def days_of(steps: tuple[Step, ...]) -> list[float]:
    return [(step.at - BEGIN) / DAY for step in steps]


# -- intervals


@pytest.mark.parametrize(
    ("failures", "attempts", "low", "high"),
    [(0, 10, 0.0, 0.2775), (10, 10, 0.7225, 1.0), (1, 10, 0.0179, 0.4042), (15, 148, 0.0624, 0.1605)],
)
def test_wilsons_interval(failures: int, attempts: int, low: float, high: float) -> None:
    """By hand from the formula of the paper."""
    assert wilson(failures, attempts) == pytest.approx((low, high), abs=1e-4)


@given(st.integers(1, 10_000), st.data())
def test_wilsons_interval_holds_the_share_and_mirrors(attempts: int, data: st.DataObject) -> None:
    failures = data.draw(st.integers(0, attempts))
    low, high = wilson(failures, attempts)
    assert 0 <= low <= failures / attempts + 1e-12
    assert failures / attempts - 1e-12 <= high <= 1
    other = wilson(attempts - failures, attempts)
    assert other == pytest.approx((1 - high, 1 - low))


def test_a_slope_has_an_interval_that_allows_for_who_tries_again() -> None:
    draw = np.random.default_rng(3)
    days = np.sort(draw.uniform(0, 14, 3_000))
    failed = draw.random(3_000) < 0.02 + 0.01 * days
    alone = slope(days, failed, np.arange(3_000))
    assert alone is not None
    assert alone.low < 0.01 < alone.high
    assert alone.chance < 1e-6
    ten = np.repeat(np.arange(300), 10)
    together = slope(np.repeat(days[::10], 10), np.repeat(failed[::10], 10), ten)
    assert together is not None
    assert together.high - together.low > 2 * (alone.high - alone.low)
    assert slope(days[:9], failed[:9], np.arange(9)) is None
    assert slope(days / 100, failed, np.arange(3_000)) is None


def test_a_logistic_fit_of_a_level_is_the_share() -> None:
    fitted = logistic(np.ones((3, 1)), np.array([1, 2, 3]), np.array([10, 10, 10]))
    assert 1 / (1 + np.exp(-fitted.odds)) == pytest.approx([0.2] * 3, abs=1e-6)


# -- changes


@pytest.mark.parametrize(
    ("per_hour", "rate", "days"),
    [
        pytest.param(30, jump(0.03, 0.15, 13.5), [13.5], id="half a day after it"),
        pytest.param(25, jump(0.04, 0.08, 9.0), [9.0], id="twice as many, for five days"),
        pytest.param(30, jump(0.03, 0.3, 6.0, 9.0), [6.0, 9.0], id="a failure and its end"),
        pytest.param(30, jump(0.02, 0.9, 7.3, 7.4), [7.3, 7.4], id="a failure of two hours"),
        pytest.param(1, jump(0.0, 1.0, 12.0), [12.0], id="few sign-ins, all fail"),
        pytest.param(30, jump(0.4, 0.02, 5.0), [5.0], id="for the better"),
        pytest.param(
            30, lambda x: 0.06 + 0.05 * np.sin(2 * np.pi * x) + np.where(x > 9, 0.2, 0), [9.0], id="beside a rhythm"
        ),
    ],
)
def test_changes_are_found_among_quiet_applications(per_hour: float, rate: Rate, days: list[float]) -> None:
    more = 0
    for seed in range(2):
        found = find_changes([*quiet(seed), series(seed, per_hour, rate)])[-1]
        near = [min(found, key=lambda step, day=day: abs(step.at - BEGIN - day * DAY)) for day in days]
        assert days_of(tuple(near)) == pytest.approx(days, abs=1.0)
        more += len(found) - len(days)
        for step, day in zip(near, days, strict=True):
            assert step.earliest <= step.at <= step.latest
            assert step.earliest - 0.4 * DAY <= BEGIN + day * DAY <= step.latest + 0.4 * DAY
    assert more <= 1


@pytest.mark.parametrize(
    ("per_hour", "rate"),
    [
        pytest.param(30, 0.0, id="nothing fails"),
        pytest.param(30, 1.0, id="everything fails"),
        pytest.param(30, 0.3, id="one rate"),
        pytest.param(0.05, 0.3, id="one a day"),
        pytest.param(30, lambda x: 0.03 + 0.17 * x / 14, id="a slow slope"),
        pytest.param(30, lambda x: 0.03 + 0.17 * np.clip((x - 5) / 5, 0, 1), id="a slope of five days"),
        pytest.param(30, lambda x: 0.06 + 0.05 * np.sin(2 * np.pi * x), id="a daily rhythm"),
        pytest.param(30, lambda x: np.where((x % 1 > 0.3) & (x % 1 < 0.7), 0.03, 0.15), id="worse at night"),
        pytest.param(30, lambda x: np.where(x % 7 >= 5, 0.12, 0.04), id="worse at weekends"),
    ],
)
def test_what_is_no_jump(per_hour: float, rate: float | Rate) -> None:
    for seed in range(2):
        assert find_changes([*quiet(seed), series(seed, per_hour, rate)])[-1] == ()


def test_a_person_who_fails_again_and_again_is_no_change() -> None:
    whole = series(1, 30, 0.03)
    times = np.concatenate([whole.times, whole.times[4_000] + np.arange(90) * 200.0])
    failed, persons = np.concatenate([whole.failed, np.ones(90, bool)]), np.concatenate([whole.persons, np.full(90, 7)])
    order = np.argsort(times, kind="stable")
    assert find_changes([Series(times[order], failed[order], persons[order])]) == [()]
    many = np.concatenate([whole.persons, np.arange(90)])
    (found,) = find_changes([Series(times[order], failed[order], many[order])])
    assert len(found) == 2


def test_the_more_applications_are_asked_the_surer_a_change_must_be() -> None:
    weak = series(11, 30, jump(0.03, 0.08, 13.6))
    alone = find_changes([weak])
    among = find_changes([weak, *(series(number, 0.3, 0.03) for number in range(400))])
    assert len(alone[0]) >= len(among[0])
    assert sum(map(len, among[1:])) <= 1


def test_there_is_no_change_in_nothing() -> None:
    none = np.zeros(0)
    assert find_changes([]) == []
    assert find_changes([Series(none, none.astype(bool), none.astype(np.int64))]) == [()]
    one = Series(np.array([BEGIN]), np.array([True]), np.array([0]))
    same = Series(np.full(50, BEGIN), np.arange(50) % 2 == 0, np.arange(50))
    assert find_changes([one, same]) == [(), ()]


@settings(max_examples=12)
@given(st.integers(0, 50), st.integers(-1_000, 1_000))
def test_a_change_moves_with_its_clock(seed: int, weeks: int) -> None:
    """Another origin of time changes nothing but the moments; whole days keep the rhythm."""
    made = series(seed, 6, jump(0.03, 0.5, 8.0))
    shift = weeks * DAY * 7
    (before,), (after,) = find_changes([made]), find_changes([made._replace(times=made.times + shift)])
    assert [step.at + shift for step in before] == pytest.approx([step.at for step in after], abs=1.0)


def test_groups_hold_all_attempts_and_split_no_moment() -> None:
    times = np.repeat(np.arange(0, 500_000, 37.0), 3)
    edges = group_edges(times)
    assert edges[0] == 0
    assert edges[-1] == len(times)
    assert len(edges) <= 402
    assert all(times[edge - 1] < times[edge] for edge in edges[1:-1])


def test_the_chance_of_the_best_is_not_told_too_small() -> None:
    """Among quiet series, at most one in ten may have a chance of a tenth; there are more of them than is chance."""
    draw, table, edges = np.random.default_rng(5), plogp(2_000), np.linspace(0, 2_000, 200).astype(np.int64)
    told = []
    for _ in range(300):
        summed = np.concatenate([[0], np.cumsum(draw.random(2_000) < 0.05)])
        told.append(best(summed[edges], edges, table, 1.0).chance)
    assert np.mean(np.array(told) <= 0.1) <= 0.1
    assert np.mean(np.array(told) <= 0.9) > 0.1


# -- who fails where others get in


@given(st.integers(1, 40), st.data())
def test_hypergeometric_chances(total: int, data: st.DataObject) -> None:
    failures, drawn = data.draw(st.integers(0, total)), data.draw(st.integers(0, total))
    low, chances = hypergeometric(total, failures, drawn)
    wanted = [
        comb(failures, hit) * comb(total - failures, drawn - hit) / comb(total, drawn)
        for hit in range(low, low + len(chances))
    ]
    assert chances == pytest.approx(wanted)
    assert sum(chances) == pytest.approx(1)


def test_the_lady_tasting_tea() -> None:
    """Fisher's own example: 8 cups, 4 of each; all right by chance once in 70, three or more right in 17 of 70."""
    truth, one = np.array([True] * 4 + [False] * 4), np.zeros(8, dtype=np.int64)
    assert stratified_fisher(truth, truth, one) == pytest.approx(1 / 70)
    told = np.array([True, True, True, False, True, False, False, False])
    assert stratified_fisher(truth, told, one) == pytest.approx(17 / 70)


def test_strata_take_out_what_all_have_in_common() -> None:
    """Who came during a failure of all is not told apart by it."""
    failed = np.array([True] * 20 + [False] * 80)
    inside = np.array([True] * 10 + [False] * 90)
    stretch = np.array([1] * 20 + [0] * 80)
    assert stratified_fisher(failed, inside, np.zeros(100, dtype=np.int64)) < 1e-6
    assert stratified_fisher(failed, inside, stretch) == pytest.approx(1.0)


def attempts(seed: int, count: int, bad: Callable[[np.ndarray, np.ndarray], np.ndarray]) -> Attempts:
    draw = np.random.default_rng(seed)
    person = draw.integers(0, 200, count)
    address = np.where(draw.random(count) < 0.8, person % 20, draw.integers(0, 20, count))
    failed = (draw.random(count) < 0.04) | bad(person, address)
    times = np.sort(draw.uniform(0, 14 * DAY, count))
    return Attempts(times, failed, person, address, np.zeros(count, dtype=np.int64))


def apart_of(*fleet: Attempts) -> list[tuple[Apart, ...]]:
    people = [f"p{number}" for number in range(200)]
    return who_fails_apart(
        fleet, people, [f"192.0.2.{number}" for number in range(10)] + [f"2001:db8:{n}::1" for n in range(10)]
    )


@pytest.mark.parametrize(
    ("bad", "wanted"),
    [
        (lambda p, a: a == 3, [("address", "192.0.2.3")]),
        (lambda p, a: a < 10, [("place", "192.0.2.0/24")]),
        (lambda p, a: a == 14, [("address", "2001:db8:4::1")]),
        (lambda p, a: p == 77, [("person", "p77")]),
        (lambda p, a: p < 0, []),
    ],
)
def test_who_fails_apart(bad: Callable[[np.ndarray, np.ndarray], np.ndarray], wanted: list[tuple[str, str]]) -> None:
    quiet = [attempts(number, 1_000, lambda p, a: p < 0) for number in range(10)]
    found = apart_of(*quiet, attempts(99, 2_000, bad))
    assert [(item.what, item.value) for item in found[-1]] == wanted
    assert not any(found[:-1])


def test_who_types_a_wrong_password_and_gets_in_is_not_told_apart() -> None:
    whole = attempts(1, 2_000, lambda p, a: p < 0)
    typed = whole.times[500] + np.arange(12) * 20.0
    made = [
        np.concatenate(pair)
        for pair in zip(whole[:4], (typed, np.arange(12) < 11, np.full(12, 5), np.full(12, 5)), strict=True)
    ]
    order = np.argsort(made[0], kind="stable")
    again = Attempts(*(column[order] for column in made), np.zeros(len(order), dtype=np.int64))
    assert apart_of(again) == [()]


def test_networks_of_what_is_no_address() -> None:
    assert networks_of(["198.51.100.7", "inside", "fe80::1%eth0", "198.51.100.9"]) == (
        ("198.51.100.0/24", "fe80::/48"),
        [0, -1, 1, 0],
    )
