"""``dotledger demo``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import example, json_option, print_json, print_table, say
from dotledger.errors import ArgumentError, MissingExtra

if TYPE_CHECKING:
    from dotledger.core.measurement.measure_result import Measure
    from dotledger.core.tables.annotations_table import Annotations
    from dotledger.core.tables.findings_table import Findings
    from dotledger.standins.evening_demo import Evening

__all__ = ["command"]

_THRESHOLD = 0.5


@click.command(name="demo", epilog=example("dotledger demo --folder walk"))
@click.option(
    "--folder", default="dotledger-demo", show_default=True, help="Where everything is written."
)
@click.option(
    "--scenes",
    type=click.IntRange(1, 100_000),
    default=35,
    show_default=True,
    help="How many; the first 35 are always the same, and 300 are enough to choose by.",
)
@json_option
def command(folder: str, scenes: int, as_json: bool) -> None:
    """Run the whole workflow once, offline, on made-up scenes.

    Draws an evening walk with paper lanterns, starts two simulated services, sends the scenes
    to both, and compares what they found with the exact ground truth.
    """
    try:
        from dotledger.standins.evening_demo import evening_walk
    except ImportError as error:
        raise MissingExtra(
            "the simulated services need starlette and uvicorn",
            next_step="Run: pip install 'dot-ledger[demo]'",
        ) from error

    home = Path(folder)
    _check_free(home)
    say(f"Drawing the scenes in {home / 'images'} and starting two simulated services ...")
    with evening_walk(home, count=scenes) as evening:
        _send_all(evening, home, quiet=as_json)
    say("Measuring and drawing ...")
    measures, seen = _measure_all(evening, home)
    acted = _act(evening, home)
    _report(home)
    if as_json:
        print_json("demo", {"services": {n: m.to_dict() for n, m in measures.items()}})
    else:
        _show(measures, seen, home, [*_chosen(home, list(measures)), "", *acted])


def _check_free(home: Path) -> None:
    if home.exists() and any(home.iterdir()) and not (home / "annotations.csv").exists():
        raise ArgumentError(
            "the folder holds something else",
            place="--folder",
            got=str(home),
            next_step="Name an empty folder, or one that an earlier demo made.",
        )


def _send_all(evening: Evening, home: Path, *, quiet: bool) -> None:
    from dotledger.cli.options.progress_display import progress_line
    from dotledger.cli.send.send_command import report_sent
    from dotledger.images.image_gathering import gather
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.sending.batch_api import prepare_sending
    from dotledger.standins.evening_demo import description_text

    with LedgerStore(home / "walk.ledger") as ledger:
        for name, described in evening.services.items():
            (home / f"{name}.toml").write_text(description_text(name), encoding="utf-8")
            gathered = gather(evening.images)
            say(f"Sending {len(gathered)} images to {name} ...")
            with progress_line(len(gathered)) as tell:
                sending = prepare_sending(
                    gathered, described, ledger, key=evening.keys[name], tell=tell
                )
                sent = sending.run()
            if not quiet:
                report_sent(sent, ledger)
                print_table("")


def _measure_all(evening: Evening, home: Path) -> tuple[dict[str, Measure], list[str]]:
    from dotledger.core.comparison.common_images import on_common_images
    from dotledger.core.measurement.measure import measure
    from dotledger.formats.annotations.annotation_files import read_annotations
    from dotledger.formats.tables.findings_files import write_table
    from dotledger.ledger_findings import findings_of
    from dotledger.standins.demo_scenes import VOCABULARY
    from dotledger.standins.evening_demo import what_it_shows

    annotations = read_annotations(evening.annotations, vocabulary=VOCABULARY)
    found = {name: findings_of(home / "walk.ledger", service=name) for name in evening.services}
    for name, table in found.items():
        write_table(table, home / f"{name}.csv")
        _draw(table, annotations, evening, home, name)
    common = dict(zip(found, on_common_images(list(found.values())), strict=True))
    measures = {
        name: measure(table, annotations, overlap=0.5, threshold=_THRESHOLD)
        for name, table in common.items()
    }
    return measures, what_it_shows(common, annotations)


def _draw(
    table: Findings, annotations: Annotations, evening: Evening, home: Path, name: str
) -> Any:
    from dotledger.report.pictures.box_drawing import draw

    return draw(
        table,
        evening.images,
        home / "pictures" / name,
        annotations=annotations,
        threshold=_THRESHOLD,
        title=f"{name}: a solid line is right, dashes are wrong, dots are missed",
    )


_AIM = "best f1"


def _chosen(home: Path, services: list[str]) -> list[str]:
    """Choose thresholds for each service, and say which service is better at what."""
    from dotledger.api.choosing import choose_thresholds, compare

    files = [home / f"{name}.csv" for name in services]
    truth = home / "annotations.csv"
    lines = [f"Thresholds chosen by measurement, for the {_AIM.replace('f1', 'F1')}:"]
    for name, file in zip(services, files, strict=True):
        chosen = choose_thresholds(file, truth, aim=_AIM, draws=0)
        f1 = chosen.to_dict()["outcome"]["f1"]
        listed = ", ".join(f"{kind} {value:.2f}" for kind, value in chosen.thresholds.items())
        lines.append(f"  {name:5}  {listed}; F1 {f1:.2f} on held-out images")
    found = compare(*files, annotations=truth, names=services, aim=_AIM)
    return [*lines, *_better(found)]


_RULES = """\
# What happens to each image: dotledger screen rules.toml --ledger walk.ledger --service marl
rules_file = 1
audience = "guests of the walk"
otherwise = "pass"        # where no rule applies
unmentioned = "hold"      # unsafe categories that no rule mentions
unmentioned_from = 0.5

