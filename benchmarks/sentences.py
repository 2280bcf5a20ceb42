"""Thirty situations, and what each command's last lines say: ten where nothing is the matter, twenty where something is.

``python -m benchmarks sentences``. A sentence that must not be said where nothing is the matter counts as a false
alarm; one that must be said where something is counts as said. Limits: no false alarm, and at least 18 of 20 said.
"""

import os
import re
import tempfile
import threading
from contextlib import contextmanager
from http.server import ThreadingHTTPServer
from pathlib import Path

import numpy as np

from dotledger import write_table
from dotledger.core.tables.finding_details import Details
from tests import simulation
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.forked import dotledger
from tests.sending.helpers import ANSWER, TEXT, Handler, pictures

BOX, FAR = (0, 0, 10, 10), (50, 0, 60, 10)
MENDED = r"\A(?![\s\S]*stay as they are)"
"""What is said of a mapping, without the words that no mapping did better."""


class Situation:
    """One of them, in a folder of its own."""

    def __init__(self, folder, number):
        self.home = Path(folder) / str(number)
        self.home.mkdir()
        self.rng = np.random.default_rng(number)

    def table(self, name, table, details=None):
        write_table(
            table if details is None else _with(table, details),
            self.home / name,
            details=details is not None,
        )

    def said(self, *words, env=None):
        done = dotledger(*words, cwd=self.home, env=env)
        return done.stdout + done.stderr

    def runs(self, images=60, change="", *, anew=False):
        scene = simulation.scene_of(self.rng, images)
        first, second = (simulation.answered(self.rng, scene, anew=anew) for _ in range(2))
        self.table("a.csv", findings_of(first))
        self.table("b.csv", findings_of(simulation.changed_rows(self.rng, second, change)))
        return self.said("drift", "a.csv", "b.csv")

    def equal(self, images, labels):
        truth, first, second = simulation.equal_runs(self.rng, images, labels)
        self.table("t.csv", truth), self.table("a.csv", first), self.table("b.csv", second)
        return truth, first, second

    def presence(self, name, found):
        self.table(
            name,
            findings_of(
                [
                    (f"i{n}", "label", "x" if there else "", 0.9 if there else None, None)
                    for n, there in enumerate(found)
                ]
            ),
        )

    def all_there(self, images):
        self.table(
            "t.csv", annotations_of([(f"i{n}", "label", "x", None, False) for n in range(images)])
        )

    def gate(self, text):
        (self.home / "g.toml").write_text(f"gates_file = 1\nthreshold = 0.3\n[[gate]]\n{text}")
        return self.said(
            "gate",
            "g.toml",
            "--findings",
            "b.csv",
            "--annotations",
            "t.csv",
            "--against",
            "before=a.csv",
        )

    def mapped(self, service, images=200):
        sure, right, image = simulation.confidences(self.rng, images, service)
        place = np.arange(len(image)) - np.searchsorted(image, image)
        box = [(30 * n, 0, 30 * n + 10, 10) for n in place.tolist()]
        rows = [
            (f"i{i}", "object", "x", float(np.clip(c, 0, 1)), b if ok else (b[0], 500, b[2], 510))
            for i, c, b, ok in zip(image.tolist(), sure, box, right, strict=True)
        ]
        self.table("a.csv", findings_of(rows))
        self.table(
            "t.csv",
            annotations_of(
                [
                    (f"i{i}", "object", "x", b, False)
                    for i, b in zip(image.tolist(), box, strict=True)
                ]
            ),
        )
        return self.said(
            "reliability", "--findings", "a.csv", "--annotations", "t.csv", "--fit", "m.json"
        )

    def screened(self, when, given):
        table = findings_of([(f"i{n}", "face", "face", 0.9, BOX) for n in range(len(given))])
        self.table("a.jsonl", table, [Details(attributes=one) for one in given])
        (self.home / "r.toml").write_text(
            f"rules_file = 1\n[[rule]]\nname = 'one'\nverdict = 'hold'\nkind = 'face'\n{when}\n"
        )
        return self.said("screen", "r.toml", "--findings", "a.jsonl")

    def ways(self, unsafe, safe):
        rows = [(f"u{n}", "unsafe", "smoke", 0.9, None) for n in range(unsafe)]
        rows += [(f"s{n}", "unsafe", "smoke", 0.1, None) for n in range(safe)]
        self.table("a.csv", findings_of(rows))
        self.table(
            "t.csv",
            annotations_of(
                [(r[0], "unsafe", "smoke" if r[0][0] == "u" else "", None, False) for r in rows]
            ),
        )
        return self.said("choose", "--findings", "a.csv", "--annotations", "t.csv", "--aim",
                         "at most 2% of unsafe images pass, at most 2% of safe images are stopped")  # fmt: skip

    def sent(self, answer, names=("bell",)):
        with served(answer) as port:
            for name in names:
                (self.home / name).mkdir()
                for file, data in pictures(5).items():
                    (self.home / name / file).write_bytes(data)
                text = TEXT.replace(
                    'address = "http://127.0.0.1:1/', f'address = "http://127.0.0.1:{port}/'
                )
                (self.home / f"{name}.toml").write_text(
                    text.replace('service = "bell"', f'service = "{name}"')
                )
                out = self.said(
                    "send",
                    name,
                    "--service",
                    f"{name}.toml",
                    "--ledger",
                    "l.ledger",
                    env={"BELL_KEY": "k"},
                )
        return out


