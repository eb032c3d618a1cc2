"""Exports and lists of many rows: every row once, by one statement, and limited before
other tables are joined."""

import csv
import io
import json
import threading
from typing import Any
from unittest import mock

from sqlalchemy import event

from tests.support.projects import ApplicationCase

SCRIPT = """
CREATE TABLE district (code TEXT PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE station (id INTEGER PRIMARY KEY, name TEXT NOT NULL, district_code TEXT NOT NULL REFERENCES district,
    above_id INTEGER REFERENCES station, height REAL, grade INTEGER, note TEXT, weight NUMERIC);
CREATE TABLE diary (at_time TEXT, words TEXT, amount NUMERIC);
INSERT INTO district VALUES ('NR', 'North Reach'), ('SF', 'Saltfen');
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 9000)
INSERT INTO station SELECT i, 'Station ' || i, CASE i % 2 WHEN 0 THEN 'NR' ELSE 'SF' END,
    CASE WHEN i > 9 THEN i / 10 END, i * 1.5, i % 5, '=note ' || i, NULL FROM n;
UPDATE station SET weight = x'302e3031' WHERE id = 1;
WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 7000)
INSERT INTO diary SELECT '2025-01-01', 'line ' || (i % 50), i FROM n;
"""


class ExportsTest(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "design/tables/station.toml"
        decided = '[list]\ncolumns = ["district_code", "above_id", "grade", "weight"]\norder = ["grade"]\n'
        text = path.read_text().replace("[list]  #~\n", "")
        path.write_text(text + "\n" + decided)
        path = cls.folder / "design/tables/district.toml"
        path.write_text(path.read_text() + '\n[field.code]\nkind = "choice"\nchoices = { NR = "The north", SF = "The fen" }\n')  # fmt: skip

    def listen(self) -> list[str]:
        """Return a list that fills with the statements that are sent."""
        said: list[str] = []
        engine = self.app.extensions["site"].database.engine

        def note(_connection: Any, _cursor: Any, statement: str, *_rest: Any) -> None:
            said.append(" ".join(statement.split()))

        event.listen(engine, "before_cursor_execute", note)
        self.addCleanup(event.remove, engine, "before_cursor_execute", note)
        return said

    def test_rows_are_limited_before_they_are_joined(self) -> None:
        client, said = self.client(), self.listen()
        for address in ("/t/station", "/t/station?sort=-name", "/t/station?grade.is=3"):
            said.clear()
            self.assertEqual(client.get(address).status_code, 200)
            (read,) = [s for s in said if "JOIN" in s and "count(" not in s]
            inner, _joins, _rest = read.partition("LEFT OUTER JOIN")
            self.assertRegex(inner, r"FROM \(SELECT .* LIMIT .*\) AS station")
        said.clear()
        client.get("/t/station?sort=district_code")  # its title stands in another table
        (read,) = [s for s in said if "JOIN" in s and "count(" not in s]
        self.assertLess(read.index("LEFT OUTER JOIN"), read.index("LIMIT"))

    def test_an_export_is_one_statement_with_every_row_once(self) -> None:
        client, said = self.client(), self.listen()
        for name, count in (("station", 9000), ("diary", 7000)):
            for kind in ("csv", "json"):
                said.clear()
                out = client.get(f"/t/{name}/export.{kind}").data.decode("utf-8-sig")
                rows = list(csv.reader(io.StringIO(out, newline="")))[1:] if kind == "csv" else json.loads(out)  # fmt: skip
                self.assertEqual(len(rows), count)
                self.assertEqual(len({str(row) for row in rows}), count)
                self.assertEqual(len([s for s in said if f"FROM {name}" in s]), 1)

    def test_bytes_in_a_number_column_and_labels_with_their_values(self) -> None:
        client = self.client()
        rows = csv.DictReader(io.StringIO(client.get("/t/station/export.csv").data.decode("utf-8-sig")))  # fmt: skip
        self.assertEqual({row["Weight"] for row in rows}, {"0.01", ""})
        plain = client.get("/t/district/export.csv?columns=code").text
        self.assertIn("The north", plain)
        self.assertNotIn("NR", plain)
        self.assertIn(
            "NR", client.get("/t/district/export.csv?columns=code&keys=1").text
        )

    def test_two_at_once_and_a_third_waits(self) -> None:
        import importlib

        exporting = importlib.import_module(f"{self.package}.kit.lists.export")
        begun, go_on = threading.Semaphore(0), threading.Event()
        plain = exporting.WRITERS["csv"]

        def slow(export: Any, target: Any) -> None:
            begun.release()
            go_on.wait(20)
            plain(export, target)

        clients = [self.client() for _number in range(3)]
        codes: list[int] = []

        def take(client: Any) -> None:
            codes.append(client.get("/t/district/export.csv").status_code)

        with mock.patch.dict(exporting.WRITERS, {"csv": slow}):
            threads = [threading.Thread(target=take, args=[c]) for c in clients[:2]]
            for each in threads:
                each.start()
                self.assertTrue(begun.acquire(timeout=20))
            third = clients[2].get("/t/district/export.csv")
            go_on.set()
            for each in threads:
                each.join()
        self.assertEqual((third.status_code, codes), (503, [200, 200]))
        self.assertGreater(int(third.headers["Retry-After"]), 0)
        self.assertIn('http-equiv="refresh"', third.text)
        self.assertEqual(clients[2].get("/t/district/export.csv").status_code, 200)

    def test_one_beyond_the_limits_is_refused(self) -> None:
        site = self.app.extensions["site"]
        with mock.patch.object(site, "export_bytes", 10_000):
            answer = self.client().get("/t/station/export.csv")
        self.assertEqual(answer.status_code, 413)
        self.assertIn("Add a filter", answer.text)
