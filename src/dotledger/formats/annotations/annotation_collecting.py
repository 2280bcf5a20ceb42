"""What was read from annotation files, and a common way to gather it."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from dotledger.core.boxes.box_forms import Box, clip
from dotledger.core.tables.annotations_table import Annotations, not_covered_lines
from dotledger.core.tables.finding_details import Details

__all__ = ["CollectedRows", "LoadReport", "Loaded", "Written", "report_of"]

_NO_BOX = (float("nan"),) * 4


@dataclass(frozen=True, kw_only=True)
class LoadReport:
    """What loading annotations read.

    Attributes
    ----------
    source : str
        The file or folder.
    images, empty_images : int
        Images covered, and those of them looked at that hold nothing.
    by_label : mapping of (str, str) to int
        Annotations by kind and label, ignored ones too.
    ignored : int
        Annotations marked `ignore`.
    not_covered : mapping of str to int
        Images that are not covered for a kind, by kind; empty for every kind.
    clipped : int
        Boxes that reached over their image's edge.
    refused : tuple of (str, str, str)
        Annotations that could not be kept: image, reason and value.
    missing : tuple of str
        Images that are not among those on disk; None of them if no folder was given.
    """

    source: str
    images: int
    empty_images: int
    by_label: Mapping[tuple[str, str], int]
    ignored: int
    not_covered: Mapping[str, int] = field(default_factory=dict)
    clipped: int = 0
    refused: Sequence[tuple[str, str, str]] = ()
    missing: Sequence[str] = ()

    def lines(self) -> list[str]:
        """Return the report in words."""
        total = sum(self.by_label.values())
        found = [
            f"Read from {self.source}: {self.images} images "
            f"({self.empty_images} of them empty), {total} annotations, {self.ignored} ignored."
        ]
        if self.clipped:
            found.append(f"Boxes clipped to their image: {self.clipped}.")
        if self.refused:
            reasons = Counter(reason for _, reason, _ in self.refused)
            listed = ", ".join(f"{reason} ({n})" for reason, n in reasons.most_common(5))
            first = self.refused[0]
            found.append(
                f"Annotations refused: {len(self.refused)}: {listed}; the first in "
                f"{first[0]!r}: {first[2]}."
            )
        found += not_covered_lines(self.not_covered)
        if self.missing:
            some = ", ".join(repr(name) for name in self.missing[:3])
            found.append(f"Annotated images not on disk: {len(self.missing)} ({some}).")
        return found

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON."""
        by_kind: dict[str, dict[str, int]] = {}
        for (kind, label), count in self.by_label.items():
            by_kind.setdefault(kind, {})[label] = count
        return {
            "source": self.source,
            "images": self.images,
            "empty_images": self.empty_images,
            "annotations": by_kind,
            "ignored": self.ignored,
            "not_covered": dict(self.not_covered),
            "clipped": self.clipped,
            "refused": [
                dict(zip(("image", "reason", "value"), r, strict=True)) for r in self.refused
            ],
            "missing": list(self.missing),
        }


@dataclass(frozen=True, kw_only=True)
class Written:
    """What writing annotations made.

    Attributes
    ----------
    files : tuple of Path
        Written, whole.
    left_out : tuple of (str, str)
        Images that could not be written, and why.
    """

    files: tuple[Path, ...]
    left_out: tuple[tuple[str, str], ...] = ()


@dataclass(frozen=True, eq=False, kw_only=True)
class Loaded:
    """Annotations with the report of how they were read."""

    annotations: Annotations
    report: LoadReport


def report_of(
    annotations: Annotations,
    source: str,
    *,
    clipped: int = 0,
    refused: Sequence[tuple[str, str, str]] = (),
    on_disk: Iterable[str] | None = None,
) -> LoadReport:
    """Return what a table of annotations holds.

    Parameters
    ----------
    on_disk : iterable of str, optional
        Names of the images there are.
    """
    there = ~annotations.blank
    counts = Counter(
        zip(
            annotations.kind.take(there).values().tolist(),
            annotations.label.take(there).values().tolist(),
            strict=True,
        )
    )
    covered = annotations.image.used()
    holding = set(annotations.image.take(there | annotations.ignore).used())
    present = None if on_disk is None else set(on_disk)
    return LoadReport(
        source=source,
        images=len(covered),
        empty_images=len(set(covered) - holding),
        by_label=dict(sorted(counts.items())),
        ignored=int((annotations.ignore & there).sum()),
        not_covered=annotations.not_covered(),
        clipped=clipped,
        refused=tuple(refused),
        missing=() if present is None else tuple(sorted(set(covered) - present)),
    )


