"""Reading answers: every convention, loudly, without crashing."""

import json
import math
import random
import re
import unittest

from dotledger.core.boxes.image_frames import Frame
from dotledger.core.tables.finding_details import Details
from dotledger.core.tables.findings_table import Findings
from dotledger.errors import AnswerError, DescriptionError
from dotledger.reading.answer_paths import compile_each, compile_path
from dotledger.reading.rule_reader import NOT_THERE
from dotledger.services.answer_reading import Reader
from dotledger.services.service_description import parse_description
from dotledger.standins.evening_demo import description_text

FRAME = Frame(200, 100, 100, 50)


def reader(rule, extra=""):
    """A reader with one rule, given as TOML lines."""
    kinds = json.dumps(sorted(set(re.findall(r'^kind = "(\w+)"', rule, re.MULTILINE))))
    return Reader(
        parse_description(
            'service = "x"\n[connect]\naddress = "http://h"\n[[call]]\nname = "c"\npath = "/"\n'
            f"kinds = {kinds}\n{extra}\n[[read]]\n{rule}\n"
        )
    )


def read(rule, answer, frame=FRAME, extra=""):
    [reading] = reader(rule, extra).read(
        json.dumps(answer).encode(),
        "c",
        ["label", "object", "face", "unsafe", "text", "caption"],
        [frame],
    )
    if isinstance(reading, AnswerError):
        raise reading
    return reading


OBJECT = 'kind = "object"\neach = "things[]"\nlabel = "what"\n'


class Boxes(unittest.TestCase):
    def box(self, rule, raw, frame=FRAME, extra="", **more):
        reading = read(
            f"{OBJECT}box = {{ {rule} }}",
            {"things": [{"what": "x", "b": raw}], **more},
            frame,
            extra,
        )
        return reading.found[0].box if reading.found else reading.notes

    def test_forms_and_units(self):
        """The same box in six conventions comes out the same."""
        wanted = (20, 10, 60, 30)
        corners = 'at = "b", order = ["x0", "y0", "x1", "y1"]'
        for rule, raw in (
            (f'{corners}, of = "original"', [20, 10, 60, 30]),
            (corners, [10, 5, 30, 15]),
            ('at = "b", order = ["y0", "x0", "y1", "x1"], unit = "fraction"', [0.1, 0.1, 0.3, 0.3]),
            ('at = "b", form = "corner+size", unit = "percent", fields = { x0 = "l", y0 = "t", width = "w", height = "h" }', {"l": 10, "t": 10, "w": 20, "h": 20}),
            ('at = "b", form = "centre+size", unit = "thousandths", order = ["cx", "cy", "width", "height"]', [200, 200, 200, 200]),
            ('at = "b", form = "points", unit = "grid", grid = 10', [{"x": 1, "y": 1}, {"x": 3, "y": 1}, {"x": 2, "y": 3}]),
        ):  # fmt: skip
            self.assertEqual(tuple(round(v, 9) for v in self.box(rule, raw)), wanted, rule)

    def test_working_size(self):
        """Pixels of the service's own working size are brought to the original's."""
        rule = 'at = "b", order = ["x0", "y0", "x1", "y1"], of = "working"'
        extra = '[envelope]\nwidth = "size.w"\nheight = "size.h"'
        self.assertEqual(
            self.box(rule, [5, 5, 10, 10], extra=extra, size={"w": 50, "h": 25}), (20, 20, 40, 40)
        )
        self.assertEqual(
            self.box(rule, [5, 5, 10, 10], extra=extra)[0][0], "no working size in the answer"
        )
        for flat in ({"w": 50, "h": 0}, {"w": 0, "h": 25}):
            noted = self.box(rule, [5, 5, 10, 10], extra=extra, size=flat)[0][0]
            self.assertEqual(noted, "no working size in the answer")

    def test_before_orientation(self):
        """A box in the pixels of the stored, lying image is turned upright with it."""
        frame = Frame(100, 200, 100, 200, turned=6)
        rule = 'at = "b", order = ["x0", "y0", "x1", "y1"], upright = false'
        self.assertEqual(self.box(rule, [0, 0, 20, 10], frame), (90, 0, 100, 20))
        for turned, wanted in (
            (5, (0, 0, 10, 20)),
            (3, (80, 190, 100, 200)),
            (8, (0, 180, 10, 200)),
        ):
            frame = Frame(100, 200, 100, 200, turned=turned)
            self.assertEqual(self.box(rule, [0, 0, 20, 10], frame), wanted, turned)

    def test_set_aside_with_reason(self):
        """A box that cannot be kept is noted, never lost in silence."""
        rule = 'at = "b", order = ["x0", "y0", "x1", "y1"]'
        for raw, reason in (
            ([5, 5, 5, 9], "no area"),
            ([500, 0, 600, 9], "outside the image"),
            ([1, 2, 3], "box is not a list of four"),
            ([1, 2, 3, "x"], "not a number"),
            (None, "no box"),
        ):
            self.assertEqual(self.box(rule, raw)[0][0], reason)


