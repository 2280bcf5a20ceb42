"""The pages: what they tell a reader to type works as printed, and every page is reached."""

import os
import re
import shlex
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from sqlalchemy import update

import dotledger
from dotledger.ledger.ledger_schema import calls
from dotledger.ledger.ledger_store import LedgerStore
from tests.cli.test_messages import called
from tests.test_readme import AtHome

DOCS = Path(__file__).parent.parent / "docs"
HOW_TO = sorted((DOCS / "how-to").glob("*.md"))
FAILS = {"good-enough.md": {"gate": (0, 1)}, "choose-thresholds.md": {"choose": (0, 1)}}
"""Commands that tell by their exit status that something does not hold."""


def all_calls_alike(place):
    """Let all calls of a ledger have taken as long: a busy machine would be noticed as a change."""
    with LedgerStore(place, create=False) as ledger, ledger.writing() as connection:
        connection.execute(update(calls).values(seconds=0.1))


class HowTo(AtHome):
    def test_pages_run(self):
        """Each page from its first command to its last, in a folder of its own."""
        self.assertGreater(len(HOW_TO), 7)
        dotledger.send("photo.jpg", "myservice.toml", ledger="first.ledger")
        with dotledger.Ledger("first.ledger") as ledger:
            _, _, answer = next(ledger.answers())
        Path("answer.json").write_bytes(answer)
        port = dotledger.read_description("myservice.toml").connect.settings["port"]
        key = os.environ["FLINT_KEY"]
        self.enterContext(mock.patch.dict(os.environ, {"MINE_KEY": key}))
        Path("request.txt").write_text(
            f"curl http://127.0.0.1:{port}/v1/view -H 'X-Flint-Key: {key}'"
            " -F picture=@photo.jpg -F want=labels\n"
        )
        given = ("photos", "truth.csv", "myservice.toml", "photo.jpg", "answer.json", "request.txt")
        for page in HOW_TO:
            with self.subTest(page.name), tempfile.TemporaryDirectory() as home:
                for name in given:
                    (Path(home) / name).symlink_to(Path(name).absolute())
                there = Path.cwd()
                os.chdir(home)
                try:
                    self.run_page(page)
                finally:
                    os.chdir(there)

    def run_page(self, page):
        text = page.read_text(encoding="utf-8")
        for language, block in re.findall(r"```(\w+)\n(.*?)```", text, re.DOTALL):
            if language == "toml":
                name = "gates.toml" if block.startswith("gates_file") else "rules.toml"
                Path(name).write_text(block, encoding="utf-8")
            for line in block.splitlines() if language == "sh" else ():
                words = shlex.split(line)
                self.assertEqual(words[0], "dotledger", line)
                allowed = FAILS.get(page.name, {}).get(words[1], (0, 3))
                if words[1] == "drift":
                    all_calls_alike(words[words.index("--ledger") + 1])
                status, out, err = called(*words[1:])
                self.assertIn(status, allowed, f"{line}\n{out}\n{err}")


class FirstSteps(AtHome):
    def test_page(self):
        """The page that a newcomer begins with."""
        text = (DOCS / "first-steps.md").read_text(encoding="utf-8")
        shell, asked, python = re.findall(r"```\w+\n(.*?)```", text, re.DOTALL)
        for line in (*shell.splitlines()[1:], *asked.splitlines()):
            status, _, err = called(*shlex.split(line)[1:])
            self.assertEqual(status, 0, f"{line}\n{err}")
        exec(python, {"dotledger": dotledger})


class Scale(AtHome):
    def test_page(self):
        """Measuring in parts, as the page shows it; here in threads of this process."""
        dotledger.send("photos", "myservice.toml", ledger="photos.ledger")
        dotledger.write_table(dotledger.findings_of("photos.ledger"), "found.csv")
        text = (DOCS / "scale.md").read_text(encoding="utf-8")
        [python] = re.findall(r"```python\n(.*?)```", text, re.DOTALL)
        here = "Client(n_workers=1, threads_per_worker=1, processes=False, dashboard_address=None)"
        names = {}
        exec(python.replace("Client()", here), names)
        whole = dotledger.measure("found.csv", "truth.csv", threshold=0.5, draws=0)
        self.assertEqual(names["result"].kinds["object"], whole.kinds["object"])


class Pages(unittest.TestCase):
    def test_every_page_is_listed(self):
        """No page stands aside: the index names each, and nothing that is not there."""
        index = (DOCS / "index.md").read_text(encoding="utf-8")
        entries = {
            line
            for block in re.findall(r"```\{toctree\}(.*?)```", index, re.DOTALL)
            for line in block.splitlines()
            if line and not line.startswith(":")
        }
        listed = {entry for entry in entries if not entry.startswith("made/")}
        pages = {
            str(page.relative_to(DOCS).with_suffix(""))
            for page in DOCS.rglob("*.md")
            if page.relative_to(DOCS).parts[0] not in ("_build", "made")
        }
        self.assertEqual(listed, pages - {"index"})

    def test_links_lead_somewhere(self):
        """Between the pages, as they are read in the repository too; whole or within a page."""
        for page in [*DOCS.glob("*.md"), *HOW_TO, *(DOCS / "explained").glob("*.md")]:
            text = page.read_text(encoding="utf-8")
            for link in re.findall(r"\]\(([^)#\s]+)", text):
                if "://" not in link:
                    self.assertTrue((page.parent / link).exists(), f"{page.name}: {link}")

    def test_the_checker_finds_what_is_wrong(self):
        """A page that is missing, a place that is missing, a script from elsewhere."""
        import importlib.util

        spec = importlib.util.spec_from_file_location("links", DOCS / "links.py")
        links = importlib.util.module_from_spec(spec)
        spec.loader.exec_module(links)
        with tempfile.TemporaryDirectory() as home:
            page = '<p id="here"></p><a href="#here">x</a><a href="#gone">x</a><a href="no.html">x</a><script src="https://x.example/a.js"></script>'
            (Path(home) / "a.html").write_text(f"<html><body>{page}</body></html>")
            found = [what for _, what in links.wrong_links(Path(home))]
        self.assertEqual(
            sorted(what.partition(":")[0] for what in found),
            ["loaded from outside", "no such page", "no such place"],
        )
