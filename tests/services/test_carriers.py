"""Every way an image goes into a request, each to a service that takes it apart by itself."""

import base64
import email
import json
from datetime import UTC, datetime
from urllib.parse import parse_qs

import fsspec

from dotledger import findings_of, send, try_call
from dotledger.errors import DescriptionError
from dotledger.images.image_gathering import gather
from dotledger.sending.batch.batch_sending import Sending
from dotledger.sending.batch.sending_dependencies import Means
from dotledger.sending.policies.send_plan import make_plan
from dotledger.services.redaction import Key
from dotledger.testing import FakeTransport
from tests.sending.helpers import (
    Handler,
    InFolder,
    description,
    failures_of,
    number_in,
    picture,
    pictures,
)
from tests.sending.helpers import served as serve


def parts_of(handler):
    """The parts of a multipart body by name, read by the standard library: [(file name, bytes)]."""
    head = f"Content-Type: {handler.headers['Content-Type']}\r\n\r\n".encode()
    found = {}
    for part in email.message_from_bytes(head + handler.body()).get_payload():
        name = part.get_param("name", header="content-disposition")
        found.setdefault(name, []).append((part.get_filename(), part.get_payload(decode=True)))
    return found


def tags(number):
    return {"tags": [{"name": f"no-{number}"}], "things": []}


