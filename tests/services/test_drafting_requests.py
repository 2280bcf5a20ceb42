"""Drafts from saved requests and documents: what is taken from them, and what never is: the key."""

import base64
import json
import random
import tempfile
import unittest
from pathlib import Path
from unittest import mock
from urllib.parse import quote

import yaml

from dotledger import draft_description
from dotledger.errors import ArgumentError, DescriptionError, MissingExtra
from dotledger.services.drafting import read_beside, whole_draft
from dotledger.services.message_rules import Payload
from dotledger.services.redaction import Key
from dotledger.services.request_building import RequestBuilder
from dotledger.services.service_description import parse_description
from tests.forked import dotledger
from tests.sending.helpers import picture

ANSWER = {
    "things": [
        {"name": "lantern", "score": 0.9, "box": [3, 1, 20, 12]},
        {"name": "basket", "score": 0.4, "box": [1, 2, 9, 15]},
    ]
}
RAW = json.dumps(ANSWER).encode()
SECRET = "s3cr3t-0171"


def described(**source):
    """The description drafted from a source, and its questions."""
    made = draft_description([ANSWER] * 2, sizes=[(24, 16)] * 2, **source)
    return parse_description(made.description(assume=True)), " | ".join(made.questions)


class Curl(unittest.TestCase):
    def test_ways(self):
        """Where the key goes, and how the image does, of the usual ways of writing such a line."""
        for line, key, call in (
            (f"curl -X PUT https://h.example/v1/look?model=2 -H 'X-Key: {SECRET}' --data-binary @a.jpg", ("header", "X-Key", ""), ("PUT", "raw", "", {"model": "2"})),
            (f"curl 'https://h.example/v1/look?api_key={SECRET}' \\\n -F 'photo=@a.jpg;type=image/jpeg' -F most=5", ("query", "api_key", ""), ("POST", "multipart", "photo", {})),
            (f"curl https://h.example/v1/look -H 'authorization: Bearer {SECRET}' -d '{{\"image\": {{\"content\": \"'$(base64 a.jpg)'\"}}, \"most\": 3}}'", ("bearer", "", ""), ("POST", "json", "image.content", {})),
            (f"curl -u me:{SECRET} https://h.example/v1/look --json '{{\"url\": \"https://a.example/b.jpg\"}}'", ("basic", "", ""), ("POST", "address", "url", {})),
            (f"curl -G https://h.example/v1/look -d u=https://a.example/b.jpg -d token={SECRET}", ("query", "token", ""), ("GET", "address", "u", {})),
            (f"curl -T a.jpg https://h.example/v1/look -H 'Authorization: Lamp {SECRET}'", ("header", "Authorization", "Lamp "), ("PUT", "raw", "", {})),
        ):  # fmt: skip
            with self.subTest(line):
                service, questions = described(curl=line)
                place, [one] = service.connect.key, service.call
                self.assertEqual((place.place, place.name, place.prefix), key)
                self.assertEqual((one.method, one.body, one.image_field, dict(one.query)), call)
                self.assertEqual(
                    (service.connect.address, one.path), ("https://h.example", "/v1/look")
                )
                self.assertNotIn(SECRET, service.to_json() + questions)
                self.assertIn("was not copied", questions)

    def test_carriers(self):
        """Every way that an image is carried is drafted as one that can be sent."""
        for body, drafted in (
            ("-d 'url=https://pics.example/a.jpg' -d most=5", 'body = "form-address"\nimage_field = "url"\nform = { most = "5" }'),
            ("--data-urlencode 'photo=$IMG'", 'body = "form"\nimage_field = "photo"'),
            ("-F 'url=https://pics.example/a.jpg'", 'body = "multipart-address"\nimage_field = "url"'),
            ("-F 'callback=https://mine.example/done' -F image=@a.jpg", 'body = "multipart"\nimage_field = "image"'),
            ("-d 'callback=https://mine.example/d' -d 'image_url=https://pics.example/a.jpg'", 'body = "form-address"\nimage_field = "image_url"'),
            ("-H 'Content-Type: text/plain' --data-binary @a.txt", 'body = "base64"'),
            ("""-d '{"picture": "data:image/jpeg;base64,<base64>"}'""", 'fields = { picture = "data:{image.type};base64,{image}" }'),
            ("""-d '{"src": {"bucket": "shots", "name": "night/1.jpg"}}'""", 'body = "address"\nfields = { src = { bucket = "{image.bucket}", name = "{image.name}" } }'),
            ("""-d '{"asks": [[{"image": "https://pics.example/a.jpg"}]]}'""", 'fields = { asks = [[{ image = "{image}" }]] }'),
        ):  # fmt: skip
            with self.subTest(body):
                made = draft_description(curl=f"curl https://h.example/look {body}").description()
                self.assertIn(drafted, made)

    def test_as_it_was(self):
        """What the drafted call sends is what the line would have sent, but for the key."""
        service, _ = described(
            curl='curl https://h.example/look -H \'X-Key: k\' -H \'X-Region: north\' -d \'{"shots": [{"data": "<base64>", "deep": true}], "most": 3}\''
        )
        builder = RequestBuilder(service, service.call[0], service.kinds)
        request = builder.build([Payload(data=b"abc")], Key("mine", "here"))
        self.assertEqual(
            json.loads(request.body),
            {"shots": [{"data": base64.b64encode(b"abc").decode(), "deep": True}], "most": 3},
        )
        self.assertEqual((request.headers["X-Region"], request.headers["X-Key"]), ("north", "mine"))

    def test_no_such_line(self):
        """What is none, or names no address, is refused with what to do."""
        for line, words in (("wget https://h.example", "begins with 'curl'"), ("curl -F a=@b", "names no address"), ("curl 'https://h", "taken apart")):  # fmt: skip
            with self.assertRaisesRegex(ArgumentError, words):
                described(curl=line)

    def test_second_secrets(self):
        """Two keys, or one in the body, have no place: they are not copied, and said."""
        line = f'curl https://h.example/look -H \'X-Key: {SECRET}1\' -H \'X-App-Token: {SECRET}2\' -d \'{{"image": "<base64>", "password": "{SECRET}3"}}\''
        service, questions = described(curl=line)
        self.assertNotIn(SECRET, service.to_json() + questions)
        self.assertIn("X-App-Token looks like a second secret", questions)
        self.assertIn("the value of password was not copied", questions)
        self.assertEqual(dict(service.connect.settings), {"password": ""})
        with self.assertRaisesRegex(
            DescriptionError, "'password' has no value.*settings=.*password.*VALUE"
        ):
            RequestBuilder(service, service.call[0], service.kinds)

    def test_no_value_that_is_somebodys(self):
        """Whatever a value is called, it is copied only if the request cannot be understood without it."""
        names = ("pass", "pin", "licence", "user", "email", "account", "project", "client", "tenant", "x", "owner", "device",
                 "ticket", "ref", "blob", "code", "note", "secretish", "customer_no", "wallet")  # fmt: skip
        values = (
            "hunter2",
            "4711",
            "Ada Ro",
            "LNT-99-417",
            "8f14e45fceea167a",
            "correct horse battery",
            "01234567890123",
            "a@b.example",
        )
        rng = random.Random(4)
        for number in range(120):
            name, value = rng.choice(names), rng.choice(values) + str(number)
            other = rng.choice(values) + f"-{number}-b"
            line = rng.choice((
                f"curl 'https://h.example/look?{name}={quote(value)}' -F image=@a.jpg -F '{name}2={other}' -b '{name}={value}'",
                f"curl https://h.example/look -H 'X-{name}: {value}' --json '{{\"image\": \"<base64>\", \"in\": {{\"{name}\": \"{other}\", \"l\": [\"{value}\"]}}}}'",
                f"curl https://h.example/look --json '{{\"shots\": [{{\"image\": \"<base64>\", \"{name}\": \"{value}\"}}], \"{name}\": {number + 90000}}}'",
                f"curl https://h.example/look -d '{name}={quote(value)}&image=@a&mode=fast' -A '{other}' -e '{other}'",
            ))  # fmt: skip
            service, questions = described(curl=line)
            said = service.to_json() + questions
            for secret in (value, other, quote(value), str(number + 90000)):
                self.assertNotIn(secret, said, line)

    def test_what_is_needed(self):
        """Switches, amounts and words by which a service is told what to look for are copied."""
        line = 'curl \'https://h.example/v2/look?features=faces,labels&most=12\' -H \'X-Api-Version: 2024-05-01\' --json \'{"image": "<base64>", "mode": "fast", "deep": true, "leastSure": 0.4}\''
        service, questions = described(curl=line)
        [call] = service.call
        self.assertEqual(
            (call.path, dict(call.query)),
            ("/v2/look", {"features": "faces,labels", "most": "12"}),
        )
        self.assertEqual(
            (dict(call.headers), dict(call.fields)),
            ({"X-Api-Version": "2024-05-01"}, {"mode": "fast", "deep": True, "leastSure": 0.4}),
        )
        self.assertEqual(
            (dict(service.connect.settings), "not copied, it may" in questions), ({}, False)
        )

    def test_strangers_documents(self):
        """Circles, aliases, addresses and values of any type end, in a draft or in one sentence."""

        def schema(s):
            return json.dumps(
                {
                    "openapi": "3.0.0",
                    "servers": [{"url": "https://h.example"}],
                    "paths": {
                        "/look": {
                            "post": {
                                "requestBody": {"content": {"image/jpeg": {}}},
                                "responses": {
                                    "200": {
                                        "content": {
                                            "application/json": {
                                                "schema": {"$ref": "#/components/schemas/A"}
                                            }
                                        }
                                    }
                                },
                            }
                        }
                    },
                    "components": {"schemas": s},
                }
            ).encode()

        wide = {f"p{n}": {"$ref": "#/components/schemas/A"} for n in range(40)}
        bomb = "a0: &a0 [x, x]\n" + "".join(
            f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]\n" for n in range(1, 12)
        )
        base = json.loads(
            schema({"A": {"type": "object", "properties": {"b": {"type": "string"}}}})
        )
        documents = [
            schema({"A": {"type": "object", "properties": wide}}), schema({"A": {"allOf": [{"$ref": "#/components/schemas/A"}] * 9}}),
            schema({"A": {"$ref": "#/components/schemas/A"}}), schema({"A": {"type": "array", "minItems": "many", "items": {"$ref": "#/components/schemas/A"}}}),
            schema({"A": {"type": "array", "minItems": 10**9, "items": {"type": "array", "minItems": 10**9, "items": {"$ref": "#/components/schemas/A"}}}}),
            (bomb + "openapi: 3.0.0\npaths: *a11\n").encode(), b"openapi: 3.0.0\npaths: &p\n  /x: *p\n", b"[" * 5000, b"openapi: 3.0.0\n" + b"a: " * 3000,
            *(json.dumps({**base, name: odd}).encode() for name in ("paths", "servers", "components", "security") for odd in (7, "x", [7], [[]], {"a": 7}, None, {"/look": [1]}, {"/look": {"post": {"parameters": 7}}}, [{"url": "http://[::1"}], {"/look": {"post": {"parameters": [{"in": "query", "required": True}]}}})),
        ]  # fmt: skip
        for data in documents:
            with self.subTest(data[:90]):
                try:
                    self.assertTrue(draft_description(openapi=data).description(assume=True))
                except (ArgumentError, DescriptionError) as error:
                    self.assertTrue(str(error))
        for line in (
            "curl http://[::1 -F image=@a",
            "curl 'https://h.example:x/' -F i=@a",
            "curl -H",
            "curl https://h -d '" + "[" * 4000 + "'",
        ):
            with self.subTest(line[:60]):
                try:
                    draft_description([ANSWER], curl=line)
                except (ArgumentError, DescriptionError) as error:
                    self.assertTrue(str(error))
        entry = json.loads(har(("POST", "https://h.example/look", IMAGE, ANSWER, 200)))
        for odd in (
            7,
            "x",
            None,
            [],
            [7],
            {},
            {"url": "http://[::1", "method": "POST"},
            {"url": 7, "method": 7, "headers": 7},
            {"url": "https://h/", "method": "POST", "headers": [], "postData": 7},
        ):
            entry["log"]["entries"][0]["request"] = odd
            with self.subTest(odd), self.assertRaises((ArgumentError, DescriptionError)):
                draft_description(har=json.dumps(entry).encode())

    def test_made_anew(self):
        """A time, a nonce and a signature are named as what they are, and left out."""
        line = "curl 'https://h.example/look?ts2=1790000000' -H 'X-Timestamp: 20260101T010203Z' -H 'X-Nonce: abc' -H 'X-Sig: 9a' -F image=@a.jpg"
        service, questions = described(curl=line)
        for name in ("ts2", "X-Timestamp", "X-Nonce", "X-Sig"):
            self.assertRegex(questions, f"{name} looks like a time, a nonce or a signature")
        self.assertEqual((dict(service.call[0].headers), dict(service.call[0].query)), ({}, {}))


