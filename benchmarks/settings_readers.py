"""CPU time of one process that reads and validates settings, by library: `python benchmarks/settings_readers.py`.

Candidates: pydantic as the program uses it, pydantic with files remembered as valid, cattrs with detailed validation,
msgspec (which stops at the first error, so it cannot tell everything that is wrong). cattrs and msgspec are not among
the dependencies: `pip install cattrs msgspec`. Each figure is the least of seven
processes, with 1 and 300 applications.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import tomllib
from keyword import iskeyword
from pathlib import Path
from typing import Any

CANDIDATES = ("nothing", "remembered", "pydantic", "cattrs", "msgspec")


def files_of(folder: Path) -> list[dict[str, Any]]:
    """The raw tables of all applications, as every candidate has to read them."""
    return [_renamed(tomllib.loads(path.read_text("utf-8"))) for path in sorted(folder.glob("apps/*.toml"))]


def _bare(key: str) -> str:
    return f"{key}_" if iskeyword(key) else key


def _renamed(value: Any) -> Any:
    """Keys that Python keeps for itself get another spelling."""
    if isinstance(value, dict):
        return {_bare(key): _renamed(item) for key, item in value.items()}
    return [_renamed(item) for item in value] if isinstance(value, list) else value


def _with_classes(make: Any) -> Any:
    """The record of an application's file as a class of another library, nested ones too; `make(name, fields)`."""
    from trace_lens.workspace import settings

    def of(record: Any) -> Any:
        fields = {}
        for field in settings.fields_of(record):
            kind: Any = field.type
            if field.record:
                kind = list[of(field.record)] if field.many else of(field.record)
            elif settings.DURATION in field.marks or settings.SECONDS in field.marks:
                kind = str | int | None
            elif settings.ONE_OR_MORE in field.marks:
                kind = Any
            elif field.many:
                kind = list[str]
            elif field.key in ("secret_expires", "until"):
                kind = Any
            fields[_bare(field.key)] = kind | None if not field.many and not field.record and kind is not Any else kind
        return make(record.__name__, fields)

    return of(settings.AppSettings)


def validate(candidate: str, folder: Path) -> int:
    """Read every application with a candidate; the number of them."""
    if candidate in ("pydantic", "remembered"):
        from trace_lens.workspace.loading import load_workspace

        return len(load_workspace(folder).apps)
    raw = files_of(folder)
    if candidate == "cattrs":
        import attrs
        from cattrs import Converter
        from cattrs.gen import make_dict_structure_fn

        converter = Converter(forbid_extra_keys=True, detailed_validation=True)
        converter.register_structure_hook(str | int | None, lambda value, _: value)
        made = _with_classes(
            lambda name, fields: attrs.make_class(
                name, {key: attrs.field(type=kind, default=None) for key, kind in fields.items()}
            )
        )
        converter.register_structure_hook(made, make_dict_structure_fn(made, converter))
        for table in raw:
            converter.structure(table, made)
    elif candidate == "msgspec":
        import msgspec

        made = _with_classes(
            lambda name, fields: msgspec.defstruct(
                name, [(key, kind, None) for key, kind in fields.items()], forbid_unknown_fields=True
            )
        )
        for table in raw:
            msgspec.convert(table, made)
    return len(raw)


def _estate(folder: Path, count: int) -> None:
    from trace_lens.demo.workspace import make_keys, write_settings

    write_settings(folder, make_keys())
    texts = [path.read_text("utf-8") for path in sorted(folder.glob("apps/*.toml"))]
    for path in folder.glob("apps/*.toml"):
        path.unlink()
    for number in range(count):
        (folder / "apps" / f"app-{number:03}.toml").write_text(texts[number % len(texts)], "utf-8")


def main() -> None:
    """Run each candidate in processes of its own."""
    if len(sys.argv) > 1:
        validate(sys.argv[1], Path(sys.argv[2]))
        return
    for count in (1, 300):
        with tempfile.TemporaryDirectory() as folder:
            _estate(Path(folder), count)
            for candidate in CANDIDATES:
                times = [_cpu(candidate, folder, Path(folder) / "cache") for _ in range(7)]
                print(f"{count:>4} applications  {candidate:<11} {min(times) * 1000:6.0f} ms")


def _cpu(candidate: str, folder: str, cache: Path) -> float:
    import os
    import resource

    home = str(cache if candidate == "remembered" else cache / "none" / os.urandom(4).hex())
    before = resource.getrusage(resource.RUSAGE_CHILDREN)
    subprocess.run(
        [sys.executable, __file__, candidate, folder], env={**os.environ, "XDG_CACHE_HOME": home}, check=True
    )
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    return after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime


if __name__ == "__main__":
    main()
