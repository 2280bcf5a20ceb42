"""The report: its numbers against `measure`, what it holds and leaves out, in a real browser."""

import base64
import hashlib
import html
import json
import random
import re
import sqlite3
import tempfile
import unittest
from contextlib import closing
from pathlib import Path
from unittest import mock

import dotledger
from dotledger.core.measurement.measure import measure
from dotledger.core.tables.finding_details import Details
from dotledger.errors import ArgumentError
from dotledger.report.pages.report_columns import page_run
from dotledger.testing import answer
from tests.acting.test_face_covering import encoded, noise
from tests.browser import Browser, needs_browser
from tests.core.measurement.test_measure import annotations_of, findings_of
from tests.forked import dotledger as run
from tests.sending.helpers import ANSWER, InFolder, description, number_of, picture
from tests.walk import walk_in

MARK = "LanternBay-Ada Ro"
LABELS = ("lamp", "cup", "<b>bold</b>")
KINDS = (("object", True), ("label", False))


def case(seed, images=14):
    """Random findings and annotations, with ties, asserted findings, duplicates and ignored ones."""
    rng = random.Random(seed)
    names = [f"i{n}.png" for n in range(images)]

    def box():
        x, y = rng.randint(0, 40), rng.randint(0, 30)
        return (x, y, x + rng.randint(4, 18), y + rng.randint(4, 18))

    true, found = [], []
    for name in names:
        for kind, boxed in KINDS:
            true.append((name, kind, "", None, False))
            found.append((name, kind, "", None, None))
            for _ in range(rng.randint(0, 4)):
                place = box() if boxed else None
                label = rng.choice(LABELS)
                if rng.random() < 0.8:
                    true.append((name, kind, label, place, rng.random() < 0.1))
                for _ in range(rng.randint(0, 2)):
                    shift = rng.choice((0, 0, 1, 6))
                    near = None if place is None else tuple(side + shift for side in place)
                    confidence = rng.choice((None, 0.125, 0.25, 0.5, 0.5, 0.61, 0.75, round(rng.random(), 3)))  # fmt: skip
                    found.append((name, kind, rng.choice((label, "lamp")), confidence, near))
    return findings_of(found), annotations_of(true)


def counted(page, least):
    """Count columns as the page's script does, from their description alone."""
    f, counts = page.findings, {}
    for group in page.groups:
        counts[group["kind"], group["label"]] = [group["annotated"], 0, 0]
    for i, kind in enumerate(f["kind"]):
        passes = f["confidence"][i] is None or least is None or f["confidence"][i] >= least
        if f["counts"][i] and f["state"][i] < 2 and passes:
            counts[kind, f["label"][i]][1 + f["state"][i]] += 1
    return {key: (n, right, n - right, wrong) for key, (n, right, wrong) in counts.items()}


class Columns(unittest.TestCase):
    def test_equal_at_every_threshold(self):
        """For 60 random cases the columns give at any threshold what `measure` gives there."""
        for seed in range(60):
            found, true = case(seed, images=6)
            images = found.image.used()
            page = page_run(
                "x", found, images, measured=measure(found, true, draws=0), annotations=true
            )
            for least in (None, 0.1, 0.125, 0.3, 0.5, 0.61, 0.9, 1.0):
                wanted = measure(found, true, threshold=least, draws=0)
                got = counted(page, least)
                for kind, one in wanted.kinds.items():
                    for label, row in one.rows.items():
                        self.assertEqual(
                            got[kind, label],
                            (row.annotated, row.true_positives, row.misses, row.false_positives),
                            (seed, least, kind, label),
                        )

    def test_pairs_and_states(self):
        """Worked: a right one, the same seen twice, one on an ignored thing, one nobody judges."""
        box, far = (0, 0, 10, 10), (30, 30, 40, 40)
        found = findings_of([
            ("a", "object", "cup", 0.9, box), ("a", "object", "cup", 0.8, box), ("a", "object", "cup", 0.7, far), ("a", "object", "hat", 0.6, box),
        ])  # fmt: skip
        true = annotations_of(
            [("a", "object", "cup", box, False), ("a", "object", "cup", far, True)]
        )
        page = page_run("x", found, ["a"], measured=measure(found, true, draws=0), annotations=true)
        self.assertEqual(page.findings["state"], [0, 1, 2, 3])
        self.assertEqual(
            (page.findings["pair"], page.annotations["pair"]), ([0, -1, -1, -1], [0, -1])
        )
        self.assertTrue(page.findings["reason"][1].startswith("seen twice"))
        other = measure(found, true, draws=0, pairing="total-overlap", threshold=0.5)
        with self.assertRaisesRegex(ArgumentError, "one threshold only"):
            page_run("x", found, ["a"], measured=other, annotations=true)


