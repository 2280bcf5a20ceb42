"""What goes out and comes back over one connection: usual answers and others, kept lines and closed ones."""

import contextlib
import random
import re
import socket
import threading
import time
import unittest

from dotledger.http_exchanges import Host

GOOD = b"HTTP/1.1 200 OK\r\nContent-Length: 4\r\n\r\ngood"
CHUNKS = b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n1\r\nd\r\n0\r\n\r\n"


class Scripted:
    """A server that answers each request of a connection with the next of some pieces of bytes.

    A piece may be a list: its parts go out one after the other, with a pause between.
    """

    def __init__(self, test, *answers, close=False):
        self.answers, self.close = list(answers), close
        self.heard, self.connections = [], 0
        self.listening = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.port = self.listening.getsockname()[1]
        threading.Thread(target=self.serve, daemon=True).start()
        test.addCleanup(self.listening.close)

    def serve(self):
        while True:
            try:
                connection, _ = self.listening.accept()
            except OSError:
                return
            self.connections += 1
            threading.Thread(target=self.one, args=(connection,), daemon=True).start()

    def one(self, connection):
        with contextlib.suppress(OSError), connection, connection.makefile("rb") as reading:
            while self.answers and (request := self.request(reading)):
                self.heard.append(request)
                answer = self.answers.pop(0)
                for part in answer if isinstance(answer, list) else [answer]:
                    connection.sendall(part)
                    if isinstance(answer, list):
                        time.sleep(0.004)
                if self.close:
                    return

    def request(self, reading):
        head = b""
        while (line := reading.readline()) not in (b"", b"\r\n"):
            head += line
        length = re.search(rb"(?i)content-length: (\d+)", head)
        return head + (b"\r\n" + reading.read(int(length[1])) if length else b"") if head else b""

    def host(self, **settings):
        usual = {"timeout": 5.0, "at_once": 4, "most": 1 << 20, "clock": time.monotonic}
        return Host("http", f"127.0.0.1:{self.port}", **{**usual, **settings})


def asked(host, body=b"x"):
    """What comes back, or the kind of error."""
    try:
        return tuple(host.ask("POST", "/look", {}, body))
    except Exception as error:
        cut = type(error).__name__ == "IncompleteRead"  # the package below puts it into another
        return "ProtocolError" if cut else type(error).__name__


def odd_answers(count):
    """Answers put together from right and wrong parts."""
    rng = random.Random(7)
    starts = ("HTTP/1.1 200 OK", "HTTP/1.1 404 Not Found", "HTTP/1.1 500", "HTTP/1.1 204 No Content", "HTTP/1.0 200 OK", "HTTP/1.1 304 X",
              "HTTP/1.1  200 OK", "HTTP/1.1 200 Schön", "http/1.1 200 OK", "HTTP/2 200", "HTTP/1.1 20 OK", "HTTP/1.1 2000 OK", "ICY 200 OK")  # fmt: skip
    headers = ("Content-Length: 4", "content-length:4", "Content-Length:  4 ", "Content-Length: 4\r\nContent-Length: 4", "Content-Length: 4\r\nContent-Length: 9",
               "Content-Length: 4, 4", "Content-Length: +4", "Content-Length: -4", "Content-Length: 0x4", "Content-Length: \uff14", "Content-Length: 9", "Content-Length: 2",
               "Transfer-Encoding: chunked", "Transfer-Encoding: Chunked\r\nContent-Length: 4", "X-Note: so", "X-Note:", "x-note: \t so\t", "X-Note: a\r\nX-Note: b", "X-Long: a\r\n b",
               "X-Höm: ü", "X y: z", "no colon", ": nothing", "X-Zero: \0", "Connection: close", "Connection: Keep-Alive", "Content-Type: text/plain; charset=utf-8")  # fmt: skip
    for _ in range(count):
        lines = [starts[0] if rng.random() < 0.6 else rng.choice(starts)]
        lines += [headers[0]] * (rng.random() < 0.6)
        lines += rng.sample(headers, rng.randrange(4))
        end = "\n" if rng.random() < 0.06 else "\r\n"
        chunked = any("hunked" in line for line in lines)
        body = rng.choice(("2\r\nab\r\n2\r\ncd\r\n0\r\n\r\n", "4\r\nab")) if chunked else "abcd"
        yield (end.join(lines) + end + end).encode(), body.encode()


