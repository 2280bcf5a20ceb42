"""``dotledger choose``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    as_kinds,
    example,
    given_options,
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
    from dotledger.core.thresholds.three_way_choice import ThreeWays
    from dotledger.core.thresholds.threshold_choice import Choice
    from dotledger.formats.thresholds_files import ThresholdsFile

__all__ = ["command"]


@click.command(
    name="choose",
    epilog=example(
        "dotledger choose --findings flint.csv --annotations annotations.csv "
        "--aim 'recall >= 0.7' --out flint.thresholds.toml"
    ),
)
@comparing_options
@click.option(
    "--aim",
    metavar="SENTENCE",
    help="Such as 'recall >= 0.9', 'best f1', 'at most 5 false alarms in 100 images', 'at most "
    "10% of images held', 'a miss costs 5 and a false alarm costs 0.2', or 'at most 1% of unsafe "
    "images pass, at most 5% of safe images are stopped'. Without it every threshold is shown.",
)
@click.option("--overlap", type=float, default=0.5, show_default=True, help="Required overlap.")
@kinds_option
@click.option(
    "--each",
    type=click.Choice(["kind", "label", "all"]),
    default="kind",
    show_default=True,
    help="What has a threshold of its own.",
)
@click.option(
    "--smallest",
    type=int,
    default=20,
    show_default=True,
    help="A label with fewer annotations takes the threshold of its kind.",
)
@click.option(
    "--parts",
    type=int,
    metavar="N",
    help="Each part of the images is judged by what is best on the others; by default 20 below 200 "
    "images, else 5.",
)
@click.option(
    "--held-out", metavar="COLUMN", help="Judge on images that this column marks; no parts."
)
@click.option(
    "--surely",
    type=float,
    metavar="P",
    help="New images meet the aim this surely, for all thresholds at once.",
)
@click.option("--draws", type=int, default=1000, show_default=True, help="For intervals; 0: none.")
@click.option("--seed", type=int, default=0, show_default=True, help="Of the parts and draws.")
@click.option("--out", "out_file", metavar="FILE", help="Keep the thresholds in a .toml file.")
@click.option("--join", is_flag=True, help="Keep other services' thresholds that FILE holds.")
@click.option("--no-intervals", is_flag=True, help="Without --aim: no 95 % intervals.")
@click.option("--csv", "csv_file", metavar="FILE", help="Without --aim: write all to a .csv file.")
@replace_option
@json_option
def command(
    aim: str | None,
    kinds: str | None,
    out_file: str | None,
    join: bool,
    replace: bool,
    as_json: bool,
    overlap: float,
    **options: Any,
) -> int:
    """Choose thresholds under a stated aim; without one, show what every threshold leads to.

    All figures are measured on held-out images. The file can be given to every --threshold. The
    exit status is 1 if the aim cannot be met (the nearest thresholds are chosen), or if there
    are too few images to know.
    """
    from dotledger.api.choosing import choose_thresholds

    shown = {name: options.pop(name) for name in ("no_intervals", "csv_file")}
    if aim is None:
        return _every_threshold(options, shown, out_file, overlap, kinds, replace, as_json)
    if given := given_options(list(shown)):
        raise click.UsageError(f"{given[0]} goes without --aim.")
    from dotledger.core.thresholds.aims import read_aim

    read_aim(aim)  # before anything is read
    own = ("each", "smallest", "parts", "held_out", "surely", "draws", "seed")
    settings = {name: options.pop(name) for name in own}
    before = _before(out_file, options, join=join, replace=replace)
    compared = compared_tables(**options)
    chosen = choose_thresholds(
        compared.findings,
        compared.annotations,
        aim=aim,
        overlap=overlap,
        kinds=as_kinds(kinds),
        **settings,
    )
    if out_file is not None:
        from dotledger.formats.thresholds_files import write_thresholds

        write_thresholds(out_file, [chosen], join=before)
    about = compared.about()
    if as_json:
        from dotledger.core.thresholds.three_way_choice import ThreeWays

        # An aim with two shares is met by two thresholds: that is found from other keys.
        output = "choose-two" if isinstance(chosen, ThreeWays) else "choose"
        print_json(output, {**about, **chosen.to_dict()})
    else:
        for line in compared.lines:
            say(line)
        print_table(*provenance_lines(about), *compared.suspicious())
        _show(chosen)
    if out_file is not None:
        say(f"Thresholds kept in {out_file}; give it to --threshold.")
    return 0 if chosen.attainable else 1


_OF_AIMS = ("smallest", "parts", "held_out", "surely", "draws", "seed")


def _every_threshold(
    options: dict[str, Any],
    shown: dict[str, Any],
    out_file: str | None,
    overlap: float,
    kinds: str | None,
    replace: bool,
    as_json: bool,
) -> int:
    from dotledger.cli.choose.every_threshold import show_every_threshold

    if out_file is not None:
        raise click.UsageError("--out keeps what --aim chooses; --csv writes every threshold.")
    if given := given_options([*_OF_AIMS, "join"]):
        raise click.UsageError(f"{given[0]} goes with --aim.")
    for name in _OF_AIMS:
        options.pop(name)
    show_every_threshold(
        options,
        overlap=overlap,
        kinds=kinds,
        each=options.pop("each"),
        intervals=not shown["no_intervals"],
        csv_file=shown["csv_file"],
        replace=replace,
        as_json=as_json,
    )
    return 0


def _before(
    out_file: str | None, options: dict[str, Any], *, join: bool, replace: bool
) -> ThresholdsFile | None:
    """Return what the file holds already, if it is to be kept; refuse a place that is taken."""
    if out_file is None:
        return None
    joined = join and Path(out_file).exists()
    inputs = [options[n] for n in ("findings", "annotations", "images", "ledger")]
    check_output(out_file, place="--out", inputs=inputs, replace=replace or joined)
    if not joined:
        return None
    from dotledger.formats.thresholds_files import read_thresholds

    return read_thresholds(out_file)


def _show(chosen: Choice | ThreeWays) -> None:
    from dotledger.report.terminal.choice_tables import choice_lines, choice_table

    print_table(f"Aim: {chosen.aim}.", "", choice_table(chosen), "", *choice_lines(chosen))
