"""Sending a batch through a fake transport: one outcome for every image and kind."""

import asyncio
import os
import signal
import time
import unittest
from unittest import mock

from dotledger import findings_of, send, send_async
from dotledger.errors import (
    ArgumentError,
    GatherError,
    KeyNotFound,
    LedgerError,
)
from dotledger.images.image_gathering import gather
from dotledger.ledger.answer_queries import raw_answers
from dotledger.ledger.batch_queries import failures, find_batch, sent_images
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.ledger_writing import BatchWriter
from dotledger.ledger.usage_queries import call_figures, usage
from dotledger.sending.batch.batch_sending import Sending
from dotledger.sending.batch.send_progress import SentBatch
from dotledger.sending.batch.shared_limits import TOO_SILENT
from dotledger.sending.policies.send_plan import make_plan
from dotledger.services.redaction import Key, Secrets
from dotledger.testing import FakeTransport, NoAnswer, Response, answer
from tests.sending.helpers import ANSWER, InFolder, description, number_of, picture, pictures


class Outcomes(InFolder):
    def test_each_image_gets_one(self):
        """Found, empty, failed and refused stand side by side, each with its reason."""
        images = {
            **pictures(4),
            "small.jpg": picture(size=(4, 4)),
            "text.jpg": b"no image",
            "none.jpg": b"",
        }

        def reply(request):
            number = number_of(request)
            return [
                ANSWER,
                {"tags": [], "things": []},
                answer({"why": "blurred"}, 422),
                {"things": [{"name": "x", "box": [9, 9, 1, 1]}]},
            ][number]

        sent, _ = self.send(images, reply)
        self.assertEqual(
            sent.outcomes["object"],
            {
                "found": 1,
                "empty": 1,
                "unread": 1,
                "failed": 1,
                "refused": 3,
                "pending": 0,
                "deleted": 0,
            },
        )
        ledger = self.ledger()
        reasons = {name: reason for name, _, _, reason in failures(ledger, find_batch(ledger))}
        self.assertRegex(reasons["p-2.jpg"], "status 422.*blurred")
        self.assertRegex(reasons["small.jpg"], "too small.*4 x 4.*at least 8")
        self.assertRegex(reasons["text.jpg"], "not an image")
        self.assertRegex(reasons["none.jpg"], "empty")
        found = findings_of(ledger)
        self.assertEqual(found.image.take(found.blank).used(), ["p-1.jpg"])
        self.assertRegex(reasons["p-3.jpg"], "all 1 at things.* set aside|no part of the answer")

    def test_another_port(self):
        """The same service at another host and port has given these answers already."""
        self.send(pictures(3), [ANSWER])
        moved = description(("127.0.0.1:1", "127.0.0.1:2"))
        sent, transport = self.send(pictures(3), [ANSWER], moved)
        self.assertEqual((len(transport.requests), sent.resumed), (0, True))
        other = description(("/{region}", "/v2/{region}"))
        _, transport = self.send(pictures(3), [ANSWER], other)
        self.assertEqual(len(transport.requests), 3)

    def test_again(self):
        """Sending again is about the outcomes named; what is pending waits, and no call is no limit."""
        odd = lambda r: answer({}, 400) if number_of(r) == 1 else answer(ANSWER)  # noqa: E731
        self.send(pictures(6), odd, at_most=3)
        sent, transport = self.send(pictures(6), [ANSWER], again="failed")
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["pending"]), (1, 3))
        with self.assertRaisesRegex(ArgumentError, "at_most"):
            self.send(pictures(6), [ANSWER], at_most=0)

    def test_equal_bytes_are_sent_once(self):
        """The same bytes under two names are one call, reported under both."""
        images = {"a.jpg": picture(1), "b.jpg": picture(1), "c.jpg": picture(2)}
        sent, transport = self.send(images, [ANSWER])
        self.assertEqual((len(transport.requests), sent.reused), (2, 1))
        self.assertEqual(sent.outcomes["object"]["found"], 3)
        failing, _ = self.send({"d.jpg": picture(5), "e.jpg": picture(5)}, [answer({}, 400)])
        self.assertEqual(failing.outcomes["object"]["failed"], 2)

    def test_nothing_is_sent_twice(self):
        """A second sending makes no call, nor one for fewer kinds; other settings do; failed ones go alone on request."""
        replies = [answer({}, 400), ANSWER]
        first, _ = self.send(pictures(3), replies)
        self.assertEqual((first.outcomes["label"]["failed"], first.resumed), (1, False))
        ended = find_batch(self.ledger()).ended
        second, transport = self.send(pictures(3), replies)
        self.assertEqual((len(transport.requests), second.resumed), (0, True))
        self.assertEqual(find_batch(self.ledger()).ended, ended)  # nothing was done
        again, transport = self.send(pictures(3), [ANSWER], again=["failed"])
        self.assertEqual((len(transport.requests), again.failed), (1, 0))
        _, transport = self.send(pictures(3), [ANSWER], settings={"region": "south"})
        self.assertEqual(len(transport.requests), 3)
        _, transport = self.send(pictures(3), [ANSWER], kinds=["label"])
        self.assertEqual(len(transport.requests), 0, "the same request holds them")

    def test_raw_answers_are_kept_byte_for_byte(self):
        """The ledger gives back the answer exactly as it came."""
        raw = b' {"tags" : [ ],\n "odd": "\xc3\xa9"} '
        self.send(
            pictures(1),
            [Response(status=200, headers={"content-type": "application/json"}, body=raw)],
        )
        ledger = self.ledger()
        self.assertEqual(list(raw_answers(ledger, find_batch(ledger), [0])), [(0, "look", raw)])

    def test_odd_names_are_text(self):
        """Labels and image names that look like paths, markup or SQL are kept as text."""
        odd = ["../../x", "<script>", "=1+1", "'; DROP TABLE findings; --", "x" * 10_000]
        self.send(
            {f"{name[:40]}.jpg": picture(n) for n, name in enumerate(odd)},
            lambda r: {"tags": [{"name": odd[number_of(r)]}]},
        )
        found = findings_of(self.path, kinds=["label"])
        self.assertEqual(sorted(found.label.values()), sorted(odd))