@dataclass
class CollectedRows:
    """Annotations gathered one by one from a foreign file, with what was refused.

    Attributes
    ----------
    images : dict of str to dict
        Every image covered, with what is known about it.
    refused : list of (str, str, str)
        Image, reason and value.
    clipped : int
        Boxes that reached over their image's edge.
    """

    images: dict[str, dict[str, Any]] = field(default_factory=dict)
    refused: list[tuple[str, str, str]] = field(default_factory=list)
    clipped: int = 0
    _open: set[tuple[str, str]] = field(default_factory=set)
    _rows: list[tuple[str, str, str, Box | None, bool, Details | None]] = field(
        default_factory=list
    )

    def cover(self, image: str, **facts: Any) -> None:
        """Note that an image was looked at."""
        known = {name: value for name, value in facts.items() if value is not None}
        self.images.setdefault(image, {}).update(known)

    def add(
        self,
        image: str,
        kind: str,
        label: str,
        box: Box | None,
        *,
        ignore: bool = False,
        details: Details | None = None,
    ) -> None:
        """Add one annotation; its box must be in pixels and inside the image."""
        self.cover(image)
        self._rows.append((image, kind, label, box, ignore, details))

    def clipped_box(self, image: str, box: Box, value: object, kind: str = "") -> Box | None:
        """Clip a box to its image as far as its size is known; refuse it if nothing is left."""
        facts = self.images.get(image, {})
        width, height = (float(facts.get(side, float("inf"))) for side in ("width", "height"))
        kept, note = clip(box, width, height)
        if kept is None:
            self.refuse(image, f"box {note}", value, kind)
        self.clipped += note == "clipped" and kept is not None
        return kept

    def refuse(self, image: str, reason: str, value: object, kind: str = "") -> None:
        """Note an annotation that cannot be kept; its image is then not covered for its kind.

        Something is there, only we do not know what: counted as empty, it would make a right
        finding wrong. Without a `kind` the image is not covered for any.
        """
        self.leave_open(image, kind)
        text = value if isinstance(value, str) else repr(value)
        self.refused.append((image, reason, text[:80]))

    def loaded(self, source: str, on_disk: Iterable[str] | None = None) -> Loaded:
        """Return everything as a table; images without annotations are covered and empty."""
        rows = [*self._rows, *self._not_covered(), *self._blanks()]
        boxes = [row[3] or _NO_BOX for row in rows]
        table = Annotations.from_columns(
            image=[row[0] for row in rows],
            kind=[row[1] for row in rows],
            label=[row[2] for row in rows],
            x0=[box[0] for box in boxes],
            y0=[box[1] for box in boxes],
            x1=[box[2] for box in boxes],
            y1=[box[3] for box in boxes],
            ignore=[row[4] for row in rows],
            details=[row[5] for row in rows] if any(row[5] for row in rows) else None,
            images={name: facts for name, facts in self.images.items() if facts},
        )
        report = report_of(
            table, source, clipped=self.clipped, refused=self.refused, on_disk=on_disk
        )
        return Loaded(annotations=table, report=report)

    def leave_open(self, image: str, kind: str) -> None:
        """Note that an image is not covered for a kind; without one, for none."""
        self._open.add((image, kind))

    def _not_covered(self) -> Iterator[tuple[str, str, str, None, bool, None]]:
        """Yield a row without a label, marked ignore, for what refused annotations leave open."""
        pairs = sorted(pair for pair in self._open if pair[0] in self.images)
        return ((image, kind, "", None, True, None) for image, kind in pairs)

    def _blanks(self) -> Iterator[tuple[str, str, str, None, bool, None]]:
        holding = {row[0] for row in self._rows} | {image for image, _ in self._open}
        return ((name, "", "", None, False, None) for name in self.images if name not in holding)


def folder_of_images(place: Path | None) -> list[str] | None:
    """Return the names of the images in a folder; None if there is no folder."""
    if place is None or not place.is_dir():
        return None
    from dotledger.images.image_gathering import gather

    return [item.name for item in gather(place).items]
