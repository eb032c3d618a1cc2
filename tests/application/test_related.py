"""Related records: blocks with their own order, search and pages; what hangs on a delete
at every depth; history, and putting back."""

import re
from typing import Any, ClassVar

from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase, read_form
from tests.support.servers import MARIADB, POSTGRESQL, OnServer

RELATIONS = 12
TABLES = """
CREATE TABLE station (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE, kind VARCHAR(20),
    height_m DECIMAL(5,1), log_note VARCHAR(40));
CREATE TABLE visit (id INTEGER PRIMARY KEY, station_id INTEGER NOT NULL, came_on DATE, words VARCHAR(40),
    FOREIGN KEY (station_id) REFERENCES station (id) ON DELETE CASCADE);
CREATE TABLE finding (visit_id INTEGER NOT NULL, no INTEGER NOT NULL, words VARCHAR(40), PRIMARY KEY (visit_id, no),
    FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE);
CREATE TABLE photo (id INTEGER PRIMARY KEY, visit_id INTEGER, no INTEGER, words VARCHAR(40),
    FOREIGN KEY (visit_id, no) REFERENCES finding (visit_id, no) ON DELETE SET NULL);
CREATE TABLE bill (id INTEGER PRIMARY KEY, photo_id INTEGER, visit_id INTEGER NOT NULL,
    FOREIGN KEY (visit_id) REFERENCES visit (id));
CREATE TABLE leg (id INTEGER PRIMARY KEY, from_id INTEGER NOT NULL, to_id INTEGER NOT NULL, words VARCHAR(40),
    FOREIGN KEY (from_id) REFERENCES station (id), FOREIGN KEY (to_id) REFERENCES station (id));
CREATE TABLE part (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, whole_id INTEGER,
    FOREIGN KEY (whole_id) REFERENCES part (id));
INSERT INTO part VALUES (1, 'Lamp', NULL);
INSERT INTO part VALUES (2, 'Socket', 1);
INSERT INTO part VALUES (3, 'Screw', 2);
INSERT INTO part VALUES (4, 'Egg', NULL), (5, 'Hen', 4);
UPDATE part SET whole_id = 5 WHERE id = 4;
CREATE TABLE branch (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL, upper_id INTEGER, station_id INTEGER,
    FOREIGN KEY (upper_id) REFERENCES branch (id) ON DELETE CASCADE, FOREIGN KEY (station_id) REFERENCES station (id) ON DELETE CASCADE);
CREATE TABLE twig (id INTEGER PRIMARY KEY, branch_id INTEGER, FOREIGN KEY (branch_id) REFERENCES branch (id) ON DELETE SET NULL);
INSERT INTO branch VALUES (1, 'One', NULL, NULL), (2, 'Two', 1, NULL), (3, 'Three', 2, NULL), (4, 'Four', 3, NULL), (5, 'Else', NULL, NULL);
INSERT INTO twig VALUES (1, 4), (2, 5);
CREATE TABLE crate (id INTEGER PRIMARY KEY, branch_id INTEGER NOT NULL, FOREIGN KEY (branch_id) REFERENCES branch (id) ON DELETE CASCADE);
CREATE TABLE box (id INTEGER PRIMARY KEY, branch_id INTEGER NOT NULL, FOREIGN KEY (branch_id) REFERENCES branch (id) ON DELETE CASCADE);
CREATE TABLE label (id INTEGER PRIMARY KEY, crate_id INTEGER, box_id INTEGER, FOREIGN KEY (crate_id) REFERENCES crate (id) ON DELETE CASCADE,
    FOREIGN KEY (box_id) REFERENCES box (id) ON DELETE NO ACTION);
CREATE TABLE shoot (id INTEGER PRIMARY KEY, branch_id INTEGER, upper_id INTEGER, FOREIGN KEY (branch_id) REFERENCES branch (id) ON DELETE CASCADE,
    FOREIGN KEY (upper_id) REFERENCES shoot (id) ON DELETE CASCADE);
CREATE TABLE leaf (id INTEGER PRIMARY KEY, shoot_id INTEGER NOT NULL, FOREIGN KEY (shoot_id) REFERENCES shoot (id) ON DELETE CASCADE);
INSERT INTO shoot VALUES (1, 4, NULL), (2, NULL, 1), (3, NULL, 2);
INSERT INTO leaf VALUES (1, 3);
INSERT INTO crate VALUES (1, 4), (2, 5);
INSERT INTO box VALUES (1, 4), (2, 5);
INSERT INTO label VALUES (1, 1, 1), (2, 1, NULL), (3, 1, 2);
CREATE TABLE shadow (id INTEGER PRIMARY KEY, visit_id INTEGER, FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE);
{many}
INSERT INTO station VALUES (1, 'Tern Holm', 'beacon', 12.5, NULL), (2, 'Cold Bar', 'buoy', NULL, 'hush');
{visits}
INSERT INTO finding VALUES (1, 1, 'cracked'), (1, 2, 'loose'), (2, 1, 'wet');
INSERT INTO photo VALUES (1, 1, 1, 'of the crack');
INSERT INTO shadow VALUES (1, 1);
INSERT INTO leg VALUES (1, 1, 2, 'out'), (2, 2, 1, 'home');
"""
MANY = "\n".join(
    f"CREATE TABLE kind_{n} (id INTEGER PRIMARY KEY, station_id INTEGER, FOREIGN KEY (station_id) REFERENCES station (id));"
    for n in range(RELATIONS)
)
VISITS = "\n".join(
    f"INSERT INTO visit VALUES ({n}, 1, '2026-01-{n:02}', 'visit {n:02}');"
    for n in range(1, 22)
)
ACCESS = """
[role.clerk]
label = "Clerk"
[role.clerk.tables]
"*" = ["view", "edit"]
[role.clerk.fields]
"station.log_note" = "hidden"
[role.pruner]
label = "Pruner"
[role.pruner.tables]
"*" = ["view", "delete"]
[role.pruner.changes]
leaf = "id > 100"
[role.blind]
label = "Blind"
[role.blind.tables]
visit = ["view"]
"""


