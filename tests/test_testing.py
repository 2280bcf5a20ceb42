"""What is shipped for users' own tests."""

import unittest

from dotledger.testing import FakeClock, FakeTransport, NoAnswer, Request, Response, answer


class Fakes(unittest.TestCase):
    def test_replies_in_turn(self):
        """Replies are given in turn, the last again and again; a NoAnswer is raised."""
        silent = NoAnswer("nobody there", trouble="timeout")
        transport = FakeTransport([silent, {"a": 1}, Response(status=404)])
        request = Request(method="GET", address="http://h/")
        with self.assertRaises(NoAnswer):
            transport.send(request)
        told = transport.send(request)
        self.assertEqual((told.status, told.body), (200, b'{"a":1}'))
        self.assertEqual([transport.send(request).status for _ in range(2)], [404, 404])
        self.assertEqual(transport.requests, [request] * 4)

    def test_replies_by_function(self):
        """A function sees each request."""
        transport = FakeTransport(lambda r: {"method": r.method})
        got = transport.send(Request(method="PUT", address="http://h/"))
        self.assertEqual(got.body, b'{"method":"PUT"}')

    def test_answer(self):
        """Header names may be written as arguments."""
        made = answer({}, 429, retry_after="3")
        self.assertEqual(made.headers["retry-after"], "3")
        self.assertEqual(made.headers["content-type"], "application/json")

    def test_clock(self):
        """Time stands still until somebody sleeps."""
        clock = FakeClock(5.0)
        clock.sleep(2.5)
        self.assertEqual((clock(), clock.slept), (7.5, [2.5]))
