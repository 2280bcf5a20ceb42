"""Review: what counts, who agrees, what becomes truth; the sheet; the page and who may use it."""

import contextlib
import csv
import json
import os
import signal
import subprocess
import sys
import threading
import time
import unittest

import urllib3

from dotledger import send
from dotledger.acting.reviewing.review_page import review_app
from dotledger.acting.reviewing.review_sheet import read_sheet, write_sheet
from dotledger.acting.reviewing.review_worklist import open_worklist
from dotledger.acting.sorting_places import places_by_review
from dotledger.core.decisions.human_decisions import (
    Review,
    newest,
    review_pairs,
    reviewed_annotations,
    reviewed_verdicts,
)
from dotledger.core.decisions.rule_conditions import Condition, Rule, Rules
from dotledger.errors import ArgumentError, TableError
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.testing import FakeTransport
from tests.browser import Browser, needs_browser
from tests.core.measurement.test_measure import findings_of
from tests.forked import dotledger
from tests.sending.helpers import ANSWER, InFolder, description, picture

BOX = (0, 0, 9, 9)


def said(image, word, who="ada", row=0, label=""):
    return Review(image=image, row=row, who=who, made="2026-05-01T20:00:00", word=word, label=label)


class Counting(unittest.TestCase):
    def test_the_later_counts(self):
        """A later word supersedes; undone is none; two persons are kept apart; skip decides nothing."""
        kept = [
            said("a", "pass"),
            said("a", "block"),
            said("a", "pass", "ben"),
            said("b", "block"),
            said("b", "undone"),
            said("c", "skip"),
        ]
        self.assertEqual(reviewed_verdicts(kept), {"a": {"ada": "block", "ben": "pass"}})
        self.assertEqual(len(newest(kept)), 3)
        got = places_by_review(["a", "b", "c"], reviewed_verdicts([*kept, said("b", "pass")]))
        self.assertEqual([got[i][0][0] for i in "abc"], ["disagreed", "pass", "not reviewed"])
        for wrong in ({"word": "confirmed"}, {"word": "pass", "row": 1}, {"word": "block", "label": "x"}, {"word": "pass", "who": " "}):  # fmt: skip
            with self.subTest(wrong), self.assertRaises(ArgumentError):
                said("a", **wrong)

    def test_agreement(self):
        """Worked: 10 images, 8 alike, ada blocks 5 and ben 5: kappa (0.8 - 0.5) / 0.5 = 0.6."""
        ada, ben = "bbbbbppppp", "bbbbppppp" + "b"
        kept = [
            said(f"{n}", {"b": "block", "p": "pass"}[w], who)
            for who, words in (("ada", ada), ("ben", ben))
            for n, w in enumerate(words)
        ]
        pair = review_pairs(reviewed_verdicts(kept))[0]
        self.assertEqual((pair.images, pair.agreed, pair.differ), (10, 8, ("4", "9")))
        self.assertAlmostEqual(pair.kappa, 0.6)
        self.assertIsNone(review_pairs({"a": {"x": "pass", "y": "pass"}})[0].kappa)
        self.assertEqual(review_pairs({"a": {"x": "pass"}, "b": {"y": "pass"}}), [])

    def test_annotations(self):
        """Each word, a relabelled one, two who differ, and what pass and block say of unsafe ones."""
        found = findings_of([
            ("a", "object", "cup", 0.9, BOX), ("a", "object", "hat", 0.8, BOX), ("a", "object", "dog", 0.7, BOX), ("a", "object", "cat", 0.6, BOX),
            ("a", "unsafe", "smoke", 0.9, None), ("b", "unsafe", "smoke", 0.9, None), ("b", "object", "cup", 0.5, BOX),
            ("c", "unsafe", "", None, None), ("d", "unsafe", "smoke", 0.5, None),
        ])  # fmt: skip
        kept = [
            said("a", "confirmed", row=1), said("a", "label wrong", row=2, label="cap"), said("a", "box wrong", row=3),
            said("a", "label wrong", row=4), said("a", "block"), said("b", "pass"), said("c", "pass"),
        ]  # fmt: skip
        made = reviewed_annotations(found, kept)
        rows = sorted(
            map(
                tuple,
                made.annotations.frame()[["image", "kind", "label", "ignore"]].values.tolist(),
            )
        )
        self.assertEqual(rows, [
            ("a", "object", "cap", False), ("a", "object", "cup", False), ("a", "object", "dog", True), ("a", "unsafe", "smoke", False),
            ("b", "object", "", True), ("b", "unsafe", "", False), ("c", "object", "", True), ("c", "unsafe", "", False),
        ])  # fmt: skip
        self.assertEqual(made.left_out, ("d",))
        self.assertEqual(made.annotations.covered("object"), ["a"])
        both = [*kept, said("a", "box wrong", "ben", row=1)]
        frame = reviewed_annotations(found, both).annotations.frame()
        self.assertTrue(bool(frame[frame.label == "cup"].ignore.iloc[0]))
        self.assertEqual(
            reviewed_annotations(found, both, who="ben").annotations.covered("object"), []
        )
        self.assertEqual(len(reviewed_annotations(found, []).annotations.image.used()), 0)


