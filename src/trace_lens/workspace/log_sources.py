"""Descriptions of log sources, `logs/NAME.toml`: which files, in which format, which column means what.

They are read only where logs are worked with, so that a diagnosis without logs does not pay for them.
"""

from __future__ import annotations

import glob
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from trace_lens.common.difference import nearest
from trace_lens.common.octets import as_utf8
from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.log_settings import LogSettings
from trace_lens.workspace.places import line_of
from trace_lens.workspace.problems import Problem, SettingsError, load_toml
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.seen_settings import SettingsSeen

if TYPE_CHECKING:
    from zoneinfo import ZoneInfo
from trace_lens.workspace.settings import read_table
from trace_lens.workspace.trusting import Trust, wrong_with

FOLDER = "logs"


class LogSource(NamedTuple):
    """One description. `id` is the stem of its file, by which events name it."""

    id: str
    file: str
    settings: LogSettings

    @property
    def name(self) -> str:
        """What people call it."""
        return self.settings.name or self.id

    @property
    def zone(self) -> ZoneInfo | None:
        """The zone of times that carry none."""
        from zoneinfo import ZoneInfo

        return ZoneInfo(self.settings.time_zone) if self.settings.time_zone else None

    @property
    def tells_status_only(self) -> bool:
        """Whether its outcomes are the statuses of a web server: such a log cannot say that somebody was let in."""
        return self.settings.format in ("combined", "w3c") and not (
            self.settings.outcomes.success or self.settings.outcomes.failure
        )

    def files_in(self, root: Path) -> list[Path]:
        """The files that it names, folders and globs opened, each once, in order; descriptions are no logs."""
        found: dict[Path, None] = {}
        for name in self.settings.files:
            found.update(dict.fromkeys(self.matches(root, name)))
        descriptions = {path.resolve() for path in (root / FOLDER).glob("*.toml")}
        return [path for path in found if path.suffix != ".toml" or path.resolve() not in descriptions]

    @staticmethod
    def matches(root: Path, name: str) -> list[Path]:
        """The regular files that one of its patterns stands for."""
        found: list[Path] = []
        for match in (Path(path) for path in sorted(glob.glob(str(root / name), recursive=True))):
            found += sorted(match.rglob("*")) if match.is_dir() else [match]
        return [path for path in found if path.is_file()]


def naming(workspace: Workspace, path: Path) -> LogSource | None:
    """The description that names a file. Raises SettingsError."""
    root, place = workspace.root, path.resolve()
    if root is None:
        return None
    named = (
        source
        for source in log_sources(workspace).values()
        if place in {file.resolve() for file in source.files_in(root)}
    )
    return next(named, None)


def save_description(root: Path, name: str, text: str) -> str:
    """Save a description under a name; its file. Raises FileExistsError where there is one, and OSError."""
    target = root / FOLDER / f"{name}.toml"
    target.parent.mkdir(exist_ok=True)
    with target.open("x", encoding="utf-8") as stream:
        stream.write(text)
    return f"{FOLDER}/{target.name}"


def log_sources(workspace: Workspace) -> dict[str, LogSource]:
    """The descriptions of a workspace. Raises SettingsError with everything that is wrong in any of them."""
    return workspace.once("log sources", lambda: _load(workspace))


def _load(workspace: Workspace) -> dict[str, LogSource]:
    if workspace.root is None:
        return {}
    problems: list[Problem] = []
    found = {}
    seen = SettingsSeen(workspace.root, FOLDER)
    for path in sorted((workspace.root / FOLDER).glob("*.toml")):
        file = f"{FOLDER}/{path.name}"
        try:
            text = as_utf8(path.read_bytes()).decode("utf-8-sig")
        except (OSError, UnicodeDecodeError) as error:
            problems.append(Problem(file, 1, "", f"cannot be read: {error}"))
            continue
        read = read_description(text, path.stem, file, problems, seen)
        if read:
            found[path.stem] = read
            problems += _unknown(read, text, workspace)
            problems += _leading_out(read, text, workspace.root, workspace.trust)
    if problems:
        raise SettingsError(problems)
    seen.keep()
    return found


def read_description(
    text: str, name: str, file: str, problems: list[Problem], seen: SettingsSeen | None = None
) -> LogSource | None:
    """One description; what is wrong in it is added to `problems`. One that was `seen` to be valid is not validated."""
    raw = load_toml(text, file, problems)
    if raw is None:
        return None
    if seen is None or not seen.valid(LogSettings.__name__, text):
        from trace_lens.workspace.validation import validate

        wrong = validate(LogSettings, raw, file, text)
        if wrong:
            problems += wrong
            return None
    return LogSource(name, file, read_table(LogSettings, raw))


def _leading_out(source: LogSource, text: str, root: Path, trust: Trust) -> Iterable[Problem]:
    """Files that a description names outside of the workspace, and that are not to be followed; each pattern once."""
    for name in source.settings.files:
        places = [*(root / name for _ in [0] if _climbs(name)), *source.matches(root, name)]
        wrong = next((words for place in places if (words := wrong_with(root, place, trust))), None)
        if wrong:
            yield Problem(source.file, line_of(text, ("files",)), "files", f"names {name}, which {wrong}")


def _climbs(name: str) -> bool:
    """Whether a pattern itself leads out: an absolute path, or one that goes up."""
    return Path(name).is_absolute() or ".." in Path(name).parts


def _unknown(source: LogSource, text: str, workspace: Workspace) -> Iterable[Problem]:
    """Providers and applications that a description names and that are not on record."""
    for key, value, known in (
        ("provider", source.settings.provider, workspace.providers),
        ("app", source.settings.app, workspace.apps),
    ):
        if value is not None and value not in known:
            folder = "providers" if key == "provider" else "apps"
            reason = f"names {value}, and there is no {folder}/{value}.toml"
            yield Problem(
                file=source.file,
                line=line_of(text, (key,)),
                key=key,
                reason=reason,
                nearest=nearest(value, sorted(known)),
            )
