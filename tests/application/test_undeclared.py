"""An application of a database with nothing but tables: no key, no reference, names in
one piece, numbers that stand for something, and a table with very many columns."""

from typing import Any

from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import POSTGRESQL, OnServer

RARE = [f"STNEXTRA{n}" for n in range(1, 6)]
PLAIN = [f"STN{n}" for n in ("CHART", "TOWER", "LAMP", "COLOUR", "LANDING", "POWER", "HEIGHT", "WEIGHT", "SIGNAL", "CODE")]  # fmt: skip
BLOCKS = ("FLT", "VIS", "LMP", "PHO", "PMT", "TID", "OUT", "SUR", "MOO")

CLERK = """
[role.clerk]
label = "Clerk"
[role.clerk.tables]
"*" = ["view"]
"[Tt][Cc][Rr][Ww]" = []
[role.warden]
label = "Warden"
[role.warden.tables]
"*" = ["view", "edit"]
[role.warden.rows]
KEEPERS = "CRWKEY < 20"
STATIONS = "STNKEY < 20"
"""


def _script() -> str:
    columns = ", ".join(f"{name} VARCHAR(20)" for name in (*PLAIN, *RARE))
    held = ", ".join(f"'{name[3:].lower()}'" for name in PLAIN)
    lines = [
        f"CREATE TABLE TSTN (STNKEY INTEGER NOT NULL, STNNAME VARCHAR(40), STNSTATUS INTEGER, {columns})",
        "CREATE TABLE TCRW (CRWKEY INTEGER NOT NULL, CRWSURNAME VARCHAR(40), CRWFIRSTNAME VARCHAR(40), CRWHOMESTNKEY INTEGER)",
        "CREATE TABLE TNOT (NOTKEY INTEGER NOT NULL, NOTSUBJECTTYPE VARCHAR(20), NOTSUBJECTKEY INTEGER, NOTTEXT VARCHAR(40), NOTABOUT VARCHAR(20))",
    ]
    lines += [f"CREATE TABLE T{b} ({b}KEY INTEGER NOT NULL, {b}STNKEY INTEGER, {b}NAME VARCHAR(20))" for b in BLOCKS]  # fmt: skip
    for key in range(1, 41):
        status = (10, 20, 90)[key % 3]
        lines.append(f"INSERT INTO TSTN VALUES ({key}, 'Holm {key}', {status}, {held}, NULL, NULL, NULL, NULL, NULL)")  # fmt: skip
        lines.append(f"INSERT INTO TCRW VALUES ({key}, 'Vey{key}', 'Ada', {key})")
        subject = ("TSTN", "TCRW")[key % 2]
        lines.append(f"INSERT INTO TNOT VALUES ({key}, '{subject}', {41 - key}, 'Seen {key}', '{subject}:{41 - key}')")  # fmt: skip
        lines += [f"INSERT INTO T{b} VALUES ({key}, {key}, '{b} {key}')" for b in BLOCKS]  # fmt: skip
    lines.append("UPDATE TFLT SET FLTNAME = NULL WHERE FLTKEY = 39")
    lines.append("INSERT INTO TCRW VALUES (41, 'Vey41', 'Ada', 900)")  # gone
    return ";\n".join(lines)


