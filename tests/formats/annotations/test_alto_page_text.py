"""Transcribed pages: ALTO and PAGE, as their own documents show them."""

import tempfile
import unittest
from pathlib import Path

from PIL import Image

from dotledger import Findings, measure
from dotledger.errors import TableError
from dotledger.formats.annotations.annotation_files import load_annotations

ALTO = """<?xml version="1.0" encoding="UTF-8"?>
<alto xmlns="http://www.loc.gov/standards/alto/ns-v4#">
  <Description>
    <MeasurementUnit>{unit}</MeasurementUnit>
    <sourceImageInformation><fileName>scans/0001.tif</fileName></sourceImageInformation>
  </Description>
  <Layout>
    <Page ID="P1" PHYSICAL_IMG_NR="1" WIDTH="600" HEIGHT="400">
      <PrintSpace><TextBlock ID="B1">
        <TextLine ID="L1" HPOS="60" VPOS="40" WIDTH="300" HEIGHT="30">
          <String CONTENT="Lanterns" HPOS="60" VPOS="40" WIDTH="120" HEIGHT="30"/>
          <SP WIDTH="8" HPOS="180" VPOS="40"/>
          <String CONTENT="at" HPOS="188" VPOS="40" WIDTH="30" HEIGHT="30"/>
          <String CONTENT="twi" SUBS_TYPE="HypPart1" SUBS_CONTENT="twilight" HPOS="226" VPOS="40" WIDTH="40" HEIGHT="30"/>
          <HYP CONTENT="-"/>
        </TextLine>
        <!-- nobody could read the next one -->
        <TextLine ID="L2" HPOS="60" VPOS="80" WIDTH="200" HEIGHT="30"/>
        <TextLine ID="L3" VPOS="120"><String CONTENT="nowhere"/></TextLine>
      </TextBlock></PrintSpace>
    </Page>
  </Layout>
</alto>
"""

PAGE = """<?xml version="1.0" encoding="UTF-8"?>
<PcGts xmlns="http://schema.primaresearch.org/PAGE/gts/pagecontent/2019-07-15">
  <Metadata><Creator>a scribe</Creator></Metadata>
  <Page imageFilename="0002.jpg" imageWidth="600" imageHeight="400">
    <TextRegion id="r1">
      <Coords points="40,30 500,30 500,140 40,140"/>
      <TextLine id="l1">
        <Coords points="60,40 360,44 360,72 60,70"/>
        <Word id="w1"><Coords points="60,40 90,40 90,70"/><TextEquiv><Unicode>Drums</Unicode></TextEquiv></Word>
        <TextEquiv index="1"><Unicode>Drums and flags</Unicode></TextEquiv>
        <TextEquiv index="0"><Unicode>Drums and flutes</Unicode></TextEquiv>
      </TextLine>
      <TextLine id="l2">
        <Coords><Point x="60" y="90"/><Point x="200" y="90"/><Point x="200" y="120"/></Coords>
        <Word id="w2"><TextEquiv><Unicode>until</Unicode></TextEquiv></Word>
        <Word id="w3"><TextEquiv><Unicode>dawn</Unicode></TextEquiv></Word>
      </TextLine>
    </TextRegion>
  </Page>
</PcGts>
"""


class Pages(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def write(self, text, name="one.xml"):
        (self.home / name).write_text(text, encoding="utf-8")
        return self.home / name

    def test_alto(self):
        """Words of a line with their hyphen; a line without text is ignored, one without a place refused."""
        loaded = load_annotations(self.write(ALTO.format(unit="pixel")))
        frame = loaded.annotations.frame()
        lines = frame[frame.label != ""]
        self.assertEqual(lines.image.unique().tolist(), ["0001.tif"])
        self.assertEqual(lines.label.tolist(), ["Lanterns at twi-", "(unread)"])
        self.assertEqual(lines.ignore.tolist(), [False, True])
        self.assertEqual(lines.iloc[0][["x0", "y0", "x1", "y1"]].tolist(), [60, 40, 360, 70])
        self.assertEqual(loaded.report.refused, (("0001.tif", "line without a place", "nowhere"),))

    def test_units(self):
        """Tenths of a millimetre need the size of the image, which its file tells."""
        path = self.write(ALTO.format(unit="mm10"))
        with self.assertRaisesRegex(TableError, "mm10 need the size.*images="):
            load_annotations(path)
        folder = self.home / "images"
        folder.mkdir()
        Image.new("RGB", (1200, 800)).save(folder / "0001.jpg")
        loaded = load_annotations(path, images=folder)
        frame = loaded.annotations.frame()
        self.assertEqual(frame.image[0], "0001.jpg")  # the one of that name but for its ending
        self.assertEqual(frame.iloc[0][["x0", "y0", "x1", "y1"]].tolist(), [120, 80, 720, 140])
        self.assertEqual(loaded.report.missing, ())

    def test_page(self):
        """The first reading of a line, or its words; polygons of either age, and their boxes."""
        found = load_annotations(self.write(PAGE)).annotations
        frame = found.frame()
        self.assertEqual(frame.label.tolist(), ["Drums and flutes", "until dawn"])
        self.assertEqual(frame.iloc[0][["x0", "y0", "x1", "y1"]].tolist(), [60, 40, 360, 72])
        self.assertEqual(found.details[0].polygon, ((60, 40), (360, 44), (360, 72), (60, 70)))
        self.assertEqual(frame.iloc[1][["x0", "y0", "x1", "y1"]].tolist(), [60, 90, 200, 120])
        self.assertEqual(found.images["0002.jpg"], {"width": 600, "height": 400})

    def test_a_folder_is_measured(self):
        """Both forms side by side; what a service read is judged line by line."""
        self.write(ALTO.format(unit="pixel"), "a.xml")
        self.write(PAGE, "b.xml")
        truth = load_annotations(self.home).annotations
        found = Findings.from_columns(
            image=["0002.jpg"] * 2, kind=["text"] * 2, label=["Drums and flutes", "until down"],
            confidence=[0.9, 0.8], x0=[60, 60], y0=[40, 90], x1=[360, 200], y1=[72, 120],
        )  # fmt: skip
        text = measure(found, truth).text()
        self.assertEqual((text.annotated, text.paired, text.exact, text.edits), (2, 2, 1, 1))

    def test_wrong_files(self):
        """Other XML, entities, two pages, half a file: each is said, with what to do."""
        for text, sign in (
            ("<other/>", "names no known format"),
            ('<!DOCTYPE a [<!ENTITY b "c">]><alto>&b;</alto>', "names no known format"),
            (PAGE.replace("</PcGts>", "<Page/></PcGts>"), "holds 2"),
            (PAGE[:500], "names no known format"),
        ):
            with self.assertRaisesRegex(TableError, sign):
                load_annotations(self.write(text))
        self.write(PAGE, "a.xml")
        self.write("<other/>", "b.xml")
        (self.home / "one.xml").unlink()
        with self.assertRaisesRegex(TableError, "neither ALTO nor PAGE"):
            load_annotations(self.home)