def har(*exchanges):
    """A HAR file of (method, url, body, answer, status) with a key in each request."""
    entries = []
    for method, url, body, answer, status in exchanges:
        request = {
            "method": method,
            "url": url,
            "headers": [
                {"name": "X-Key", "value": SECRET},
                {"name": "Cookie", "value": SECRET},
                {"name": ":authority", "value": "h"},
            ],
        }
        if body is not None:
            request["postData"] = body
        content = {"mimeType": "application/json", "text": json.dumps(answer)}
        headers = [
            {"name": "X-Calls-Remaining", "value": "9"},
            {"name": "X-Calls-Reset", "value": "60"},
        ]
        entries.append(
            {
                "request": request,
                "response": {"status": status, "headers": headers, "content": content},
            }
        )
    return json.dumps({"log": {"entries": entries}}).encode()


IMAGE = {
    "mimeType": "image/jpeg",
    "text": base64.b64encode(picture(1)).decode(),
    "encoding": "base64",
}


class Har(unittest.TestCase):
    def test_request_and_answer(self):
        """The request that brings an image is found among others; its answer is the sample."""
        file = har(("POST", "https://h.example/login", {"mimeType": "application/x-www-form-urlencoded", "params": [{"name": "user", "value": "me"}]}, {}, 200),
                   ("POST", "https://h.example/look", IMAGE, ANSWER, 200), ("POST", "https://h.example/look", IMAGE, ANSWER, 200))  # fmt: skip
        made = draft_description(har=file)
        service = parse_description(made.description(assume=True))
        self.assertEqual(
            (service.call[0].path, service.call[0].body, service.connect.key.name),
            ("/look", "raw", "X-Key"),
        )
        self.assertEqual(
            (service.limits.announced.remaining, service.limits.announced.reset),
            ("x-calls-remaining", "x-calls-reset"),
        )
        self.assertNotIn(SECRET, made.description(assume=True) + str(made.questions))

    def test_a_job(self):
        """An id of the first answer in the address of a later request: the answer came later."""
        file = har(("POST", "https://h.example/v1/look", IMAGE, {"job": {"id": "j-77", "state": "running"}}, 202), ("GET", "https://h.example/v1/jobs/j-77", None, {"job": {"id": "j-77", "state": "running"}}, 200),
                   ("GET", "https://h.example/v1/jobs/j-77", None, {"job": {"id": "j-77", "state": "ready"}, **ANSWER}, 200))  # fmt: skip
        [call] = parse_description(draft_description(har=file).description(assume=True)).call
        self.assertEqual(
            (call.job.id, call.job.path, call.job.state, call.job.done),
            ("job.id", "/v1/jobs/{id}", "job.state", ("ready",)),
        )

    def test_no_such_file(self):
        """No HAR, and one without an image: what it holds is said."""
        for data, words in ((b"{}", "not a HAR file"), (b"[1", "not a HAR file"), (har(("GET", "https://h.example/a", None, {}, 200)), "brings an image; got .*GET /a")):  # fmt: skip
            with self.assertRaisesRegex(ArgumentError, words):
                draft_description(har=data)


