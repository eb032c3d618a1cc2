"""What belongs to a record and is saved with it: what is chosen by a joining table, rows
that are moved, a record that is part of it; trees, and records marked as deleted; nothing
is ever half saved."""

import contextlib
import importlib
import re
import subprocess
import sys
import threading
from concurrent.futures import ThreadPoolExecutor
from typing import Any, ClassVar
from unittest import mock

from lumet.browsing.pages import Page
from tests.support.capabilities import needs
from tests.support.projects import PASSWORD, ApplicationCase, read_form
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

TABLES = """
CREATE TABLE area (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL UNIQUE, parent_id INTEGER, deleted_on DATE,
    FOREIGN KEY (parent_id) REFERENCES area (id));
CREATE TABLE mast (id {key}, name VARCHAR(20) NOT NULL UNIQUE, area_id INTEGER, is_deleted BOOLEAN NOT NULL DEFAULT FALSE,
    FOREIGN KEY (area_id) REFERENCES area (id));
ALTER TABLE area ADD COLUMN chief_id INTEGER REFERENCES mast (id);
CREATE TABLE mast_card (mast_id INTEGER PRIMARY KEY, words VARCHAR(20) NOT NULL, height_m DECIMAL(5,1),
    FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE);
CREATE TABLE crew (code VARCHAR(4) NOT NULL, place VARCHAR(10) NOT NULL, name VARCHAR(20) NOT NULL, PRIMARY KEY (code, place));
CREATE TABLE mast_crew (mast_id INTEGER NOT NULL, crew_code VARCHAR(4) NOT NULL, crew_place VARCHAR(10) NOT NULL,
    PRIMARY KEY (mast_id, crew_code, crew_place), FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE,
    FOREIGN KEY (crew_code, crew_place) REFERENCES crew (code, place));
CREATE TABLE area_pair (area_id INTEGER NOT NULL, next_id INTEGER NOT NULL, PRIMARY KEY (area_id, next_id),
    FOREIGN KEY (area_id) REFERENCES area (id), FOREIGN KEY (next_id) REFERENCES area (id));
CREATE TABLE step (id {key}, mast_name VARCHAR(20) NOT NULL, position INTEGER NOT NULL, words VARCHAR(20) NOT NULL,
    UNIQUE (mast_name, position), FOREIGN KEY (mast_name) REFERENCES mast (name));
CREATE TABLE mast_lamp (mast_id INTEGER NOT NULL, no INTEGER NOT NULL, words VARCHAR(20) NOT NULL, PRIMARY KEY (mast_id, no),
    FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE);
CREATE TABLE mast_flag (mast_name VARCHAR(20) NOT NULL, no INTEGER NOT NULL, words VARCHAR(20) NOT NULL, PRIMARY KEY (mast_name, no),
    FOREIGN KEY (mast_name) REFERENCES mast (name) ON UPDATE CASCADE ON DELETE CASCADE);
CREATE TABLE zone (region VARCHAR(4) NOT NULL, no INTEGER NOT NULL, name VARCHAR(20) NOT NULL, upper_region VARCHAR(4), upper_no INTEGER,
    twin_region VARCHAR(4), twin_no INTEGER, PRIMARY KEY (region, no),
    FOREIGN KEY (twin_region, twin_no) REFERENCES zone (region, no), FOREIGN KEY (upper_region, upper_no) REFERENCES zone (region, no));
INSERT INTO zone (region, no, name, upper_region, upper_no) VALUES ('N/O', 1, 'Outer', NULL, NULL), ('N/O', 2, 'Inner', 'N/O', 1), ('..', 1, 'Pool', 'N/O', 2);
INSERT INTO area (id, name, parent_id, deleted_on) VALUES (1, 'Coast', NULL, NULL), (2, 'North', 1, NULL), (3, 'South', 1, NULL),
    (4, 'Reach', 2, NULL), (5, 'Ring a', NULL, NULL), (6, 'Ring b', 5, NULL), (7, 'Left', 1, '2026-01-01');
UPDATE area SET parent_id = 6 WHERE id = 5;
INSERT INTO mast (id, name, area_id) VALUES (101, 'Tall', 2), (102, 'Short', 4), (103, 'Lone', NULL);
INSERT INTO mast_card VALUES (101, 'red', 31.5);
INSERT INTO crew VALUES ('AAA', 'pier', 'Anna'), ('AAA', 'dock', 'Bert'), ('B/B', 'a,b', 'Odd'), ('', '', 'Bare');
INSERT INTO mast_crew VALUES (101, 'AAA', 'pier'), (101, 'B/B', 'a,b');
INSERT INTO mast_flag VALUES ('Short', 1, 'red'), ('Short', 2, 'blue');
INSERT INTO step (mast_name, position, words) VALUES ('Tall', 1, 'one'), ('Tall', 2, 'two'), ('Tall', 3, 'three');
INSERT INTO mast_lamp VALUES (101, 1, 'low'), (101, 2, 'high'), (101, 3, 'top');
{refuses}
"""
ACCESS = """
[role.clerk]
label = "Clerk"
[role.clerk.tables]
"*" = ["view", "edit"]
[role.mate]
label = "Mate"
[role.mate.tables]
mast = ["view", "edit"]
mast_lamp = ["view"]
[role.mate.fields]
"mast_lamp.words" = "hidden"
"""
AS_ROWS = 'step = { by = "mast_name", edit = "rows", position = "position" }'
KILLED = """
import importlib, os, pathlib, signal, sys
from sqlalchemy import event
sys.path.insert(0, sys.argv[1])
read_settings = importlib.import_module(sys.argv[2] + ".kit.common.settings").read_settings
app = importlib.import_module(sys.argv[2]).create_app(read_settings(pathlib.Path(sys.argv[1])))
app.config["WTF_CSRF_ENABLED"] = False
client = app.test_client()
client.post("/sign-in", data={"name": "administrator", "password": sys.argv[3]})
form = dict(zip(sys.argv[5::2], sys.argv[6::2]))
engine = app.extensions["site"].database.engine
@event.listens_for(engine, "after_cursor_execute")
def end(connection, cursor, statement, *rest):
    if statement.startswith(("INSERT INTO mast_lamp", "INSERT INTO `mast_lamp")):
        os.kill(os.getpid(), signal.SIGKILL)  # the record and its rows are written, not kept
client.post("/t/mast/r/101/edit", data=form)
"""


