"""The page itself: tables, charts and pictures put into its template."""

from __future__ import annotations

import base64
import hashlib
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from importlib.resources import files
from typing import TYPE_CHECKING, Any

from dotledger.core.kinds import PLACES, worst_outcome
from dotledger.core.measurement.measure_result import Measure
from dotledger.core.measures.measure_rows import Row
from dotledger.core.measures.registry import MEASURES, RANKED, RATIOS, Form
from dotledger.core.questions.error_diagnosis import Case
from dotledger.errors import MissingExtra
from dotledger.json_codec import to_json
from dotledger.report.pages.batch_facts import SentFacts
from dotledger.report.pages.embedded_pictures import crops_of
from dotledger.report.pages.report_charts import kind_charts, latency_chart
from dotledger.report.pages.report_columns import PageRun
from dotledger.report.pages.svg_charts import can_draw

if TYPE_CHECKING:
    from dotledger.core.comparison.differences import Difference
    from dotledger.core.comparison.run_comparison import Comparison

__all__ = ["Gallery", "Pages", "dumped", "page_policy", "render", "sight_script"]

_WORST = 12
"""Crops of each sort."""
_CONFUSED = 10
DASH = "\N{EN DASH}"


@dataclass(frozen=True, kw_only=True)
class Gallery:
    """Every image of the page.

    Attributes
    ----------
    names : tuple of str
        In order.
    sources : tuple of str
        Of the small copies; empty where there is none.
    sizes : tuple of (int, int)
        Of the upright originals; (0, 0) where not known.
    outcomes : mapping of str to mapping of str to str
        By image and kind, where a ledger knows them.
    problems : mapping of str to str
        Why an image is not shown.
    raw : mapping of str to str
        Raw answers.
    facts : mapping of str to mapping
        The user's own columns by image.
    """

    names: Sequence[str]
    sources: Sequence[str]
    sizes: Sequence[tuple[int, int]]
    outcomes: Mapping[str, Mapping[str, str]]
    problems: Mapping[str, str]
    raw: Mapping[str, str]
    facts: Mapping[str, Mapping[str, Any]]


@dataclass(frozen=True, kw_only=True)
class Pages:
    """Everything that goes into a page.

    Attributes
    ----------
    title : str
        Above it.
    runs : sequence of PageRun
        One or two.
    facts : sequence of SentFacts or None
        One a run.
    measures, at_start : mapping of str to Measure
        By run, without a threshold and at the one that the page begins with; empty without
        annotations.
    gallery : Gallery
        The images.
    overlap : float
        Required.
    verdicts : mapping of str to (str, tuple of str)
        By image the verdict and its reasons; empty without rules.
    comparison : Comparison or None
        Of two runs.
    readers : mapping of str to callable
        Where crops are cut from; empty for none.
    private : bool
        Whether images and names are left out.
    place : str
        One of `PLACES`: where the text of a box stands if there is room.
    """

    title: str
    runs: Sequence[PageRun]
    facts: Sequence[SentFacts | None]
    measures: Mapping[str, Measure]
    at_start: Mapping[str, Measure]
    gallery: Gallery
    overlap: float
    verdicts: Mapping[str, tuple[str, tuple[str, ...]]]
    comparison: Comparison | None
    readers: Mapping[str, Callable[[], bytes]]
    private: bool
    place: str = PLACES[0]