class Carriers(InFolder):
    def labels(self, call, handle, images=None, more="", settings="", **options):
        """Send; return the label of each image as read, and what the service took."""

        class Takes(Handler):
            def asked(self):
                self.seen.append(told := handle(self))
                self.reply(told)

        port, own = serve(self, Takes)
        self.path.unlink(missing_ok=True)
        service = description(
            ("127.0.0.1:1/{region}", f"127.0.0.1:{port}"),
            ('region = "north"', f'region = "north"{settings}'),
            ('path = "/look"\n', f'path = "/look"\n{call}\n'),
            ("[limits]", f"{more}\n[limits]"),
        )
        service_options = {"ledger": self.path, "key": "k-secret", **options}
        self.done = send(images or pictures(3), service, **service_options)
        found = findings_of(self.path).filter(kind="label")
        self.answers = own.seen
        named = zip(found.image.values(), found.label.values(), strict=True)
        return {image: label for image, label in named if label}

    def own_labels(self, *given, **more):
        self.assertEqual(
            self.labels(*given, **more), {f"p-{number}.jpg": f"no-{number}" for number in range(3)}
        )

    def test_text_and_forms(self):
        """Base64 as the whole body, and in a field of a form."""
        self.own_labels('body = "base64"', lambda h: tags(number_in(base64.b64decode(h.body()))))
        self.own_labels(
            'body = "form"\nimage_field = "shot"\nform = { most = "5" }',
            lambda h: tags(number_in(base64.b64decode(parse_qs(h.body())[b"shot"][0]))),
        )

    def stored(self):
        store = fsspec.filesystem("memory")
        for number in range(2):
            store.pipe(f"/shots/night/{number}.jpg", picture(number))
        return "memory://shots/night/"

    def test_addresses(self):
        """In a form, in a multipart form, as bucket and name, in a list of requests: untouched."""
        self.addCleanup(lambda: fsspec.filesystem("memory").rm("/shots", recursive=True))
        told = "memory:///shots/night/{}.jpg"
        for call, taken, wanted in (
            ('body = "form-address"\nimage_field = "u"', lambda h: parse_qs(h.body())[b"u"][0].decode(), told),
            ('body = "multipart-address"\nimage_field = "u"', lambda h: parts_of(h)["u"][0][1].decode(), told),
            ('body = "address"\nfields = { from = { in = "{image.bucket}", name = "{image.name}" } }',
             lambda h: json.loads(h.body())["from"], {"in": "shots", "name": "night/{}.jpg"}),
            ('body = "form-address"\nform = { b = "{image.bucket}", n = "{image.name}" }',
             lambda h: parse_qs(h.body())[b"n"][0].decode(), "night/{}.jpg"),
            ('body = "address"\nimage_field = "asks[0].image"\nfields = { asks = [{ want = "all" }] }',
             lambda h: json.loads(h.body())["asks"], [{"want": "all", "image": told}]),
            ('method = "GET"\nbody = "address"\nquery = { n = "{image.name}" }',
             lambda h: parse_qs(h.path.partition("?")[2])["n"][0], "night/{}.jpg"),
        ):  # fmt: skip
            with self.subTest(call):
                seen = []
                self.labels(
                    call,
                    lambda h, taken=taken, seen=seen: seen.append(taken(h)) or tags(0),
                    self.stored(),
                )
                filled = json.dumps(wanted)
                self.assertEqual(
                    sorted(map(json.dumps, seen)),
                    [filled.replace("{}", str(number)) for number in range(2)],
                )

    def test_tried_by_address(self):
        """From Python too, an address goes out as it is, and is no file of this machine."""
        self.addCleanup(lambda: fsspec.filesystem("memory").rm("/shots", recursive=True))
        self.stored()
        service = description(
            ('path = "/look"\n', 'path = "/look"\nbody = "form-address"\nimage_field = "u"\n')
        )
        way = FakeTransport([tags(0)])
        trial = try_call("memory://shots/night/0.jpg", service, key="k-secret", transport=way)
        self.assertTrue(trial.well, trial)
        sent = parse_qs(way.requests[0].body)
        self.assertEqual(sent, {b"u": [b"memory://shots/night/0.jpg"]})

    def test_in_a_list_of_requests(self):
        self.own_labels(
            'body = "json"\nimage_field = "asks[0].image.data"\nfields = { asks = [{ want = ["tags"] }] }',
            lambda h: tags(
                number_in(base64.b64decode(json.loads(h.body())["asks"][0]["image"]["data"]))
            ),
        )

    SEVERAL = 'body = "multipart"\nimages = 3\nimage_field = "shot-{id}"\nform = { "of-{id}" = "nr {id}", all = "x" }'
    IDS = '[envelope]\nimages = "seen[]"\nid = "of"\n'

    def several(self, order, naming, more=None, **also):
        """Several images in one form, answered in another order under ids of some kind."""

        def handle(handler):
            parts = parts_of(handler)
            self.assertEqual(parts["all"], [(None, b"x")])
            found = []
            for field in sorted(name for name in parts if name.startswith("shot-")):
                [(file, data)] = parts[field]
                place = field.removeprefix("shot-")
                self.assertEqual(parts[f"of-{place}"][0][1].decode(), f"nr {place}")
                found.append({"of": naming(place, field, file), **tags(number_in(data))})
            return {"seen": order(found), **also}

        return self.labels(self.SEVERAL, handle, more=more or self.IDS)

    def test_several_in_one_form(self):
        """Whatever the order: told apart by number, field or name of the file."""
        own = {f"p-{number}.jpg": f"no-{number}" for number in range(3)}
        for naming in (
            lambda place, field, file: int(place),
            lambda place, field, file: field,
            lambda place, field, file: file,
        ):
            for order in (list, lambda found: found[::-1], lambda found: [*found[1:], found[0]]):
                self.assertEqual(self.several(order, naming), own)
                self.assertEqual(len(self.answers), 1)

    def test_a_table_of_ids(self):
        """Answers keyed by ids of the service's own, with a table of who is who."""

        def handle(handler):
            parts = parts_of(handler)
            seen = {f"x{9 - n}": tags(number_in(parts[f"shot-{n}"][0][1])) for n in range(3)}
            return {"seen": dict(sorted(seen.items())), "order": ["x9", "x8", "x7"],
                    "files": {f"shot-{n}": f"x{9 - n}" for n in range(3)}}  # fmt: skip

        own = {f"p-{number}.jpg": f"no-{number}" for number in range(3)}
        envelope = '[envelope]\nimages = "seen{}"\nid = "@key"\n[envelope.ids]\n'
        for table in ('table = "order[]"\n', 'table = "files{}"\nimage = "@key"\n'):
            with self.subTest(table):
                self.assertEqual(self.labels(self.SEVERAL, handle, more=envelope + table), own)
        wrong = envelope + 'table = "orders[]"\n'
        self.assertEqual(self.labels(self.SEVERAL, handle, more=wrong), {})
        self.assertIn("table of ids", str(failures_of(self.path)))

    def test_wrong_twins(self):
        """Ids that are doubled, foreign or elsewhere: nobody gets another one's labels."""
        for order, naming, told in (
            (list, lambda place, field, file: "0", "3 parts of the answer have the id"),
            (list, lambda place, field, file: f"pic{place}", "does not hold this image; its ids: pic0"),
            (lambda found: found[:2], lambda place, field, file: place, "does not hold this image"),
        ):  # fmt: skip
            with self.subTest(told):
                found = self.several(order, naming)
                self.assertIn(told, str(failures_of(self.path)))
                for name, label in found.items():
                    self.assertEqual(name[2], label[3])
        stranger = {"of": "77", "tags": [{"name": "other"}], "things": []}
        self.several(lambda found: [*found, stranger], lambda place, field, file: place)
        self.assertTrue(any("no image that was sent" in str(n) for n in self.notes()))

    def notes(self):
        from dotledger.ledger.batch_queries import find_batch
        from dotledger.ledger.finding_queries import notes_of

        ledger = self.ledger()
        return notes_of(ledger, find_batch(ledger))

    def test_settings_anywhere(self):
        """Settings inside lists and entries, as text, number, flag and list; a change is asked anew."""
        call = (
            'body = "json"\nimages = 3\nimage_field = "asks"\n'
            'each = { image = { data = "{image}" }, wants = [{ kind = "tag", most = { setting = "most", as = "number" } }, "{region}"] }\n'
            'fields = { deep = [[{ setting = "fast", as = "flag" }], { setting = "region" }] }'
        )
        settings = ', most = "7", fast = "no"'

        def handle(handler):
            told = json.loads(handler.body())
            self.assertEqual(told["deep"], [[False], "north"])
            asks = told["asks"]
            return {
                "seen": [tags(number_in(base64.b64decode(a["image"]["data"]))) for a in asks],
                "told": [ask["wants"] for ask in asks],
            }

        own = {f"p-{number}.jpg": f"no-{number}" for number in range(3)}
        found = self.labels(call, handle, more='[envelope]\nimages = "seen[]"\n', settings=settings)
        self.assertEqual(found, own)
        self.assertEqual(self.answers[0]["told"], [[{"kind": "tag", "most": 7}, "north"]] * 3)
        for more, calls in ((settings, 0), (settings.replace("7", "8"), 1)):
            service = description(
                ('region = "north"', f'region = "north"{more}'),
                ('path = "/look"\n', f'path = "/look"\n{call}\n'),
                ("[limits]", '[envelope]\nimages = "seen[]"\n[limits]'),
                ("127.0.0.1:1/{region}", "127.0.0.1:1"),
            )
            answer = {"seen": [tags(n) for n in range(3)]}
            _, transport = self.send(pictures(3), [answer], service)
            self.assertEqual(len(transport.requests), calls)

    def test_a_date_as_version(self):
        """Today's date where a service wants one; tomorrow the answers are still known."""
        asked = []
        self.own_labels(
            'query = { version = "{today}", day = "{day}" }',
            lambda h: asked.append(parse_qs(h.path.partition("?")[2])) or tags(number_in(h.body())),
            settings=', day = "of {today}"',
        )
        today = datetime.now(UTC).strftime("%Y-%m-%d")
        self.assertEqual(asked[0], {"version": [today], "day": [f"of {today}"]})
        later = description(
            (
                'path = "/look"\n',
                'path = "/look"\nquery = { version = "{today}", day = "{day}" }\n',
            ),
            ('region = "north"', 'region = "north", day = "of {today}"'),
            ("127.0.0.1:1/{region}", "127.0.0.1:1"),
        )
        plan = make_plan(later, gather(pictures(3)))
        means = Means(transport=FakeTransport([tags(0)]), wall=lambda: 2_000_000_000.0)
        Sending(plan, str(self.path), Key("k", "t"), means=means).run()
        self.assertEqual(means.transport.requests, [])
        more = make_plan(later, gather({"new.jpg": picture(9)}))
        Sending(more, str(self.path), Key("k", "t"), means=means).run()
        self.assertIn("version=2033-05-18", means.transport.requests[0].address)

    def test_refused(self):
        for call, told in (
            ('body = "json"\nimage_field = "asks.image"\nfields = { asks = [{}] }', "no 'image'"),
            ('body = "json"\nimage_field = "asks[3].image"\nfields = { asks = [{}] }', "no entry 3"),
            ('body = "json"\nimage_field = "asks[x]"', "no place in a document"),
            ('body = "form"', "needs image_field"),
            ('body = "raw"\nform = { a = "b" }', "form belongs to a body of 'multipart'"),
            ('body = "form"\nimage_field = "a"\nfields = { a = 1 }', "fields belongs to a body"),
            ('body = "base64"\nimages = 2', "several images in one request need"),
        ):  # fmt: skip
            with self.subTest(told), self.assertRaisesRegex(DescriptionError, told):
                description(('path = "/look"\n', f'path = "/look"\n{call}\n'))
