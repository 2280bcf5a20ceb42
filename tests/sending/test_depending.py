"""Calls that wait for what another one found, over HTTP: asked once where wanted, else said why not."""

from dotledger import findings_of, open_service, send
from dotledger.api.rereading import reread
from dotledger.errors import DescriptionError
from dotledger.images.image_gathering import gather
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.finding_queries import notes_of
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import usage
from dotledger.sending.cost_forecast import forecast
from dotledger.sending.policies.send_plan import make_plan
from tests.sending.calls.test_multi_step_calls import Methods, Stepped
from tests.sending.helpers import number_in, picture, pictures

FACES = """[[call]]
name = "faces"
kinds = ["face"]
path = "/faces"
price = { per_1000 = 20.0 }
[call.only_if]
kind = "object"
labels = ["Person"]
least = 0.5
[limits]"""
READ = """[[read]]
kind = "face"
each = "faces[]"
always = "face"
confidence = { at = "sure" }
box = { at = "box", order = ["x0", "y0", "x1", "y1"] }
[[read]]"""
BOX = [1, 1, 5, 5]


class Street(Methods):
    """A person in images of an even number, unsure in the fourth; the fifth cannot be looked at."""

    broken = False

    def post(self):
        number = number_in(self.body())
        self.seen.append((self.path.rpartition("/")[2], number))
        if self.broken and number == 5 and self.path.endswith("look"):
            return self.reply(b"not today")
        if self.path.endswith("faces"):
            return self.reply({"faces": [{"sure": 0.8, "box": BOX}]})
        sure = 0.4 if number == 4 else 0.9
        things = [{"name": "bell" if number % 2 else "person", "sure": sure, "box": BOX}]
        return self.reply({"tags": [], "things": things})


class Depending(Stepped):
    def street(self, *changes, **facts):
        return self.serving(Street, ("[limits]", FACES), ("[[read]]", READ), *changes, **facts)

    def calls(self, own, name):
        return sorted(number for path, number in own.seen if path == name)

    def foretold(self, service, images):
        with LedgerStore(self.path) as ledger:
            return forecast(make_plan(service, gather(images)), ledger, month="2026-11")

    def test_only_where_wanted(self):
        """Images 0 and 2 are asked for faces, the others not; each call has its price, paid once."""
        service, own = self.street()
        images = {**pictures(6), "twin-0.jpg": picture(0), "twin-1.jpg": picture(1)}
        told = self.foretold(service, images)
        self.assertEqual((told.calls, told.least_calls, round(told.money, 6)), (12, 6, 0.18))
        sent = send(images, service, ledger=self.path, key="k")
        self.assertEqual(
            (self.calls(own, "look"), self.calls(own, "faces")), ([0, 1, 2, 3, 4, 5], [0, 2])
        )
        self.assertEqual(sent.outcomes["face"], {**sent.outcomes["face"], "found": 3, "empty": 5})
        self.assertEqual((sent.calls, round(sent.money, 6)), (8, 0.1))
        self.assertEqual(sent.not_asked, {"face": 5})
        faces = findings_of(self.path).filter(kind="face")
        self.assertEqual(int(faces.blank.sum()), 5, "left out is found empty, and measured so")
        with LedgerStore(self.path) as ledger:
            [month] = usage(ledger)
        self.assertEqual((month.calls, round(month.money, 6)), (8, 0.1))
        told = self.foretold(service, pictures(7))
        self.assertEqual((told.answered, told.to_send, told.calls, told.least_calls), (6, 1, 2, 1))
        again = send(
            pictures(6), service, ledger=self.path, key="k", kinds=("face", "label", "object")
        )
        self.assertEqual((again.calls, again.outcomes["face"]["empty"]), (0, 4))
        with LedgerStore(
            self.path
        ) as ledger:  # with a lower threshold image 4 should have been asked
            lower, _ = self.street(("least = 0.5", "least = 0.3"))
            batch = find_batch(ledger, batch=1)
            result = reread(ledger, batch, lower, now=2e9)
            noted = [
                one
                for one in notes_of(ledger, find_batch(ledger, batch=1, reading=result.reading))
                if "not asked" in str(one)
            ]
        self.assertEqual(len(noted), 1)
        self.assertIn("p-4.jpg", str(noted))

    def test_what_is_waited_for_is_asked(self):
        """Only faces are wanted: objects are asked for too, and nothing else."""
        service, own = self.street()
        sent = send(pictures(2), service, ledger=self.path, key="k", kinds="face")
        self.assertEqual(set(sent.outcomes), {"object", "face"})
        self.assertEqual(sorted(own.seen), [("faces", 0), ("look", 0), ("look", 1)])
        self.assertEqual(make_plan(service, gather(pictures(1)), kinds="label").kinds, ("label",))

    def test_the_first_fails(self):
        """Where nothing is known, nothing is asked and nothing called empty; it can be sent again."""
        service, own = self.street(broken=True)
        sent = send({"a.jpg": picture(5)}, service, ledger=self.path, key="k")
        self.assertEqual(sent.outcomes["face"]["failed"], 1)
        self.assertEqual(self.calls(own, "faces"), [])
        own.broken = False
        sent = send({"a.jpg": picture(5)}, service, ledger=self.path, key="k", again="failed")
        self.assertEqual((sent.outcomes["face"]["empty"], sent.outcomes["object"]["found"]), (1, 1))

    def test_stopped_and_resumed(self):
        """A limit in between: what is pending goes out later, and no call twice."""
        service, own = self.street(("at_once = 4", "at_once = 1"))
        for most in (1, 2, 1, None):  # the first stops between the two calls of one image
            sent = send(pictures(6), service, ledger=self.path, key="k", at_most=most)
        self.assertEqual(sent.pending, 0)
        self.assertEqual(
            (self.calls(own, "look"), self.calls(own, "faces")), ([0, 1, 2, 3, 4, 5], [0, 2])
        )

    def test_in_a_running_program(self):
        """The same for single images; the ledger knows what was left out."""
        service, own = self.street()
        for _ in range(2):
            with open_service(service, self.path, key="k", before=True) as street:
                plain, person = street.look(picture(1)), street.look(picture(2))
        self.assertEqual((plain.outcomes["face"], person.outcomes["face"]), ("empty", "found"))
        self.assertEqual(plain.reasons, {"face": "not asked: no object Person of 0.5 or more"})
        self.assertEqual(sorted(own.seen), [("faces", 2), ("look", 1), ("look", 2)])

    def test_what_no_call_before_serves(self):
        """A call cannot wait for a kind that is asked for later, or never."""
        for kind in ("face", "unsafe"):
            with self.assertRaisesRegex(DescriptionError, f"waits for '{kind}', which no call before"):  # fmt: skip
                self.street(('kind = "object"\nlabels', f'kind = "{kind}"\nlabels'))
