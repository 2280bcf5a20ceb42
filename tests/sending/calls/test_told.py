"""What a service announces: headers, "slow down" in an answer, unique requests; and code in its place."""

import sys
import time

from msgspec.structs import replace

from dotledger import findings_of, open_service, send, try_call
from dotledger.errors import ConnectError, DescriptionError
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.finding_queries import notes_of
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.sending.policies.announced_limits import Told, left_and_reset, told_by
from dotledger.sending.policies.pacing import Send, Wait, announced, ask, opening_pace
from tests.sending.calls.test_multi_step_calls import Stepped
from tests.sending.helpers import ANSWER, Handler, InFolder, description, picture, pictures

NOW = 1_900_000_000.0


class Announced(Stepped):
    def test_headers(self):
        """The draft in both forms, the widespread names, own names; seconds or a moment; nonsense."""
        own = Told(remaining="x-left", reset="x-again")
        for headers, told, wanted in (
            ({"ratelimit": '"default";r=50;t=30'}, Told(), (50, 30)),
            ({"ratelimit": '"burst";r=3;t=1, "daily";r=900;t=36000'}, Told(), (3, 1)),
            ({"ratelimit": "limit=100, remaining=0, reset=12"}, Told(), (0, 12)),
            ({"ratelimit-remaining": "4", "ratelimit-reset": "9"}, Told(), (4, 9)),
            ({"x-ratelimit-remaining": "0", "x-ratelimit-reset": f"{NOW + 20:.0f}"}, Told(), (0, 20)),
            ({"x-left": "2", "x-again": "7.5", "ratelimit-remaining": "0"}, own, (2, 7.5)),
            ({"x-ratelimit-remaining": "many", "x-ratelimit-reset": "1"}, Told(), None), ({"ratelimit-remaining": "4"}, Told(), None), ({}, own, None),
        ):  # fmt: skip
            self.assertEqual(left_and_reset(headers, told, NOW), wanted, headers)

    def test_pace(self):
        """So many starts until then; calls under way use them up; plenty is no limit; never for ever."""
        pace, _ = ask(replace(opening_pace(now=0, at_once=4), proven=True), 0)
        two = announced(pace, 10, 2, 60)
        for _ in range(2):
            two, decision = ask(two, 11)
            self.assertIsInstance(decision, Send)
        self.assertEqual(ask(two, 11)[1], Wait(59.0))
        first, decision = ask(two, 70)
        self.assertIsInstance(decision, Send)
        self.assertEqual(ask(first, 70)[1], Wait(1.0), "one alone tells what the next window takes")
        self.assertEqual(ask(announced(pace, 10, 0, 1e6), 10)[1], Wait(900.0))
        self.assertIsInstance(ask(announced(pace, 10, 0, -5), 10)[1], Send)
        self.assertIsInstance(ask(announced(announced(pace, 10, 0, 60), 11, 50, 60), 12)[1], Send)
        three, _ = ask(pace, 1)
        self.assertEqual(announced(three, 10, 3, 60).allowed, 2, "one beside is not counted yet")
        late = announced(announced(three, 10, 2, 60), 11, 5, 60)
        self.assertEqual(late.allowed, 1, "an answer that was counted earlier and came later")

    def test_over_http(self):
        """Ten calls against a service that allows two a second and announces it: none is refused."""

        class Counting(Handler):
            times = ()

            def asked(self):
                self.body()
                now = time.monotonic()
                recent = [one for one in self.times if now - one < 0.5]
                self.times.append(now)
                self.seen.append(len(recent) < 2)
                left = max(0, 1 - len(recent))
                self.reply(ANSWER, X_Left=str(left), X_Again="0.55")

        service, own = self.serving(
            Counting,
            ("at_once = 4", "at_once = 1"),
            (
                "min_side = 8",
                'min_side = 8\n[limits.announced]\nremaining = "X-Left"\nreset = "X-Again"',
            ),
        )
        own.times = []
        send(pictures(6), service, ledger=self.path, key="k")
        self.assertEqual(own.seen, [True] * 6)

    def test_slow_down_in_an_answer(self):
        """An answer of 200 that says "slow down" is no answer: everybody waits as long as it says."""

        class Busy(Handler):
            def asked(self):
                self.body()
                self.seen.append(time.monotonic())
                busy = {"fault": {"code": "slow_down", "seconds": 1}}
                self.reply(busy if len(self.seen) == 1 else ANSWER)

        service, own = self.serving(
            Busy,
            (
                "[limits]",
                '[envelope]\nwait_if = "fault.code"\nwait_for = "fault.seconds"\n[limits]',
            ),
        )
        send({"a.jpg": picture(1)}, service, ledger=self.path, key="k")
        self.assertEqual(len(own.seen), 2)
        self.assertGreaterEqual(own.seen[1] - own.seen[0], 0.95)
        self.assertEqual(findings_of(self.path).label.used(), ["night", "bell"])
        self.assertEqual(told_by(service).slow_down({"fault": {"code": 1, "seconds": "x"}}), 1.0)

    def test_unique_requests(self):
        """The same key when a request is tried again, another for another image or round."""

        class Keys(Handler):
            def asked(self):
                self.body()
                self.seen.append(self.headers["Idempotency-Key"])
                if len(self.seen) == 1:
                    self.send_response(500)
                    self.send_header("Content-Length", "0")
                    self.end_headers()
                    return
                self.reply(ANSWER)

        service, own = self.serving(
            Keys,
            ('path = "/look"\n', 'path = "/look"\nheaders = { Idempotency-Key = "{unique}" }\n'),
        )
        send(pictures(2), service, ledger=self.path, key="k")
        self.assertEqual(
            (len(own.seen), len(set(own.seen)), own.seen.count(own.seen[0])), (3, 2, 2)
        )
        send({"a.jpg": picture(0)}, service, ledger=self.path, key="k", round="again")
        self.assertNotIn(own.seen[-1], own.seen[:-1])
        self.assertRegex(own.seen[0], "^[0-9a-f-]{36}$")


