"""Changes of failure rates on simulated fleets: false alarms, what is found, the moment; and the time and memory of
`fleet` for 300 applications and two million events.

    python benchmarks/fleet.py [chance|quiet|found|slopes|size]...
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

import numpy as np

from trace_lens.fleet.binomial import plogp
from trace_lens.fleet.change_points import Series, Step, find_changes
from trace_lens.fleet.scanning import best

BEGIN = 1_794_182_400.0
DAY = 86_400.0
DAYS = 14
SEEDS = 10
RATES = (0.0, 0.005, 0.02, 0.05, 0.1, 0.3, 0.6, 0.95, 1.0)

Rate = Callable[[np.ndarray], np.ndarray]


def constant(rate: float) -> Rate:
    return lambda days: np.full(len(days), rate)


def jump(before: float, after: float, day: float, until: float = 1e9) -> Rate:
    return lambda days: np.where((days >= day) & (days < until), after, before)


def series(draw: np.random.Generator, per_hour: float, rate: Rate, people: int = 500) -> Series:
    """A fortnight of one application: more sign-ins by day than by night, and few at weekends."""
    wanted = draw.poisson(per_hour * 24 * DAYS)
    days = draw.uniform(0, DAYS, 4 * wanted)
    hour = days % 1
    kept = draw.random(len(days)) < np.where(days // 1 % 7 >= 5, 0.3, 1.0) * (
        0.15 + 0.85 * np.exp(-((hour - 0.45) ** 2) / 0.03)
    )
    days = np.sort(days[kept][:wanted])
    return Series(BEGIN + days * DAY, draw.random(len(days)) < rate(days), draw.integers(0, people, len(days)))


def volumes(draw: np.random.Generator) -> float:
    """From one sign-in a day to a hundred an hour."""
    return float(10 ** draw.uniform(np.log10(1 / 24), 2))


def chance() -> None:
    """How often the best change among quiet attempts gains as much as its chance says: the bound must not be less."""
    print("one application at a time, quiet: share of series whose chance is at most …")
    for attempts, rate in ((60, 0.1), (300, 0.3), (2_000, 0.02), (10_000, 0.03), (10_000, 0.5), (30_000, 0.005)):
        draw = np.random.default_rng(attempts)
        table, edges = plogp(attempts), np.linspace(0, attempts, min(attempts, 336) + 1).astype(np.int64)
        told = []
        for _ in range(1_000):
            failed = np.concatenate([[0], np.cumsum(draw.random(attempts) < rate)])
            told.append(best(failed[edges], edges, table, 1.0).chance)
        shares = ", ".join(f"{level:g}: {np.mean(np.array(told) <= level):.4f}" for level in (0.1, 0.05, 0.01))
        print(f"  {attempts:>6} attempts at {rate:<5}  {shares}")


def quiet() -> None:
    """False changes in fleets in which nothing changes."""
    for apps in (40, 400):
        false = 0
        for seed in range(SEEDS):
            draw = np.random.default_rng(seed)
            fleet = [series(draw, volumes(draw), constant(RATES[draw.integers(len(RATES))])) for _ in range(apps)]
            false += sum(map(len, find_changes(fleet)))
        print(f"quiet, {apps} applications, {SEEDS} fortnights: {false} false changes in {apps * SEEDS} applications")


def _near(step: Step, day: float, reach: float) -> bool:
    return abs(step.at - BEGIN - day * DAY) <= reach * 3_600


def found() -> None:
    """Which changes are found among quiet applications, and how wide the interval of the moment is."""
    cases = (
        ("3 % to 15 %, 30 an hour, 6 hours of data after it", 0.03, 0.15, 30.0, 6.0, None),
        ("4 % to 8 %, 25 an hour, 5 days after it", 0.04, 0.08, 25.0, 120.0, None),
        ("3 % to 90 % for 2 hours, 30 an hour", 0.03, 0.9, 30.0, 150.0, 2.0),
        ("3 % to 30 % for 8 hours, 30 an hour", 0.03, 0.3, 30.0, 150.0, 8.0),
        ("0 to 100 %, 1 an hour, 2 days after it", 0.0, 1.0, 1.0, 48.0, None),
        ("2 % to 20 %, 3 an hour, 4 days after it", 0.02, 0.2, 3.0, 96.0, None),
    )
    for apps in (40, 400):
        for words, before, after, volume, hours, lasting in cases:
            hit, covered, widths, false, count = 0, 0, [], 0, 4 * SEEDS
            # A fortnight ends on a Sunday; it is cut on a Friday afternoon, so that the hours are as full as told.
            day = 11.6 - hours / 24
            until = day + lasting / 24 if lasting else 1e9
            for seed in range(count):
                draw = np.random.default_rng(seed)
                fleet = [_cut(series(draw, volumes(draw), constant(0.03))) for _ in range(apps - 1)]
                fleet.append(_cut(_even(draw, volume, jump(before, after, day, until))))
                told = find_changes(fleet)
                false += sum(map(len, told[:-1]))
                steps = [step for step in told[-1] if _near(step, day, 6 + 0.15 * hours)]
                hit += bool(steps)
                if steps:
                    covered += steps[0].earliest <= BEGIN + day * DAY <= steps[0].latest
                    widths.append((steps[0].latest - steps[0].earliest) / 3_600)
            share = f"{covered / hit:.2f}" if hit else "-"
            print(
                f"{apps:>3} applications, {words}: found {hit} of {count}, the interval holds the moment in {share}, "
                f"width {np.median(widths) if widths else float('nan'):.1f} h; {false} false in {count * (apps - 1)}"
            )


def _even(draw: np.random.Generator, per_hour: float, rate: Rate) -> Series:
    """Attempts as many by night as by day."""
    days = np.sort(draw.uniform(0, DAYS, draw.poisson(per_hour * 24 * DAYS)))
    return Series(BEGIN + days * DAY, draw.random(len(days)) < rate(days), draw.integers(0, 500, len(days)))


def _cut(whole: Series) -> Series:
    kept = whole.times < BEGIN + 11.6 * DAY
    return Series(whole.times[kept], whole.failed[kept], whole.persons[kept])


def slopes() -> None:
    """What is no jump: slow slopes, daily rhythms, weekends, people who try again and again, one person alone."""
    kinds: dict[str, Callable[[np.random.Generator], Series]] = {
        "a slope from 3 % to 20 % over the fortnight, 30 an hour": lambda d: _even(
            d, 30, lambda x: 0.03 + 0.17 * x / 14
        ),
        "a slope from 3 % to 12 %, 30 an hour": lambda d: _even(d, 30, lambda x: 0.03 + 0.09 * x / 14),
        "a slope from 3 % to 20 % over 5 days, 30 an hour": lambda d: _even(
            d, 30, lambda x: 0.03 + 0.17 * np.clip((x - 5) / 5, 0, 1)
        ),
        "a slope from 2 % to 8 %, 10 an hour": lambda d: _even(d, 10, lambda x: 0.02 + 0.06 * x / 14),
        "a rhythm between 1 % and 11 % a day": lambda d: _even(d, 30, lambda x: 0.06 + 0.05 * np.sin(2 * np.pi * x)),
        "3 % by day, 15 % by night": lambda d: _even(
            d, 30, lambda x: np.where((x % 1 > 0.3) & (x % 1 < 0.7), 0.03, 0.15)
        ),
        "4 %, at weekends 12 %": lambda d: _even(d, 30, lambda x: np.where(x % 7 >= 5, 0.12, 0.04)),
        "people who try again up to 5 times": _retrying,
        "one person who fails 80 times in 5 hours": _one_person,
    }
    for words, make in kinds.items():
        told = []
        for seed in range(SEEDS):
            draw = np.random.default_rng(seed)
            fleet = [make(draw), *(series(draw, volumes(draw), constant(0.03)) for _ in range(39))]
            told.append(len(find_changes(fleet)[0]))
        print(f"{words}: told as a jump in {sum(map(bool, told))} of {SEEDS}")


def _retrying(draw: np.random.Generator) -> Series:
    rows = []
    for day in np.sort(draw.uniform(0, DAYS, draw.poisson(10 * 24 * DAYS))):
        person, at = int(draw.integers(0, 300)), float(day)
        for number in range(6):
            failed = bool(draw.random() < (0.04 if number == 0 else 0.6))
            rows.append((at, failed, person))
            at += draw.exponential(60) / DAY
            if not failed:
                break
    rows.sort()
    return Series(*(np.array(column) for column in zip(*((BEGIN + a * DAY, f, p) for a, f, p in rows), strict=True)))


def _one_person(draw: np.random.Generator) -> Series:
    whole = _even(draw, 30, constant(0.03))
    begin = whole.times[draw.integers(500, len(whole.times) - 500)]
    times = np.concatenate([whole.times, begin + np.sort(draw.uniform(0, 5 * 3_600, 80))])
    failed = np.concatenate([whole.failed, np.ones(80, dtype=bool)])
    persons = np.concatenate([whole.persons, np.full(80, 7)])
    order = np.argsort(times)
    return Series(times[order], failed[order], persons[order])


def size(apps: int = 300, events: int = 2_000_000) -> None:
    """Time and memory of `trace-lens fleet` as a whole process, after the events were loaded."""
    program = str(Path(sys.executable).parent / "trace-lens")
    code = (
        "import resource, subprocess, sys, time; began = time.perf_counter(); "
        "subprocess.run(sys.argv[1:], check=True, stdout=subprocess.DEVNULL); "
        "used = resource.getrusage(resource.RUSAGE_CHILDREN); "
        "print(f'{time.perf_counter() - began:.1f} s, {used.ru_utime + used.ru_stime:.1f} s of CPU time, '"
        "f'{used.ru_maxrss // 1024} MB')"
    )
    with tempfile.TemporaryDirectory() as folder:
        _world(Path(folder), apps, events)
        subprocess.run([program, "logs", "load", "--workspace", folder], check=True, stdout=subprocess.DEVNULL)
        asked = [sys.executable, "-c", code, program, "fleet", "--workspace", folder, "--format", "json"]
        told = subprocess.run(asked, check=True, capture_output=True, text=True).stdout.strip()
    print(f"{apps} applications, {events:,} events: {told}")


def _world(root: Path, apps: int, events: int) -> None:
    """A workspace with a provider, many applications, and the logs of both sides."""
    for name in ("apps", "providers", "logs"):
        (root / name).mkdir()
    (root / "trace-lens.toml").write_text("")
    (root / "providers/id.toml").write_text('entity_id = "https://id.northmere.example/saml"\n')
    for number in range(apps):
        (root / f"apps/app-{number:03}.toml").write_text(
            f'name = "Application {number:03}"\nprotocol = "saml"\nprovider = "id"\n[application]\n'
            f'entity_id = "https://app-{number:03}.northmere.example/saml"\n'
            f'acs_urls = ["https://app-{number:03}.northmere.example/saml/acs"]\n'
        )
    fields = '[fields]\ntime = "at"\nuser = "user"\napp = "app"\noutcome = "result"\ncode = "code"\nip = "ip"\n'
    outcomes = '[outcomes]\nsuccess = ["ok"]\nfailure = ["no"]\n'
    for name, role in (("id", 'role = "provider"\nprovider = "id"\n'), ("apps", 'role = "application"\n')):
        head = f'{role}files = ["logs/{name}.csv"]\nformat = "csv"\ntime_unit = "ms"\n'
        (root / f"logs/{name}.toml").write_text(head + fields + outcomes)
    draw = np.random.default_rng(5)
    half = events // 2
    times = np.sort(draw.uniform(0, DAYS, half))
    app, user = draw.integers(0, apps, half), draw.integers(0, 20_000, half)
    refused = draw.random(half) < np.where((app % 50 == 0) & (times > 8), 0.3, 0.03)
    at = ((BEGIN + times * DAY) * 1_000).astype(np.int64)
    with (root / "logs/id.csv").open("w") as ours, (root / "logs/apps.csv").open("w") as theirs:
        ours.write("at,user,app,result,code,ip\n")
        theirs.write("at,user,app,result,code,ip\n")
        for moment, a, u, no in zip(at.tolist(), app.tolist(), user.tolist(), refused.tolist(), strict=True):
            ip = f"192.0.2.{u % 250}"
            ours.write(f"{moment},p{u}@northmere.example,Application {a:03},ok,,{ip}\n")
            theirs.write(f"{moment + 700},p{u},app-{a:03},{'no' if no else 'ok'},{'A-1' if no else ''},{ip}\n")


if __name__ == "__main__":
    for part in sys.argv[1:] or ("chance", "quiet", "found", "slopes", "size"):
        {"chance": chance, "quiet": quiet, "found": found, "slopes": slopes, "size": size}[part]()
