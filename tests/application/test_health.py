"""The page about the health of the data, against rows that were planted."""

import unittest
from urllib.parse import unquote

from lumet.browsing.pages import Page
from tests.support.projects import ApplicationCase

ROWS = 60
SCRIPT = (
    """
CREATE TABLE station (code VARCHAR(4), name VARCHAR(40), district VARCHAR(10));
CREATE TABLE light (id INTEGER PRIMARY KEY, name VARCHAR(40), call_no VARCHAR(9), station VARCHAR(4), colour VARCHAR(9), height INTEGER);
"""
    + "".join(f"INSERT INTO station VALUES ('S{n}', 'Station {n}', '{'west' if n % 2 else 'east'}');\n" for n in range(10, 10 + ROWS))
    + "".join(f"INSERT INTO light VALUES ({n}, 'Light {n}', 'L-{n}', 'S{n + 10}', 'white', {n});\n" for n in range(ROWS))
    + """
UPDATE light SET station = 'XX' WHERE id IN (3, 4);
UPDATE light SET call_no = 'L-7' WHERE id = 8;
UPDATE light SET colour = 'mauve' WHERE id = 9;
UPDATE light SET height = 999 WHERE id IN (10, 12);
UPDATE light SET name = NULL WHERE id = 11;
"""
)  # fmt: skip
LIGHT = """
[field.station]
references = "station.code"
[field.colour]
kind = "choice"
choices = ["white", "red"]
[field.height]
minimum = 0
maximum = 90
[field.name]
required = true
"""


class HealthTest(ApplicationCase):
    SCRIPT = SCRIPT

    @classmethod
    def decide(cls) -> None:
        for name, words in (("light", LIGHT), ("station", 'key = ["code"]\n')):
            path = cls.folder / f"design/tables/{name}.toml"
            text = path.read_text()
            path.write_text(words + text if name == "station" else text + words)

    def problems(self, page: Page) -> dict[str, tuple[int, str]]:
        found = {}
        for row in page.tree.css("tbody tr"):
            cells = [" ".join(cell.text().split()) for cell in row.css("td")]
            link = row.css_first("td.num a")
            address = unquote(link.attributes["href"] or "") if link else ""
            found[f"{cells[1]} {cells[2]}"] = (int(cells[3]), address)
        return found

    def test_each_problem_is_counted_and_leads_to_its_rows(self) -> None:
        client = self.client("administrator")
        page = Page(client.get("/data-health"), "/data-health")
        found = self.problems(page)
        counts = {words: count for words, (count, _address) in found.items()}
        expected = {
            "Station refers to a record that does not exist": 2,
            "Call number is not unique": 2,
            "Colour has a value that is none of the choices": 1,
            "Height is out of its range": 2,
            "Name is required, and empty": 1,
        }
        self.assertEqual(counts, expected)
        for words, (count, address) in found.items():
            with self.subTest(words):
                listed = Page(client.get(address), address)
                self.assertEqual(len(listed.tree.css("tbody tr")), count)
        alone = Page(client.get("/data-health?table=station"), "")
        self.assertEqual(self.problems(alone), {})
        self.assertEqual(client.get("/data-health?table=none").status_code, 404)

    def test_who_may_not_see_the_log_is_not_shown_it(self) -> None:
        self.assertEqual(self.client("editor").get("/data-health").status_code, 404)
        self.assertEqual(self.app.test_client().get("/data-health").status_code, 302)


if __name__ == "__main__":
    unittest.main()
