"""Stored procedures and functions as actions, on the servers that have them."""

import re
from typing import Any, ClassVar

from lumet.errors import LumetError
from lumet.project.commands import run_generation
from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

TABLES = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE light (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, no INTEGER, changed_by VARCHAR(80),
  station_id INTEGER NOT NULL, FOREIGN KEY (station_id) REFERENCES station (id));
INSERT INTO station VALUES (1, 'North Skerry'), (2, 'Holm');
INSERT INTO light VALUES (1, 'Upper', 7, NULL, 1), (2, 'Lower', 9, NULL, 1), (3, 'Pier', 4, NULL, 2)
"""
# every semicolon within a body is followed by a blank: statements end with the line
ON_POSTGRESQL = """;
CREATE PROCEDURE renumber(p_station integer, p_first integer, p_by text, OUT p_count bigint) LANGUAGE plpgsql AS
$$ BEGIN IF p_first < 0 THEN RAISE EXCEPTION 'Numbers begin at 0.'; END IF; UPDATE light SET no = p_first + id, changed_by = p_by
WHERE station_id = p_station; GET DIAGNOSTICS p_count = ROW_COUNT; END $$;
COMMENT ON PROCEDURE renumber IS 'Numbers lights anew';
CREATE FUNCTION count_lights(integer) RETURNS bigint LANGUAGE sql AS $$ SELECT count(*) FROM light WHERE station_id = $1 $$;
CREATE FUNCTION lights_from(p_least integer, p_word text DEFAULT '') RETURNS TABLE (light_name text, light_no integer) LANGUAGE sql AS
$$ SELECT name::text, no FROM light WHERE no >= p_least AND name LIKE p_word || '%' ORDER BY no $$;
CREATE PROCEDURE commits() LANGUAGE plpgsql AS $$ BEGIN COMMIT; END $$;
CREATE FUNCTION whatever(anyelement) RETURNS integer LANGUAGE sql AS 'SELECT 1';
CREATE FUNCTION twice(integer) RETURNS integer LANGUAGE sql AS 'SELECT 2 * $1';
CREATE FUNCTION twice(text) RETURNS text LANGUAGE sql AS 'SELECT $1 || $1';
CREATE FUNCTION touched() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN RETURN NEW; END $$
"""
ON_MARIADB = """;
CREATE PROCEDURE renumber(p_station INT, p_first INT, p_by VARCHAR(80), OUT p_count BIGINT) COMMENT 'Numbers lights anew'
BEGIN IF p_first < 0 THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'Numbers begin at 0.'; END IF; UPDATE light
SET no = p_first + id, changed_by = p_by WHERE station_id = p_station; SET p_count = ROW_COUNT(); END;
CREATE FUNCTION count_lights(p1 INT) RETURNS BIGINT READS SQL DATA RETURN (SELECT count(*) FROM light WHERE station_id = p1);
CREATE PROCEDURE lights_from(p_least INT, p_word VARCHAR(40)) BEGIN SELECT name AS light_name, no AS light_no FROM light
WHERE no >= p_least AND name LIKE concat(coalesce(p_word, ''), '%') ORDER BY no; SELECT count(*) AS lights FROM light; END
"""
STATION = """
[actions.renumber]
call = "renumber"
question = "Number the lights anew?"
message = "{p_count} lights have other numbers."
[actions.renumber.parameters]
p_station = "{id}"
p_by = ":user.name"
p_first = { label = "First number" }
[actions.zero]
call = "renumber"
bulk = true
right = "view"
roles = ["administrator"]
parameters = { p_station = "{id}", p_by = "nobody", p_first = 0 }
[actions.count]
call = "count_lights"
label = "Lights there"
parameters = { p1 = "{id}" }
"""
LIGHT = """
[actions.lights_from]
call = "lights_from"
on = "list"
right = "view"
parameters = { p_word = { label = "Beginning", required = false } }
"""


class Routines(OnServer):
    """The same for both servers."""

    ROUTINES: ClassVar[str]

    @classmethod
    def script(cls) -> str:
        return TABLES.rstrip() + cls.ROUTINES

    @classmethod
    def decide(cls: Any) -> None:
        for name, lines in (("station", STATION), ("light", LIGHT)):
            path = cls.folder / f"design/tables/{name}.toml"
            path.write_text(path.read_text() + lines)

    def restore(self) -> None:
        self.change("UPDATE light SET no = 10 - id, changed_by = NULL")

    def numbers(self) -> list[tuple[Any, ...]]:
        return self.rows("SELECT no, changed_by FROM light ORDER BY id")

    def test_a_procedure_with_a_record_a_form_and_the_user(self: Any) -> None:
        client = self.client()
        address = "/t/station/r/1/action/renumber"
        self.assertIn(">Renumber</a>", client.get("/t/station/r/1").text)
        page = client.get(address).text
        self.assertIn("Number the lights anew?", page)
        for typed, said in (("", "Enter a value."), ("two", "whole number")):
            refused = client.post(address, data={"p_first": typed})
            self.assertEqual(refused.status_code, 422)
            self.assertIn(said, refused.text)
            self.assertIn(f'value="{typed}"', refused.text)
        told = client.post(address, data={"p_first": "-1"})
        self.assertEqual(told.status_code, 409)
        self.assertIn("Numbers begin at 0.", told.text)
        self.assertIn('value="-1"', told.text)
        self.assertEqual(self.numbers()[0], (9, None))
        once = re.findall(r'name="sent-once" value="([^"]+)"', page)[0]
        sent = {"p_first": "100", "sent-once": once}
        done = client.post(address, data=sent, follow_redirects=True).text
        self.assertIn("2 lights have other numbers.", done)
        self.assertEqual(
            self.numbers(), [(101, "administrator"), (102, "administrator"), (7, None)]
        )
        again = client.post(address, data=sent, follow_redirects=True).text
        self.assertIn("it was carried out once", again)
        log = client.get("/log?kind=action").text
        for each in ("Renumber", "First number", "100", "North Skerry"):
            self.assertIn(each, log)

    def test_values_and_rows_are_shown(self: Any) -> None:
        client = self.client()
        counted = client.post("/t/station/r/1/action/count", follow_redirects=True)
        self.assertIn("Lights there: 2", counted.text)
        address = "/t/light/action/lights_from"
        for typed, wanted in (({"p_word": ""}, ["Pier", "Lower", "Upper"]), ({"p_word": "L"}, ["Lower"])):  # fmt: skip
            page = client.post(address, data={"p_least": "7", **typed}).text
            names = [each for each in re.findall(r"<td>([^<]*)</td>", page) if each.isalpha()]  # fmt: skip
            self.assertEqual(names, wanted)
            self.assertIn('<th scope="col">Light no</th>', page)
        none = client.post(address, data={"p_least": "70"}).text
        self.assertIn("No rows.", none)

    def test_who_may_and_several_records(self: Any) -> None:
        self.change("DELETE FROM light WHERE id > 3")
        reader = self.client("viewer")
        self.assertNotIn("action/renumber", reader.get("/t/station/r/1").text)
        for address in ("/t/station/r/1/action/renumber", "/t/station/r/1/action/zero"):
            self.assertEqual(reader.post(address, data={"p_first": "5"}).status_code, 403)  # fmt: skip
        self.assertEqual(self.numbers()[0], (9, None))
        self.assertEqual(reader.get("/t/light/action/lights_from").status_code, 200)
        self.assertEqual(self.client().get("/t/station/r/1/action/none").status_code, 404)  # fmt: skip
        bulk = {"do-action": "own-zero", "chosen-row": ["1", "2"]}
        client = self.client()
        seen = re.findall(r'name="seen-of-row" value="([^"]*)"', client.post("/t/station/bulk", data=bulk).text)  # fmt: skip
        client.post("/t/station/bulk", data=bulk | {"is-sure": "1", "seen-of-row": seen})  # fmt: skip
        self.assertEqual(self.numbers(), [(1, "nobody"), (2, "nobody"), (3, "nobody")])


@needs("postgresql")
class PostgresqlRoutinesTest(Routines, ApplicationCase):
    SERVER, DATABASE, ROUTINES = POSTGRESQL, "lumet_routines", ON_POSTGRESQL

    @classmethod
    def decide(cls: Any) -> None:
        super().decide()
        path = cls.folder / "design/tables/station.toml"
        lines = '[actions.commits]\ncall = "commits"\n[actions.twice]\ncall = "twice(text)"\n'
        path.write_text(path.read_text() + lines)

    def test_what_the_survey_reads(self) -> None:
        survey = (self.folder / "survey.json").read_text()
        self.assertIn('"twice(integer)"', survey)
        self.assertIn("Numbers lights anew", survey)
        for name in ("whatever", "touched"):
            self.assertNotIn(f'"{name}"', survey)
        self.assert_clean(with_types=False)

    def test_decisions_that_do_not_fit_are_refused(self) -> None:
        path = self.folder / "design/tables/light.toml"
        before = path.read_text()
        self.addCleanup(path.write_text, before)
        begin = '\n[actions.again]\ncall = "renumber"\n'
        for lines, said in (
            ('\n[actions.again]\ncall = "renumbr"', "Nearest: renumber."),
            ('\n[actions.again]\nlabel = "Again"', "the procedure or the function"),
            (begin + 'on = "page"', "on a record or a list"),
            (begin + 'right = "change"', "There is no right"),
            (begin + 'roles = ["edtor"]', "Nearest: editor."),
            (begin + "bulk = true", "asks for nothing"),
            (begin + 'parameters = { p_statin = "{id}" }', "Nearest: p_station."),
            (begin + 'parameters = { p_station = "{ids}" }', "Nearest: id."),
            (begin + 'parameters = { p_by = ":user.nam" }', "Nearest: name."),
            (begin + 'on = "list"\nparameters = { p_station = "{id}" }', "no record"),
            (begin + 'parameters = { p_first = { lable = "First" } }', "Nearest: label."),
            (begin + 'message = "{p_cont} done"', "Nearest: p_count."),
        ):  # fmt: skip
            with self.subTest(lines):
                path.write_text(before + lines)
                with self.assertRaises(LumetError) as refused:
                    run_generation(self.folder)
                self.assertIn(said, str(refused.exception))
                self.assertRegex(str(refused.exception), r"light\.toml:\d+: ")

    def test_a_procedure_that_commits_is_refused(self) -> None:
        answer = self.client().post("/t/station/r/1/action/commits")
        self.assertEqual(answer.status_code, 409)
        self.assertIn("ends the transaction", answer.text)

    def test_a_function_out_of_several_of_one_name(self) -> None:
        address = "/t/station/r/1/action/twice"
        done = self.client().post(address, data={"p1": "ab'"}, follow_redirects=True)
        self.assertIn("Twice: ab&#39;ab&#39;", done.text)


@needs("mariadb")
class MariadbRoutinesTest(Routines, ApplicationCase):
    SERVER, DATABASE, ROUTINES = MARIADB, "lumet_routines", ON_MARIADB
