"""One image in a running program: outcomes, verdicts, the ledger, many callers at once."""

import asyncio
import json
import threading
import time
import unittest
from concurrent.futures import ThreadPoolExecutor

from msgspec import structs

from dotledger import findings_of, open_service, send
from dotledger.core.decisions.rule_conditions import Condition, Rule, Rules
from dotledger.errors import ArgumentError, KeyNotFound, LedgerError
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import usage
from dotledger.testing import FakeTransport, NoAnswer, Response
from tests.sending.helpers import ANSWER, Handler, InFolder, description, number_of, picture, served

BELL = Rules(
    rules=(
        Rule(
            name="bells",
            verdict="block",
            when=Condition(kind="object", labels=("bell",), confidence=0.5),
        ),
    )
)


class Echo(Handler):
    """Counts how many ask at once, and answers each."""

    most = now = 0
    lock = threading.Lock()

    def asked(self):
        with self.lock:
            type(self).now += 1
            type(self).most = max(self.most, self.now)
        self.body()
        self.seen.append(self.path)
        self.reply(ANSWER)
        with self.lock:
            type(self).now -= 1


class Looking(InFolder):
    def open(self, replies, *changes, **options):
        transport = FakeTransport(replies)
        opened = open_service(description(*changes), key="k-secret", transport=transport, **options)
        return self.enterContext(opened), transport

    def test_as_a_batch_would(self):
        """The same findings and outcomes as `send` gives for the same image."""
        bell, transport = self.open([ANSWER])
        seen = bell.look(picture(1))
        self.send({"image": picture(1)}, [ANSWER])
        kept = findings_of(self.path)
        self.assertTrue(seen.findings == kept)
        self.assertEqual(
            (seen.outcome, seen.outcomes), ("found", {"label": "found", "object": "found"})
        )
        self.assertEqual((seen.verdict, seen.paid, len(transport.requests)), (None, True, 1))
        self.assertEqual(seen.findings.origin.service, "bell")

    def test_verdicts(self):
        """By rules; a category that they do not mention holds; failures never pass."""
        bell, _ = self.open([ANSWER, {"tags": [], "things": []}, Response(status=500)], rules=BELL)
        seen = bell.look(picture(1))
        self.assertEqual(
            (seen.verdict, seen.why), ("block", ("block, bells: bell 0.90, at least 0.5 asked",))
        )
        self.assertEqual(bell.look(picture(2)).verdict, "pass")
        failed = bell.look(picture(3))
        self.assertEqual((failed.outcome, failed.verdict), ("failed", "hold"))
        self.assertIn("500", failed.reasons["object"])
        refused = bell.look(b"no image")
        self.assertEqual((refused.outcome, refused.verdict), ("refused", "hold"))

    def test_the_line_fails(self):
        """No exception: an outcome; and a service that was given up is tried again later."""
        now = [0.0]
        broken = [NoAnswer("nobody there", trouble="timeout")] * 30
        bell, transport = self.open([*broken, ANSWER])
        bell._means = type(bell._means)(
            transport=transport,
            steady=lambda: now[0],
            sleep=lambda _: None,
            patience=bell._means.patience,
        )
        bell._worker = bell._fresh()
        outcomes = [bell.look(picture(n)).outcome for n in range(30)]
        self.assertEqual(outcomes[0], "failed")
        self.assertEqual(outcomes[-1], "pending", "twenty in a row: it is given up")
        self.assertLess(len(transport.requests), 30)
        now[0] += 11
        for n in range(60):
            outcome = bell.look(picture(n)).outcome
            now[0] += 11
            if outcome == "found":
                break
        self.assertEqual(outcome, "found")

    def test_the_ledger(self):
        """Asked first, so that the same bytes are paid for once; written before, or soon behind."""
        for number, calls in ((1, 1), (1, 0), (2, 1)):
            with LedgerStore(self.path) as ledger:
                alone = {"batch_per": "session", "before": number == 1}
                bell, transport = self.open([ANSWER], ledger=ledger, **alone)
                with bell:
                    seen = bell.look(picture(number), name=f"p{number}.jpg")
                    again = bell.look(picture(number), name="again.jpg")
                    self.assertEqual((seen.paid, again.paid), (calls == 1, False))
                    self.assertEqual(len(transport.requests), calls)
                    self.assertEqual(again.findings.label.used(), seen.findings.label.used())
                    if number == 1:
                        names = findings_of(ledger).image.used()
                        self.assertEqual(names, ["p1.jpg", "again.jpg"])
                self.assertEqual(findings_of(ledger).image.used(), [f"p{number}.jpg", "again.jpg"])
        with LedgerStore(self.path) as ledger:
            self.assertEqual([month.calls for month in usage(ledger)], [2])
        _, transport = self.send({"same": picture(1)}, [ANSWER])
        self.assertEqual(len(transport.requests), 0, "a batch knows what was answered")
        send(
            {"x.jpg": picture(9)},
            description(),
            ledger=self.path,
            key="k",
            transport=FakeTransport([ANSWER]),
        )
        bell, transport = self.open([ANSWER], ledger=self.path)
        self.assertFalse(bell.look(picture(9)).paid, "and the other way round")

    def test_a_key_that_ends(self):
        """The key is looked for anew where it is kept, and the service goes on with the new one."""
        kept = self.folder / "key"
        kept.write_text("k-first")
        now = [0.0]

        def reply(request):
            return ANSWER if request.headers["X-Key"] == kept.read_text() else Response(status=401)

        source = ('"env:BELL_KEY"', f'"file:{kept}"')
        bell = self.enterContext(open_service(description(source), transport=FakeTransport(reply)))
        bell._means = structs.replace(bell._means, steady=lambda: now[0], sleep=lambda _: None)
        self.assertEqual(bell.look(picture(1)).outcome, "found")
        kept.write_text("k-second")
        outcomes = []
        for number in range(2, 12):
            outcomes.append(bell.look(picture(number)).outcome)
            now[0] += 6
        self.assertNotEqual(outcomes[0], "found")
        self.assertEqual(outcomes[-3:], ["found"] * 3)
        kept.unlink()  # a key that is nowhere leaves the one there is
        bell._renew_key()
        self.assertEqual(bell._keys.current().reveal(), "k-second")

    def test_a_ledger_that_fails(self):
        """What cannot be written behind is said before the next is paid for, and written when it can be."""
        bell, transport = self.open([ANSWER] * 3, ledger=self.path)
        bell.look(picture(1), name="1")
        bell._batch._behind.flush()
        self.path.rename(self.path.with_suffix(".moved"))
        bell.look(picture(2), name="2")
        with self.assertRaisesRegex(LedgerError, "removed or replaced"):
            bell._batch._behind.flush()
        with self.assertRaises(LedgerError):
            bell.look(picture(3))
        self.assertEqual(len(transport.requests), 2)
        self.path.with_suffix(".moved").rename(self.path)
        bell.close()
        self.assertEqual(len(findings_of(self.path).image.used()), 2)

    def test_many_at_once(self):
        """Two hundred callers, from threads and an event loop: all answered, at most four at once."""
        port, handler = served(self, Echo)
        change = ("127.0.0.1:1/", f"127.0.0.1:{port}/")
        with open_service(description(change), key="k", ledger=self.path) as bell:
            with ThreadPoolExecutor(100) as pool:
                seen = list(pool.map(lambda n: bell.look(picture(n), name=f"{n}"), range(100)))

            async def ask():
                return await asyncio.gather(
                    *(bell.look_async(picture(n), name=f"{n}") for n in range(100, 200))
                )

            seen += asyncio.run(ask())
            self.assertEqual(
                [one.findings.image.used() for one in seen], [[str(n)] for n in range(200)]
            )
            self.assertEqual({one.outcome for one in seen}, {"found"})
            self.assertEqual((len(handler.seen), handler.most <= 4), (200, True))
        self.assertEqual(len(findings_of(self.path).image.used()), 200)

    def test_look_many(self):
        """Results come in the order given, each with its name; also in an event loop."""

        def reply(request):  # the first of every four takes longest
            time.sleep(0.03 * (3 - number_of(request) % 4))
            return {"tags": [{"name": f"no-{number_of(request)}"}], "things": []}

        bell, transport = self.open(reply)
        got = list(bell.look_many({f"p{n}": picture(n) for n in range(20)}))
        self.assertEqual([name for name, _ in got], [f"p{n}" for n in range(20)])
        for number, (_, seen) in enumerate(got):
            self.assertIn(f"no-{number}", seen.findings.label.used())
            self.assertEqual((seen.paid, seen.money, seen.currency), (True, 0.01, "EUR"))
        plain = json.loads(got[3][1].to_json())
        self.assertEqual((plain["outcome"], plain["paid"], plain["verdict"]), ("found", True, None))
        self.assertEqual([row["label"] for row in plain["findings"]], ["no-3", ""])
        again = dict(bell.look_many([picture(3), picture(1)]))
        self.assertEqual(list(again), ["image 1", "image 2"])

        async def ask():
            return [name async for name, _ in bell.look_many_async({"a": picture(30)})]

        self.assertEqual(asyncio.run(ask()), ["a"])
        self.assertEqual(len(transport.requests), 23)

    def test_misuse(self):
        """What is not one image, a closed service and a missing key still raise."""
        bell, _ = self.open([ANSWER])
        for data in (1, 2):
            (self.folder / f"{data}.jpg").write_bytes(picture(data))
        with self.assertRaisesRegex(ArgumentError, "takes one image"):
            bell.look(self.folder)
        self.assertEqual(bell.look(self.folder / "1.jpg").findings.image.used(), ["1.jpg"])
        bell.close()
        bell.close()
        with self.assertRaisesRegex(ArgumentError, "was closed"):
            bell.look(picture(1))
        with self.assertRaises(KeyNotFound):
            open_service(description())
        with self.assertRaisesRegex(ArgumentError, "attempts"):
            open_service(description(), key="k", attempts=0)


if __name__ == "__main__":
    unittest.main()
