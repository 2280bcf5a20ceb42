"""Findings out of a ledger, with what their batch and its description know about them."""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path

from dotledger.core.kinds import check_kinds
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_origin import Origin
from dotledger.core.tables.threshold_values import Threshold
from dotledger.errors import DescriptionError
from dotledger.images.image_gathering import Item
from dotledger.ledger.batch_queries import Batch, Sent, find_batch, kept_sizes
from dotledger.ledger.finding_queries import findings_in_parts, have_details, load_findings
from dotledger.ledger.ledger_access import Ledger, opened_ledger
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import versions_of
from dotledger.services.service_description import Description, stored_description

__all__ = ["findings_and_sizes", "findings_by_parts", "findings_of", "kept_items"]

_SIDES = ("width", "height", "sent_width", "sent_height", "orientation")
Place = Ledger | LedgerStore | str | os.PathLike[str]


def findings_of(
    ledger: Place,
    *,
    batch: int | None = None,
    service: str | None = None,
    reading: int | None = None,
    kinds: Sequence[str] | None = None,
    threshold: Threshold = None,
    round: str | None = None,
) -> Findings:
    """Return findings out of a ledger.

    Parameters
    ----------
    ledger : Ledger or path
        Not made if there is none.
    batch : int, optional
        By default the newest batch.
    service : str, optional
        The newest batch of this service.
    reading : int, optional
        By default the batch's newest reading; see `reread`.
    kinds : sequence of str, optional
        By default every kind that was asked for.
    threshold : float, str or mapping, optional
        Leave out findings below it: a number from 0 to 1, a word of the service's own scale, or
        one of these by kind, label or ``kind:label``.
    round : str, optional
        The batch of this round; see `send`.

    Returns
    -------
    Findings
        With a blank row for every image and kind that was answered and holds nothing. Their
        `origin` names the batch, its floor and its words, and what `threshold` removed.

    Raises
    ------
    LedgerError
        If there is no such ledger or batch.
    ArgumentError
        If `threshold` or a kind is out of range or not known.

    Examples
    --------
    >>> import dotledger
    >>> faces = dotledger.findings_of("photos.ledger", kinds=["face"], threshold=0.5)
    >>> faces.origin.service, sorted(faces.label.used())
    ('flint', ['', 'face'])
    """
    wanted = None if kinds is None else check_kinds(kinds, place="kinds")
    with opened_ledger(ledger) as opened:
        found = find_batch(opened, batch=batch, service=service, reading=reading, round=round)
        table = load_findings(opened, found, kinds=wanted)
        versions = tuple(versions_of(opened, found))
    return _with_origin(table, found, versions).cut(threshold)


@contextmanager
def findings_by_parts(
    ledger: Place,
    *,
    batch: int | None = None,
    service: str | None = None,
    reading: int | None = None,
    kinds: Sequence[str] | None = None,
    threshold: float | str | None = None,
) -> Iterator[tuple[Iterator[Findings], bool]]:
    """Give what `findings_of` returns in parts of some thousand images, the ledger open meanwhile.

    Rows that a threshold left blank stand at the end of each part.

    Parameters
    ----------
    ledger : Ledger or path
        Not made if there is none.
    batch, service, reading, kinds
        See `findings_of`.
    threshold : float or str, optional
        One for all findings; those by kind or label need the whole table.

    Yields
    ------
    tuple of iterator of Findings, and bool
        The parts in order, and whether any has details.

    Raises
    ------
    LedgerError
        If there is no such ledger or batch.
    ArgumentError
        If `threshold` or a kind is out of range or not known.
    """
    wanted = None if kinds is None else check_kinds(kinds, place="kinds")
    with opened_ledger(ledger) as opened:
        found = find_batch(opened, batch=batch, service=service, reading=reading)
        parts = findings_in_parts(opened, found, kinds=wanted)
        versions = tuple(versions_of(opened, found))
        cut = (_with_origin(part, found, versions).cut(threshold) for part in parts)
        yield cut, have_details(opened, found)


