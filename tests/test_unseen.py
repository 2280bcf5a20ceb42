"""Eight invented services, described from their makers' pages: sent to, read and measured over HTTP.

Each service here knows the truth of the demo's scenes and tells it in its own way, so that every
box that is not read where it is, and every finding that is lost, costs recall.
"""

import base64
import contextlib
import gzip
import hashlib
import hmac
import json
import re
import time
from datetime import UTC, datetime
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

from joserfc import jwt
from joserfc.jwk import ECKey

from dotledger import findings_of, measure, read_annotations, send
from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import usage, versions_of
from dotledger.services.service_description import read_description
from dotledger.standins.demo_scenes import RECIPES, draw_scene, truth, write_scenes
from tests.sending.calls.test_multi_step_calls import Methods
from tests.sending.helpers import InFolder, served
from tests.services.test_carriers import parts_of

UNSEEN = Path(__file__).parent.parent / "examples" / "unseen"
SCENES = [r for r in RECIPES if not r.special and r.orientation == 1 and r.name.endswith(".jpg")][
    :9
]


def things_of(data, kinds):
    """What is true of a scene, by the bytes of its file."""
    return [p for p in KNOWN[hashlib.sha256(data).hexdigest()].painted if p.kind in kinds]


DRAWN = [draw_scene(recipe) for recipe in SCENES]
KNOWN = {hashlib.sha256(scene.data).hexdigest(): scene for scene in DRAWN}
SIZES = {scene.name: recipe.size for scene, recipe in zip(DRAWN, SCENES)}


class Brook(Methods):
    tickets = {}  # noqa: RUF012 - replaced for each server

    def post(self):
        data = self.body()
        assert self.headers["Authorization"] == "Token b-token"
        number = len(self.tickets) + 1
        self.tickets[number] = [data, 0]
        self.send_response(202)
        body = json.dumps({"ticket": {"number": number, "stage": "waiting"}}).encode()
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def get(self):
        number = int(self.path.rpartition("/")[2])
        data, asked = self.tickets[number]
        self.tickets[number][1] += 1
        if asked < 1:
            return self.reply({"ticket": {"number": number, "stage": "looking"}})
        width, height = SIZES[KNOWN[hashlib.sha256(data).hexdigest()].name]
        sights = []
        for thing in things_of(data, ("object",)):
            x0, y0, x1, y1 = thing.box
            place = {
                "cx": 500 * (x0 + x1) / width,
                "cy": 500 * (y0 + y1) / height,
                "w": 1000 * (x1 - x0) / width,
                "h": 1000 * (y1 - y0) / height,
                "tilt": 0.0,
            }
            sights.append({"name": thing.label, "trust": 0.93, "place": place})
        return self.reply({"ticket": {"number": number, "stage": "finished"}, "sights": sights})


class Thistle(Methods):
    files, pages = {}, {}

    def checked(self):
        assert parse_qs(urlsplit(self.path).query)["apikey"] == ["t-key"]
        return urlsplit(self.path).path

    def put(self):
        self.checked()
        name = f"f-{time.monotonic_ns()}"
        self.files[name] = self.body()
        self.reply({"file": name})

    def post(self):
        self.checked()
        asked = json.loads(self.body())
        assert asked["tables"] == ["things"]
        self.answer([
            [thing.label, "93,5 %", *thing.box] for thing in things_of(self.files[asked["about"]], ("object",))
        ])  # fmt: skip

    def get(self):
        self.answer(self.pages.pop(self.checked().rpartition("/")[2]))

    def delete(self):
        del self.files[self.checked().rpartition("/")[2]]
        self.reply({})

    def answer(self, rows):
        page = {"columns": ["thing", "certain", "left", "top", "right", "bottom"], "rows": rows[:2]}
        if rows[2:]:
            token = f"t{time.monotonic_ns()}"
            self.pages[token] = rows[2:]
            page["more"] = f"/ask/next/{token}"
        self.reply(page)


