"""Requests signed by a rule, with services that check every signature, and their wrong twins."""

import base64
import email.utils
import hashlib
import hmac
import time
from urllib.parse import parse_qs, urlsplit

from dotledger import send, try_call
from dotledger.errors import ConnectError, DescriptionError, KeyRefused
from dotledger.services.description_trust import facts_of
from dotledger.services.message_rules import Request
from dotledger.services.redaction import Key, Secrets
from dotledger.services.request_signing import signed, signed_by_rule
from dotledger.services.service_clock import ServiceClock
from dotledger.services.service_description import parse_description
from dotledger.testing import FakeClock
from tests.sending.helpers import (
    ANSWER,
    Handler,
    InFolder,
    description,
    failures_of,
    picture,
    pictures,
    served,
)

NOW = 1_900_000_000
SEDGE = """
[connect.signing]
text = "{method}\\n{path}\\n{body.sha256.hex}\\n{time}\\n{nonce}"
[connect.signing.headers]
X-Client = "{client}"
X-Time = "{time}"
X-Nonce = "{nonce}"
Authorization = "Sedge {signature}"
"""
TARN = """
[connect.signing]
hash = "sha512"
text = "{header.x-when} {target} {body.md5.base64}"
secret = "tarn{secret}"
steps = ["{date}", "{region}"]
time = "compact"
written = "base64url"
headers = { X-When = "{time}" }
query = { who = "{client}", sign = "{signature}" }
"""


def described(port, rule, *changes):
    """The little service, signed by a rule."""
    return description(
        ("127.0.0.1:1/{region}", f"127.0.0.1:{port}/{{region}}"),
        ('place = "header"\nname = "X-Key"', 'place = "signed"'),
        ("[[call]]", f"{rule}[[call]]"),
        *changes,
    )


class Sedge(Handler):
    """Checks what is signed by itself; its clock may be `ahead`, and refuses by `status`."""

    ahead, status, dated, nonces = 0, 401, True, ()

    def date_time_string(self, timestamp=None):
        return super().date_time_string(time.time() + self.ahead)

    def send_header(self, name, value):
        if name != "Date" or self.dated:
            super().send_header(name, value)

    def asked(self):
        body, told = self.body(), self.headers
        path = urlsplit(self.path).path
        text = f"{self.command}\n{path}\n{hashlib.sha256(body).hexdigest()}\n{told['X-Time']}\n{told['X-Nonce']}"
        right = hmac.new(b"s3cret", text.encode(), "sha256").hexdigest()
        late = abs(time.time() + self.ahead - int(told["X-Time"])) > 60
        known = told["X-Client"] == "walker" and told["X-Nonce"] not in self.nonces
        well = known and not late and told["Authorization"] == f"Sedge {right}"
        self.seen.append(well)
        type(self).nonces = (*self.nonces, told["X-Nonce"])
        if well:
            return self.reply(ANSWER)
        self.send_response(self.status)
        self.send_header("Content-Length", "0")
        self.end_headers()
        return None


class Tarn(Handler):
    def asked(self):
        body, when = self.body(), self.headers["X-When"]
        address = urlsplit(self.path)
        told = parse_qs(address.query)
        signing = b"tarns3cret"
        for step in (when[:8], "north"):
            signing = hmac.new(signing, step.encode(), "sha512").digest()
        digest = base64.b64encode(hashlib.md5(body).digest()).decode()
        text = f"{when} {address.path} {digest}"
        right = base64.urlsafe_b64encode(hmac.new(signing, text.encode(), "sha512").digest())
        well = told["who"] == ["walker"] and told["sign"] == [right.decode()]
        self.seen.append(well)
        self.reply(ANSWER if well else {"no": 1})