class Money(InFolder):
    def test_limits_leave_the_rest_pending(self):
        """``at_most`` and ``budget`` stop in time; the rest stays pending and goes out later."""
        sent, transport = self.send(pictures(9), [ANSWER], at_most=4)
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["pending"]), (4, 5))
        self.assertIn("limit of 4 calls", sent.stopped_because)
        sent, transport = self.send(pictures(9), [ANSWER], budget=0.03)
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["pending"]), (3, 2))
        self.assertAlmostEqual(sent.money, 0.03)
        sent, _ = self.send(pictures(9), [ANSWER])
        self.assertEqual((sent.pending, sent.stopped_because), (0, ""))
        [month] = usage(self.ledger())
        self.assertEqual((month.calls, month.images, round(month.money, 9)), (9, 9, 0.09))

    def test_a_budget_smaller_than_what_goes_at_once(self):
        """Calls that wait for each other's money wait: a budget of three calls makes three, not one."""
        for refused in (False, True):
            self.path = self.folder / f"{refused}.ledger"
            seen = []

            def reply(_, seen=seen, refused=refused):
                seen.append(1)
                time.sleep(0.02)
                # Refused calls cost nothing: their money comes back to those who wait for it.
                return (
                    answer({}, 429, Retry_After="0") if refused and len(seen) in (2, 3) else ANSWER
                )

            sent, _ = self.send(pictures(9), reply, budget=0.03)
            self.assertEqual((sent.calls, sent.money, sent.at_limit), (3, 0.03, True))
            self.assertIn("budget of 0.03 EUR is reached", sent.stopped_because)

    def test_monthly_quota(self):
        """The quota counts calls of earlier batches in the same month."""
        small = description(("[limits]", "[limits]\nper_month = 5"))
        self.send(pictures(3), [ANSWER], small)
        sent, transport = self.send(
            {f"q{n}.jpg": picture(50 + n) for n in range(4)}, [ANSWER], small
        )
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["pending"]), (2, 2))
        self.assertIn("monthly quota of 5", sent.stopped_because)

    def test_one_reason_for_all_stops_at_once(self):
        """A wrong key costs one refusal, not one for every image; nothing counts as failed."""
        for status, sign in ((401, "key"), (403, "forbids"), (402, "payment"), (404, "address")):
            sent, transport = self.send(
                pictures(30),
                [answer({"no": "way"}, status)],
                ledger=self.folder / f"{status}.ledger",
            )
            self.assertEqual(
                (len(transport.requests), sent.failed, sent.outcomes["label"]["pending"]),
                (1, 0, 30),
            )
            self.assertRegex(sent.stopped_because, sign)

    def test_the_same_failure_again_and_again(self):
        """Twenty calls that fail alike stop the batch; what a service says of images does not."""
        wrong = answer({"error": "no such model"}, 400)
        sent, transport = self.send(pictures(60), [wrong])
        made = len(transport.requests)
        self.assertTrue(20 <= made <= 23, f"{made}: 20, and what the other three threads had begun")
        counts = [sent.outcomes["label"][o] for o in ("failed", "pending")]
        self.assertEqual(counts, [made, 60 - made])
        self.assertRegex(sent.stopped_because, "20 calls in a row.*no such model")
        self.assertFalse(sent.at_limit)
        others = {f"x{n}.jpg": picture(100 + n) for n in range(60)}
        sent, transport = self.send(others, [ANSWER, wrong], kinds="label")
        self.assertEqual([sent.outcomes["label"][o] for o in ("failed", "pending")], [59, 0])
        parts = description(("[price]", '[envelope]\nimages = "parts"\n[price]'))
        sent, transport = self.send(others, [{"whole": 1}], parts)
        self.assertRegex(sent.stopped_because, "3 calls in a row have failed.*envelope.images")
        self.assertLess(len(transport.requests), 30)

    def test_a_service_that_never_works(self):
        """Where nothing has been accepted yet, or rights are gone, three failures are enough."""
        one = description(("at_once = 4", "at_once = 1"))
        late = NoAnswer("no answer in time", trouble="timeout")
        sent, transport = self.send(pictures(30), [late], one)
        counts = [sent.outcomes["label"][o] for o in ("failed", "pending")]
        self.assertEqual((counts, len(transport.requests)), ([3, 27], 12))
        self.assertRegex(sent.stopped_because, "3 calls in a row.*no answer in time")
        gone = lambda r: ANSWER if number_of(r) < 5 else answer({"why": "quota"}, 403)  # noqa: E731
        sent, transport = self.send(pictures(30), gone, one, ledger=self.folder / "other")
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["failed"]), (8, 3))

    def test_a_stray_refusal_of_the_key(self):
        """A key that worked is tried once more after a 401; two in a row stop everything."""
        for strays, calls in (({15}, 31), ({15, 16, 17, 18, 19, 20}, None)):
            self.path = self.folder / f"{len(strays)}.ledger"
            seen = []

            def reply(_, seen=seen, strays=strays):
                seen.append(1)
                return answer({"why": "who?"}, 401) if len(seen) in strays else ANSWER

            sent, _ = self.send(pictures(30), reply, description(("at_once = 4", "at_once = 1")))
            if calls:
                self.assertEqual((sent.outcomes["label"]["found"], len(seen)), (30, calls))
            else:
                self.assertIn("does not accept the key (401)", sent.stopped_because)
                self.assertEqual((len(seen), sent.outcomes["label"]["pending"]), (16, 16))

    def test_a_service_out_of_reach(self):
        """Where nothing could be sent, nothing has failed; the batch stops and can go on."""
        sent, transport = self.send(pictures(9), [NoAnswer("no host", trouble="unreachable")])
        self.assertEqual((sent.failed, sent.calls), (0, 0))
        self.assertLessEqual(
            len(transport.requests), 4 * 4, "four attempts for each of four threads"
        )
        self.assertEqual(sent.outcomes["label"]["pending"], 9)
        self.assertIn("cannot be reached: no host", sent.stopped_because)
        sent, _ = self.send(pictures(9), [ANSWER])
        self.assertEqual(sent.outcomes["label"]["found"], 9)

    def test_keys_are_nowhere(self):
        """The key is in no ledger, no repr, no error, wherever the service repeats it."""
        key = "k-secret/and more"
        for number, reply in enumerate(
            (
                answer({"wrong": f"the key {key} is unknown"}, 401),
                answer({"asked": "http://bell/?q=k-secret%2Fand+more"}, 400),
                {**ANSWER, "asked": f"X-Key: {key}"},
            )
        ):
            path = self.folder / f"{number}.ledger"
            sent, transport = self.send(pictures(2), [reply], ledger=path, key=key)
            self.assertEqual(transport.requests[0].headers["X-Key"], key)
            self.assertNotIn("k-secret", repr(transport.requests[0]) + repr(sent))
            with LedgerStore(path) as ledger:
                batch = find_batch(ledger)
                raw = [raw for *_, raw in raw_answers(ledger, batch, [0, 1])]
                self.assertNotIn("k-secret", str(failures(ledger, batch)) + str(raw))
                self.assertIn(
                    "•••", str(failures(ledger, batch)) + b"".join(raw).decode() + str(sent)
                )
        for path in self.folder.iterdir():
            self.assertNotIn(b"k-secret", path.read_bytes())
        with self.assertRaisesRegex(KeyNotFound, "env:BELL_KEY .not set"):
            send(pictures(1), description(), ledger=self.path)


