"""Work shared out to processes: what each of them judges by, and how they end."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import TypeVar

from trace_lens.diagnosis.gathering import Run

S = TypeVar("S")
T = TypeVar("T")
_AHEAD = 4
"""So many shares are handed to each process ahead."""
_judged_by: list[Run] = []
"""In a process that was forked: what its shares are judged by. It gets that whole, without any copying."""
INTERRUPTED = 130
"""The exit status of what was interrupted."""


def forks(workers: int) -> bool:
    """Whether there is work for several processes, and they can be had."""
    if workers == 1:
        return False
    import multiprocessing

    return "fork" in multiprocessing.get_all_start_methods()


def _begin_child(run: Run) -> None:
    """A process of its own. An interruption is for the one that began it: what ends in the middle of handing something
    over leaves the other waiting for the rest.
    """
    import gc
    import signal

    gc.freeze()  # what it has from there stays in memory that both share
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _judged_by[:] = [run]


@contextmanager
def _undisturbed() -> Iterator[None]:
    """An interruption waits until this is done: in the middle of making processes it would leave half of them."""
    import signal

    before = signal.pthread_sigmask(signal.SIG_BLOCK, {signal.SIGINT})
    try:
        yield
    finally:
        signal.pthread_sigmask(signal.SIG_SETMASK, before)


def _in_child(work: Callable[[Run, S], T], share: S) -> T:
    return work(_judged_by[0], share)


def shared_out(work: Callable[[Run, S], T], shares: Iterable[S], workers: int, run: Run) -> Iterator[T]:
    """What the work gives for each share, in order, done by so many processes, each with a copy of what it judges by.

    Only a few shares are handed out ahead: what is broken off does not have to wait for more than these.
    """
    import multiprocessing
    from concurrent.futures import Future, ProcessPoolExecutor

    fork = multiprocessing.get_context("fork")
    under_way: deque[Future[T]] = deque()
    pool = ProcessPoolExecutor(workers, fork, initializer=_begin_child, initargs=(run,))
    try:
        for share in shares:
            with _undisturbed():
                under_way.append(pool.submit(_in_child, work, share))
            if len(under_way) > workers * _AHEAD:
                yield under_way.popleft().result()
        while under_way:
            yield under_way.popleft().result()
    finally:
        try:
            pool.shutdown(cancel_futures=True)
        except KeyboardInterrupt:  # once more: nobody waits for what is under way
            for child in multiprocessing.active_children():
                child.terminate()
            raise