def _with(table, details):
    from dataclasses import replace

    return replace(table, details=tuple(details))


@contextmanager
def served(answer):
    """Serve one answer to every request, on loopback."""

    class Always(Handler):
        def asked(self):
            self.body()
            self.reply(answer)

    server = ThreadingHTTPServer(("127.0.0.1", 0), Always)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    try:
        yield server.server_port
    finally:
        server.shutdown()
        server.server_close()


def _swapped(one):
    one.equal(20, 1)
    return one.said("measure", "--findings", "t.csv", "--annotations", "a.csv")


def _compared(one, images, labels):
    one.equal(images, labels)
    return one.said("compare", "a.csv", "b.csv", "--annotations", "t.csv", "--threshold", 0.3)


def _gated(one):
    one.equal(60, 1)
    return one.gate(
        "measure = 'recall'\nof_each = 'kind'\nfalls_at_most = 0.01\nagainst = 'before'\n"
    )


def _lost_half(one):
    (
        one.all_there(12),
        one.presence("a.csv", [True] * 12),
        one.presence("b.csv", [n < 6 for n in range(12)]),
    )
    return one.gate(
        "measure = 'recall'\nfalls_at_most = 0.2\nagainst = 'before'\nif_unjudged = 'holds'\n"
    )


def _everything_against_nothing(one):
    one.all_there(60), one.presence("a.csv", [True] * 60), one.presence("b.csv", [False] * 60)
    return one.said("compare", "a.csv", "b.csv", "--annotations", "t.csv")


def _chosen(one, aim):
    one.equal(60, 1)
    return one.said("choose", "--findings", "a.csv", "--annotations", "t.csv", "--aim", aim)


def _nothing_right(one):
    one.all_there(20)
    one.table("a.csv", findings_of([(f"i{n}", "label", "y", 0.9, None) for n in range(20)]))
    return one.said("choose", "--findings", "a.csv", "--annotations", "t.csv", "--aim", "best f1")


def _measured(one):
    one.equal(60, 5)
    return one.said("measure", "--findings", "a.csv", "--annotations", "t.csv", "--threshold", 0.3)


def _two_forms(one):
    one.table(
        "a.csv",
        findings_of(
            [
                (f"i{n}", "label", "cafe\u0301" if n % 2 else "caf\u00e9", 0.9, None)
                for n in range(40)
            ]
        ),
    )
    one.table(
        "t.csv", annotations_of([(f"i{n}", "label", "caf\u00e9", None, False) for n in range(40)])
    )
    return one.said("measure", "--findings", "a.csv", "--annotations", "t.csv")


def _several_services(one):
    one.sent(ANSWER, ("bell", "gong"))
    return one.said("findings", "--ledger", "l.ledger")


_SET_ASIDE = {"things": [{"what": 5}], "scenes": []}

