"""The shipped schemas allow further keys; here a key that they do not tell of is a fault, so that none goes untold."""

from __future__ import annotations

import json
from functools import cache
from importlib.resources import files
from typing import Any

import jsonschema_rs


def conforms(document: Any, name: str) -> None:
    """Hold a document against a shipped schema, and against the same schema without further keys."""
    for validator in _validators(name):
        validator.validate(document)


@cache
def _validators(name: str) -> tuple[jsonschema_rs.Draft202012Validator, jsonschema_rs.Draft202012Validator]:
    """Of a shipped schema, and of the same one without further keys."""
    schema = json.loads(files("trace_lens.render").joinpath("schemas", f"{name}.json").read_text("utf-8"))
    shipped = jsonschema_rs.Draft202012Validator(schema)
    _close(schema)
    return shipped, jsonschema_rs.Draft202012Validator(schema)


def _close(part: Any) -> None:
    if isinstance(part, dict):
        if part.get("type") == "object" and "properties" in part:
            part.setdefault("additionalProperties", False)
        for inner in part.values():
            _close(inner)
    elif isinstance(part, list):
        for inner in part:
            _close(inner)
