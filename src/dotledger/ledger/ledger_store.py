"""Opening a ledger, and the few things everything else does with it."""

from __future__ import annotations

import os
import shlex
import sqlite3
import threading
import zlib
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager, suppress
from functools import lru_cache
from importlib import import_module
from operator import itemgetter
from typing import Any

from sqlalchemy import (
    Connection,
    CursorResult,
    Dialect,
    Select,
    Table,
    false,
    func,
    insert,
    select,
    update,
)
from sqlalchemy.exc import DatabaseError, DataError, IntegrityError, SQLAlchemyError, StatementError
from sqlalchemy.pool import PoolProxiedConnection
from sqlalchemy.sql.compiler import SQLCompiler

from dotledger.errors import LedgerError
from dotledger.ledger import ledger_schema as schema
from dotledger.ledger.ledger_places import FilePlace, ServerPlace, place_of, shown_address
from dotledger.ledger.ledger_views import make_views
from dotledger.ledger.postgresql_backend import server_engine, take_turn
from dotledger.ledger.sqlite_backend import (
    check_file,
    empty_log,
    explained,
    file_engine,
    identity,
    mark_file,
)

__all__ = ["LedgerStore", "RowRefused", "compress", "decompress", "shown_address"]

_WINDOW_BITS, _MEMORY_LEVEL = 14, 7


_AT_ONCE = 10_000
DAMAGED = b"(damaged in the ledger)"
TOO_LARGE = b"(larger in the ledger than any answer that is kept)"
MOST_ANSWER = 64 << 20
"""Bytes of one answer, unpacked: what is kept of a new one is half of that."""


def compress(answer: bytes) -> bytes:
    """Return an answer as it is stored: zlib, with little working memory to make ready.

    Most answers are a few kilobytes, for which that takes longer than the compressing.

    Returns
    -------
    bytes
        For `decompress`.
    """
    making = zlib.compressobj(1, zlib.DEFLATED, _WINDOW_BITS, _MEMORY_LEVEL)
    return making.compress(answer) + making.flush()


def decompress(stored: bytes) -> bytes:
    """Undo `compress`; what is damaged or too large becomes an answer that says so.

    Parameters
    ----------
    stored : bytes
        From `compress`.
    """
    # A ledger may be a stranger's: two megabytes can unpack to gigabytes.
    unpacking = zlib.decompressobj()
    try:
        answer = unpacking.decompress(stored, MOST_ANSWER)
    except zlib.error:
        return DAMAGED
    if unpacking.unconsumed_tail:
        return TOO_LARGE
    return answer if unpacking.eof else DAMAGED


class RowRefused(LedgerError):
    """The database works, and refuses what one of the rows holds."""