def render(pages: Pages) -> str:
    """Return the page.

    Returns
    -------
    str
        HTML that loads nothing from elsewhere; its policy allows its own script and style only.

    Raises
    ------
    MissingExtra
        If Jinja2 is not installed.
    """
    try:
        from jinja2 import Environment, StrictUndefined
    except ImportError as error:
        raise MissingExtra(
            "a report needs Jinja2", next_step="Run: pip install 'dot-ledger[report]'"
        ) from error
    environment = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    style, script = _part("report.css"), _script()
    template = environment.from_string(_part("report.html"))
    return template.render(
        title=pages.title,
        style=_Safe(style),
        script=_Safe(script),
        policy=page_policy(style, script),
        data=_Safe(dumped(_data(pages))),
        raw=_Safe(dumped(dict(pages.gallery.raw))) if pages.gallery.raw else "",
        heads=list(zip([run.name for run in pages.runs], pages.facts, strict=True)),
        latency=_Safe(latency_chart(_seconds(pages))),
        overlap=f"{pages.overlap:g}",
        judged=bool(pages.measures),
        headings=[one.heading for one in _SHOWN.values()],
        tables=[_table(name, one, pages) for name, one in pages.at_start.items()],
        scope=_scope(pages),
        differences=_differences(pages),
        charts=_charts(pages),
        drawn=can_draw(),
        confusions=_confusions(pages),
        worst=_worst(pages),
        cards=_cards(pages),
        private=pages.private,
        slices=_slices(pages),
        labels=_labels(pages),
        verdicts=bool(pages.verdicts),
        outcomes=bool(pages.gallery.outcomes),
        dash=DASH,
    )


class _Safe(str):
    """Text that is markup already: our own, or escaped where it was made."""

    __slots__ = ()

    def __html__(self) -> str:
        return str(self)


def sight_script() -> str:
    """Return the script of a picture with boxes, which several pages have."""
    return (files("dotledger") / "page_parts" / "sight.js").read_text(encoding="utf-8")


def _part(name: str) -> str:
    return (files(__package__) / "parts" / name).read_text(encoding="utf-8")


_COUNTED = {
    "hits": {"right": 1},
    "found": {"right": 1, "wrong": 1},
    "actual": {"right": 1, "missed": 1},
}
"""The counts of the registry in those that the page's script makes."""
_SHOWN = {n: RATIOS[n] for n in RANKED if n in RATIOS and RATIOS[n].needs <= set(_COUNTED)}
"""Measures that the script can work out anew at any threshold."""


def _script() -> str:
    """Return the page's script, with the formulas of the registry written into it."""
    forms = [
        {"name": name, "ratios": [[_own(part), _own(whole)] for part, whole in one.ratios]}
        for name, one in _SHOWN.items()
    ]
    script = sight_script() + _part("report.js")
    return script.replace("MEASURE_FORMS", to_json(forms).decode(), 1)


def _own(form: Form) -> dict[str, float]:
    """Return a sum of counts as one of right, wrong and missed."""
    found: dict[str, float] = {}
    for name, factor in form.items():
        for own, times in _COUNTED[name].items():
            found[own] = found.get(own, 0) + factor * times
    return found


def page_policy(style: str, script: str) -> str:
    """Return the page's policy: nothing but its own style and script may do anything."""

    def named(text: str) -> str:
        digest = hashlib.sha256(text.encode()).digest()
        return f"'sha256-{base64.b64encode(digest).decode()}'"

    return (
        f"default-src 'none'; script-src {named(script)}; style-src {named(style)}; "
        "img-src data: 'self' file:; base-uri 'none'; form-action 'none'"
    )


def dumped(value: Any) -> str:
    """Return JSON that may stand inside a page: nothing in it ends the element it is in.

    Parameters
    ----------
    value : plain value
        Numbers that are not finite become null.
    """
    text = to_json(value).decode()
    return text.replace("<", "\\u003c").replace(">", "\\u003e").replace("&", "\\u0026")


def _data(pages: Pages) -> dict[str, Any]:
    """Return what the page's script works with."""
    gallery = pages.gallery
    first = next(iter(pages.measures.values()), None)
    return {
        "runs": [run.plain() for run in pages.runs],
        "names": list(gallery.names),
        "sizes": [list(size) for size in gallery.sizes],
        "outcomes": [
            worst_outcome(gallery.outcomes.get(name, {}).values(), "") for name in gallery.names
        ],
        "verdicts": [pages.verdicts.get(name, ("", ()))[0] for name in gallery.names],
        "reasons": [list(pages.verdicts.get(name, ("", ()))[1]) for name in gallery.names],
        "facts": [_own_facts(gallery.facts.get(name, {})) for name in gallery.names],
        "start": _start(pages),
        "floor": None if first is None else first.basis.floor,
        "judged": bool(pages.measures),
        "place": pages.place,
    }


