"""Rewriting rules: what each step makes of a name."""

from __future__ import annotations

from collections.abc import Iterable

from trace_lens.common.sentences import Person
from trace_lens.workspace.patterns import compiled
from trace_lens.workspace.settings import Rewrite


def rewrite(name: str, steps: Iterable[Rewrite]) -> list[str]:
    """The name after each step, in order; the last is the result, and there is one entry a step."""
    results: list[str] = []
    for step in steps:
        name = Person(_apply(name, step))
        results.append(name)
    return results


def result(name: str, steps: Iterable[Rewrite]) -> str:
    """What a whole rule makes of a name."""
    for step in steps:
        name = Person(_apply(name, step))
    return name


def _apply(name: str, step: Rewrite) -> str:
    if step.drop_domain:
        return name.rpartition("@")[0] or name
    if step.case:
        return name.lower() if step.case == "lower" else name.upper()
    if step.replace is not None:
        return str(compiled(step.replace).sub(step.replacement or "", name))
    if step.add_suffix is not None:
        return name + step.add_suffix
    return (step.add_prefix or "") + name