class Confidences(unittest.TestCase):
    def confidence(self, rule, raw):
        reading = read(
            f'kind = "label"\neach = "tags[]"\nlabel = "n"\nconfidence = {{ at = "c", {rule} }}',
            {"tags": [{"n": "x", "c": raw}]},
        )
        return reading.found[0].confidence if reading.found else reading.notes[0][0]

    def test_scales(self):
        """Every scale reads to 0 to 1, text too."""
        for rule, raw, wanted in (
            ('scale = "fraction"', 0.5, 0.5),
            ('scale = "percent"', "87.5%", 0.875),
            ('scale = "thousandths"', 912, 0.912),
            ('scale = "range", range = [1, 5]', 4, 0.75),
            ('scale = "log-odds"', 0, 0.5),
            ('scale = "yes-no"', True, 1.0),
            ('scale = "words", words = [["no", 0.1], ["yes", 0.9]]', " YES ", 0.9),
        ):
            self.assertAlmostEqual(self.confidence(rule, raw), wanted)

    def test_loud(self):
        """Values outside the stated scale are set aside with the reason."""
        self.assertEqual(self.confidence('scale = "fraction"', 87), "confidence outside its scale")
        self.assertEqual(
            self.confidence('scale = "words", words = [["no", 0.1]]', "maybe"),
            "unknown confidence word",
        )
        self.assertIsNone(self.confidence('scale = "fraction"', None))


