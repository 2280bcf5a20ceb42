"""Reads whole columns of a SQLite file in a process of its own; `ledger.bulk_columns` starts it.

Two copies of SQLite in one process undo each other's locks (https://www.sqlite.org/howtocorrupt.html,
2.2.1), and the driver that reads columns brings a copy of its own. In another process it can do no
harm. Nothing else of the library is loaded here. Standard input is JSON: the file's address, the
queries, and whether they are answered at once or one after another; standard output is one Arrow
stream.
"""

from __future__ import annotations

import json
import sys
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

__all__ = ["main"]

_AT_ONCE = "65536"
_BUSY = 30_000
"""Milliseconds to wait while another connection opens or closes the file."""


def main() -> None:
    """Answer one request."""
    import pyarrow
    from adbc_driver_sqlite import dbapi

    asked = json.load(sys.stdin)

    def read(query: str) -> Any:
        with dbapi.connect(asked["address"]) as connection, connection.cursor() as cursor:
            cursor.execute(f"PRAGMA busy_timeout={_BUSY}")
            cursor.fetchall()
            cursor.adbc_statement.set_options(**{"adbc.sqlite.query.batch_rows": _AT_ONCE})
            cursor.execute(query)
            return cursor.fetch_arrow_table()

    if asked["in_turn"]:
        _in_turn(map(read, asked["queries"]))
        return
    with ThreadPoolExecutor(len(asked["queries"])) as pool:
        table = pyarrow.concat_tables(pool.map(read, asked["queries"]))
    with pyarrow.ipc.new_stream(sys.stdout.buffer, table.schema) as out:
        out.write_table(table)


def _in_turn(tables: Iterator[Any]) -> None:
    """Write one answer after another: whoever reads slowly makes us wait, and memory stays flat."""
    import pyarrow

    first = next(tables)
    with pyarrow.ipc.new_stream(sys.stdout.buffer, first.schema) as out:
        out.write_table(first)
        for table in tables:
            out.write_table(table)


if __name__ == "__main__":
    main()
