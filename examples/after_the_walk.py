"""After the walk: save a broken photo, tell the desk, and forget a guest.

It goes on from `named_walkers.py`, which makes the pictures and stands in for a service. Run it
with a folder to write into.
"""

import csv
import sys
from pathlib import Path

import named_walkers

import dotledger
from dotledger.testing import FakeTransport, answer

RULES = """
rules_file = 1
audience = "the desk"
[[rule]]
name = "a guest of honour"
verdict = "hold"
kind = "face"
person = "Sedge"
least_similarity = 0.7
"""


def save_photo(folder: Path) -> None:
    """Break a photo off in the middle, as a full memory card does, and save the rest."""
    cut = folder / "cut" / "porch-cut.png"
    cut.parent.mkdir(exist_ok=True)
    whole = (folder / "photos" / "porch-03.png").read_bytes()
    cut.write_bytes(whole[: len(whole) * 2 // 3])
    [saved] = dotledger.repair_images(cut.parent, folder / "saved")
    print(f"{saved.name}: {'; '.join(saved.done)}")


def tell_the_desk(ledger: Path, folder: Path) -> None:
    """Post verdicts to the desk, twice: the second time there is nothing new."""
    (folder / "rules.toml").write_text(RULES, encoding="utf-8")
    decisions = dotledger.decide(dotledger.findings_of(ledger), folder / "rules.toml")
    for _ in range(2):
        posted = dotledger.post_verdicts(
            decisions,
            "https://desk.example/verdicts",
            outbox=f"{ledger}.verdicts.jsonl",
            secret="a secret of the desk",
            transport=FakeTransport([answer({})]),
        )
        print(f"Taken by the desk: {posted.taken}, left: {posted.left}.")


def forget_guest(ledger: Path, folder: Path) -> None:
    """Remove a guest's name and faces from the ledger and from a table made out of it."""
    table = folder / "found.jsonl"
    dotledger.write_table(dotledger.findings_of(ledger), table)
    before = len(dotledger.read_findings(table))
    done = dotledger.forget(ledger, person="Old Reed", also=table, act=True)
    left = len(dotledger.read_findings(table))
    print(
        f"Old Reed was named in {done.ledger.images} pictures; rows of the table: {before}, {left}."
    )
    print(
        "Nothing is left where it was searched."
        if done.clean
        else f"Left: {done.ledger.left} {done.files.held}"
    )
    with (folder / "walkers.csv").open(encoding="utf-8", newline="") as file:
        known = sum(row["name"] == "Old Reed" for row in csv.DictReader(file))
    print(f"The annotations, which were not named, still have {known} of Old Reed.")


def main(folder: Path) -> None:
    """Do all of it."""
    named_walkers.main(folder)
    ledger = folder / "porch.ledger"
    save_photo(folder)
    tell_the_desk(ledger, folder)
    forget_guest(ledger, folder)


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "porch"))