API = {
    "openapi": "3.1.0",
    "servers": [{"url": "https://{region}.h.example/v2", "variables": {"region": {"default": "north"}}}],
    "security": [{"own": []}],
    "components": {
        "securitySchemes": {"own": {"type": "apiKey", "in": "header", "name": "X-Eye"}},
        "schemas": {
            "Thing": {"type": "object", "properties": {"name": {"type": "string"}, "score": {"type": "number", "maximum": 100},
                      "box": {"type": "object", "properties": {n: {"type": "integer"} for n in ("left", "top", "width", "height")}}}},
            "Look": {"type": "object", "properties": {"things": {"type": "array", "items": {"$ref": "#/components/schemas/Thing"}}}},
        },
    },
    "paths": {
        "/health": {"get": {"responses": {"200": {"description": "well"}}}},
        "/look": {"post": {
            "operationId": "look", "parameters": [{"name": "model", "in": "query", "required": True, "schema": {"type": "string", "default": "evening"}}, {"name": "debug", "in": "query", "schema": {"type": "boolean"}}],
            "requestBody": {"content": {"multipart/form-data": {"schema": {"type": "object", "required": ["most"], "properties": {"photo": {"type": "string", "format": "binary"}, "most": {"type": "integer", "default": 7}}}}}},
            "responses": {"200": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/Look"}}}}},
        }},
    },
}  # fmt: skip


class OpenApi(unittest.TestCase):
    def drafted(self, document=API, **options):
        made = draft_description(openapi=json.dumps(document).encode(), **options)
        return parse_description(made.description(assume=True)), made

    def test_from_the_document_alone(self):
        """Address, key, call and the shape of the answer, without a sample."""
        service, _ = self.drafted()
        [call], [rule] = service.call, service.read
        self.assertEqual(
            (service.connect.address, service.connect.key.place, service.connect.key.name),
            ("https://north.h.example/v2", "header", "X-Eye"),
        )
        self.assertEqual(
            (call.path, call.body, call.image_field, dict(call.query), dict(call.form)),
            ("/look", "multipart", "photo", {"model": "evening"}, {"most": "7"}),
        )
        self.assertEqual(
            (rule.each, rule.label, rule.confidence.at, rule.confidence.scale, rule.box.form),
            ("things[]", "name", "score", "percent", "corner+size"),
        )

    def test_yaml_and_other_keys(self):
        """YAML says the same; bearer, basic, a token with its address, a key in the query."""
        made = draft_description(openapi=yaml.safe_dump(API, sort_keys=False).encode())
        self.assertEqual(made.description(assume=True), self.drafted()[1].description(assume=True))
        flows = {
            "clientCredentials": {"tokenUrl": "https://h.example/token", "scopes": {"look": ""}}
        }
        for scheme, place in (({"type": "http", "scheme": "bearer"}, "bearer"), ({"type": "http", "scheme": "Basic"}, "basic"), ({"type": "apiKey", "in": "query", "name": "k"}, "query"),
                              ({"type": "oauth2", "flows": flows}, "token")):  # fmt: skip
            changed = {
                **API,
                "components": {**API["components"], "securitySchemes": {"own": scheme}},
            }
            service, _ = self.drafted(changed)
            self.assertEqual(service.connect.key.place, place)
        self.assertEqual(
            (service.connect.token.address, service.connect.token.scope),
            ("https://h.example/token", "look"),
        )
        _, made = self.drafted(
            {
                **API,
                "security": [{"own": []}],
                "components": {
                    **API["components"],
                    "securitySchemes": {"own": {"type": "apiKey", "in": "cookie", "name": "c"}},
                },
            }
        )
        self.assertIn("the key is given by apiKey in cookie", made.questions)

    def test_an_example_goes_first(self):
        """A written example is read as it is; JSON with base64 or an address is recognised."""
        for name, schema, body in (("data", {"type": "string", "format": "byte"}, "json"), ("url", {"type": "string", "format": "uri"}, "address")):  # fmt: skip
            operation = {"requestBody": {"content": {"application/json": {"schema": {"type": "object", "properties": {name: schema, "note": {"type": "string"}}}}}},
                         "responses": {"200": {"content": {"application/json": {"example": ANSWER}}}}}  # fmt: skip
            service, made = self.drafted(
                {**API, "paths": {"/see": {"post": operation}, **API["paths"]}}, operation="/see"
            )
            [call] = service.call
            self.assertEqual(
                (call.path, call.body, call.image_field, dict(call.fields)),
                ("/see", body, name, {}),
            )
            self.assertEqual(made.rules[0].label, "name")

    def test_no_such_document(self):
        """Another version, no operation for an image, one that is not there, a file next to it."""
        for data, words in ((b"swagger: '2.0'", "version 3"), (b"a: [", "neither JSON nor YAML"), (json.dumps({**API, "paths": {"/a": {"get": {}}}}).encode(), "no operation takes an image; got .*GET /a")):  # fmt: skip
            with self.assertRaisesRegex(ArgumentError, words):
                draft_description(openapi=data)
        with self.assertRaisesRegex(ArgumentError, "under this name.*allowed: look"):
            self.drafted(operation="lok")
        beside = {**API, "paths": {"/a": {"$ref": "other.yaml"}}}
        with self.assertRaisesRegex(ArgumentError, "refers to another file"):
            self.drafted(beside)
        with mock.patch.dict("sys.modules", {"yaml": None}), self.assertRaisesRegex(MissingExtra, r"dot-ledger\[openapi\]"):  # fmt: skip
            draft_description(openapi=b"openapi: 3.0.0")


class Around(unittest.TestCase):
    def call(self, *answers, **options):
        made = whole_draft(
            [one if isinstance(one, bytes) else json.dumps(one).encode() for one in answers],
            **options,
        )
        return parse_description(made.description(assume=True)), made

    def test_parts_jobs_versions(self):
        """A next part, a promise among the samples, and the service's own version."""
        service, made = self.call(
            {**ANSWER, "next_page_token": "b", "model_version": "2.1"},
            {**ANSWER, "model_version": "2.1"},
        )
        self.assertEqual(
            (service.call[0].more.next, service.call[0].more.query, service.envelope.version),
            ("next_page_token", "next_page_token", "model_version"),
        )
        service, _ = self.call({**ANSWER, "links": {"next": "https://h.example/look?page=2"}})
        self.assertEqual(
            (service.call[0].more.next, service.call[0].more.query), ("links.next", "")
        )
        service, made = self.call(
            {"status": "queued", "task_id": 7}, {"status": "completed", "task_id": 7, **ANSWER}
        )
        job = service.call[0].job
        self.assertEqual((job.id, job.state, job.done), ("task_id", "status", ("completed",)))
        self.assertIn("where a job is asked for", str(made.questions))
        with self.assertRaisesRegex(ArgumentError, "only promises of one"):
            self.call({"status": "queued", "task_id": 7})

    def test_other_writings(self):
        """XML, lines and text in text are recognised, and read by what was drafted."""
        thing = '<thing name="{}" sure="0.9{}"><x0>{}</x0><y0>1</y0><x1>9</x1><y1>8</y1></thing>'
        xml = f"<r>{thing.format('lantern', 1, 2)}{thing.format('bell', 2, 3)}</r>".encode()
        for answers, written, texts in (([xml], "xml", ()), ([b"\n".join(json.dumps(t).encode() for t in ANSWER["things"])], "lines", ()), ([json.dumps({"body": RAW.decode()}).encode()], "json", ("body",))):  # fmt: skip
            service, made = self.call(*answers, sizes=[(24, 16)])
            self.assertEqual((service.envelope.written, service.envelope.texts), (written, texts))
            self.assertEqual([rule.kind for rule in made.sure], ["object"])
        with self.assertRaisesRegex(ArgumentError, "neither JSON, nor lines"):
            self.call(b"<a>", b"x")


def boxes(count, seed=1):
    """Random boxes in an image of 640 x 400."""
    rng = random.Random(seed)
    corners = [(rng.uniform(0, 500), rng.uniform(0, 300)) for _ in range(count)]
    return [(x, y, x + rng.uniform(20, 120), y + rng.uniform(20, 90)) for x, y in corners]


class Shapes(unittest.TestCase):
    """Less usual shapes: what is drafted reads every box where it is, and asks what cannot be seen."""

    def drafted(self, *answers):
        made = whole_draft(
            [json.dumps(one).encode() for one in answers], [(640, 400)] * len(answers)
        )
        text = made.description(assume=True)
        return made, read_beside(
            text, [json.dumps(one).encode() for one in answers], [(640, 400)] * len(answers)
        )

    def check_boxes(self, found, wanted, near=1.0):
        self.assertEqual(len(found), len(wanted))
        for (_, one, _), box in zip(found, wanted):
            self.assertTrue(all(abs(a - b) <= near for a, b in zip(one.box, box)), (one, box))

    def test_several_kinds_in_one_list(self):
        """Things and faces told apart by a field: a rule for each; 0 to 255; flat points are asked for."""
        places = boxes(4)
        hits = [
            {
                "sort": "face" if n % 2 else "thing",
                "sure": 250 - n,
                "at": [round(v) for v in box],
                **({"marks": [1, 2, 2, 3, 4, 0]} if n % 2 else {"what": "stool"}),
            }
            for n, box in enumerate(places)
        ]
        made, found = self.drafted({"hits": hits}, {"hits": hits})
        self.assertEqual(
            [(r.kind, r.keep_if) for r in made.rules],
            [("object", "sort == 'thing'"), ("face", "sort == 'face'")],
        )
        self.assertEqual([f.label for _, f, _ in found[:4]], ["stool", "stool", "face", "face"])
        self.assertAlmostEqual(found[0][1].confidence, 250 / 255)
        self.assertEqual(sorted(found[2][1].details.points), ["point 1"])
        self.assertTrue(any("what the points at" in q for q in made.questions))

    def test_turned_and_gridded(self):
        """A field called tilt turns the box, and is asked about; parts of 65535 are no pixels."""
        turned = [{"name": "a", "score": 0.5, "cx": (a + c) / 2, "cy": (b + d) / 2, "w": c - a, "h": d - b, "tilt": 0.0} for a, b, c, d in boxes(4)]  # fmt: skip
        made, found = self.drafted({"things": turned})
        self.assertEqual(made.rules[0].boxes[0].angle, "tilt")
        self.check_boxes(found, boxes(4))
        self.assertTrue(any("are turned" in q for q in made.questions))
        grid = [
            {
                "name": "a",
                "score": 0.5,
                "box": [round(65535 * v / s) for v, s in zip(box, (640, 400) * 2)],
            }
            for box in boxes(12, 3)
        ]
        made, found = self.drafted({"things": grid})
        self.assertEqual(made.rules[0].boxes[0].grid, 65535)
        self.check_boxes(found, boxes(12, 3))

    def test_masks_and_corners(self):
        """Run lengths that add up to their size; two corners as two points."""
        runs = {"size": [400, 640], "counts": [400 * 10 + 5, 20, 380, 20, 400 * 640 - 4005 - 420]}
        _, found = self.drafted({"shapes": [{"label": "pond", "score": 0.5, "mask": runs}]})
        self.check_boxes(found, [(10, 5, 12, 25)], near=1e-6)
        pairs = [
            {"name": "a", "score": 0.5, "corners": [[a, b], [c, d]]} for a, b, c, d in boxes(3)
        ]
        _, found = self.drafted({"things": pairs})
        self.check_boxes(found, boxes(3))

    def test_languages(self):
        """English is the label and the others go along, as an object and as a list."""
        for names in ({"de": "Laterne", "en": "lantern"}, [{"lang": "de", "text": "Laterne"}, {"lang": "en", "text": "lantern"}]):  # fmt: skip
            _, found = self.drafted({"tags": [{"names": names, "score": 0.5}] * 2})
            self.assertEqual(
                [(f.label, f.details.attributes) for _, f, _ in found],
                [("lantern", {"name in de": "Laterne"})] * 2,
            )


class Command(unittest.TestCase):
    def test_on_the_screen(self):
        """The questions, what was drafted, and a table of what it reads beside where it stands."""
        with tempfile.TemporaryDirectory() as home:
            (Path(home) / "a.json").write_bytes(RAW)
            (Path(home) / "line").write_text(
                f"curl https://h.example/look -H 'X-Key: {SECRET}' -T a.jpg"
            )
            done = dotledger(
                "draft",
                "a.json",
                "--curl",
                "line",
                "--out",
                "m.toml",
                cwd=home,
                env={"COLUMNS": "140"},
            )
            self.assertEqual(done.returncode, 0, done.stderr)
            self.assertRegex(done.stdout, r"a.json  object  lantern +0.90.*\{'name': 'lantern'")
            self.assertIn("please check: the key itself was not copied (X-Key)", done.stderr)
            self.assertNotIn(
                SECRET, (Path(home) / "m.toml").read_text() + done.stdout + done.stderr
            )
            for wrong in (("--curl", "line", "--har", "x"), ("a.json", "--operation", "x"), ()):
                self.assertEqual(dotledger("draft", *wrong, cwd=home).returncode, 2)

    def test_asked(self):
        """What no sample tells is asked, and goes into the draft; its question is gone."""
        words = {
            "tags": [
                {"tag": "quay", "level": "hoch"},
                {"tag": "rope", "level": "tief"},
                {"tag": "rain", "level": "halb"},
            ]
        }
        told = iter(
            [
                "tief, halb, hoch",
                "https://h.example/v3/look",
                "header",
                "X-Eye",
                "multipart",
                "photo",
            ]
        )
        made = whole_draft([json.dumps(words).encode()], ask=lambda *_: next(told))
        service = parse_description(made.description(assume=True))
        self.assertEqual(
            [name for name, _ in service.read[0].confidence.words], ["tief", "halb", "hoch"]
        )
        self.assertEqual(
            (service.call[0].path, service.call[0].image_field, service.connect.key.name),
            ("/v3/look", "photo", "X-Eye"),
        )
        self.assertEqual(made.questions, [])
        told = iter(["https://h.example", "none", "raw"])

        def ask(text, allowed):
            turned = [one for one in allowed if '["y0", "x0", "y1", "x1"]' in one]
            return turned[0] if turned else next(told)

        square = {"things": [{"name": "a", "score": 0.5, "box": [1, 2, 11, 12]}] * 3}
        made = whole_draft([json.dumps(square).encode()], ask=ask)
        self.assertEqual(made.rules[0].boxes[0].order, ("y0", "x0", "y1", "x1"))
