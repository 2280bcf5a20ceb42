"""JSON: what is wrong with a document is one error; what is right is what the standard library reads."""

import json
import random
import sys
import threading
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from dotledger.errors import AnswerError
from dotledger.json_codec import NotJSON, from_json, to_json
from dotledger.reading.answer_documents import document_reader

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-(2**63), 2**64 - 1) | st.floats(allow_nan=False, allow_infinity=False) | st.text(st.characters(codec="utf-8")),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(st.characters(codec="utf-8")), inner, max_size=4),
    max_leaves=20,
)  # fmt: skip


class Reading(unittest.TestCase):
    def test_wrong_documents(self):
        """Each is one error of ours, whatever is wrong and however it is given."""
        for wrong, sign in (
            (b"", "empty"), (b" \n", "empty"), (b'{"a": [1', "truncated"), (b"{} x", "trailing"), (b"[NaN]", "invalid"), (b"01", "invalid number"),
            (b'\xef\xbb\xbf{}', "invalid"), (b'"\xff"', "UTF-8"), (b'{"\xc3\x28": 1}', "UTF-8"), (b'"\\ud800"', ""), (b'"\x01"', "invalid"),
            (b"1e400", "out of range"), (b"1" * 5000, "out of range"), (b"[" * 100_000 + b"]" * 100_000, "deep"), (b'{"a":' * 100_000, "deep"),
        ):  # fmt: skip
            for data in (wrong, bytearray(wrong), memoryview(wrong)):
                with self.assertRaisesRegex(NotJSON, sign):
                    from_json(data)
        with self.assertRaises(NotJSON):
            from_json('"\ud800"')

    def test_depth(self):
        """500 lists and objects in each other and no more, whichever Python: brackets in texts are none."""
        for inner in (b"1", b'"[[[{{"', b'"\\"[[["', b"[" + b"[[]]," * 2000 + b"[]]"):
            deep = b'{"a":[' * 250 + inner + b"]}" * 250
            whole = b"[" * (500 - 3) + inner + b"]" * (500 - 3)
            self.assertEqual(from_json(whole), json.loads(whole))
            with self.assertRaisesRegex(NotJSON, "deep"):
                from_json(b"[" + deep + b"]")
        self.assertEqual(from_json(b'["' + b"[" * 9000 + b'"]'), ["[" * 9000])

    def test_deep_on_a_deep_stack(self):
        """A document that is read at the top of a thread is refused in order where the stack is nearly used up."""
        document = b"[" * 60 + b"]" * 60
        self.assertEqual(json.loads(document), from_json(document))

        def down(left):
            return down(left - 1) if left else from_json(document)

        lefts = range(sys.getrecursionlimit() - 90, sys.getrecursionlimit() - 2)
        told = []

        def work():
            for left in lefts:
                try:
                    told.append(type(down(left)))
                except (NotJSON, RecursionError) as error:
                    told.append(type(error))

        thread = threading.Thread(target=work)
        thread.start()
        thread.join()
        self.assertEqual(len(told), len(lefts), "anything else would have ended the thread")
        self.assertEqual(told[-1], RecursionError, "of the test's own calls")

    def test_long_numbers(self):
        """Beyond 64 bits a whole number is a float, as far as one goes: nothing behind overflows."""
        for text, wanted in ((b"[18446744073709551615, -9223372036854775808]", [2**64 - 1, -(2**63)]), (b"[18446744073709551616]", [2.0**64]),
                             (b'{"a": [{"b": -99999999999999999999}]}', {"a": [{"b": -1e20}]}), (b'["99999999999999999999"]', ["9" * 20])):  # fmt: skip
            found = from_json(text)
            self.assertEqual((found, repr(found)), (wanted, repr(wanted)))
            self.assertEqual(from_json(text.decode()), wanted)
        for long in (b"9" * 400, b'{"a": [' + b"9" * 310 + b"]}"):
            with self.assertRaisesRegex(NotJSON, "out of range"):
                from_json(long)
            with self.assertRaises(AnswerError):
                document_reader()(long)

    @settings(max_examples=300, deadline=None)
    @given(VALUES)
    def test_as_the_standard_library(self, value):
        """Both ways: what it writes is read, what is written it reads."""
        self.assertEqual(from_json(json.dumps(value)), value)
        for ways in ({}, {"indent": True}, {"ordered": True}):
            self.assertEqual(json.loads(to_json(value, **ways)), value)

    @settings(max_examples=300, deadline=None)
    @given(
        st.binary(max_size=40) | VALUES.map(lambda v: json.dumps(v).encode()), st.integers(0, 2**32)
    )
    def test_damaged(self, data, seed):
        """Whatever is done to a document, it is read or refused with NotJSON."""
        draw = random.Random(seed)
        damaged = bytearray(data)
        for _ in range(draw.randint(1, 3)):
            damaged.insert(draw.randint(0, len(damaged)), draw.choice(b'[]{}",:\\u\xff\x00019eE-.'))
        try:
            from_json(bytes(damaged))
        except NotJSON as error:
            self.assertTrue(str(error))


class Writing(unittest.TestCase):
    def test_values(self):
        """Undefined is null; NumPy's values are plain; keys in order, so that equal values are equal bytes."""
        self.assertEqual(
            to_json({"b": float("nan"), "a": [float("inf"), 1]}, ordered=True),
            b'{"a":[null,1],"b":null}',
        )
        given = {
            "array": np.arange(3),
            "share": np.float64(0.5),
            "text": np.str_("é"),
            "many": np.int64(2),
        }
        self.assertEqual(
            from_json(to_json(given)), {"array": [0, 1, 2], "share": 0.5, "text": "é", "many": 2}
        )
        self.assertEqual(to_json([{}, []], indent=True), b"[\n  {},\n  []\n]")
        for wrong in (object(), {"a": complex(1)}):
            with self.assertRaisesRegex(TypeError, "no place for"):
                to_json(wrong)
        with self.assertRaises(UnicodeEncodeError):
            to_json("\ud800")
