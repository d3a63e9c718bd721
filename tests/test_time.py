"""Time is bounded by size: expressions and whole readers, on texts made to be their worst."""

from __future__ import annotations

import ast
import contextlib
import importlib
import os
import pkgutil
import re
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any

import pytest

import trace_lens
from hostile_texts import HOSTILE
from kit import NOW
from pumping import growth, least_growth, pumps
from trace_lens.common.expressions import Expression
from trace_lens.common.limits import Refused
from trace_lens.common.secrets_in_text import RULES
from trace_lens.diagnosis.diagnosing import diagnose_sources
from trace_lens.diagnosis.judging import Options
from trace_lens.intake.peeling import peel
from trace_lens.people.guests import seen_guest
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile

WORST = 2.2
"""By how much the time may grow with each doubling of the text."""
_OPERATIONS: dict[str, Callable[[Any, Any], object]] = {
    "match": lambda pattern, text: pattern.match(text),
    "search": lambda pattern, text: pattern.search(text),
    "fullmatch": lambda pattern, text: pattern.fullmatch(text),
    "finditer": lambda pattern, text: sum(1 for _ in pattern.finditer(text)),
    "findall": lambda pattern, text: pattern.findall(text),
    "sub": lambda pattern, text: pattern.sub(lambda match: match[0][:1], text),
    "split": lambda pattern, text: pattern.split(text),
}
Named = tuple[str, re.Pattern[Any], frozenset[str]]


def _expressions() -> Iterator[Named]:
    """Every expression of the package with the operations that it is used by, but for the demo's, which read nothing."""
    for module in pkgutil.walk_packages(trace_lens.__path__, "trace_lens."):
        if module.name.startswith("trace_lens.demo") or module.name.endswith("__main__"):
            continue
        loaded = importlib.import_module(module.name)
        tree = ast.parse(Path(str(loaded.__file__)).read_text("utf-8"))
        used: dict[str, set[str]] = {}
        for node in ast.walk(tree):
            if not (isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute)):
                continue
            owner = node.func.value
            if isinstance(owner, ast.Name) and node.func.attr in _OPERATIONS and owner.id != "re":
                used.setdefault(owner.id, set()).add(node.func.attr)
            if isinstance(owner, ast.Name) and owner.id == "re" and node.func.attr in _OPERATIONS and node.args:
                yield from _inline(module.name, node)
        for name, held in vars(loaded).items():
            value: object = held.compiled if isinstance(held, Expression) else held
            if isinstance(value, re.Pattern):
                yield f"{module.name}.{name}", value, frozenset(used.get(name, {"search"}))


def _inline(module: str, node: ast.Call) -> Iterator[Named]:
    """An expression that is written where it is used, as `re.search(r"…", text)`."""
    assert isinstance(node.func, ast.Attribute)
    try:
        written = ast.literal_eval(node.args[0])
    except ValueError:
        return  # made of a name at run time: such parts are escaped
    flags = [ast.unparse(value) for value in (*node.args[1:], *(keyword.value for keyword in node.keywords))]
    told = [flag for flag in flags if re.fullmatch(r"re\.[A-Z]+(?: \| re\.[A-Z]+)*", flag)]
    value = re.compile(written, eval(told[0], {"re": re}) if told else 0)
    yield f"{module}:{node.lineno}", value, frozenset({node.func.attr})


_OF_SECRETS = [(f"secrets in text, {rule[:30]}", re.compile(rule), frozenset({"sub"})) for rule, _ in RULES]


@cache
def expressions() -> list[Named]:
    """All of them, in a stable order."""
    return sorted([*_expressions(), *_OF_SECRETS], key=lambda one: one[0])


def _grows(
    pattern: re.Pattern[Any],
    operation: str,
    pump: tuple[str, str, str],
    sizes: tuple[int, int],
    measure: Callable[..., float] = least_growth,
) -> float:
    before, part, after = pump

    def work(size: int) -> Callable[[], object]:
        text: str | bytes = before + part * max(1, size // len(part)) + after
        if isinstance(pattern.pattern, bytes):
            assert isinstance(text, str)
            text = text.encode("latin-1", "replace")
        return lambda: _OPERATIONS[operation](pattern, text)

    return measure(work, sizes, WORST) if measure is least_growth else measure(work, sizes)


EVERY = bool(os.environ.get("EVERY_CAPTURE"))


def test_the_search_for_worst_texts_finds_them() -> None:
    """The check can fail: expressions that are known to be slow are told."""
    known = (r"\s*a", r"<form\b[^>]*>", r"(?:<!--.*?-->\s*)*x", r"(?:a|b|ab)*c", r"\buser\b[^.]*\bunknown")
    for slow in known if EVERY else known[:2]:
        pattern = re.compile(slow, re.DOTALL)
        assert any(_grows(pattern, "search", pump, (1024, 8192), growth) > WORST for pump in pumps(pattern)), slow


PARTS = 8


@pytest.mark.parametrize("part", range(PARTS if EVERY else 2))
def test_expressions_are_linear(part: int) -> None:
    """Each expression over input takes time by the length of the text, whatever the text."""
    assert len(expressions()) > 200
    chosen = expressions()[part :: PARTS if EVERY else 384]
    slow = {}
    for name, pattern, operations in chosen:
        for pump in pumps(pattern):
            for operation in operations:
                found = _grows(pattern, operation, pump, (512, 8192))
                if found > WORST and _grows(pattern, operation, pump, (2048, 65_536)) > WORST:
                    slow[name] = (operation, pump, found)
    assert slow == {}


def _read(data: bytes) -> None:
    """Read it; a refusal is as good, as long as it names its limit."""
    with contextlib.suppress(Refused):
        peel(data)


@pytest.mark.parametrize("name", HOSTILE if EVERY else list(HOSTILE)[::3])
def test_a_refusal_names_its_limit(name: str) -> None:
    try:
        told = peel(HOSTILE[name](400_000)).left_out
    except Refused as error:
        told = str(error)
    assert told is None or re.search(r"\d", told)


@pytest.mark.parametrize("name", HOSTILE if EVERY else list(HOSTILE)[1::2])
def test_readers_are_linear(name: str) -> None:
    """Whatever a source holds, reading twice as much takes about twice as long, or it is refused."""
    make = HOSTILE[name]

    def work(size: int) -> Callable[[], object]:
        data = make(size)
        return lambda: _read(data)

    length = cache(lambda size: len(make(size)))
    assert least_growth(work, (16_384, 131_072), WORST, idle=0.05, length=length) <= WORST


@pytest.mark.parametrize(
    "name", ["a-at-" * 9000, "x~" * 20_000 + "b.example@c", "a" + " " * 50_000, "a." * 30_000 + "@b"]
)
def test_names_of_guests_take_no_time(name: str) -> None:
    assert least_growth(lambda size: lambda: seen_guest(name[:size]), (1024, 16_384), WORST) <= WORST


@pytest.mark.parametrize(
    "name", ["heads of requests", "commands", "lines of a log", "a browser export", "cut tokens", "addresses"]
)
def test_diagnosing_is_linear(name: str) -> None:
    """A capture of many steps, or of many messages, takes twice as long where it has twice as many."""
    make = HOSTILE[name]

    def work(size: int) -> Callable[[], object]:
        source = SourceFile("x", make(size))
        return lambda: diagnose_sources([source], Workspace(), Options(NOW), 1)

    length = cache(lambda size: len(make(size)))
    assert least_growth(work, (16_384, 131_072), WORST, idle=0.05, length=length) <= WORST
