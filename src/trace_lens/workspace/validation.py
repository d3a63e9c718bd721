"""Settings validated by pydantic: its models are made from the records of `settings`, so each key stands once.

Unknown keys are errors, values are not coerced, and all errors of a file are found at once.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Mapping
from functools import cache
from typing import Annotated, Any
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, ValidationError, create_model, model_validator

from trace_lens.common.moments import read_duration
from trace_lens.workspace import log_settings, settings
from trace_lens.workspace.patterns import compiled
from trace_lens.workspace.problems import Problem, problems_of


class Table(BaseModel):
    """What all tables share."""

    model_config = ConfigDict(extra="forbid", strict=True, defer_build=True, hide_input_in_errors=True)


def validate(record: type, raw: Mapping[str, Any], file: str, text: str) -> list[Problem]:
    """Everything that is wrong in a settings file; empty where nothing is."""
    model = model_of(record)
    try:
        model.model_validate(raw)
    except ValidationError as error:
        return problems_of(error, model, file, text)
    return []


@cache
def model_of(record: Any) -> type[BaseModel]:
    """The pydantic model of a record."""
    made: dict[str, Any] = {}
    for field in settings.fields_of(record):
        kind: Any = field.type
        if field.record:
            inner = model_of(field.record)
            kind = list[inner] if field.many else dict[str, inner] if field.keyed else inner  # type: ignore[valid-type]
        elif field.many:
            kind = list[str]
        for mark in field.marks:
            kind = Annotated[kind, BeforeValidator(_READERS[mark])]
        default: Any = ... if field.default is settings.REQUIRED else None if field.record else field.default
        made[f"_{field.name}" if field.name == "model_config" else field.name] = (kind, Field(default, alias=field.key))
    extra = _WHOLE.get(record)
    validators: dict[str, Any] = {"whole": model_validator(mode="after")(extra)} if extra else {}
    return create_model(record.__name__, __base__=Table, __validators__=validators, **made)


def _store(value: Any) -> Any:
    if isinstance(value, str) and value != "duckdb" and not re.fullmatch(r"spark://[^/\s]+(/.*)?", value):
        raise ValueError('must be "duckdb", or "spark://HOST:PORT/FOLDER" for a store on Spark')
    return value


def _duration(value: Any) -> Any:
    return read_duration(value) if isinstance(value, str) else value


def _seconds(value: Any) -> Any:
    if isinstance(value, int) and not isinstance(value, bool):
        return read_duration(f"{value}s")
    return _duration(value)


def _as_list(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


def _zone(value: Any) -> Any:
    if isinstance(value, str):
        try:
            ZoneInfo(value)
        except (ZoneInfoNotFoundError, ValueError):
            raise ValueError(f"{value!r} is no time zone of the tz database, such as Europe/Oslo") from None
    return value


def _encoding(value: Any) -> Any:
    if isinstance(value, str):
        try:
            codecs.lookup(value)
        except LookupError:
            raise ValueError(f"{value!r} is no encoding that is known") from None
    return value


def _character(value: Any) -> Any:
    if isinstance(value, str) and len(value) != 1:
        raise ValueError("must be one character")
    return value


def _pattern(value: Any) -> Any:
    if isinstance(value, str):
        compiled(value)
    return value


_READERS = {
    settings.DURATION: _duration,
    settings.STORE: _store,
    settings.SECONDS: _seconds,
    settings.ONE_OR_MORE: _as_list,
    settings.PATTERN: _pattern,
    settings.ZONE: _zone,
    settings.ENCODING: _encoding,
    settings.CHARACTER: _character,
}


def _one_form(step: Any) -> Any:
    forms = (step.drop_domain, step.case, step.replace, step.add_suffix, step.add_prefix)
    if sum(form is not None for form in forms) != 1:
        raise ValueError("a step holds exactly one of drop_domain, case, replace, add_suffix, add_prefix")
    if (step.replace is None) != (step.replacement is None):
        raise ValueError("replace and with go together")
    return step


def _guest_groups(provider: Any) -> Any:
    if provider.guest_pattern and not {"local", "domain"} <= set(compiled(provider.guest_pattern).groupindex):
        raise ValueError("guest_pattern needs the named groups (?P<local>…) and (?P<domain>…)")
    return provider


_WHOLE: dict[Any, Any] = {settings.Rewrite: _one_form, settings.ProviderSettings: _guest_groups, **log_settings.WHOLE}
