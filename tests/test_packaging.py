"""What is installed: wheel and sdist whole, and the same whenever they are made."""

import os
import subprocess
import sys
import tarfile
import tempfile
import unittest
import zipfile
from pathlib import Path

ROOT = Path(__file__).parent.parent


def files_of(folder):
    """The files of a folder, as the project's own: no caches."""
    return {
        path.relative_to(ROOT).as_posix()
        for path in (ROOT / folder).rglob("*")
        if path.is_file() and not any(p == "__pycache__" or p.startswith(".") for p in path.relative_to(ROOT).parts)
    }  # fmt: skip


class Packages(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        """Make both packages twice, each time in a process of its own."""
        home = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        for name in ("one", "two"):
            environment = {**os.environ, "PYTHONHASHSEED": str(len(name) + ord(name[0]))}
            subprocess.run(
                [sys.executable, "-m", "hatchling", "build", "-d", str(home / name)],
                cwd=ROOT,
                check=True,
                capture_output=True,
                env=environment,
            )
        cls.made = {name: sorted((home / name).iterdir()) for name in ("one", "two")}

    def test_reproducible(self):
        """Two builds are equal byte for byte."""
        one, two = (
            [(path.name, path.read_bytes()) for path in self.made[n]] for n in ("one", "two")
        )
        self.assertEqual(len(one), 2)
        self.assertEqual(one, two)

    def test_the_wheel_is_whole(self):
        """Every file of the package is in it, also those that are no Python."""
        [wheel] = [path for path in self.made["one"] if path.suffix == ".whl"]
        inside = {
            name for name in zipfile.ZipFile(wheel).namelist() if name.startswith("dotledger/")
        }
        files = {name.removeprefix("src/") for name in files_of("src/dotledger")}
        self.assertEqual(inside, files)
        self.assertTrue(any(name.endswith(".css") for name in files))

    def test_the_sdist_can_be_tested(self):
        """Tests, their data, examples, documents and benchmarks come along."""
        [archive] = [path for path in self.made["one"] if path.name.endswith(".tar.gz")]
        with tarfile.open(archive) as opened:
            inside = {name.partition("/")[2] for name in opened.getnames()}
        for folder in ("tests", "examples", "docs", "benchmarks", "src/dotledger"):
            made = {f for f in files_of(folder) if f.startswith(("docs/made/", "docs/_build/"))}
            self.assertEqual(files_of(folder) - made - inside, set(), folder)
        for name in ("README.md", "LICENSE", "CHANGELOG.md", "CITATION.cff", "pyproject.toml"):
            self.assertIn(name, inside)