class Retries(InFolder):
    def test_troubles_pass(self):
        """Server errors, cut connections, time-outs and broken JSON are tried again."""
        troubles = [
            answer({}, 500),
            NoAnswer("cut"),
            NoAnswer("late", trouble="timeout"),
        ]
        seen = {}

        def reply(request):
            number = number_of(request)
            seen[number] = seen.get(number, 0) + 1
            return troubles[number % 3] if seen[number] == 1 else ANSWER

        sent, _ = self.send(pictures(3), reply)
        self.assertEqual(sent.outcomes["label"]["found"], 3)
        ledger = self.ledger()
        self.assertEqual(call_figures(ledger, find_batch(ledger)).retries, 3)

    def test_a_clock_set_back(self):
        """A wall clock that jumps back an hour midway harms nothing."""
        from dotledger.sending.batch.sending_dependencies import Means

        now = iter([1e9 + n if n < 20 else 1e9 - 3600 + n for n in range(10_000)])
        means = Means(transport=FakeTransport([ANSWER]), wall=lambda: next(now))
        plan = make_plan(
            description(("[limits]", "[limits]\nper_second = 500")), gather(pictures(20))
        )
        sent = Sending(plan, str(self.path), Key("k", "test"), means=means).run()
        self.assertEqual((sent.outcomes["label"]["found"], sent.pending), (20, 0))

    def test_an_answer_that_stays_broken_is_kept(self):
        """An answer that is never JSON fails with the reason, and its bytes stay in the ledger."""
        page = Response(status=200, headers={"content-type": "text/html"}, body=b"<html>sign in")
        sent, transport = self.send(pictures(1), [page])
        self.assertEqual((sent.outcomes["label"]["failed"], len(transport.requests)), (1, 4))
        ledger = self.ledger()
        [*_, (_, _, _, reason)] = failures(ledger, find_batch(ledger))
        self.assertRegex(reason, "cannot be read.*text/html.*after 4 attempts")
        self.assertEqual(
            [raw for _, _, raw in raw_answers(ledger, find_batch(ledger), [0])], [page.body]
        )


