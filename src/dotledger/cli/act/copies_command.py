"""``dotledger copies``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from dotledger.cli.options.common_options import (
    example,
    json_option,
    print_json,
    print_table,
    replace_option,
    say,
    say_problems,
)
from dotledger.core.copies.image_fingerprints import LEAST
from dotledger.core.spelling import counted

if TYPE_CHECKING:
    from dotledger.core.copies.image_fingerprints import NearCopy, Prints

__all__ = ["command"]


@click.command(
    name="copies",
    epilog=example("dotledger copies uploads --known withdrawn --likeness 0.85"),
)
@click.argument("images", nargs=-1)
@click.option(
    "--known", required=True, metavar="PATH", help="Known images, or a file that --keep wrote."
)
@click.option(
    "--likeness",
    type=click.FloatRange(0, 1),
    default=LEAST,
    show_default=True,
    help="Share of equal bits from which on an image is a copy.",
)
@click.option("--keep", metavar="FILE", help="Write the prints of the known images to this .npz.")
@replace_option
@click.option("--fail", is_flag=True, help="Exit status 1 if there is a copy.")
@json_option
def command(
    images: tuple[str, ...],
    known: str,
    likeness: float,
    keep: str | None,
    replace: bool,
    fail: bool,
    as_json: bool,
) -> int:
    """Tell which IMAGES are near-copies of known ones.

    Whole pictures are compared: scaled, compressed again, brighter or darker, mirrored, or cut a
    little at the edges. It also says how many of the known images are alike among themselves:
    if that is more than a few, raise --likeness.
    """
    from dotledger.formats.fingerprint_files import known_prints, write_prints
    from dotledger.safe_files import check_output

    if keep is not None:
        check_output(keep, place="--keep", inputs=(*images, known), replace=replace)
    kept = known_prints(known)
    if keep is not None:
        write_prints(kept, keep)
        say(f"{counted(len(kept), 'print')} written to {keep}")
    if not images:
        if keep is None:
            raise click.UsageError("name images, or --keep FILE")
        return 0
    from dotledger.core.copies.image_fingerprints import nearest_copies
    from dotledger.images.image_gathering import gather
    from dotledger.images.image_prints import prints_of

    new = prints_of(gather(images).items)
    found = nearest_copies(new, kept, least=likeness)
    if as_json:
        print_json("copies", _plain(found, new, kept))
    else:
        _show(found, new, kept, likeness)
    say_problems("not compared", list(new.unreadable))
    return 1 if found and fail else 3 if new.unreadable else 0


def _plain(found: list[NearCopy], new: Prints, known: Prints) -> dict[str, Any]:
    return {
        "images": len(new),
        "known": len(known),
        "copies": [vars(one) for one in found],
        "not_compared": [{"image": name, "reason": why} for name, why in new.unreadable],
    }


def _show(found: list[NearCopy], new: Prints, known: Prints, likeness: float) -> None:
    from dotledger.core.copies.image_fingerprints import pairs_alike
    from dotledger.report.terminal.terminal_tables import plain, rows_table

    head = f"{counted(len(new), 'image')} against {counted(len(known), 'known image')}: "
    print_table(f"{head}{len(found) or 'no'} {'copy' if len(found) == 1 else 'copies'}.")
    rows = [
        (
            plain(one.image),
            plain(one.known),
            f"{one.likeness:.2f}" + (", mirrored" if one.mirrored else ""),
        )
        for one in found
    ]
    if rows:
        print_table("", rows_table("", ("image", "copy of", "alike"), rows))
    alike, pairs = pairs_alike(known, least=likeness)
    if alike:
        say(
            f"Among the known images themselves {alike} of {pairs:,} pairs are this much alike: "
            f"copies, or too low a --likeness."
        )
