"""Services whose answers name addresses that cannot or must not be followed, in every place for one."""

import json
import random
import tempfile
from pathlib import Path
from unittest import mock

from dotledger import findings_of, send
from dotledger.sending.batch.batch_sending import Sending
from dotledger.services.service_description import parse_description
from dotledger.testing import FakeTransport, NoAnswer, Response
from tests.sending.helpers import ANSWER, TEXT, failures_of, number_of, pictures

HOSTILE = (
    "http://[::1", "http://[::1]/", "file:///etc/passwd", "http://bell.example:99999/x", "https://",
    "http://127.0.0.1/x", "http://localhost:631/", "http://169.254.169.254/latest", "gopher://a/x",
    "http://10.0.0.1/x", "http://192.168.1.1:8080/", "http://[fe80::1]/", "http://0/", "http://2130706433/",
    "http://elsewhere.example/x", "//elsewhere.example/x", "http://bell.example@elsewhere.example/x",
    "http://bell.example.elsewhere.example/", "http://bell.example\\@elsewhere.example/", "x" * 70000,
    "http://bell.example:8080/x", "https://bell.example\r\nX: y", "data:text/plain,x", "http://\u2100.example/",
    "http://xn--/", "javascript:alert(1)", " http://bell.example/x", "http://allowed.example:1/x", "", 7, None, [], {},
)  # fmt: skip
UNREACHABLE = "http://allowed.example/closed"
PLACES = {
    "header": '[call.job]\nheader = "Location"\nstate = "state"\ndone = ["done"]\nevery = 0.001\n',
    "address": '[call.job]\naddress = "at"\nstate = "state"\ndone = ["done"]\nevery = 0.001\n',
    "result": '[call.job]\nid = "id"\npath = "/jobs/{id}"\nstate = "state"\ndone = ["done"]\nresult = "at"\nevery = 0.001\n',
    "next": '[call.more]\nnext = "at"\n',
    "upload": 'body = "address"\nimage_field = "picture"\n[call.bring]\npath = "/files"\nid = "id"\nto = "at"\n',
}


def described(place):
    """A service at bell.example that may lead on to allowed.example."""
    text = TEXT.replace("http://127.0.0.1:1/{region}", "https://bell.example/{region}")
    text = text.replace('path = "/look"\n', f'path = "/look"\n{PLACES[place]}')
    return parse_description(
        text.replace("[connect.key]", 'hosts = ["allowed.example"]\n[connect.key]')
    )


class Service:
    """Accepts every image; what it says of the odd ones names a hostile address."""

    def __init__(self, place, hostile, odd):
        self.place, self.hostile, self.odd = place, hostile, odd
        self.paid, self.wrong, self.images = 0, [], {}

    def __call__(self, request):
        home = "https://bell.example/north/"
        if not request.address.startswith(home):
            if request.address != UNREACHABLE:
                self.wrong.append(request.address)
            raise NoAnswer("nothing listens", trouble="unreachable")
        path = request.address.removeprefix(home)
        if path.startswith("good"):
            return self.said({**ANSWER, "state": "done"})
        return getattr(self, path.partition("/")[0])(request, path)

    def where(self, number):
        return self.hostile if number in self.odd else "good"

    @staticmethod
    def said(document, status=200, **headers):
        return Response(status=status, headers=headers, body=json.dumps(document).encode())

    def files(self, request, _):
        number = self.images.setdefault(len(self.images), len(self.images))
        return self.said({"id": f"i{number}", "at": self.where(number)})

    def look(self, request, _):
        self.paid += 1
        number = 0 if self.place == "upload" else number_of(request)
        where = self.where(number)
        if self.place == "header":
            return self.said({}, 202, location=where if isinstance(where, str) else "")
        if self.place == "address":
            return self.said({"state": "working", "at": where})
        if self.place == "result":
            return self.said({"state": "working", "id": number})
        return self.said({**ANSWER, "at": where} if where != "good" else ANSWER)

    def jobs(self, _, path):
        where = self.where(int(path.rpartition("/")[2]))
        if where == "good":
            return self.said({**ANSWER, "state": "done"})
        return self.said({"state": "done", "at": where})


def attack(tries, seed=0):
    """Send five images, one or two of them with a hostile address, three times; count what went wrong."""
    rng, wrong = random.Random(seed), {}
    every = [(place, hostile) for place in PLACES for hostile in (*HOSTILE, UNREACHABLE)]
    for number in range(tries):
        place, hostile = every[number % len(every)] if tries >= len(every) else rng.choice(every)
        service = Service(place, hostile, set(rng.sample(range(5), rng.choice((1, 1, 2)))))
        try:
            with mock.patch.object(Sending, "_nap", return_value=None):  # no second is waited
                problem = _attacked(service)
        except Exception as error:
            problem = f"{type(error).__name__}: {error}"
        if problem:
            wrong[f"{place} {hostile!r:.60}: {problem}"] = 1
    return tries, wrong


def _attacked(service):
    with tempfile.TemporaryDirectory() as home:
        ledger = Path(home) / "l.ledger"
        options = {"ledger": ledger, "key": "k-secret"}
        for again in ((), (), ("failed",)):
            transport = FakeTransport(service)
            paid = service.paid
            sent = send(
                pictures(5), described(service.place), transport=transport, again=again, **options
            )
            if sent.pending:
                return f"{sent.pending} pending: {sent.stopped_because}"
            if service.paid > paid and (paid and not again):
                return "paid again by a run that only goes on"
        found = len(findings_of(ledger, kinds=["label"]).image.used())
        reasons = [row[3] for row in failures_of(ledger)]
        if found < 5 - len(service.odd):
            return f"only {found} found: {reasons}"
        if any(not reason.isprintable() or len(reason) > 600 for reason in reasons):
            return "a reason that is no line"
        return f"asked {service.wrong[:3]}" if service.wrong else ""
