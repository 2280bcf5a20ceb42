"""Descriptions and answers at their limits: points that are none, boxes that are not there, flags, versions."""

import unittest
from unittest import mock

from dotledger.errors import ConnectError, DescriptionError
from dotledger.services.answer_reading import Reader
from dotledger.services.description_trust import check_trust
from dotledger.services.message_rules import Payload
from dotledger.services.request_building import RequestBuilder
from tests.sending.helpers import description
from tests.services.test_answer_reading import OBJECT
from tests.services.test_more_shapes import read

JOB = 'path = "/look"\n[call.job]\nid = "job"\npath = "/jobs/{id}"\nevery = 2\nlongest = 60\n'


class Shapes(unittest.TestCase):
    def test_what_is_no_outline(self):
        """No outline, an empty one, and points that lack a side are set aside, each with its reason."""
        rule = OBJECT + 'box = { at = "b", form = "points" }\n'
        for raw, reason in ((None, "no box"), ([{"x": 1, "y": 2}, {"x": 3}], "not a point"), ([{"x": 1, "y": 2}, [1]], "not a point"), ([{"x": 1, "y": 2}, "ab"], "not a point")):  # fmt: skip
            reading = read(rule, {"things": [{"what": "mat", "b": raw}]})
            self.assertEqual([note[0] for note in reading.notes], [reason], raw)
        reading = read(rule, {"things": [{"what": "mat"}]})
        self.assertEqual(reading.notes[0][0], "no box")

    def test_what_the_full_side_reads_as(self):
        """The full width and height, in every unit, to the last digit."""
        for unit, full in (("fraction", 1), ("percent", 100), ("thousandths", 1000)):
            rule = (
                OBJECT
                + f'box = {{ at = "b", order = ["x0", "y0", "x1", "y1"], unit = "{unit}" }}\n'
            )
            [found] = read(rule, {"things": [{"what": "mat", "b": [0, 0, full, full / 2]}]}).found
            self.assertEqual(found.box, (0, 0, 200, 50), unit)

    def test_the_farthest_point(self):
        """Pixels up to a thousand millions are points, on both axes; further out there are none."""
        rule = (
            OBJECT + 'box = { at = "b", order = ["x0", "y0", "x1", "y1"] }\npoints = { at = "p" }\n'
        )
        for point, there in (((1e9, 5), True), ((5, -1e9), True), ((1.1e9, 5), False), ((5, 1.1e9), False)):  # fmt: skip
            reading = read(
                rule, {"things": [{"what": "mat", "b": [0, 0, 9, 9], "p": {"tip": list(point)}}]}
            )
            details = reading.found[0].details
            self.assertEqual(details and dict(details.points), {"tip": point} if there else None)
            self.assertEqual(len(reading.notes), 0 if there else 1)

    def test_a_mask_of_nothing(self):
        """Runs without any pixel that is set have no area."""
        rule = OBJECT + 'box = { at = "b", form = "runs" }\n'
        reading = read(
            rule, {"things": [{"what": "mat", "b": {"size": [10, 20], "counts": [200]}}]}
        )
        self.assertEqual((reading.found, len(reading.notes)), ([], 1))

    def test_as_many_runs_as_are_taken(self):
        """A mask of just as many runs as are taken is read; of one more it is set aside."""
        rule = OBJECT + 'box = { at = "b", form = "runs" }\n'
        counts = [10, 5, 85, 5, 95]
        for most, found in ((5, 1), (4, 0)):
            with mock.patch("dotledger.reading.box_parsing._MOST_RUNS", most):
                reading = read(
                    rule, {"things": [{"what": "mat", "b": {"size": [10, 20], "counts": counts}}]}
                )
            self.assertEqual(len(reading.found), found, reading.notes)


