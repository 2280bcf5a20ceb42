"""The simulated services: each dialect as it is described, and looking that is real."""

import base64
import json
import tempfile
import unittest
from io import BytesIO

import urllib3
from PIL import Image

from dotledger import measure, send
from dotledger.errors import ArgumentError
from dotledger.ledger_findings import findings_of
from dotledger.standins.demo_scenes import RECIPES, draw_scene, truth
from dotledger.standins.evening_demo import MAKERS, description_of, running
from dotledger.standins.service_misbehaviour import Trouble, parse_trouble

SCENE = draw_scene(next(r for r in RECIPES if r.name.startswith("walk")))


class Dialects(unittest.TestCase):
    def post(self, up, path, **options):
        """Post without our own code; return status and document."""
        address = f"http://127.0.0.1:{up.port}{path}"
        answer = urllib3.request("POST", address, retries=False, **options)
        return answer.status, json.loads(answer.data)

    def test_flint(self):
        """Key in a header, a form, fractions as top, left, bottom, right, thousandths, words."""
        with running("flint") as up:
            form = {"picture": ("x.jpg", SCENE.data, "image/jpeg")}
            status, told = self.post(up, "/v1/view", fields=form)
            self.assertEqual((status, told["error"]["code"]), (401, 401))
            key = {"X-Flint-Key": up.service.key}
            status, told = self.post(up, "/v1/view", fields=form, headers=key)
            self.assertEqual(status, 200)
            self.assertEqual(set(told), {"flint", "labels", "faces", "safety"})
            lantern = next(entry for entry in told["labels"] if entry["name"] == "Lantern")
            self.assertEqual(lantern["broader"], ["Light"])
            top, left, bottom, right = lantern["occurrences"][0]["place"]
            self.assertTrue(0 <= top < bottom <= 1 and 0 <= left < right <= 1)
            self.assertTrue(300 <= lantern["score"] <= 1000)
            self.assertIn(told["safety"]["smoke"], ("plain", "likely", "doubtful", "absent"))
            want = form | {"want": "safety"}
            self.assertEqual(
                set(self.post(up, "/v1/view", fields=want, headers=key)[1]), {"flint", "safety"}
            )

    def test_marl(self):
        """A token for a client, raw bytes, centre and size in pixels, percent, one region."""
        with running("marl") as up:
            client = base64.b64encode(up.service.key.encode()).decode()
            options = {"body": b"grant_type=client_credentials"}
            plain = {"Content-Type": "application/x-www-form-urlencoded"}
            self.assertEqual(self.post(up, "/token", headers=plain, **options)[0], 401)
            basic = plain | {"Authorization": f"Basic {client}"}
            _, token = self.post(up, "/token", headers=basic, **options)
            self.assertEqual((token["token_type"], token["expires_in"]), ("Bearer", 3600))
            bearer = {"Authorization": f"Bearer {token['access_token']}"}
            path = "/valley/look?parts=things,hazards"
            status, told = self.post(up, path, body=SCENE.data, headers=bearer)
            self.assertEqual(status, 200)
            width, height = Image.open(BytesIO(SCENE.data)).size
            self.assertEqual(told["seen"], {"w": width, "h": height})
            thing = told["things"][0]
            self.assertTrue(0 < thing["middle"]["x"] < width and 20 <= thing["percent"] <= 100)
            self.assertIn("open flame", told["hazards"]["fire"]["parts"])
            self.assertEqual(self.post(up, "/hills/look", body=b"", headers=bearer)[0], 404)
            forged = {"Authorization": "Bearer marl-token-99"}
            self.assertEqual(self.post(up, path, body=SCENE.data, headers=forged)[0], 401)

    def test_chalk(self):
        """Key in the query, several images in one document, outlines in its own pixels."""
        with running("chalk") as up:
            path = f"/seek?key={up.service.key}"
            content = base64.b64encode(SCENE.data).decode()
            pictures = [{"ref": "a", "content": content}, {"ref": "b", "content": "!"}]
            asked = {"pictures": pictures, "want": ["shapes", "flags"]}
            status, told = self.post(up, path, json=asked)
            good, bad = told["results"]
            self.assertEqual((status, good["ref"], bad["problem"]["kind"]), (200, "a", "unusable"))
            self.assertLessEqual(max(good["canvas"].values()), 480)
            x, y = good["shapes"][0]["outline"][0]
            self.assertTrue(0 <= x <= good["canvas"]["w"] and 0 <= y <= good["canvas"]["h"])
            self.assertEqual(
                {type(flag["flagged"]) for flag in good["flags"]},
                {bool},
                "yes or no next to a number",
            )
            self.assertEqual(
                self.post(up, path, json={"pictures": pictures * 3, "want": []})[0], 400
            )
            self.assertEqual(self.post(up, "/seek?key=x", json=asked)[0], 403)