class Shapes(unittest.TestCase):
    def test_flint_and_marl(self):
        """The shipped descriptions read a worked answer of each dialect."""
        flint = Reader(parse_description(description_text("flint")))
        answer = {
            "labels": [
                {
                    "name": "Lantern",
                    "score": 931,
                    "broader": ["Light"],
                    "occurrences": [{"score": 912, "place": [0.1, 0.2, 0.3, 0.4]}],
                }
            ],
            "safety": {"smoke": "plain"},
        }
        [reading] = flint.read(
            json.dumps(answer).encode(), "view", ["label", "object", "unsafe"], [FRAME]
        )
        self.assertEqual(
            [(f.kind, f.label, f.confidence) for f in reading.found],
            [("label", "lantern", 0.931), ("object", "lantern", 0.912), ("unsafe", "smoke", 0.875)],
        )
        self.assertEqual(reading.found[1].box, (40, 10, 80, 30))
        self.assertEqual(reading.found[1].details.parents, ("light",))
        marl = Reader(parse_description(description_text("marl")))
        face = {
            "percent": 90,
            "middle": {"x": 50, "y": 25},
            "size": {"w": 20, "h": 10},
            "marks": [{"mark": "mouth", "x": 50, "y": 26}],
            "smiling": {"value": True},
            "eye_distance": 4.5,
        }
        answer = {"faces": [face], "hazards": {"fire": {"parts": {"open flame": {"percent": 97}}}}}
        [reading] = marl.read(json.dumps(answer).encode(), "look", ["face", "unsafe"], [FRAME])
        self.assertEqual(reading.found[0].box, (80, 40, 120, 60))
        self.assertEqual(reading.found[0].details.points, {"mouth": (100, 52)})
        self.assertEqual(
            reading.found[0].details.attributes,
            {"smiling": True, "eye distance": {"value": 4.5, "unit": "pixels"}},
        )
        self.assertEqual(reading.found[1][:3], ("unsafe", "open flame", 0.97))

    def test_errors_inside_an_answer(self):
        """An error in a 200 answer, an answer that is not JSON, and a missing image raise."""
        extra = '[envelope]\nerror = "err.code"\nreason = "err.text"'
        with self.assertRaisesRegex(AnswerError, "7: blurred"):
            read(
                'kind = "label"\neach = "t[]"\nlabel = "n"',
                {"err": {"code": 7, "text": "blurred"}},
                extra=extra,
            )
        with self.assertRaisesRegex(AnswerError, "not JSON"):
            reader('kind = "label"\neach = "t[]"\nlabel = "n"').read(
                b"<html>", "c", ["label"], [FRAME]
            )

    def test_several_images(self):
        """Several images in an answer are told apart by order or by id; a missing one is named."""
        rule = 'kind = "label"\neach = "t[]"\nlabel = "n"'
        answer = json.dumps(
            {"r": [{"id": "1", "t": [{"n": "b"}]}, {"id": "0", "t": [{"n": "a"}]}]}
        ).encode()
        by_id = reader(rule, '[envelope]\nimages = "r[]"\nid = "id"').read(
            answer, "c", ["label"], [FRAME] * 3
        )
        self.assertEqual([r.found[0].label for r in by_id[:2]], ["a", "b"])
        self.assertIsInstance(by_id[2], AnswerError)
        in_order = reader(rule, '[envelope]\nimages = "r[]"').read(
            answer, "c", ["label"], [FRAME] * 2
        )
        self.assertEqual([r.found[0].label for r in in_order], ["b", "a"])

    def test_sections(self):
        """An empty section holds nothing; null, a missing one, or one of another type, is unread."""
        rule = 'kind = "label"\neach = "t[]"\nlabel = "n"'
        for answer, sign in (
            ({"t": None}, "null at t, not a list"), ({"t": []}, ""), ({"t": [{"n": "x"}, {"n": 5}]}, ""),
            ({}, "no part of the answer is at t"), ([], "no part of the answer is at t"),
            ({"t": {"n": "x"}}, ""), ({"t": "x"}, "a list was expected"), ({"t": {"x": {"n": "x"}}}, "all 1 at .* set aside"), ({"t": [{"n": 5}]}, "all 1 at .* set aside"),
            ({"state": "queued"}, "only accepted the job .queued"),
            ({"job": {"status": "RUNNING"}, "t": []}, "only accepted the job .RUNNING"),
        ):  # fmt: skip
            unread = read(rule, answer).unread
            self.assertRegex(unread.get("label", ""), sign or "^$")
        optional = rule + "\noptional = true"
        self.assertEqual(read(optional, {}).unread, {})
        self.assertEqual(read(optional, {"t": None}).unread, {})
        self.assertIn("label", read(optional, {"t": "x"}).unread)
        self.assertIn("label", read(optional, {"status": "queued"}).unread)

    def test_an_error_beside_a_section(self):
        """A failed operation is not "nothing found": an error next to an empty section is no answer."""
        rule = 'kind = "unsafe"\neach = "r.faces[]"\nlabel = "n"'
        for answer, sign in (
            ({"r": {"faces": []}}, "^$"),
            ({"r": {"faces": [], "error": "", "errors": [], "exception": None}}, "^$"),
            ({"r": {"faces": [], "error": "none"}, "errors": [None]}, "^$"),
            ({"r": {"faces": [], "error": {"code": 0, "message": "OK"}}}, "^$"),
            ({"r": {"faces": [], "error": {"code": 5}}}, "nothing at .*, and next to it error: "),
            ({"r": {"faces": []}, "Errors": ["faces"]}, "next to it Errors"),
            ({"r": {"faces": [], "face_error": "busy"}}, "next to it face_error: busy"),
            ({"r": {"faces": [], "labels_error": "busy"}}, "^$"),
            ({"r": {"faces": [{"n": "face"}], "error": "partly"}}, "^$"),
        ):
            self.assertRegex(read(rule, answer).unread.get("unsafe", ""), sign, answer)

    def test_errors_by_kind(self):
        """The service's own reason, kind by kind, where the description says where it stands."""
        rules = 'kind = "unsafe"\neach = "faces.all[]"\nlabel = "n"\n[[read]]\nkind = "label"\neach = "tags[]"\nlabel = "n"'
        envelope = '[envelope]\nerrors = { unsafe = "faces.trouble", label = "tags_trouble" }'
        answer = {
            "faces": {"all": [], "trouble": "overloaded"},
            "tags": [{"n": "x"}],
            "tags_trouble": "partly",
        }
        [reading] = reader(rules, envelope).read(
            json.dumps(answer).encode(), "c", ["unsafe", "label"], [FRAME]
        )
        self.assertEqual(
            reading.outcome_of("unsafe", {"label"}),
            ("failed", "the service answered with an error (overloaded)"),
        )
        self.assertEqual(reading.outcome_of("label", {"label"}), ("found", ""))
        self.assertIn(("the service reports an error beside label", "'partly'"), reading.notes)
        [fine] = reader(rules, envelope).read(
            b'{"faces": {"all": []}, "tags": []}', "c", ["unsafe", "label"], [FRAME]
        )
        self.assertEqual((fine.failed, fine.unread), ({}, {}))
        with self.assertRaisesRegex(DescriptionError, "errors"):
            reader(rules, '[envelope]\nerrors = { unsafe = "a[" }')

    def test_one_of_two_rules(self):
        """What one section of a kind would have held is not known, though the other is empty."""
        rules = 'kind = "label"\neach = "t[]"\nlabel = "n"\n[[read]]\nkind = "label"\neach = "u[]"\nlabel = "n"'
        self.assertIn(
            "all 1 at u[] set aside", read(rules, {"t": [], "u": [{"n": 5}]}).unread["label"]
        )
        self.assertEqual(read(rules, {"t": [], "u": []}).unread, {})
        some = read(rules, {"t": [{"n": "x"}]})
        self.assertEqual(
            (some.unread, [reason for reason, _ in some.notes]),
            ({}, ["part of the answer not read"]),
        )

    def test_what_is_said_to_be_absent(self):
        """Words that mean "not there", and a plain no, are kept as notes and are no findings."""
        words = 'scale = "words", words = [["none", 0.1], ["sure", 0.9]], absent = ["none"]'
        for scale, values in (
            (words, ("none", "NONE ", "sure")),
            ('scale = "yes-no"', (False, True)),
        ):
            rule = f'kind = "unsafe"\neach = "t{{}}"\nlabel = "@key"\nconfidence = {{ at = "@", {scale} }}'
            reading = read(rule, {"t": {str(n): value for n, value in enumerate(values)}})
            self.assertEqual([f.label for f in reading.found], [str(len(values) - 1)])
            self.assertEqual({r for r, _ in reading.notes}, {NOT_THERE})
            self.assertEqual(reading.unread, {})
            self.assertEqual(read(rule, {"t": {"x": values[0]}}).unread, {})


