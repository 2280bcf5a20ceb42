"""Who is on the faces: names given to annotated faces, and to strangers, at every similarity.

Identification as it is used is an open-set search: a face may be of somebody who is enrolled, or
of a stranger. The share of strangers who are given a name is the false-positive identification
rate, the share of enrolled persons who are given their own is the true-positive identification
rate (ISO/IEC 19795-1). Giving no name is abstaining: it is counted as that, and never as wrong.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints, ratio
from dotledger.core.boxes.box_overlap import overlap
from dotledger.core.displays import Displayed
from dotledger.core.measures.measure_rows import defined
from dotledger.core.measures.running_sums import running_sums
from dotledger.core.measures.share_limits import ShareSums, share_limits
from dotledger.core.tables.cell_checks import says_yes
from dotledger.core.tables.finding_details import Details, plain_name
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.questions.question_basis import Basis

__all__ = [
    "STRANGER",
    "Identification",
    "IdentificationRow",
    "NameCases",
    "identification_at_all",
    "identification_of",
]

STRANGER = "stranger"
"""The attribute of an annotated face that says: nobody who is enrolled."""

_RIGHT, _WRONG, _STRANGER, _ELSEWHERE = range(4)
"""What a name that is given is: on whose face it stands, and whether it is that person's."""

SHARES = ("right_share", "stranger_named_share", "false_share")


@dataclass(frozen=True, eq=False, kw_only=True)
class NameCases:
    """Faces that could be named, and names that were given.

    Attributes
    ----------
    images : int
        Codes of images run from 0.
    enrolled, strangers : ndarray of intp
        The image of each annotated face of somebody enrolled, and of each stranger's.
    enrolled_found, strangers_found : ndarray of bool
        Whether the face was found at all.
    image, sort : ndarray of intp, shape (n,)
        Of each name given: its image, and what it is.
    similarity : ndarray of float64, shape (n,)
        NaN where the service gave none.
    not_judged : int
        Names on faces of which nothing is annotated, in ignored regions, or on a right face twice.
    """

    images: int
    enrolled: Ints
    enrolled_found: Flags
    strangers: Ints
    strangers_found: Flags
    image: Ints
    sort: Ints
    similarity: Floats
    not_judged: int = 0

    @cached_property
    def found(self) -> tuple[int, int]:
        """Faces that were found: of persons who are enrolled, and of strangers."""
        return int(self.enrolled_found.sum()), int(self.strangers_found.sum())

    def on(self, kept: Flags) -> NameCases:
        """Return the cases on some images only: `kept` has one flag for each image."""
        known, strange, named = kept[self.enrolled], kept[self.strangers], kept[self.image]
        return replace(
            self,
            enrolled=self.enrolled[known],
            enrolled_found=self.enrolled_found[known],
            strangers=self.strangers[strange],
            strangers_found=self.strangers_found[strange],
            image=self.image[named],
            sort=self.sort[named],
            similarity=self.similarity[named],
        )


