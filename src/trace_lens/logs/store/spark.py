"""Spark over the parts, where logs outgrow one machine: the same statements, put into its dialect.

The parts lie in a folder that all of Spark's machines reach. Asking takes `trace-lens[spark]` and a Java runtime.
Loading needs no Spark: parts are written by the embedded database, and what is kept beside them is read by it.
"""

from __future__ import annotations

import os
import sys
from collections.abc import Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

from trace_lens.logs.store.engine import COLUMNS, Given
from trace_lens.logs.store.manifest import StoreProblem

_TYPES = {"VARCHAR": "string", "BIGINT": "bigint", "TIMESTAMP": "timestamp_ntz", "VARCHAR[]": "array<string>"}


class Spark:
    """A session of Spark, begun when it is first asked, once for a process."""

    def __init__(self, master: str, folder: Path) -> None:
        self.master, self.folder = master, folder
        self._session: Any = None

    def close(self) -> None:
        """Nothing: the session ends with the process."""

    def ask(
        self, statement: str, parts: Sequence[Path], given: Mapping[str, Given] | None = None
    ) -> list[tuple[Any, ...]]:
        """The rows that a statement gives; the events of the parts are `events` in it. Raises StoreProblem."""
        session = self._opened()
        try:
            paths = map(str, parts)
            events = session.read.parquet(*paths) if parts else session.createDataFrame([], _schema(COLUMNS))
            events.createOrReplaceTempView("events")
            for name, rows in (given or {}).items():
                columns = list(zip(*(rows.columns[key] for key in rows.types), strict=True))
                session.createDataFrame(columns, _schema(rows.types)).createOrReplaceTempView(name)
            return [tuple(row) for row in session.sql(translated(statement)).collect()]
        except Exception as error:
            raise StoreProblem(
                f"Spark at {self.master} cannot read the store of logs in {self.folder} ({_reason(error)}); its "
                "machines must reach that folder under the same name. If the store is damaged, move it away and run "
                "trace-lens logs load again"
            ) from None

    def _opened(self) -> Any:
        if self._session is not None:
            return self._session
        try:
            from pyspark.sql import SparkSession
        except ImportError:
            raise StoreProblem("a store on Spark needs pyspark; install trace-lens[spark]") from None
        try:
            local = self.master.startswith("local")
            if local:
                os.environ.setdefault("SPARK_LOCAL_IP", "127.0.0.1")
                os.environ.setdefault("PYSPARK_PYTHON", sys.executable)
            maker = SparkSession.builder.master(self.master).appName("trace-lens")
            for key, value in (
                ("spark.ui.enabled", "false"),
                ("spark.sql.session.timeZone", "UTC"),
                ("spark.ui.showConsoleProgress", "false"),
                *([("spark.sql.shuffle.partitions", "4")] if local else []),
            ):
                maker = maker.config(key, value)
            self._session = maker.getOrCreate()
            self._session.sparkContext.setLogLevel("ERROR")
        except Exception as error:
            raise StoreProblem(
                f"Spark at {self.master} cannot be used ({_reason(error)}); it needs a Java runtime here, and a master "
                "that can be reached"
            ) from None
        return self._session


def _reason(error: BaseException) -> str:
    return str(error).strip().partition("\n")[0] or type(error).__name__


def _schema(types: Mapping[str, str]) -> str:
    return ", ".join(f"`{name}` {_TYPES[kind]}" for name, kind in types.items())


@lru_cache(maxsize=64)
def translated(statement: str) -> str:
    """A statement of DuckDB's SQL in that of Spark. Raises StoreProblem where nothing can translate it."""
    try:
        import sqlglot
    except ImportError:
        raise StoreProblem("a store on Spark needs sqlglot; install trace-lens[spark]") from None
    return sqlglot.transpile(statement, read="duckdb", write="spark")[0]