class Parts:
    """The tests, for each kind of database; not a test by itself."""

    DATABASE = "lumet_test_parts"
    WORDS: ClassVar[dict[str, str]]
    EDIT = "/t/mast/r/101/edit"

    @classmethod
    def script(cls) -> str:
        return TABLES.format(**cls.WORDS)

    @classmethod
    def decide(cls: Any) -> None:
        path = cls.folder / "access.toml"
        path.write_text(ACCESS + path.read_text())
        path = cls.folder / "design/tables/mast.toml"
        found = path.read_text()
        line = next(each for each in found.split("\n") if each.startswith("#~ step ="))
        path.write_text(found.replace(line, AS_ROWS))

    def setUp(self: Any) -> None:
        super().setUp()  # type: ignore[misc]
        self.user = self.client()

    def form(self: Any, address: str, client: Any = None) -> dict[str, str]:
        """Return what a form at an address holds, but for what is chosen there."""
        page = (client or self.user).get(address).text
        form = read_form(page).items()
        return {key: text for key, text in form if not key.startswith("chosen-")}

    def number(self: Any, table: str, word: str) -> int:
        """Return which of a table's parts the one of another table is."""
        details = self.app.extensions["site"].registry[table].details
        return next(n for n, each in enumerate(details) if each.slug == word)

    def crews(self: Any, mast: int = 101) -> list[Any]:
        query = f"SELECT crew_code, crew_place FROM mast_crew WHERE mast_id = {mast} ORDER BY 1, 2"
        return list(self.rows(query))

    def steps(self: Any) -> str:
        query = "SELECT position, words FROM step WHERE mast_name = 'Tall' ORDER BY 1"
        return " ".join(f"{place}-{words}" for place, words in self.rows(query))

    def lamps(self: Any) -> str:
        query = "SELECT no, words FROM mast_lamp WHERE mast_id = 101 ORDER BY 1"
        return " ".join(f"{place}-{words}" for place, words in self.rows(query))

    def test_the_other_side_of_what_joins_two_tables_is_chosen(self: Any) -> None:
        picks = f"chosen-{self.number('mast', 'mast_crew.mast_id')}"
        page = self.user.get(self.EDIT).text
        chosen = re.findall(rf'name="{picks}" value="([^"]+)"( checked)?> (\w+)', page)
        self.assertEqual(
            [(value, bool(is_)) for value, is_, _name in chosen],
            [
                ("AAA,pier", True),
                ("~,~", False),
                ("AAA,dock", False),
                ("B~2FB,a~2Cb", True),
            ],
        )
        form = self.form(self.EDIT)
        was = ["", "AAA,pier", "B~2FB,a~2Cb"]
        self.change("INSERT INTO crew VALUES ('CCC', 'new', 'Cleo')")
        self.change("INSERT INTO mast_crew VALUES (101, 'CCC', 'new')")
        forged = form | {f"{picks}-was": was, picks: ["AAA,pier", "ZZ,none"]}
        answer = self.user.post(self.EDIT, data=forged)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("Choose one from the list.", answer.text)
        self.assertIn(("B/B", "a,b"), self.crews())  # nothing is half saved
        wanted = form | {f"{picks}-was": was, picks: ["AAA,pier", "AAA,dock", "~,~"]}
        self.assertEqual(self.user.post(self.EDIT, data=wanted).status_code, 302)
        # what somebody else chose meanwhile stays
        self.assertEqual(
            self.crews(), [("", ""), ("AAA", "dock"), ("AAA", "pier"), ("CCC", "new")]
        )
        history = self.user.get("/t/mast/r/101/history?as-piece=1").text
        self.assertRegex(history, r"Crews “Tall · Bert” · added")
        self.assertRegex(history, r"Crews “Tall · Odd” · deleted")
        self.assertIn(
            "Masts “Tall · Bert”", self.user.get("/t/crew/r/AAA,dock/history").text
        )
        block = self.user.get("/t/mast/r/101/related/mast_crew.mast_id").text
        self.assertIn('href="/t/crew/r/AAA,dock"', block)
        self.assertNotIn("Odd", block)
        other = f"chosen-{self.number('crew', 'mast_crew.crew_code.crew_place')}"
        edit = "/t/crew/r/B~2FB,a~2Cb/edit"
        form = self.form(edit)
        none = self.user.post(edit, data=form | {f"{other}-was": "", other: ["999"]})
        self.assertEqual(none.status_code, 422)
        self.assertNotIn('name="code"', none.text)  # its key stays as it is
        form |= {f"{other}-was": "", other: ["102", "101"]}
        self.assertEqual(self.user.post(edit, data=form).status_code, 302)
        self.assertEqual(self.crews(102), [("B/B", "a,b")])
        new = {"name": "Fresh", f"{picks}-was": "", picks: ["AAA,pier"]}
        added = self.form("/t/mast/add") | new
        self.assertEqual(self.user.post("/t/mast/add", data=added).status_code, 302)
        ((number,),) = self.rows("SELECT id FROM mast WHERE name = 'Fresh'")
        self.assertEqual(self.crews(number), [("AAA", "pier")])
        clerk = self.client("clerk")  # who may neither add nor delete
        self.assertNotIn(picks, clerk.get(self.EDIT).text)
        form = self.form(self.EDIT, clerk)
        clerk.post(self.EDIT, data=form | {f"{picks}-was": was, picks: []})
        self.assertEqual(len(self.crews()), 5)
        self.assertNotIn('href="/t/mast_crew"', self.user.get("/").text)
        self.assertEqual(self.user.get("/t/mast_crew").status_code, 404)
        self.assertEqual(self.user.get("/t/mast_crew/add").status_code, 403)
        self.change("DELETE FROM mast_crew")
        self.change(
            "INSERT INTO mast_crew VALUES (101, 'AAA', 'pier'), (101, 'B/B', 'a,b')"
        )
        self.change("DELETE FROM mast WHERE name = 'Fresh'")
        self.change("DELETE FROM crew WHERE code = 'CCC'")

    def test_a_table_that_joins_one_with_itself_is_chosen_both_ways(self: Any) -> None:
        near = f"chosen-{self.number('area', 'area_pair.area_id')}"
        far = f"chosen-{self.number('area', 'area_pair.next_id')}"
        form = self.form("/t/area/r/2/edit")
        form |= {f"{near}-was": "", near: ["3", "4"], f"{far}-was": "", far: ["3"]}
        self.assertEqual(self.user.post("/t/area/r/2/edit", data=form).status_code, 302)
        query = "SELECT area_id, next_id FROM area_pair ORDER BY 1, 2"
        self.assertEqual(self.rows(query), [(2, 3), (2, 4), (3, 2)])
        self.change("DELETE FROM area_pair")

    def test_rows_are_moved_where_no_two_may_stand_at_one_place(self: Any) -> None:
        rows = f"rows-{self.number('mast', 'step.mast_name')}"
        lamps = f"rows-{self.number('mast', 'mast_lamp.mast_id')}"
        form = self.form(self.EDIT)
        self.assertEqual(
            [form[f"{rows}-{n}-words"] for n in range(3)], ["one", "two", "three"]
        )
        turned = form | {f"{rows}-{n}-position": str((n + 1) % 3 + 1) for n in range(3)}
        turned |= {f"{lamps}-{n}-no": str((n + 2) % 3 + 1) for n in range(3)}
        turned |= {f"{rows}-3-words": "five", f"{lamps}-0-words": "dim"}
        turned |= {f"{rows}-1-position": "4"}  # what is new comes behind
        self.assertEqual(self.user.post(self.EDIT, data=turned).status_code, 302)
        self.assertEqual(self.steps(), "1-three 2-one 4-two 5-five")
        self.assertEqual(self.lamps(), "1-high 2-top 3-dim")
        history = self.user.get("/t/mast/r/101/history?as-piece=1").text
        self.assertIn("<del>low</del> → <ins>dim</ins>", history)
        stale = self.user.post(self.EDIT, data=form | {f"{lamps}-0-no": "9"})
        self.assertEqual(stale.status_code, 422)
        form = self.form(self.EDIT)
        alike = {f"{lamps}-{n}-no": "8" for n in (3, 4)}
        alike |= {f"{lamps}-{n}-words": "twin" for n in (3, 4)}
        taken = {f"{lamps}-3-no": "2", f"{lamps}-3-words": "late"}
        for clashing in (alike, taken):
            answer = self.user.post(self.EDIT, data=form | clashing)
            self.assertEqual(answer.status_code, 422)
            self.assertEqual(answer.text.count("Another lamp already has the same"), 2)
        twice = self.user.post(self.EDIT, data=form | {f"{rows}-0-position": "2"})
        self.assertEqual(twice.status_code, 422)
        self.assertIn("already has this value.", twice.text)
        self.assertEqual(self.steps(), "1-three 2-one 4-two 5-five")
        wrong = self.user.post(self.EDIT, data=form | {f"{rows}-0-position": "x"})
        self.assertEqual(wrong.status_code, 422)
        self.restore_rows()

    def test_rows_follow_the_key_of_their_record(self: Any) -> None:
        rows = f"rows-{self.number('mast', 'mast_flag.mast_name')}"
        edit = "/t/mast/r/102/edit"
        form = self.form(edit) | {"name": "Shorter", f"{rows}-0-words": "pink"}
        form |= {f"{rows}-1-is-gone": "1", f"{rows}-2-words": "green"}
        self.assertEqual(self.user.post(edit, data=form).status_code, 302)
        query = "SELECT mast_name, no, words FROM mast_flag ORDER BY no"
        self.assertEqual(
            self.rows(query), [("Shorter", 1, "pink"), ("Shorter", 2, "green")]
        )
        stale = self.user.post(edit, data=form | {"name": "Shorter"})
        self.assertEqual(stale.status_code, 422)
        self.change("UPDATE mast SET name = 'Short' WHERE id = 102")

    def restore_rows(self: Any) -> None:
        self.change("DELETE FROM step")
        self.change("INSERT INTO step (mast_name, position, words) VALUES ('Tall', 1, 'one'), ('Tall', 2, 'two'), ('Tall', 3, 'three')")  # fmt: skip
        self.change("DELETE FROM mast_lamp")
        self.change("INSERT INTO mast_lamp VALUES (101, 1, 'low'), (101, 2, 'high'), (101, 3, 'top')")  # fmt: skip

    def test_a_record_that_there_is_one_of_is_part_of_its_record(self: Any) -> None:
        page = self.user.get("/t/mast/r/101").text
        facts = re.search(
            r'<div class="sheet facts">.*?<div class="relations">', page, re.DOTALL
        )
        assert facts is not None
        self.assertIn("31.5", facts[0])
        self.assertIn('<a href="/t/mast_card/r/101">Card</a>', facts[0])
        self.assertNotIn('data-block="/t/mast/r/101/related/mast_card', page)
        rows = f"rows-{self.number('mast', 'mast_card.mast_id')}-0-"
        form = self.form(self.EDIT)
        self.assertEqual(form[f"{rows}height_m"], "31.5")
        self.user.post(self.EDIT, data=form | {f"{rows}height_m": "32"})
        query = "SELECT mast_id, words, height_m FROM mast_card ORDER BY 1"
        (row,) = self.rows(query)
        self.assertEqual((row[1], float(row[2])), ("red", 32))
        lone = "/t/mast/r/103/edit"
        form = self.form(lone)
        self.assertEqual(self.user.post(lone, data=form).status_code, 302)
        self.assertEqual(len(self.rows(query)), 1)  # nothing written is none
        half = self.user.post(lone, data=form | {f"{rows}height_m": "2"})
        self.assertEqual(half.status_code, 422)
        self.user.post(lone, data=form | {f"{rows}words": "mine"})
        self.assertEqual([row[0] for row in self.rows(query)], [101, 103])
        form = self.form(lone)
        self.user.post(lone, data=form | {f"{rows}is-gone": "1"})
        self.assertEqual([row[0] for row in self.rows(query)], [101])
        self.change("UPDATE mast_card SET height_m = 31.5")

    def titles(self: Any, address: str) -> list[str]:
        answer = self.user.get(address)
        self.assertEqual(answer.status_code, 200, address)
        return re.findall(r'<a class="title"[^>]*>([^<]*)<', answer.text)

    def test_a_list_opens_as_a_tree_and_survives_circles(self: Any) -> None:
        self.assertEqual(self.titles("/t/area?layout=tree"), ["Coast"])
        page = self.user.get("/t/area?layout=tree").text
        self.assertIn("2 records are part of cycles", page)
        opens = re.search(r'class="opener" href="([^"]*)"', page)
        assert opens is not None
        branch = opens[1].replace("&amp;", "&")
        self.assertEqual(self.titles(branch), ["North", "South"])
        piece = self.user.get(f"{branch}&as-piece=1&level=1").text
        self.assertEqual(piece.count('<tr class="level-1" data-level="1">'), 2)
        self.assertEqual(piece.count("data-open"), 1)
        self.assertNotIn("<html", piece)
        self.assertEqual(self.titles("/t/area?layout=tree&under=5"), ["Ring b"])
        for none in ("x", "99", "1,2"):
            self.assertEqual(self.titles(f"/t/area?layout=tree&under={none}"), [])
        self.assertEqual(self.titles("/t/area?layout=tree&q=reach"), ["Reach"])

    def test_a_tree_by_several_columns_has_paths_branches_and_no_circles(
        self: Any,
    ) -> None:
        trail = self.user.get("/t/zone/r/~2E~2E,1").text.partition("<h1>")[0]
        self.assertRegex(
            trail, r'N~2FO,1">Outer</a> › <a href="/t/zone/r/N~2FO,2">Inner</a> ›'
        )
        self.assertEqual(self.titles("/t/zone?layout=tree"), ["Outer"])
        self.assertEqual(self.titles("/t/zone?layout=tree&under=N~2FO,2"), ["Pool"])
        below = self.user.get("/t/zone/r/N~2FO,1").text
        self.assertIn("Zones below", below)
        self.assertIn("Zones with this twin", below)
        edit = "/t/zone/r/N~2FO,1/edit"
        form = self.form(edit)
        for region, number in (("..", "1"), ("N/O", "1")):
            circle = form | {"upper_region": region, "upper_no": number}
            answer = self.user.post(edit, data=circle)
            self.assertEqual(answer.status_code, 422)
        self.assertIn("This is below the record itself.", answer.text)
        twin = form | {"twin_region": "N/O", "twin_no": "1"}  # no tree, and no circle
        self.assertEqual(self.user.post(edit, data=twin).status_code, 302)
        self.change("UPDATE zone SET twin_region = NULL, twin_no = NULL")

    def test_two_moves_at_once_make_no_circle(self: Any) -> None:
        trees = importlib.import_module(f"{self.package}.kit.queries.hierarchy")
        above, together = trees.Hierarchy.above, threading.Barrier(2)

        def meet(*given: Any) -> Any:
            with contextlib.suppress(threading.BrokenBarrierError):
                together.wait(0.5)
            return above(*given)

        moves = {"3": "4", "2": "3"}  # 4 stands below 2
        forms = {
            moved: self.form(f"/t/area/r/{moved}/edit") | {"parent_id": below}
            for moved, below in moves.items()
        }
        clients = {moved: self.client() for moved in moves}

        def move(moved: str) -> int:
            address = f"/t/area/r/{moved}/edit"
            return int(clients[moved].post(address, data=forms[moved]).status_code)

        with (
            mock.patch.object(trees.Hierarchy, "above", meet),
            ThreadPoolExecutor() as pool,
        ):
            answers = list(pool.map(move, moves))
        self.assertEqual(sorted(answers), [302, 422])
        self.change("UPDATE area SET parent_id = 1 WHERE id IN (2, 3)")

    def test_what_is_marked_as_deleted_is_hidden_and_comes_back(self: Any) -> None:
        listed = ["Coast", "North", "Reach", "Ring a", "Ring b", "South"]
        self.assertEqual(self.titles("/t/area"), listed)
        self.assertEqual(self.titles("/t/area?deleted=only"), ["Left"])
        self.assertEqual(len(self.titles("/t/area?deleted=with")), 7)
        form = self.user.get("/t/mast/r/102/edit").text
        self.assertNotIn(">Left<", form)
        data = read_form(form) | {"area_id": "7"}
        self.assertEqual(
            self.user.post("/t/mast/r/102/edit", data=data).status_code, 422
        )
        page = self.user.get("/t/mast/r/102/delete").text
        self.assertIn("Can be restored", page)
        seen = re.search(r'name="seen" value="(\w+)"', page)
        assert seen is not None
        answer = self.user.post("/t/mast/r/102/delete", data={"seen": seen[1]})
        self.assertEqual(answer.status_code, 302)
        self.assertEqual(self.titles("/t/mast"), ["Lone", "Tall"])
        self.assertEqual(self.rows("SELECT count(*) FROM mast"), [(3,)])
        self.assertEqual(self.titles("/t/area/r/4/related/mast.area_id"), [])
        page = self.user.get("/t/mast/r/102").text
        self.assertIn("This is marked as deleted.", page)
        reader = self.client("viewer")
        self.assertEqual(reader.post("/t/mast/r/102/restore").status_code, 403)
        self.assertEqual(self.user.post("/t/mast/r/102/restore").status_code, 302)
        self.assertEqual(self.titles("/t/mast"), ["Lone", "Short", "Tall"])
        history = self.user.get("/t/mast/r/102/history").text
        self.assertIn("restored", history)
        self.assertIn("deleted", history)
        self.assertEqual(self.user.post("/t/crew/r/AAA,pier/restore").status_code, 404)
        several = {"chosen-row": ["102", "103"], "do-action": "delete"}
        preview = Page(self.user.post("/t/mast/bulk", data=several), "")
        sent = preview.form("form.bar").sent() | {"do-action": "delete"}
        self.user.post("/t/mast/bulk", data=sent)
        self.assertEqual(self.titles("/t/mast?deleted=only"), ["Lone", "Short"])
        self.assertIn("Delete permanently", self.user.get("/t/mast/r/103").text)
        self.user.post("/t/mast/r/103/delete", data={})
        self.assertEqual(self.rows("SELECT count(*) FROM mast"), [(2,)])
        self.user.post("/t/mast/r/102/restore")
        self.change("INSERT INTO mast (id, name) VALUES (103, 'Lone')")

    def test_history_of_rows_is_told_within_ones_rights(self: Any) -> None:
        lamps = f"rows-{self.number('mast', 'mast_lamp.mast_id')}"
        form = self.form(self.EDIT)
        self.user.post(self.EDIT, data=form | {f"{lamps}-0-words": "secret"})
        own = self.form("/t/mast_lamp/r/101,2/edit")
        self.user.post("/t/mast_lamp/r/101,2/edit", data=own | {"words": "alone"})
        history = self.user.get("/t/mast/r/101/history").text
        self.assertIn("<ins>secret</ins>", history)
        self.assertIn("<ins>alone</ins>", history)
        mate = self.client("mate").get("/t/mast/r/101/history").text
        self.assertNotIn("secret", mate)
        self.restore_rows()

    def test_who_was_quicker_is_said_on_the_page_of_the_delete(self: Any) -> None:
        views = importlib.import_module(f"{self.package}.kit.web.delete_views")
        written = views.run_in_transaction

        def quick(work: Any) -> Any:
            self.change("INSERT INTO mast_crew VALUES (103, 'AAA', 'dock')")
            return written(work)

        with mock.patch.object(views, "run_in_transaction", quick):
            answer = self.user.post("/t/crew/r/AAA,dock/delete", data={})
        self.assertEqual(answer.status_code, 409)
        self.assertRegex(
            answer.text, r"(?s)Prevents deletion.*>1 mast</a>: <a [^>]*>Lone<"
        )
        self.change("DELETE FROM mast_crew WHERE mast_id = 103")

    def test_a_refused_row_undoes_all_that_was_saved_with_it(self: Any) -> None:
        lamps = f"rows-{self.number('mast', 'mast_lamp.mast_id')}"
        picks = f"chosen-{self.number('mast', 'mast_crew.mast_id')}"
        form = self.form(self.EDIT) | {"area_id": "4"}
        form |= {f"{lamps}-0-words": "dim", f"{lamps}-1-is-gone": "1", picks: ["AAA,dock"],
                 f"{picks}-was": ["", "AAA,pier"], f"{lamps}-3-words": "good",
                 f"{lamps}-4-words": "good", f"{lamps}-5-words": "refused"}  # fmt: skip
        answer = self.user.post(self.EDIT, data=form)
        self.assertEqual(answer.status_code, 422)
        self.assertIn("The database does not allow this", answer.text)
        self.assertIn('value="refused"', answer.text)
        self.assertEqual(self.lamps(), "1-low 2-high 3-top")
        self.assertEqual(len(self.crews()), 2)
        self.assertEqual(self.rows("SELECT area_id FROM mast WHERE id = 101"), [(2,)])

    def test_a_killed_process_leaves_nothing_half_saved(self: Any) -> None:
        lamps = f"rows-{self.number('mast', 'mast_lamp.mast_id')}"
        form = self.form(self.EDIT) | {"area_id": "4"}
        form |= {f"{lamps}-0-words": "dim", **{f"{lamps}-{n}-words": "new" for n in (3, 4, 5)}}  # fmt: skip
        self.app.extensions["site"].database.engine.dispose()
        words = [word for pair in form.items() for word in pair]
        command = [sys.executable, "-c", KILLED, str(self.folder), self.package, PASSWORD, "", *words]  # fmt: skip
        ended = subprocess.run(command, capture_output=True, check=False, timeout=60)
        self.assertEqual(ended.returncode, -9, ended.stderr.decode())
        self.assertEqual(self.lamps(), "1-low 2-high 3-top")
        self.assertEqual(self.rows("SELECT area_id FROM mast WHERE id = 101"), [(2,)])