class Quarry(Methods):
    times = ()

    def post(self):
        body = self.body()
        assert self.headers["X-Quarry-Key"] == "q-key"
        options = re.search(
            rb'name="options"\r\nContent-Type: application/json\r\n\r\n(.*?)\r\n--', body, re.DOTALL
        )
        assert json.loads(options[1]) == {"want": ["face", "thing"], "most": 50}
        start = body.index(b"\xff\xd8")
        data = body[start : body.rindex(b"\xff\xd9") + 2]
        now = time.monotonic()
        recent = sum(now - one < 1 for one in self.times)
        self.times.append(now)
        self.seen.append(recent)
        hits = []
        for thing in things_of(data, ("object", "face")):
            x0, y0, x1, y1 = thing.box
            hit = {
                "sort": "thing" if thing.kind == "object" else "face",
                "sure": 240,
                "area": f"{x0},{y0},{x1 - x0},{y1 - y0}",
            }
            more = {"what": thing.label} if thing.kind == "object" else {"marks": [x0 + 1, y0 + 1, 2, 0, 0, 0, x0 + 2, y1 - 1, 2]}  # fmt: skip
            hits.append({**hit, **more})
        self.reply({"hits": hits}, X_Quarry_Left=str(max(0, 3 - recent)), X_Quarry_Again="1")


class Sedge(Methods):
    """Words for signed statements; each word is good for a few calls, whatever was promised."""

    public, words, statements = None, {}, []

    def post(self):
        body = self.body()
        if self.path == "/words":
            told = jwt.decode(json.loads(body)["statement"], self.public, algorithms=["ES256"])
            assert told.header["kid"] == "k-31"
            assert (told.claims["iss"], told.claims["aud"]) == ("walks@sedge.example", "sedge")
            assert 0 < told.claims["exp"] - time.time() <= 300
            self.statements.append(told.claims)
            word = f"word-number-{len(self.statements)}"
            self.words[word] = 4
            return self.reply({"granted": {"word": word, "seconds": 120}})
        word = self.headers["Authorization"].removeprefix("Bearer ")
        self.words[word] -= 1
        if self.words[word] < 0:
            self.send_response(401)
            self.send_header("Content-Length", "0")
            return self.end_headers()
        sides = ("west", "north", "east", "south")
        finds = [
            {"find": t.label, "sure": 0.97, "edge": dict(zip(sides, t.box))}
            for t in things_of(body, ("object",))
        ]
        return self.reply({"finds": finds})


class Tarn(Methods):
    """Signatures by a clock that is ahead; checked by itself."""

    def date_time_string(self, timestamp=None):
        return super().date_time_string(time.time() + 420)

    def post(self):
        body, when = self.body(), self.headers["Tarn-Time"]
        address = urlsplit(self.path)
        signing = b"TARN" + b"still-water"
        for step in (when[:8], "upland"):
            signing = hmac.new(signing, step.encode(), "sha256").digest()
        lines = ["POST", address.path, address.query, when, hashlib.sha256(body).hexdigest()]
        right = base64.b64encode(hmac.new(signing, "\n".join(lines).encode(), "sha256").digest())
        told = datetime.strptime(when, "%Y%m%dT%H%M%SZ").replace(tzinfo=UTC).timestamp()
        signed = self.headers["Authorization"] == f"TARN name=walker, sign={right.decode()}"
        well = signed and abs(told - time.time() - 420) < 60
        self.seen.append(well)
        if not well:
            self.send_response(403)
            self.send_header("Content-Length", "0")
            return self.end_headers()
        seen = {}
        for t in things_of(body, ("object",)):
            x0, y0, x1, y1 = t.box
            seen.setdefault(t.label, []).append({"p": 83, "xywh": [x0, y0, x1 - x0, y1 - y0]})
        return self.reply({"seen": seen})


class Osier(Methods):
    def post(self):
        parts = parts_of(self)
        assert self.headers["Osier-Key"] == "o-key"
        how = {"wants": [{"sort": "thing", "most": 60}], "fast": False}
        assert json.loads(parts["how"][0][1]) == how
        names = [name for name in parts if name.startswith("pic.")]
        self.seen.append(len(names))
        woven = []
        for name in names[1:] + names[:1]:
            [(_, data)] = parts[name]
            assert parts[name.replace("pic", "note")][0][1] == b"picture " + name[4:].encode()
            width, height = SIZES[KNOWN[hashlib.sha256(data).hexdigest()].name]
            things = []
            for t in things_of(data, ("object",)):
                x0, y0, x1, y1 = t.box
                span = [[x0 / width, x1 / width], [y0 / height, y1 / height]]
                things.append({"is": t.label, "like": 0.91, "span": span})
            woven.append({"part": name, "things": things})
        self.reply({"woven": woven, "order": "as they came"})