QUIET = (
    # what is played, and what must not be said
    ("drift: the same answers", lambda one: one.runs(), r"p +smallest|not significant"),
    ("drift: all answers drawn anew, 30 images", lambda one: one.runs(30, anew=True), "p +smallest"),
    ("drift: all answers drawn anew, 100 images", lambda one: one.runs(100, anew=True), "p +smallest"),
    ("compare: two equal services, one label", lambda one: _compared(one, 60, 1), "is better"),
    ("compare: two equal services, 20 labels", lambda one: _compared(one, 60, 20), "is better"),
    ("gate: an equal run next to the one before", _gated, r"\]: fell by [\d.]+ from [\d.]+\."),
    ("reliability: a calibrated service", lambda one: one.mapped("calibrated"), MENDED),
    ("choose: an aim that is met", lambda one: _chosen(one, "recall >= 0.3"), "cannot be met|not known"),
    ("screen: a rule that applies", lambda one: one.screened("attribute = 'smiling'\nvalue = 'yes'", [{"smiling": True}] * 3), "no finding of this batch|never has"),
    ("send: a service that answers well", lambda one: one.sent(ANSWER), r"[1-9]\d* .*unread|could not be read|Suspicious"),
)  # fmt: skip

LOUD = (
    # what is played, and what must be said
    *(
        (f"drift: {change}", lambda one, change=change: one.runs(100, change), named)
        for change, named in (
            ("surer", "mean confidence +object"),
            ("lost label", "object:stool"),
            ("lost tenth", "findings per image +object"),
            ("larger", "log area of a box +object"),
            ("shifted", "boxes moved right +object"),
            ("far away", "mean x of all boxes +object"),
            ("gone", "images with a finding +object"),
            ("doubled", "findings per image +object"),
            ("no confidences", "findings with a confidence +object"),
        )
    ),
    ("drift: eight images", lambda one: one.runs(8, anew=True), "With 8 images .*may pass unseen"),
    ("compare: everything against nothing", _everything_against_nothing, "recall +1.00 +0.00 +-1.00 .*a is better"),
    ("gate: half of the images lost", _lost_half, r"fell by 0.5 from 1"),
    ("reliability: much too sure", lambda one: one.mapped("much over"), MENDED),
    ("choose: no unsafe image", lambda one: one.ways(0, 50), "is not known: 0 of the images are unsafe"),
    ("choose: nothing right", _nothing_right, "cannot be|no threshold changes"),
    ("screen: a value that a flag never has", lambda one: one.screened("attribute = 'smiling'\nvalue = 'perhaps'", [{"smiling": True}] * 3), "never has such a value"),
    ("screen: an attribute that nothing has", lambda one: one.screened("attribute = 'beard'", [{"smiling": True}] * 3), "no finding of this batch has the attribute beard"),
    ("send: null instead of a section", lambda one: one.sent({**ANSWER, "tags": None, "things": None}), "null at"),
    ("measure: tables in each other's place", _swapped, "these look like"),
    ("findings: a ledger with two services", _several_services, "batches of several services"),
)  # fmt: skip


def main(*, quick):
    """Print each situation, and what was said of it."""
    del quick
    os.environ.setdefault("DOTLEDGER_AGREE_KEYS", "1")
    alarms = heard = 0
    with tempfile.TemporaryDirectory() as folder:
        for number, (what, play, unwanted) in enumerate(QUIET):
            said = play(Situation(folder, number))
            wrong = re.search(unwanted, said, re.MULTILINE) is not None
            alarms += wrong
            print(
                f"{'FALSE ALARM' if wrong else 'quiet':12}{what}" + (f"\n{said}" if wrong else ""),
                flush=True,
            )
        for number, (what, play, wanted) in enumerate(LOUD, len(QUIET)):
            said = play(Situation(folder, number))
            right = re.search(wanted, said, re.MULTILINE) is not None
            heard += right
            print(
                f"{'said' if right else 'NOT SAID':12}{what}"
                + (f"\n{said[-1500:]}" if not right else ""),
                flush=True,
            )
    print(
        f"{alarms} false alarms of {len(QUIET)} (none allowed), {heard} of {len(LOUD)} said (at least 18)"
    )
    return {"alarms": alarms, "said": heard, "of": len(LOUD)}
