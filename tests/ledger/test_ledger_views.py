"""A ledger asked in SQL: views of the documented names and columns, also after an upgrade."""

import json
import re
import sqlite3
from contextlib import closing
from pathlib import Path

from dotledger.ledger.batch_queries import find_batch
from dotledger.ledger.ledger_migrations import upgrade
from dotledger.ledger.ledger_store import LedgerStore
from dotledger.ledger.usage_queries import calls_about
from dotledger.testing import Response
from tests.forked import dotledger
from tests.ledger.test_ledger_migrations import OLD, Kept
from tests.sending.helpers import ANSWER, description, picture, pictures

PAGE = (Path(__file__).parents[2] / "docs" / "ledger.md").read_text()


class Views(Kept):
    def columns(self, view):
        with closing(sqlite3.connect(self.path)) as connection:
            return [row[1] for row in connection.execute(f"PRAGMA table_info({view})")]

    def test_as_documented(self):
        """Names and columns are those of the page, new and upgraded alike, and its questions run."""
        named = dict(re.findall(r"^\| `(\w+)` \|[^|]+\| (.+) \|$", PAGE, re.MULTILINE))
        wanted = {
            view: re.findall(r"\w+", re.sub(r"\(.*?\)", "", columns))
            for view, columns in named.items()
        }
        self.assertEqual(set(wanted), {"images", "outcomes", "findings", "answers", "verdicts"})
        self.send({**pictures(3), "small.jpg": picture(9, (4, 4))}, [ANSWER])
        for make in (lambda: None, lambda: (self.old(OLD[0]), upgrade(str(self.path)))):
            make()
            self.assertEqual({view: self.columns(view) for view in wanted}, wanted)
            self.assertEqual(self.rows(self.path, "PRAGMA application_id"), [(0x444C6564,)])
            for question in re.findall(r"```sql\n(.*?)```", PAGE, re.DOTALL):
                self.rows(self.path, question)

    def test_what_they_hold(self):
        """Three images found, one refused; findings of the newest reading, without blank rows."""
        self.send({**pictures(3), "small.jpg": picture(9, (4, 4))}, [ANSWER])
        count = "SELECT count(*) FROM "
        for view, number in (("images", 4), ("findings", 6), ("answers", 3), ("verdicts", 0)):
            self.assertEqual(self.rows(self.path, count + view), [(number,)])
        outcomes = self.rows(
            self.path, "SELECT outcome, count(*) FROM outcomes GROUP BY 1 ORDER BY 1"
        )
        self.assertEqual(outcomes, [("found", 6), ("refused", 2)])
        self.assertEqual(
            self.rows(
                self.path,
                "SELECT label, x0, x1 FROM findings WHERE kind = 'object' AND image = 'p-1.jpg'",
            ),
            [("bell", 1.0, 5.0)],
        )

    def test_heads_of_answers(self):
        """What the service calls the request is kept with the call, and what is named; shown, too."""
        head = {
            "x-request-id": "r-17",
            "x-lamp": "7",
            "set-cookie": "secret",
            "sunset": "Sat, 1 May 2027",
        }
        reply = Response(status=200, headers=head, body=json.dumps(ANSWER).encode())
        service = description(("[[read]]", '[envelope]\nkeep_headers = ["X-Lamp"]\n[[read]]'))
        self.send(pictures(1), [reply], service)
        with LedgerStore(self.path) as ledger:
            [call] = calls_about(ledger, find_batch(ledger), 0)
        self.assertEqual(
            call["headers"], {"x-request-id": "r-17", "sunset": "Sat, 1 May 2027", "x-lamp": "7"}
        )
        done = dotledger("show", "p-0.jpg", "--ledger", "l.ledger", cwd=self.folder)
        self.assertRegex(done.stdout, r"x-request-id +r-17")
        self.assertNotIn("secret", done.stdout)