class Fen(Methods):
    jobs = {}  # noqa: RUF012 - replaced for each server

    def post(self):
        assert self.headers["Fen-Pass"] == "f-pass"
        name = f"f-{time.monotonic_ns()}"
        self.jobs[name] = [self.body(), 0]
        self.reply(json.dumps({"job": name, "state": "queued"}, indent=2).encode())

    def get(self):
        name = self.path.rpartition("/")[2]
        data, asked = self.jobs[name]
        self.jobs[name][1] += 1
        lines = [{"state": "queued"}, {"state": "looking"}][: asked + 1]
        if asked > 1:
            found = things_of(data, ("object",))
            terms = {label: str(31 + n) for n, label in enumerate({t.label for t in found})}
            for t in found:
                corners = " ".join(map(str, t.box))
                under = {"light": {}, "made thing": {}}
                lines.append({"sort": "find", "term": int(terms[t.label]), "odds": 3.0,
                              "corners": corners, "under": under})  # fmt: skip
            table = {number: {"en": label, "de": "x"} for label, number in terms.items()}
            lines += [{"sort": "terms", "terms": table}, {"state": "over"}]
        self.reply(gzip.compress("\n".join(map(json.dumps, lines)).encode()))


SUBJECTS = {"banner": 101, "dusk": 102, "lantern": 104, "moon": 108, "people": 131, "umbrella": 140}


class Heron(Methods):
    def post(self):
        body = self.body()
        assert self.headers["Heron-Word"] == "h-word"
        assert b'name="bild"' in body
        data = body[body.index(b"\xff\xd8") : body.rindex(b"\xff\xd9") + 2]
        self.seen.append(self.path)
        if self.path == "/subjects":
            inner = [
                f'<subject no="{SUBJECTS[t.label]}" weight="87"/>'
                for t in things_of(data, ("label",))
            ]
        else:
            inner = [
                '<head weight="91"><corner>{:.3f} {:.3f}</corner><corner>{:.3f} {:.3f}</corner></head>'.format(*t.box)
                for t in things_of(data, ("face",))
            ]  # fmt: skip
        text = f'<?xml version="1.0"?>\n<reply engine="5.2">{"".join(inner)}</reply>'
        self.reply(text.encode(), Content_Type="application/xml")


