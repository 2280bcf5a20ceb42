"""Folders in object storage, on a real server of the kind here; and images read ahead of the workers."""

import contextlib
import io
import logging
import os
import unittest
from collections import deque
from importlib.util import find_spec
from threading import Event, Thread
from unittest import mock

import dotledger
from dotledger.errors import GatherError
from dotledger.images.image_gathering import Item, gather
from dotledger.sending.batch.image_prefetch import Ahead
from dotledger.testing import FakeTransport
from tests.sending.helpers import ANSWER, InFolder, description, number_of, picture

HERE = all(map(find_spec, ("moto", "flask", "s3fs")))


@unittest.skipUnless(HERE, "no object store server here")
class Stores(InFolder):
    @classmethod
    def setUpClass(cls):
        import fsspec
        from moto.server import ThreadedMotoServer

        logging.getLogger("werkzeug").setLevel(logging.ERROR)
        server = ThreadedMotoServer("127.0.0.1", port=0)
        with contextlib.redirect_stdout(io.StringIO()):
            server.start()
        cls.addClassCleanup(server.stop)
        _, port = server.get_host_and_port()
        options = {"endpoint_url": f"http://127.0.0.1:{port}", "key": "k", "secret": "s"}
        cls.enterClassContext(mock.patch.dict(fsspec.config.conf, {"s3": options}))
        cls.enterClassContext(mock.patch.dict(os.environ, {"AWS_DEFAULT_REGION": "us-east-1"}))
        cls.store = fsspec.filesystem("s3")
        cls.store.mkdir("stalls")
        for number in range(12):
            cls.store.pipe_file(f"stalls/day/{number % 2}/p-{number}.JPG", picture(number))
        for name in ("day/notes.txt", "day/.hidden.jpg", "day/0/.trash/p.jpg", "elsewhere/p.jpg"):
            cls.store.pipe_file(f"stalls/{name}", b"x")

    def test_a_folder(self):
        """Listed in natural order with names below it; what is passed over is told; all is sent and read."""
        gathered = gather("s3://stalls/day/")
        names = [item.name for item in gathered.items]
        self.assertEqual(
            names[:3] + names[-2:],
            ["0/p-0.JPG", "0/p-2.JPG", "0/p-4.JPG", "1/p-9.JPG", "1/p-11.JPG"],
        )
        self.assertEqual((len(names), dict(gathered.skipped)), (12, {"hidden": 2, ".txt": 1}))
        self.assertEqual(gathered.items[0].where, "s3://stalls/day/0/p-0.JPG")
        asked = []
        transport = FakeTransport(lambda request: asked.append(number_of(request)) or ANSWER)
        options = {"transport": transport, "ledger": self.path, "key": "k"}
        sent = dotledger.send("s3://stalls/day", description(), **options)
        self.assertEqual((sent.outcomes["label"]["found"], sorted(asked)), (12, list(range(12))))
        again = dotledger.send("s3://stalls/day/", description(), **options)
        self.assertEqual((again.batch, again.calls), (sent.batch, 0))

    def test_a_change_is_noticed(self):
        """Another picture under the same name makes another batch, of which only that one is asked."""
        self.store.pipe_file("stalls/change/a.jpg", picture(50))
        self.store.pipe_file("stalls/change/b.jpg", picture(51))
        transport = FakeTransport([ANSWER])
        options = {"transport": transport, "ledger": self.path, "key": "k"}
        first = dotledger.send("s3://stalls/change/", description(), **options)
        self.store.pipe_file("stalls/change/b.jpg", picture(52))
        self.store.invalidate_cache()
        second = dotledger.send("s3://stalls/change/", description(), **options)
        self.assertEqual((second.batch - first.batch, first.calls, second.calls), (1, 2, 1))

    def test_what_is_not_there(self):
        """A folder that is not there, a kind of address that nobody knows, a file that is gone: said."""
        for address in ("s3://stalls/nothing/", "s3://no-such-place/day/"):
            with self.assertRaises(GatherError):
                gather(address)
        with self.assertRaisesRegex(GatherError, "nobody knows this kind of address"):
            gather("attic://stalls/day/")
        gone = gather("s3://stalls/day/gone.jpg").items[0]
        with self.assertRaises(OSError):
            gone.read()


class ReadAhead(unittest.TestCase):
    def items(self, count, size=0):
        self.begun, self.going = deque(), Event()

        def fetch(number):
            def read():
                self.begun.append(number)
                self.going.wait(10)
                if number == 2:
                    raise OSError("gone")
                return b"%d" % number

            return read

        found = [Item(f"i{n}", f"far://i{n}", fetch(n), size) for n in range(count)]
        todo = iter(enumerate(found))
        return lambda wait: next(todo, None)

    def test_order_and_errors(self):
        """The next ones are being read when the first is taken; each has its own bytes, or its own error."""
        ahead = Ahead(self.items(9), 2)
        first = ahead.take(True)
        self.going.set()
        taken = [first]
        while (one := ahead.take(True)) is not None:
            taken.append(one)
        self.assertEqual([position for position, _ in taken], list(range(9)))
        for position, item in taken:
            if position == 2:
                with self.assertRaisesRegex(OSError, "gone"):
                    item.read()
            else:
                self.assertEqual(
                    (item.read(), item.where), (b"%d" % position, f"far://i{position}")
                )
        ahead.close()

    def test_whoever_waits_holds_nobody_up(self):
        """While one worker waits for a further image, another is told at once that there is none now."""
        asked, end = Event(), Event()

        def take(wait):
            if wait:
                asked.set()
                end.wait(10)

        ahead = Ahead(take, 2)
        waiting = Thread(target=ahead.take, args=(True,))
        waiting.start()
        self.assertTrue(asked.wait(10))
        told = []
        other = Thread(target=lambda: told.append(ahead.take(False)))
        other.start()
        other.join(5)
        self.assertEqual(told, [None])
        end.set()
        waiting.join(10)
        ahead.close()

    def test_memory_is_bounded(self):
        """At most twice as many as are read at once, and no more than some megabytes, are held."""
        for size, held in ((1, 6), (40 << 20, 2)):
            take = self.items(50, size)
            handed = []
            ahead = Ahead(lambda wait: handed.append(1) or take(wait), 3)  # noqa: B023 - used at once
            ahead.take(True)
            self.assertEqual(len(handed), held)
            self.going.set()
            ahead.close()