class Looking(unittest.TestCase):
    def test_pixels_decide(self):
        """Smaller pictures show each service less: fewer things are found as the scenes shrink."""
        drawn = [draw_scene(r) for r in RECIPES[:8]]
        annotations = truth(drawn)
        small = {}
        for scene in drawn:
            image = Image.open(BytesIO(scene.data)).convert("RGB")
            buffer = BytesIO()
            tiny = image.resize((image.width // 40, image.height // 40), Image.Resampling.LANCZOS)
            tiny.resize(image.size, Image.Resampling.NEAREST).save(buffer, "PNG")
            small[scene.name] = buffer.getvalue()
        whole = {scene.name: scene.data for scene in drawn}
        for name in MAKERS:
            recall = []
            for images in (whole, small):
                with running(name) as up, self.subTest(service=name):
                    ledger = f"{self.enterContext(tempfile.TemporaryDirectory())}/l"
                    options = {"key": up.service.key, "kinds": "object", "ledger": ledger}
                    send(images, description_of(up), **options)
                    said = measure(findings_of(ledger), annotations, overlap=0.3, draws=0)
                    recall.append(said.pooled.recall)
            self.assertGreater(recall[0], recall[1], name)

    def test_scenes_are_the_same_every_time(self):
        """Equal seeds draw equal bytes; another seed draws others."""
        recipe = RECIPES[0]
        self.assertEqual(draw_scene(recipe).data, draw_scene(recipe).data)
        self.assertNotEqual(draw_scene(recipe, seed=8).data, draw_scene(recipe).data)


class Troubles(unittest.TestCase):
    def test_words(self):
        """Trouble is set by name and number; others are refused with what is allowed."""
        self.assertEqual(parse_trouble("rate=2.5, error=3"), Trouble(rate=2.5, error=3))
        self.assertEqual(parse_trouble(""), Trouble())
        for text in ("eror=3", "error=often", "error=1.5"):
            with self.assertRaises(ArgumentError):
                parse_trouble(text)

    def test_what_is_promised_happens(self):
        """Every third call fails, a rate asks to wait, a cut connection breaks off."""
        with running("flint", parse_trouble("error=3")) as up:
            address = f"http://127.0.0.1:{up.port}/v1/view"
            statuses = [urllib3.request("POST", address, retries=False).status for _ in range(6)]
            self.assertEqual(statuses, [401, 401, 500] * 2)
        with running("flint", parse_trouble("rate=1,wait=4")) as up:
            address = f"http://127.0.0.1:{up.port}/v1/view"
            urllib3.request("POST", address, retries=False)
            later = urllib3.request("POST", address, retries=False)
            self.assertEqual((later.status, later.headers["Retry-After"]), (429, "4"))
        with running("flint", parse_trouble("cut=1")) as up:
            address = f"http://127.0.0.1:{up.port}/v1/view"
            with self.assertRaises(urllib3.exceptions.HTTPError):
                urllib3.request("POST", address, retries=False)