class Cut:
    """The test of connections that only servers have; not a test by itself."""

    KILL = ""  # what ends a connection, by its number

    def test_a_connection_cut_between_rows_leaves_nothing_half_saved(self: Any) -> None:
        lamps = f"rows-{self.number('mast', 'mast_lamp.mast_id')}"
        form = self.form(self.EDIT) | {"area_id": "4"}
        form |= {f"{lamps}-{n}-words": f"new {n}" for n in (3, 4, 5)}
        pages = self.app.extensions["site"].registry["mast_lamp"]
        saved = []

        def cut(_pages: Any, change: Any) -> None:
            saved.append(change.values)
            if len(saved) == 3:
                raw = change.connection.connection.driver_connection
                self.change(self.KILL.format(self.number_of(raw)))
            change.carry_out(change)

        with mock.patch.object(type(pages), "write", cut):
            answer = self.user.post(self.EDIT, data=form)
        self.assertEqual(answer.status_code, 503)
        self.assertIn('value="new 5"', answer.text)
        self.assertEqual(self.lamps(), "1-low 2-high 3-top")
        self.assertEqual(self.rows("SELECT area_id FROM mast WHERE id = 101"), [(2,)])


class SqliteParts(Parts, ApplicationCase):
    WORDS: ClassVar[dict[str, str]] = {
        "key": "INTEGER PRIMARY KEY",
        "refuses": "CREATE TRIGGER refuses BEFORE INSERT ON mast_lamp WHEN NEW.words = 'refused'"
        " BEGIN SELECT RAISE(ABORT, 'no such lamps'); END;",
    }
    SCRIPT = TABLES.format(**WORDS)