def _own_facts(facts: Mapping[str, Any]) -> dict[str, str]:
    return {name: str(value) for name, value in facts.items() if name not in ("width", "height")}


def _start(pages: Pages) -> dict[str, float | None]:
    """Return by ``kind:label`` the threshold that the page begins with; None for none."""
    found: dict[str, float | None] = {}
    for one in pages.at_start.values():
        for kind, scope in one.basis.scopes.items():
            least = one.basis.cuts[0].least(kind, scope.labels).tolist()
            for label, value in zip(scope.labels, least, strict=True):
                found.setdefault(f"{kind}:{label}", value if math.isfinite(value) else None)
    return found


def _seconds(pages: Pages) -> dict[str, Sequence[float]]:
    return {
        run.name: facts.seconds
        for run, facts in zip(pages.runs, pages.facts, strict=True)
        if facts is not None and facts.seconds
    }


def _two(value: float) -> str:
    return DASH if math.isnan(value) else f"{value:.2f}"


def _ends(row: Row, measure: str) -> str:
    low, high = row.intervals.get(measure, (math.nan, math.nan))
    return "" if math.isnan(low) or math.isnan(high) else f"{low:.2f}{DASH}{high:.2f}"


def _table(name: str, measured: Measure, pages: Pages) -> dict[str, Any]:
    """Return the rows of one run: each kind pooled, then its labels."""
    whole = pages.measures[name]
    rows = []
    for kind, one in measured.kinds.items():
        rows.append(_table_row(kind, "", one.pooled, math.nan))
        rows += [
            _table_row(kind, label, row, whole.kinds[kind].rows[label].average_precision)
            for label, row in one.rows.items()
        ]
    return {"name": name, "place": list(pages.measures).index(name), "rows": rows}


def _table_row(kind: str, label: str, row: Row, area: float) -> dict[str, Any]:
    return {
        "kind": kind,
        "label": label,
        "annotated": row.annotated,
        "right": row.true_positives,
        "missed": row.misses,
        "wrong": row.false_positives,
        "measures": [(name, _two(row.measure(name)), _ends(row, name)) for name in _SHOWN],
        "area": _two(area),
    }


def _scope(pages: Pages) -> list[str]:
    """Return in sentences what was compared, and what a reader should know first."""
    lines = []
    for name, one in pages.at_start.items():
        head = f"{name}: " if len(pages.at_start) > 1 else ""
        kinds = ", ".join(f"{kind} {k.images_in_scope}" for kind, k in one.kinds.items())
        lines.append(f"{head}{one.images_in_scope} images in scope ({kinds}).")
        if one.unanswered:
            lines.append(f"{head}{one.unanswered} annotated images without an answer left out.")
        if one.unjudged:
            lines.append(
                f"{head}{one.unjudged} findings are not judged: their labels are never annotated."
            )
        lines += [f"{head}{note}" for note in one.notes]
    return list(dict.fromkeys(lines))


def _verdict(names: tuple[str, str], one: Difference) -> str:
    if one.told_apart:
        return f"{names[one.better]} is better"
    if math.isnan(one.p_value):
        return "not judged" if one.difference else "the same"
    return "no significant difference"


def _differences(pages: Pages) -> dict[str, Any] | None:
    if pages.comparison is None:
        return None
    pair = pages.comparison.pair
    names = (pair.first, pair.second)
    rows = [
        (
            kind,
            MEASURES[measure].heading,
            _two(one.first),
            _two(one.second),
            DASH if math.isnan(one.difference) else f"{one.difference:+.2f}",
            "" if math.isnan(one.low) else f"{one.low:+.2f} to {one.high:+.2f}",
            _verdict(names, one),
            one.told_apart,
        )
        for kind, differences in pair.kinds.items()
        for measure, one in differences.items()
        if not math.isnan(one.difference)
    ]
    return {
        "first": names[0],
        "second": names[1],
        "images": pages.comparison.images,
        "together": pages.comparison.rows_together,
        "rows": rows,
    }


