"""Choosing a reading of the samples as a whole, and how far the next one is behind.

Every group has several candidates. A reading chooses some of them, such that no part of a sample is
read twice, and is worth the sum of what speaks for them. The best one is found exactly, as an
integer program; how clear each of its choices is, by looking for the best one without it.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from msgspec import Struct, field
from msgspec.structs import replace
from numpy.typing import NDArray

from dotledger.services.drafting.box_drafting import Size
from dotledger.services.drafting.draft_evidence import ASK, BASE, KIND_WORDS, SORT_NAMES, name_words
from dotledger.services.drafting.group_fields import GroupFields, pooled_amounts
from dotledger.services.drafting.role_guesses import Candidate, candidates_of
from dotledger.services.drafting.sample_sections import (
    Path,
    SectionGroup,
    fields_of,
    plain_name,
    written,
)

__all__ = ["Chosen", "best_reading"]

_MOST_SORTS = 6
_MOST_CANDIDATES = 400
_SURELY = 5.0
"""Nats from which on a group holds things with boxes for certain."""


class Chosen(Struct, eq=False):
    """One candidate of the best reading, and what else is nearly as likely in its place.

    `rivals` read something else out of the same samples, and are less than `ASK` behind; `doubted`
    says that nothing may be there to read at all.
    """

    candidate: Candidate
    rivals: list[Candidate] = field(default_factory=list)
    doubted: bool = False


def best_reading(
    groups: Mapping[Path, SectionGroup],
    working: Mapping[int, Size],
    words: Sequence[str] = (),
) -> list[Chosen]:
    """Return the best reading of all samples, in the order of the answer.

    Parameters
    ----------
    groups : mapping of Path to SectionGroup
        Every place at which findings may stand.
    working : mapping of int to (float, float)
        By sample, the size that the answer reports.
    words : sequence of str
        The ordered words of the service's confidence scale, rising, where a person says them.
    """
    pooled = pooled_amounts(groups)
    candidates: list[Candidate] = []
    for group in groups.values():
        for part in [group, *_split_groups(group, groups)]:
            shown = [working[e.sample] for e in part.entries if e.sample in working]
            own = GroupFields(
                group=part,
                groups=groups,
                working=shown if len(shown) == len(part.entries) else [],
                pooled=pooled,
                words=words,
                whole=group,
            )
            candidates += candidates_of(own)
    candidates = _outside_boxes(_in_one_way(candidates))
    candidates = sorted((c for c in candidates if c.score > 0), key=lambda c: -c.score)
    return _chosen(candidates[:_MOST_CANDIDATES])


def _outside_boxes(candidates: Sequence[Candidate]) -> list[Candidate]:
    """Take from what stands inside a thing with a box: it is a part of that thing."""
    boxed = {
        one.group.path
        for one in candidates
        if one.box is not None and one.score > _SURELY and one.group.through
    }
    return [
        replace(one, score=one.score + BASE["inside a box"])
        if any(one.group.path[: len(p)] == p and one.group.path != p for p in boxed)
        and not _outer_box(one)
        else one
        for one in candidates
    ]


def _outer_box(one: Candidate) -> bool:
    """Tell whether a candidate has the box of the entry around: it is what that one is called."""
    return one.box is not None and one.box.at.startswith("^") and not one.group.beside


# --- one list of several sorts ----------------------------------------------------------------


def _split_groups(
    group: SectionGroup, groups: Mapping[Path, SectionGroup]
) -> Iterable[SectionGroup]:
    """Yield parts of a group that may be read by rules of their own, for it holds several sorts."""
    values = group.values
    plain = not group.beside and "{}" not in group.path
    if len(values) < 2 or not plain or not all(isinstance(value, dict) for value in values):
        return
    yield from _by_word(group)
    yield from _by_presence(group, groups)


def _by_word(group: SectionGroup) -> Iterable[SectionGroup]:
    """Yield the entries of each word of a field that says what they are."""
    for path, words in fields_of(group.values).items():
        named = bool(path) and (
            plain_name(path[-1]) in SORT_NAMES or bool(name_words(path[-1]) & SORT_NAMES)
        )
        if not named or not all(isinstance(word, str) and word for word in words):
            continue
        sorts = list(dict.fromkeys(map(str, words)))
        known = sum(word.lower() in KIND_WORDS for word in sorts)
        if 1 < len(sorts) <= _MOST_SORTS and known:
            for sort in sorts:
                chosen = [e for e, w in zip(group.entries, words, strict=True) if w == sort]
                keep_if = f"{written(path)} == '{sort}'"
                entries = [replace(e, value=_without(e.value, path)) for e in chosen]
                yield SectionGroup(
                    group.path, entries, columns=group.columns, keep_if=keep_if, sort=sort
                )


def _without(value: Any, path: Path) -> Any:
    """Return a value without one of its fields, and without those that are null."""
    if not isinstance(value, dict):
        return value
    name, *rest = path
    inner = {k: v for k, v in value.items() if v is not None}
    if rest:
        return {k: _without(v, tuple(rest)) if k == name else v for k, v in inner.items()}
    return {k: v for k, v in inner.items() if k != name}


def _by_presence(
    group: SectionGroup, groups: Mapping[Path, SectionGroup]
) -> Iterable[SectionGroup]:
    """Yield the entries that have a box, or another thing of parts, and those that lack it."""
    names = dict.fromkeys(name for value in group.values for name in value)
    for name in names:
        held = [e for e in group.entries if _there(e.value.get(name))]
        lacking = [e for e in group.entries if not _there(e.value.get(name))]
        sides = any(isinstance(e.value[name], (list, dict)) for e in held)
        inner = any(path[: len(group.path) + 1] == (*group.path, name) for path in groups)
        if not held or not lacking or not sides or inner:
            continue
        at = written([name])
        yield SectionGroup(group.path, held, columns=group.columns, keep_if=f"{at}")
        bare = [replace(e, value=_without(e.value, (name,))) for e in lacking]
        yield SectionGroup(group.path, bare, columns=group.columns, keep_if=f"!{at}")


def _there(value: Any) -> bool:
    return value is not None and value not in ([], {})


# --- boxes and confidences of one name are written in one way -----------------------------------


Ways = dict[tuple[Any, ...], dict[int, float]]


def _in_one_way(candidates: Sequence[Candidate]) -> list[Candidate]:
    """Let groups share what speaks for each way of writing a box.

    Boxes of one name are written in one way; those of other names at least count the same unit.
    """
    named: dict[str, Ways] = {}
    units: Ways = {}
    for one in candidates:
        if one.box is not None:
            named_ways = named.setdefault(_box_name(one), {})
            for ways, way in ((named_ways, _way(one)), (units, _unit(one))):
                groups = ways.setdefault(way, {})
                # What was believed before any number was seen counts once, not for each group.
                seen = one.box.score - one.box.prior
                groups[id(one.group)] = max(seen, groups.get(id(one.group), -np.inf))
    told = [_told_elsewhere(one, named, units) for one in candidates]
    # Other groups say how a box is written, and never that there is none: the way of a group that
    # they speak least against loses nothing.
    best: dict[int, float] = {}
    for one, more in zip(candidates, told, strict=True):
        if one.box is not None:
            best[id(one.group)] = max(more, best.get(id(one.group), -np.inf))
    return [
        one if one.box is None else replace(one, score=one.score + more - best[id(one.group)])
        for one, more in zip(candidates, told, strict=True)
    ]


def _told_elsewhere(one: Candidate, named: Mapping[str, Ways], units: Ways) -> float:
    """Return what all other groups say against the way in which a candidate writes its box."""
    if one.box is None:
        return 0.0
    ways = named[_box_name(one)]
    alike = {g for groups in ways.values() for g in groups} - {id(one.group)}
    others = {g for groups in units.values() for g in groups} - alike - {id(one.group)}
    more = sum(_behind(ways, _way(one), group) for group in alike)
    return more + _HALF * sum(_behind(units, _unit(one), group) for group in others)


_HALF = 0.5
"""Boxes of two names may be written in two units; they seldom are."""


def _behind(
    ways: Mapping[tuple[Any, ...], Mapping[int, float]], way: tuple[Any, ...], group: int
) -> float:
    """Return how far a way of writing a box is behind the best one, in another group."""
    best = max(way.get(group, -np.inf) for way in ways.values())
    own = ways[way].get(group, best - _FAR)
    return max(own - best, -_FAR)


_FAR = 20.0
"""Nats; a way that a group does not even try is no further behind."""


def _box_name(one: Candidate) -> str:
    at = one.box.at.lstrip("^").removesuffix("[@index]") if one.box else ""
    return at.rpartition(".")[2].removesuffix("s") if at != "@" else f"@{id(one.group)}"


def _unit(one: Candidate) -> tuple[Any, ...]:
    return (one.box.unit, one.box.grid, one.box.of) if one.box else ()


def _way(one: Candidate) -> tuple[Any, ...]:
    box = one.box
    return () if box is None else (box.form, box.order, *box.fields.values(), box.unit, box.of)


# --- the search ---------------------------------------------------------------------------------


def _chosen(candidates: Sequence[Candidate]) -> list[Chosen]:
    if not candidates:
        return []
    sets = _conflicts(candidates)
    scores = np.asarray([one.score for one in candidates])
    best = _solve(scores, sets, ())
    total = float(scores[best].sum())
    found = []
    for place in best:
        own = Chosen(candidates[place])
        banned = [place, *_same_as(candidates, place)]
        while len(own.rivals) < 3:
            other = _solve(scores, sets, banned)
            behind = total - float(scores[other].sum())
            if behind >= ASK:
                break
            changed = [i for i in other if i not in best]
            rival = next((i for i in changed if _touch(candidates[i], candidates[place])), None)
            if rival is None:
                own.doubted = True
                break
            own.rivals.append(candidates[rival])
            banned += [rival, *_same_as(candidates, rival)]
        found.append(own)
    tables = {one.candidate.label.table for one in found}
    found = [
        one
        for one in found
        if one.candidate.group.path not in tables and not (one.doubted and _is_bare(one.candidate))
    ]
    return sorted(found, key=lambda one: _position(one.candidate))


def _is_bare(one: Candidate) -> bool:
    """Tell whether it is not even worth a question: bare words, or a kind that is never judged."""
    bare = one.box is None and not one.confidence.toml
    return bare or one.kind in ("colour", "fact", "caption")


def _position(one: Candidate) -> tuple[int, ...]:
    """Return where a candidate's first entry stands in its sample, to sort by."""
    first = one.group.entries[0]
    top = first
    while top.outer is not None:
        top = top.outer
    value, steps = top.value, [first.sample]
    for step in first.place:
        steps.append(list(value).index(step) if isinstance(value, dict) else int(step))
        value = value[step]
    return tuple(steps)


