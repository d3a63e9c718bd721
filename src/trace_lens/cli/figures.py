"""The option `--figure` of the commands that draw."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from trace_lens.cli.options import tell

if TYPE_CHECKING:
    from trace_lens.diagnosis.judging import Diagnosis
    from trace_lens.diagnosis.timelines import Timeline
    from trace_lens.fleet.dates import Ending
    from trace_lens.fleet.logged import Logged
    from trace_lens.fleet.overview import Fleet

_FORMS = ("png", "svg")


class FigureFile(click.ParamType):  # type: ignore[type-arg]  # not generic in older versions
    """A file to draw into; its ending says in which form."""

    name = "file"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Path:
        path = Path(value)
        if path.suffix.lower().lstrip(".") not in _FORMS:
            self.fail(f"{value} must end in .png or .svg.", param, ctx)
        return path


def draw(file: Path, diagnoses: Sequence[Diagnosis]) -> bool:
    """Draw the ways into a file; where that cannot be, say why and give False."""
    from trace_lens.render.figures.ladder import draw_ways

    return _written(file, lambda form: draw_ways(diagnoses, form))


def draw_timeline(file: Path, found: Timeline) -> bool:
    """Draw timelines into a file; where that cannot be, say why and give False."""
    from trace_lens.render.figures.timeline import draw_timelines

    return _written(file, lambda form: draw_timelines(found, form))


def draw_year(file: Path, found: Sequence[Ending], now: datetime) -> bool:
    """Draw the year ahead into a file; where that cannot be, say why and give False."""
    from trace_lens.render.figures.year import draw_year

    return _written(file, lambda form: draw_year(found, now, form))


def draw_fleet(file: Path, found: Fleet, logged: Logged) -> bool:
    """Draw all applications over time into a file; where that cannot be, say why and give False."""
    from trace_lens.render.figures.fleet import draw_fleet

    return _written(file, lambda form: draw_fleet(found, logged, form))


def _written(file: Path, drawn: Callable[[str], bytes]) -> bool:
    from trace_lens.render.figures.ladder import NothingToDraw

    try:
        file.write_bytes(drawn(file.suffix.lower().lstrip(".")))
    except NothingToDraw as error:
        tell(f"Error: --figure: {error}.")
    except OSError as error:
        tell(f"Error: --figure: {file} cannot be written: {error.strerror}.")
    else:
        return True
    return False
