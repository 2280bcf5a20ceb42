"""Files and answers that somebody else wrote, of any size: how long each reader takes for ten times as much."""

import contextlib
import io
import itertools
import json
import random
import statistics
import tempfile
import time
from pathlib import Path
from unittest import mock

import numpy as np
from PIL import Image

from dotledger import read_annotations, read_findings
from dotledger.core.decisions.linear_patterns import linear_pattern
from dotledger.errors import DotLedgerError
from dotledger.formats.label_name_files import read_names
from dotledger.formats.rules_files import read_rules
from dotledger.formats.tables.csvw_metadata import write_csv_metadata
from dotledger.images.image_gathering import gather
from dotledger.images.metadata_removal import without_metadata
from dotledger.reading.answer_documents import document_reader
from dotledger.services.drafting.openapi_requests import from_openapi
from dotledger.services.drafting.saved_requests import from_curl, from_har
from dotledger.xml_parsing import plain_values, xml_root
from tests.sending.helpers import description

FRAME = "image,kind,label,confidence,x0,y0,x1,y1\n"
TRUTH = "image,kind,label,x0,y0,x1,y1,ignore\n"


def _xml(body):
    plain_values(xml_root(b"<a xmlns:p='p:'>" + body + b"</a>"))


def _file(name, read):
    """A reader of a file: made outside of what is timed."""

    def made(data):
        path = Path(tempfile.mkdtemp()) / name
        path.write_bytes(data if isinstance(data, bytes) else data.encode())
        return lambda: read(path)

    return made


def _plain(read):
    return lambda data: lambda: read(data)


def _answer(things):
    from dotledger.core.boxes.image_frames import Frame
    from dotledger.services.answer_reading import Reader

    reader = Reader(description())
    document = document_reader()(things)
    reader.read_document(document, "look", ("label", "object"), [Frame(90, 90, 90, 90, 1)])