@dataclass(frozen=True, kw_only=True)
class IdentificationRow:
    """What names amount to at one threshold of similarity.

    Attributes
    ----------
    similarity : float
        Names that are less similar, or have no similarity, count as not given; NaN for no
        threshold: names as they were given.
    right, wrong, no_name, not_found : int
        Of annotated faces of persons who are enrolled; together they are all of them.
    stranger_nobody, stranger_named, stranger_not_found : int
        Of annotated strangers: rightly nobody, given a name, and face not found.
    elsewhere : int
        Names on findings that lie on no annotated face.
    intervals : mapping of str to (float, float)
        95 %, over images, of ``right_share``, ``stranger_named_share`` and ``false_share``; NaN
        with fewer than two images.
    """

    similarity: float
    right: int
    wrong: int
    no_name: int
    not_found: int
    stranger_nobody: int
    stranger_named: int
    stranger_not_found: int
    elsewhere: int
    intervals: Mapping[str, tuple[float, float]]

    @property
    def enrolled(self) -> int:
        """Annotated faces of persons who are enrolled."""
        return self.right + self.wrong + self.no_name + self.not_found

    @property
    def strangers(self) -> int:
        """Annotated faces of strangers."""
        return self.stranger_nobody + self.stranger_named + self.stranger_not_found

    @property
    def names_given(self) -> int:
        """Names that were given and judged."""
        return self.right + self.false_names

    @property
    def false_names(self) -> int:
        """Names that are another person's, a stranger's, or on no annotated face."""
        return self.wrong + self.stranger_named + self.elsewhere

    @property
    def right_share(self) -> float:
        """Right / faces of enrolled persons (true-positive identification rate); NaN if none."""
        return ratio(self.right, self.enrolled)

    @property
    def stranger_named_share(self) -> float:
        """Strangers named / strangers (false-positive identification rate); NaN if none."""
        return ratio(self.stranger_named, self.strangers)

    @property
    def false_share(self) -> float:
        """False names / names given and judged; NaN where no name was given."""
        return ratio(self.false_names, self.names_given)

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        plain = {n: v for n, v in vars(self).items() if n != "intervals"}
        more = {name: defined(getattr(self, name)) for name in SHARES}
        ends = {n: None if math.isnan(v[0]) else list(v) for n, v in self.intervals.items()}
        counts = {n: getattr(self, n) for n in ("enrolled", "strangers", "names_given")}
        plain["similarity"] = defined(self.similarity)
        return {**plain, **counts, **more, "intervals": ends}


@dataclass(frozen=True, kw_only=True, repr=False)
class Identification(Displayed):
    """Names given to annotated faces and to strangers, at every threshold of similarity.

    Attributes
    ----------
    kind : str
        Such as ``"face"``.
    rows : tuple of IdentificationRow
        First names as they were given, then one for each similarity that occurs, rising.
    without_similarity : int
        Names given without one: no threshold keeps them.
    cases : NameCases
        What was counted.
    """

    kind: str
    rows: tuple[IdentificationRow, ...]
    without_similarity: int
    cases: NameCases

    @property
    def as_given(self) -> IdentificationRow:
        """Without a threshold."""
        return self.rows[0]

    def at(self, similarity: float | None) -> IdentificationRow:
        """Return the counts at a threshold; None for names as they were given.

        Raises
        ------
        ArgumentError
            If it is not a number.
        """
        if similarity is None:
            return self.as_given
        if isinstance(similarity, bool) or not isinstance(similarity, int | float):
            raise ArgumentError("not a number", place="similarity", got=similarity)
        if math.isnan(similarity):
            raise ArgumentError("not a number", place="similarity", got=similarity)
        above = [row for row in self.rows[1:] if row.similarity >= similarity]
        row = above[0] if above else _nothing_given(self.cases)
        return replace(row, similarity=float(similarity))

    def to_dict(self) -> dict[str, Any]:
        """Return plain values; None where undefined."""
        return {
            "rows": [row.to_dict() for row in self.rows],
            "without_similarity": self.without_similarity,
            "not_judged": self.cases.not_judged,
        }

    def frame(self) -> pd.DataFrame:
        """Return a pandas frame with one row for each threshold."""
        import pandas as pd

        return pd.DataFrame([_flat(row) for row in self.rows])


def _flat(row: IdentificationRow) -> dict[str, Any]:
    plain = {n: v for n, v in vars(row).items() if n != "intervals"}
    for name in SHARES:
        low, high = row.intervals[name]
        plain |= {name: getattr(row, name), f"{name}_low": low, f"{name}_high": high}
    return plain


