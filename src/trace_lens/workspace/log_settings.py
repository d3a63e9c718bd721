"""The shape of `logs/NAME.toml`: one record a table, as those of `settings`, and what is demanded of single values."""

from collections.abc import Callable
from typing import Annotated, Any, Literal

from trace_lens.common.tuples import NamedTuple
from trace_lens.workspace.settings import CHARACTER, ENCODING, ONE_OR_MORE, ZONE

FORMATS = ("csv", "jsonl", "json", "ocsf", "syslog", "w3c", "combined", "pairs", "parquet")
ROLES = ("provider", "application", "gateway")
OneOrMore = Annotated[tuple[str, ...], ONE_OR_MORE]
Stage = Literal[
    "readable", "answered", "delivered", "authentic", "intended", "current", "identified", "entitled", "admitted"
]


class LogFields(NamedTuple):
    """`[fields]`: the column, JSON path or syslog parameter of each thing that an event tells.

    `time` may be a list of columns: a date and a time of day, which are read with a blank between them.
    """

    time: str | list[str] | None = None
    user: str | None = None
    app: str | None = None
    outcome: str | None = None
    code: str | None = None
    reason: str | None = None
    ip: str | None = None
    ids: OneOrMore = ()


class LogOutcomes(NamedTuple):
    """`[outcomes]`: the words for each outcome; they match case folded."""

    success: OneOrMore = ()
    failure: OneOrMore = ()


class LogCode(NamedTuple):
    """One of `[codes]`: what a code of that system means, at which stage, and whose side it is."""

    means: str
    stage: Stage | None = None
    side: Literal["application", "provider", "user", "network", "both"] | None = None


class LogSettings(NamedTuple):
    """`logs/NAME.toml`."""

    role: Literal["provider", "application", "gateway"]
    format: Literal["csv", "jsonl", "json", "ocsf", "syslog", "w3c", "combined", "pairs", "parquet"]
    name: str | None = None
    provider: str | None = None
    app: str | None = None
    files: OneOrMore = ()
    time_zone: Annotated[str | None, ZONE] = None
    time_format: str | None = None
    time_unit: Literal["s", "ms", "us", "ns"] | None = None
    delimiter: Annotated[str | None, CHARACTER] = None
    encoding: Annotated[str | None, ENCODING] = None
    rows: str | None = None
    day_first: bool = False
    fields: LogFields = LogFields()
    outcomes: LogOutcomes = LogOutcomes()
    codes: dict[str, LogCode] = {}  # noqa: RUF012  an empty default that nothing writes to


def one_owner(read: Any) -> Any:
    """A source belongs to one side, or to several. Raises ValueError."""
    if read.provider and read.app:
        raise ValueError("provider and app exclude each other: a source belongs to one of them, or to several apps")
    return read


WHOLE: dict[Any, Callable[[Any], Any]] = {LogSettings: one_owner}
"""What is demanded of a whole table."""