def findings_and_sizes(
    ledger: Place, *, batch: int | None = None, service: str | None = None
) -> tuple[Findings, dict[str, dict[str, float]]]:
    """Return the findings of a batch, and by name ``width`` and ``height`` of its images.

    Also ``sent_width`` and ``sent_height``, of what went out, and the EXIF ``orientation``.

    Returns
    -------
    tuple of Findings and dict
        In pixels of the upright original.

    Raises
    ------
    LedgerError
        If there is no such ledger or batch.
    """
    with opened_ledger(ledger) as opened:
        found = find_batch(opened, batch=batch, service=service)
        kept = kept_sizes(opened, found)
        table = load_findings(opened, found)
        versions = tuple(versions_of(opened, found))
    sizes = {name: {side: of[side] for side in _SIDES} for name, of in kept.items()}
    return _with_origin(table, found, versions), sizes


def kept_items(sent: Iterable[Sent], ledger: LedgerStore) -> list[Item]:
    """Return the images of a batch to be read from where they were sent from.

    Parameters
    ----------
    sent : iterable of Sent
        From `sent_images`.
    ledger : LedgerStore
        Theirs. Paths that were given relative to some folder are looked for next to it, too.

    Returns
    -------
    list of Item
        In the same order. Reading one that is gone, or holds other bytes than were sent, raises
        OSError: boxes would lie elsewhere on it.
    """
    home = None if ledger.path is None else ledger.path.absolute().parent
    return [Item(name=one.name, where=one.path, fetch=_as_sent(one, home)) for one in sent]


def _as_sent(one: Sent, home: Path | None) -> Callable[[], bytes]:
    def fetch() -> bytes:
        if not one.path:
            raise OSError("it was given as bytes: name the images")
        changed = False
        for path in _places(one.path, home):
            try:
                data = Item(name=one.name, where=path).read()
            except (FileNotFoundError, NotADirectoryError):
                continue
            # Its bytes tell whether it is the one, wherever it lies.
            if not one.sha or hashlib.sha256(data).hexdigest() == one.sha:
                return data
            changed = True
        if changed:
            raise OSError("changed since it was sent: its boxes would lie elsewhere")
        raise OSError(f"not at {one.path} any more")

    return fetch


def _places(path: str, home: Path | None) -> Iterator[str]:
    """Yield where a file may be: as it was given, or by each end of its path next to the ledger."""
    yield path
    parts = Path(path).parts
    for start in range(len(parts)) if home is not None else ():
        if parts[start] not in ("/", ".."):
            yield str(home.joinpath(*parts[start:]))  # type: ignore[union-attr]


def asked_settings(batch: Batch) -> Mapping[str, str]:
    """Return the settings that a batch was asked with; see `Description.asked_with`.

    Parameters
    ----------
    batch : Batch
        Of a ledger. If its description cannot be used any more, all its settings are returned.
    """
    return _settings(batch, _described(batch))


def _settings(batch: Batch, described: Description | None) -> Mapping[str, str]:
    if described is None:
        return batch.settings
    # People are asked with what no description declares: their questions.
    known = described.connect.settings
    more = {name: value for name, value in batch.settings.items() if name not in known}
    return {**described.asked_with, **more}


def _described(batch: Batch) -> Description | None:
    try:
        return stored_description(batch.description)
    except DescriptionError:  # of an earlier version, and not to be used any more
        return None


def _with_origin(table: Findings, batch: Batch, versions: tuple[str, ...]) -> Findings:
    described = _described(batch)
    origin = Origin(
        service=batch.service,
        batch=batch.id,
        reading=batch.reading,
        round=batch.round,
        sent=batch.started,
        settings=_settings(batch, described),
        versions=versions,
        floor=batch.floor,
        smallest_face=described.limits.smallest_face if described else None,
        words=described.words if described else {},
        shown=described.shown if described else (),
    )
    return replace(table, origin=origin)