def identification_of(
    basis: Basis, kind: str, enrolled: Iterable[str] | None = None
) -> Identification | None:
    """Count what names amount to at every threshold of similarity.

    Parameters
    ----------
    basis : Basis
        What was compared and judged; pairs at its first overlap and threshold count.
    enrolled : iterable of str, optional
        Names of the persons the service knows; an annotated face with any other name is a
        stranger's. By default whoever is annotated by name is enrolled.

    Returns
    -------
    Identification or None
        None if no annotated face has a name or is a stranger's.
    """
    cases = _cases(basis, kind, None if enrolled is None else set(map(plain_name, enrolled)))
    if not len(cases.enrolled) and not len(cases.strangers):
        return None
    return identification_at_all(kind, cases)


def identification_at_all(kind: str, cases: NameCases, level: float = 0.95) -> Identification:
    """Return the counts at every threshold of some cases, with intervals of a level."""
    return Identification(
        kind=kind,
        rows=_rows(cases, level),
        without_similarity=int(np.isnan(cases.similarity).sum()),
        cases=cases,
    )


def _rows(cases: NameCases, level: float) -> tuple[IdentificationRow, ...]:
    """Return names as given, and then the counts at each similarity that occurs, rising."""
    # Names join by falling similarity; those without one stand only where nothing is demanded.
    order = np.argsort(-np.nan_to_num(cases.similarity, nan=-np.inf), kind="stable")
    similarity, sort = cases.similarity[order], cases.sort[order]
    counts = np.zeros((len(order) + 1, 4), dtype=np.intp)
    np.cumsum(np.equal.outer(sort, np.arange(4)), axis=0, out=counts[1:])
    limits = _limits(cases, order, level)
    known = int((~np.isnan(similarity)).sum())
    last = np.flatnonzero(np.r_[similarity[1:known] != similarity[: known - 1], known > 0])
    rows = [
        _row(cases, float(similarity[place]), counts[place + 1], limits, place + 1)
        for place in last[::-1].tolist()
    ]
    return (_row(cases, math.nan, counts[-1], limits, len(order)), *rows)


Limits = Mapping[str, tuple[Floats, Floats]]


def _limits(cases: NameCases, order: Ints, level: float = 0.95) -> Limits:
    """Return the interval of each share after so many names."""
    image, sort = cases.image[order], cases.sort[order]
    known = np.bincount(cases.enrolled, minlength=cases.images)
    strange = np.bincount(cases.strangers, minlength=cases.images)
    nothing = np.zeros(cases.images)
    shares: dict[str, ShareSums] = {
        "right_share": running_sums(image, sort == _RIGHT, sort < 0, known),
        "stranger_named_share": running_sums(image, sort == _STRANGER, sort < 0, strange),
        "false_share": running_sums(image, sort != _RIGHT, sort >= 0, nothing),
    }
    return {name: share_limits(sums, level) for name, sums in shares.items()}


def _row(
    cases: NameCases, similarity: float, counts: Ints, limits: Limits, place: int
) -> IdentificationRow:
    right, wrong, named, elsewhere = (int(n) for n in counts)
    found, met = cases.found
    return IdentificationRow(
        similarity=similarity,
        right=right,
        wrong=wrong,
        no_name=found - right - wrong,
        not_found=len(cases.enrolled) - found,
        stranger_nobody=met - named,
        stranger_named=named,
        stranger_not_found=len(cases.strangers) - met,
        elsewhere=elsewhere,
        intervals={n: (float(a[place]), float(b[place])) for n, (a, b) in limits.items()},
    )


def _nothing_given(cases: NameCases) -> IdentificationRow:
    """Return the counts above every similarity."""
    return _row(cases, math.nan, np.zeros(4, np.intp), _limits(cases, np.zeros(0, np.intp)), 0)


