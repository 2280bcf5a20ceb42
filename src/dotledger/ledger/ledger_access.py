"""A ledger as users hold it: what it knows, and nothing of how it is kept."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import Any

from dotledger.ledger.answer_queries import raw_answers
from dotledger.ledger.batch_queries import Batches, batches, failures, find_batch, sent_images
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import Months, usage
from dotledger.safe_files import safe_file_name, whole_file

__all__ = ["Ledger", "opened_ledger", "store_of"]

PathLike = str | os.PathLike[str]


class Ledger:
    """A ledger, named by a path or a database address; open until `close`, or for a ``with``.

    Parameters
    ----------
    where : path or str
        A file, or an address such as ``postgresql://…``.
    create : bool, default True
        Make a new ledger if there is none.
    read_only : bool, default False
        Refuse everything that would write.

    Raises
    ------
    LedgerError
        If there is none and `create` is false, if it is not a Dot Ledger database or one of another
        version, or if it cannot be written.
    MissingExtra
        If the driver of a database address is not installed.

    Examples
    --------
    >>> import dotledger
    >>> with dotledger.Ledger("photos.ledger", create=False) as ledger:
    ...     [batch.service for batch in ledger.batches()], ledger.usage()[0].calls > 30
    (['flint'], True)
    """

    def __init__(self, where: PathLike, *, create: bool = True, read_only: bool = False) -> None:
        self._store = LedgerStore(where, create=create, read_only=read_only)

    @property
    def where(self) -> str:
        """The path or address, without anything secret."""
        return self._store.where

    @property
    def path(self) -> Path | None:
        """The file; None for a database server."""
        return self._store.path

    @property
    def version(self) -> int:
        """The version of its tables."""
        return self._store.version

    def batches(self) -> Batches:
        """Return every batch, oldest first.

        Returns
        -------
        list of Batch
            With service, kinds, settings, images, times and the newest reading; empty for a new
            ledger. A table in a notebook.
        """
        return batches(self._store)

    def usage(self) -> Months:
        """Return calls and money by service and month (UTC), services by name, months in order.

        Returns
        -------
        list of Month
            One for each service and month; empty for a new ledger.
        """
        return usage(self._store)

    def failures(
        self, *, batch: int | None = None, service: str | None = None
    ) -> list[tuple[str, str, str, str]]:
        """Return what is unread, failed or refused.

        Parameters
        ----------
        batch, service
            Which batch; by default the newest, if there is one service only.

        Returns
        -------
        list of (image, kind, outcome, reason)
            In the batch's order; empty if everything was read.

        Raises
        ------
        LedgerError
            If there is no such batch, or several services and none is named.

        Examples
        --------
        >>> import dotledger
        >>> with dotledger.Ledger("photos.ledger") as ledger:
        ...     sorted({image for image, *_ in ledger.failures()})
        ['damaged-01.jpg', 'tiny-01.png']
        """
        return failures(self._store, find_batch(self._store, batch=batch, service=service))

    def answers(
        self,
        *,
        batch: int | None = None,
        service: str | None = None,
        folder: PathLike | None = None,
    ) -> Iterator[tuple[str, str, bytes]]:
        """Yield (image, call, answer byte for byte) of a batch, in its order.

        Parameters
        ----------
        batch, service
            Which batch; by default the newest, if there is one service only.
        folder : path, optional
            Write each answer there too, as ``IMAGE.CALL.json``, whole or not at all; names are
            made harmless.

        Raises
        ------
        LedgerError
            If there is no such batch, or several services and none is named.
        OSError
            If the folder cannot be written.

        Examples
        --------
        >>> import dotledger
        >>> with dotledger.Ledger("photos.ledger") as ledger:
        ...     image, call, answer = next(ledger.answers())
        >>> call, answer[:1]
        ('view', b'{')
        """
        found = find_batch(self._store, batch=batch, service=service)
        names = {sent.position: sent.name for sent in sent_images(self._store, found)}
        for position, call, answer in raw_answers(self._store, found, list(names)):
            if folder is not None:
                name = f"{safe_file_name(names[position])}.{safe_file_name(call)}.json"
                with whole_file(Path(folder) / name) as draft:
                    draft.write_bytes(answer)
            yield names[position], call, answer

    def __enter__(self) -> Ledger:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def __repr__(self) -> str:
        return f"<Ledger {self.where}>"

    def _repr_html_(self) -> str:
        """Show the batches in a notebook."""
        return self.batches()._repr_html_()

    def close(self) -> None:
        """Let go of the database; what is written is kept."""
        self._store.close()


def store_of(ledger: Any) -> Any:
    """Return what keeps a `Ledger`; a path, address or store as it is."""
    return ledger._store if isinstance(ledger, Ledger) else ledger


def opened_ledger(
    ledger: Any, *, create: bool = False, write: bool = False
) -> AbstractContextManager[LedgerStore]:
    """Return a ledger to use in a ``with``: one that was open before stays open after.

    Parameters
    ----------
    create : bool, default False
        Make a new one if there is none.

    Raises
    ------
    LedgerError
        If there is no such ledger, or it cannot be used.
    """
    store = store_of(ledger)
    if isinstance(store, LedgerStore):
        return nullcontext(store)
    return LedgerStore(store, create=create, read_only=not write)
