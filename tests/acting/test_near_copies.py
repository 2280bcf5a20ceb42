"""Near-copies: bits worked by hand, real pictures changed in each way, rules that look at them."""

import io
import tempfile
import unittest
from pathlib import Path

import numpy as np
from PIL import Image, ImageOps

import dotledger
from dotledger.core.copies.image_fingerprints import PARTS, Prints, nearest_copies, pairs_alike
from dotledger.core.decisions.rule_conditions import Condition, Rule, Rules
from dotledger.errors import ArgumentError, DescriptionError, TableError
from dotledger.standins.demo_scenes import RECIPES, draw_scene
from tests.acting.test_face_covering import encoded, noise
from tests.core.measurement.test_measure import findings_of
from tests.forked import dotledger as run


def prints(**images):
    """Prints of eighteen bytes each: the whole as given, mirror and parts half like it."""
    rows = [np.frombuffer(bytes(one), dtype=np.uint8) for one in images.values()]
    whole = np.array(rows).reshape(-1, 18)
    half = np.tile(np.array([0b10101010] * 18, dtype=np.uint8), (len(rows), 1))
    parts = np.repeat(half[:, None], len(PARTS), axis=1)
    mirrored = np.full_like(half, 0b11001100)
    return Prints(names=tuple(images), whole=whole, mirrored=mirrored, parts=parts)


def blurred(seed, size=(160, 120)):
    """A coarse picture of its own."""
    small = np.random.default_rng(seed).integers(0, 255, (6, 8, 3), dtype=np.uint8)
    return Image.fromarray(small).resize(size, Image.Resampling.BICUBIC)


class ByHand(unittest.TestCase):
    def test_share_of_equal_bits(self):
        """8 of 144 bits differ: 136/144 alike; 0.95 asked is too much."""
        known = prints(known=[255] * 18)
        new = prints(near=[0] + [255] * 17, far=[0] * 18)
        found = nearest_copies(new, known, least=0.9)
        self.assertEqual(
            [(one.image, one.known, one.mirrored) for one in found], [("near", "known", False)]
        )
        self.assertAlmostEqual(found[0].likeness, 136 / 144)
        self.assertEqual(nearest_copies(new, known, least=0.95), [])
        self.assertEqual(nearest_copies(new, prints()), [])
        with self.assertRaisesRegex(ArgumentError, "0 to 1"):
            nearest_copies(new, known, least=80)

    def test_many_known(self):
        """Over the border of a block, against counting bits one by one."""
        rng = np.random.default_rng(3)
        rows = rng.integers(0, 256, (1200, 17, 18), dtype=np.uint8)
        names = tuple(f"{n}" for n in range(1200))
        known = Prints(names=names, whole=rows[:, 0], mirrored=rows[:, 1], parts=rows[:, 2:])
        asked = known.of("1100")
        wanted = max(range(1200), key=lambda n: 0 if n == 1100 else max(
            int((np.unpackbits(asked.whole[0]) == np.unpackbits(one)).sum()) for one in [rows[n, 0], *rows[n, 2:]]
        ))  # fmt: skip
        kept = [n for n in range(1200) if n != 1100]
        rest = Prints(
            names=tuple(names[n] for n in kept),
            whole=rows[kept, 0],
            mirrored=rows[kept, 1],
            parts=rows[kept, 2:],
        )
        alone = Prints(names=("x",), whole=asked.whole, mirrored=asked.whole, parts=asked.parts)
        self.assertEqual(nearest_copies(alone, rest, least=0)[0].known, str(wanted))
        self.assertEqual(pairs_alike(prints(a=[255] * 18, b=[255] * 18, c=[0] * 18)), (1, 3))


class Pictures(unittest.TestCase):
    def test_ways_of_changing(self):
        """Found smaller, compressed, darker, mirrored and cut; not another picture."""
        known = {f"{n}.png": encoded(blurred(n)) for n in range(6)}
        image = blurred(2)
        jpeg = io.BytesIO()
        image.save(jpeg, "JPEG", quality=30)
        changed = {
            "small": encoded(image.resize((60, 45))),
            "jpeg": jpeg.getvalue(),
            "dark": encoded(image.point(lambda v: v * 0.6)),
            "mirror": encoded(ImageOps.mirror(image)),
            "cut": encoded(image.crop((8, 6, 152, 114))),
            "other": encoded(blurred(77)),
        }
        found = {one.image: one for one in dotledger.near_copies(changed, known)}
        self.assertEqual(set(found), set(changed) - {"other"})
        self.assertEqual({one.known for one in found.values()}, {"2.png"})
        self.assertEqual([n for n, one in found.items() if one.mirrored], ["mirror"])

    def test_degenerate(self):
        """One pixel, one colour, clear, none at all: a print or a reason, never a fall."""
        one = Image.new("RGBA", (1, 1), (0, 0, 0, 0))
        made = dotledger.image_prints(
            {"dot": encoded(one), "grey": encoded(Image.new("L", (9, 900), 7)), "no": b"no image"}
        )
        self.assertEqual(made.names, ("dot", "grey"))
        self.assertEqual(made.unreadable[0][0], "no")
        self.assertEqual(len(made.of("nobody")), 0)
        self.assertIn("<Prints: 2 images, 1 unreadable>", repr(made))
        self.assertIn("dot", made._repr_html_())


