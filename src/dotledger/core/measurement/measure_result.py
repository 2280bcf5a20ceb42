"""The result of a measure: its numbers, and everything else that can be asked of them."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from dotledger.core.displays import JsonText, Plotted
from dotledger.core.measures.measure_rows import KindMeasure, Row, mean_over, plain_means
from dotledger.core.measures.registry import MEASURES
from dotledger.core.questions.question_basis import Basis
from dotledger.core.spelling import counted
from dotledger.core.tables.table_origin import Origin
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.attribute_judging import DetailMeasure
    from dotledger.core.questions.box_conventions import Fit
    from dotledger.core.questions.confusion import Confusion
    from dotledger.core.questions.count_agreement import CountAgreement
    from dotledger.core.questions.error_diagnosis import Diagnosis
    from dotledger.core.questions.identification import Identification
    from dotledger.core.questions.reliability import Reliability
    from dotledger.core.questions.screening_decisions import ScreeningCounts
    from dotledger.core.questions.slices import SliceMeasure
    from dotledger.core.questions.text_lines import TextMeasure
    from dotledger.core.questions.threshold_sweep import Each, Sweep

__all__ = ["LabelRows", "Measure", "MeasuredKinds"]


class LabelRows(Mapping[str, Row]):
    """Rows by ``kind:label``; where only one kind uses a label, it may be asked for alone."""

    def __init__(self, rows: Mapping[str, Row]) -> None:
        self._rows = rows

    def __getitem__(self, name: str) -> Row:
        if name in self._rows:
            return self._rows[name]
        named = [key for key in self._rows if key.partition(":")[2] == name]
        if len(named) == 1:
            return self._rows[named[0]]
        among = f"; it is one of {', '.join(named)}" if named else ""
        raise KeyError(f"{name}{among}")

    def __iter__(self) -> Iterator[str]:
        return iter(self._rows)

    def __len__(self) -> int:
        return len(self._rows)

    def shortest(self) -> dict[str, Row]:
        """Return the rows by label alone where one kind uses it, else by ``kind:label``."""
        counts = Counter(key.partition(":")[2] for key in self._rows)
        return {
            key if counts[key.partition(":")[2]] > 1 else key.partition(":")[2]: row
            for key, row in self._rows.items()
        }


def _headline(kind: KindMeasure) -> str:
    row = kind.pooled
    shown = ", ".join(
        f"{word} {DASH if value != value else f'{value:.2f}'}"
        for word, value in (("recall", row.recall), ("precision", row.precision), ("F1", row.f1))
    )
    counts = f"{row.annotated} annotated, {row.misses} missed, {row.false_positives} wrong"
    return f"{kind.kind}: {shown} ({counts})"


DASH = "\N{EN DASH}"


@dataclass(frozen=True, kw_only=True, repr=False)
class MeasuredKinds(Plotted, JsonText):
    """What every measure holds, wherever its tables are; `Measure` describes the fields."""

    overlap: float
    threshold: float | dict[str, float] | None
    images_in_scope: int
    unanswered: int
    uncovered: int
    kinds: Mapping[str, KindMeasure]
    unjudged_kinds: Mapping[str, int]
    pooled: Row
    notes: tuple[str, ...]
    basis: Basis = field(repr=False, compare=False)

    def __repr__(self) -> str:
        """Return the headline of each kind, in at most six lines."""
        head = (
            f"<{type(self).__name__}: {self.images_in_scope} images in scope, {self.basis.cuts[0]}"
        )
        lines = [_headline(kind) for kind in self.kinds.values()]
        notes = f"; {counted(len(self.notes), 'note')}, see .notes" if self.notes else ""
        return "\n".join([f"{head}, required overlap {self.overlap:g}{notes}>", *lines])

    @property
    def labels(self) -> LabelRows:
        """Rows by ``kind:label`` over all kinds; a label that one kind uses may stand alone."""
        return LabelRows(
            {f"{k.kind}:{label}": row for k in self.kinds.values() for label, row in k.rows.items()}
        )

    @property
    def unjudged(self) -> int:
        """Findings whose label or whole kind the annotations' vocabulary does not hold."""
        inside = sum(sum(kind.unjudged.values()) for kind in self.kinds.values())
        return inside + sum(self.unjudged_kinds.values())

    @property
    def cut_away(self) -> int:
        """Findings of the kinds measured, on images in scope, that the threshold left out."""
        judged = self.basis.judged
        return sum(int((~self.basis.passing(kind)).sum()) for kind in judged)

    @property
    def answered(self) -> int:
        """Images covered by the annotations that have an answer of any kind."""
        covered = set(self.basis.annotations.image.used())
        return len(covered) - self.unanswered

    @property
    def mean_over_labels(self) -> dict[str, float]:
        """Plain mean of each measure over all labels of all kinds where it is defined."""
        return mean_over(self._all_rows())

    def _all_rows(self) -> list[Row]:
        return [row for kind in self.kinds.values() for row in kind.rows.values()]

    @property
    def _origin(self) -> Origin:
        return self.basis.findings.origin or Origin()

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined."""
        return {
            "service": self._origin.service,
            "batch": self._origin.batch,
            "overlap": self.overlap,
            "threshold": self.threshold,
            "pairing": self.basis.pairing,
            "images_in_scope": self.images_in_scope,
            "unanswered": self.unanswered,
            "uncovered": self.uncovered,
            "unjudged": self.unjudged,
            "unjudged_kinds": dict(self.unjudged_kinds),
            "labels": {name: row.to_dict() for name, row in self.labels.shortest().items()},
            "pooled": self.pooled.to_dict(),
            "mean_over_labels": plain_means(self._all_rows()),
            "kinds": {name: kind.to_dict() for name, kind in self.kinds.items()},
            "notes": list(self.notes),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each kind and label; NaN where undefined.

        The ends of an interval are columns of their own, such as ``recall_low``; with several
        overlaps or thresholds there is a row for each, with columns ``overlap`` and ``threshold``.
        """
        import pandas as pd

        rows = [row for kind in self.kinds.values() for row in _frame_rows(kind)]
        left_out = ("intervals", "contributing_images")
        plain = [name for name in self.pooled.to_dict() if name not in left_out]
        columns = ["kind", "label", *(["overlap", "threshold"] if self._several else []), *plain]
        extra = [
            name for name in dict.fromkeys(n for row in rows for n in row) if name not in columns
        ]
        frame = pd.DataFrame(rows, columns=[*columns, *extra])
        return frame.astype(dict.fromkeys([*MEASURES, *extra], float))

    @property
    def _several(self) -> bool:
        return len(self.basis.overlaps) * len(self.basis.cuts) > 1

    def reliability(self, *, edges: Sequence[float] | None = None) -> dict[str, Reliability]:
        """Say for each kind how often findings of a confidence are right; by default ten bands."""
        from dotledger.core.questions.reliability import reliability_of

        only = self.basis.passing if self.basis.pairing != "confidence" else None
        return {
            kind: reliability_of(judged, edges, rows=only(kind) if only else None)
            for kind, judged in self.basis.judged.items()
        }

    def curve(self, kind: str | None = None, label: str | None = None) -> pd.DataFrame:
        """Return the precision-recall curve: one row for each distinct confidence, falling.

        Parameters
        ----------
        kind : str, optional
            May be left out if only one kind is measured.
        label : str, optional
            By default all labels pooled.

        Returns
        -------
        DataFrame
            Columns ``confidence, true_positives, false_positives, misses, precision, recall, f1``.
            It stops at the floor, if one is known.

        Raises
        ------
        ArgumentError
            If the kind or label is not measured.
        """
        from dotledger.core.questions.pr_curve import curve_of

        return curve_of(self.basis, kind, label)

    def sweep(
        self,
        each: Each = "kind",
        *,
        kinds: Sequence[str] | None = None,
        intervals: bool = True,
    ) -> Sweep:
        """Return what every threshold would lead to, by kind, by label, or all pooled.

        Parameters
        ----------
        each : {"kind", "label", "all"}, default "kind"
            What is counted apart.
        kinds : sequence of str, optional
            Kinds to sweep; by default all that are measured.
        intervals : bool, default True
            95 % intervals over images, at every threshold.

        Raises
        ------
        ArgumentError
            If `each` is not known, or the pairing holds for one threshold only.
        """
        from dotledger.core.questions.threshold_sweep import sweep_of

        return sweep_of(self.basis, each, kinds=kinds, intervals=intervals)

    # Asked of the tables, wherever they are.

    def why(self, *, near: float = 0.1, small: float = 0.001) -> Diagnosis:
        """Say why each wrong finding is wrong and each missed annotation is missed."""
        raise NotImplementedError

    def by(self, name: str, *, edges: Sequence[float] | None = None) -> dict[str, SliceMeasure]:
        """Return the measures by slice, for each kind."""
        raise NotImplementedError

    def _repr_html_(self) -> str:
        """Show the measures as a table in a notebook."""
        from html import escape

        head = (
            f"<p>{self.images_in_scope} images in scope, required overlap {self.overlap:g}, "
            f"{self.basis.cuts[0]}</p>"
        )
        notes = "".join(f"<p>{escape(note)}</p>" for note in self.notes)
        shown = ["kind", "label", "annotated", "misses", "false_positives", *list(MEASURES)[:5]]
        table = self.frame()[shown].to_html(
            index=False, na_rep="\N{EN DASH}", float_format="{:.2f}".format, escape=True
        )
        return f"{head}{notes}{table}"