def _openapi(schemas):
    return json.dumps({
        "openapi": "3.1.0", "servers": [{"url": "https://h.example"}],
        "paths": {"/look": {"post": {"requestBody": {"content": {"image/jpeg": {}}}, "responses": {"200": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/S0"}}}}}}}},
        "components": {"schemas": {f"S{n}": {"type": "object", "properties": {"a": {"$ref": f"#/components/schemas/S{n + 1}"}, "b": {"type": "string"}}} for n in range(schemas)}},
    }).encode()  # fmt: skip


def _har(entries):
    one = {
        "request": {
            "method": "POST",
            "url": "https://h.example/look",
            "headers": [],
            "postData": {"mimeType": "image/jpeg", "text": "QUJD", "encoding": "base64"},
        },
        "response": {"status": 200, "headers": [], "content": {"text": '{"id": "j-1"}'}},
    }
    return json.dumps({"log": {"entries": [one] * entries}}).encode()


def _jpeg(segments):
    held = io.BytesIO()
    Image.fromarray(np.zeros((16, 16, 3), np.uint8)).save(held, "JPEG")
    data = held.getvalue()
    return data[:2] + b"\xff\xfe\x00\x08secret" * segments + data[2:]


def _rows(n, head=FRAME, tail=""):
    return head + "".join(
        f"i{r // 9}.jpg,object,l{r % 7},0.{r % 90 + 10},{r % 50},1,{r % 50 + 9},9{tail}\n"
        for r in range(n)
    )


def _true(n):
    return TRUTH + "".join(
        f"i{r // 9}.jpg,object,l{r % 7},{r % 50},1,{r % 50 + 9},9,0\n" for r in range(n)
    )


def _alto(n):
    words = "".join(
        f'<String CONTENT="w{i}" HPOS="{i}" VPOS="1" WIDTH="9" HEIGHT="9"/>' for i in range(n)
    )
    return f'<alto xmlns="http://www.loc.gov/standards/alto/ns-v4#"><Description><MeasurementUnit>pixel</MeasurementUnit><sourceImageInformation><fileName>a.jpg</fileName></sourceImageInformation></Description><Layout><Page WIDTH="900" HEIGHT="900"><PrintSpace><TextBlock><TextLine HPOS="1" VPOS="1" WIDTH="9" HEIGHT="9">{words}</TextLine></TextBlock></PrintSpace></Page></Layout></alto>'


def _web(n):
    items = [
        {
            "type": "Annotation",
            "body": [{"type": "TextualBody", "value": f"l{i % 7}", "purpose": "tagging"}],
            "target": {
                "source": f"i{i}.jpg",
                "selector": {"type": "FragmentSelector", "value": "xywh=1,1,9,9"},
            },
        }
        for i in range(n)
    ]
    return json.dumps(
        {"@context": "http://www.w3.org/ns/anno.jsonld", "type": "AnnotationPage", "items": items}
    )


def _manifest(n):
    body = lambda i: {"type": "Image", "id": f"https://h.example/{i}.jpg"}  # noqa: E731
    items = [
        {"type": "Canvas", "id": f"c{i}", "items": [{"items": [{"body": body(i)}]}]}
        for i in range(n)
    ]
    return json.dumps(
        {
            "@context": "http://iiif.io/api/presentation/3/context.json",
            "type": "Manifest",
            "items": items,
        }
    )


READERS = {
    "XML, attributes of one element": (_plain(_xml), lambda n: b"<b %b/>" % b" ".join(b'p:a%d="1"' % i for i in range(n)), 30),
    "XML, namespaces": (_plain(_xml), lambda n: b"".join(b'<b xmlns:n%d="u%d" n%d:x="1"/>' % (i, i, i) for i in range(n)), 18),
    "XML, namespaces inside each other": (_plain(_xml), lambda n: b"".join(b'<b xmlns:n%d="u%d">' % (i, i) for i in range(n % 200)) + b"</b>" * (n % 200) + b"<c/>" * n, 300),
    "XML, elements": (_plain(_xml), lambda n: b"<b><c>1</c></b>" * n, 500),
    "JSON answer, findings": (_plain(_answer), lambda n: json.dumps({"tags": [], "things": [{"name": "b", "sure": 0.5, "box": [1, 1, 5, 5]}] * n}).encode(), 300),
    "OpenAPI, schemas in a row": (_plain(from_openapi), _openapi, 200),
    "HAR, exchanges": (_plain(from_har), _har, 100),
    "curl, options": (_plain(from_curl), lambda n: "curl https://h.example/look -F image=@a.jpg" + " -F 'mode=fast'" * n, 100),
    "a pattern on a line": (_plain(lambda text: linear_pattern("(a+)+$", place="x").found_in(text)), lambda n: "a" * n + "b", 20_000),
    "telephones in a line": (_plain(lambda text: list(linear_pattern(r"[\w.+-]+@[\w-]+(?:\.[\w-]+)+", place="x").places(text))), lambda n: "a." * n, 20_000),
    "findings, CSV": (_file("f.csv", read_findings), _rows, 2_000),
    "annotations, CSV": (_file("t.csv", read_annotations), _true, 2_000),
    "annotations, W3C": (_file("w.json", read_annotations), _web, 200),
    "annotations, ALTO": (_file("a.xml", read_annotations), _alto, 300),
    "label names, CSV": (_file("n.csv", read_names), lambda n: "label,becomes\n" + "".join(f"l{i},m{i % 9}\n" for i in range(n)), 1_000),
    "rules": (_file("r.toml", read_rules), lambda n: "rules_file = 1\n" + '[[rule]]\nkind = "object"\nverdict = "hold"\n' * n, 50),
    "a IIIF manifest": (_file("m.json", gather), _manifest, 500),
    "a list of images": (_file("list.txt", lambda path: gather(f"@{path}", missing="list")), lambda n: "".join(f"https://h.example/{i}.jpg\n" for i in range(n)), 1_000),
    "JPEG, segments": (_plain(lambda data: without_metadata(data, "jpeg", 1)), _jpeg, 500),
}  # fmt: skip
"""By name: what reads (given the data, returns what is timed), what makes so much of it, how much at first."""


def seconds(read, made, size, turns=3):
    """The median time of reading so much; an error that says so is an answer too."""
    run = read(made(size))
    took = []
    for _ in range(turns):
        began = time.perf_counter()
        with contextlib.suppress(ValueError):
            run()
        took.append(time.perf_counter() - began)
    return statistics.median(took)


def growth(name, decades=2):
    """Return sizes, seconds, and by how much each step of ten times the size takes longer."""
    read, made, first = READERS[name]
    sizes = [first * 10**step for step in range(decades + 1)]
    seconds(read, made, first)  # what is loaded once
    took = [seconds(read, made, size) for size in sizes]
    return sizes, took, [after / max(before, 1e-4) for before, after in itertools.pairwise(took)]


_TTL = """@prefix skos: <http://www.w3.org/2004/02/skos/core#> .
<c1> a skos:Concept ; skos:prefLabel "lantern"@en ; skos:altLabel "lamp" , "light" .
<c2> a skos:Concept ; skos:prefLabel "thing" ; skos:narrower <c1> . <c1> skos:broader <c2> . <c2> skos:broader <c1> .
"""
_JSONLD = '{"@context": {"skos": "http://www.w3.org/2004/02/skos/core#"}, "@graph": [{"@id": "c1", "skos:prefLabel": "lantern", "skos:altLabel": ["lamp"], "skos:broader": {"@id": "c2"}}, {"@id": "c2", "skos:prefLabel": "thing"}]}'
_ODD = (b"\x00", b"\xff\xfe", b"<", b">", b'"', b"\\u0000", b"{", b"[" * 900, b"@base <file:///etc/> .", b"\n" * 50, b"@context", b"@import", b"http://127.0.0.1:1/",
        b"\xf0\x9f\x8f\xae", b"_:b", b"^^<x>", b'"""', b"<!ENTITY a 'b'>", b"&a;" * 99, b"1e400", b"=1+1", b"../../x")  # fmt: skip


def vocabularies_attack(tries, seed=0):
    """Change SKOS, and CSVW next to a table that is written: read, or refused in our words, and nothing is fetched."""
    rng, wrong = random.Random(seed), {}
    with (
        tempfile.TemporaryDirectory() as home,
        mock.patch("socket.socket.connect", side_effect=AssertionError("a socket")),
    ):
        for number in range(tries):
            name, text = rng.choice(
                (
                    ("s.ttl", _TTL),
                    ("s.jsonld", _JSONLD),
                    (
                        "f.csv-metadata.json",
                        '{"@context": "http://www.w3.org/ns/csvw", "url": "f.csv"}',
                    ),
                )
            )
            data = bytearray(text.encode())
            for _ in range(rng.choice((1, 1, 2, 5))):
                at = rng.randrange(len(data))
                data[at : at + rng.choice((0, 1, 9))] = rng.choice(_ODD)
            path = Path(home) / name
            path.write_bytes(data)
            began = time.perf_counter()
            try:
                if name.startswith("f."):
                    write_csv_metadata(read_findings(_table(home)), Path(home) / "f.csv")
                else:
                    read_names(path)
            except DotLedgerError as error:
                if not str(error).isprintable():
                    wrong[f"{seed}/{number}: {str(error)!r:.90}"] = 1
            except Exception as error:
                wrong[f"{seed}/{number} {name}: {type(error).__name__}: {error!s:.90}"] = 1
            if time.perf_counter() - began > _LONG:
                wrong[f"{seed}/{number} {name}: took {time.perf_counter() - began:.1f} s"] = 1
    return tries, wrong


_LONG = 20.0


def _table(home):
    path = Path(home) / "t.csv"
    if not path.exists():
        path.write_text(_rows(3))
    return path
