"""IIIF manifests: images to send, and annotations brought to them."""

import json
import tempfile
import unittest
from pathlib import Path

from dotledger import gather, send
from dotledger.errors import GatherError, TableError
from dotledger.formats.annotations.annotation_files import load_annotations
from dotledger.testing import FakeTransport
from tests.sending.helpers import ANSWER, Handler, description, picture, served


def canvas(number, image, annotations=None, **sizes):
    """A canvas as the cookbook of the standard writes it, with one painted image."""
    home = f"https://example.org/canvas/{number}"
    size = {"width": 1000, "height": 500}
    body = {"id": image, "type": "Image", "format": "image/jpeg", **sizes}
    painting = {
        "id": f"{home}/a",
        "type": "Annotation",
        "motivation": "painting",
        "body": body,
        "target": home,
    }
    one = {
        "id": home,
        "type": "Canvas",
        **size,
        "items": [{"type": "AnnotationPage", "items": [painting]}],
    }
    return one if annotations is None else {**one, "annotations": annotations}


def tag(value, target, **more):
    body = {"type": "TextualBody", "value": value, "purpose": "tagging"}
    return {"type": "Annotation", "motivation": "tagging", "body": body, "target": target, **more}


def manifest(*canvases):
    return {
        "@context": "http://iiif.io/api/presentation/3/context.json",
        "id": "https://example.org/manifest.json", "type": "Manifest",
        "label": {"en": ["An evening walk"]}, "items": list(canvases),
    }  # fmt: skip


class Manifests(unittest.TestCase):
    def setUp(self):
        self.path = Path(self.enterContext(tempfile.TemporaryDirectory())) / "manifest.json"

    def write(self, *canvases):
        self.path.write_text(json.dumps(manifest(*canvases)))
        return self.path

    def test_annotations(self):
        """Boxes of a canvas twice as wide as the image are halved; outlines too; empty is covered."""
        first = "https://example.org/canvas/1"
        svg = "<svg><polygon points='200,100 400,100 400,300'/></svg>"
        tags = [
            tag("lantern", f"{first}#xywh=100,50,200,100"),
            tag("drum", {"source": first, "selector": {"type": "SvgSelector", "value": svg}}),
        ]
        path = self.write(
            canvas(
                1,
                "https://img.example/1.jpg",
                [{"type": "AnnotationPage", "items": tags}],
                width=500,
                height=250,
            ),
            canvas(2, "https://img.example/2.jpg", [{"type": "AnnotationPage", "items": []}]),
            canvas(3, "https://img.example/3.jpg"),
            canvas(
                4,
                "https://img.example/4.jpg",
                [{"type": "AnnotationPage", "id": "https://elsewhere.example/p"}],
            ),
        )
        loaded = load_annotations(path)
        found = loaded.annotations
        frame = found.frame().set_index("label")
        self.assertEqual(frame.loc["lantern", ["x0", "y0", "x1", "y1"]].tolist(), [50, 25, 150, 75])
        self.assertEqual(found.details[1].polygon, ((100, 50), (200, 50), (200, 150)))
        self.assertEqual(found.images["https://img.example/1.jpg"], {"width": 500, "height": 250})
        self.assertEqual(
            found.covered("object"), ["https://img.example/1.jpg", "https://img.example/2.jpg"]
        )
        self.assertEqual(
            loaded.report.refused,
            (
                (
                    "https://img.example/4.jpg",
                    "its annotations lie elsewhere",
                    "https://elsewhere.example/p",
                ),
            ),
        )

    def test_images_are_sent(self):
        """A choice gives its first image; names are those of the annotations; local paths are left."""

        class Store(Handler):
            def do_GET(self):  # noqa: N802 - as the server calls it
                data = picture(int(self.path[1]))
                self.send_response(200)
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

        port, _ = served(self, Store)
        names = [f"http://127.0.0.1:{port}/{number}.jpg" for number in (1, 2)]
        choice = {
            "type": "Choice",
            "items": [{"id": names[1], "type": "Image"}, {"id": "x", "type": "Image"}],
        }
        second = canvas(2, "")
        second["items"][0]["items"][0]["body"] = choice
        path = self.write(
            canvas(1, names[0]),
            second,
            canvas(3, "/etc/hostname"),
            canvas(4, "file:///etc/hostname"),
        )
        self.assertEqual([item.name for item in gather(path).items], names)
        sent = send(
            path,
            description(),
            ledger=self.path.with_name("l.ledger"),
            key="k",
            transport=FakeTransport([ANSWER] * 2),
        )
        self.assertEqual(sent.outcomes["label"]["found"], 2)

    def test_other_json(self):
        """An older manifest is no image list and no ground truth; it is said what to do."""
        self.path.write_text('{"@context": "http://iiif.io/api/presentation/2/context.json"}')
        with self.assertRaisesRegex(TableError, "import description"):
            load_annotations(self.path)
        self.path.write_text(json.dumps(manifest()))
        with self.assertRaisesRegex(GatherError, "no images found"):
            gather(self.path)