@dataclass(frozen=True, kw_only=True, repr=False)
class Measure(MeasuredKinds):
    """What `measure` returns.

    The fields and `to_dict` hold the measures; the methods look further into the same pairing.

    Attributes
    ----------
    overlap : float
        The required overlap for kinds judged by boxes.
    threshold : float, dict of str to float, or None
        Findings below it were left out of the counts; None for no threshold.
    images_in_scope, unanswered : int
        Images in scope for at least one kind; images covered but answered for none.
    uncovered : int
        Images with findings that the annotations do not cover.
    kinds : dict of str to KindMeasure
        By kind, in the order of `KINDS`.
    unjudged_kinds : dict of str to int
        Findings on covered images of a kind that the annotations do not hold, by kind.
    pooled : Row
        From the summed counts of all labels of all kinds.
    notes : tuple of str
        Sentences a reader should see before trusting the numbers.
    basis : Basis
        What was compared and judged.

    Examples
    --------
    >>> import dotledger
    >>> result = dotledger.measure("found.csv", "truth.csv", threshold=0.5)
    >>> result.kinds["face"].pooled.misses
    19
    """

    def to_dict(self, *, everything: bool = False) -> dict[str, Any]:
        """Return plain values, ready for JSON; None where undefined.

        Parameters
        ----------
        everything : bool, default False
            Also what the methods give: images, confusion, reasons, reliability, slices and so on.
        """
        found = super().to_dict()
        return {**found, **self._everything()} if everything else found

    def _everything(self) -> dict[str, Any]:
        """Return the parts that the methods give, each under its name."""
        reasons, screening = self.why(), self.screening()
        return {
            "reasons": reasons.to_dict(),
            "confusion": {name: one.to_dict() for name, one in self.confusion().items()},
            "slices": {
                name: {kind: one.to_dict() for kind, one in self.by(name).items()}
                for name in self.slice_names()
            },
            "reliability": {name: one.to_dict() for name, one in self.reliability().items()},
            "count_agreement": {name: one.to_dict() for name, one in self.counts().items()},
            "screening": None if screening is None else screening.to_dict(),
            "details": {name: one.to_dict() for name, one in self.details().items()},
            "text": None if (text := self.text()) is None else text.to_dict(),
            "images": _records(self.images()),
        }

    def why(self, *, near: float = 0.1, small: float = 0.001) -> Diagnosis:
        """Say why each wrong finding is wrong and each missed annotation is missed.

        Parameters
        ----------
        near : float
            The least overlap at which a box counts as meant for an annotation.
        small : float
            Annotated boxes below this share of the image's area are too small.
        """
        from dotledger.core.questions.error_diagnosis import diagnose

        return diagnose(self.basis, near=near, small=small)

    def confusion(self) -> dict[str, Confusion]:
        """Return, for kinds with boxes, which label was found where another is annotated."""
        from dotledger.core.questions.confusion import confusion_of

        return {k: confusion_of(self.basis, k) for k, s in self.basis.scopes.items() if s.boxed}

    def by(self, name: str, *, edges: Sequence[float] | None = None) -> dict[str, SliceMeasure]:
        """Return the measures by slice, for each kind.

        Parameters
        ----------
        name : str
            ``"size"``, ``"crowding"``, ``"edge"``, a column that the user added to images or
            annotations, or an attribute of the findings themselves, such as ``"found.mood"``: of
            those precision is defined, and recall is not.
        edges : sequence of float, optional
            For ``"size"`` shares of the image's area, for ``"crowding"`` overlaps, for a column
            of numbers its own unit; rising.

        Raises
        ------
        ArgumentError
            If there is no such slice or column, the edges do not rise, or an attribute of many
            numbers has none.
        """
        from dotledger.core.questions.slices import sliced

        return sliced(self.basis, name, edges)

    def slice_names(self) -> list[str]:
        """Return the names that `by` takes, but for attributes of findings."""
        from dotledger.core.questions.slices import slice_names

        return slice_names(self.basis)

    def finding_slice_names(self) -> list[str]:
        """Return the attributes of findings that `by` takes, such as ``found.mood``."""
        from dotledger.core.questions.finding_slices import finding_slice_names

        return finding_slice_names(self.basis)

    def conventions(self) -> list[Fit]:
        """Return how well boxes fit when they are read by other conventions, the best first.

        Centre for corner, x and y swapped, other units, rotated twice or not at all: only images
        whose sizes are known tell.
        """
        from dotledger.core.measurement.measure_notes import sizes_in
        from dotledger.core.questions.box_conventions import check_conventions

        annotations = self.basis.annotations
        return check_conventions(self.basis.findings, annotations, sizes_in(annotations))

    def images(self) -> pd.DataFrame:
        """Return counts by image and kind, the most missed first, with answered or not."""
        from dotledger.core.questions.count_agreement import image_counts

        return image_counts(self.basis)

    def counts(self) -> dict[str, CountAgreement]:
        """Return how the number found agrees with the number annotated, for kinds with boxes."""
        from dotledger.core.questions.count_agreement import count_agreement

        return {k: count_agreement(self.basis, k) for k, s in self.basis.scopes.items() if s.boxed}

    def screening(self) -> ScreeningCounts | None:
        """Return the four counts of deciding on each image by unsafe content; None without it."""
        from dotledger.core.questions.screening_decisions import screening_counts

        return screening_counts(self.basis) if "unsafe" in self.basis.judged else None

    def details(self, *, tolerances: Mapping[str, float] | None = None) -> dict[str, DetailMeasure]:
        """Judge attributes, landmark points and persons' names on true-positive pairs.

        Parameters
        ----------
        tolerances : mapping of str to float, optional
            For attributes that are numbers: how far off still counts as right; by default what
            `measure` was given, or 0.
        """
        from dotledger.core.questions.attribute_judging import details_of

        boxed = [kind for kind, scope in self.basis.scopes.items() if scope.boxed]
        allowed = self.basis.tolerances if tolerances is None else tolerances
        return {kind: details_of(self.basis, kind, allowed) for kind in boxed}

    def identification(
        self, kind: str = "face", *, enrolled: Iterable[str] | None = None
    ) -> Identification:
        """Say what names given to faces amount to, at every threshold of similarity.

        Parameters
        ----------
        kind : str, default "face"
            A kind with boxes that is measured.
        enrolled : iterable of str, optional
            Names of the persons the service knows. An annotated face with any other name, or with
            the attribute ``stranger``, is a stranger's: the right answer is nobody. By default
            whoever is annotated by name is enrolled.

        Raises
        ------
        ArgumentError
            If the kind is not measured, or no annotated face has a name or is a stranger's.
        """
        from dotledger.core.questions.identification import identification_of

        boxed = [name for name, scope in self.basis.scopes.items() if scope.boxed]
        if kind not in boxed:
            raise ArgumentError(
                "not a kind that is measured", place="kind", got=kind, allowed=boxed
            )
        found = identification_of(self.basis, kind, enrolled)
        if found is None:
            raise ArgumentError(
                f"no annotated {kind} in scope has a name, and none is a stranger's",
                place="annotations",
                next_step="Give annotations the column 'name', or 'stranger' with yes.",
            )
        return found

    def text(self) -> TextMeasure | None:
        """Judge lines of writing; None if none are annotated."""
        from dotledger.core.questions.text_lines import measure_text

        if "text" not in self.basis.annotations.kind.used():
            return None
        return measure_text(
            self.basis.findings.cut(self.basis.cuts[0]),
            self.basis.annotations,
            overlap=self.overlap,
        )


def _frame_rows(kind: KindMeasure) -> list[dict[str, Any]]:
    several = len(kind.points) > 1
    first = [_frame_row(kind.kind, label, row) for label, row in kind.rows.items()]
    if not several:
        return first
    return [
        {**_frame_row(kind.kind, label, row), "overlap": p.overlap, "threshold": p.threshold}
        for p in kind.points
        for label, row in p.rows.items()
    ]


def _frame_row(kind: str, label: str, row: Row) -> dict[str, Any]:
    plain = row.to_dict()
    plain.pop("intervals", None)
    plain.pop("contributing_images", None)
    ends = {
        f"{name}_{end}": value
        for name, (low, high) in row.intervals.items()
        for end, value in (("low", low), ("high", high))
    }
    return {"kind": kind, "label": label, **plain, **ends}


def _records(frame: pd.DataFrame) -> list[dict[str, Any]]:
    """Return a frame's rows as plain values; None for NaN."""
    rows: Any = frame.astype(object).where(frame.notna(), None).to_dict("records")
    return rows