class UndeclaredCase:
    """The tests, for each kind of database; not a test by itself."""

    @classmethod
    def script(cls) -> str:
        return _script()

    @classmethod
    def decide(cls: Any) -> None:
        (path,) = (p for p in (cls.folder / "design/tables").iterdir() if p.stem.upper() == "TSTN")  # fmt: skip
        before = path.read_text()
        patterns = cls.folder / "design/patterns.toml"
        patterns.write_text(patterns.read_text() + '\n[glossary]\ncrw = "keeper"\n')
        access = cls.folder / "access.toml"
        named = {"KEEPERS": "TCRW", "STATIONS": "TSTN"}
        roles = CLERK
        for word, table in named.items():
            roles = roles.replace(word, path.stem.replace("TSTN", table).replace("tstn", table.lower()))  # fmt: skip
        access.write_text(access.read_text() + roles)
        name = "STNEXTRA1" if "STNEXTRA1" in before else "stnextra1"
        path.write_text(f'{before}\n[field.{name}]\npattern = "[a-z]+"\n')

    def text(self: Any, address: str) -> str:
        answer = self.client().get(address)
        self.assertEqual(answer.status_code, 200, address)
        return str(answer.get_data(as_text=True))

    def test_references_and_titles_are_there(self: Any) -> None:
        page = self.text("/t/tcrw")
        self.assertIn("<h1>Keepers</h1>", page, "as the glossary says")
        self.assertIn("Ada Vey1", page)
        self.assertIn("Holm 1", page)
        self.assertNotIn("CRWKEY", page.upper().replace("/T/TCRW", ""))

    def test_numbers_that_stand_for_something_are_filtered_and_stay_open(self: Any) -> None:  # fmt: skip
        self.assertIn('value="90"', self.text("/t/tstn?panel=filter"))
        counts = [
            self.text(f"/t/tstn{asked}").replace("\n", "")
            for asked in ("?stnstatus.is=90", "?stnstatus.is=77", "?stnstatus.is=shut")
        ]
        for page, count in zip(counts, (13, 0, 40), strict=True):
            self.assertIn(f'<div class="count">{count}</div>', page)
        client = self.client()
        data = self.form_data(client, "/t/tstn/r/2/edit") | {"stnstatus": "55"}
        self.assertEqual(client.post("/t/tstn/r/2/edit", data=data).status_code, 302)
        column = "SELECT STNSTATUS FROM TSTN WHERE STNKEY = 2"
        self.assertEqual(self.rows(column), [(55,)])

    def test_a_key_of_several_tables_leads_to_its_record(self: Any) -> None:
        pairs = (
            ("administrator", "1", '<a href="/t/tcrw/r/40">Keeper 40</a>'),
            ("administrator", "2", '<a href="/t/tstn/r/39">Station 39</a>'),
            ("clerk", "1", "<dd>40</dd>"),  # of a table that the clerk may not see
            ("clerk", "1", "<dd>TCRW:40</dd>"),
            ("clerk", "2", '<a href="/t/tstn/r/39">Station 39</a>'),
        )
        for role, note, link in pairs:
            with self.subTest(role=role, note=note):
                page = self.client(role).get(f"/t/tnot/r/{note}").get_data(as_text=True)
                self.assertIn(link, page)
                self.assertEqual(page.count(link), 2 if "href" in link else 1)
        self.assertIn("Station 39", self.text("/t/tnot"))

    def test_a_new_record_is_numbered(self: Any) -> None:
        client = self.client()
        data = self.form_data(client, "/t/tcrw/add")
        self.assertNotIn("crwkey", data)
        answer = client.post("/t/tcrw/add", data=data | {"crwsurname": "Moar", "crwhomestnkey": "3"})  # fmt: skip
        self.assertEqual(answer.status_code, 302, answer.get_data(as_text=True)[-2000:])
        added = "SELECT CRWKEY, CRWHOMESTNKEY FROM TCRW WHERE CRWSURNAME = 'Moar'"
        self.assertEqual(self.rows(added)[-1][1], 3)
        self.assertGreater(self.rows(added)[-1][0], 40)

    def test_a_lookup_that_nobody_declared_takes_what_no_record_has(self: Any) -> None:
        column = "SELECT CRWHOMESTNKEY FROM TCRW WHERE CRWKEY = 5"
        told = {
            "901": "",  # nobody's
            "abc": "Choose one from the list, or enter a whole number, such as 12.",
            "30": "Choose one from the list.",  # somebody's, past the reach
            "7": "",
        }
        client = self.client("warden")
        for entered, message in told.items():
            with self.subTest(entered=entered):
                before = self.rows(column)
                data = self.form_data(client, "/t/tcrw/r/5/edit") | {"crwhomestnkey": entered}  # fmt: skip
                answer = client.post("/t/tcrw/r/5/edit", data=data)
                self.assertEqual(answer.status_code, 422 if message else 302)
                self.assertIn(message, answer.get_data(as_text=True))
                after = before if message else [(int(entered),)]
                self.assertEqual(self.rows(column), after)
        self.assertIn("data-others", self.client().get("/t/tcrw/add").get_data(as_text=True))  # fmt: skip

    def test_a_record_without_a_title_goes_by_its_key(self: Any) -> None:
        self.assertIn("<h1>Flt 39</h1>", self.text("/t/tflt/r/39"))
        for asked, count in (("Flt+39", 1), ("fLT+39", 1), ("FLT+38", 1), ("Flt+390", 0)):  # fmt: skip
            page = self.text(f"/t/tflt?q={asked}").replace("\n", "")
            self.assertIn(f'<div class="count">{count}</div>', page, asked)

    def test_what_is_rarely_used_is_folded_until_it_is_wrong(self: Any) -> None:
        record = self.text("/t/tstn/r/1")
        self.assertIn("<details><summary><h2>Rarely used</h2>", record)
        self.assertIn("More related records", record)
        client = self.client()
        page = client.get("/t/tstn/r/1/edit").get_data(as_text=True)
        self.assertNotIn("<details open", page)
        data = self.form_data(client, "/t/tstn/r/1/edit") | {"stnextra1": "123"}
        answer = client.post("/t/tstn/r/1/edit", data=data)
        self.assertIn("<details open", answer.get_data(as_text=True))


class SqliteUndeclared(UndeclaredCase, ApplicationCase):
    SCRIPT = _script() + ";"


@needs("postgresql")
class PostgresqlUndeclared(UndeclaredCase, OnServer, ApplicationCase):
    SERVER = POSTGRESQL
    DATABASE = "lumet_test_undeclared"