class Several(InFolder):
    SERVICE = (
        (
            'path = "/look"',
            'path = "/look"\nbody = "json"\nimages = 3\nimage_field = "all"\neach = { n = "{id}", data = "{image}" }',
        ),
        ("[[read]]", '[envelope]\nimages = "r[]"\nid = "n"\nerror = "bad"\n[[read]]'),
    )

    def test_paid_by_the_image(self):
        """Seven images in three requests are seven images, where the price counts these."""

        def reply(request):
            from dotledger.json_codec import from_json

            return {"r": [{"n": e["n"], **ANSWER} for e in from_json(request.body)["all"]]}

        by_image = ("per_1000 = 10.0", 'per_1000 = 10.0\nper = "image"')
        sent, _ = self.send(pictures(7), reply, description(*self.SERVICE, by_image))
        self.assertEqual((sent.calls, round(sent.money, 9)), (3, 0.07))

    def test_one_bad_image_does_not_spoil_the_others(self):
        """A refused group is sent singly; a missing image and one with an error fail alone."""
        from dotledger.json_codec import from_json

        calls = []

        def reply(request):
            entries = from_json(request.body)["all"]
            calls.append(len(entries))
            if len(entries) > 1 and len(calls) == 1:
                return answer({"why": "one of them"}, 400)
            parts = [{"n": e["n"], **ANSWER} for e in reversed(entries)]
            return {
                "r": parts
                if len(entries) == 1
                else [parts[1], {"n": parts[0]["n"], "bad": "blurred"}]
            }

        sent, _ = self.send(
            pictures(6), reply, description(*self.SERVICE, ("at_once = 4", "at_once = 1"))
        )
        self.assertEqual(calls, [3, 1, 1, 1, 3])
        self.assertEqual(
            (sent.outcomes["object"]["found"], sent.outcomes["object"]["failed"]), (4, 2)
        )
        ledger = self.ledger()
        reasons = {r for _, _, _, r in failures(ledger, find_batch(ledger))}
        self.assertEqual(
            reasons,
            {
                "the answer does not hold this image; its ids: 1, 2",
                "the service answered with an error (blurred)",
            },
        )


