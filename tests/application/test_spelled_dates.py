"""Dates that columns of other types spell, zeros among them: found in the rows, and then
calendars, groups by time, filters and forms as for any date, on three servers."""

import re
from collections import Counter
from datetime import UTC, date, datetime, timedelta
from typing import Any

from lumet.kit.common.formatting import date_text
from lumet.rehearsal.checks import rehearse
from lumet.rehearsal.probe import Probe
from lumet.rehearsal.rehearsal import Rehearsal
from tests.application.test_layouts import days
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

FIRST = date(2025, 11, 3)
DAYS = {n: FIRST + timedelta(days=n * 7 % 47 * 4) for n in range(1, 61)}


def _seconds(day: date) -> int:
    return int(datetime(day.year, day.month, day.day, 9, 30, tzinfo=UTC).timestamp())


def day_of(column: str, number: int) -> date | None:
    """Return the day of a column in a row, by the plain model."""
    lacks = {"CLSDT": number % 3 == 0, "ENTERED": number % 4 == 0, "seen_at": number % 5 == 0,
             "LAPSED": number % 3 == 1}  # fmt: skip
    return None if lacks.get(column) else DAYS[number]


def _row(number: int) -> str:
    def spelled(column: str, pattern: str, none: str) -> str:
        day = day_of(column, number)
        return none if day is None else day.strftime(pattern)

    seen = day_of("seen_at", number)
    values = (
        str(number), f"'Round {number}'", spelled("INSPDT", "%Y%m%d", ""), spelled("CLSDT", "%Y%m%d", "0"),
        f"'{spelled('ENTERED', '%Y%m%d', '00000000')}'", f"'{spelled('TOLD', '%d.%m.%Y', '')}'",
        str(_seconds(seen) if seen else 0), str(_seconds(DAYS[number]) * 1000), str(number % 7),
        f"'{spelled('LAPSED', '%Y%m%d', number % 2 * 8 * ' ')}'",
    )  # fmt: skip
    return f"INSERT INTO TROUND VALUES ({', '.join(values)});"


SCRIPT = """
CREATE TABLE TROUND (RNDNO INTEGER PRIMARY KEY, RNDNAME VARCHAR(20) NOT NULL, INSPDT DECIMAL(8,0) NOT NULL,
    CLSDT INTEGER DEFAULT 0 NOT NULL, ENTERED VARCHAR(8) DEFAULT '00000000' NOT NULL, TOLD VARCHAR(10) NOT NULL,
    seen_at INTEGER DEFAULT 0 NOT NULL, sent_at BIGINT NOT NULL,
    VISITS INTEGER NOT NULL, LAPSED CHAR(8) DEFAULT '' NOT NULL);
""" + "\n".join(map(_row, DAYS))  # fmt: skip
HERE = "/t/tround"
COLUMNS = {"INSPDT": "", "CLSDT": "0", "ENTERED": '"00000000"', "TOLD": "", "seen_at": "0", "sent_at": "", "LAPSED": '""'}  # fmt: skip