class Signing(InFolder):
    def sent(self, handler, rule, *changes, count=3, key="walker:s3cret", **server):
        port, own = served(self, type("Set", (handler,), server))
        service = described(port, rule, *changes)
        return send(pictures(count), service, ledger=self.path, key=key), own.seen

    def test_two_services(self):
        """Each checks by itself; hex and base64, header and query, derived keys, settings."""
        for handler, rule in ((Sedge, SEDGE), (Tarn, TARN)):
            self.path.unlink(missing_ok=True)
            with self.subTest(handler.__name__):
                done, seen = self.sent(handler, rule)
                self.assertEqual((done.failed, seen), (0, [True] * 3))

    def test_wrong_twins(self):
        """Every rule that is wrong ends at the first call, by the service's own refusal."""
        for old, new in (
            ("{body.sha256.hex}", "{body.sha1.hex}"),
            ("{path}", "{target}?"),
            ("[connect.signing]", '[connect.signing]\nhash = "sha1"'),
            ("[connect.signing]", '[connect.signing]\ntime = "milliseconds"'),
            ("[connect.signing]", '[connect.signing]\nwritten = "base64"'),
            ("Sedge {", "Sedge: {"),
        ):
            self.path.unlink(missing_ok=True)
            with self.subTest(new):
                self.assertIn(old, SEDGE)
                done, seen = self.sent(Sedge, SEDGE.replace(old, new), count=4)
                self.assertIn("does not accept the key (401)", done.stopped_because)
                self.assertNotIn(True, seen)
        for key in ("walker:other", "other:s3cret"):
            self.path.unlink(missing_ok=True)
            done, _ = self.sent(Sedge, SEDGE, key=key)
            self.assertIn("401", done.stopped_because)

    def test_another_clock(self):
        """A clock that is 40 minutes off costs one call more for each that was under way."""
        for status in (400, 401, 403):
            for ahead in (2400, -2400):
                self.path.unlink(missing_ok=True)
                with self.subTest(status=status, ahead=ahead):
                    done, seen = self.sent(Sedge, SEDGE, count=20, ahead=ahead, status=status)
                    self.assertEqual((done.failed, done.pending, seen.count(True)), (0, 0, 20))
                    self.assertLessEqual(seen.count(False), 4)

    def test_a_clock_that_is_not_the_reason(self):
        """A wrong secret stays refused; a service without a date says so; a wrong date is undone."""
        done, seen = self.sent(Sedge, SEDGE, ahead=2400, key="walker:no")
        self.assertIn("401", done.stopped_because)
        self.assertNotIn(True, seen)
        self.path.unlink()
        done, _ = self.sent(Sedge, SEDGE, ahead=2400, dated=False)
        self.assertIn("it sends no Date", done.stopped_because)

    def test_a_refusal_and_a_wrong_date(self):
        """A service that accepts our time although its date is wrong: a refused image is asked once."""

        class Forbids(Sedge):
            def date_time_string(self, timestamp=None):
                return Handler.date_time_string(self, time.time() + 9000)

            def asked(self):
                if len(self.seen) == 3:
                    self.body()
                    self.seen.append(False)
                    self.send_response(403)
                    self.send_header("Content-Length", "0")
                    return self.end_headers()
                return super().asked()

        one_by_one = ("at_once = 4", "at_once = 1")
        for dated in (True, False):
            self.path.unlink(missing_ok=True)
            done, seen = self.sent(Forbids, SEDGE, one_by_one, count=8, dated=dated)
            self.assertEqual(
                (done.failed, done.pending, len(seen), seen.count(False)), (2, 0, 8, 1)
            )
            reason = str(failures_of(self.path)[0])
            self.assertIn("403", reason)
            self.assertNotIn("Date", reason, "the clock has nothing to do with it")

    def test_the_clock(self):
        """Taken over after a refusal, by whichever thread comes first; undone where it was no help."""
        wall = FakeClock()
        wall.now = NOW
        clock = ServiceClock(wall)

        def date(ahead):
            return {"date": email.utils.formatdate(NOW + ahead, usegmt=True)}

        self.assertFalse(clock.corrected({}, 0.0))
        self.assertFalse(clock.corrected({"date": "yesterday"}, 0.0))
        self.assertFalse(clock.corrected(date(1), 0.0))
        self.assertTrue(clock.corrected(date(600), 0.0))
        self.assertTrue(clock.corrected(date(600), 0.0), "another thread signed before that")
        self.assertEqual(clock.now(), NOW + 600)
        clock.back_to(0.0)
        self.assertEqual(clock.now(), NOW)
        clock.corrected(date(-600), 0.0)
        clock.proved(date(-600), -600.0)
        clock.back_to(0.0)
        self.assertEqual(clock.now(), NOW - 600, "others were accepted with it")
        self.assertFalse(clock.corrected(date(-600), -600.0))
        self.assertTrue(clock.corrected(date(0), -600.0), "a clock that was set meanwhile")

    def test_every_step_is_signed(self):
        """A job is asked for with a signature of its own; a host elsewhere gets none."""

        class Later(Sedge):
            def reply(self, content=b"{}", length=None, **headers):
                done = self.command == "GET"
                job = {"job": {"id": "7", "state": "done" if done else "working"}}
                super().reply({**job, **(content if done else {})}, length, **headers)

        job = '[call.job]\nid = "job.id"\npath = "/jobs/{id}"\nstate = "job.state"\ndone = ["done"]\nevery = 0.05\n'
        done, seen = self.sent(Later, SEDGE, ('path = "/look"\n', f'path = "/look"\n{job}'))
        self.assertEqual((done.failed, done.pending, seen), (0, 0, [True] * 6))

    def test_how_it_is_shown(self):
        """A signer is called one, and never "none needed"; nothing is run to say so."""
        by_code = description(
            ('place = "header"\nname = "X-Key"', 'place = "signed"'),
            ("env:BELL_KEY", "call:no_such_module:sign"),
        )
        by_rule = described(1, SEDGE)
        for service, shown, key in (
            (by_code, "call:no_such_module:sign", "the signer's own"),
            (by_rule, "HMAC-SHA256, by [connect.signing]", "env:BELL_KEY"),
        ):
            lines = "\n".join(facts_of(service).lines())
            self.assertIn(f"Signer: {shown}", lines)
            trial = try_call(picture(1), service, dry=True)
            self.assertEqual(trial.signer, shown)
            self.assertIn(key, trial.key)
            for text in (lines, trial.key):
                self.assertNotIn("none needed", text)
        self.assertRegex("\n".join(trial.request), r"X-Client: \S*•••")

    def test_the_standard_s_own_example(self):
        """Test case 2 of RFC 4231."""
        rule = parse_rule('text = "what do ya want for nothing?"\nheaders = { S = "{signature}" }')
        made = self.by_rule(rule, Key("a:Jefe", "t"))
        self.assertEqual(
            made.headers["S"], "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"
        )

    def by_rule(self, rule, key):
        request = Request(method="POST", address="https://h.example/a?b=2&a=1", body=b"x")
        more = {"now": 1_900_000_000.5, "nonce": "n", "settings": {}, "secrets": Secrets()}
        return signed_by_rule(request, rule, key, **more)

    def test_parts(self):
        for part, told in (
            ("{method} {host} {path}", "POST h.example /a"),
            ("{query} {query.sorted} {target}", "b=2&a=1 a=1&b=2 /a?b=2&a=1"),
            ("{time} {date} {nonce} {client}", "1900000000 20300317 n a"),
        ):
            rule = parse_rule(f'text = ""\nheaders = {{ S = "{{signature}}", T = "{part}" }}')
            self.assertEqual(self.by_rule(rule, Key("a:b", "t")).headers["T"], told)

    def test_refused(self):
        """What cannot be signed, by name; a secret never goes out."""
        sign = 'headers = { S = "{signature}" }'
        for rule, told in (
            (f'text = "{{signature}}"\n{sign}', "comes of the text"),
            (f'text = "{{methed}}"\n{sign}', "did you mean 'method'"),
            (f'text = "{{body.sha3.hex}}"\n{sign}', "body.sha256.hex"),
            ('text = ""\nheaders = { S = "{time}" }', "holds {signature}"),
            ('text = ""\nheaders = { S = "{signature}{secret}" }', "only signs"),
            (f'text = ""\nhash = "md4"\n{sign}', "sha256"),
        ):
            with self.subTest(told), self.assertRaisesRegex(DescriptionError, told):
                parse_rule(rule)
        for rule, key, told in (
            (f'text = ""\n{sign}', "only-one", "no secret to sign with"),
            (f'text = ""\nsecret_written = "base64"\n{sign}', "a:h?llo-there", "not base64"),
            (f'text = "{{header.x-no}}"\n{sign}', "a:b", "a header that the request does not have"),
        ):
            with self.subTest(told), self.assertRaisesRegex(ConnectError, told) as caught:
                self.by_rule(parse_rule(rule), Key(key, "t"))
            self.assertNotIn("h?llo", str(caught.exception))
        self.assertTrue(issubclass(KeyRefused, ConnectError))

    def test_a_signer_that_fails(self):
        """The error names the signer, and what is missing; never what it was to sign with."""
        request = Request(method="POST", address="https://h.example")

        def by_word(_):
            raise ValueError("hush-hush")

        def without(_):
            return {"X": {}["SEDGE_SECRET"]}

        for signer, told in ((by_word, "ValueError in by_word"), (without, "KeyError 'SEDGE_SEC")):
            with self.assertRaises(ConnectError) as caught:
                signed(request, signer, Secrets())
            self.assertIn(told, str(caught.exception))
            self.assertIn("test_request_signing", str(caught.exception))
            self.assertNotIn("hush", str(caught.exception))


def parse_rule(text):
    """The rule of a description whose signing section holds a text."""
    key = '[connect.key]\nplace = "signed"\nsources = ["env:K"]\n[connect.signing]\n'
    head = 'service = "s"\n[connect]\naddress = "https://h.example"\n'
    call = '[[call]]\nname = "c"\nkinds = ["label"]\npath = "/"\n'
    read = '[[read]]\nkind = "label"\neach = "t[]"\nlabel = "n"\n'
    return parse_description(f"{head}{key}{text}\n{call}{read}").connect.signing