class Unseen(InFolder):
    def measured(self, name, handler, key, kinds, more_calls=0, ready=None, **facts):
        """Send nine scenes, read them, measure; return the measure and the server."""
        port, own = served(self, handler)
        if ready is not None:
            ready(port)
        for fact, value in facts.items():
            setattr(own, fact, value)
        write_scenes(self.folder, recipes=SCENES)
        service = read_description(UNSEEN / name / "description.toml")
        sent = send(
            self.folder / "images", service, ledger=self.path, key=key, settings={"port": str(port)}
        )
        self.assertEqual(sent.outcomes[kinds[0]].get("failed", 0), 0, sent)
        found = findings_of(self.path)
        truths = read_annotations(self.folder / "annotations.csv")
        result = measure(found, truths, overlap=0.9, kinds=kinds, draws=0)
        for kind in kinds:
            row = result.kinds[kind].pooled
            self.assertGreater(row.annotated, 5)
            self.assertEqual((row.misses, row.false_positives), (0, 0), (name, kind))
        self.assertNotIn("call:", (UNSEEN / name / "description.toml").read_text())
        if more_calls is not None:  # those that were refused count, too, and their number varies
            with LedgerStore(self.path) as ledger:
                self.assertEqual([m.calls for m in usage(ledger)], [len(SCENES) + more_calls])
        return found, own

    def test_brook(self):
        """Jobs, tilted boxes in thousandths."""
        found, own = self.measured("brook", Brook, "b-token", ["object"], tickets={})
        self.assertEqual(len(own.tickets), len(SCENES))
        self.assertEqual(set(found.confidence[~found.blank].tolist()), {0.93})

    def test_thistle(self):
        """Brought first, tables in parts, percent with a decimal comma; nothing is left there."""
        found, own = self.measured("thistle", Thistle, "t-key", ["object"], files={}, pages={})
        self.assertEqual((own.files, own.pages), ({}, {}))
        self.assertEqual(set(found.confidence[~found.blank].tolist()), {0.935})

    def test_quarry(self):
        """A form with JSON, one list for two kinds, 0 to 255, flat points, a rate that is obeyed."""
        found, own = self.measured("quarry", Quarry, "q-key", ["object", "face"], times=[])
        self.assertLessEqual(max(own.seen), 4)
        face = next(
            d for d, kind in zip(found.details, found.kind.values()) if kind == "face" and d
        )
        self.assertEqual(sorted(face.points), ["left eye", "mouth"])

    def test_heron(self):
        """XML, subjects by number, heads only where there are people, prices in steps and of a call."""
        people = sum(any(t.label == "people" for t in scene.painted) for scene in DRAWN)
        self.assertTrue(0 < people < len(SCENES))
        found, own = self.measured("heron", Heron, "h-word", ["label", "face"], more_calls=people)
        self.assertEqual(own.seen.count("/heads"), people)
        self.assertEqual(set(found.confidence[~found.blank].tolist()), {0.87, 0.91})
        with LedgerStore(self.path) as ledger:
            [month] = usage(ledger)
            self.assertAlmostEqual(month.money, (len(SCENES) - 5) * 0.0012 + people * 0.004)
            self.assertEqual(versions_of(ledger, find_batch(ledger)), {"5.2": month.calls})

    def test_sedge(self):
        """A key file signs statements; words end early, and are asked for anew, once each."""
        private = ECKey.generate_key("P-256", private=True)
        (self.folder / "sedge.json").write_text("{}")
        held = {"account": "walks@sedge.example", "number": "k-31",
                "private": private.as_pem(private=True).decode()}  # fmt: skip
        public = ECKey.import_key(private.as_pem(private=False))
        self.enterContext(contextlib.chdir(self.folder))

        def key_file(port):
            held["words_from"] = f"http://127.0.0.1:{port}/words"
            (self.folder / "sedge.json").write_text(json.dumps(held, indent=1))

        _, own = self.measured("sedge", Sedge, None, ["object"], ready=key_file, public=public,
                               words={}, statements=[], more_calls=None)  # fmt: skip
        self.assertGreaterEqual(len(own.statements), 3)
        self.assertLess(len(own.statements), len(SCENES))

    def test_tarn(self):
        """Signed by a key of the day and the service's clock; every further call is right at once."""
        found, own = self.measured("tarn", Tarn, "walker:still-water", ["object"], more_calls=None)
        self.assertEqual(own.seen.count(True), len(SCENES))
        self.assertLessEqual(own.seen.count(False), 8)
        self.assertEqual(set(found.confidence[~found.blank].tolist()), {0.83})

    def test_osier(self):
        """Several in one form, in another order, by the names of their parts."""
        _, own = self.measured("osier", Osier, "o-key", ["object"], more_calls=3 - len(SCENES))
        self.assertEqual(sorted(own.seen), [1, 4, 4])

    def test_fen(self):
        """Jobs in lines, squeezed unasked; terms by number, wider terms as keys, binary odds."""
        found, own = self.measured("fen", Fen, "f-pass", ["object"], jobs={})
        self.assertEqual(len(own.jobs), len(SCENES))
        self.assertEqual({round(c, 6) for c in found.confidence[~found.blank].tolist()}, {0.888889})
        self.assertEqual({d.parents for d in found.details if d}, {("light", "made thing")})

    def test_the_truth_is_that_of_the_demo(self):
        """What the services tell is what the annotations hold."""
        self.assertEqual(len(truth(DRAWN).image.used()), len(SCENES))
        self.assertEqual(
            {p.name for p in UNSEEN.iterdir() if p.is_dir()},
            {"brook", "thistle", "quarry", "heron", "sedge", "tarn", "osier", "fen"},
        )
