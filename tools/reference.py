"""Writes the parts of the documentation that the program itself knows: its commands, its findings, its JSON.

`python tools/reference.py` writes them, `python tools/reference.py --check` says whether they are up to date.
"""

from __future__ import annotations

import ast
import itertools
import json
import sys
import tomllib
from collections.abc import Iterator
from datetime import date
from importlib.resources import files
from pathlib import Path
from types import UnionType
from typing import Any, Literal, Union, get_args, get_origin

import click

from trace_lens.cli import group
from trace_lens.common import catalogue, limits, symptoms
from trace_lens.common.findings import STAGE_SENTENCES, Side, Stage
from trace_lens.workspace import log_settings, settings

DOCS = Path(__file__).resolve().parent.parent / "docs"
MEANINGS = tomllib.loads((Path(__file__).parent / "settings-meanings.toml").read_text("utf-8"))
LATER = "read, not judged yet"
SCHEMAS = (
    "diagnosis",
    "decode",
    "certs",
    "sides",
    "compare",
    "identify",
    "apps",
    "check",
    "explain",
    "log-check",
    "log-load",
    "log-files",
    "events",
    "timeline",
    "redaction",
    "expiry",
    "fleet",
    "drift",
    "probe",
)
TABLES = (
    ("trace-lens.toml", settings.WorkspaceSettings),
    ("providers/NAME.toml", settings.ProviderSettings),
    ("apps/NAME.toml", settings.AppSettings),
    ("apps/NAME.toml, [application]", settings.Application),
    ("apps/NAME.toml, [application.pages]", settings.Pages),
    ("apps/NAME.toml, [provider_setup]", settings.ProviderSetup),
    ("apps/NAME.toml, [[provider_setup.subject]]", settings.SubjectRule),
    ("apps/NAME.toml, [account]", settings.Account),
    ("a step of rewrite", settings.Rewrite),
    ("apps/NAME.toml, [[claims]]", settings.Claim),
    ("apps/NAME.toml, [[accepted]]", settings.Accepted),
)

LOG_TABLES = (
    ("logs/NAME.toml", log_settings.LogSettings),
    ("logs/NAME.toml, [fields]", log_settings.LogFields),
    ("logs/NAME.toml, [outcomes]", log_settings.LogOutcomes),
    ("logs/NAME.toml, one of [codes]", log_settings.LogCode),
)


def commands() -> str:
    """Every command with its help text."""
    parts = ["# Commands\n", "Made from the program by `tools/reference.py`.\n"]

    def walk(command: click.Command, path: str, parent: click.Context | None) -> None:
        context = click.Context(command, info_name=path, parent=parent, max_content_width=100, terminal_width=100)
        context.help_option_names = ["-h", "--help"]
        parts.append(f"## `{context.command_path}`\n\n```text\n{command.get_help(context)}\n```\n")
        if isinstance(command, click.Group):
            for name in command.list_commands(context):
                inner = command.get_command(context, name)
                if inner:
                    walk(inner, name, context)

    walk(group, "trace-lens", None)
    return "\n".join(parts)


def findings() -> str:
    """Every finding of the catalogue, by stage."""
    parts = [
        "# Findings\n",
        "Made from the catalogue by `tools/reference.py`; `trace-lens explain CODE` shows the same.\n",
    ]
    for stage in Stage:
        parts.append(f"## {stage}\n\n{STAGE_SENTENCES[stage]}\n")
        for entry in catalogue.of_stage(stage).values():
            causes = "".join(f"- {cause}\n" for cause in entry.causes)
            remedies = "".join(
                f"- {'both sides' if side is Side.BOTH else side}: {text}\n" for side, text in entry.remedies.items()
            )
            parts.append(
                f"### {entry.code}\n\n{entry.title} ({' or '.join(entry.severities)}). {entry.why}\n\n"
                f"Usual causes:\n{causes}\nWhat to look at: {entry.look}\n\nWhat repairs it:\n{remedies}\n"
                f"Standard: {entry.reference}\n"
            )
    return "\n".join(parts)


def keys() -> str:
    """Every key of the settings files, with its kind and default."""
    parts = ["# Settings\n", "Made from the program by `tools/reference.py`. Relative paths start at the workspace.\n"]
    for title, record in TABLES:
        rows = []
        for one in settings.fields_of(record):
            if one.default is settings.REQUIRED:
                shown = "required"
            else:
                shown = "" if one.default in (None, (), {}) or one.record else f"`{json.dumps(one.default)}`"
            rows.append(f"| `{one.key}` | {kind_of(one)} | {shown} | {MEANINGS[record.__name__].get(one.key, LATER)} |")
        parts.append(f"## {title}\n\n| key | takes | default | meaning |\n|---|---|---|---|\n" + "\n".join(rows) + "\n")
    for title, model in LOG_TABLES:
        lines = [f"| `{name}` | {MEANINGS[model.__name__][name]} |" for name in model._fields]
        parts.append(f"## {title}\n\n| key | meaning |\n|---|---|\n" + "\n".join(lines) + "\n")
    return "\n".join(parts)