class Answers(unittest.TestCase):
    def test_both_ways(self):
        """A head that comes at once says the same as one in pieces."""
        usual = 0
        for head, body in odd_answers(250):
            came = []
            for answer in (head + body, [head[:12], head[12:] + body]):
                server = Scripted(self, answer, close=True)
                came.append(asked(server.host()))
                server.listening.close()
            with self.subTest(head):
                self.assertEqual(came[0], came[1])
            usual += came[0] == (200, came[0][1], b"abcd", True)
        self.assertGreater(usual, 60)

    def test_in_pieces(self):
        """Head, half of the body, the rest: one answer, and the line is kept; so for chunks."""
        large = b"HTTP/1.1 200 OK\r\nContent-Length: 300000\r\n\r\n" + b"a" * 300_000
        server = Scripted(
            self,
            [GOOD[:-4], GOOD[-4:-2], GOOD[-2:]],
            CHUNKS,
            [CHUNKS[:60], CHUNKS[60:]],
            large,
            GOOD,
        )
        host = server.host()
        bodies = [asked(host)[2] for _ in range(5)]
        self.assertEqual(bodies, [b"good", b"abcd", b"abcd", b"a" * 300_000, b"good"])
        self.assertEqual(server.connections, 1)

    def test_which_lines_are_kept(self):
        """Another request goes over a line only if it is whole, wanted, and nothing came unasked."""
        closing = GOOD.replace(b"\r\n\r\n", b"\r\nConnection: close\r\n\r\n")
        for answer, connections in (
            (GOOD, 1), (closing, 2), (b"HTTP/1.1 204 X\r\n\r\n", 1), (GOOD + b"x", 3), (b"HTTP/1.1 100 Go on\r\n\r\n" + GOOD, 2),
            (CHUNKS, 1), (CHUNKS + b"x", 3), (GOOD.replace(b"1.1", b"1.0"), 2), (b"HTTP/1.1 101 Switching\r\n\r\n", 2), ([GOOD, GOOD], 3),
        ):  # fmt: skip
            with self.subTest(answer):
                server = Scripted(self, answer, GOOD, GOOD)
                host = server.host()
                asked(host)
                time.sleep(0.02)  # until what comes later is there
                self.assertEqual([asked(host)[2] for _ in range(2)], [b"good"] * 2)
                self.assertEqual(server.connections, connections)

    def test_lines_kept_before(self):
        """Once a host sent what nobody asked for, no other line to it is used again either."""
        server = Scripted(self, *[[GOOD[:-1], GOOD[-1:]]] * 2, GOOD + b"x", GOOD)
        host = server.host()
        both = [threading.Thread(target=asked, args=(host,)) for _ in range(2)]
        for one in both:
            one.start()
        for one in both:
            one.join()
        opened = server.connections
        self.assertEqual([asked(host)[2] for _ in range(2)], [b"good"] * 2)
        self.assertEqual(server.connections, opened + 1)

    def test_a_line_closed_meanwhile(self):
        """A service that closes an idle line costs nothing: a new one is opened before sending."""
        server = Scripted(self, *[GOOD] * 3, close=True)
        host = server.host()
        for _ in range(3):
            self.assertEqual(asked(host)[2], b"good")
            time.sleep(0.02)
        self.assertEqual((server.connections, len(server.heard)), (3, 3))

    def test_an_answer_after_one_read(self):
        """A service that reads once, answers and closes is heard: a small request leaves in one piece."""
        listening = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.addCleanup(listening.close)

        def serve():
            with contextlib.suppress(OSError):
                while True:
                    connection, _ = listening.accept()
                    with connection:
                        read.append(connection.recv(1 << 16))
                        connection.sendall(GOOD)

        read = []
        threading.Thread(target=serve, daemon=True).start()
        port = listening.getsockname()[1]
        usual = {"timeout": 5.0, "at_once": 4, "most": 1 << 20, "clock": time.monotonic}
        for _ in range(60):
            self.assertEqual(asked(Host("http", f"127.0.0.1:{port}", **usual))[2], b"good")
        self.assertEqual([one for one in read if not one.endswith(b"\r\n\r\nx")], [])

    def test_size_and_time(self):
        """The body is cut at what is kept, whatever its length says; no answer waits for ever."""
        for sent in (GOOD, [GOOD[:9], GOOD[9:]], CHUNKS):
            for most, whole in ((5, True), (4, True), (3, False), (0, False)):
                came = Scripted(self, sent).host(most=most).ask("POST", "/", {}, b"")
                self.assertEqual((len(came.body), came.whole), (min(4, most), whole))
        answer = b"HTTP/1.1 200 OK\r\nContent-Length: 4000\r\n\r\n" + b"a" * 4000
        for sent in (answer, [answer[:9], answer[9:]], answer.replace(b"4000", b"9" * 17)):
            came = Scripted(self, sent).host(most=100).ask("POST", "/", {}, b"")
            self.assertEqual((came.body, came.whole), (b"a" * 100, False))
        for held in ([GOOD[:-1], *[b""] * 200], [GOOD[:20], *[b""] * 200], [b""] * 200):
            began = time.monotonic()
            self.assertIn(
                asked(Scripted(self, held).host(timeout=0.15)), ("TimeoutError", "ReadTimeoutError")
            )
            self.assertLess(time.monotonic() - began, 0.7)


