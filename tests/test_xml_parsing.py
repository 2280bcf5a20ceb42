"""XML as plain values, and what is refused before it can do harm."""

import unittest

from dotledger.xml_parsing import plain_values, xml_root


class Markup(unittest.TestCase):
    def test_plain_values(self):
        """Attributes, text next to them, repeated elements, prefixes and encodings, as written."""
        for text, value in (
            (b"<a>only</a>", {"a": "only"}),
            (b"<a/>", {"a": None}),
            (b'<a x="1"><b>t</b><b/><c y="2">u</c><d> </d></a>',
             {"a": {"_x": "1", "b": ["t", None], "c": {"_y": "2", "_text": "u"}, "d": None}}),
            (b"<a>\n <b>1</b>\n tail</a>", {"a": {"b": "1", "_text": "tail"}}),
            (b"<a><![CDATA[ <x> ]]></a>", {"a": "<x>"}),
            (b'<r xmlns="u" xmlns:p="v" p:k="1" xml:lang="en"><p:e>x</p:e><!-- c --></r>',
             {"r": {"_xmlns": "u", "_xmlns:p": "v", "_p:k": "1", "_xml:lang": "en", "p:e": "x"}}),
            (b'<?xml version="1.0" encoding="ISO-8859-1"?><a n="\xe4">\xe9</a>', {"a": {"_n": "ä", "_text": "é"}}),
        ):  # fmt: skip
            self.assertEqual(plain_values(xml_root(text)), value)
        listed = plain_values(xml_root(b"<a><b>1</b><c/></a>"), ("b", "a"))
        self.assertEqual(listed, {"a": [{"b": ["1"], "c": None}]})

    def test_refused(self):
        """Half a document, entities of its own, depth; a file outside is never looked at."""
        laughs = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10}">' for n in range(1, 10))
        for text, sign in (
            (b"", "empty"),
            (b"<a><b></a>", "mismatch"),
            (b'<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>', "entities of its own"),
            (f'<!DOCTYPE a [<!ENTITY l0 "ha">{laughs}]><a>&l9;</a>', "entit"),
            (b'<!DOCTYPE a [<!ENTITY x SYSTEM "file:///etc/hostname">]><a>&x;</a>', "entities"),
            (b"<a>" * 300 + b"</a>" * 300, "depth"),
            (
                b"<a %b/>" % b" ".join(b'a%d="1"' % n for n in range(1500)),
                "more than 1,000 attributes",
            ),
            (
                b"<a>%b</a>" % b"".join(b'<b xmlns:n%d="u"/>' % n for n in range(2500)),
                "more than 2,000 namespaces",
            ),
        ):
            with self.assertRaisesRegex(ValueError, sign):
                xml_root(text)
        outside = xml_root(b'<!DOCTYPE a SYSTEM "file:///etc/hostname"><a/>')
        self.assertEqual(plain_values(outside), {"a": None})
