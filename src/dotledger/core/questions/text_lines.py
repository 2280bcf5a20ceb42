"""Lines of writing: exactly right after a stated normalisation, and how many characters are off.

Lines with boxes are paired by the defined rule, whatever they read; lines without a box on
either side are then paired within their image so that the fewest characters are off in all.
"""

from __future__ import annotations

import unicodedata
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from dotledger.core.arguments import check_overlap
from dotledger.core.arrays import Ints, ratio
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.pairing.greedy_pairing import pair
from dotledger.core.pairing.measure_scope import Scope, Side, scope_of
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.name_codes import Coded

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["NORMALISATION", "TextMeasure", "edits", "measure_text", "normalised"]

NORMALISATION = "Unicode NFC, runs of white space as one space, none at the ends"
"""What is done to both sides before lines are compared."""


@dataclass(frozen=True, kw_only=True, repr=False)
class TextMeasure(Displayed):
    """Lines of writing found against lines annotated.

    Attributes
    ----------
    annotated, paired, exact : int
        Lines annotated, those paired with a line found, and those of them read exactly right.
    missed, wrong : int
        Lines annotated and not paired; lines found and not paired.
    edits, characters : int
        Over the pairs: single-character insertions, deletions and substitutions, and characters
        annotated.
    normalisation : str
        What was done to both sides first.
    """

    annotated: int
    paired: int
    exact: int
    missed: int
    wrong: int
    edits: int
    characters: int
    normalisation: str = NORMALISATION

    @property
    def exact_share(self) -> float:
        """Exact / annotated; NaN if nothing is annotated."""
        return ratio(self.exact, self.annotated)

    @property
    def character_error_rate(self) -> float:
        """Edits / characters over the pairs; may be above 1; NaN without pairs."""
        return ratio(self.edits, self.characters)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            **vars(self),
            "exact_share": defined(self.exact_share),
            "character_error_rate": defined(self.character_error_rate),
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row; NaN where undefined."""
        import pandas as pd

        shares = {
            "exact_share": self.exact_share,
            "character_error_rate": self.character_error_rate,
        }
        return pd.DataFrame([{**vars(self), **shares}])


def normalised(line: str, *, ignore_case: bool = False) -> str:
    """Return a line as it is compared; see `NORMALISATION`.

    Parameters
    ----------
    ignore_case : bool, default False
        Compare without regard to case (Unicode case folding).
    """
    text = " ".join(unicodedata.normalize("NFC", line).split())
    return text.casefold() if ignore_case else text


def edits(a: str, b: str) -> int:
    """Return the least number of single-character edits from `a` to `b` (Levenshtein, 1966).

    Returns
    -------
    int
        0 if both are equal.
    """
    from rapidfuzz.distance import Levenshtein

    return Levenshtein.distance(a, b)


def measure_text(
    findings: Findings,
    annotations: Annotations,
    *,
    overlap: float = 0.5,
    ignore_case: bool = False,
) -> TextMeasure:
    """Compare lines of writing: rows of kind ``text``, whose label is the line.

    Parameters
    ----------
    findings, annotations
        Cut the findings first to see them at a threshold. Ignored lines are neither found nor
        missed.
    overlap : float, default 0.5
        Required overlap of lines with boxes.
    ignore_case : bool, default False
        Compare without regard to letter case.

    Raises
    ------
    ArgumentError
        If `overlap` is out of range.
    """
    overlap = check_overlap(overlap)
    scope = scope_of(
        replace(findings, label=_all_lines(findings)),
        replace(annotations, label=_all_lines(annotations), vocabulary={}),
        "text",
    )
    lines = [
        [
            normalised(table.label.names[c], ignore_case=ignore_case)
            for c in table.label.codes[side.row]
        ]
        for table, side in ((findings, scope.findings), (annotations, scope.annotations))
    ]
    by_box, aside = _by_box(scope, overlap)
    pairs = by_box + _by_reading(scope, lines[0], lines[1])
    read = [(lines[0][i], lines[1][j]) for i, j in pairs]
    annotated = int((~scope.ignore).sum())
    return TextMeasure(
        annotated=annotated,
        paired=len(pairs),
        exact=sum(found == true for found, true in read),
        missed=annotated - len(pairs),
        wrong=len(scope.findings) - len(pairs) - aside,
        edits=sum(edits(found, true) for found, true in read),
        characters=sum(len(true) for _, true in read),
    )


def _all_edits(found: list[str], true: list[str]) -> NDArray[Any]:
    """Return the edits from each line to each other one: shape (said, true)."""
    from rapidfuzz.distance import Levenshtein
    from rapidfuzz.process import cdist

    return np.asarray(cdist(found, true, scorer=Levenshtein.distance))


def _all_lines(table: Findings | Annotations) -> Coded:
    """Return one label for every line, since any may be paired with any; none for blank rows."""
    return Coded((~table.blank).astype(np.intp), ("", "line"))


def _boxed(side: Side) -> Ints:
    return np.flatnonzero(~np.isnan(side.box[:, 0]))


def _by_box(scope: Scope, overlap: float) -> tuple[list[tuple[int, int]], int]:
    """Pair lines that have boxes; also count what lies in ignored annotations."""
    left, right = _boxed(scope.findings), _boxed(scope.annotations)
    [pairs] = pair(
        scope.findings.take(left).by_image(),
        scope.confidence[left],
        scope.annotations.take(right).by_image(),
        scope.ignore[right],
        (overlap,),
    )
    found = zip(left[pairs.finding].tolist(), right[pairs.annotation].tolist(), strict=True)
    return list(found), len(pairs.set_aside)


def _by_reading(scope: Scope, found: list[str], true: list[str]) -> list[tuple[int, int]]:
    """Pair lines without boxes, image by image, so that the fewest edits remain."""
    from scipy.optimize import linear_sum_assignment

    left = np.setdiff1d(np.arange(len(scope.findings)), _boxed(scope.findings))
    right = np.setdiff1d(np.flatnonzero(~scope.ignore), _boxed(scope.annotations))
    pairs = []
    for image in np.intersect1d(scope.findings.image[left], scope.annotations.image[right]):
        mine, theirs = (
            left[scope.findings.image[left] == image],
            right[scope.annotations.image[right] == image],
        )
        cost = _all_edits([found[i] for i in mine], [true[j] for j in theirs])
        rows, columns = linear_sum_assignment(cost)
        pairs += [(int(mine[r]), int(theirs[c])) for r, c in zip(rows, columns, strict=True)]
    return pairs