class WithPage(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.home = Path(folder.name)
        cls.found, cls.true = case(3)
        cls.images = {f"i{n}.png": encoded(noise(seed=n, size=(64, 48))) for n in range(14)}
        cls.path = cls.home / "r.html"
        dotledger.write_report(
            cls.path, cls.found, cls.true, images=cls.images, threshold=0.5, draws=50
        )
        cls.text = cls.path.read_text(encoding="utf-8")

    def data(self, text=None, name="data"):
        found = re.search(
            f'<script type="application/json" id="{name}">(.*?)</script>',
            text or self.text,
            re.DOTALL,
        )
        return json.loads(found[1])


class Page(WithPage):
    def test_it_stands_by_itself(self):
        """Nothing is loaded from elsewhere; the policy names its own script and style by digest."""
        self.assertEqual(re.findall(r'(?:src|href)="(?!data:|#)([^"]*)"', self.text), [])
        policy = html.unescape(
            re.search(r'Content-Security-Policy" content="([^"]*)"', self.text)[1]
        )
        for tag, word in (("style", "style-src"), ("script", "script-src")):
            inner = re.findall(f"<{tag}>(.*?)</{tag}>", self.text, re.DOTALL)
            self.assertEqual(len(inner), 1)
            digest = base64.b64encode(hashlib.sha256(inner[0].encode()).digest()).decode()
            self.assertIn(f"{word} 'sha256-{digest}'", policy)
        self.assertIn("default-src 'none'", policy)
        self.assertNotIn("<b>bold</b>", self.text)
        self.assertIn("&lt;b&gt;bold&lt;/b&gt;", self.text)

    def test_same_bytes(self):
        """The same tables give the same bytes; every image is in it, with its size."""
        again = self.home / "again.html"
        dotledger.write_report(
            again, self.found, self.true, images=self.images, threshold=0.5, draws=50
        )
        self.assertEqual(again.read_bytes(), self.path.read_bytes())
        self.assertEqual(self.data()["sizes"], [[64, 48]] * 14)
        self.assertEqual(self.text.count("data:image/jpeg;base64,") >= 14, True)

    def test_without_matplotlib(self):
        """Without Matplotlib the page is written without charts, and says so; with it neither."""
        self.assertIn('class="chart"', self.text)
        self.assertNotIn("Charts need Matplotlib", self.text)
        bare = self.home / "bare.html"
        with (
            mock.patch("dotledger.report.pages.report_charts.can_draw", return_value=False),
            mock.patch("dotledger.report.pages.report_page.can_draw", return_value=False),
        ):
            dotledger.write_report(bare, self.found, self.true, draws=0)
        self.assertIn("Charts need Matplotlib", bare.read_text())
        self.assertNotIn('class="chart"', bare.read_text())

    def test_linked_or_none(self):
        """In a folder next to the page, or no pictures at all; a second run writes the same."""
        linked = self.home / "l.html"
        for _ in range(2):
            dotledger.write_report(
                linked, self.found, self.true, images=self.images, how="link", draws=0
            )
        text = linked.read_text(encoding="utf-8")
        sources = re.findall(r'<img src="([^"]+)"', text)
        self.assertEqual(len(sources), 14)
        self.assertTrue(
            all((self.home / one).read_bytes().startswith(b"\xff\xd8") for one in sources)
        )
        dotledger.write_report(
            linked, self.found, self.true, images=self.images, how="none", draws=0
        )
        self.assertNotIn("<img src", linked.read_text(encoding="utf-8"))
        with self.assertRaises(ArgumentError):
            dotledger.write_report(linked, self.found, self.true, how="some")
        with self.assertRaisesRegex(ArgumentError, "ledger"):
            dotledger.write_report(linked)

    def test_without_annotations(self):
        """What was found is shown, and nothing is judged."""
        plain = self.home / "p.html"
        dotledger.write_report(plain, self.found, images=self.images)
        data = self.data(plain.read_text(encoding="utf-8"))
        self.assertEqual((data["judged"], set(data["runs"][0]["findings"]["state"])), (False, {3}))


class Private(unittest.TestCase):
    def test_nothing_private_is_in_the_bytes(self):
        """No picture, no name of a person, no line of text, no raw answer."""
        home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        rows = [("a.png", "face", "face", 0.9, (1, 1, 20, 20)), ("a.png", "text", "Ring 0171 555 0199", 0.9, (1, 30, 40, 40)),
                ("a.png", "caption", "Old Reed waits", 0.9, None)]  # fmt: skip
        who = {"name": "Old Reed", "similarity": 0.9}
        found = findings_of(rows)
        found = type(found)(
            **{
                **vars(found),
                "details": (Details(attributes={"who": who, "smiling": True}), None, None),
            }
        )
        images = {"a.png": encoded(noise(seed=1))}
        for private in (False, True):
            path = dotledger.write_report(home / "r.html", found, images=images, private=private)
            text = path.read_text(encoding="utf-8")
            for secret in ("Old Reed", "0171", "data:image/jpeg"):
                self.assertEqual(secret in text, not private, secret)
            self.assertIn("smiling: yes", text)
        walk, _ = walk_in(home)
        words = ("report", "--ledger", "walk.ledger", "--service", "marl", "--versus", "flint", "--annotations", "annotations.csv", "--rules", "rules.toml", "--threshold", 0.5)  # fmt: skip
        for name, more in (("open.html", ()), ("closed.html", ("--private",))):
            done = run(*words, "--out", name, *more, cwd=walk)
            self.assertEqual(done.returncode, 0, done.stderr)
            text = (walk / name).read_text(encoding="utf-8")
            for secret in ("data:image/jpeg", "eye_distance", 'id="rawdata"'):
                self.assertEqual(secret in text, not more, secret)
            self.assertIn("flint is better", text)
        self.assertEqual(run(*words, "--out", "open.html", cwd=walk).returncode, 2, "it exists")
        self.assertEqual(run(*words, "--out", "open.txt", cwd=walk).returncode, 2)


class Planted(InFolder):
    """A marker in every text that a ledger and annotations can hold."""

    RULES = 'rules_file = 1\n[[rule]]\nkind = "object"\nverdict = "block"\nname = "%s"\n'

    def planted(self):
        changes = (
            (
                '[[read]]\nkind = "label"',
                '[[read]]\nkind = "face"\neach = "faces[]"\nlabel = "who"\nattributes = { mood = { at = "mood" }, who = { at = "who" } }\nbox = { at = "box", order = ["x0", "y0", "x1", "y1"] }\n[[read]]\nkind = "text"\neach = "lines[]"\nlabel = "t"\nbox = { at = "box", order = ["x0", "y0", "x1", "y1"] }\n[[read]]\nkind = "caption"\neach = "said[]"\nlabel = "t"\n[[read]]\nkind = "label"',
            ),
            (
                'kinds = ["label", "object"]',
                'kinds = ["label", "object", "face", "text", "caption"]',
            ),
            (
                'settings = { region = "north" }',
                f'settings = {{ region = "north", note = "{MARK}" }}',
            ),
            ('service = "bell"', f'service = "bell"\nabout = "{MARK}"'),
        )
        box = [1, 1, 9, 9]
        said = {**ANSWER, "faces": [{"who": MARK, "mood": MARK, "box": box}, {"who": MARK, "box": [MARK, 1, 2]}],
                "lines": [{"t": f"{MARK} 0171", "box": box}], "said": [{"t": f"{MARK} waits"}]}  # fmt: skip

        def reply(request):
            number = number_of(request)
            return answer({"detail": f"{MARK} is not liked"}, 400) if number == 2 else said

        images = {f"{MARK}-{n}/{MARK}.jpg": picture(n) for n in range(4)} | {
            f"{MARK}.txt": b"no image"
        }
        self.send(images, reply, description(*changes), round=MARK)
        head = "image,kind,label,x0,y0,x1,y1,ignore\n"
        rows = "".join(
            f"{name},face,{MARK},1,1,9,9,\n{name},text,{MARK} 0171,1,1,9,9,\n{name},object,bell,1,1,5,5,\n"
            for name in images
            if ".jpg" in name
        )
        (self.folder / f"{MARK}.csv").write_text(head + rows)
        (self.folder / "facts.csv").write_text(
            "image,weather\n" + "".join(f"{name},{MARK} {n % 2}\n" for n, name in enumerate(images))
        )
        (self.folder / "rules.toml").write_text(self.RULES % MARK)
        return images

    def test_nothing_of_it_is_in_a_private_report(self):
        """It is in the open report; in the private one it is nowhere, in no menu, note or reason."""
        images = self.planted()
        with closing(sqlite3.connect(self.path)) as connection:
            keep = {"kind", "outcome", "label", "value", "key", "fingerprint", "sha", "name", "call", "started", "ended", "asked", "currency", "description", "call_name", "read", "made", "until", "service", "kinds", "details", "identity"}  # fmt: skip
            for (table,) in connection.execute(
                "SELECT name FROM sqlite_master WHERE type = 'table'"
            ).fetchall():
                for _, column, kind, *_ in connection.execute(
                    f"PRAGMA table_info({table})"
                ).fetchall():
                    if kind.upper().startswith(("TEXT", "VARCHAR")) and column not in keep:
                        connection.execute(
                            f"UPDATE {table} SET {column} = ? WHERE {column} IS NOT NULL",
                            (f"{MARK} {column}",),
                        )
            connection.commit()
        options = {
            "ledger": self.path,
            "images": images,
            "draws": 0,
            "facts": self.folder / "facts.csv",
        }
        for private in (False, True):
            for rules in (None, self.folder / "rules.toml"):
                path = dotledger.write_report(
                    self.folder / "r.html",
                    None,
                    self.folder / f"{MARK}.csv",
                    private=private,
                    rules=rules,
                    **options,
                )
                text = path.read_bytes().decode().casefold()
                plain = text.replace("\\u003c", "<")
                self.assertEqual(
                    any(mark in plain for mark in (MARK.casefold(), "lanternbay")), not private
                )
            self.assertIn("bell", text)
        found = findings_of([(f"{MARK}.jpg", "face", MARK, 0.9, (1, 1, 9, 9))])
        path = dotledger.write_report(self.folder / "r.html", found, versus=found, private=True)
        self.assertNotIn(MARK.casefold(), path.read_text().casefold())


@needs_browser
class InABrowser(WithPage):
    @classmethod
    def setUpClass(cls):
        super().setUpClass()
        cls.browser = Browser()
        cls.addClassCleanup(cls.browser.close)

    def setUp(self):
        self.browser.driver.get("about:blank")
        self.browser.driver.get(f"file://{self.path}")

    def slide(self, value):
        self.browser.run(
            "const s = document.getElementById('threshold'); s.value = arguments[0];"
            "s.dispatchEvent(new Event('input')); s.dispatchEvent(new Event('change'));", value
        )  # fmt: skip

    def table(self):
        return self.browser.run("""return [...document.querySelectorAll('table.measures tbody tr')].map((r) =>
            [r.dataset.kind, r.dataset.label, ...['.n-right', '.n-missed', '.n-wrong', '.v-recall', '.v-precision', '.v-f1'].map((c) => r.querySelector(c).textContent)])""")  # fmt: skip

    def test_writing_and_zoom(self):
        """Writing stays in the picture and covers no writing, at every zoom; keys and wheel zoom."""
        run = self.browser.run
        run("document.querySelector('.sight').click()")
        places = """return [...document.querySelectorAll('#d-over .tag')].map((t) => ['x', 'y', 'width', 'height'].map((n) => Number(t.getAttribute(n))))"""
        texts = "return [...document.querySelectorAll('#d-over .said')].map((t) => t.textContent)"
        size = run("const v = document.getElementById('d-over').viewBox.baseVal; return [v.width, v.height]")  # fmt: skip
        counts = []
        for key in ("", "+", "+", "-", "0"):
            run("document.getElementById('detail').dispatchEvent(new KeyboardEvent('keydown', {key: arguments[0]}))", key)  # fmt: skip
            spots = run(places)
            for n, (x, y, w, h) in enumerate(spots):
                self.assertTrue(x >= 0 and y >= 0 and x + w <= size[0] and y + h <= size[1])
                for a, b, c, d in spots[n + 1 :]:
                    apart = x + w <= a + 1e-6 or a + c <= x + 1e-6 or y + h <= b + 1e-6 or b + d <= y + 1e-6  # fmt: skip
                    self.assertTrue(apart, (spots[n], (a, b, c, d)))
            counts.append(len(spots))
        self.assertEqual(run("return document.getElementById('d-stage').dataset.zoom"), "1.00")
        self.assertEqual(counts[0], counts[-1])
        self.assertGreaterEqual(counts[2], counts[0], "there is more room in a larger picture")
        self.assertTrue(set(run(texts)))
        run("document.getElementById('d-stage').dispatchEvent(new WheelEvent('wheel', {deltaY: -400, cancelable: true}))")  # fmt: skip
        self.assertEqual(run("return document.getElementById('d-stage').dataset.zoom"), "2.72")
        run("document.getElementById('d-said').click()")
        self.assertEqual(run(texts), [])
        self.assertEqual(self.browser.errors(), [])

    def test_numbers_equal_those_of_measure(self):
        """At 21 positions of the slider every figure is that of `measure`, to the last digit."""
        for value in (None, *(n / 20 for n in range(1, 21))):
            self.slide(0 if value is None else value)
            wanted = []
            for kind, one in measure(self.found, self.true, threshold=value, draws=0).kinds.items():
                for label, row in (("", one.pooled), *one.rows.items()):
                    shares = [
                        "\N{EN DASH}" if v != v else f"{v:.2f}"
                        for v in (row.recall, row.precision, row.f1)
                    ]
                    counts = [str(n) for n in (row.true_positives, row.misses, row.false_positives)]
                    wanted.append([kind, label, *counts, *shares])
            self.assertEqual(self.table(), wanted, value)
        self.assertEqual(self.browser.errors(), [])

    def test_rounding(self):
        """Two digits as Python writes them, for every fraction of small counts and any number."""
        values = [a / b for b in range(1, 220) for a in range(b + 1)]
        values += [random.Random(1).random() for _ in range(5000)]
        got = self.browser.run("return arguments[0].map((v) => dotLedger.fixed(v))", values)
        self.assertEqual(got, [f"{v:.2f}" for v in values])

    def test_one_label_and_a_permalink(self):
        """A threshold for one label alone; the address brings the same state back."""
        self.browser.run(
            "const a = document.getElementById('applies'); a.value = 'object:cup'; a.dispatchEvent(new Event('change'))"
        )
        self.slide(1)
        wanted = measure(
            self.found,
            self.true,
            threshold={"object:cup": 1.0, "object": 0.5, "label": 0.5},
            draws=0,
        )
        row = next(r for r in self.table() if r[:2] == ["object", "cup"])
        self.assertEqual(int(row[2]), wanted.kinds["object"].rows["cup"].true_positives)
        before, address = self.table(), self.browser.driver.current_url
        self.assertIn("object%3Acup%401", address)
        self.browser.driver.get("about:blank")
        self.browser.driver.get(address)
        self.assertEqual(self.table(), before)
        self.browser.run("document.getElementById('reset').click()")
        self.assertNotEqual(self.table(), before)

    def test_filters_order_and_keys(self):
        """Images with something wrong only, the most first; into one image and out by keys alone."""
        from selenium.webdriver.common.action_chains import ActionChains
        from selenium.webdriver.common.keys import Keys

        self.browser.run("""const f = document.getElementById('filters');
            f.elements.state.value = 'wrong'; f.elements.order.value = 'wrong'; f.dispatchEvent(new Event('input', {bubbles: true}))""")  # fmt: skip
        shown = self.browser.run(
            "return [...document.querySelectorAll('.card')].filter((c) => !c.hidden).map((c) => c.querySelector('b').textContent)"
        )
        wrong = {}
        for one in measure(self.found, self.true, threshold=0.5, draws=0).why().wrong:
            wrong[one.image] = wrong.get(one.image, 0) + 1
        self.assertEqual(sorted(shown), sorted(wrong))
        self.assertEqual([wrong[n] for n in shown], sorted(wrong.values(), reverse=True))
        self.browser.run(
            "[...document.querySelectorAll('.card')].find((c) => !c.hidden).querySelector('.sight').focus()"
        )
        ActionChains(self.browser.driver).send_keys(Keys.ENTER).perform()
        self.assertTrue(self.browser.run("return document.getElementById('detail').open"))
        self.assertEqual(
            self.browser.run("return document.getElementById('d-name').textContent"), shown[0]
        )
        ActionChains(self.browser.driver).send_keys(Keys.ARROW_RIGHT).perform()
        self.assertEqual(
            self.browser.run("return document.getElementById('d-name').textContent"), shown[1]
        )
        self.browser.run("document.querySelector('#d-list tr').focus()")
        tip = self.browser.run("return document.getElementById('d-tip').textContent")
        self.assertRegex(tip, "lamp|cup|bold")
        ActionChains(self.browser.driver).send_keys(Keys.ESCAPE).perform()
        self.assertFalse(self.browser.run("return document.getElementById('detail').open"))

    def test_boxes_lie_where_they_are(self):
        """A drawn box is where its finding is, within a pixel of the image."""
        self.browser.run("document.querySelector('.card').scrollIntoView({behavior: 'instant'})")
        self.browser.run("document.querySelector('#c0 .sight').click()")
        data = self.data()["runs"][0]["findings"]
        wanted = sorted(
            box
            for image, box, c in zip(data["image"], data["box"], data["confidence"])
            if image == 0 and box and (c is None or c >= 0.5)
        )
        got = self.browser.run("""const p = document.getElementById('d-image').getBoundingClientRect(); const s = p.width / 64;
            return [...document.querySelectorAll('#d-over .box')].filter((b) => b.dataset.key[0] === 'f' && !b.classList.contains('cut')).map((b) => {
            const r = b.getBBox(); const m = b.getScreenCTM(); return [(m.a * r.x + m.e - p.x) / s, (m.d * r.y + m.f - p.y) / s, (m.a * (r.x + r.width) + m.e - p.x) / s, (m.d * (r.y + r.height) + m.f - p.y) / s]})""")  # fmt: skip
        self.assertEqual(len(got), len(wanted))
        for one, other in zip(sorted(got), wanted):
            for side, true in zip(one, other):
                self.assertAlmostEqual(side, true, delta=1)

    def test_without_scripts_dark_and_print(self):
        """Tables, charts and pictures are there without scripts; dark and print change the ground."""
        plain = Browser(script=False)
        self.addCleanup(plain.close)
        plain.driver.get(f"file://{self.path}")
        from selenium.webdriver.common.by import By

        find = plain.driver.find_elements
        self.assertFalse(plain.driver.find_element(By.ID, "bar").is_displayed())
        self.assertTrue(plain.driver.find_element(By.CSS_SELECTOR, "table.measures").is_displayed())
        self.assertGreater(len(find(By.CSS_SELECTOR, ".chart svg")), 4)
        self.assertEqual(len(find(By.CSS_SELECTOR, "#cards img")), 14)
        ground = "return getComputedStyle(document.body).backgroundColor"
        light = self.browser.run(ground)
        media = self.browser.driver.execute_cdp_cmd
        media(
            "Emulation.setEmulatedMedia",
            {"features": [{"name": "prefers-color-scheme", "value": "dark"}]},
        )
        self.assertNotEqual(self.browser.run(ground), light)
        media("Emulation.setEmulatedMedia", {"media": "print", "features": []})
        self.assertEqual(
            self.browser.run("return getComputedStyle(document.getElementById('bar')).display"),
            "none",
        )
        media("Emulation.setEmulatedMedia", {"media": "", "features": []})
