"""Weighing what was found, from Python: choosing, comparing, watching, deciding.

Paths are taken wherever tables and files are.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypedDict, Unpack, overload

from dotledger.api.inputs import annotations_given, findings_given, threshold_given
from dotledger.core.arguments import as_path
from dotledger.core.measurement import measure as core_measure
from dotledger.core.measurement.measure_result import Measure
from dotledger.core.tables.annotations_table import Annotations
from dotledger.core.tables.asked_labels import annotations_asked, common_questions, findings_asked
from dotledger.core.tables.findings_table import Findings
from dotledger.core.tables.table_inputs import as_annotations
from dotledger.errors import ArgumentError

if TYPE_CHECKING:
    import pandas as pd

    from dotledger.core.comparison.drift import Drift
    from dotledger.core.comparison.interrater_agreement import Agreement
    from dotledger.core.comparison.release_gates import Verdicts
    from dotledger.core.comparison.run_comparison import Comparison
    from dotledger.core.copies.image_fingerprints import Prints
    from dotledger.core.decisions.rule_conditions import Rules
    from dotledger.core.decisions.verdicts import Decisions
    from dotledger.core.questions.identification import Identification
    from dotledger.core.questions.pair_verification import PairMeasure
    from dotledger.core.thresholds.choice_plan import Each
    from dotledger.core.thresholds.similarity_choice import SimilarityChoice
    from dotledger.core.thresholds.three_way_choice import ThreeWays
    from dotledger.core.thresholds.threshold_choice import Choice

__all__ = ["check_gates", "choose_similarity", "choose_thresholds", "compare", "decide", "drift"]

PathLike = str | os.PathLike[str]


def choose_thresholds(
    findings: Findings | PathLike | Any,
    annotations: Annotations | PathLike | Any,
    *,
    aim: str = "best f1",
    each: Each = "kind",
    overlap: float = 0.5,
    kinds: Iterable[str] | None = None,
    smallest: int = 20,
    parts: int | None = None,
    held_out: str | None = None,
    surely: float | None = None,
    floor: float | None = None,
    draws: int = 1000,
    seed: int = 0,
    now: float | None = None,
) -> Choice | ThreeWays:
    """Choose thresholds under a stated aim, and tell what they honestly lead to.

    The outcome is measured on images that the thresholds were not chosen on: each of `parts` parts
    of the images is judged by what is best on all others. Its intervals cover the choosing, too.

    Parameters
    ----------
    findings, annotations : table, dataframe or path
        As `measure` takes them.
    aim : str, default "best f1"
        Such as ``recall >= 0.9`` (then the best precision), ``precision >= 0.8`` (then the best
        recall), ``best f1``, ``at most 5 false alarms in 100 images``, ``at most 10% of images
        held``, ``a miss costs 5 and a false alarm costs 0.2``, or ``at most 1% of unsafe images
        pass, at most 5% of safe images are stopped`` for two thresholds at once.
    each : {"kind", "label", "all"}, default "kind"
        What has a threshold of its own.
    overlap : float, default 0.5
        Required overlap, for kinds with boxes.
    kinds : iterable of str, optional
        By default those that the annotations hold; for two thresholds ``unsafe``, if they hold it.
    smallest : int, default 20
        A label with fewer annotations takes the threshold of its kind.
    parts : int, optional
        Of the images, decided by what is in them and not by their names; by default one for each
        below 20 images, 20 below 200, else 5.
    held_out : str, optional
        A column of the images that marks those to judge on, instead of parts.
    surely : float, optional
        From 0.5 to below 1: choose so that new images meet the limit of the aim this surely, for
        all thresholds at once.
        Without it about every second choice falls a little short on new images.
    floor : float, optional
        The lowest confidence that the service gives; by default what the findings know.
    draws, seed : int
        For the 95 % intervals, over images; none with 0 draws. The seed decides the parts, too.
    now : float, optional
        The time to be kept with the choice, in seconds; by default the clock's.

    Returns
    -------
    Choice or ThreeWays
        It may be given wherever a threshold is asked for.

    Raises
    ------
    ArgumentError
        If the aim cannot be read, or an argument is out of range.
    TableError
        If a file or frame breaks the common shape.
    ScopeError
        If no image has both annotations and an answer, or fewer have than there are parts.

    Examples
    --------
    >>> import dotledger
    >>> chosen = dotledger.choose_thresholds("found.csv", "truth.csv", aim="recall >= 0.6")
    >>> sorted(chosen.thresholds), chosen.outcome.images
    (['face', 'label', 'object', 'unsafe'], 32)
    """
    from dotledger.core.tables.table_digest import digest_of
    from dotledger.core.thresholds.choice_plan import check_plan
    from dotledger.core.thresholds.choose_thresholds import choose

    plan = check_plan(
        aim=aim,
        each=each,
        smallest=smallest,
        parts=parts,
        held_out=held_out,
        surely=surely,
        draws=draws,
        seed=seed,
    )
    call = "choose_thresholds(findings, annotations, aim=aim)"
    found, annotated = findings_given(findings, call), annotations_given(annotations, call)
    wanted = kinds
    if plan.aim.sort == "three ways" and kinds is None:
        wanted = _deciding_kinds(annotated)
    measured = core_measure.measure(
        found, annotated, overlap=overlap, kinds=wanted, floor=floor, draws=0
    )
    basis = measured.basis
    at = time.gmtime(time.time() if now is None else now)
    origin = {
        "chosen": time.strftime("%Y-%m-%dT%H:%M:%SZ", at),
        "findings": digest_of(basis.findings),
        "annotations": digest_of(basis.annotations),
    }
    return choose(basis, plan, origin=origin)


def choose_similarity(
    found: Identification | PairMeasure,
    *,
    aim: str,
    parts: int | None = None,
    surely: bool = False,
    seed: int = 0,
) -> SimilarityChoice:
    """Choose a threshold of similarity for names or for pairs, and tell what it honestly leads to.

    Among the thresholds that meet the aim the one with most right names, or most matches, is
    taken. The outcome is measured on held-out images: each part is judged by what is best on the
    others.

    Parameters
    ----------
    found : Identification or PairMeasure
        From `Measure.identification` or `measure_pairs`.
    aim : str
        For names ``at most 1% of names are false`` or ``at most 1% of strangers are named``; for
        pairs ``false-match rate <= 0.1%``.
    parts : int, optional
        Of the images, or of the pairs by their left picture; by default one for each below 20, 20
        below 200, else 5.
    surely : bool, default False
        Let the upper end of the 95 % interval meet the aim, and not the share alone.
    seed : int, default 0
        Decides which images form a part.

    Returns
    -------
    SimilarityChoice
        With `similarity` infinite, and not attainable, where no name or pair has one.

    Raises
    ------
    ArgumentError
        If it is neither of these, or the aim is not one of these sentences.
    ScopeError
        If there are fewer images than parts.

    Examples
    --------
    >>> import dotledger
    >>> pairs = {"left": ["a", "b", "c"], "right": ["x", "y", "z"]}
    >>> pairs |= {"same": ["yes", "yes", "no"], "similarity": [0.9, 0.7, 0.2]}
    >>> found = dotledger.measure_pairs(pairs)
    >>> dotledger.choose_similarity(found, aim="false-match rate <= 1%").similarity
    0.7
    """
    from dotledger.core.questions.identification import Identification
    from dotledger.core.questions.pair_verification import PairMeasure
    from dotledger.core.thresholds import similarity_choice

    if not isinstance(found, Identification | PairMeasure):
        raise ArgumentError(
            "neither names nor pairs",
            place="found",
            got=type(found).__name__,
            allowed=["measure(...).identification()", "measure_pairs(...)"],
        )
    return similarity_choice.choose_similarity(found, aim, parts=parts, surely=surely, seed=seed)


def check_gates(
    findings: Findings | PathLike | Any,
    annotations: Annotations | PathLike | Any,
    gates: PathLike,
    *,
    before: Mapping[str, Any] | None = None,
    threshold: Any = None,
    failed_share: float = float("nan"),
    draws: int = 1000,
    seed: int = 0,
) -> Verdicts:
    r"""Say whether findings hold what a gates file asks of them.

    Parameters
    ----------
    findings, annotations : table, dataframe or path
        As `measure` takes them.
    gates : path
        A gates file; see `dotledger.formats.gates_files.read_gates`.
    before : mapping of str to findings, optional
        Earlier runs by the names that gates call them; measured at the same threshold.
    threshold : threshold, optional
        Instead of that in the file.
    failed_share : float, optional
        Share of the images that failed, for gates about it.
    draws, seed : int
        For the 95 % intervals, over images.

    Returns
    -------
    Verdicts
        `holds` is True if every gate does.

    Raises
    ------
    DescriptionError, TableError
        If the file cannot be read as gates.
    ArgumentError
        If a gate names a kind, label or run that there is not.

    Examples
    --------
    >>> import dotledger
    >>> from pathlib import Path
    >>> gate = "[[gate]]\nmeasure = 'recall'\nof = 'object'\nat_least = 0.6\n"
    >>> _ = Path("gates.toml").write_text("gates_file = 1\n" + gate)
    >>> dotledger.check_gates("found.csv", "truth.csv", "gates.toml").holds
    True
    """
    from dotledger.core.comparison.release_gates import judge_gates
    from dotledger.formats.gates_files import read_gates

    call = "check_gates(findings, annotations, gates)"
    path = as_path(gates, place="gates", call=call)
    file, home = read_gates(path), path.parent
    cut = file.asked_threshold(home) if threshold is None else threshold_given(threshold)
    annotated = annotations_given(annotations, call)

    def measured(table: Any) -> Measure:
        return core_measure.measure(
            findings_given(table, call),
            annotated,
            overlap=file.overlap,
            threshold=cut,
            draws=draws,
            seed=seed,
        )

    earlier = {name: measured(table) for name, table in (before or {}).items()}
    verdicts = None
    if file.rules:
        decided = decide(findings, home / file.rules)
        verdicts = {one.image: one.verdict for one in decided}
    return judge_gates(
        file.gates(home),
        measured(findings),
        before=earlier,
        failed_share=failed_share,
        verdicts=verdicts,
    )


class _ComparingOptions(TypedDict, total=False):
    """The options of `compare` that do not decide what it returns."""

    names: Sequence[str] | None
    overlap: float
    threshold: Any
    aim: str | None
    each: Each
    kinds: Iterable[str] | None
    matters: float
    claims: Sequence[str]
    draws: int
    seed: int


@overload
def compare(
    *runs: Findings | PathLike | Any,
    annotations: None = None,
    **options: Unpack[_ComparingOptions],
) -> Agreement: ...
@overload
def compare(
    *runs: Findings | PathLike | Any,
    annotations: Annotations | PathLike | pd.DataFrame,
    **options: Unpack[_ComparingOptions],
) -> Comparison: ...
@overload
def compare(
    *runs: Findings | PathLike | Any,
    annotations: Any,
    **options: Unpack[_ComparingOptions],
) -> Comparison | Agreement: ...
def compare(
    *runs: Findings | PathLike | Any,
    annotations: Annotations | PathLike | Any = None,
    names: Sequence[str] | None = None,
    overlap: float = 0.5,
    threshold: Any = None,
    aim: str | None = None,
    each: Each = "kind",
    kinds: Iterable[str] | None = None,
    matters: float = 0.0,
    claims: Sequence[str] = (),
    draws: int = 1000,
    seed: int = 0,
) -> Comparison | Agreement:
    """Compare two or more runs on the images that all of them answered.

    Of every measure the difference comes with its paired 95 % interval: the same draws of images
    for all runs. Two runs differ significantly only where that interval leaves out 0.

    Parameters
    ----------
    *runs : table, dataframe or path
        Findings, at least two.
    annotations : table, dataframe or path, optional
        Ground truth; without it the runs' agreement is told, and where they disagree.
    names : sequence of str, optional
        Of the runs; by default those of their services, files, or their numbers.
    overlap : float, default 0.5
        Required overlap (IoU), for kinds with boxes.
    threshold : threshold or list of thresholds, optional
        One for all runs, or a list with one for each; as `measure` takes it.
    aim : str, optional
        Each run at thresholds of its own, chosen under this aim; each image is judged by those
        chosen without it. See `choose_thresholds`.
    each : {"kind", "label", "all"}, default "kind"
        What has a threshold of its own, with an aim.
    kinds : iterable of str, optional
        By default those that the annotations hold.
    matters : float, default 0
        The smallest difference that matters: smaller ones are never called significant.
    claims : sequence of str
        Figures that somebody claims, such as ``"recall 0.92"`` or ``"precision of face 92%"``.
    draws, seed : int
        For the intervals; with 0 draws no difference is called significant.

    Returns
    -------
    Comparison or Agreement
        A difference is the second run minus the first.

    Raises
    ------
    ArgumentError
        If there are fewer than two runs, or an argument is out of range.
    TableError
        If a file or frame breaks the common shape.
    ScopeError
        If no image was answered by all runs, or none of those is annotated.

    Examples
    --------
    >>> import dotledger
    >>> found = dotledger.read_findings("found.csv")
    >>> result = dotledger.compare(found, found.cut(0.9), annotations="truth.csv")
    >>> recall = result.to_dict()["pooled"]["recall"]
    >>> recall["difference"] < 0, recall["told_apart"]
    (True, True)
    """
    tables = _named_runs(runs, names, _COMPARE)
    # Of people's answers only what all of them were asked can be compared.
    asked = common_questions(tables.values())
    tables = {name: findings_asked(table, asked) for name, table in tables.items()}
    given = {
        name: threshold_given(one)
        for name, one in zip(tables, _for_each(threshold, len(tables)), strict=True)
    }
    if annotations is None:
        from dotledger.core.comparison.interrater_agreement import agreement_of

        if aim is not None or claims:
            raise ArgumentError(
                "without annotations there is nothing to aim at or to hold a claim against",
                place="annotations",
                got=None,
                allowed=["ground truth"],
            )
        cut = {name: table.cut(given[name]) for name, table in tables.items()}
        return agreement_of(cut, overlap=overlap, kinds=kinds)
    from dotledger.core.comparison.run_comparison import compare_runs

    if aim is not None and threshold is not None:
        raise ArgumentError(
            "give thresholds or an aim to choose them by, not both", place="threshold"
        )
    annotated = annotations_asked(annotations_given(annotations, _COMPARE), asked)
    return compare_runs(
        tables,
        annotated,
        overlap=overlap,
        thresholds=given,
        aim=aim,
        each=each,
        kinds=kinds,
        matters=matters,
        claims=claims,
        draws=draws,
        seed=seed,
    )


def drift(
    first: Findings | PathLike | Any,
    second: Findings | PathLike | Any,
    *,
    draws: int = 2000,
    seed: int = 0,
) -> Drift:
    """Tell what changed between two runs where nothing is annotated.

    Parameters
    ----------
    first, second : table, dataframe or path
        Findings of the earlier and the later run, cut where they are to be compared.
    draws : int, default 2000
        Exchanges of the two answers to an image, at least 20; all that there are where those are
        fewer.
    seed : int, default 0
        Of the random swaps of answers.

    Returns
    -------
    Drift
        Its `found` holds the changes that hardly any exchange makes. If nothing changed it holds
        any at all in at most 5 of 100 comparisons.

    Raises
    ------
    TableError
        If a file or frame breaks the common shape.
    ScopeError
        If one of the runs has no image.

    Examples
    --------
    >>> import dotledger
    >>> dotledger.drift("found.csv", "found.csv").found
    ()
    """
    from dotledger.core.comparison.drift import drift_of

    call = "drift(first, second), findings both"
    tables = _named_runs((first, second), ("first", "second"), call)
    return drift_of(tables["first"], tables["second"], draws=draws, seed=seed)


def decide(
    findings: Findings | PathLike | Any,
    rules: Rules | PathLike,
    *,
    outcomes: Mapping[str, Mapping[str, str]] | None = None,
    sizes: Mapping[str, tuple[float, float]] | None = None,
    images: Any = None,
) -> Decisions:
    """Decide on every image by rules: pass, hold for a person, or block, each with its reasons.

    Parameters
    ----------
    findings : table, dataframe or path
        With a blank row for every image and kind that was answered and holds nothing.
    rules : Rules or path
        A rules file: see `read_rules`.
    outcomes : mapping of str to mapping of str to str, optional
        By image and kind the outcome, so that what failed, was refused or is pending is decided
        on, too: it never passes.
    sizes : mapping of str to (width, height), optional
        Of the upright images, for rules about shares of the image.
    images : Prints, or images as `gather` takes them, optional
        For rules about near-copies; an image that is not among them is held.

    Returns
    -------
    Decisions
        The strictest verdict of all rules that apply wins, and every reason is kept.

    Raises
    ------
    DescriptionError, TableError
        If a file cannot be read.
    ArgumentError
        If an unsafe category is neither mentioned nor covered, a label is misspelt, or images or
        sizes are needed and not given.

    Examples
    --------
    >>> import dotledger
    >>> from dotledger.typing import Condition, Rule, Rules
    >>> glass = Condition(kind="unsafe", labels=("broken glass",), confidence=0.5)
    >>> rules = Rules(rules=(Rule(name="glass", verdict="block", when=glass),), unmentioned="hold")
    >>> dotledger.decide("found.csv", rules).of("glass-02.jpg").reasons
    ('block, glass: broken glass 0.62, at least 0.5 asked',)
    """
    from dotledger.core.decisions.decide import decide as decided
    from dotledger.core.decisions.rule_conditions import Rules
    from dotledger.formats.rules_files import read_rules

    call = "decide(findings, rules)"
    found = findings_given(findings, call)
    if isinstance(rules, Rules):
        known = rules
    else:
        known = read_rules(as_path(rules, place="rules", call=call))
    return decided(
        found,
        known,
        outcomes=outcomes,
        sizes=sizes,
        prints=_prints(images) if known.looks_at_copies else None,
    )


def _prints(images: Any) -> Prints | None:
    from dotledger.acting.near_copies import image_prints
    from dotledger.core.copies.image_fingerprints import Prints

    return images if images is None or isinstance(images, Prints) else image_prints(images)


def _for_each(threshold: Any, runs: int) -> list[Any]:
    if not isinstance(threshold, list | tuple):
        return [threshold] * runs
    if len(threshold) != runs:
        raise ArgumentError(
            "give one threshold for all runs, or one for each",
            place="threshold",
            got=len(threshold),
            allowed=["1", str(runs)],
        )
    return list(threshold)


_COMPARE = "compare(run, run, ..., annotations=annotations)"


def _named_runs(runs: Sequence[Any], names: Sequence[str] | None, call: str) -> dict[str, Findings]:
    """Return findings by name: that given, or of the service or file, or a number."""
    found = [findings_given(run, call, place=f"run {n}") for n, run in enumerate(runs, 1)]
    if names is not None and (len(names) != len(found) or len(set(names)) != len(names)):
        raise ArgumentError(
            "give each run a name of its own",
            place="names",
            got=list(names),
            allowed=[f"{len(found)} different names"],
        )
    own = [_run_name(run, table) for run, table in zip(runs, found, strict=True)]
    if names is None and ("" in own or len(set(own)) < len(own)):
        own = [f"run {place + 1}" for place in range(len(found))]
    return dict(zip(own if names is None else names, found, strict=True))


def _run_name(run: Any, table: Findings) -> str:
    if table.origin and table.origin.service:
        return table.origin.service
    return Path(run).stem if isinstance(run, str | os.PathLike) else ""


def _deciding_kinds(annotations: Any) -> list[str] | None:
    """Return the kind that decides on whole images, if it is annotated."""
    table = as_annotations(annotations)
    return ["unsafe"] if "unsafe" in {*table.kind.used(), *table.vocabulary} else None