class Requests(unittest.TestCase):
    def heard(self, *request, **settings):
        server = Scripted(self, GOOD)
        server.host(**settings).ask(*request)
        return server.heard[0].replace(b": 127.0.0.1:%d\r\n" % server.port, b": here\r\n")

    def test_what_goes_out(self):
        """What every request says, once each; what is given takes the place of ours."""
        ours = b"Host: here\r\nUser-Agent: dot-ledger\r\nAccept-Encoding: identity\r\n"
        self.assertEqual(self.heard("GET", "/a?b=c", {}, b""), b"GET /a?b=c HTTP/1.1\r\n" + ours)
        for method in ("POST", "PUT", "PATCH"):
            self.assertIn(b"\r\nContent-Length: 0\r\n", self.heard(method, "/", {}, b""))
        given = {
            "HOST": "inner",
            "user-agent": "me",
            "Accept-encoding": "br",
            "content-length": "1",
            "X-At": 7,
        }
        wanted = b"POST / HTTP/1.1\r\nHOST: inner\r\nuser-agent: me\r\nAccept-encoding: br\r\ncontent-length: 1\r\nX-At: 7\r\n\r\nx"
        self.assertEqual(self.heard("POST", "/", given, b"x"), wanted)
        large = bytes(range(256)) * 4000
        self.assertTrue(self.heard("POST", "/", {}, large).endswith(b"\r\n\r\n" + large))

    def test_targets(self):
        """What cannot stand in a request's first line is encoded; what is encoded stays."""
        for target, written in (
            ("/a b", "/a%20b"), ("/ü?x=ü", "/%C3%BC?x=%C3%BC"), ("/%41/../b//c", "/%41/../b//c"), ("//x", "//x"),
            ("/a?b=[1]&c=\r\nX: y", "/a?b=%5B1%5D&c=%0D%0AX:%20y"), ("/x?a=b+c/d?e:@!$&'()*,;=-._~", "/x?a=b+c/d?e:@!$&'()*,;=-._~"),
        ):  # fmt: skip
            first = self.heard("POST", target, {}, b"").partition(b"\r\n")[0]
            self.assertEqual(first, f"POST {written} HTTP/1.1".encode())

    def test_headers_that_are_none(self):
        """Line breaks and letters that no header can hold are refused before anything is sent."""
        server = Scripted(self, GOOD)
        for name, value in (("X", "a\r\nY: b"), ("X", "a\nb"), ("X", "\0"), ("X", "Ω"), ("X Y", "a"), ("", "a"), ("X:", "a"), ("X\n", "a")):  # fmt: skip
            with self.assertRaises(ValueError):
                server.host().ask("POST", "/", {name: value}, b"")
        self.assertEqual(server.connections, 0)

    def test_an_answer_before_the_end(self):
        """A service that refuses a large image while it is still coming is heard."""
        refused = b"HTTP/1.1 413 Too Large\r\nContent-Length: 2\r\nConnection: close\r\n\r\nno"

        class Refusing(Scripted):
            def request(self, reading):
                return reading.readline()

        server = Refusing(self, refused)
        self.assertEqual(asked(server.host(), b"a" * 300_000)[0], 413)