RULES = Rules(rules=(Rule(name="any bell", verdict="hold", when=Condition(kind="object")),))


class WithWork(InFolder):
    def setUp(self):
        super().setUp()
        self.images = {f"{n}.jpg": picture(n) for n in range(3)}
        (self.folder / "images").mkdir()
        for name, data in self.images.items():
            (self.folder / "images" / name).write_bytes(data)
        send(
            self.folder / "images",
            description(),
            ledger=self.path,
            key="k",
            transport=FakeTransport([ANSWER] * 3),
        )
        self.ledger = self.enterContext(LedgerStore(self.path))
        self.now = 1.9e9
        self.work = open_worklist(self.ledger, rules=RULES, wall=lambda: self.now)


class InALedger(WithWork):
    def test_kept_undone_and_as_a_sheet(self):
        """Decisions outlive the program; undo takes back the last; a sheet brings many at once."""
        self.assertEqual([one.image for one in self.work.work], ["0.jpg", "1.jpg", "2.jpg"])
        self.work.decide("0.jpg", 0, "ada", "block")
        self.work.decide("1.jpg", 0, "ada", "pass")
        self.assertEqual(self.work.undo("ada").image, "1.jpg")
        self.assertIsNone(self.work.undo("ben"))
        again = open_worklist(self.ledger, rules=RULES, wall=lambda: self.now)
        self.assertEqual(reviewed_verdicts(again.reviews()), {"0.jpg": {"ada": "block"}})
        self.assertEqual(len(again.reviews()), 3, "nothing is erased")
        self.assertTrue(again.reviews()[0].made.startswith("2030-03-17"))
        sheet = self.folder / "s.csv"
        self.assertEqual(write_sheet(self.work, sheet), 3)
        rows = list(csv.DictReader(sheet.read_text("utf-8").splitlines()))
        one = next(r for r in rows if r["finding"] == "1")
        one["decision"], one["right_label"] = " Label  Wrong", "gong"
        rows[0]["decision"] = "pass"
        self.fill(sheet, rows)
        self.assertEqual(read_sheet(self.work, sheet, who="ben"), 2)
        self.assertEqual(newest(self.work.reviews())[one["image"], 1, "ben"].label, "gong")
        before = len(self.work.reviews())
        for column, value, words in (("decision", "perhaps", "row 2, column decision"), ("image", "no.jpg", "no image of this"), ("finding", "77", "column finding"), ("label", "other", "another label")):  # fmt: skip
            changed = [dict(row) for row in rows]
            changed[1 if column in ("finding", "label") else 0] |= {
                column: value,
                "decision": "perhaps"
                if column == "decision"
                else "confirmed"
                if column in ("finding", "label")
                else "pass",
            }
            self.fill(sheet, changed)
            with self.subTest(column), self.assertRaisesRegex(TableError, words):
                read_sheet(self.work, sheet, who="ben")
        self.assertEqual(len(self.work.reviews()), before, "all of a sheet or nothing")

    def fill(self, path, rows):
        with path.open("w", newline="", encoding="utf-8") as file:
            writer = csv.DictWriter(file, rows[0].keys())
            writer.writeheader()
            writer.writerows(rows)

    def test_command(self):
        """Out, in, what was decided, who agrees, and annotations that measure takes."""
        rules = self.folder / "r.toml"
        rules.write_text('rules_file = 1\n[[rule]]\nverdict = "hold"\nkind = "object"\n')
        base = ("review", "r.toml", "--ledger", self.path.name)
        done = dotledger(*base, "--out", "s.csv", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("3 images to look at, written to s.csv", done.stderr)
        rows = list(csv.DictReader((self.folder / "s.csv").read_text("utf-8").splitlines()))
        for who, word in (("ada", "pass"), ("ben", "block")):
            for row in rows:
                row["decision"] = "confirmed" if row["finding"] else word
            self.fill(self.folder / "s.csv", rows)
            done = dotledger(*base, "--in", "s.csv", "--who", who, "--decided", cwd=self.folder)
            self.assertEqual(done.returncode, 0, done.stderr)
        self.assertIn("ada and ben agree on 0 of 3 images", done.stdout)
        told = json.loads(dotledger(*base, "--decided", "--json", cwd=self.folder).stdout)
        self.assertEqual(
            (told["agreement"][0]["agreed"], len(told["decisions"])), (0, 2 * len(rows))
        )
        done = dotledger(*base, "--annotations", "truth.csv", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        done = dotledger("findings", "--ledger", self.path.name, "--out", "f.csv", cwd=self.folder)
        done = dotledger(
            "measure",
            "--findings",
            "f.csv",
            "--annotations",
            "truth.csv",
            "--kinds",
            "object",
            "--json",
            cwd=self.folder,
        )
        self.assertEqual(
            json.loads(done.stdout)["kinds"]["object"]["pooled"]["recall"], 1.0, done.stderr
        )
        self.assertEqual(dotledger(*base, "--out", "s.csv", cwd=self.folder).returncode, 2)


class Served(WithWork):
    def test_printed_when_it_listens(self):
        """The address that is printed answers at once; Ctrl-C with a page open ends without a traceback."""
        (self.folder / "r.toml").write_text(
            'rules_file = 1\n[[rule]]\nverdict = "hold"\nkind = "object"\n'
        )
        words = [sys.executable, "-m", "dotledger", "review", "r.toml", "--ledger", self.path.name]
        environment = {**os.environ, "PYTHONUNBUFFERED": "1"}
        process = subprocess.Popen(
            words,
            cwd=self.folder,
            env=environment,
            text=True,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
        )
        try:
            said = ""
            while "http://" not in said and process.poll() is None:
                said += process.stdout.read(1)
            while not said.endswith("/\n"):
                said += process.stdout.read(1)
            address = said[said.index("http://") :].strip()
            http = urllib3.PoolManager(retries=False)
            self.assertEqual(http.request("GET", address).status, 200)  # the connection stays open
            process.send_signal(signal.SIGINT)
            out, err = process.communicate(timeout=60)
        finally:
            process.kill()
            process.communicate()
        self.assertNotIn("Traceback", out + err)
        self.assertNotIn("Error", out + err)


class OnThePage(WithWork):
    def setUp(self):
        super().setUp()
        import socket

        import uvicorn

        listening = socket.create_server(("127.0.0.1", 0))
        self.addCleanup(listening.close)
        self.port = listening.getsockname()[1]
        app = review_app(self.work, who="ada", token="secret-token")
        self.server = uvicorn.Server(uvicorn.Config(app, log_level="error", lifespan="off"))
        thread = threading.Thread(
            target=self.server.run, kwargs={"sockets": [listening]}, daemon=True
        )
        thread.start()
        self.addCleanup(thread.join, 10)
        self.addCleanup(setattr, self.server, "should_exit", True)
        self.home = f"http://127.0.0.1:{self.port}/secret-token/"
        self.http = urllib3.PoolManager(retries=False)
        deadline = time.monotonic() + 20
        while not self.server.started and time.monotonic() < deadline:
            time.sleep(0.02)

    def ask(self, path="", method="GET", home=None, body=None, **headers):
        headers = {name.replace("_", "-"): value for name, value in headers.items()}
        return self.http.request(method, (home or self.home) + path, headers=headers, body=body)

    def test_who_may_ask(self):
        """Without the token, from another site, under another name or as a form: nothing."""
        self.assertEqual(self.ask().status, 200)
        self.assertIn("default-src 'none'", self.ask().headers["content-security-policy"])
        self.assertEqual(self.ask(home=f"http://127.0.0.1:{self.port}/other/").status, 404)
        self.assertEqual(self.ask("work", Host=f"evil.example:{self.port}").status, 403)
        self.assertEqual(self.ask("image/0", Sec_Fetch_Site="cross-site").status, 403)
        mine = {"Origin": f"http://127.0.0.1:{self.port}", "Content_Type": "application/json"}
        body = json.dumps({"image": "0.jpg", "row": 0, "word": "block"})
        for wrong in ({"Origin": "http://evil.example"}, {"Content_Type": "text/plain"}, {"Origin": "null"}):  # fmt: skip
            self.assertEqual(self.ask("decide", "POST", body=body, **(mine | wrong)).status, 403)
        self.assertEqual(self.ask("decide", body=body, **mine).status, 405)
        for bad in ("{", "[]", '{"image": "x", "word": "pass"}', '{"image": "0.jpg", "row": 99, "word": "confirmed"}', '{"image": "0.jpg", "word": "maybe"}'):  # fmt: skip
            self.assertEqual(self.ask("decide", "POST", body=bad, **mine).status, 400, bad)
        self.assertEqual(self.work.reviews(), [])
        self.assertEqual(self.ask("decide", "POST", body=body, **mine).status, 200)
        self.assertEqual(reviewed_verdicts(self.work.reviews()), {"0.jpg": {"ada": "block"}})
        self.assertEqual(self.ask("image/0").data, self.images["0.jpg"])
        self.assertEqual(self.ask("image/7").status, 404)
        self.assertIn(b'"things"', self.ask("raw/0").data)
        (self.folder / "images/1.jpg").write_bytes(self.images["2.jpg"])
        changed = self.ask("image/1")
        self.assertEqual(
            (changed.status, b"changed since it was sent" in changed.data), (410, True)
        )

    def test_odd_requests(self):
        """Hosts, numbers and bodies that are none are refused, not an error of the server; a long one unread."""
        for host in ("[::1", "[", "127.0.0.1:x:y", "", "a b", "\x7f"):
            self.assertIn(self.ask("work", Host=host).status, (400, 403), host)
        for place in ("9" * 5000, "-1", "1.5", "x", "²", "0x1", "1e9"):
            self.assertIn(self.ask(f"image/{place}").status, (400, 404), place[:9])
            self.assertIn(self.ask(f"raw/{place}").status, (400, 404), place[:9])
        mine = {"Origin": f"http://127.0.0.1:{self.port}", "Content_Type": "application/json"}
        for odd in ({"image": ["0.jpg"], "word": "pass"}, {"image": {}, "word": "pass"}, {"image": "0.jpg", "row": True, "word": "pass"}, {"image": "0.jpg", "row": 10**30, "word": "pass"},
                    {"image": "0.jpg", "row": -1, "word": "pass"}, {"image": "0.jpg", "row": 0.5, "word": "pass"}, {"image": "0.jpg", "word": ["pass"]}, {"image": None}):  # fmt: skip
            self.assertEqual(
                self.ask("decide", "POST", body=json.dumps(odd), **mine).status, 400, odd
            )
        self.assertEqual(self.ask("decide", "POST", body="[" * 5000, **mine).status, 413)
        sent = 0

        def endless():
            nonlocal sent
            while sent < 64 << 20:
                sent += 1 << 16
                yield b" " * (1 << 16)

        with contextlib.suppress(urllib3.exceptions.HTTPError, OSError):
            self.assertEqual(self.ask("decide", "POST", body=endless(), **mine).status, 413)
        self.assertLess(sent, 16 << 20, "it is not read to its end")
        self.assertEqual(self.work.reviews(), [])

    @needs_browser
    def test_by_keys(self):
        """Pass, block, choose, confirm, relabel, undo, raw: with keys alone, kept at once."""
        browser = Browser()
        self.addCleanup(browser.close)
        browser.driver.get(self.home)
        from selenium.webdriver.common.action_chains import ActionChains
        from selenium.webdriver.common.keys import Keys
        from selenium.webdriver.support.ui import WebDriverWait

        def press(*keys):
            ActionChains(browser.driver).send_keys(*keys).perform()

        def wait(script, wanted):
            WebDriverWait(browser.driver, 20).until(
                lambda _: browser.run(script) == wanted, f"{script} is {browser.run(script)}"
            )

        progress = "return document.getElementById('progress').textContent"
        name = "return document.getElementById('name').textContent"
        wait(progress, "0 of 3 decided")
        press("p")
        wait(progress, "1 of 3 decided")
        wait(name, "2. 1.jpg")
        press("b")
        wait(progress, "2 of 3 decided")
        self.assertEqual(
            reviewed_verdicts(self.work.reviews()),
            {"0.jpg": {"ada": "pass"}, "1.jpg": {"ada": "block"}},
        )
        press("u")
        wait(progress, "1 of 3 decided")
        wait(name, "2. 1.jpg")
        press(Keys.ARROW_DOWN, "c")
        chosen = "return document.querySelector('#found li[aria-selected=true] .said')?.textContent"
        wait(chosen, "confirmed")
        press("l")
        wait("return document.activeElement.id", "label")
        press("gong", Keys.ENTER)
        wait(chosen, "label wrong: gong")
        self.assertEqual(newest(self.work.reviews())["1.jpg", 1, "ada"].label, "gong")
        press("r")
        wait("return document.getElementById('raw').textContent.includes('things')", True)
        boxes = browser.run("""const b = document.querySelector('#boxes rect.over').getBoundingClientRect();
            const p = document.getElementById('picture').getBoundingClientRect();
            const s = p.width / document.getElementById('picture').naturalWidth;
            return [(b.x - p.x) / s, (b.y - p.y) / s, b.width / s, b.height / s]""")
        x0, y0, x1, y1 = next(one.box for one in self.work.work[1].found if one.box)
        for got, wanted in zip(boxes, (x0, y0, x1 - x0, y1 - y0)):
            self.assertAlmostEqual(got, wanted, delta=2.5)
        said = "return document.querySelectorAll('#boxes .said').length > 0"
        press(*"++++")  # a picture as small as this has no room for writing
        wait("return document.getElementById('stage').dataset.zoom", "5.06")
        wait(said, True)
        press("t")
        wait(said, False)
        press("0")
        wait("return document.getElementById('stage').dataset.zoom", "1.00")
        self.assertEqual(browser.errors(), [])