FORMULA = """
[field.pictures]
formula = "(SELECT count(*) FROM photo p WHERE p.visit_id = finding.visit_id AND p.no = finding.no)"
"""


class Related:
    """The tests, for each kind of database; not a test by itself."""

    DATABASE = "lumet_test_related"
    SCRIPT = TABLES.format(many=MANY, visits=VISITS)

    @classmethod
    def script(cls) -> str:
        return cls.SCRIPT

    @classmethod
    def decide(cls: Any) -> None:
        path = cls.folder / "access.toml"
        path.write_text(ACCESS + path.read_text())
        path = cls.folder / "design/tables/shadow.toml"
        path.write_text("include = false\n" + path.read_text())
        path = cls.folder / "design/tables/finding.toml"
        shown = '[list]\ncolumns = ["words", "pictures"]\n'
        found = path.read_text().replace("[list]  #~\n", shown)
        path.write_text(found + FORMULA)

    def setUp(self: Any) -> None:
        super().setUp()  # type: ignore[misc]
        self.user = self.client()

    def piece(self: Any, address: str) -> str:
        answer = self.user.get(address)
        self.assertEqual(answer.status_code, 200, address)
        return str(answer.text)

    def titles(self, page: str) -> list[str]:
        return re.findall(r'<a class="title"[^>]*>([^<]*)<', page)

    def test_a_block_has_its_own_order_search_and_pages(self: Any) -> None:
        block = "/t/station/r/1/related/visit.station_id"
        page = self.piece(block)
        self.assertIn("<h1>", self.piece("/t/station/r/1"))
        self.assertIn("21</span>", page)
        self.assertNotIn("Station</a></th>", page)  # what points back is left out
        seen: list[str] = []
        address: str | None = f"{block}?sort=words"
        while address:
            page = self.piece(address + "&as-piece=1")
            self.assertNotIn("<html", page)
            seen += re.findall(r"visit \d\d", page)
            later = re.search(r'href="([^"]*after=[^"]*)"', page)
            address = later[1].replace("&amp;", "&") if later else None
        self.assertEqual(
            list(dict.fromkeys(seen)), [f"visit {n:02}" for n in range(1, 22)]
        )
        first = self.piece(f"{block}?sort=-words")
        self.assertLess(first.index("visit 21"), first.index("visit 20"))
        found = self.piece(f"{block}?q=17")
        self.assertEqual(set(re.findall(r"visit \d\d", found)), {"visit 17"})
        for wrong in (f"{block}?after=broken", f"{block}?sort=nothing"):
            self.assertEqual(self.user.get(wrong).status_code, 200)
        for gone in ("visit.words", "none.id", "visit"):
            address = f"/t/station/r/1/related/{gone}"
            self.assertEqual(self.user.get(address).status_code, 404)
        self.assertEqual(self.user.get(block.replace("/1/", "/99/")).status_code, 404)

    def test_references_from_one_table_are_kept_apart(self: Any) -> None:
        out = self.piece("/t/station/r/1/related/leg.from_id")
        home = self.piece("/t/station/r/1/related/leg.to_id")
        self.assertIn("out", out)
        self.assertNotIn("home", out)
        self.assertIn("home", home)

    def test_many_relations_cost_no_more_than_two(self: Any) -> None:
        from sqlalchemy import event

        engine = self.app.extensions["site"].database.engine
        count = [0]

        @event.listens_for(engine, "before_cursor_execute")
        def note(_c: Any, _u: Any, statement: str, *_: Any) -> None:
            count[0] += statement.startswith("SELECT")

        page = self.piece("/t/station/r/1")
        self.assertLessEqual(count[0], 6)
        self.assertGreaterEqual(page.count("data-late"), RELATIONS)
        count[0] = 0
        self.piece("/t/station/r/1/related/visit.station_id?as-piece=1")
        self.assertLessEqual(count[0], 3)

    def test_a_copy_leaves_out_what_must_be_its_own(self: Any) -> None:
        client = self.client()
        copied = self.form_data(client, "/t/station/add?copy-of=1")
        self.assertEqual((copied["kind"], copied["name"]), ("beacon", ""))

    def test_what_is_added_beneath_a_record_belongs_to_it(self: Any) -> None:
        page = self.piece("/t/station/r/2/related/visit.station_id")
        add = re.search(r'href="(/t/visit/add\?[^"]*)"', page)
        assert add is not None
        address = add[1].replace("&amp;", "&")
        form = self.piece(address)
        self.assertNotIn('<select id="field-station_id"', form)
        self.assertIn('<div class="kept">Cold Bar</div>', form)
        typed = read_form(form) | {"words": "beneath", "id": "77"}
        answer = self.user.post(address, data=typed)
        self.assertEqual(answer.location, "/t/station/r/2")
        query = "SELECT station_id FROM visit WHERE words = 'beneath'"
        self.assertEqual(self.rows(query), [(2,)])
        self.change("DELETE FROM visit WHERE id = 77")

    def test_a_delete_says_what_hangs_on_it_at_every_depth(self: Any) -> None:
        page = self.piece("/t/station/r/1/delete").replace("\n", " ")
        goes = re.search(r"(?s)Also deleted.*?</section>", page)
        loses = re.search(r"(?s)Left without a reference.*?</section>", page)
        forbids = re.search(r"(?s)Prevents deletion.*?</section>", page)
        assert goes and loses and forbids
        self.assertIn("21 visits", goes[0])
        self.assertIn("3 findings", goes[0])
        self.assertIn("1 photo", loses[0])
        self.assertIn("records that this application does not show", goes[0])
        self.assertRegex(forbids[0], r'related/leg.from_id">1 leg from here</a>: <a ')
        self.assertIn("1 leg to here", forbids[0])
        page = self.piece("/t/branch/r/1/delete").replace("\n", " ")
        self.assertRegex(
            page, r"(?s)Also deleted.*?>3 branches below</a>: .*?</section>"
        )
        self.assertRegex(page, r"(?s)Left without a reference.*?1 twig.*?</section>")
        self.assertIn("3 labels", page)
        self.assertIn("1 leaf", page)  # below what stands below what goes along
        self.assertNotIn(
            "Prevents deletion", page
        )  # what goes along by another way does not
        pruner = self.client("pruner")
        page = pruner.get("/t/branch/r/1/delete").text.replace("\n", " ")
        self.assertRegex(page, r"(?s)Prevents deletion.*?records you may not delete")
        self.assertNotIn("may not delete", pruner.get("/t/branch/r/5/delete").text)
        page = self.piece("/t/branch/r/5/delete")
        self.assertRegex(page, r"(?s)Prevents deletion(.|\n)*?1 label")
        self.change("INSERT INTO bill VALUES (1, NULL, 3)")
        page = self.piece("/t/station/r/1/delete").replace("\n", " ")
        self.assertRegex(page, r"(?s)Prevents deletion.*?1 bill.*?</section>")
        self.change("DELETE FROM bill")

    def rows_form(self: Any, address: str) -> dict[str, str]:
        return dict(read_form(self.piece(address)))

    def findings(self: Any, visit: int) -> list[Any]:
        query = f"SELECT no, words FROM finding WHERE visit_id = {visit} ORDER BY no"
        return list(self.rows(query))

    def test_rows_are_saved_with_their_record_or_not_at_all(self: Any) -> None:
        edit = "/t/visit/r/1/edit"
        form = self.rows_form(edit)
        self.assertEqual(form["rows-0-0-words"], "cracked")
        self.assertRegex(
            self.piece(edit), r'<div class="kept num">1</div>'
        )  # a formula
        typed = form | {
            "words": "with rows", "rows-0-0-is-gone": "1", "rows-0-1-words": "tight",
            "rows-0-2-words": "new one", "rows-0-3-words": "numbered", "rows-0-3-no": "9",
        }  # fmt: skip
        chosen = self.user.post(edit, data=typed | {"chosen-as": "station_id=2"})
        self.assertIn('value="new one"', chosen.text)  # what is typed comes along
        broken = self.user.post(edit, data=typed | {"rows-0-4-words": "x" * 41})
        self.assertEqual(broken.status_code, 422)
        self.assertIn("Enter at most 40 characters", broken.text)
        self.assertIn('href="#field-rows-0-4-words"', broken.text)
        both = self.user.post(
            edit, data=typed | {"rows-0-4-words": "x" * 41, "came_on": "?"}
        )
        self.assertEqual(both.status_code, 422)
        self.assertIn("Correct 3 entries", both.text)
        self.assertIn('value="new one"', broken.text)
        self.assertRegex(broken.text, r'<div class="kept">2</div>')
        self.assertEqual(self.findings(1), [(1, "cracked"), (2, "loose")])
        query = "SELECT words FROM visit WHERE id = 1"
        self.assertEqual(self.rows(query), [("visit 01",)])
        twice = self.user.post(edit, data=typed | {"rows-0-2-no": "9"})
        self.assertEqual(twice.status_code, 422)
        self.assertEqual(self.findings(1), [(1, "cracked"), (2, "loose")])
        padded = {"padding": "x" * 3_000_000}
        in_parts = {"data": typed | padded, "content_type": "multipart/form-data"}
        wide = self.user.post(edit, **in_parts)
        self.assertEqual(wide.status_code, 422)  # forms with rows may be so large
        self.assertEqual(
            self.user.post("/t/leg/r/1/edit", data=padded).status_code, 413
        )
        asked = self.user.post(edit, data=typed)
        self.assertEqual(asked.status_code, 422)
        self.assertIn("Dependent records: 1 photo.", asked.text)
        saved = self.user.post(edit, data=read_form(asked.text))
        self.assertEqual(saved.status_code, 302, saved.text[:30_000])
        self.assertEqual(
            self.findings(1), [(2, "tight"), (3, "new one"), (9, "numbered")]
        )
        self.assertEqual(self.rows(query), [("with rows",)])
        self.assertIn("with rows", self.piece("/t/visit/r/1/history"))
        again = self.rows_form(edit)
        self.assertEqual(self.user.post(edit, data=again).status_code, 302)
        self.assertEqual(len(self.findings(1)), 3)
        self.change("DELETE FROM finding WHERE visit_id = 1 AND no > 2")
        self.change("UPDATE finding SET words = 'loose' WHERE visit_id = 1 AND no = 2")
        self.change("INSERT INTO finding VALUES (1, 1, 'cracked')")
        self.change("UPDATE visit SET words = 'visit 01' WHERE id = 1")
        self.change("UPDATE photo SET visit_id = 1, no = 1")

    def test_rows_that_others_changed_or_own_are_not_overrun(self: Any) -> None:
        edit = "/t/visit/r/2/edit"
        form = self.rows_form(edit)
        self.change("UPDATE finding SET words = 'theirs' WHERE visit_id = 2")
        mine = self.user.post(
            edit, data=form | {"rows-0-0-words": "mine", "words": "me"}
        )
        self.assertEqual(mine.status_code, 422)
        self.assertIn("Stored now: <b>theirs</b>", mine.text.replace("\n", " "))
        gone = self.user.post(edit, data=form | {"rows-0-0-is-gone": "1"})
        self.assertEqual(gone.status_code, 422)
        self.assertIn("Another user changed this row.", gone.text)
        self.assertEqual(self.findings(2), [(1, "theirs")])
        self.assertEqual(self.user.post(edit, data=form).status_code, 302)  # untouched
        chosen = read_form(mine.text)
        self.assertEqual(self.user.post(edit, data=chosen).status_code, 302)
        self.assertEqual(self.findings(2), [(1, "mine")])
        form = self.rows_form(edit)
        forged = form | {"rows-0-0-the-key": "1,2", "rows-0-0-words": "stolen"}
        self.assertEqual(self.user.post(edit, data=forged).status_code, 422)
        clerk = self.client("clerk")  # who may change, and neither add nor delete
        form = read_form(clerk.get(edit).text)
        self.assertNotIn("rows-0-1-words", form)
        answer = clerk.post(edit, data=form | {"rows-0-0-is-gone": "1"})
        self.assertEqual(answer.status_code, 422)
        clerk.post(edit, data=form | {"rows-0-7-words": "added"})
        self.assertEqual(self.findings(2), [(1, "mine")])
        self.change("UPDATE finding SET words = 'wet' WHERE visit_id = 2")
        self.change("UPDATE visit SET words = 'visit 02' WHERE id = 2")

    def test_a_new_record_comes_with_its_first_rows(self: Any) -> None:
        form = self.rows_form("/t/visit/add")
        typed = form | {"id": "90", "station_id": "2", "words": "first",
                        "rows-0-0-words": "one", "rows-0-1-words": "two"}  # fmt: skip
        wrong = self.user.post("/t/visit/add", data=typed | {"rows-0-1-no": "x"})
        self.assertEqual(wrong.status_code, 422)
        query = "SELECT id FROM visit WHERE words = 'first'"
        self.assertEqual(self.rows(query), [])
        typed["sent-once"] = read_form(wrong.text)["sent-once"]
        self.assertEqual(self.user.post("/t/visit/add", data=typed).status_code, 302)
        ((made,),) = self.rows("SELECT id FROM visit WHERE words = 'first'")
        self.assertEqual(self.findings(made), [(1, "one"), (2, "two")])
        self.change(f"DELETE FROM finding WHERE visit_id = {made}")
        self.change(f"DELETE FROM visit WHERE id = {made}")

    def test_what_stands_below_another_shows_the_path_and_makes_no_circle(
        self: Any,
    ) -> None:
        page = self.piece("/t/part/r/3").replace("\n", " ")
        trail = re.search(r'class="breadcrumbs">(.*?)</div>', page)
        assert trail is not None
        titles = re.findall(r'href="/t/part/r/\d">(\w+)<', trail[1])
        self.assertEqual(titles, ["Lamp", "Socket"])
        form = self.form_data(self.user, "/t/part/r/1/edit")
        for below in ("3", "1"):
            answer = self.user.post("/t/part/r/1/edit", data=form | {"whole_id": below})
            self.assertEqual(answer.status_code, 422)
            self.assertIn("This is below the record itself.", answer.text)
        self.assertEqual(self.user.get("/t/part/r/4").status_code, 200)  # a circle
        round_ = self.form_data(self.user, "/t/part/r/4/edit")
        named = self.user.post("/t/part/r/4/edit", data=round_ | {"name": "Old egg"})
        self.assertEqual(named.status_code, 302)

    def test_history_tells_and_puts_back_within_ones_rights(self: Any) -> None:
        edit = "/t/station/r/2/edit"
        form = self.form_data(self.user, edit)
        self.user.post(
            edit,
            data=form | {"name": "Warm <Bar>", "height_m": "7.5", "log_note": "mum"},
        )
        page = self.piece("/t/station/r/2/history?as-piece=1")
        self.assertIn("<del>Cold Bar</del> → <ins>Warm &lt;Bar&gt;</ins>", page)
        self.assertIn("<del>hush</del>", page)
        clerk = self.client("clerk")
        seen = clerk.get("/t/station/r/2/history").text
        self.assertIn("Cold Bar", seen)
        self.assertNotIn("hush", seen)
        back = re.search(r'href="([^"]*put-back=\d+)"', seen)
        assert back is not None
        again = clerk.get(back[1])
        typed = read_form(again.text)
        self.assertEqual((typed["name"], typed["height_m"]), ("Cold Bar", ""))
        self.assertNotIn("log_note", typed)
        self.assertEqual(clerk.post(edit, data=typed).status_code, 302)
        query = "SELECT name, height_m, log_note FROM station WHERE id = 2"
        self.assertEqual(self.rows(query), [("Cold Bar", None, "mum")])
        other = back[1].replace("/r/2/", "/r/1/")
        self.assertEqual(read_form(self.user.get(other).text)["name"], "Tern Holm")
        self.assertNotIn(
            "Put back", self.client("viewer").get("/t/station/r/2/history").text
        )


class SqliteRelated(Related, ApplicationCase):
    pass


@needs("postgresql")
class PostgresqlRelated(Related, OnServer, ApplicationCase):
    SERVER: ClassVar[str] = POSTGRESQL


@needs("mariadb")
class MariadbRelated(Related, OnServer, ApplicationCase):
    SERVER: ClassVar[str] = MARIADB
