"""Sorting images into folders by what was found in them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

import numpy as np

from dotledger.core.tables.findings import Findings
from dotledger.errors import ArgumentError, DotLedgerError
from dotledger.files import safe_file_name, whole_file
from dotledger.images.gather import Gathered, Item

if TYPE_CHECKING:
    from dotledger.core.deciding.verdicts import Decisions
    from dotledger.core.tables.thresholds import Threshold

__all__ = ["HOW", "How", "Sorted", "places_by_label", "places_by_verdict", "sort_images"]

How = Literal["copy", "link", "list"]
HOW = ("copy", "link", "list")
"""Copies of the images, links to their files, or only the list of what would go where."""
NOTHING, UNDECIDED, WITHOUT = "nothing found", "undecided", "no answer"
"""Places of their own: a label of the same name gets another folder."""
Place = tuple[str, str]


@dataclass(frozen=True, kw_only=True)
class Sorted:
    """One image in one place.

    Attributes
    ----------
    image, place, why : str
        Why it is there.
    path : Path or None
        Where it is; None if it is only listed, or could not be written.
    state : str
        ``new``, ``there already``, ``listed``, or what went wrong.
    """

    image: str
    place: str
    why: str
    path: Path | None
    state: str


def places_by_label(
    findings: Findings,
    *,
    kind: str | None = None,
    threshold: Threshold = None,
    strongest: bool = False,
    least: float | None = None,
) -> dict[str, list[Place]]:
    """Return the places of each answered image by its labels; an image with two goes to both.

    Parameters
    ----------
    findings : Findings
        With a blank row for what was answered and holds nothing.
    kind : str, optional
        Only its labels.
    threshold : threshold, optional
        Findings below do not count.
    strongest : bool, default False
        Only the strongest finding of each image counts.
    least : float, optional
        With `strongest`: at least this, or the image is undecided.

    Returns
    -------
    dict of str to list of (place, why)
        ``nothing found`` or ``undecided`` where no finding counts.
    """
    if kind is not None:
        findings = findings.take(findings.kind.onto([kind]) == 0)
    had = set(findings.image.take(~findings.blank).used())
    kept = findings.cut(threshold)
    kept = kept.strongest(1, least=least) if strongest else kept
    best: dict[tuple[str, str], float] = {}
    rows = kept.take(~kept.blank)
    columns = (rows.image.values(), rows.label.values(), rows.confidence)
    for image, label, confidence in zip(*columns, strict=True):
        value = 2.0 if np.isnan(confidence) else float(confidence)
        best[image, label] = max(best.get((image, label), -1.0), value)
    found: dict[str, list[Place]] = {name: [] for name in findings.image.used()}
    for (image, label), value in sorted(best.items()):
        found[image].append((label, "asserted" if value > 1 else f"{value:.2f}"))
    for image, places in found.items():
        if not places:
            places.append((UNDECIDED, "nothing sure enough") if image in had else (NOTHING, ""))
    return found


def places_by_verdict(decisions: Decisions) -> dict[str, list[Place]]:
    """Return the place of each image by its verdict, with the reasons.

    Parameters
    ----------
    decisions : Decisions
        On the images.

    Returns
    -------
    dict of str to list of (place, why)
        One place each.
    """
    return {one.image: [(one.verdict, "; ".join(one.reasons))] for one in decisions}


def sort_images(
    gathered: Gathered,
    places: Mapping[str, Sequence[Place]],
    folder: Path,
    *,
    how: How = "copy",
) -> Iterator[Sorted]:
    """Yield each image with each of its places, as it is put there.

    Nothing is written outside the folder, or over an existing file unless it holds the same bytes;
    a second run adds nothing.

    Parameters
    ----------
    gathered : Gathered
        The images.
    places : mapping of str to sequence of (place, why)
        By image; those without go to ``no answer``.
    folder : Path
        Made if it is not there.
    how : {"copy", "link", "list"}
        Links need images that are files.

    Yields
    ------
    Sorted
        In the order of the images.

    Raises
    ------
    ArgumentError
        If `how` is another word.
    """
    if how not in HOW:
        raise ArgumentError("unknown way", place="how", got=how, allowed=HOW)
    mine = {item.name: places.get(item.name) or [(WITHOUT, "")] for item in gathered.items}
    names = _folder_names({place for given in mine.values() for place, _ in given})
    files = _apart(sorted(item.name for item in gathered.items), set())
    for item in gathered.items:
        for place, why in mine[item.name]:
            path, state = _put(item, folder / names[place] / files[item.name], how)
            yield Sorted(image=item.name, place=place, why=why, path=path, state=state)


def _folder_names(places: set[str]) -> dict[str, str]:
    """Return a safe folder name for each place; two places never fall together.

    Letter case does not tell folders apart everywhere.
    """
    own = {NOTHING: "nothing-found", UNDECIDED: "undecided", WITHOUT: "no-answer"}
    return own | _apart(sorted(places - set(own)), {name.casefold() for name in own.values()})


def _apart(names: Sequence[str], taken: set[str]) -> dict[str, str]:
    """Return a safe name of its own for each name."""
    found = {}
    for given in names:
        plain = safe_file_name(given)
        stem, dot, ending = plain.rpartition(".")
        name, number = plain, 2
        while name.casefold() in taken:
            name = f"{stem}-{number}.{ending}" if dot else f"{plain}-{number}"
            number += 1
        taken.add(name.casefold())
        found[given] = name
    return found


def _put(item: Item, path: Path, how: str) -> tuple[Path | None, str]:
    if how == "list":
        return None, "listed"
    try:
        if how == "link":
            return _linked(item, path)
        data = item.read()
        if path.exists() or path.is_symlink():
            same = path.is_file() and path.read_bytes() == data
            return (path, "there already") if same else (None, f"something else is there: {path}")
        path.parent.mkdir(parents=True, exist_ok=True)
        with whole_file(path) as draft:
            draft.write_bytes(data)
    except (DotLedgerError, OSError) as error:
        return None, str(error)
    return path, "new"


def _linked(item: Item, path: Path) -> tuple[Path | None, str]:
    target = Path(item.known_as)
    if not target.is_file():
        return None, "not a file, so that no link can lead to it"
    goal = target.resolve()
    if path.is_symlink() or path.exists():
        same = path.is_symlink() and path.resolve() == goal
        return (path, "there already") if same else (None, f"something else is there: {path}")
    path.parent.mkdir(parents=True, exist_ok=True)
    path.symlink_to(goal)
    return path, "new"
