"""Dates, moments, yes and no in columns of other types: shown as what they are, written
back as they are spelled there."""

import re

from tests.support.projects import ApplicationCase

ROWS = [
    (n, f"L{n}", "Y" if n % 3 else "N", "t" if n % 2 else "f", f"{n:02d}.0{n % 9 + 1}.19{n + 30}",
     1_700_000_000 + n, 2_460_000.5 + n, f"2026-01-{n:02d}T10:00:00", 20_260_100 + n,
     f"2026-02-{n:02d}", 1_700_000_000_000 + n * 1000)
    for n in range(1, 29)
]  # fmt: skip
SCRIPT = (
    """
CREATE TABLE light (
    id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, staffed CHAR(1), lit BOOLEAN,
    first_lit TEXT, seen_at DATETIME, built DATE, entered_at TEXT, due_on INTEGER,
    painted DATE, cleaned DATETIME, gone CHAR(1) DEFAULT 'N' CHECK (gone IN ('Y', 'N')));
CREATE TABLE plain (a, b ANY, c) STRICT;
CREATE VIRTUAL TABLE notes USING fts5 (body);
CREATE TABLE spot (a TEXT COLLATE NOCASE, n INTEGER, PRIMARY KEY (a, n)) WITHOUT ROWID;
CREATE INDEX spot_n ON spot (n DESC, lower(a));
CREATE TABLE loose (a REAL, b INTEGER, c DATE, note TEXT, PRIMARY KEY (a, b, c));
INSERT INTO loose VALUES ('2026-01-01', 'x/1', '24.12.2026', 'odd'), (1.5, 2, '25.12.2026', 'plain'),
    (7, 8, '26.12.2026', 'third'), (NULL, 1, '01.01.2026', 'no key');
CREATE TRIGGER kept BEFORE DELETE ON spot BEGIN SELECT 1; END;
INSERT INTO notes VALUES ('a buoy adrift');
INSERT INTO spot VALUES ('Bar', 1);
""".replace(
        "CREATE TABLE plain (a, b ANY, c) STRICT;",
        "CREATE TABLE plain (a INT, b ANY) STRICT;",
    )
    + "".join(f"INSERT INTO light VALUES {(*row, None)};\n" for row in ROWS).replace(
        "None", "'N'"
    )
    + "INSERT INTO light (id, name, staffed, first_lit, seen_at, built)"
    " VALUES (50, 'Odd', 'maybe', 'long ago', 'x', 'y');"
)
SHOWN = ("Yes", "1 Feb 1931", "14 Nov 2023, 22:13:21", "26 Feb 2023", "1 Jan 2026, 10:00",
         "1 Jan 2026", "1 Feb 2026")  # fmt: skip


class SpellingsTest(ApplicationCase):
    SCRIPT = SCRIPT

    def test_values_are_shown_as_what_they_are(self) -> None:
        page = self.client().get("/t/light/r/1").get_data(as_text=True)
        for text in SHOWN:
            self.assertIn(text, page)
        odd = self.client().get("/t/light/r/50").get_data(as_text=True)
        for text in ("maybe", "long ago"):
            self.assertIn(text, odd)

    def test_they_are_written_as_they_are_spelled(self) -> None:
        client = self.client()
        data = self.form_data(client, "/t/light/r/1/edit")
        self.assertEqual((data["first_lit"], data["gone"]), ("1 Feb 1931", "no"))
        changed = data | {
            "staffed": "no", "lit": "no", "first_lit": "1902-05-01", "built": "2023-02-27",
            "seen_at": "2023-11-14T22:13:20", "entered_at": "2026-03-04T05:06",
            "due_on": "2026-12-24", "painted": "2026-12-25", "cleaned": "2023-11-14T22:13:20",
            "gone": "yes",
        }  # fmt: skip
        answer = client.post("/t/light/r/1/edit", data=changed)
        self.assertEqual(answer.status_code, 302, answer.get_data(as_text=True)[-2000:])
        self.assertEqual(
            self.rows("SELECT * FROM light WHERE id = 1")[0][2:],
            ("N", "f", "01.05.1902", 1_700_000_000, 2_460_002.5, "2026-03-04T05:06:00",
             20_261_224, "2026-12-25", 1_700_000_000_000, "Y"),
        )  # fmt: skip

    def test_an_unchanged_form_writes_nothing(self) -> None:
        before = self.rows("SELECT * FROM light")
        for key in (1, 28, 50):
            data = self.form_data(self.client(), f"/t/light/r/{key}/edit")
            answer = self.client().post(f"/t/light/r/{key}/edit", data=data)
            self.assertEqual(answer.status_code, 302)
        self.assertEqual(self.rows("SELECT * FROM light"), before)

    def test_a_list_is_in_the_order_of_the_dates(self) -> None:
        client, address, seen = self.client(), "/t/light?sort=first_lit", []
        while address:
            page = client.get(address).get_data(as_text=True)
            seen += re.findall(r'href="/t/light/r/(\d+)"', page)
            later = re.search(r'href="([^"]*)" aria-label="Next page', page)
            address = later[1].replace("&amp;", "&") if later else ""
        self.assertEqual([int(key) for key in dict.fromkeys(seen)], [*range(1, 29), 50])

    def test_facts_of_odd_tables(self) -> None:
        from lumet.project.surveyfile import read_survey

        database = read_survey(self.folder).database
        self.assertEqual(
            [table.name for table in database.tables],
            ["light", "loose", "notes", "plain", "spot"],
        )
        spot = database.table("spot")
        self.assertTrue(spot.column("a").type.ignores_case)
        self.assertEqual(spot.triggers, ("kept",))
        (index,) = spot.indexes
        self.assertEqual((index.columns, index.descending), (("n",), ("n",)))
        self.assertTrue(index.computed)
        self.assertFalse(spot.column("n").automatic)

    def test_keys_of_another_type_than_declared_are_reached(self) -> None:
        client = self.client()
        page = client.get("/t/loose").get_data(as_text=True)
        links = re.findall(r'href="(/t/loose/r/[^"/]+)"', page)
        self.assertEqual(len(set(links)), 3, "what has no whole key is no link")
        self.assertIn("no key", page)
        for link in set(links):
            self.assertEqual(client.get(link).status_code, 200, link)
            data = self.form_data(client, f"{link}/edit") | {"note": "changed"}
            self.assertEqual(
                client.post(f"{link}/edit", data=data).status_code, 302, link
            )
        rows = self.rows(
            "SELECT a, b, c FROM loose WHERE note = 'changed' ORDER BY typeof(a)"
        )
        self.assertEqual(
            set(rows),
            {
                (1.5, 2, "25.12.2026"),
                (7, 8, "26.12.2026"),
                ("2026-01-01", "x/1", "24.12.2026"),
            },
        )