class Facts(unittest.TestCase):
    def test_where_a_version_stands(self):
        """In the answer, else in its head; neither is nothing."""
        reader = Reader(
            description(
                ("[[read]]", '[envelope]\nversion = "v"\nversion_header = "X-Version"\n[[read]]')
            )
        )
        for document, headers, said in (({"v": "2"}, {"x-version": "3"}, "2"), ({"v": None}, {"X-Version": "3"}, "3"), ({"v": 0}, {}, "0")):  # fmt: skip
            self.assertEqual(reader.version_of(document, headers), said)
        head = Reader(
            description(("[[read]]", '[envelope]\nversion_header = "X-Version"\n[[read]]'))
        )
        self.assertEqual(head.version_of({"v": "2"}, {"x-version": "3"}), "3")
        self.assertEqual(head.version_of({}, {}), "")

    def test_how_often_a_job_is_asked_for_changes_no_answer(self):
        """Rhythm and patience do not belong to what answers are known by; where jobs are does."""
        kinds = ("label", "object")
        first = description(('path = "/look"\n', JOB)).fingerprint(kinds)
        for old, new, same in (("every = 2", "every = 5", True), ("longest = 60", "longest = 9", True), ("/jobs/{id}", "/done/{id}", False)):  # fmt: skip
            other = description(('path = "/look"\n', JOB.replace(old, new))).fingerprint(kinds)
            self.assertEqual(other == first, same, new)

    def test_what_earlier_versions_knew(self):
        """Ledgers of the first version knew an answer by its whole address, and code by its name."""
        kinds = ("label", "object")
        here, there = description(), description(("127.0.0.1:1/", "localhost:2/"))
        self.assertNotEqual(here.earlier_fingerprint(kinds), there.earlier_fingerprint(kinds))
        self.assertEqual(here.place, "http://127.0.0.1:1/{region}")

    def test_words_of_a_state_that_is_missing(self):
        """Either word alone needs to know where the state stands."""
        for words in ('done = ["x"]', 'failed = ["x"]'):
            with self.assertRaisesRegex(DescriptionError, "'state', which is missing"):
                description(
                    ('path = "/look"\n', f'path = "/look"\n[call.job]\naddress = "a"\n{words}\n')
                )

    def test_as_many_lists_as_a_path_may_make(self):
        """Eight lists or objects are made in one expression; nine are too many."""
        for count, well in ((8, True), (9, False)):
            path = " || ".join(["[a]"] * count)
            change = ('each = "tags[]"\nlabel = "name"', f'each = "tags[]"\nlabel = "{path}"')
            if well:
                description(change)
            else:
                with self.assertRaisesRegex(DescriptionError, "more than 8 lists"):
                    description(change)

    def test_flags(self):
        """Every word for yes and no; any other is refused."""
        more = 'path = "/look"\nbody = "json"\nimage_field = "i"\nfields = { deep = { setting = "deep", as = "flag" } }'
        service = description(
            ('path = "/look"', more), ('region = "north" }', 'region = "north", deep = "no" }')
        )
        for word, value in (("true", b"true"), ("Yes", b"true"), ("1", b"true"), ("false", b"false"), ("NO", b"false"), ("0", b"false")):  # fmt: skip
            own = service.with_settings({"deep": word})
            body = (
                RequestBuilder(own, own.call[0], own.kinds).build([Payload(data=b"a")], None).body
            )
            self.assertIn(b'"deep":' + value, body)
        with self.assertRaisesRegex(DescriptionError, "'deep' is no flag"):
            own = service.with_settings({"deep": "maybe"})
            RequestBuilder(own, own.call[0], own.kinds)

    def test_code_is_not_run_unasked(self):
        """Without a word from the user, code that a description names is refused."""
        text = (
            ('address = "http://127.0.0.1:1/{region}"', 'code = "mine:look"'),
            ('place = "header"\nname = "X-Key"\nsources = ["env:BELL_KEY"]', 'place = "none"'),
        )
        with self.assertRaisesRegex(ConnectError, "mine:look"):
            check_trust(description(*text))