def schemas() -> str:
    """The keys of every command's output with their meanings, and one example; the schemas and examples are linked."""
    meanings = tomllib.loads((Path(__file__).parent / "json-meanings.toml").read_text("utf-8"))
    example = (DOCS / "examples" / "diagnosis.json").read_text("utf-8")
    parts = [
        "# JSON\n",
        "Made from the package by `tools/reference.py`. `trace-lens explain --schema NAME` prints the JSON Schema of a "
        "form; new keys may be added without a new version. Times are in UTC, durations in seconds.\n",
        f"An example, shortened, of `trace-lens diagnose --format json`:\n\n```json\n{example}```\n",
    ]
    for name in SCHEMAS:
        schema = json.loads(files("trace_lens.render").joinpath("schemas", f"{name}.json").read_text("utf-8"))
        links = f"[Schema](../src/trace_lens/render/schemas/{name}.json)"
        if (DOCS / "examples" / f"{name}.json").is_file():
            links += f" · [example](examples/{name}.json)"
        own = {**meanings, **meanings.get(name, {})} if isinstance(meanings.get(name), dict) else meanings
        rows = dict.fromkeys(
            f"| {key} | {kind} | {own[key.rpartition('.')[2]]} |" for key, kind in keys_of(schema, schema)
        )
        table = "\n".join(("| key | type | meaning |", "|---|---|---|", *rows))
        parts.append(f"## {schema['title']}\n\n{links}\n\n{table}\n")
    return "\n".join(parts)


def keys_of(part: dict[str, Any], whole: dict[str, Any], path: str = "", depth: int = 0) -> Iterator[tuple[str, str]]:
    """Every key that a schema names, with its path, and its type; what is defined once is listed where it first is."""
    if "$ref" in part:
        part = whole["$defs"][part["$ref"].rpartition("/")[2]]
    for choice in (*part.get("anyOf", ()), *part.get("oneOf", ())):
        yield from keys_of(choice, whole, path, depth)
    if "items" in part:
        yield from keys_of(part["items"], whole, path, depth)
    for key, value in part.get("properties", {}).items():
        here = f"{path}.{key}" if path else key
        yield here, type_of(value, whole)
        if depth < 6:
            yield from keys_of(value, whole, here, depth + 1)


def type_of(part: dict[str, Any], whole: dict[str, Any]) -> str:
    """The type of a member in words."""
    if "$ref" in part:
        return type_of(whole["$defs"][part["$ref"].rpartition("/")[2]], whole)
    if "const" in part or "enum" in part:
        return "text" if any(isinstance(value, str) for value in part.get("enum", [part.get("const")])) else "value"
    if "anyOf" in part or "oneOf" in part:
        kinds = [type_of(choice, whole) for choice in (*part.get("anyOf", ()), *part.get("oneOf", ()))]
        return " or ".join(dict.fromkeys(kinds))
    words = {"string": "text", "integer": "number", "boolean": "true or false", "array": "list"}
    types = part.get("type", "any")
    return " or ".join(words.get(kind, kind) for kind in ([types] if isinstance(types, str) else types))


def kind_of(one: settings.Field) -> str:
    """What a key takes, in words."""
    if one.record:
        return "list of tables" if one.many else "table"
    if one.marks:
        return one.marks[0]
    if get_origin(one.type) is Literal:
        return " or ".join(f'`"{choice}"`' for choice in get_args(one.type))
    if get_origin(one.type) in (UnionType, Union) and Literal in {get_origin(part) for part in get_args(one.type)}:
        choices = next(part for part in get_args(one.type) if get_origin(part) is Literal)
        return " or ".join(f'`"{choice}"`' for choice in get_args(choices))
    words = {str: "text", bool: "true or false", int: "number", date: "date"}
    parts = get_args(one.type) or (one.type,)
    if one.many:
        return "list of texts"
    return next((words[part] for part in (date, *parts) if part in words and part in parts), "table of texts")


def bounds() -> str:
    """Every limit with its value and what it is for."""
    tree = ast.parse(Path(limits.__file__).read_text("utf-8"))
    rows = []
    for node, following in itertools.pairwise(tree.body):
        told = following.value if isinstance(following, ast.Expr) else None
        if isinstance(node, ast.Assign) and isinstance(told, ast.Constant) and isinstance(told.value, str):
            targets = [name for target in node.targets for name in ast.walk(target) if isinstance(name, ast.Name)]
            values = " and ".join(f"{getattr(limits, target.id):,}" for target in targets)
            rows.append(f"| {values} | {' '.join(told.value.split())} |")
    head = "# Limits\n\nMade from the program by `tools/reference.py`. What is beyond one is told by its value.\n"
    return head + "\n| limit | of what |\n|---|---|\n" + "\n".join(rows) + "\n"


def complaints() -> str:
    """What callers say: what to ask, what to record, and what it usually is."""
    parts = [
        "# What callers say\n",
        "Made from the program by `tools/reference.py`; `trace-lens explain WORDS` finds them.\n",
    ]
    for symptom in symptoms.symptoms():
        asked = "".join(f"- {text}\n" for text in symptom.questions)
        recorded = "".join(f"- {text}\n" for text in symptom.record)
        run = "\n".join(symptom.commands)
        ends = ", ".join(f"[{code}](findings.md#{code})" for code in symptom.findings)
        said = "; ".join(symptom.said)
        parts.append(
            f"## {symptom.title}\n\nAlso: {said}.\n\nAsk:\n{asked}\nRecord:\n{recorded}\nRun:\n\n```sh\n{run}\n```\n\n"
            f"It usually ends in: {ends}.\n"
        )
    return "\n".join(parts)


PAGES = {
    "commands.md": commands,
    "findings.md": findings,
    "symptoms.md": complaints,
    "settings.md": keys,
    "json.md": schemas,
    "limits.md": bounds,
}


def main() -> None:
    """Write the pages, or check them."""
    stale = []
    for name, make in PAGES.items():
        text = make()
        path = DOCS / name
        if "--check" in sys.argv:
            if not path.exists() or path.read_text("utf-8") != text:
                stale.append(name)
        else:
            path.write_text(text, "utf-8")
    if stale:
        sys.exit(f"out of date: {', '.join(stale)}; run python tools/reference.py")


if __name__ == "__main__":
    main()