@needs("postgresql")
class PostgresqlParts(Cut, Parts, OnServer, ApplicationCase):
    SERVER: ClassVar[str] = POSTGRESQL
    KILL = "SELECT pg_terminate_backend({})"
    WORDS: ClassVar[dict[str, str]] = {
        "key": "SERIAL PRIMARY KEY",
        "refuses": "CREATE FUNCTION refuses() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN"
        " IF NEW.words = 'refused' THEN RAISE EXCEPTION 'no such lamps'; END IF; RETURN NEW; END $$;\n"
        "CREATE TRIGGER refuses BEFORE INSERT ON mast_lamp FOR EACH ROW EXECUTE FUNCTION refuses();",
    }

    @staticmethod
    def number_of(raw: Any) -> int:
        return int(raw.info.backend_pid)


@needs("mariadb")
class MariadbParts(Cut, Parts, OnServer, ApplicationCase):
    SERVER: ClassVar[str] = MARIADB
    KILL = "KILL {}"
    WORDS: ClassVar[dict[str, str]] = {
        "key": "INTEGER AUTO_INCREMENT PRIMARY KEY",
        "refuses": "CREATE TRIGGER refuses BEFORE INSERT ON mast_lamp FOR EACH ROW"
        " IF NEW.words = 'refused' THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'no such lamps'; END IF;",
    }

    @staticmethod
    def number_of(raw: Any) -> int:
        return int(raw.thread_id())
