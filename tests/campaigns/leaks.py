"""Ways to make a key stand where it must not, and one search for it everywhere."""

import base64
import io
import json
import logging
import tempfile
import threading
import traceback
from contextlib import redirect_stderr, redirect_stdout
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from urllib.parse import quote

from dotledger import gather
from dotledger.ledger.answer_queries import raw_answers
from dotledger.ledger.batch_queries import failures, find_batch
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.sending.batch.batch_sending import Sending
from dotledger.sending.batch.sending_dependencies import Means
from dotledger.sending.policies.retrying import Patience
from dotledger.sending.policies.send_plan import make_plan
from dotledger.sending.trial_call import try_call
from dotledger.services.credentials import find_key
from dotledger.services.service_description import parse_description
from tests.sending.helpers import ANSWER, TEXT, picture

CLIENT, SECRET = "lantern-client-7", "s3cr3t/walk+of=evening&more"
KEY = f"{CLIENT}:{SECRET}"
PARTS = (KEY, SECRET, CLIENT)

PLACES = {
    "header": 'place = "header"\nname = "X-Key"\nprefix = "Token "',
    "query": 'place = "query"\nname = "key"',
    "basic": 'place = "basic"',
    "bearer": 'place = "bearer"',
    "token": 'place = "token"',
    "signed": 'place = "signed"',
}


def forms():
    """The key and its halves as they may be found: plain and in every usual writing."""
    found = set()
    for part in PARTS:
        coded = base64.b64encode(part.encode()).decode().rstrip("=")
        found |= {part, coded, quote(part, safe=""), json.dumps(part)[1:-1]}
    return {form for form in found if len(form) >= 12}


def _escaped(text):
    return "".join(f"\\u{ord(letter):04x}" for letter in text)


def _percent(text):
    return "".join(f"%{ord(letter):02x}" for letter in text)


ECHOES = {
    "body": lambda k: (200, {}, json.dumps({**ANSWER, "you": k})),
    "label": lambda k: (200, {}, json.dumps({"tags": [{"name": k}], "things": []})),
    "escaped": lambda k: (200, {}, '{"tags": [{"name": "' + _escaped(k) + '"}], "things": []}'),
    "slashes": lambda k: (200, {}, json.dumps({"e": k}).replace("/", "\\/")),
    "percent": lambda k: (400, {}, json.dumps({"at": "http://x/?k=" + _percent(k)})),
    "percent location": lambda k: (302, {"Location": "http://x/a?k=" + quote(k)}, ""),
    "location path": lambda k: (302, {"Location": f"http://x/{k}/y#{k}"}, ""),
    "base64": lambda k: (400, {}, json.dumps({"got": base64.b64encode(k.encode()).decode()})),
    "secret half": lambda k: (400, {}, json.dumps({"bad secret": k.partition(":")[2]})),
    "client half": lambda k: (403, {}, json.dumps({"bad client": k.partition(":")[0]})),
    "content type": lambda k: (200, {"Content-Type": f"text/{k}"}, "no json"),
    "html": lambda k: (500, {}, f"<p>{k.replace('&', '&amp;')}</p>"),
    "retry after": lambda k: (429, {"Retry-After": k}, ""),
    "error text": lambda k: (401, {}, json.dumps({"error": k, "error_description": k})),
    "cut": lambda k: None,
}


class _Echo(ThreadingHTTPServer):
    daemon_threads = True

    def __init__(self, echo, token):
        super().__init__(("127.0.0.1", 0), _Handler)
        self.echo, self.token = echo, token
        threading.Thread(target=self.serve_forever, args=(0.01,), daemon=True).start()

    def handle_error(self, *_):
        """Cut connections are made on purpose."""


