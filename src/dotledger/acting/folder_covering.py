"""Covering whole folders of images: new ones next to the originals, and what is still open."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from dotledger.acting.face_covering import Covered, cover, open_boxes, share_covered
from dotledger.core.kinds import ANSWERED
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import DotLedgerError
from dotledger.images.image_gathering import Gathered, Item
from dotledger.safe_files import whole_file

__all__ = ["CoveredImage", "StillFound", "cover_all", "still_found"]


@dataclass(frozen=True, kw_only=True)
class CoveredImage:
    """One image of many.

    Attributes
    ----------
    name : str
        Of the image.
    path : Path or None
        The new image; None if none was written.
    covered : int
        How many findings were covered.
    left_open : tuple of (label, box, share covered)
        Annotated things that are still seen; empty without annotations.
    annotated : int or None
        Annotated things of the kind in this image; None where no annotation covers it for the
        kind, so that nobody can tell what is left open.
    below : int
        Findings that a threshold left open.
    removed : tuple of str
        What was taken out of the metadata.
    boxes : tuple of (x0, y0, x1, y1)
        The covers, in pixels of the upright image.
    problem : str
        Why nothing was written; empty if something was.
    """

    name: str
    path: Path | None
    covered: int = 0
    left_open: tuple[tuple[str, tuple[float, ...], float], ...] = ()
    annotated: int | None = None
    below: int = 0
    removed: tuple[str, ...] = field(default=())
    boxes: tuple[tuple[int, int, int, int], ...] = ()
    problem: str = ""


@dataclass(frozen=True, kw_only=True)
class StillFound:
    """What a service still finds in a covered image.

    Attributes
    ----------
    name : str
        Of the image.
    seen : tuple of (confidence, box, where)
        ``under a cover`` if most of the box is, else ``elsewhere``: one that was not covered, or
        that nobody had found.
    problem : str
        Why it is not known; empty if the service answered.
    """

    name: str
    seen: tuple[tuple[float, tuple[float, ...], str], ...] = ()
    problem: str = ""


def still_found(
    done: Iterable[CoveredImage],
    look: Callable[[Path], Any],
    *,
    kind: str = "face",
    label: Sequence[str] = (),
    threshold: Any = None,
) -> Iterator[StillFound]:
    """Yield what a service finds in the images that were covered; others are not asked about.

    Parameters
    ----------
    done : iterable of CoveredImage
        From `cover_all`.
    look : callable
        Takes a path, returns the outcome; `OpenService.look`.
    threshold : threshold, optional
        Findings below it do not count.

    Yields
    ------
    StillFound
        In the order of the images.
    """
    for one in done:
        if one.path is None or not one.covered:
            continue
        seen = look(one.path)
        outcome = seen.outcomes.get(kind, "pending")
        if outcome not in ANSWERED:
            reason = seen.reasons.get(kind, "")
            yield StillFound(name=one.name, problem=f"{outcome}: {reason}".removesuffix(": "))
            continue
        table = seen.findings.cut(threshold)
        rows = table.kind.among([kind]) & ~table.blank
        if label:
            rows &= table.label.among(label)
        again = [
            (float(confidence), tuple(box), "under a cover" if hidden >= 0.5 else "elsewhere")
            for confidence, box in zip(
                table.confidence[rows], table.box[rows].tolist(), strict=True
            )
            for hidden in (share_covered(box, one.boxes),)
        ]
        yield StillFound(name=one.name, seen=tuple(again))


def cover_all(
    gathered: Gathered,
    findings: Findings,
    folder: Path,
    *,
    annotations: Annotations | None = None,
    shas: Mapping[str, str] | None = None,
    kind: str = "face",
    **options: Any,
) -> Iterator[CoveredImage]:
    """Yield each image as its covered copy is written below a folder.

    Parameters
    ----------
    gathered : Gathered
        The originals, which are never touched.
    findings : Findings
        Whose image names are those of the originals.
    folder : Path
        Copies keep their names below it; what exists there is replaced.
    annotations : Annotations, optional
        To say what is still open.
    shas : mapping of str to str, optional
        By image the SHA-256 that was sent: an image that changed since is refused, since its boxes
        would lie elsewhere.
    **options
        As `cover` takes them.

    Yields
    ------
    CoveredImage
        In the order of the images; one that cannot be covered stops none.
    """
    answered = set(findings.take(findings.kind.among([kind])).image.used())
    known = _known_images(annotations, kind)
    for item in gathered.items:
        yield _one(item, findings, folder, annotations, known, shas or {}, answered, kind, options)


def _one(
    item: Item,
    findings: Findings,
    folder: Path,
    annotations: Annotations | None,
    known: frozenset[str],
    shas: Mapping[str, str],
    answered: set[str],
    kind: str,
    options: Mapping[str, Any],
) -> CoveredImage:
    if item.name not in answered:
        # Uncovered is not the same as empty: nobody looked for faces there.
        return CoveredImage(name=item.name, path=None, problem=f"no answer for {kind}")
    try:
        data = item.read()
        if item.name in shas and shas[item.name] != hashlib.sha256(data).hexdigest():
            problem = "changed since it was sent: its boxes would lie elsewhere"
            return CoveredImage(name=item.name, path=None, problem=problem)
        done = cover(data, findings, kind=kind, name=item.name, **options)
        path = _written(done, folder, item.name)
    except (DotLedgerError, OSError) as error:
        return CoveredImage(name=item.name, path=None, problem=str(error))
    left: Sequence[Any] = ()
    annotated = None
    if annotations is not None and item.name in known:
        left = open_boxes(done.boxes, annotations, image=item.name, kind=kind)
        annotated = _annotated(annotations, item.name, kind)
    return CoveredImage(
        name=item.name,
        path=path,
        covered=done.covered,
        left_open=tuple(left),
        annotated=annotated,
        below=_boxed(findings, item.name, kind, options) - done.covered,
        removed=done.removed,
        boxes=done.boxes,
    )


def _known_images(annotations: Annotations | None, kind: str) -> frozenset[str]:
    """Return the images whose annotations say something of a kind; none if they never name it."""
    if annotations is None or not len(annotations.take(annotations.kind.among([kind]))):
        return frozenset()
    return frozenset(annotations.covered(kind))


def _annotated(annotations: Annotations, image: str, kind: str) -> int:
    rows = annotations.image.among([image]) & annotations.kind.among([kind])
    return int((rows & ~annotations.blank & ~annotations.ignore).sum())


def _boxed(findings: Findings, image: str, kind: str, options: Mapping[str, Any]) -> int:
    """Return how many findings would be covered without a threshold."""
    rows = findings.image.among([image]) & findings.kind.among([kind])
    if labels := options.get("label"):
        rows &= findings.label.among([labels] if isinstance(labels, str) else labels)
    return int((rows & ~np.isnan(findings.box[:, 0])).sum())


def _written(done: Covered, folder: Path, name: str) -> Path:
    """Write below the folder, whatever the name says."""
    parts = [part for part in Path(name).parts if part not in ("..", "/", ".")]
    path = folder.joinpath(*parts)
    if not path.resolve().is_relative_to(folder.resolve()):
        raise OSError(f"{name} would lie outside {folder}")
    path.parent.mkdir(parents=True, exist_ok=True)
    with whole_file(path) as draft:
        draft.write_bytes(done.data)
    return path
