"""Captures of what was tried live, kept in the workspace for the user only: redacted, unless they are wanted whole."""

from __future__ import annotations

import secrets
from datetime import UTC, datetime
from pathlib import Path

from trace_lens.diagnosis.judging import Options
from trace_lens.handover.redaction.copying import Redaction
from trace_lens.workspace.own_files import own_folder, write_privately
from trace_lens.workspace.records import Workspace
from trace_lens.workspace.sources import SourceFile


class NotKept(Exception):
    """A capture could not be kept; the message says why."""


def keep_capture(
    source: SourceFile, kind: str, workspace: Workspace, options: Options, file: Path | None, *, whole: bool
) -> Path:
    """Write a capture to a file, or into a folder of its own for its kind; its absolute path. Raises NotKept."""
    assert workspace.root is not None
    folder = own_folder(workspace.root) / kind / f"{datetime.now(UTC):%Y%m%dT%H%M%S.%fZ}"
    try:
        folder.parent.mkdir(mode=0o700, exist_ok=True)
        folder.mkdir(mode=0o700)
        data = source.data or b""
        if not whole:
            copies = Redaction([source], workspace, options, secrets.token_bytes(32)).write(
                folder, with_settings=False, now=options.now
            )
            if copies.leaks or not copies.files:
                raise NotKept("The capture was not written: it could not be redacted. --reveal writes it whole.")
            data = (folder / copies.files[0].written).read_bytes()
        path = file or folder / source.name
        write_privately(path, data)
    except OSError as error:
        raise NotKept(f"The capture could not be written: {error.strerror or error}.") from None
    return path.resolve()
