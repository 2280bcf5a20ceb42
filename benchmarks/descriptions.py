"""Descriptions that are wrong in one place: what `reread` and `measure` say of each.

``python -m benchmarks descriptions [--quick]``. Limits: at most four of the 39 end without a word,
none of those with a recall below 0.1, and nothing is said of the five right ones.
"""

import tempfile
from pathlib import Path

from tests.campaigns.wrong_descriptions import RIGHT, WRONG, Campaign


def main(*, quick):
    """Print a row a description, and the counts."""
    with tempfile.TemporaryDirectory() as folder:
        campaign = Campaign(Path(folder), images=24 if quick else 60)
        alarms = {name: said for name in RIGHT if (said := campaign.right(name)[0])}
        said = [campaign.said(*wrong) for wrong in WRONG]
    print("| service | wrong | said by | recall | right | words |")
    print("| --- | --- | --- | --- | --- | --- |")
    for one in said:
        print(
            f"| {one.service} | {one.what} | {one.where or '-'} | {one.recall:.2f} | {one.right:.2f} | {one.words[:90]} |"
        )
    silent = [one for one in said if not one.words]
    low = sum(not one.recall >= 0.1 for one in silent)
    print(
        f"\nwithout a word: {len(silent)} of {len(said)} (at most 4), with recall below 0.1: {low} (none)"
    )
    print(
        f"right ones of which something is said: {len(alarms)} of {len(RIGHT)} (none) {alarms or ''}"
    )