def _charts(pages: Pages) -> list[tuple[str, list[_Safe]]]:
    kinds = dict.fromkeys(kind for one in pages.measures.values() for kind in one.kinds)
    chosen = _chosen(pages)
    return [
        (
            kind,
            [_Safe(one) for one in kind_charts(
                pages.measures, pages.at_start, kind,
                {name: at[kind] for name, at in chosen.items() if kind in at},
            )],
        )
        for kind in kinds
    ]  # fmt: skip


def _chosen(pages: Pages) -> dict[str, dict[str, float]]:
    """Return by run and kind the threshold to mark: the one that the page begins with."""
    found: dict[str, dict[str, float]] = {}
    for name, one in pages.at_start.items():
        for kind, scope in one.basis.scopes.items():
            least = set(one.basis.cuts[0].least(kind, scope.labels).tolist())
            if len(least) == 1 and math.isfinite(value := least.pop()):
                found.setdefault(name, {})[kind] = value
    return found


def _confusions(pages: Pages) -> list[dict[str, Any]]:
    found = []
    for name, one in pages.at_start.items():
        for kind, confusion in one.confusion().items():
            pairs = confusion.pairs()[:_CONFUSED]
            if pairs:
                found.append({"run": name, "kind": kind, "pairs": pairs})
    return found


def _worst(pages: Pages) -> list[dict[str, Any]]:
    """Return the most confident wrong findings and the largest misses, as crops."""
    found = []
    for name, one in pages.at_start.items():
        why = one.why()
        for title, cases in (
            (f"{name}: wrong, the most confident first", why.wrong),
            (f"{name}: missed, the largest first", why.missed),
        ):
            boxed = [case for case in cases if not math.isnan(case.box[0])][:_WORST]
            crops = crops_of([(case.image, case.box) for case in boxed], pages.readers)
            wrong = cases is why.wrong
            shown = [
                {"crop": crop, "caption": _caption(case, wrong=wrong), "case": case}
                for case, crop in zip(boxed, crops, strict=True)
            ]
            if shown:
                sort = "wrong" if wrong else "missed"
                found.append({"title": title, "sort": sort, "shown": shown, "of": len(cases)})
    return found


def _caption(case: Case, *, wrong: bool) -> str:
    if wrong:
        known = not math.isinf(case.confidence) and not math.isnan(case.confidence)
        number = f" {case.confidence:.2f}" if known else ""
        return f"found: {case.label}{number}. {case.reason}: {case.about}"
    return f"expected: {case.label}. {case.reason}: {case.about}"


def _cards(pages: Pages) -> list[dict[str, Any]]:
    gallery = pages.gallery
    return [
        {
            "place": place,
            "name": name,
            "source": gallery.sources[place],
            "width": gallery.sizes[place][0],
            "height": gallery.sizes[place][1],
            "outcome": worst_outcome(gallery.outcomes.get(name, {}).values(), ""),
            "verdict": pages.verdicts.get(name, ("", ()))[0],
            "problem": gallery.problems.get(name, ""),
        }
        for place, name in enumerate(gallery.names)
    ]


def _slices(pages: Pages) -> list[tuple[str, list[str]]]:
    """Return the user's own columns that have a few values, for filtering."""
    found: dict[str, dict[str, None]] = {}
    for name in pages.gallery.names:
        for column, value in _own_facts(pages.gallery.facts.get(name, {})).items():
            found.setdefault(column, {})[value] = None
    return [(name, sorted(values)) for name, values in found.items() if 1 < len(values) <= 30]


def _labels(pages: Pages) -> list[tuple[str, list[str]]]:
    """Return every label by kind, found or annotated."""
    found: dict[str, set[str]] = {}
    for run in pages.runs:
        for columns in (run.findings, run.annotations):
            for kind, label in zip(columns.get("kind", ()), columns.get("label", ()), strict=True):
                found.setdefault(kind, set()).add(label)
    return [(kind, sorted(labels) if len(labels) <= 200 else []) for kind, labels in found.items()]