class Loud(unittest.TestCase):
    RULE = 'kind = "label"\neach = "t[]"\nlabel = "n"\nconfidence = { at = "c" }'

    def test_a_renamed_field_is_noticed(self):
        """A section nobody reads, a missing confidence and a missing step are noted by name."""
        self.assertEqual(
            read(self.RULE, {"t": [{"n": "x", "c": 1}], "new": [1], "v": "1"}).notes,
            [("section never read", "new")],
        )
        self.assertEqual(
            read(self.RULE, {"t": [{"n": "x", "sure": 1}]}).notes,
            [("no confidence where the description says", "x")],
        )
        self.assertEqual(read(self.RULE, {"t": [{"n": "x", "c": None}]}).notes, [])
        nested = 'kind = "label"\neach = "t[].inner[]"\nlabel = "n"'
        self.assertEqual(
            read(nested, {"t": [{"innner": [{"n": "x"}]}]}).unread,
            {"label": "no part of the answer is at t[].inner[]"},
        )
        self.assertEqual(read(nested, {"t": [{"inner": []}, {"inner": None}]}).notes, [])

    def test_names_in_a_side_table(self):
        """Labels given by id are looked up; an id that is not there is set aside."""
        rule = 'kind = "label"\neach = "found[]"\nlabel = "class"\nlookup = { table = "classes[]", id = "nr", name = "title" }'
        reading = read(
            rule,
            {"classes": [{"nr": 3, "title": "lantern"}], "found": [{"class": 3}, {"class": 4}]},
        )
        self.assertEqual([f.label for f in reading.found], ["lantern"])
        self.assertEqual(reading.notes, [("label's id is not in the side table", "4")])

    def test_keys(self):
        """Labels keyed by id with a table of ids; broader names that are the keys of an object."""
        rule = 'kind = "label"\neach = "found{}"\nlabel = "@key"\nconfidence = { at = "@" }\n'
        rule += 'lookup = { table = "names{}", id = "@key", name = "@" }'
        reading = read(rule, {"found": {"17": 0.9, "4": 0.5}, "names": {"4": "owl", "17": "moth"}})
        self.assertEqual(
            [(f.label, f.confidence) for f in reading.found], [("moth", 0.9), ("owl", 0.5)]
        )
        reading = read(rule, {"found": {"18": 0.9}, "names": {"4": "owl"}})
        self.assertIn("label's id is not in the side table", reading.unread["label"])
        rule = 'kind = "label"\neach = "terms{}.seen[]"\nlabel = "^@key"\nparents = "^belongs.@key"'
        term = {"belongs": {"bird": {}, "animal": {}}, "seen": [{"s": 1}]}
        [found] = read(rule, {"terms": {"owl": term}}).found
        self.assertEqual((found.label, found.details.parents), ("owl", ("bird", "animal")))
        [found] = read(rule, {"terms": {"owl": {"belongs": 7, "seen": [{"s": 1}]}}}).found
        self.assertIsNone(found.details)

    def test_a_job_in_lines(self):
        """Lines that only promise an answer are none; what comes after the promise is."""
        rule = 'kind = "label"\neach = "[]"\nlabel = "tag"\nkeep_if = "tag"'
        lines = '[envelope]\nwritten = "lines"'
        for said, outcome in (
            ([{"state": "queued"}], "unread"),
            ([{"state": "queued"}, {"job": {"status": "Running"}}], "unread"),
            ([{"state": "queued"}, {"state": "done"}], "empty"),
            ([{"state": "queued"}, {"tag": "owl"}], "found"),
        ):
            body = "\n".join(map(json.dumps, said)).encode()
            [reading] = reader(rule, lines).read(body, "c", ["label"], [FRAME])
            seen = {one.kind for one in reading.found}
            self.assertEqual(reading.outcome_of("label", seen)[0], outcome, said)

    def test_category_paths_and_clipped_boxes(self):
        """A category path gives its last part and the parts above; clipping is noted; two points make a box."""
        rule = 'kind = "object"\neach = "t[]"\nlabel = "n"\nsplit = "/"\nbox = { at = "b", form = "points", of = "original" }'
        reading = read(
            rule,
            {
                "t": [
                    {"n": "/Goods/Lights/Lantern", "b": [[-5, 10], [50, 40]]},
                    {"n": "//", "b": []},
                ]
            },
        )
        [found] = reading.found
        self.assertEqual(
            (found.label, found.details.parents, found.box),
            ("Lantern", ("Lights", "Goods"), (0.0, 10, 50, 40)),
        )
        self.assertEqual(
            reading.notes, [("box clipped to the image", "Lantern"), ("label is empty", "'//'")]
        )

    def test_other_kinds_are_carried(self):
        """Lines of text with a box and sentences about the image are findings like others."""
        text = read(
            'kind = "text"\neach = "lines[]"\nlabel = "s"\nbox = { at = "b", order = ["x0", "y0", "x1", "y1"] }',
            {"lines": [{"s": "To the fair", "b": [1, 1, 9, 9]}]},
        )
        self.assertEqual((text.found[0].kind, text.found[0].label), ("text", "To the fair"))
        caption = read(
            'kind = "caption"\neach = "about"\nlabel = "sentence"\nconfidence = { at = "sure" }',
            {"about": {"sentence": "An evening walk.", "sure": 0.7}},
        )
        self.assertEqual(caption.found[0][:3], ("caption", "An evening walk.", 0.7))


