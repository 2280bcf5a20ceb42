"""Deciding on every image by rules, over whole columns.

Silence is never consent: an unsafe category that no rule mentions is refused or covered by an
explicit default; an image without an answer, of any kind that the rules look at, never passes.
"""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from dotledger.core.arrays import Flags, Floats, Ints
from dotledger.core.copies.image_fingerprints import NearCopy, Prints, nearest_copies
from dotledger.core.decisions.attribute_values import attribute_names, having_attribute
from dotledger.core.decisions.linear_patterns import linear_pattern
from dotledger.core.decisions.rule_conditions import Condition, Rules
from dotledger.core.decisions.verdicts import Decisions, Trip
from dotledger.core.kinds import KINDS, VERDICTS
from dotledger.core.spelling import nearest
from dotledger.core.tables.finding_details import plain_name
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.threshold_values import thresholds_of
from dotledger.errors import ArgumentError

__all__ = ["decide"]

Sizes = Mapping[str, tuple[float, float]]
_UNMENTIONED, _WITHOUT = "unmentioned", "without an answer"
_UNCOMPARED = "not compared with known images"


def decide(
    findings: Findings,
    rules: Rules,
    *,
    outcomes: Mapping[str, Mapping[str, str]] | None = None,
    sizes: Sizes | None = None,
    prints: Prints | None = None,
    later: bool = False,
) -> Decisions:
    """Decide on every image.

    Parameters
    ----------
    findings : Findings
        With a blank row for every image and kind that was answered and holds nothing.
    outcomes : mapping of str to mapping of str to str, optional
        By image and kind, the outcome of everything that was to be sent; without it only the
        images that were answered are decided on.
    sizes : mapping of str to (width, height), optional
        Of the upright images, for conditions on shares.
    prints : Prints, optional
        Of the images, for conditions on near-copies; an image without never passes them.
    later : bool, default False
        One image at a time: an unsafe category that no rule mentions holds, and is no reason to
        refuse the rules.

    Returns
    -------
    Decisions
        The strictest verdict of all rules that apply wins.

    Raises
    ------
    ArgumentError
        If an unsafe category is neither mentioned nor covered, a label is misspelt, a word of
        confidence is not known, or a size or prints are needed and not known.
    """
    known = outcomes or {}
    images = list(dict.fromkeys([*findings.image.used(), *known]))
    seen = _Seen(findings, images, rules.words, sizes or {}, known, prints)
    _check_labels(rules, findings)
    extra = _uncovered(findings, rules)
    if extra and not rules.unmentioned and not later:
        raise ArgumentError(
            "unsafe categories that no rule mentions",
            place="rules",
            got=", ".join(extra),
            allowed=["a rule for each", "unmentioned = 'hold'"],
            next_step="Silence is never consent: say what is to be done with them.",
        )
    trips = [
        Trip(
            name=rule.name,
            verdict=rule.verdict,
            images=(flags := seen.holds(rule.when)),
            rows=seen.rows_of(rule.when, flags),
            asked=_asked(rule.when),
            besides=seen.copies_in_words(rule.when),
        )
        for rule in rules.rules
    ]
    if extra:
        trips.append(_trip_of_unmentioned(seen, extra, rules))
    trips.append(_trip_without_answer(seen, rules.kinds()))
    if rules.looks_at_copies:
        trips.append(_trip_without_print(seen))
    strictest = np.full(len(images), VERDICTS.index(rules.otherwise), dtype=np.intp)
    for trip in trips:
        level = VERDICTS.index(trip.verdict)
        strictest[trip.images] = np.maximum(strictest[trip.images], level)
    # A rule that lets pass, and no stricter one, speaks louder than the default.
    strictest[_any_of(trips, len(images), "pass") & ~_any_of(trips, len(images), *_STRICT)] = 0
    return Decisions(
        images=tuple(images),
        level=strictest,
        trips=tuple(trips),
        findings=findings,
        outcomes=known,
        otherwise=rules.otherwise,
        audience=rules.audience,
        notes=() if later else tuple(_never_met(rules, findings)),
    )


