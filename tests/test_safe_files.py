"""Files are read only if they are files, and written only where that was asked for."""

import os
import sqlite3
import tempfile
import unittest
from pathlib import Path

from dotledger.errors import ArgumentError
from dotledger.safe_files import (
    check_output,
    check_output_folder,
    parse_toml,
    read_regular,
    whole_file,
)


class Files(unittest.TestCase):
    def setUp(self):
        self.home = Path(self.enterContext(tempfile.TemporaryDirectory()))
        self.file = self.home / "a.csv"
        self.file.write_bytes(b"truth")

    def test_what_is_read(self):
        """A pipe, a device, a folder and a file over the limit are refused at once, with the reason."""
        os.mkfifo(self.home / "pipe")
        for path, sign in (
            (self.home / "pipe", "a pipe"),
            ("/dev/zero", "a device"),
            (self.home, "a folder"),
            (self.file, "more than 4 bytes"),
        ):
            with self.assertRaisesRegex(OSError, sign):
                read_regular(path, 4)
        self.assertEqual(read_regular(self.file, 5), b"truth")
        self.assertTrue(read_regular("/proc/self/status"), "a file that says it is empty")

    def test_where_nothing_is_written(self):
        """Not over an input, a ledger, a link, a pipe; over another file only when asked."""
        ledger = self.home / "l.ledger"
        sqlite3.connect(ledger).execute("CREATE TABLE t (x)").connection.close()
        os.mkfifo(self.home / "pipe")
        (self.home / "link").symlink_to(self.file)
        other = self.home / "b.csv"
        other.write_bytes(b"old")
        for path, sign in (
            (self.file, "read by the same command"),
            (self.home / ".." / self.home.name / "a.csv", "read by the same command"),
            (ledger, "this is a ledger"),
            (self.home / "pipe", "this is a pipe"),
            (self.home / "link", "this is a link"),
            (self.home, "this is a folder"),
            (self.home / "none" / "c.csv", "mkdir -p"),
        ):
            with self.assertRaisesRegex(ArgumentError, f"--out: .*{sign}"):
                check_output(path, place="--out", inputs=[None, self.file], replace=True)
        with self.assertRaisesRegex(ArgumentError, "this file exists.*replace=True"):
            check_output(other, place="--out")
        self.assertEqual(check_output(other, place="--out", replace=True), other)
        for path in (ledger, self.home / "link", self.home / "pipe"):
            with self.assertRaises(ArgumentError), whole_file(path):
                pass
        self.assertEqual(self.file.read_bytes(), b"truth")

    def test_folders(self):
        """A folder of outputs is new or empty, unless asked, and never one that is read."""
        (self.home / "empty").mkdir()
        self.assertTrue(check_output_folder(self.home / "empty", place="--csv"))
        self.assertTrue(check_output_folder(self.home / "new", place="--csv"))
        for path, inputs, sign in (
            (self.home, (), "not empty.*replace=True"),
            (self.file, (), "not a folder"),
            (self.home / "none" / "x", (), "the folder above"),
            (self.home, (self.home,), "read by the same command"),
        ):
            with self.assertRaisesRegex(ArgumentError, sign):
                check_output_folder(path, place="--csv", inputs=inputs, replace=bool(inputs))

    def test_whole_or_not_at_all(self):
        """A write that fails leaves the old file and nothing else; the error names the file asked for."""
        with self.assertRaises(ValueError), whole_file(self.file) as draft:
            draft.write_bytes(b"half")
            raise ValueError
        self.assertEqual((self.file.read_bytes(), os.listdir(self.home)), (b"truth", ["a.csv"]))
        with self.assertRaises(OSError) as caught, whole_file(self.home / ("n" * 300)):
            pass
        self.assertEqual(Path(caught.exception.filename).name, "n" * 300)

    def test_toml(self):
        """TOML too deep or with too many digits is an error like any other."""
        for text in ("a = " + "[" * 3000, "a = " + "9" * 5000, "a ="):
            with self.assertRaises(ValueError):
                parse_toml(text)