def _same_as(candidates: Sequence[Candidate], place: int) -> list[int]:
    """Return the other candidates that read the same: they are no rivals."""
    one = candidates[place]
    mine = _places(one)
    return [
        i
        for i, other in enumerate(candidates)
        if i != place
        and other.kind == one.kind
        and other.same_values(one)
        and (other.group is one.group or bool(one.label.texts) or _places(other) == mine)
    ]


def _places(one: Candidate) -> set[tuple[Any, ...]]:
    return {
        (entry.sample, *place)
        for entry in one.group.entries
        for place in (entry.place, *entry.also)
    }


def _solve(
    scores: NDArray[np.float64], sets: Sequence[Sequence[int]], banned: Sequence[int]
) -> list[int]:
    """Return the candidates whose scores add up to most, with at most one of each set."""
    from scipy.optimize import Bounds, LinearConstraint, milp
    from scipy.sparse import csr_array

    upper = np.ones(len(scores))
    upper[list(banned)] = 0
    constraints = []
    if sets:
        columns = np.concatenate([np.asarray(one) for one in sets])
        rows = np.cumsum([0, *map(len, sets)])
        matrix = csr_array((np.ones(len(columns)), columns, rows), (len(sets), len(scores)))
        constraints = [LinearConstraint(matrix, -np.inf, 1.0)]
    solved = milp(
        -scores,
        integrality=np.ones(len(scores), dtype=np.int64),
        bounds=Bounds(0, upper),
        constraints=constraints,
    )
    taken = np.zeros(len(scores)) if solved.x is None else solved.x
    return [int(i) for i in np.flatnonzero(taken > 0.5)]