class LedgerStore:
    """What keeps a ledger: connections, transactions and rows; `Ledger` is what users hold.

    Parameters
    ----------
    where : path-like or str
        A file, or an address such as ``postgresql://…``.
    create : bool, default True
        Make a new ledger if there is none.
    any_version : bool, default False
        Open an earlier version too, to be upgraded.

    Attributes
    ----------
    where : str
        The path or address, without anything secret.
    path : Path or None
        None for a database server.
    version : int
        Of the tables.
    """

    def __init__(
        self,
        where: str | os.PathLike[str],
        *,
        create: bool = True,
        read_only: bool = False,
        any_version: bool = False,
    ) -> None:
        place = place_of(where)
        self.where = place.shown
        self.read_only = read_only
        self.path = place.path if isinstance(place, FilePlace) else None
        self._hidden = place.hidden if isinstance(place, ServerPlace) else ()
        if self.path is not None:
            check_file(self.path, create=create and not read_only)
        self._file = before = identity(self.path)
        self._engine = (
            server_engine(place) if isinstance(place, ServerPlace) else file_engine(place)
        )
        self._writer = self._engine.execution_options(dotledger_write=True)
        with self._mapped():
            self._check(create=create and not read_only, any_version=any_version)
        self._file = before or identity(self.path)
        self._asker: PoolProxiedConnection | None = None
        self._asking = threading.Lock()
        self._check_same_file()

    def _check(self, *, create: bool, any_version: bool) -> None:
        """Make the tables if there are none, and refuse another version."""
        with self._engine.connect() as connection:
            tables = self._engine.dialect.get_table_names(connection)
        if "about" not in tables and (tables or not create):
            raise LedgerError(
                "not a Dot Ledger database",
                place=self.where,
                next_step="Name another file: `ledger=FILE`.",
            )
        if "about" not in tables:
            self._make()
        self._check_tables()
        with self._engine.connect() as connection:
            version = connection.scalar(
                select(schema.about.c.value).where(schema.about.c.name == "version")
            )
        self.version = _number_of(version)
        earlier = 1 <= self.version < schema.VERSION
        if self.version != schema.VERSION and not (earlier and any_version):
            raise LedgerError(
                "the ledger is of another version",
                place=self.where,
                got=version,
                allowed=[str(schema.VERSION)],
                next_step=_version_step(self.version, self.where),
            )
        if not earlier:
            self._check_columns()

    def _check_tables(self) -> None:
        """Refuse a ledger whose tables include a view: reading one may never end."""
        with self._engine.connect() as connection:
            views = set(self._engine.dialect.get_view_names(connection))
        instead = sorted(views & {table.name for table in schema.metadata.sorted_tables})
        if instead:
            raise LedgerError(
                f"the ledger has a view instead of the table {instead[0]}",
                place=self.where,
                next_step="It was not made by Dot Ledger: do not use it.",
            )

    def _check_columns(self) -> None:
        """Refuse a ledger that says it is of this version and lacks a part of it."""
        for table in schema.metadata.sorted_tables:
            try:
                with self._engine.connect() as connection:
                    connection.execute(select(table).where(false()))
            except DatabaseError as error:
                raise LedgerError(
                    f"the ledger's table {table.name} lacks something ({_first_line(error)})",
                    place=self.where,
                    next_step="Something else changed this file: restore it from a copy.",
                ) from error

    def _make(self) -> None:
        with self._writer.begin() as connection:
            take_turn(connection)
            schema.metadata.create_all(connection)
            if not connection.scalar(select(func.count()).select_from(schema.about)):
                make_views(connection)
                mark_file(connection)
                row = {"name": "version", "value": str(schema.VERSION)}
                connection.execute(insert(schema.about), [row])

    def __enter__(self) -> LedgerStore:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __repr__(self) -> str:
        return f"<LedgerStore {self.where}>"

    def close(self) -> None:
        """Let go of the database."""
        if self._asker is not None:
            self._asker.close()
            self._asker = None
        self._engine.dispose()

    @contextmanager
    def _mapped(self) -> Iterator[None]:
        """Turn database errors into ours."""
        try:
            yield
        except (DataError, IntegrityError) as error:
            raise RowRefused(
                f"a row is refused ({_first_line(error)})", place=self.where
            ) from error
        except DatabaseError as error:
            # A file that went is "disk I/O error" or "unable to open" to SQLite, by chance.
            self._check_same_file(error)
            raise explained(error, self.where, self._masked(str(error.orig))) from error
        except (UnicodeError, OverflowError, StatementError) as error:
            what = f"a row cannot be written ({type(error).__name__})"
            raise RowRefused(what, place=self.where) from error
        except SQLAlchemyError as error:
            reason = self._masked(str(error))
            raise LedgerError(f"the ledger cannot be used ({reason})", place=self.where) from error

    def _masked(self, text: str) -> str:
        """Cover what may be secret in a driver's own words: it may take an address apart oddly."""
        for piece in self._hidden:
            text = text.replace(piece, "***")
        return text.partition("\n")[0]

    @contextmanager
    def writing(self) -> Iterator[Connection]:
        """Give a connection in one transaction: all of it is kept, or nothing.

        Raises
        ------
        LedgerError
            If the database cannot be written: full disk, read-only, locked for too long.
        """
        if self.read_only:
            raise LedgerError(
                "the ledger cannot be written: it was opened for reading only", place=self.where
            )
        with self._mapped(), self._writer.begin() as connection:
            take_turn(connection)
            yield connection
            self._check_same_file()

    def _check_same_file(self, cause: Exception | None = None) -> None:
        """Refuse to go on with a file that is no longer where it was: it would be lost."""
        if self.path is not None and self._file and identity(self.path) != self._file:
            raise LedgerError(
                "the ledger's file was removed or replaced while it was open",
                place=self.where,
                next_step="Put it back if it was moved; then send again.",
            ) from cause

    def connection(self) -> Connection:
        """Return a connection that nobody else uses, each statement by itself; to be closed."""
        return self._engine.connect().execution_options(isolation_level="AUTOCOMMIT")

    @contextmanager
    def reading(self) -> Iterator[Connection]:
        """Give a connection for reading.

        Raises
        ------
        LedgerError
            If the database cannot be read.
        """
        with self._mapped(), self._engine.connect() as connection:
            yield connection

    def ask(self, compiled: SQLCompiler, values: dict[str, Any]) -> list[Any]:
        """Return the rows of a small question that is put for every image.

        A file is asked by one connection that stays open, each time outside a transaction, so that
        it sees what others wrote: a new connection takes twenty times as long.
        """
        if self.path is not None:
            with suppress(sqlite3.Error), self._asking:
                if self._asker is None:
                    self._asker = self._engine.raw_connection()
                own: Any = self._asker.driver_connection
                given = tuple(values[name] for name in compiled.positiontup or ())
                return own.execute(compiled.string, given).fetchall()
        # Whatever went wrong is said in our words by the usual way.
        with self.reading() as connection:
            return list(run_compiled(connection, compiled, values).all())

    def rows(self, query: Select[Any]) -> Iterator[tuple[Any, ...]]:
        """Yield the rows of a large question as the driver gives them: names and types cost.

        Values come as they are stored; columns of JSON as text.
        """
        options = {"literal_binds": True}
        statement = str(query.compile(dialect=self.dialect, compile_kwargs=options))
        with self.reading() as connection:
            cursor = connection.connection.cursor()
            try:
                cursor.execute(statement)
                while rows := cursor.fetchmany(_AT_ONCE):
                    yield from rows
            except self.dialect.loaded_dbapi.Error as error:  # the driver's own: nobody maps it
                problem = DatabaseError(statement, None, error)
                raise explained(problem, self.where, self._masked(str(error))) from error
            finally:
                cursor.close()

    def rewrite(self, tables: Sequence[str]) -> None:
        """Write the database anew, so that free pages and statistics hold no removed row.

        Parameters
        ----------
        tables : sequence of str
            All of the ledger's; a server rewrites each by itself.

        Raises
        ------
        LedgerError
            If others have it open, or there is no room for a second copy.
        """
        if self.path is not None:
            with self._mapped_driver() as own:
                empty_log(own, self.where)
                own.execute("VACUUM")
                empty_log(own, self.where)
            return
        with self._mapped(), self.connection() as connection:
            for name in tables:
                connection.exec_driver_sql(f"VACUUM (FULL, ANALYZE) {name}")

    def empty_log(self) -> None:
        """Bring what a file's log holds into the file, and cut the log; a server does it itself."""
        if self.path is not None:
            with self._mapped_driver() as own:
                empty_log(own, self.where)

    @contextmanager
    def _mapped_driver(self) -> Iterator[sqlite3.Connection]:
        """Give a file's own connection outside of any transaction, its errors in our words."""
        pooled = self._engine.raw_connection()
        own: Any = pooled.driver_connection
        try:
            yield own
        except sqlite3.Error as error:
            raise explained(DatabaseError("", None, error), self.where, str(error)) from error
        finally:
            pooled.close()

    @property
    def dialect(self) -> Dialect:
        """How this database is spoken to; of SQLAlchemy."""
        return self._engine.dialect

    def change(self, table: Table, row_id: int, **values: Any) -> None:
        """Change columns of the row with this id."""
        with self.writing() as connection:
            connection.execute(update(table).where(table.c.id == row_id).values(**values))