class Ways(InFolder):
    def test_where_the_key_goes(self):
        """Header, query, basic, bearer and a signer each put it where the description says."""
        for place, sign in (
            ('place = "query"\nname = "q"', ("address", "q=k-secret")),
            ('place = "basic"', ("Authorization", "Basic ay1zZWNyZXQ=")),
            ('place = "bearer"', ("Authorization", "Bearer k-secret")),
            ('place = "header"\nname = "X-Key"\nprefix = "Token "', ("X-Key", "Token k-secret")),
        ):
            service = description(('place = "header"\nname = "X-Key"', place))
            _, transport = self.send(
                pictures(1), [ANSWER], service, ledger=self.folder / f"{len(place)}.ledger"
            )
            [request] = transport.requests
            where, wanted = sign
            self.assertIn(wanted, request.address if where == "address" else request.headers[where])
            shown = request.masked(Secrets(Key("k-secret", "test")))
            self.assertNotIn("k-secret", shown.address + str(shown.headers))
            self.assertNotIn("ay1zZWNyZXQ", str(shown.headers))
        signed = description(
            ('place = "header"\nname = "X-Key"\nsources = ["env:BELL_KEY"]', 'place = "signed"')
        )
        _, transport = self.send(
            pictures(1),
            [ANSWER],
            signed,
            signer=lambda r: {"X-Sum": str(len(r.body))},
            ledger=self.folder / "s.ledger",
        )
        self.assertEqual(
            transport.requests[0].headers["X-Sum"], str(len(transport.requests[0].body))
        )
        for signer, sign in ((lambda r: 1 / 0, "ZeroDivisionError"), (lambda r: {"X": 1}, "text")):
            options = {"signer": signer, "ledger": self.folder / f"{sign}.ledger"}
            sent, transport = self.send(pictures(3), [ANSWER], signed, **options)
            self.assertEqual((transport.requests, sent.outcomes["label"]["pending"]), ([], 3))
            self.assertRegex(sent.stopped_because, f"the signer.*{sign}")

    def test_in_a_running_loop_and_awaited(self):
        """``send`` works inside a running event loop, ``send_async`` leaves the loop free."""

        async def notebook():
            first = send(
                pictures(2),
                description(),
                ledger=self.path,
                key="k",
                transport=FakeTransport([ANSWER]),
            )
            ticks, slow = [], FakeTransport(lambda _: time.sleep(0.05) or ANSWER)
            task = asyncio.ensure_future(
                send_async(
                    {"x.jpg": picture(9), "y.jpg": picture(8)},
                    description(),
                    ledger=self.path,
                    key="k",
                    transport=slow,
                )
            )
            while not task.done():
                ticks.append(1)
                await asyncio.sleep(0.01)
            return first, await task, len(ticks)

        first, second, ticks = asyncio.run(notebook())
        self.assertEqual(
            (first.outcomes["label"]["found"], second.outcomes["label"]["found"]), (2, 2)
        )
        self.assertGreater(ticks, 4)

    def test_cancelling_commits(self):
        """A cancelled task lets calls under way end and keeps their answers."""

        async def cancelled():
            slow = FakeTransport(lambda _: time.sleep(0.05) or ANSWER)
            task = asyncio.ensure_future(
                send_async(pictures(60), description(), ledger=self.path, key="k", transport=slow)
            )
            await asyncio.sleep(0.6)
            task.cancel()
            with self.assertRaises(asyncio.CancelledError):
                await task
            return len(slow.requests)

        made = asyncio.run(cancelled())
        _, transport = self.send(pictures(60), [ANSWER])
        self.assertEqual(len(transport.requests), 60 - made)

    def test_an_interruption_loses_nothing(self):
        """Ctrl-C ends the batch in order: every answer that came is committed, and paid once."""
        told = []

        def interrupted(progress):
            told.append(progress)
            if len(told) == 1:
                raise KeyboardInterrupt

        def slow(_):
            return time.sleep(0.03) or ANSWER

        transport = FakeTransport(slow)
        with self.assertRaisesRegex(KeyboardInterrupt, "pending; what came is in the ledger"):
            self.send(pictures(60), slow, tell=interrupted, transport=transport)
        made = len(transport.requests)
        ledger = self.ledger()
        batch = find_batch(ledger)
        self.assertEqual(batch.stopped_because, "interrupted")
        self.assertEqual(call_figures(ledger, batch).calls, made)
        self.assertGreater(60, made)
        again, rest = self.send(pictures(60), [ANSWER])
        self.assertEqual((made + len(rest.requests), again.pending), (60, 0))

    def test_a_signal_ends_a_script(self):
        """Ctrl-C while a script sends ends the script too, after what came is committed."""
        for number in (signal.SIGINT, signal.SIGTERM):
            self.path = self.folder / f"{number}.ledger"
            transport = FakeTransport(
                lambda r, n=number: (
                    os.kill(os.getpid(), n) or ANSWER if number_of(r) == 9 else ANSWER
                )
            )
            known = signal.signal(number, signal.default_int_handler)
            try:
                with self.assertRaises(KeyboardInterrupt):
                    self.send(pictures(500), [ANSWER], transport=transport)
                self.assertIs(signal.getsignal(number), signal.default_int_handler)
            finally:
                signal.signal(number, known)
            _, rest = self.send(pictures(500), [ANSWER])
            self.assertEqual(len(transport.requests) + len(rest.requests), 500)

    def test_a_signal_as_the_batch_ends(self):
        """Ctrl-C ends the script also where the last answer, or another reason, ended the batch."""
        for number, last in enumerate((ANSWER, answer({}, 401))):
            with self.assertRaises(KeyboardInterrupt):
                self.send(
                    pictures(1),
                    lambda _, said=last: os.kill(os.getpid(), signal.SIGINT) or said,
                    ledger=self.folder / f"{number}.ledger",
                )

    def test_an_error_of_whoever_is_told(self):
        """It ends the batch in order and is raised when every answer that came is committed."""

        def slow(_):
            return time.sleep(0.03) or ANSWER

        transport = FakeTransport(slow)
        options = {"ledger": self.path, "key": "k", "tell": lambda _: 1 / 0}
        with self.assertRaises(ZeroDivisionError):
            send(pictures(60), description(), transport=transport, **options)
        made = len(transport.requests)
        self.assertGreater(60, made)
        _, rest = self.send(pictures(60), [ANSWER])
        self.assertEqual(made + len(rest.requests), 60)

    def test_a_disk_that_is_full_for_a_moment(self):
        """What came while the list of images could not be written is written afterwards."""
        real, full = BatchWriter.add_items, [True]

        def add_items(writer):
            if full.pop() if full else False:
                raise LedgerError("the disk is full")
            real(writer)

        with mock.patch.object(BatchWriter, "add_items", add_items):
            sent, transport = self.send(pictures(60), lambda _: time.sleep(0.03) or ANSWER)
        self.assertEqual(sent.stopped_because, "the disk is full")
        made = len(transport.requests)
        self.assertEqual(sent.pending, 2 * (60 - made))
        self.assertEqual(
            [image.name for image in sent_images(self.ledger(), find_batch(self.ledger()))],
            list(pictures(60)),
        )
        _, rest = self.send(pictures(60), [ANSWER])
        self.assertEqual(made + len(rest.requests), 60)

    def test_progress(self):
        """The last progress tells all images, calls and money; the rate is that of this sending."""
        told = []
        self.send(pictures(7), [ANSWER], at_most=5)
        self.send(pictures(7), [ANSWER], tell=told.append)
        self.assertEqual((told[-1].done, told[-1].earlier, told[-1].calls), (7, 5, 2))
        self.assertAlmostEqual(told[-1].rate, 2 / told[-1].seconds)
        self.send(pictures(7), [ANSWER], ledger=self.folder / "other", tell=told.append)
        self.assertEqual(
            (told[-1].done, told[-1].images, told[-1].calls, round(told[-1].money, 6)),
            (7, 7, 7, 0.07),
        )

    def test_settings_and_arguments(self):
        """Wrong arguments are refused before anything is sent."""
        for bad in (
            {"at_most": -1},
            {"budget": float("nan")},
            {"budget": float("inf")},
            {"at_most": 2.5},
            {"again": ["found"]},
            {"again": "found"},
            {"kinds": ["face"]},
            {"kinds": []},
        ):
            with self.assertRaises(ArgumentError, msg=str(bad)):
                self.send(pictures(1), [ANSWER], **bad)
        free = description(("per_1000 = 10.0", "per_1000 = 0.0"))
        with self.assertRaisesRegex(ArgumentError, "names no price.*per_1000"):
            self.send(pictures(1), [ANSWER], free, budget=1.0)
        with self.assertRaises(GatherError):
            self.send(self.folder / "nothing", [ANSWER])
        self.assertFalse(self.path.exists())


