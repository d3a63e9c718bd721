"""What a file of the demo is."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True)
class Capture:
    """One file of the demo; `arrived` is when it came, where the story knows (UTC)."""

    file: str
    data: bytes
    arrived: datetime | None = None