def _never_met(rules: Rules, findings: Findings) -> list[str]:
    """Return which rules need a finding that nothing in this batch is.

    What must *not* be there (``none``, ``at_most = 0``) is met by its absence, and is passed over.
    """
    found = []
    for rule in rules.rules:
        for leaf in _positive(rule.when):
            if not leaf.kind or leaf.outcomes or not leaf.least:
                continue
            rows = findings.kind.among([leaf.kind]) & ~findings.blank
            if not rows.any():
                continue
            labels = set(findings.label.take(rows).used())
            if leaf.labels and not leaf.below and not labels & set(leaf.labels):
                listed = ", ".join(leaf.labels)
                found.append(f"{rule.name}: no finding of this batch has the label {listed}.")
            if leaf.attribute and leaf.attribute not in attribute_names(findings, rows):
                found.append(
                    f"{rule.name}: no finding of this batch has the attribute {leaf.attribute}."
                )
    return found


_STRICT = VERDICTS[1:]


def _any_of(trips: Sequence[Trip], images: int, *verdicts: str) -> Flags:
    flags = [trip.images for trip in trips if trip.verdict in verdicts]
    return np.any([np.zeros(images, dtype=bool), *flags], axis=0)


def _check_labels(rules: Rules, findings: Findings) -> None:
    """Refuse a label that nothing has, where one that something has is spelt nearly so."""
    by_kind: dict[str, set[str]] = {}
    kinds, labels = findings.kind.names, findings.label.names
    width = max(len(labels), 1)
    for code in np.unique(findings.kind.codes * width + findings.label.codes).tolist():
        if labels[code % width]:
            by_kind.setdefault(kinds[code // width], set()).add(labels[code % width])
    for leaf in rules.leaves():
        known = by_kind.get(leaf.kind, set())
        for label in leaf.labels:
            near = nearest(label, sorted(known))
            if known and label not in known and near:
                raise ArgumentError(
                    f"no finding has the label {label!r}; did you mean {near[0]!r}?",
                    place="rules",
                    got=label,
                    allowed=sorted(known)[:20],
                )


def _uncovered(findings: Findings, rules: Rules) -> list[str]:
    """Return unsafe categories in the findings that no rule mentions."""
    mentioned, every = rules.mentioned()
    unsafe = findings.take(findings.kind.among(["unsafe"]) & ~findings.blank)
    if every:
        return []
    below = {one.below for one in rules.leaves() if one.kind == "unsafe" and one.below}
    broader = {name for names in below for name in names}
    found: dict[str, bool] = {}
    for row, label in enumerate(unsafe.label.values().tolist()):
        details = unsafe.details[row] if unsafe.details is not None else None
        parents = set(details.parents) if details else set()
        found[label] = found.get(label, True) and label not in mentioned and not parents & broader
    return sorted(label for label, uncovered in found.items() if uncovered)


def _trip_of_unmentioned(seen: _Seen, labels: Sequence[str], rules: Rules) -> Trip:
    least = rules.unmentioned_from
    condition = Condition(kind="unsafe", labels=tuple(labels), confidence=least)
    flags = seen.holds(condition)
    return Trip(
        name=_UNMENTIONED,
        verdict=rules.unmentioned or "hold",
        images=flags,
        rows=seen.rows_of(condition, flags),
        asked="no rule mentions it",
    )


def _trip_without_answer(seen: _Seen, kinds: Iterable[str]) -> Trip:
    wanted = [kind for kind in kinds if KINDS[kind]]
    lacking = np.zeros(len(seen.images), dtype=bool)
    for kind in wanted:
        lacking |= ~seen.answered(kind)
    for place, image in enumerate(seen.images):
        given = seen.outcomes.get(image, {})
        lacking[place] |= any(o not in ("found", "empty") for o in given.values())
    return Trip(
        name=_WITHOUT,
        verdict="hold",
        images=lacking,
        rows=np.zeros(0, dtype=np.intp),
        asked=f"no answer for {', '.join(wanted)}" if wanted else "no answer",
    )


def _trip_without_print(seen: _Seen) -> Trip:
    """Return what could not be compared: it is not known to be no copy."""
    compared = set(seen.prints().names)
    return Trip(
        name=_UNCOMPARED,
        verdict="hold",
        images=np.array([image not in compared for image in seen.images], dtype=bool),
        rows=np.zeros(0, dtype=np.intp),
        asked="the image could not be had",
    )


def _asked(condition: Condition) -> str:
    """Return in words what a condition asks of a finding's confidence or number."""
    leaf = condition.leaves()[0]
    parts = []
    if leaf.confidence is not None and not hasattr(leaf.confidence, "thresholds_for"):
        parts.append(f"at least {leaf.confidence} asked")
    if leaf.at_least is not None and leaf.at_least > 1:
        parts.append(f"at least {leaf.at_least} of them")
    if leaf.at_most is not None:
        parts.append(f"at most {leaf.at_most} of them")
    if leaf.copy_of is not None:
        parts.append(f"at least {leaf.likeness:g} alike asked")
    return ", ".join(parts)


class _Seen:
    """The findings as columns, looked at by every condition."""

    def __init__(
        self,
        findings: Findings,
        images: Sequence[str],
        words: Mapping[str, float],
        sizes: Sizes,
        outcomes: Mapping[str, Mapping[str, str]],
        prints: Prints | None,
    ) -> None:
        self.findings, self.images, self.outcomes = findings, images, outcomes
        self._prints = prints
        self._copies: dict[int, dict[str, NearCopy]] = {}
        own = findings.origin.words if findings.origin else {}
        self._words, self._sizes = {**own, **words}, sizes
        self._image: Ints = findings.image.onto(images)
        self._kept: dict[int, Flags] = {}

    def answered(self, kind: str) -> Flags:
        """Return which images have an answer for a kind."""
        rows = self.findings.kind.among([kind])
        return np.bincount(self._image[rows], minlength=len(self.images)) > 0

    def holds(self, condition: Condition) -> Flags:
        """Return for which images a condition holds: ndarray of bool."""
        if condition.joined:
            found = np.ones(len(self.images), dtype=bool)
            for one in condition.every:
                found &= self.holds(one)
            if condition.any_of:
                found &= np.any([self.holds(one) for one in condition.any_of], axis=0)
            for one in condition.none_of:
                found &= ~self.holds(one)
            return found
        if condition.copy_of is not None:
            near = self._near(condition)
            return np.array([image in near for image in self.images], dtype=bool)
        if condition.outcomes:
            return self._with_outcome(condition)
        counts = np.bincount(self._image[self._matching(condition)], minlength=len(self.images))
        most = math.inf if condition.at_most is None else condition.at_most
        # What was not answered is not known to be absent.
        return (counts >= condition.least) & (counts <= most) & self.answered(condition.kind)

    def rows_of(self, condition: Condition, images: Flags) -> Ints:
        """Return the findings that tripped a condition, the most confident first."""
        rows = np.zeros(len(self.findings), dtype=bool)
        for leaf in _positive(condition):
            if leaf.kind and not leaf.outcomes and leaf.copy_of is None:
                rows |= self._matching(leaf)
        places = np.flatnonzero(rows & images[self._image])
        confidence = np.nan_to_num(self.findings.confidence[places], nan=np.inf)
        return places[np.argsort(-confidence, kind="stable")]

    def prints(self) -> Prints:
        """Return the prints of the images; raises ArgumentError where none were given."""
        if self._prints is None:
            raise ArgumentError(
                "a rule asks for near-copies, and the images are not given",
                place="rules: copy_of",
                next_step="Give them: `images=`.",
            )
        return self._prints

    def _near(self, condition: Condition) -> dict[str, NearCopy]:
        assert condition.copy_of is not None
        if id(condition) not in self._copies:
            near = nearest_copies(self.prints(), condition.copy_of, least=condition.likeness)
            self._copies[id(condition)] = {one.image: one for one in near}
        return self._copies[id(condition)]

    def copies_in_words(self, condition: Condition) -> dict[int, str]:
        """Return for each image that is a near-copy, by its place, of what."""
        words: dict[int, str] = {}
        for leaf in _positive(condition):
            near = self._near(leaf) if leaf.copy_of is not None else {}
            for place, image in enumerate(self.images) if near else ():
                if image in near:
                    one = near[image]
                    mirrored = ", mirrored" if one.mirrored else ""
                    words[place] = f"copy of {one.known}, {one.likeness:.2f} alike{mirrored}"
        return words

    def _with_outcome(self, condition: Condition) -> Flags:
        wanted = set(condition.outcomes)
        found = np.zeros(len(self.images), dtype=bool)
        for place, image in enumerate(self.images):
            given = self.outcomes.get(image, {})
            mine = [o for k, o in given.items() if condition.kind in ("", k)]
            found[place] = bool(wanted & set(mine))
        return found

    def _matching(self, condition: Condition) -> Flags:
        if id(condition) not in self._kept:
            self._kept[id(condition)] = self._matched(condition)
        return self._kept[id(condition)]

    def _matched(self, condition: Condition) -> Flags:
        table = self.findings
        rows = table.kind.among([condition.kind]) & ~table.blank
        if condition.labels or condition.below:
            rows &= table.label.among(condition.labels) | self._below(condition.below)
        if condition.confidence is not None:
            cut = thresholds_of(
                condition.confidence, table, words=self._words, place="rules: confidence"
            )
            rows &= cut.passes(table)
        if condition.pattern:
            rows &= self._with_text(condition.pattern)
        if condition.attribute:
            rows &= having_attribute(table, rows, condition.attribute, condition.values)
        if condition.persons or condition.other_than:
            rows &= self._with_person(condition)
        return rows & self._large_enough(condition, rows)

    def _below(self, broader: Sequence[str]) -> Flags:
        """Return which findings stand below a broader label, or are it."""
        rows = self.findings.label.among(broader)
        wanted = set(broader)
        for place, details in enumerate(self.findings.details or ()):
            if details is not None and wanted & set(details.parents):
                rows[place] = True
        return rows

    def _with_text(self, pattern: str) -> Flags:
        holding = linear_pattern(pattern, place="rule: pattern").found_in
        holds = np.array([holding(name) for name in self.findings.label.names], dtype=bool)
        codes = self.findings.label.codes
        return holds[codes] if len(holds) else np.zeros(len(codes), dtype=bool)

    def _with_person(self, condition: Condition) -> Flags:
        wanted = {plain_name(name) for name in condition.persons}
        others = {plain_name(name) for name in condition.other_than}
        rows = np.zeros(len(self.findings), dtype=bool)
        details = self.findings.details or (None,) * len(rows)
        for place, one in enumerate(details):
            name, similarity = one.person() if one is not None else ("", None)
            # A similarity that is missing never meets one that is demanded.
            least = condition.least_similarity
            alike = least <= 0 if similarity is None else similarity >= least
            person = plain_name(name) if alike else ""
            rows[place] = person in wanted or (bool(others) and person not in others)
        return rows

    def _large_enough(self, condition: Condition, rows: Flags) -> Flags:
        shares = condition.least_share > 0 or condition.most_share < math.inf
        if not condition.least_pixels and not shares:
            return np.ones(len(rows), dtype=bool)
        box = self.findings.box
        width, height = box[:, 2] - box[:, 0], box[:, 3] - box[:, 1]
        with np.errstate(invalid="ignore"):
            kept = np.minimum(width, height) >= condition.least_pixels
            if shares:
                share = width * height / self._areas(rows)
                kept &= (share >= condition.least_share) & (share <= condition.most_share)
        return kept

    def _areas(self, rows: Flags) -> Floats:
        """Return the area of each row's image; raises ArgumentError where one is not known."""
        area = np.array(
            [math.prod(self._sizes.get(name, (math.nan, math.nan))) for name in self.images]
        )
        needed = np.unique(self._image[rows])
        unknown = needed[np.isnan(area[needed])]
        if len(unknown):
            raise ArgumentError(
                "a share of the image is asked, and the image's size is not known",
                place="rules",
                got=self.images[unknown[0]],
                next_step="Give sizes, or the ledger that the findings are in.",
            )
        return area[self._image]


def _positive(condition: Condition) -> list[Condition]:
    """Return the leaves that findings can trip: not those that must not hold."""
    if not condition.joined:
        return [condition]
    return [leaf for one in (*condition.every, *condition.any_of) for leaf in _positive(one)]
