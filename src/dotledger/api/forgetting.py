"""Forgetting images, a person or batches: out of a ledger, and out of files made from it."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import UTC, date, datetime
from pathlib import Path

from dotledger.acting.derived_files import DerivedFiles, derived_files
from dotledger.core.arguments import whole_number
from dotledger.errors import ArgumentError
from dotledger.json_codec import AsData
from dotledger.ledger.data_removal import (
    Removal,
    RemovalTarget,
    check_nobody_sends,
    finish_removal,
    plan_removal,
    remove,
    removed_pattern,
)
from dotledger.ledger.ledger_access import Ledger, opened_ledger
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.name_search import files_of

__all__ = ["EARLIER", "Forgotten", "forget"]

PathLike = str | os.PathLike[str]
EARLIER = "an earlier removal"
"""What is removed where a call only finishes what a killed one left."""
_SHORTEST_NAME = 2
_MOST_BATCH = 1 << 31


@dataclass(frozen=True, kw_only=True)
class Forgotten(AsData):
    """What was removed, or would be; from `forget`.

    Attributes
    ----------
    done : bool
        False for a plan: nothing was changed.
    ledger : Removal
        What goes from the ledger, what stays, and where names are left.
    files : DerivedFiles
        The same of the files and folders given.
    """

    done: bool
    ledger: Removal
    files: DerivedFiles = field(default_factory=DerivedFiles)

    @property
    def clean(self) -> bool:
        """Whether none of the names is left where it was searched."""
        return not (self.ledger.left or self.files.held or self.files.unread)


def forget(
    ledger: PathLike | Ledger,
    images: PathLike | Iterable[PathLike] = (),
    *,
    person: str = "",
    batch: int | None = None,
    before: str | date | None = None,
    also: PathLike | Iterable[PathLike] = (),
    act: bool = False,
) -> Forgotten:
    """Remove images, a person or batches from a ledger for good, and from files made out of it.

    Answers, findings, notes, decisions, names, paths and digests go; calls, their times and their
    prices stay. Then the file is rewritten, so that its bytes do not hold what was removed, and
    searched. Originals are never touched, and neither are backups.

    Parameters
    ----------
    ledger : path, str or Ledger
        Nobody may be sending into it.
    images : path or iterable of path
        Names or paths of images as the ledger knows them. The same picture under other names goes
        too.
    person : str
        Of each image in which findings, of any reading, name the person, the kind that does so (all
        faces, say) becomes ``deleted`` and is measured no more. Every raw answer that holds the
        name goes, and the name is taken from decisions that the person made.
    batch : int, optional
        Everything that one batch holds.
    before : str or date, optional
        Everything of batches begun before this day or moment (ISO 8601; UTC where no zone is
        named).
    also : path or iterable of path
        Files, and folders with all below them: of tables with a column ``image`` the rows go, of
        folders of annotated or sorted copies the copies. Of whole batches only rows go that are
        known to be theirs. Other files that hold a name are listed.
        Verdicts that wait next to the ledger to be posted, and copies of it made before an upgrade,
        are looked at too.
    act : bool, default False
        Remove. Without it nothing is changed, and the result says what would be.

    Returns
    -------
    Forgotten
        With zeros if the ledger holds nothing of it.

    Raises
    ------
    ArgumentError
        If not exactly one of `images`, `person`, `batch` and `before` is given, an image or the
        batch is not in the ledger, a name is shorter than two letters, or a date cannot be read.
    GatherError
        If a file or folder of `also` does not exist.
    LedgerError
        If somebody is sending into the ledger, reads it all the while, or it cannot be rewritten.

    Notes
    -----
    A kill leaves the ledger as it was or with everything removed. Where it fell before the file was
    rewritten, the next call with `act` finishes that, one that names nothing too; files are done
    first, and are done again.

    Examples
    --------
    >>> import dotledger
    >>> plan = dotledger.forget("photos.ledger", "walk-02.jpg")
    >>> plan.done, plan.ledger.images, plan.ledger.answers
    (False, 1, 1)
    """
    places = [Path(one) for one in _listed(also)]
    if act and not (_listed(images) or person or batch is not None or before is not None):
        with opened_ledger(ledger, write=True) as store:
            if finish_removal(store):
                return Forgotten(done=True, ledger=Removal(what=EARLIER, done=True, finished=True))
    target = _target(images, person, batch, before, elsewhere=bool(places))
    with opened_ledger(ledger, write=act) as store:
        if act:
            check_nobody_sends(store, time.time())
            finish_removal(store)
        every = [*places, *_beside(store)]
        plan = plan_removal(store, target) if every or not act else None
        files = DerivedFiles()
        if plan is not None and every:  # before the ledger, which alone knows the names
            files = _of_files(store, target, plan, every, act=act)
        removal = plan if plan is not None and not act else remove(store, target)
    return Forgotten(done=act, ledger=removal, files=files)


def _of_files(
    ledger: LedgerStore, target: RemovalTarget, plan: Removal, places: list[Path], *, act: bool
) -> DerivedFiles:
    pattern = removed_pattern(target, plan)
    if pattern is None:
        return DerivedFiles()
    return derived_files(
        places,
        {*plan.names, *target.images},
        pattern,
        person=bool(target.person),
        batches=None if target.person or target.images else plan.batches,
        act=act,
        passed_over=files_of(ledger),
    )


def _beside(ledger: LedgerStore) -> list[Path]:
    """Return what we made next to a ledger's file: an outbox, and copies before upgrades."""
    if ledger.path is None:
        return []
    name = ledger.path.name
    return [
        path
        for path in sorted(ledger.path.absolute().parent.iterdir())
        if path.name == f"{name}.verdicts.jsonl" or path.name.startswith(f"{name}.version-")
    ]


def _listed(paths: PathLike | Iterable[PathLike]) -> list[str]:
    given = [paths] if isinstance(paths, str | os.PathLike) else list(paths)
    return [os.fspath(one) for one in given]


def _target(
    images: PathLike | Iterable[PathLike],
    person: str,
    batch: int | None,
    before: str | date | None,
    *,
    elsewhere: bool,
) -> RemovalTarget:
    names = tuple(dict.fromkeys(_listed(images)))
    given = {
        "images": bool(names),
        "person": bool(person),
        "batch": batch is not None,
        "before": before is not None,
    }
    if sum(given.values()) != 1:
        raise ArgumentError(
            "say what is to be removed, in one way",
            place="images",
            got=", ".join(name for name, there in given.items() if there) or "nothing",
            allowed=given,
        )
    for place, name in (
        *(("images", one) for one in names),
        *([("person", person)] if person else []),
    ):
        if len(name.strip()) < _SHORTEST_NAME:
            raise ArgumentError(
                "too short to search for: it would be found in too much",
                place=place,
                got=name,
                next_step="Give the whole name.",
            )
    return RemovalTarget(
        images=names,
        person=person.strip(),
        batch=None
        if batch is None
        else whole_number(batch, place="batch", least=1, most=_MOST_BATCH),
        before=None if before is None else _moment(before),
        elsewhere=elsewhere,
    )


def _moment(before: str | date) -> float:
    """Return a day or moment as seconds since 1970; without a zone it is UTC."""
    try:
        found = datetime.fromisoformat(before if isinstance(before, str) else before.isoformat())
    except ValueError:
        raise ArgumentError(
            "no date", place="before", got=before, next_step="Write it as 2026-01-31."
        ) from None
    return (found if found.tzinfo else found.replace(tzinfo=UTC)).timestamp()
