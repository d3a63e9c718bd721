"""Whether a workspace may lead out of itself: to files elsewhere on this machine, or to a store on another one.

A workspace may have come with a ticket. Its settings name files, and whoever wrote them chose which; so what lies
outside is followed only where the user said so: on the command line, when asked, or once in the user's own
configuration.
"""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

import tomli

from trace_lens.workspace.own_files import config_file

HOW = "To allow it, add --trust-workspace to the command, or list this workspace under trusted_workspaces in"


class Trust:
    """What a workspace may lead to. `ask` asks the user, given what is named; None where nobody can be asked."""

    def __init__(self, *, everything: bool = False, ask: Callable[[str], bool] | None = None) -> None:
        self._everything = everything
        self._ask = ask
        self._answers: dict[str, bool] = {}

    @property
    def everything(self) -> bool:
        """Whether the user has said that all of it is to be trusted."""
        return self._everything

    def allows(self, what: str) -> bool:
        """Whether something outside of the workspace, told in words, may be followed."""
        if self._everything:
            return True
        if what not in self._answers:
            self._answers[what] = self._ask is not None and self._ask(what)
        return self._answers[what]


def trusted_by_user(root: Path) -> bool:
    """Whether the user's own configuration lists a workspace under `trusted_workspaces`."""
    try:
        told = tomli.loads(config_file().read_text("utf-8")).get("trusted_workspaces")
    except (OSError, RuntimeError, ValueError):  # no home, or nested too deep, among them
        return False
    listed = told if isinstance(told, list) else []
    here = root.resolve()
    return any(isinstance(name, str) and Path(name).expanduser().resolve() == here for name in listed)


def wrong_with(root: Path, path: Path, trust: Trust, folders: dict[str, str] | None = None) -> str | None:
    """What is wrong with a path that the settings lead to: outside of the workspace, or no regular file or folder.

    `folders` keeps where folders really are, for many questions in a row.
    """
    folders = {} if folders is None else folders
    try:
        held = folders.get(str(root)) or folders.setdefault(str(root), str(root.resolve()))
        mode = _plain_mode(path, held, folders)
        if mode is not None:
            return None if stat.S_ISREG(mode) or stat.S_ISDIR(mode) else "is no regular file"
        real = path.resolve()
        outside = not real.is_relative_to(held)
    except (OSError, RuntimeError, ValueError) as error:
        return f"cannot be followed: {error}"
    if outside and not trust.allows(f"{path}, a file outside of it" if path == real else f"{path}, which is {real}"):
        return f"is outside this workspace, so it was not read. {HOW} {config_words()}"
    try:
        mode = real.stat().st_mode
    except OSError:
        return None
    if not (stat.S_ISREG(mode) or stat.S_ISDIR(mode)):
        return "is no regular file"
    return None


def _plain_mode(path: Path, root: str, folders: dict[str, str]) -> int | None:
    """The mode of what is itself, by no link, in a folder inside of the workspace; None where that is not so."""
    folder, name = os.path.split(path)
    if name in ("", ".", ".."):
        return None
    if folder not in folders:
        folders[folder] = os.path.realpath(folder)
    if folders[folder] != root and not folders[folder].startswith(root.rstrip(os.sep) + os.sep):
        return None
    try:
        mode = os.lstat(path).st_mode
    except (OSError, ValueError):
        return None
    return None if stat.S_ISLNK(mode) else mode


def config_words() -> str:
    """The user's own configuration, as a message names it."""
    try:
        return str(config_file())
    except RuntimeError:
        return "the user's configuration"


def files_inside(root: Path, folder: str, pattern: str, trust: Trust) -> Iterator[tuple[Path, str | None]]:
    """The files of a folder of the workspace, each with what is wrong with following it, where something is."""
    for path in sorted((root / folder).glob(pattern)):
        yield path, wrong_with(root, path, trust)
