"""``dotledger reliability``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    example,
    json_option,
    kinds_option,
    print_json,
    print_table,
    replace_option,
    say,
)
from dotledger.cli.options.comparing_options import compared_tables, comparing_options
from dotledger.cli.options.provenance import provenance_lines
from dotledger.safe_files import check_output

if TYPE_CHECKING:
    from dotledger.core.measurement.measure_result import Measure
    from dotledger.core.tables.annotations_table import Annotations
    from dotledger.core.tables.findings_table import Findings
    from dotledger.core.thresholds.confidence_map import ConfidenceMap

__all__ = ["command"]


@click.command(
    name="reliability",
    epilog=example(
        "dotledger reliability --findings flint.csv --annotations annotations.csv "
        "--fit flint.map.json"
    ),
)
@comparing_options
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@kinds_option
@click.option(
    "--fit", "fit_file", metavar="FILE", help="Fit a mapping on a part of the images; keep it."
)
@click.option(
    "--share",
    type=float,
    default=0.5,
    show_default=True,
    help="The part of the images to fit on; it is judged on the others.",
)
@click.option("--seed", type=int, default=0, show_default=True, help="Decides which images.")
@click.option("--use", "map_file", metavar="FILE", help="Apply a mapping that was kept.")
@click.option("--out", metavar="FILE", help="Write findings with mapped confidences.")
@replace_option
@json_option
def command(
    overlap: float,
    kinds: str | None,
    fit_file: str | None,
    share: float,
    seed: int,
    map_file: str | None,
    out: str | None,
    replace: bool,
    as_json: bool,
    **tables: Any,
) -> None:
    """Say whether 90 % means 90 %: how often findings of a confidence are right.

    With --fit a non-decreasing calibration map is fitted on a part of the images and judged on
    held-out ones; with --use a map is applied, and judged on images that it was not fitted on.
    """
    inputs = [map_file, *(tables[n] for n in ("findings", "annotations", "images", "ledger"))]
    for path, place in ((fit_file, "--fit"), (out, "--out")):
        if path is not None:
            check_output(path, place=place, inputs=inputs, replace=replace)
    compared = compared_tables(**tables)
    findings, annotations = compared.findings, compared.annotations
    mapping = _mapping(
        findings, annotations, overlap, as_kinds(kinds), fit_file, map_file, share, seed
    )
    doubts = [] if mapping is None else mapping.doubts(findings, overlap=overlap)
    results = _judged(findings, annotations, overlap, as_kinds(kinds), mapping)
    if out is not None:
        from dotledger.formats.tables.findings_files import write_table

        write_table(findings if mapping is None else mapping.apply(findings), out)
    about = compared.about()
    if as_json:
        plain = {
            n: {k: r.to_dict() for k, r in m.reliability().items()} for n, m in results.items()
        }
        images = {n: m.images_in_scope for n, m in results.items()}
        print_json(
            "reliability",
            {**about, "confidences": plain, "images": images, "doubts": doubts},
        )
    else:
        for line in compared.lines:
            say(line)
        print_table(*provenance_lines(about), *compared.suspicious())
        _show(results)
    for line in doubts:
        say(line)
    if fit_file is not None:
        say(f"Mapping kept in {fit_file}")


def _mapping(
    findings: Findings,
    annotations: Annotations,
    overlap: float,
    kinds: list[str] | None,
    fit_file: str | None,
    map_file: str | None,
    share: float,
    seed: int,
) -> ConfidenceMap | None:
    from dotledger.formats.confidence_map_files import read_map, write_map

    if fit_file is not None:
        from dotledger.core.thresholds.confidence_map import fit_confidence_map
        from dotledger.core.thresholds.image_folds import part_of_images

        chosen = part_of_images(findings, annotations, share, seed)
        fitted = fit_confidence_map(
            findings, annotations, overlap=overlap, kinds=kinds, images=chosen
        )
        write_map(fitted, Path(fit_file))
        return fitted
    return None if map_file is None else read_map(Path(map_file))


def _judged(
    findings: Findings,
    annotations: Annotations,
    overlap: float,
    kinds: list[str] | None,
    mapping: ConfidenceMap | None,
) -> dict[str, Measure]:
    """Return the measures as they are, or before and after mapping on unseen images."""
    from dotledger.core.measurement.measure import measure
    from dotledger.core.thresholds.confidence_map import unseen_images

    if mapping is None:
        return {
            "as answered": measure(findings, annotations, overlap=overlap, kinds=kinds, draws=0)
        }
    fresh = unseen_images(mapping, annotations)
    return {
        name: measure(table, fresh, overlap=overlap, kinds=kinds, draws=0)
        for name, table in (("as answered", findings), ("mapped", mapping.apply(findings)))
    }


def _show(results: dict[str, Measure]) -> None:
    from dotledger.report.terminal.measure_tables import parts

    for name, result in results.items():
        images = f"{result.images_in_scope} images"
        fresh = " that the mapping was not fitted on" if len(results) > 1 else ""
        print_table("", f"Confidences {name}, on {images}{fresh}:", parts(result, ["reliability"]))