class GoingOn(unittest.TestCase):
    """A live sender that the server counted as gone begins anew, by itself and not for ever."""

    def run_with(self, ends, *, act=lambda sending, turn: None):
        """Run a sending whose turns end so; `act` is called in each of them."""
        sending = Sending(make_plan(description(), gather(pictures(1))), "unused.ledger", None)
        turns = []

        def once(one):
            turns.append(one)
            act(sending, len(turns))
            why = ends[min(len(turns), len(ends)) - 1]
            return SentBatch(batch=1, service="bell", images=9, outcomes={}, calls=2, reused=1, unread=0, not_asked={},
                             refusals=0, money=0.5, currency="EUR", seconds=1.0, stopped_because=why, at_limit=False,
                             resumed=len(turns) > 1, shared=len(turns))  # fmt: skip

        with mock.patch.object(Sending, "_run_once", once):
            return sending.run(), len(turns)

    def test_what_both_came_to(self):
        """Calls, money and time add up; whether the batch was there before is what the first turn found."""
        sent, turns = self.run_with([TOO_SILENT, TOO_SILENT, ""])
        self.assertEqual(turns, 3)
        self.assertEqual((sent.calls, sent.money, sent.seconds, sent.reused), (6, 1.5, 3.0, 3))
        self.assertEqual((sent.resumed, sent.shared, sent.stopped_because), (False, 3, ""))

    def test_it_ends(self):
        """After many turns, when it is stopped from outside, or at Ctrl-C: then nothing begins anew."""
        self.assertEqual(self.run_with([TOO_SILENT])[1], 51)
        for act in (lambda one, _: one.stop(), lambda one, _: one._interrupt()):
            self.assertEqual(self.run_with([TOO_SILENT], act=act)[1], 1)

        def later(one, turn):
            if turn == 2:
                one.stop()

        self.assertEqual(self.run_with([TOO_SILENT], act=later)[1], 2)
        self.assertEqual(self.run_with(["the budget of 1 EUR is reached"])[1], 1)
