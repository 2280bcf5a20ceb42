"""What machines do to a sending: odd TLS, clocks that jump, processes that are stopped, disks that fill."""

import os
import random
import signal
import socket
import ssl
import subprocess
import tempfile
import threading
import time
from pathlib import Path

import trustme

from dotledger import findings_of, send
from dotledger.errors import DotLedgerError
from dotledger.images.image_gathering import gather
from dotledger.sending.batch.batch_sending import Sending
from dotledger.sending.batch.sending_dependencies import Means
from dotledger.sending.calls.http_transport import HttpTransport
from dotledger.sending.policies.send_plan import make_plan
from dotledger.services.redaction import Key
from dotledger.testing import FakeTransport, NoAnswer, Request, answer
from tests.campaigns.senders import Place, wrong_images
from tests.sending.helpers import ANSWER, description, number_of, pictures

# -- TLS -------------------------------------------------------------------------------------------

_BODY = b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\nContent-Type: application/json\r\n\r\n{}"
KEY = "k-secret-0171-very-long"


class _Tls:
    """A server that speaks TLS in some odd way, once a connection; remembers what it could read."""

    def __init__(self, way, authority):
        self.way, self.read = way, []
        names = {"another name": ["other.example"], "no name": []}.get(
            way, ["127.0.0.1", "localhost"]
        )
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        issued = authority.issue_cert(*(names or ["x.example"]), **_dates(way))
        issued.configure_cert(self.context)
        if way == "an old version":
            self.context.minimum_version, self.context.maximum_version = (
                ssl.TLSVersion.TLSv1,
                ssl.TLSVersion.TLSv1_1,
            )
        self.listening = socket.create_server(("127.0.0.1", 0))
        self.port = self.listening.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self):
        while True:
            try:
                line, _ = self.listening.accept()
            except OSError:
                return
            line.settimeout(5)
            try:
                self._answer(line)
            except (OSError, ssl.SSLError, ValueError):
                pass
            finally:
                line.close()

    def _answer(self, line):
        if self.way == "no TLS at all":
            self.read.append(line.recv(4096))
            line.sendall(_BODY)
        elif self.way == "cut in the handshake":
            line.recv(10)
        elif self.way == "noise":
            line.recv(100)
            line.sendall(bytes(range(256)) * 9)
        elif self.way == "silence":
            line.recv(100)
            time.sleep(3)
        else:
            secured = self.context.wrap_socket(line, server_side=True)
            self.read.append(secured.recv(65536))
            if self.way == "cut in the answer":
                secured.sendall(_BODY[:-1])
                secured.shutdown(socket.SHUT_RDWR)
            elif self.way == "plain in the middle":
                secured.sendall(_BODY[:20])
                os.write(secured.detach(), _BODY[20:])
            else:
                secured.sendall(_BODY)

    def close(self):
        self.listening.close()


def _dates(way):
    import datetime

    now = datetime.datetime.now(datetime.UTC)
    return (
        {
            "not_before": now - datetime.timedelta(days=9),
            "not_after": now - datetime.timedelta(days=1),
        }
        if way == "run out"
        else {}
    )


TLS_WAYS = ("as it should be", "another name", "run out", "of an unknown authority", "an old version", "no TLS at all",
            "cut in the handshake", "noise", "silence", "cut in the answer", "plain in the middle")  # fmt: skip


def tls_attack(tries, seed=0):
    """Ask servers that speak TLS oddly: an answer only of the right one, and a key to no other."""
    rng, wrong = random.Random(seed), {}
    ours, theirs = trustme.CA(), trustme.CA()
    trusted = ssl.create_default_context()
    ours.configure_trust(trusted)
    for number in range(tries):
        way = TLS_WAYS[number] if number < len(TLS_WAYS) else rng.choice(TLS_WAYS)
        server = _Tls(way, theirs if way == "of an unknown authority" else ours)
        # Only the right one is waited for: a busy machine takes seconds to shake hands.
        transport = HttpTransport(timeout=30.0 if way == "as it should be" else 1.0, tls=trusted)
        request = Request(
            method="POST",
            address=f"https://127.0.0.1:{server.port}/x",
            headers={"X-Key": KEY},
            body=b"abc",
        )
        try:
            came = transport.send(request)
            ended = "answered" if came.status == 200 and not came.fault else "faulty"
        except NoAnswer as error:
            ended = "none"
            if KEY in str(error) or not str(error):
                wrong[f"{way}: said {error}"] = 1
        except Exception as error:
            ended = f"raised {type(error).__name__}"
        server.close()
        right = "answered" if way == "as it should be" else "none"
        if ended != right:
            wrong[f"{way}: {ended}"] = wrong.get(f"{way}: {ended}", 0) + 1
        if (
            right == "none"
            and way not in ("cut in the answer", "plain in the middle")
            and any(KEY.encode() in one for one in server.read)
        ):
            wrong[f"{way}: it got the key"] = 1
    return tries, wrong


# -- clocks ----------------------------------------------------------------------------------------


