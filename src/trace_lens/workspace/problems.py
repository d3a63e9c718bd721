"""Wrong settings: every one of them at once, each with file, line, key, reason and the nearest valid key."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any, get_args

from trace_lens.common.difference import nearest
from trace_lens.common.guarding import Meant
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.places import line_of

if TYPE_CHECKING:
    from pydantic import BaseModel, ValidationError

_PHRASES = {
    "string_type": "must be text in quotes",
    "bool_type": "must be true or false",
    "int_type": "must be a whole number",
    "list_type": "must be a list in brackets",
    "dict_type": "must be a table",
    "model_type": "must be a table",
    "is_instance_of": "has a value of the wrong kind",
    "time_delta_type": 'must be a duration in quotes, like "3m"',
    "missing": "is missing",
}


class Problem(NamedTuple):
    """One thing wrong in the settings."""

    file: str
    line: int
    key: str
    reason: str
    nearest: str | None = None

    def __str__(self) -> str:
        hint = f"; did you mean {self.nearest}?" if self.nearest else ""
        place = f", line {self.line}" if self.line else ""
        return f"{self.file}{place}: {self.key + ' ' if self.key else ''}{self.reason}{hint}"


class SettingsError(Meant):
    """The workspace's settings are wrong; `problems` lists everything that is."""

    def __init__(self, problems: list[Problem]) -> None:
        self.problems = sorted(set(problems))
        super().__init__("\n".join(map(str, self.problems)))


def load_toml(text: str, file: str, problems: list[Problem]) -> dict[str, Any] | None:
    """A settings file as plain data; what is wrong with its form is added to `problems`."""
    import tomli

    try:
        return tomli.loads(text)
    except tomli.TOMLDecodeError as error:
        words = str(error)
        line = int(words.rpartition("line ")[2].split(",")[0]) if "line " in words else text.count("\n") + 1
        problems.append(Problem(file, line, "", f"is not valid TOML: {words.partition(' (at')[0]}"))
    except RecursionError:
        problems.append(Problem(file, 1, "", "is nested too deep"))
    except ValueError as error:
        problems.append(Problem(file, 1, "", f"is not valid TOML: {error}"))
    return None


def problems_of(error: ValidationError, model: type[BaseModel], file: str, text: str) -> list[Problem]:
    """The problems that a pydantic error stands for, in the words and places of the settings file."""
    found: dict[tuple[str, int], Problem] = {}
    for detail in error.errors(include_url=False, include_context=False):
        path = tuple(part for part in detail["loc"] if part not in ("function-before", "date", "datetime", "str"))
        key = _spell(path)
        near = None
        if detail["type"] == "extra_forbidden":
            reason = "is not a known setting"
            near = _nearest_key(model, path)
        else:
            reason = _PHRASES.get(detail["type"]) or _plain(detail["msg"])
        problem = Problem(file=file, line=line_of(text, path), key=key, reason=reason, nearest=near)
        found.setdefault((key, problem.line), problem)
    return list(found.values())


def _plain(message: str) -> str:
    message = message.removeprefix("Value error, ")
    return message.replace("Input should be", "must be")


def _spell(path: tuple[str | int, ...]) -> str:
    out = ""
    for part in path:
        out += f"[{part + 1}]" if isinstance(part, int) else f".{part}" if out else str(part)
    return out


def _nearest_key(model: type[BaseModel], path: tuple[str | int, ...]) -> str | None:
    """The valid key that an unknown one was meant to be, looked for in its own table first, then in all others."""
    tables = dict(_tables(model, ""))
    own = ".".join(str(part) for part in path[:-1] if isinstance(part, str))
    wrong = str(path[-1])
    here = nearest(wrong, tables.get(own, []))
    if here:
        return f"{own}.{here}" if own else here
    for table, keys in tables.items():
        if wrong in keys:
            return f"{table}.{wrong}" if table else wrong
    return None


def _tables(model: type[BaseModel], name: str) -> list[tuple[str, list[str]]]:
    keys: list[str] = []
    inner: list[tuple[str, list[str]]] = []
    for field_name, info in model.model_fields.items():
        key = info.alias or field_name
        keys.append(key)
        for kind in _models(info.annotation):
            inner += _tables(kind, f"{name}.{key}" if name else key)
    return [(name, keys), *inner]


def _models(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and hasattr(annotation, "model_fields"):
        return [annotation]
    return [model for part in get_args(annotation) for model in _models(part)]