class SpelledDates:
    """The tests, for each kind of database; not a test by itself."""

    @classmethod
    def script(cls) -> str:
        return SCRIPT

    @classmethod
    def decide(cls: Any) -> None:
        (path,) = (cls.folder / "design/tables").glob("*.toml")
        cls.found = path.read_text()
        (name,) = re.findall(r"(?im)^\[field\.(INSPDT)\]", cls.found)
        names = {n.upper(): n for n in re.findall(r"(?m)^\[field\.(\w+)\]", cls.found)}
        totals = {"CLSDT": "min", "ENTERED": "max", "VISITS": "avg"}
        decided = "".join(f'field.{names[c]}.total = "{total}"\n' for c, total in totals.items())  # fmt: skip
        path.write_text(f'{decided}{cls.found}\n[list]\ncalendar = ["{name}"]\n')

    def setUp(self: Any) -> None:
        super().setUp()
        self.user = self.client()

    def key(self: Any, column: str) -> str:
        return column.lower()

    def numbers(self: Any, query: str) -> list[int]:
        """Return the numbers of the rows of a list, over all its pages."""
        address, found = f"{HERE}?rows=25&{query}", ""
        while address:
            page = self.user.get(address).text
            found += page
            later = re.search(r'href="([^"]*)" aria-label="Next page', page)
            address = later[1].replace("&amp;", "&") if later else ""
        return [int(n) for n in re.findall(r'class="title"[^>]*>(?:<[^>]*>)*Round (\d+)', found)]  # fmt: skip

    def test_they_are_found_in_the_rows(self: Any) -> None:
        for column, none in COLUMNS.items():
            at = re.search(rf"(?ims)^\[field\.{column}\](.*?)(^\[|\Z)", self.found)
            assert at is not None, self.found
            self.assertRegex(at[1], r'kind = "date(time)?"')
            stated = re.search(r"(?m)^#~ none = (\S+)", at[1])
            self.assertEqual(stated[1] if stated else "", none, column)

    def test_groups_by_time(self: Any) -> None:
        for column in COLUMNS:
            for every, length in (("year", 4), ("month", 7), ("day", 10)):
                held = [day_of(column, n) for n in DAYS]
                wanted = Counter(str(day)[:length] if day else "empty" for day in held)
                query = f"layout=groups&by={self.key(column)}&every={every}"
                page = self.user.get(f"{HERE}?{query}").text
                rows = re.findall(r'<a class="title" href="[^"]*">([\w-]+)</a></td>\s*<td class="num">(\d+)', page)  # fmt: skip
                self.assertEqual({day: int(n) for day, n in rows}, wanted, (column, every))  # fmt: skip

    def test_filters(self: Any) -> None:
        low, high = date(2025, 12, 10), date(2026, 2, 1)
        for column in COLUMNS:
            key = self.key(column)
            cases = {
                f"{key}.from={low}": lambda day: day and day >= low,
                f"{key}.to={high}": lambda day: day and day <= high,
                f"{key}.from={low}&{key}.to={high}": lambda day: day and low <= day <= high,
                f"{key}.within=before-today": lambda day: day and day < date.today(),
                f"{key}.empty=1": lambda day: day is None,
            }  # fmt: skip
            for query, fits in cases.items():
                expected = [n for n in DAYS if fits(day_of(column, n))]
                self.assertEqual(sorted(self.numbers(query)), expected, query)
            listed = self.numbers(f"sort=-{key}")
            self.assertEqual(sorted(listed), [*DAYS], key)
            found = [day_of(column, n) for n in listed]
            dated = [day for day in found if day]
            self.assertEqual(dated, sorted(dated, reverse=True), key)
            self.assertIn(
                found.index(dated[0]), (0, len(found) - len(dated)), "in one block"
            )

    def test_totals(self: Any) -> None:
        # of dates without what stands for none, of whole numbers to two digits
        page = self.user.get(f"{HERE}?columns=visits,clsdt,entered").text
        foot = page[page.index("<tfoot") : page.index("</tfoot>")]
        words = " ".join(re.sub(r"<[^>]+>", " ", foot).split())
        visits = round(sum(n % 7 for n in DAYS) / len(DAYS), 2)
        closed = min(day for n in DAYS if (day := day_of("CLSDT", n)))
        entered = max(day for n in DAYS if (day := day_of("ENTERED", n)))
        self.assertEqual(words, f"All 60 average {visits} lowest {date_text(closed, 'en_GB')} highest {date_text(entered, 'en_GB')}")  # fmt: skip

    def test_forms_and_moves(self: Any) -> None:
        client, address = self.user, f"{HERE}/r/1"
        data = self.form_data(client, f"{address}/edit")
        emptied = data | {self.key(c): "" for c in ("CLSDT", "ENTERED", "seen_at")}
        self.assertEqual(client.post(f"{address}/edit", data=emptied).status_code, 302)
        stored = "SELECT CLSDT, ENTERED, seen_at FROM TROUND WHERE RNDNO = 1"
        self.assertEqual(tuple(self.rows(stored)[0]), (0, "00000000", 0))
        again = self.form_data(client, f"{address}/edit") | {
            self.key(c): data[self.key(c)] for c in ("CLSDT", "ENTERED", "seen_at")
        }
        self.assertEqual(client.post(f"{address}/edit", data=again).status_code, 302)
        for text, stored in (("", ""), (str(DAYS[2]), f"{DAYS[2]:%Y%m%d}")):
            data = self.form_data(client, f"{HERE}/r/2/edit") | {"lapsed": text}
            self.assertEqual(
                client.post(f"{HERE}/r/2/edit", data=data).status_code, 302
            )
            ((held,),) = self.rows("SELECT LAPSED FROM TROUND WHERE RNDNO = 2")
            self.assertEqual(held.strip(), stored)
        day = DAYS[1]
        page = client.get(f"{HERE}?layout=calendar&span=week&at={day}").text
        self.assertIn("Round 1", " ".join(days(page)[day]))
        moved = {
            "was-inspdt": str(day),
            "from-day": str(day),
            "day": "2026-07-09",
        }
        token = self.form_data(client, f"{address}/edit")["csrf_token"]
        answer = client.post(f"{address}/move", data=moved | {"csrf_token": token})
        self.assertEqual(answer.status_code, 200, answer.text)
        self.assertEqual(self.numbers("inspdt.from=2026-07-09"), [1])
        stored = "SELECT INSPDT, CLSDT, ENTERED, seen_at FROM TROUND WHERE RNDNO = 1"
        seen = _seconds(DAYS[1])
        held = (20_260_709, int(f"{day:%Y%m%d}"), f"{day:%Y%m%d}", seen)
        self.assertEqual(tuple(self.rows(stored)[0]), held)
        self.change(f"UPDATE TROUND SET INSPDT = {day:%Y%m%d} WHERE RNDNO = 1")


class SqliteSpelledDatesTest(SpelledDates, ApplicationCase):
    SCRIPT = SCRIPT

    def test_walk(self: Any) -> None:
        self.app.config["WTF_CSRF_ENABLED"] = True
        probe = Probe.at(str(self.path))
        figures = rehearse(Rehearsal(self.app, probe))
        self.assertEqual([str(each) for each in figures.failures], [])


@needs("postgresql")
class PostgresqlSpelledDatesTest(SpelledDates, OnServer, ApplicationCase):
    SERVER, DATABASE = POSTGRESQL, "lumet_test_spelled"


@needs("mariadb")
class MariadbSpelledDatesTest(SpelledDates, OnServer, ApplicationCase):
    SERVER, DATABASE = MARIADB, "lumet_test_spelled"