def _conflicts(candidates: Sequence[Candidate]) -> list[list[int]]:
    """Return sets of candidates of which at most one may be chosen: they read one part twice."""
    groups: dict[int, list[int]] = {}
    for i, one in enumerate(candidates):
        groups.setdefault(id(one.group), []).append(i)
    members = list(groups.values())
    places = [_places(candidates[own[0]]) for own in members]
    found = [own for own in members if len(own) > 1]
    for i, mine in enumerate(members):
        for j in range(i + 1, len(members)):
            if not _overlap(places[i], places[j]):
                continue
            free = {
                (a, b)
                for a in mine
                for b in members[j]
                if _label_and_parts(candidates[a], candidates[b])
            }
            if free:
                found += [[a, b] for a in mine for b in members[j] if (a, b) not in free]
            else:
                found.append([*mine, *members[j]])
    return found


def _overlap(one: set[tuple[Any, ...]], other: set[tuple[Any, ...]]) -> bool:
    """Tell whether some place is in the other set, or around or inside one of its places."""
    if one & other:
        return True
    depths = {len(place) for place in one}, {len(place) for place in other}
    inside = any(place[:depth] in one for depth in depths[0] for place in other)
    return inside or any(place[:depth] in other for depth in depths[1] for place in one)


def _label_and_parts(one: Candidate, other: Candidate) -> bool:
    """Tell whether one is a list of labels, and the other the boxes listed under each of them.

    A label with a confidence of its own is one of the image, whether or not it has boxes.
    """
    outer, inner = sorted((one, other), key=lambda c: len(c.group.path))
    nested = inner.group.path[: len(outer.group.path)] == outer.group.path
    up = inner.label.at.startswith("^") and inner.box is not None
    plain = outer.box is None and not outer.group.keep_if and bool(outer.confidence.toml)
    return nested and outer.group.path != inner.group.path and up and plain


def _touch(one: Candidate, other: Candidate) -> bool:
    """Tell whether two candidates are about the same part of the answer."""
    return _overlap(_places(one), _places(other))
