"""Steps of a probe as a graph: each is tried as soon as what it depends on has gone well, in parallel, within a time.

What depends on a step that failed is blocked by it and not tried; everything else goes on.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from concurrent.futures import FIRST_COMPLETED, Future, ThreadPoolExecutor, wait
from datetime import UTC, datetime
from typing import Any

from trace_lens.common.findings import Finding
from trace_lens.common.guarding import why
from trace_lens.common.tuples import NamedTuple

OK, RISK, FAILED, BLOCKED, SKIPPED = "ok", "risk", "failed", "blocked", "skipped"
DNS, TCP, TLS, HTTP, DOCUMENT, KEYS, ENDPOINT, CLOCK, REQUEST, DOMAIN = (
    "dns",
    "tcp",
    "tls",
    "http",
    "document",
    "keys",
    "endpoint",
    "clock",
    "request",
    "domain",
)
_WORKERS = 16


class Outcome(NamedTuple):
    """What came of a step: its status, a sentence, what was seen, and the finding where it is a risk or failed.

    `made` is what later steps need of it (a document, an address). `more` are steps that only now are known.
    """

    status: str
    detail: str
    evidence: tuple[tuple[str, str], ...] = ()
    finding: Finding | None = None
    made: Any = None
    more: tuple[Step, ...] = ()


class Step(NamedTuple):
    """One thing to try. `run` gets what the steps before it made, by their ids. `soft` are steps that it waits for, and
    that may fail.
    """

    id: str
    what: str
    target: str
    after: tuple[str, ...]
    run: Callable[[dict[str, Any]], Outcome]
    apps: tuple[str, ...] = ()
    soft: tuple[str, ...] = ()


class Tried(NamedTuple):
    """A step with what came of it, when, and after how many seconds."""

    step: Step
    outcome: Outcome
    blocked_by: tuple[str, ...]
    at: datetime
    seconds: float


def carry_out(steps: Sequence[Step], seconds: float) -> list[Tried]:
    """Carry out steps in the order that they allow, within a time for all; the results in the order of the steps.

    A step that has not ended by then is told as failed without a finding of its own, as nothing says why.
    """
    return _Run(steps, seconds).results()


class _Run:
    def __init__(self, steps: Sequence[Step], seconds: float) -> None:
        self.until = time.monotonic() + seconds
        self.seconds = seconds
        self.order = {step.id: step for step in steps}
        self.done: dict[str, Tried] = {}
        self.running: dict[Future[tuple[Outcome, float]], tuple[Step, datetime]] = {}

    def results(self) -> list[Tried]:
        pool = ThreadPoolExecutor(_WORKERS, thread_name_prefix="probe")
        try:
            self._start(pool)
            while self.running and time.monotonic() < self.until:
                ended, _ = wait(self.running, max(0.0, self.until - time.monotonic()), FIRST_COMPLETED)
                for future in ended:
                    step, at = self.running.pop(future)
                    outcome, took = future.result()
                    self._take(Tried(step, outcome, (), at, took))
                self._start(pool)
            for step, at in self.running.values():
                words = f"no answer within the {self.seconds:.0f} seconds of the whole run"
                self._take(Tried(step, Outcome(SKIPPED, words), (), at, self.seconds))
            self.running = {}
            self._start(None)
        finally:
            pool.shutdown(wait=False, cancel_futures=True)
        return [self.done[name] for name in self.order if name in self.done]

    def _take(self, tried: Tried) -> None:
        self.done[tried.step.id] = tried
        self.order |= {step.id: step for step in tried.outcome.more if step.id not in self.order}

    def _start(self, pool: ThreadPoolExecutor | None) -> None:
        """Start what can be started, and tell what is blocked, until nothing more of either is there."""
        waiting = {step.id for step, _ in self.running.values()}
        changed = True
        while changed:
            changed = False
            for step in list(self.order.values()):
                if step.id in self.done or step.id in waiting:
                    continue
                blocked = self._blocking(step.after)
                if blocked:
                    self._take(Tried(step, Outcome(BLOCKED, self._words(blocked)), blocked, _now(), 0.0))
                    changed = True
                elif all(name in self.done for name in (*step.after, *step.soft) if name in self.order):
                    if pool is None or time.monotonic() >= self.until:
                        self._take(Tried(step, Outcome(SKIPPED, "there was no time left for it"), (), _now(), 0.0))
                        changed = True
                        continue
                    made = {
                        name: self.done[name].outcome.made for name in (*step.after, *step.soft) if name in self.done
                    }
                    self.running[pool.submit(_attempted, step, made)] = (step, _now())
                    waiting.add(step.id)

    def _blocking(self, names: Iterable[str]) -> tuple[str, ...]:
        """The steps that failed, or that could not be tried, among some."""
        stopped = (FAILED, BLOCKED, SKIPPED)
        return tuple(name for name in names if name in self.done and self.done[name].outcome.status in stopped)

    def _words(self, names: Sequence[str]) -> str:
        return "not tried: " + ", ".join(
            self.done[name].step.target + " " + _FAILING[self.done[name].step.what] for name in names
        )


_FAILING = {
    DNS: "has no address",
    TCP: "cannot be reached",
    TLS: "has no trusted TLS",
    HTTP: "does not answer as it should",
    DOCUMENT: "could not be read",
    KEYS: "has no usable key",
    ENDPOINT: "does not answer as an endpoint",
    CLOCK: "tells no time",
    REQUEST: "refuses the request",
    DOMAIN: "is not proven",
}


def _attempted(step: Step, made: dict[str, Any]) -> tuple[Outcome, float]:
    begin = time.monotonic()
    try:
        outcome = step.run(made)
    except Exception as error:
        outcome = Outcome(SKIPPED, f"trace-lens failed at it: {why(error, 'trying it')}")
    return outcome, time.monotonic() - begin


def _now() -> datetime:
    return datetime.now(UTC)