class Code(Stepped):
    def setUp(self):
        super().setUp()
        (self.folder / "mymodel.py").write_text(
            "calls = []\n"
            "def look(image, settings):\n"
            "    calls.append(len(image))\n"
            "    if settings['mood'] == 'bad':\n"
            "        raise ValueError('no light')\n"
            "    return {'tags': [{'name': settings['mood']}], 'things': [{'name': 'bell', 'sure': 0.9, 'box': [1, 1, 5, 5]}]}\n"
        )
        sys.path.insert(0, str(self.folder))
        self.addCleanup(sys.path.remove, str(self.folder))
        self.addCleanup(sys.modules.pop, "mymodel", None)
        self.enterContext(_state_in(self.folder))
        self.service = description(
            ('address = "http://127.0.0.1:1/{region}"\nsettings = { region = "north" }', 'code = "mymodel:look"\nsettings = { mood = "calm" }'),
            ('place = "header"\nname = "X-Key"\nsources = ["env:BELL_KEY"]', 'place = "none"'),
        )  # fmt: skip

    def test_in_place_of_http(self):
        """Code runs only when allowed; then ledger, reading and outcomes are as with any service."""
        with self.assertRaisesRegex(ConnectError, "names code to run"):
            send(pictures(1), self.service, ledger=self.path)
        sent = send(pictures(3), self.service, ledger=self.path, allow_code=True)
        self.assertEqual(sent.calls, 3)
        self.assertEqual(sorted(findings_of(self.path).label.used()), ["bell", "calm"])
        self.assertEqual(send(pictures(3), self.service, ledger=self.path).calls, 0, "known")
        with open_service(self.service, settings={"mood": "bad"}) as bell:
            seen = bell.look(picture(7))
        self.assertEqual(seen.outcome, "failed")
        self.assertIn("ValueError: no light", seen.reasons["label"])
        changed = send(pictures(1), self.service, ledger=self.path, settings={"mood": "odd"})
        self.assertEqual(changed.calls, 1, "another setting may give another answer")

    def test_a_function_from_python(self):
        """A function given in a service's place needs no word of consent: whoever calls wrote it."""

        def look(image, settings):  # fmt: skip
            return {"tags": [{"name": settings["mood"]}], "things": []}

        sent = send(pictures(2), self.service, ledger=self.path, transport=look)
        self.assertEqual(
            (sent.calls, findings_of(self.path, kinds=["label"]).label.used()), (2, ["calm"])
        )
        with open_service(self.service, transport=look, settings={"mood": "merry"}) as bell:
            self.assertEqual(
                bell.look(picture(9)).findings.filter(kind="label").label.used(), ["merry"]
            )
        self.assertTrue(try_call(picture(1), self.service, transport=look).readings)
        self.assertNotIn("mymodel", sys.modules)

    def test_tried_dry(self):
        """A dry trial runs nothing, and says where it would go."""
        trial = try_call(picture(1), self.service, dry=True)
        self.assertEqual(trial.goes_to, ["nowhere, it runs here"])
        self.assertNotIn("mymodel", sys.modules)

    def test_wrong_descriptions(self):
        """Neither, both, or not a name of code."""
        address = 'address = "http://127.0.0.1:1/{region}"\n'
        for new, words in (("", "or 'code'"), (f'{address}code = "a:b"\n', "or 'code'"), ('code = "look"\n', "MODULE:FUNCTION")):  # fmt: skip
            with self.subTest(new), self.assertRaisesRegex(DescriptionError, words):
                description((address, new))


def _state_in(folder):
    from unittest import mock

    return mock.patch.dict("os.environ", {"DOTLEDGER_STATE": str(folder / "state")})


class AskedLimits(InFolder):
    SETTINGS = (('settings = { region = "north" }', 'settings = { region = "north", least = "40", most = "2" }'), ('path = "/look"', 'path = "/look"\nquery = { least = "{least}", most = "{most}" }'),
                ("min_side = 8", 'min_side = 8\nfloor = { setting = "least", scale = "percent" }\nfindings = { setting = "most" }'))  # fmt: skip

    def test_they_follow_the_settings(self):
        """What is asked of the service is the floor, and how many findings are as many as it gives."""
        service = description(*self.SETTINGS)
        self.send(pictures(1), [ANSWER], service)
        self.assertEqual(findings_of(self.path).origin.floor, 0.4)
        with LedgerStore(self.path) as ledger:
            notes = str(notes_of(ledger, find_batch(ledger)))
        self.assertIn("as many findings as the service ever gives", notes)
        _, transport = self.send(
            pictures(1), [ANSWER], service, settings={"least": "70", "most": "9"}
        )
        self.assertIn("least=70&most=9", transport.requests[0].address)
        self.assertEqual(findings_of(self.path).origin.floor, 0.7)

    def test_wrong_settings(self):
        """No number, one off the scale, no whole number, and a setting that is not there."""
        for given, words in (({"least": "much"}, "'least' is no number"), ({"least": "140"}, "no confidence on the scale 'percent'"), ({"most": "2.5"}, "no whole number")):  # fmt: skip
            with self.assertRaisesRegex(DescriptionError, words):
                self.send(pictures(1), [ANSWER], description(*self.SETTINGS), settings=given)
        with self.assertRaisesRegex(DescriptionError, "did you mean 'least'"):
            description(*self.SETTINGS[:2], ("min_side = 8", 'floor = { setting = "leest" }'))