class InRules(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.table = findings_of([("a", "face", "", None, None), ("b", "face", "", None, None)])

    def test_in_a_rule(self):
        """A copy is blocked with its likeness; an image that cannot be had holds."""
        known = dotledger.image_prints({"bad.png": encoded(blurred(1))})
        when = Condition(copy_of=known)
        rules = Rules(rules=(Rule(name="known", verdict="block", when=when),))
        got = dotledger.decide(
            self.table, rules, images={"a": encoded(ImageOps.mirror(blurred(1)))}
        )
        self.assertRegex(
            got.of("a").reasons[0],
            r"^block, known: copy of bad.png, [01]\.\d\d alike, mirrored, at least 0.8 alike asked$",
        )
        self.assertEqual(got.of("b").verdict, "hold")
        self.assertIn("not compared with known images", got.of("b").reasons[0])
        with self.assertRaisesRegex(ArgumentError, "images are not given"):
            dotledger.decide(self.table, rules)
        with self.assertRaises(ArgumentError):
            Condition(copy_of=known, kind="face")

    def test_rules_file(self):
        """A folder or a file of prints next to the rules; a known image without a print is said."""
        (self.home / "known").mkdir()
        (self.home / "known/bad.png").write_bytes(encoded(blurred(1)))
        rules = self.home / "r.toml"
        rules.write_text(
            'rules_file = 1\n[[rule]]\nverdict = "block"\ncopy_of = "known"\nlikeness = 0.9\n'
        )
        images = {"a": encoded(blurred(1)), "b": encoded(blurred(5))}
        self.assertEqual(dotledger.decide(self.table, rules, images=images).counts["block"], 1)
        dotledger.write_prints(dotledger.image_prints(self.home / "known"), self.home / "k.npz")
        rules.write_text(rules.read_text().replace('"known"', '"k.npz"'))
        self.assertEqual(dotledger.decide(self.table, rules, images=images).counts["block"], 1)
        rules.write_text(rules.read_text().replace("0.9", "90"))
        with self.assertRaises(DescriptionError):
            dotledger.read_rules(rules)
        (self.home / "known/worse.png").write_bytes(encoded(blurred(3))[:60])
        rules.write_text(rules.read_text().replace("90", "0.9").replace("k.npz", "known"))
        with self.assertRaisesRegex(TableError, "1 known image without a print"):
            dotledger.read_rules(rules)
        (self.home / "k.npz").write_bytes(b"PK\x03\x04 not so")
        with self.assertRaisesRegex(TableError, "k.npz"):
            dotledger.read_prints(self.home / "k.npz")

    def test_command(self):
        """Known images are kept; a copy is exit status 1 on request; what cannot be read is 3."""
        for folder, images in {"known": {"k.png": 1}, "new": {"again.jpg": 1, "other.jpg": 9}}.items():  # fmt: skip
            (self.home / folder).mkdir()
            for name, seed in images.items():
                blurred(seed).save(self.home / folder / name)
        done = run("copies", "--known", "known", "--keep", "k.npz", cwd=self.home)
        self.assertEqual((done.returncode, done.stdout), (0, ""), done.stderr)
        done = run("copies", "new", "--known", "k.npz", "--fail", cwd=self.home)
        self.assertEqual(done.returncode, 1, done.stderr)
        self.assertIn("2 images against 1 known image: 1 copy.", done.stdout)
        self.assertRegex(done.stdout, r"again.jpg +k.png +0\.9\d|1\.00")
        (self.home / "new/half.png").write_bytes(encoded(noise())[:90])
        done = run("copies", "new", "--known", "k.npz", "--json", cwd=self.home)
        self.assertEqual(done.returncode, 3)
        self.assertIn("half.png", done.stderr)

    def test_the_scenes(self):
        """A scene of the demo, smaller and mirrored, is found among the first twelve."""
        known = {r.name: draw_scene(r).data for r in RECIPES[:12]}
        name = RECIPES[4].name
        image = Image.open(io.BytesIO(known[name])).convert("RGB")
        small = ImageOps.mirror(image).resize((image.width // 2, image.height // 2))
        best = dotledger.near_copies({"new": encoded(small)}, known)[0]
        self.assertEqual((best.known, best.mirrored), (name, True))
