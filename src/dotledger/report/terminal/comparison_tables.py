"""Comparisons of runs as tables for a terminal."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from dotledger.core.comparison.differences import Difference
from dotledger.core.comparison.found_by import FoundBy
from dotledger.core.comparison.interrater_agreement import Agreement
from dotledger.core.comparison.run_comparison import Comparison, Pair
from dotledger.core.measures.registry import MEASURES
from dotledger.core.spelling import counted
from dotledger.report.terminal.choice_tables import with_ends
from dotledger.report.terminal.terminal_tables import DASH, Sheet, number, plain, rows_table

__all__ = ["agreement_parts", "comparison_parts", "verdict_of"]

_MOST_IMAGES = 5


def verdict_of(pair: Pair, one: Difference) -> str:
    """Return in words whether two runs differ in a measure.

    Returns
    -------
    str
        Which one is better, or that the difference is not significant.
    """
    if one.told_apart:
        return f"{(pair.first, pair.second)[one.better]} is better (p {_small(one.p_value)})"
    if math.isnan(one.difference):
        return "undefined in one of them"
    if math.isnan(one.p_value):
        return "not judged" if one.difference else "the same"
    return f"no significant difference (p {one.p_value:.2f})"


def comparison_parts(
    result: Comparison, *, labels: bool = False, costs: Mapping[str, Any] | None = None
) -> Iterator[Any]:
    """Yield what a terminal shows of a comparison.

    Parameters
    ----------
    costs : mapping of str to cost or None, optional
        By name of the run: its ``images``, ``money``, ``currency`` and ``seconds``.
    """
    images = counted(result.images, "image")
    yield f"On the {images} that all runs answered and the annotations cover."
    for name, count in result.only_in.items():
        if count:
            yield f"Left out, not answered by all: {counted(count, 'image')} of {name}."
    yield from (f"{name}: {cut}" for name, cut in result.cuts.items())
    for pair in result.pairs:
        yield ""
        yield _pair_table(result, pair, labels=labels)
        yield ""
        yield _found_table(pair, labels=labels)
        yield from _changed(pair)
    yield from _together_lines(result)
    if len(result.names) > 2:
        yield ""
        yield _beaten_table(result)
    yield from _claim_lines(result)
    if costs and any(costs.values()):
        yield ""
        yield _cost_table(result, costs)
    yield from result.notes


def _small(p_value: float) -> str:
    return "under 0.001" if p_value < 0.001 else f"{p_value:.3f}"


def _together_lines(result: Comparison) -> Iterator[str]:
    if not result.rows_together:
        return
    rows = counted(result.rows_together, "row")
    yield ""
    yield (
        f"Tested together: {rows}, those of each label included, by exchanging the runs' answers."
        " Between equal services, any row is called better in at most 5 of 100 such tables."
        " McNemar's test takes each annotation by itself; in images with many it claims too much."
    )


def _pair_table(result: Comparison, pair: Pair, *, labels: bool) -> Sheet:
    groups = [("all, pooled", pair.pooled), *pair.kinds.items()]
    groups += pair.labels.items() if labels else []
    rows = [
        [
            plain(group),
            MEASURES[name].heading,
            number(one.first),
            number(one.second),
            _signed(one),
            verdict_of(pair, one),
        ]
        for group, found in groups
        for name, one in found.items()
    ]
    # 95 % intervals stand next to the difference, which is what decides.
    header = ("", "measure", pair.first, pair.second, "difference", "")
    title = f"{pair.second} compared with {pair.first}, on {counted(result.images, 'common image')}"
    return rows_table(title, header, rows, ())


def _signed(one: Difference) -> str:
    if math.isnan(one.difference):
        return DASH
    if math.isnan(one.low):
        return f"{one.difference:+.2f}"
    return f"{one.difference:+.2f} ({one.low:+.2f} to {one.high:+.2f})"


def _found_table(pair: Pair, *, labels: bool) -> Sheet:
    rows = [_found_cells(n, one) for n, one in pair.found_by.items() if labels or ":" not in n]
    header = ("annotations found by", "both", f"{pair.first} only", f"{pair.second} only",
              "neither", "p (McNemar)" + (", Holm" if labels else ""))  # fmt: skip
    return rows_table("", header, rows, ("neither",))


def _found_cells(name: str, one: FoundBy) -> list[Any]:
    shown = "under 0.001" if one.adjusted < 0.001 else f"{one.adjusted:.3f}"
    return [plain(name), str(one.both), str(one.first_only), str(one.second_only),
            str(one.neither), shown]  # fmt: skip


def _changed(pair: Pair) -> Iterator[str]:
    if not pair.changed:
        yield "No image differs."
        return
    parts = [_change(row) for row in pair.changed[:_MOST_IMAGES]]
    more = len(pair.changed) - len(parts)
    tail = f", and {more} more" if more > 0 else ""
    yield f"Largest changes ({pair.second} against {pair.first}): {', '.join(parts)}{tail}."


def _change(row: Mapping[str, Any]) -> str:
    wrong = row["wrong_second"] - row["wrong_first"]
    found = [f"+{row['gained']}"] if row["gained"] else []
    found += [f"\N{MINUS SIGN}{row['lost']}"] if row["lost"] else []
    found += [f"{wrong:+d} wrong"] if wrong else []
    return f"{row['image']} {row['kind']} {' '.join(found)}"


def _beaten_table(result: Comparison) -> Sheet:
    rows = [[MEASURES[name].heading, ", ".join(runs)] for name, runs in result.never_beaten.items()]
    return rows_table("Never beaten by another run", ("measure", "runs"), rows)


def _claim_lines(result: Comparison) -> Iterator[str]:
    for one in result.claims:
        about = f"{one.claim.measure}{f' of {one.claim.of}' if one.claim.of else ''}"
        own = with_ends(one.value, (one.low, one.high))
        fits = {True: "compatible", False: "not compatible", None: "cannot be judged"}
        yield (
            f"Claimed: {about} {one.claim.value:g}. {one.run}: {own} here: {fits[one.compatible]}."
        )


def _cost_table(result: Comparison, costs: Mapping[str, Any]) -> Sheet:
    rows: list[Sequence[Any]] = []
    for name, cost in costs.items():
        if cost is None or not cost.images:
            rows.append([plain(name), DASH, DASH, DASH])
            continue
        right = result.rows[name]["pooled"].true_positives if name in result.rows else 0
        # What was right was counted on the annotated images only; so is the money spent on them.
        spent = cost.money * result.images / cost.images
        each = f"{spent / right:.5f} {cost.currency}" if right else DASH
        rows.append(
            [
                plain(name),
                f"{cost.money / cost.images:.5f} {cost.currency}",
                f"{cost.seconds / cost.images:.3f} s",
                each,
            ]
        )
    header = ("cost", "for an image", "time for an image", "for a right finding")
    return rows_table("", header, rows)


def agreement_parts(result: Agreement) -> Iterator[Any]:
    """Yield what a terminal shows of the agreement of runs."""
    yield (
        f"On the {counted(result.images, 'image')} that all runs answered. Nothing is annotated: "
        "this says how far they agree, not who is right."
    )
    for (first, second), found in result.kinds.items():
        header = ("", "both", f"{first} only", f"{second} only", "neither", "agreed", "kappa",
                  "confidence")  # fmt: skip
        rows = [
            [
                one.kind,
                str(one.both),
                str(one.first_only),
                str(one.second_only),
                DASH if one.neither is None else str(one.neither),
                with_ends(one.agreed, one.interval),
                with_ends(one.kappa, one.kappa_interval),
                DASH
                if math.isnan(one.confidence_difference)
                else f"{one.confidence_difference:+.2f}",
            ]
            for one in found
        ]
        yield ""
        yield rows_table(f"{second} against {first}", header, rows, ("confidence", "neither"))
    if result.disputed:
        shown = result.disputed[:_MOST_IMAGES]
        listed = ", ".join(f"{row['image']} {row['kind']} {row['disputed']}" for row in shown)
        yield ""
        yield f"Most in dispute: {listed}."