class _Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_POST(self):
        self.rfile.read(int(self.headers.get("Content-Length", 0)))
        if self.path.endswith("/token") and self.server.token == "good":
            made = (200, {}, json.dumps({"access_token": SECRET, "expires_in": 100}))
        else:
            made = ECHOES[self.server.echo](KEY)
        if made is None:
            self.close_connection = True
            return
        status, headers, body = made
        self.send_response(status)
        for name, value in {"Content-Type": "application/json", **headers}.items():
            self.send_header(name, value)
        self.send_header("Content-Length", str(len(body.encode())))
        self.end_headers()
        self.wfile.write(body.encode())

    def log_message(self, *_):
        pass


def _description(place, port):
    text = TEXT.replace("127.0.0.1:1/", f"127.0.0.1:{port}/", 1)
    text = text.replace('place = "header"\nname = "X-Key"', PLACES[place], 1)
    token = f'[connect.token]\naddress = "http://127.0.0.1:{port}/token"\n[[call]]'
    return parse_description(text.replace("[[call]]", token, 1) if place == "token" else text)


def _signer(_):
    return {"Authorization": f"Signature {KEY}", "X-Part": SECRET}


def _failing_signer(_):
    raise ValueError(f"cannot sign with {KEY}")


def _everything_said(place, echo, token, home, signer):
    """Try and send once; return all that was printed, logged, kept or raised."""
    server = _Echo(echo, token)
    service = _description(place, server.server_port)
    options = {"key": KEY, "signer": signer if place == "signed" else None}
    said = io.StringIO()
    handler = logging.StreamHandler(said)
    root = logging.getLogger()
    before = root.level
    root.addHandler(handler)
    root.setLevel(logging.DEBUG)
    path = Path(home) / f"{place}-{echo}-{token}.ledger"
    try:
        with redirect_stdout(said), redirect_stderr(said):
            for dry in (True, False):
                plan = make_plan(service, gather({"a.jpg": picture(1)}))
                print(try_call(plan, picture(1), dry=dry, **options))
            _send(service, path, options, said)
    finally:
        root.removeHandler(handler)
        root.setLevel(before)
        server.shutdown()
        server.server_close()
    kept = b"".join(file.read_bytes() for file in Path(home).glob(f"{path.name}*"))
    return said.getvalue() + _in_the_ledger(path), kept


def _send(service, path, options, said):
    once = Patience(attempts=1, refusals=1, connections=1, renewals=1)
    means = Means(patience=once, signer=options["signer"])
    plan = make_plan(service, gather({"a.jpg": picture(1), "b.jpg": picture(2)}))
    try:
        found = find_key(service, given=options["key"])
        print(Sending(plan, str(path), found, means=means).run())
    except Exception as error:
        trace = traceback.TracebackException.from_exception(error, capture_locals=True)
        # This function's own variables hold the key: what counts is ours below it.
        said.write("".join(line for line in _without_this_file(trace)))


def _without_this_file(trace):
    while trace is not None:
        trace.stack = traceback.StackSummary.from_list(
            [frame for frame in trace.stack if "campaigns" not in frame.filename]
        )
        yield from trace.format(chain=False)
        trace = trace.__cause__ or trace.__context__


def _in_the_ledger(path):
    if not path.exists() or not path.stat().st_size:
        return ""
    with LedgerStore(path) as ledger:
        batch = find_batch(ledger)
        answers = [str(answer) for *_, answer in raw_answers(ledger, batch, range(2))]
        return str(failures(ledger, batch)) + "".join(answers)


def attack(places=tuple(PLACES)):
    """Try every place of a key with every echo; return (tries, leaks by where)."""
    wrong, tries, wanted = {}, 0, forms()
    with tempfile.TemporaryDirectory() as home:
        for place in places:
            for echo in ECHOES:
                ways = ("good", "refused") if place == "token" else ("",)
                ways = ("", "failing") if place == "signed" else ways
                for way in ways:
                    tries += 1
                    signer = _failing_signer if way == "failing" else _signer
                    said, kept = _everything_said(place, echo, way, home, signer)
                    for form in wanted:
                        if form in said or form.encode() in kept:
                            where = f"{place} {way}, {echo}".replace(" ,", ",")
                            wrong[where] = form
    return tries, wrong