[[rule]]
name = "hazards"
verdict = "block"
kind = "unsafe"
label = ["open flame", "broken glass"]
confidence = 0.6

[[rule]]
name = "hazards, perhaps"
verdict = "hold"
kind = "unsafe"
confidence = 0.3

[[rule]]
name = "crowds"
verdict = "hold"
kind = "face"
at_least = 5
"""


def _act(evening: Evening, home: Path) -> list[str]:
    """Decide on every image, cover the faces, and show one verdict of each sort."""
    from dotledger.acting.folder_covering import cover_all
    from dotledger.core.decisions.decide import decide
    from dotledger.formats.annotations.annotation_files import read_annotations
    from dotledger.formats.rules_files import read_rules
    from dotledger.images.image_gathering import gather
    from dotledger.ledger.batch_queries import find_batch, outcomes_of
    from dotledger.ledger.ledger_store import LedgerStore
    from dotledger.ledger_findings import findings_of

    (home / "rules.toml").write_text(_RULES, encoding="utf-8")
    with LedgerStore(home / "walk.ledger", create=False, read_only=True) as ledger:
        found = findings_of(ledger, service="marl")
        outcomes = outcomes_of(ledger, find_batch(ledger, service="marl"))
    decided = decide(found, read_rules(home / "rules.toml"), outcomes=outcomes)
    truth = read_annotations(evening.annotations)
    done = list(cover_all(gather(evening.images), found, home / "covered", annotations=truth))
    open_ones = sum(len(one.left_open) for one in done)
    listed = ", ".join(f"{count} {verdict}" for verdict, count in decided.counts.items())
    faces = sum(one.covered for one in done)
    examples = {one.verdict: one for one in reversed(list(decided))}
    return [
        f"Verdicts of {home / 'rules.toml'} on marl's findings: {listed}.",
        *(f"  {name:5}  {examples[name].image}: {_short(examples[name])}"
          for name in decided.counts if name in examples),
        f"Faces covered in copies below {home / 'covered'}: {faces}; "
        f"{open_ones or 'none'} of those annotated left open.",
    ]  # fmt: skip


def _report(home: Path) -> None:
    """Write the page that shows all of it."""
    from dotledger.report.pages.html_report import write_report

    try:
        write_report(
            home / "report.html",
            annotations=home / "annotations.csv",
            ledger=home / "walk.ledger",
            service="marl",
            versus="flint",
            facts=home / "images.csv",
            threshold=_THRESHOLD,
            rules=home / "rules.toml",
            title="An evening walk: marl and flint",
        )
    except MissingExtra as error:
        say(f"no report: {error}")


def _short(verdict: Any) -> str:
    """Return the first reason without the verdict's own name."""
    return str(verdict.reasons[0]).removeprefix(f"{verdict.verdict}, ")


def _better(found: Any) -> list[str]:
    """Return in two lines what each service is better at, and what does not differ."""
    from dotledger.core.measures.registry import MEASURES

    words = {name: MEASURES[name].heading for name in ("recall", "precision", "mean_overlap")}
    sides: dict[str, dict[str, list[str]]] = {name: {} for name in (*found.names, "")}
    for measure, word in words.items():
        for kind, differences in found.pair.kinds.items():
            if (one := differences.get(measure)) is not None:
                winner = found.names[one.better] if one.told_apart else ""
                sides[winner].setdefault(word, []).append(kind)
    listed = {
        name: ", ".join(f"{word} ({', '.join(kinds)})" for word, kinds in at.items())
        for name, at in sides.items()
    }
    better = [f"{name}, {at}" for name, at in listed.items() if name and at]
    return [
        f"Significantly better on these {found.images} images: {'; '.join(better) or 'neither'}.",
        f"No significant difference: {listed[''] or 'none'}.",
    ]


def _show(measures: dict[str, Measure], seen: list[str], home: Path, chosen: list[str]) -> None:
    from dotledger.report.terminal.measure_tables import comparison_table, scope_lines

    first = next(iter(measures.values()))
    print_table(
        f"Both services on the images both answered, required overlap {first.overlap:g}, "
        f"threshold {_THRESHOLD:g}:",
        "",
        comparison_table(measures),
        *scope_lines(first),
        *first.notes,
        "",
        *seen,
        "",
        *chosen,
        "",
        f"Everything on a page  {home / 'report.html'}: open it in a browser",
        f"Ledger                {home / 'walk.ledger'}",
        f"Images with boxes     {home / 'pictures'}",
        f"Tables                {', '.join(str(home / f'{name}.csv') for name in measures)}",
        f"Ground truth          {home / 'annotations.csv'}",
        f"About the images      {home / 'images.csv'}",
        "",
        "Things to try next:",
        f"  dotledger findings --ledger {home}/walk.ledger --service flint --kinds face",
        f"  dotledger measure --findings {home}/marl.csv --annotations {home}/annotations.csv "
        f"--images {home}/images.csv --threshold 0.5 --also reasons --by scene",
        f"  dotledger draw {home}/images --ledger {home}/walk.ledger --service marl "
        f"--kinds object --out {home}/objects",
        f"  dotledger screen {home}/rules.toml --ledger {home}/walk.ledger --service marl",
        f"  dotledger choose --findings {home}/flint.csv --annotations {home}/annotations.csv "
        "--kinds object --aim 'recall >= 0.8'",
    )