class Attributes(unittest.TestCase):
    def attribute(self, rule, value, **more):
        reading = read(
            f'kind = "label"\neach = "t[]"\nlabel = "n"\nattributes = {{ it = {{ at = "a", {rule} }} }}',
            {"t": [{"n": "x", "a": value, **more}]},
        )
        [found] = reading.found
        reason = (
            reading.notes[0][0].removeprefix("attribute it left out: ") if reading.notes else None
        )
        return (found.details or Details()).attributes.get("it", reason)

    def test_every_type(self):
        """Choice, flag, number, range, shares, person: each keeps what it says, none is a confidence."""
        sure = 'confidence = { at = "p", scale = "percent" }'
        for rule, value, wanted in (
            ('type = "choice"', "left", "left"),
            (f'type = "choice", {sure}', "left", {"value": "left", "confidence": 0.5}),
            ('type = "flag"', True, True),
            (f'type = "flag", {sure}', False, {"value": False, "confidence": 0.5}),
            (
                'type = "number", unit = "degrees", scale = 0.1',
                45,
                {"value": 4.5, "unit": "degrees"},
            ),
            (
                f'type = "range", low = "from", high = "to", {sure}',
                {"from": 20, "to": 30},
                {"low": 20, "high": 30, "confidence": 0.5},
            ),
            (
                'type = "shares"',
                {"calm": 0.7, "glad": 0.3},
                {"shares": {"calm": 0.7, "glad": 0.3}, "leading": "calm"},
            ),
            (
                'type = "shares", floor = 0.8',
                {"calm": 0.7, "glad": 0.3},
                {"shares": {"calm": 0.7, "glad": 0.3}, "leading": "undecided"},
            ),
            (
                'type = "person", similarity = "near", scale = 0.01',
                {"name": "Old Reed", "near": 91},
                {"name": "Old Reed", "similarity": 0.91},
            ),
            ('type = "flag"', "yes", "attribute is neither yes nor no"),
            ('type = "range"', {"low": 3, "high": 1}, "a range ends before it begins"),
            ('type = "shares"', [1], "a share is not a name with a number"),
            ('type = "shares"', {}, "shares are not an object of numbers"),
            ('type = "shares"', 0.5, "shares are not an object of numbers"),
            ('type = "text"', None, None),
            ('type = "choice"', ["calm", "glad"], ["calm", "glad"]),
            ('type = "list"', ["hat", 3], ["hat", "3"]),
            ('type = "list"', [], []),
            ('type = "list"', {"hat": True, "mask": False}, ["hat"]),
            (
                'type = "list", scale = 0.01, floor = 0.2',
                [{"n": "grey", "p": 30}, {"n": "red", "p": 65}, {"n": "blue", "p": 5}],
                {"list": ["red", "grey"], "shares": {"grey": 0.3, "red": 0.65, "blue": 0.05}},
            ),
            ('type = "list"', "hat", "neither a list of words nor words with a share each"),
            ('type = "list"', [{"n": "hat"}], "a share is not a name with a number"),
            ('type = "text"', 5, "5"),
            ('type = "text"', {"a": 1}, "neither a word nor a list of words"),
            ('type = "person"', {"name": {"first": "x"}}, "a person's name is not text"),
            (
                'type = "shares"',
                [{"what": "calm", "share": 0.7}, {"what": "glad", "share": 0.3}],
                {"shares": {"calm": 0.7, "glad": 0.3}, "leading": "calm"},
            ),
        ):
            self.assertEqual(self.attribute(rule, value, p=50), wanted, rule)

    def test_a_similarity_beside_a_name(self):
        """It is kept with a plain name; what is missing is not taken from elsewhere."""
        rule = f'{OBJECT}box = {{ at = "b", order = ["x0", "y0", "x1", "y1"] }}\n'
        rule += 'attributes = { name = { at = "who", type = "person", similarity = "near", scale = 0.01 } }'
        for said, person in (
            ({"who": "Old Reed", "near": 11}, ("Old Reed", 0.11)),
            ({"who": "Old Reed", "near": "99 %"}, ("Old Reed", 0.99)),
            ({"who": "Old Reed"}, ("Old Reed", None)),
            ({"who": {"name": "Old Reed", "near": 50}, "near": 99}, ("Old Reed", 0.5)),
            ({"who": {"name": "Old Reed"}, "near": 99}, ("Old Reed", None)),
        ):
            with self.subTest(said):
                [found] = read(rule, {"things": [{"what": "x", "b": [1, 1, 50, 50], **said}]}).found
                self.assertEqual(found.details.person(), person)
        reading = read(
            rule, {"things": [{"what": "x", "b": [1, 1, 9, 9], "who": "R", "near": "much"}]}
        )
        self.assertIn("attribute name left out", reading.notes[0][0])
        with self.assertRaisesRegex(DescriptionError, "similarity goes with type 'person'"):
            reader(rule.replace('type = "person", ', ""))

    def test_one_part_costs_itself(self):
        """A landmark, a broader label or an attribute that cannot be read is left out, and noted."""
        rule = f'{OBJECT}box = {{ at = "b", order = ["x0", "y0", "x1", "y1"] }}\npoints = {{ at = "p" }}\nparents = "up"\nattributes.age = {{ at = "age", type = "number" }}'
        things = {"what": "x", "b": [1, 1, 9, 9], "p": {"eye": ["a", 1]}, "up": [5], "age": "old"}
        reading = read(rule, {"things": [things]})
        [found] = reading.found
        self.assertIsNone(found.details, "nothing is left, and the confidence is as it was written")
        self.assertEqual(
            [reason for reason, _ in reading.notes],
            [
                "attribute age left out: not a number",
                "left out: not a number",
                "left out: label is not text",
            ],
        )

    def test_points_count_what_boxes_count(self):
        """Landmarks follow the unit, frame and turn of their box unless they say otherwise."""
        box = 'box = { at = "b", order = ["x0", "y0", "x1", "y1"], unit = "percent" }'
        answer = {"things": [{"what": "x", "b": [10, 10, 50, 50], "p": {"eye": [20, 40]}}]}
        for points, wanted in (('at = "p"', (40, 40)), ('at = "p", unit = "pixels"', (40, 80))):
            rule = f"{OBJECT}{box}\npoints = {{ {points} }}"
            self.assertEqual(read(rule, answer).found[0].details.points, {"eye": wanted})

    def test_far_from_the_unit(self):
        """Boxes of a tenth of a pixel are noted: fractions read as pixels."""
        rule = f'{OBJECT}box = {{ at = "b", order = ["x0", "y0", "x1", "y1"] }}'
        reading = read(rule, {"things": [{"what": "x", "b": [0.1, 0.1, 0.3, 0.2]}]})
        self.assertEqual(reading.notes, [("box under half a pixel: another unit?", "x")])


