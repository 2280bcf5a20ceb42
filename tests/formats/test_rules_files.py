"""Rules files: what they say, and what is said of wrong ones."""

from dotledger import decide, read_rules
from dotledger.core.kinds import KINDS, OUTCOMES, VERDICTS
from dotledger.errors import DescriptionError, TableError
from tests.core.decisions.test_decide import FOUND
from tests.formats.test_choice_files import InFolder

HEAD = "rules_file = 1\n"


class Reading(InFolder):
    def test_whole(self):
        """Every key; conditions that join others; a thresholds file next to it."""
        self.file("t.toml", "thresholds_file = 1\n[services.any.thresholds]\nunsafe = 0.7\n")
        path = self.file("r.toml", HEAD + """
            audience = "guests"
            otherwise = "pass"
            unmentioned = "block"
            [[rule]]
            name = "hazards"
            verdict = "block"
            kind = "unsafe"
            label = ["smoke", "flame"]
            confidence = "t.toml"
            [[rule]]
            verdict = "hold"
            [[rule.any]]
            kind = "text"
            text = "telephone"
            [[rule.any]]
            [[rule.any.all]]
            kind = "face"
            at_least = 2
        """)  # fmt: skip
        rules = read_rules(path)
        self.assertEqual((rules.audience, rules.unmentioned), ("guests", "block"))
        got = decide(FOUND, path)
        self.assertEqual(
            {v.image: v.verdict for v in got},
            {"a": "block", "c": "block", "d": "hold", "b": "hold"},
        )
        self.assertEqual(
            got.of("b").reasons, ("hold, without an answer: no answer for unsafe, text, face",)
        )

    def test_every_word_of_the_core(self):
        """Verdicts, outcomes and kinds are each read, and no other."""
        for key, words in (("verdict", VERDICTS), ("outcome", OUTCOMES), ("kind", KINDS)):
            for word in (*words, "none such"):
                rule = {"verdict": "hold", "kind": "face"} | {key: word}
                text = HEAD + "[[rule]]\n" + "".join(f"{k} = '{v}'\n" for k, v in rule.items())
                with self.subTest(key=key, word=word):
                    path = self.file("r.toml", text)
                    if word == "none such":
                        self.assertRaises(DescriptionError, read_rules, path)
                    else:
                        self.assertEqual(len(read_rules(path).rules), 1)

    def test_wrong_files(self):
        """Line and key are named, with the nearest right one."""
        rule = HEAD + "[[rule]]\nverdict = 'block'\n"
        for text, why in (
            (rule + "kind = 'unsafe'\nlable = 'smoke'", "line 5.*did you mean 'label'"),
            (rule + "kind = 'unsaf'", "line 4.*did you mean 'unsafe'"),
            (rule + "kind = 'unsafe'\nconfidence = 1.5", "from 0 to 1"),
            (rule, "rule 1: a condition names a kind"),
            (rule + "kind = 'text'\ntext = '('", "not a regular expression"),
            (HEAD + "[[rule]]\nverdict = 'blok'\nkind = 'face'", "did you mean 'block'"),
            (HEAD + "[[rule]]\nkind = 'face'", "'verdict' is missing"),
            (rule + "kind = 'face'\nname = 'x'\n[[rule]]\nverdict = 'hold'\nkind = 'face'\nname = 'x'", "two rules of one name"),
            ("rules_file = 1", "'rule' is missing"),
        ):  # fmt: skip
            path = self.file("r.toml", text)
            with self.subTest(text=text), self.assertRaisesRegex(DescriptionError, why):
                read_rules(path)
        with self.assertRaisesRegex(TableError, "cannot be read"):
            read_rules(self.home / "none.toml")
