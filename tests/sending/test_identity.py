"""What was asked is known by what goes over the wire: only a change of the request is paid for."""

import io

from PIL import Image

from dotledger import findings_of, open_service
from dotledger.errors import DescriptionError
from dotledger.images.image_gathering import gather
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.sending.cost_forecast import forecast
from dotledger.sending.policies.send_plan import make_plan
from dotledger.testing import FakeTransport, Response
from tests.sending.helpers import ANSWER, InFolder, description, picture, pictures

ASK = (
    'path = "/look"\n',
    'path = "/look"\nask = { place = "query", name = "want", words = { label = "t", object = "o" } }\n',
)
REGION = ('settings = { region = "north" }', 'settings = { region = "south" }')
SAME = (
    'settings = { region = "north" }',
    'settings = { region = "north" }\nindifferent = ["region"]',
)


class Paid(InFolder):
    def calls(self, *changes, images=None, **options):
        """How many calls a sending makes, and how many were forecast."""
        service = description(*changes)
        images = images or pictures(3)
        with LedgerStore(self.path) as ledger:
            told = forecast(make_plan(service, gather(images), **options), ledger, month="2026-11")
        sent, transport = self.send(images, [ANSWER], service, **options)
        self.assertEqual((sent.pending, sent.failed), (0, 0))
        self.assertEqual((told.calls, told.least_calls), (len(transport.requests),) * 2)
        return len(transport.requests)

    def test_what_changes_no_request(self):
        """Limits that touch no image, prices, rules, rates and another port are not paid for."""
        self.assertEqual(self.calls(), 3)
        for change in (("min_side = 8", "min_side = 8\nmax_side = 24"), ("min_side = 8", "min_side = 4"), ('formats = ["jpeg"]', 'formats = ["jpeg", "png"]'),
                       ("per_1000 = 10.0", "per_1000 = 99.0"), ("at_once = 4", "at_once = 2"), ("127.0.0.1:1/", "localhost:7/"), ('each = "tags[]"', 'each = "tags[]"\noptional = true')):  # fmt: skip
            with self.subTest(change):
                self.assertEqual(self.calls(change), 0)
        self.assertEqual(len(findings_of(self.path)), 6)

    def test_only_what_is_touched(self):
        """A lower limit of size sends the images again that it shrinks, and no others; with their own boxes."""
        images = {"small.jpg": picture(1), "large.jpg": picture(2, (48, 32))}
        self.assertEqual(self.calls(images=images), 2)
        self.assertEqual(
            self.calls(("min_side = 8", "min_side = 8\nmax_side = 24"), images=images), 1
        )
        boxes = findings_of(self.path).filter(kind="object")
        self.assertEqual(
            dict(zip(boxes.image.values(), boxes.box.tolist())),
            {"small.jpg": [1, 1, 5, 5], "large.jpg": [2, 2, 10, 10]},
        )

    def test_what_changes_the_request(self):
        """Another path, setting, query, field or round is asked again."""
        self.assertEqual(self.calls(), 3)
        for change in (REGION, ('path = "/look"', 'path = "/see"'), ('path = "/look"', 'path = "/look"\nquery = { model = "2" }'), ('path = "/look"', 'path = "/look"\nheaders = { X-Model = "2" }')):  # fmt: skip
            self.assertEqual(self.calls(change), 3, change)
            self.assertEqual(self.calls(change), 0, change)
        sent, transport = self.send(pictures(3), [ANSWER], round="june")
        self.assertEqual((len(transport.requests), sent.pending), (3, 0))

    def test_a_wider_answer_serves(self):
        """Asked for both kinds: one of them is there; asked for one: the other is not."""
        self.assertEqual(self.calls(ASK, kinds=("label",)), 3)
        self.assertEqual(self.calls(ASK, kinds=("label",)), 0)
        self.assertEqual(self.calls(ASK, kinds=("label", "object")), 3)
        self.assertEqual(self.calls(ASK, kinds=("object",)), 0)
        self.assertEqual(set(findings_of(self.path).kind.used()), {"object"})

    def test_indifferent_settings(self):
        """A setting that is said to change no answer is not paid for; one that is not there is refused."""
        self.assertEqual(self.calls(SAME), 3)
        _, transport = self.send(
            pictures(3), [ANSWER], description(SAME), settings={"region": "south"}
        )
        self.assertEqual(len(transport.requests), 0)
        with self.assertRaisesRegex(DescriptionError, "did you mean 'region'"):
            description((SAME[0], SAME[1].replace('["region"]', '["regio"]')))

    def test_files_that_become_the_same(self):
        """Two files whose prepared bytes are equal are one call, also where it fails; both are settled."""
        png = ('formats = ["jpeg"]', 'formats = ["png"]')
        buffers = []
        for comment in (b"one", b"two"):
            buffer = io.BytesIO()
            Image.new("RGB", (24, 16), "navy").save(buffer, "JPEG", comment=comment)
            buffers.append(buffer.getvalue())
        images = {"a.jpg": buffers[0], "b.jpg": buffers[1]}
        self.assertEqual(self.calls(png, images=images), 1)
        self.assertEqual(len(findings_of(self.path, kinds=["label"]).image.used()), 2)
        self.path = self.folder / "other.ledger"
        refused = Response(status=422, headers={}, body=b"{}")
        sent, transport = self.send(images, [refused], description(png))
        self.assertEqual((len(transport.requests), sent.outcomes["label"]["failed"]), (1, 2))

    def test_in_a_running_program(self):
        """A service that is open for single images knows the same."""
        self.calls(images={"a.jpg": picture(1)})
        transport = FakeTransport([ANSWER])
        wide = description(("min_side = 8", "min_side = 8\nmax_side = 24"))
        with open_service(wide, self.path, key="k", transport=transport, before=True) as bell:
            self.assertEqual(
                (bell.look(picture(1)).paid, bell.look(picture(7)).paid), (False, True)
            )
        self.assertEqual(self.calls(images={"b.jpg": picture(7)}), 0)