class Hostile(unittest.TestCase):
    def test_thousands_of_hostile_answers(self):
        """No answer crashes the reader or yields a finding that breaks the common shape."""
        rng = random.Random(5)
        values = [
            None,
            True,
            -1,
            1e308,
            10**400,
            0.5,
            "x",
            "\ud800",
            "",
            "NaN",
            [],
            {},
            [1, 2, 3, 4],
            [0.1, 0.1, 0.5, 0.5],
            {"x": 1},
        ]
        tame = [v for v in values if v not in ("\ud800", 10**400)]
        names = [
            "labels",
            "name",
            "score",
            "occurrences",
            "place",
            "faces",
            "safety",
            "broader",
            "middle",
            "size",
            "w",
            "h",
            "x",
            "y",
            "percent",
            "things",
            "what",
            "marks",
            "mark",
        ]

        def made(depth):
            if depth == 0 or rng.random() < 0.3:
                return rng.choice(values if wild else tame)
            if rng.random() < 0.4:
                return [made(depth - 1) for _ in range(rng.randint(0, 3))]
            return {rng.choice(names): made(depth - 1) for _ in range(rng.randint(0, 6))}

        readers = [
            (Reader(parse_description(description_text(n))), c)
            for n, c in (("flint", "view"), ("marl", "look"))
        ]
        rows, noted, wild = [], 0, True
        for number in range(10_000):
            wild = number % 4 == 0
            answer = made(5)
            if rng.random() < 0.5:
                answer = {n: [made(3) for _ in range(2)] for n in ("labels", "things", "faces")}
                answer["labels"].append(
                    {
                        "name": "x",
                        "score": made(0),
                        "occurrences": [{"place": made(0), "score": made(0)}],
                    }
                )
                answer["things"].append(
                    {
                        "what": made(0),
                        "percent": made(0),
                        "middle": {"x": made(0), "y": made(0)},
                        "size": {"w": made(0), "h": made(0)},
                    }
                )
            text = json.dumps(answer).encode("utf-8", "surrogatepass")
            for one, call in readers:
                try:
                    [reading] = one.read(text, call, ["label", "object", "face", "unsafe"], [FRAME])
                except AnswerError:
                    continue
                if isinstance(reading, AnswerError):
                    continue
                rows += reading.found
                noted += len(reading.notes)
        self.assertGreater(len(rows), 100)
        self.assertGreater(noted, 1000)
        boxes = [r.box or (math.nan,) * 4 for r in rows]
        table = Findings.from_columns(
            image=["i"] * len(rows),
            kind=[r.kind for r in rows],
            label=[r.label for r in rows],
            confidence=[r.confidence for r in rows],
            **{n: [b[i] for b in boxes] for i, n in enumerate(("x0", "y0", "x1", "y1"))},
        )
        self.assertEqual(len(table), len(rows))
        deep = b'{"labels":' * 3000 + b"1" + b"}" * 3000
        for one, call in readers:
            with self.assertRaises(AnswerError):
                one.read(deep, call, ["label"], [FRAME])


class Paths(unittest.TestCase):
    def test_not_a_path(self):
        """What is neither a path nor an expression is refused."""
        with self.assertRaises(DescriptionError):
            compile_each("a[0]b")
        with self.assertRaises(DescriptionError):
            compile_path("a[?")