def _cases(basis: Basis, kind: str, enrolled: set[str] | None) -> NameCases:
    scope, judged = basis.scopes[kind], basis.judged[kind]
    passing = basis.passing(kind)
    hit = judged.hit[passing[judged.hit]]
    finding_of = dict(
        zip(judged.annotation[passing[judged.hit]].tolist(), hit.tolist(), strict=True)
    )
    faces = _Faces()
    names = _Names(basis, kind)
    true = [_whose(one, enrolled) for one in _details(basis.annotations, scope.annotations.row)]
    for place in np.flatnonzero(~scope.ignore).tolist():
        who, finding = true[place], finding_of.get(place)
        image = int(scope.annotations.image[place])
        faces.add(image, who, found=finding is not None)
        if finding is not None:
            names.judge(image, finding, who)
    left = passing.copy()
    left[hit] = left[judged.aside] = False
    for finding in np.flatnonzero(left).tolist():
        names.judge_unpaired(finding, true, judged.required)
    names.not_judged += sum(bool(names.of(row)[0]) for row in judged.aside if passing[row])
    return NameCases(images=len(scope.images), **faces.arrays(), **names.arrays())


Who = str | None
"""A plain name; empty for a stranger; None where nothing is annotated."""


def _whose(details: Details | None, enrolled: set[str] | None) -> Who:
    if details is None:
        return None
    if says_yes(details.attributes.get(STRANGER)):
        return ""
    name = plain_name(details.person()[0])
    if not name:
        return None
    return name if enrolled is None or name in enrolled else ""


def _details(table: Any, rows: Ints) -> list[Details | None]:
    if table.details is None:
        return [None] * len(rows)
    return [table.details[row] for row in rows]


class _Faces:
    """Annotated faces whose person is known, or known to be nobody enrolled."""

    def __init__(self) -> None:
        self._rows: dict[bool, list[tuple[int, bool]]] = {True: [], False: []}

    def add(self, image: int, who: Who, *, found: bool) -> None:
        if who is not None:
            self._rows[who == ""].append((image, found))

    def arrays(self) -> dict[str, Any]:
        return {
            f"{group}{part}": np.array([row[place] for row in self._rows[strange]], dtype=sort)
            for group, strange in (("enrolled", False), ("strangers", True))
            for place, (part, sort) in enumerate((("", np.intp), ("_found", np.bool_)))
        }


class _Names:
    """Names that were given, judged one by one."""

    def __init__(self, basis: Basis, kind: str) -> None:
        self._scope = basis.scopes[kind]
        self._details = _details(basis.findings, self._scope.findings.row)
        self._given: list[tuple[int, int, float]] = []
        self._on_image: dict[int, list[int]] = {}
        for place, image in enumerate(self._scope.annotations.image.tolist()):
            self._on_image.setdefault(image, []).append(place)
        self.not_judged = 0

    def of(self, finding: int) -> tuple[str, float]:
        one = self._details[finding]
        name, similarity = one.person() if one is not None else ("", None)
        return plain_name(name), math.nan if similarity is None else similarity

    def judge(self, image: int, finding: int, who: Who) -> None:
        name, similarity = self.of(finding)
        if name and who is None:
            self.not_judged += 1
        elif name:
            sort = _STRANGER if who == "" else _RIGHT if name == who else _WRONG
            self._given.append((image, sort, similarity))

    def judge_unpaired(self, finding: int, true: list[Who], required: float | None) -> None:
        """Judge a name on an unpaired box; a second box on a face may still have the right name."""
        name, similarity = self.of(finding)
        if not name:
            return
        side, scope = self._scope.findings, self._scope.annotations
        image = int(side.image[finding])
        there = self._on_image.get(image, [])
        shared = overlap(side.box[finding], scope.box[there]) if there else np.zeros(0)
        least = 0.0 if required is None else required
        under = [true[place] for place, part in zip(there, shared, strict=True) if part >= least]
        if None in under or name in under:
            self.not_judged += 1
        else:
            self._given.append((image, _ELSEWHERE, similarity))

    def arrays(self) -> dict[str, Any]:
        columns = list(zip(*self._given, strict=True)) or [(), (), ()]
        return {
            "image": np.array(columns[0], dtype=np.intp),
            "sort": np.array(columns[1], dtype=np.intp),
            "similarity": np.array(columns[2], dtype=np.float64),
            "not_judged": self.not_judged,
        }