def _number_of(version: str | None) -> int:
    plain = version is not None and version.isascii() and version.isdigit() and len(version) < 9
    return int(version or 0) if plain else 0


def _version_step(version: int, where: str) -> str:
    if version > schema.VERSION:
        return "It was made by a newer Dot Ledger: pip install --upgrade dot-ledger."
    if version > 0:
        return f"Run: dotledger doctor --upgrade --ledger {shlex.quote(where)}"
    return "It was not made by Dot Ledger, or is damaged: restore it from a copy."


def _first_line(error: DatabaseError) -> str:
    return str(error.orig).partition("\n")[0][:200]


def in_parts(values: Sequence[Any], size: int = 500) -> Iterable[Sequence[Any]]:
    """Yield `values` in parts that a database accepts as parameters."""
    return (values[start : start + size] for start in range(0, len(values), size))


# Rows go in as tuples, by statements compiled once for each database; a row that may be there
# already (an image, an answer) is left to the database, which keeps the first.
def insert_rows(
    connection: Connection,
    table: Table,
    names: tuple[str, ...],
    rows: Sequence[tuple[Any, ...]],
    *,
    skip_known: bool = False,
) -> None:
    """Insert rows given as tuples in the order of `names`; see `run_many`.

    With `skip_known`, rows whose key the table holds already are left out.
    """
    if rows:
        compiled = _insertion(connection.dialect, table, names, skip_known=skip_known)
        run_many(connection, compiled, names, rows)


@lru_cache(maxsize=64)
def _insertion(
    dialect: Dialect, table: Table, names: tuple[str, ...], *, skip_known: bool
) -> SQLCompiler:
    statement: Any = insert(table)
    if skip_known:
        own = import_module(f"sqlalchemy.dialects.{dialect.name}")
        statement = own.insert(table).on_conflict_do_nothing()
    return statement.compile(dialect=dialect, column_keys=list(names))


def run_many(
    connection: Connection,
    compiled: SQLCompiler,
    names: tuple[str, ...],
    rows: Sequence[tuple[Any, ...]],
) -> None:
    """Run a compiled statement for many rows, without the cost of checking each value.

    No value may need conversion: columns of type JSON take JSON text here.
    """
    order = tuple(compiled.positiontup or ()) if compiled.positional else None
    values: Any = rows
    if order is None:
        values = [dict(zip(names, row, strict=True)) for row in rows]
    elif order != names:
        reordered = itemgetter(*map(names.index, order))
        values = [reordered(row) for row in rows]
    connection.exec_driver_sql(compiled.string, values)


def run_compiled(
    connection: Connection, compiled: SQLCompiler, values: dict[str, Any]
) -> CursorResult[Any]:
    """Run a compiled statement for one set of values; see `run_many`."""
    order = tuple(compiled.positiontup or ()) if compiled.positional else None
    given: Any = values if order is None else tuple(values[name] for name in order)
    return connection.exec_driver_sql(compiled.string, given)