def clock_attack(tries, seed=0):
    """Send while the wall's clock jumps by years, back and forth: each image is asked for once, and found."""
    rng, wrong = random.Random(seed), {}
    for number in range(tries):
        with tempfile.TemporaryDirectory() as home:
            ledger = f"{home}/l.ledger"
            jumping = lambda: rng.choice((0.0, 1.0, 1.9e9, 4e9, 1.7e9 + rng.uniform(-1e8, 1e8)))  # noqa: E731
            transport = FakeTransport(
                lambda r: (
                    answer({}, 429, Retry_After=rng.choice(("0", "Thu, 01 Jan 1970 00:00:00 GMT")))
                    if rng.random() < 0.1
                    else ANSWER
                )
            )
            plan = make_plan(description(), gather(pictures(20)))
            means = Means(transport=transport, wall=jumping, sleep=lambda _: None)
            try:
                sent = Sending(plan, ledger, Key(KEY, "t"), means=means).run()
            except DotLedgerError as error:
                wrong[f"{number}: {error}"] = 1
                continue
            found = len(findings_of(ledger, kinds=["label"]).image.used())
            if (sent.outcomes["label"]["found"], found) != (20, 20):
                wrong[f"{number}: {sent.outcomes['label']}"] = 1
    return tries, wrong


# -- processes that are stopped, with a ledger that is a file ---------------------------------------


def stop_attack(tries, seed=0, images=60):
    """Stop a sender and start another on the same file: it waits, says for whom, and nothing is paid twice."""
    rng, wrong = random.Random(seed), {}
    for number in range(tries):
        with tempfile.TemporaryDirectory() as home:
            place = Place(home, images, pause=0.02, name=f"halt-{seed}-{number}")
            first = place.start()
            while (
                len(place.server.answered) < 1 + rng.randrange(images // 2) and first.poll() is None
            ):
                time.sleep(0.005)
            first.send_signal(signal.SIGSTOP)
            second = place.start(folder=rng.choice(("images", "others")))
            told = ""  # until it says that it waits: a busy machine takes seconds to start it
            while "waiting: process" not in told and (line := second.stderr.readline()):
                told += line
            time.sleep(rng.uniform(0.1, 1.0))
            if second.poll() is not None:
                wrong[f"{number}: the other did not wait"] = 1
            first.send_signal(signal.SIGCONT)
            said = [process.communicate(timeout=120)[1] for process in (first, second)]
            told += said[1]
            if "waiting: process" not in told or any("Traceback" in one for one in (*said, told)):
                wrong[f"{number}: said {told[-120:]!r}"] = 1
            asked = [n for n, _ in place.server.answered]
            if len(asked) != len(set(asked)) or len(set(asked)) != images:
                wrong[f"{number}: {len(asked)} calls for {len(set(asked))} images"] = 1
            if bad := wrong_images(Path(home) / "l.ledger", images, 1):
                wrong[f"{number}: {bad} wrong"] = 1
            place.close()
    return tries, wrong


# -- disks -----------------------------------------------------------------------------------------


def disk_attack(tries, seed=0, images=120):
    """Let a small disk fill in the middle of a batch: what was paid for is found again once there is room."""
    rng, wrong = random.Random(seed), {}
    for number in range(tries):
        with tempfile.TemporaryDirectory() as home:
            room = rng.randrange(1_400, 4_000)
            mounted = subprocess.run(
                ["mount", "-t", "tmpfs", "-o", f"size={room}k", "tmpfs", home],
                check=False,
                capture_output=True,
            )
            if mounted.returncode:
                return 0, {"no small disk can be made here": 0}
            try:
                problem = _filled(Path(home), rng, images)
            finally:
                subprocess.run(["umount", "-l", home], check=False, capture_output=True)
            if problem:
                wrong[f"{number} ({room} kB): {problem}"] = 1
    return tries, wrong


def _filled(home, rng, images):
    seen = []

    def reply(request):
        number = number_of(request)
        seen.append(number)
        noise = os.urandom(30_000).hex()  # threads share no generator
        return answer({**ANSWER, "noise": noise, "tags": [{"name": f"n-{number}"}]})

    options = {"ledger": home / "l.ledger", "key": KEY}
    for _ in range(60):
        try:
            sent = send(pictures(images), description(), transport=FakeTransport(reply), **options)
        except DotLedgerError as error:
            lost = getattr(error, "lost", None)
            if lost:
                return f"lost {lost[:3]}"
            if (
                "room" not in str(error)
                and "full" not in str(error)
                and "wait in" not in str(error)
            ):
                return f"said {error}"
        except OSError as error:
            return f"raised {error!r}"
        else:
            if not sent.pending:
                break
        now = os.statvfs(home)
        size = now.f_blocks * now.f_frsize // 1024 + rng.randrange(300, 1_500)
        subprocess.run(["mount", "-o", f"remount,size={size}k", str(home)], check=True)
    else:
        return "never done"
    twice = len(seen) - len(set(seen))
    found = findings_of(home / "l.ledger", kinds=["label"])
    right = sum(
        f"p-{label[2:]}.jpg" == name
        for name, label in zip(found.image.values(), found.label.values())
    )
    return (
        f"{twice} paid twice" if twice else "" if right == images else f"{right} right of {images}"
    )
