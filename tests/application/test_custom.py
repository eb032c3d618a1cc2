"""Your own code in custom/: the methods of changes, actions, pages, templates, and what is
wrong with any of it, found at start."""

import re
import shutil
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any, ClassVar

from tests.support.capabilities import needs
from tests.support.projects import ApplicationCase
from tests.support.servers import MARIADB, POSTGRESQL, OnServer, run

TABLES = """
CREATE TABLE district (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE mast (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, height INTEGER, state VARCHAR(10) NOT NULL,
  noted VARCHAR(200), district_id INTEGER, FOREIGN KEY (district_id) REFERENCES district (id));
CREATE TABLE mast_lamp (mast_id INTEGER NOT NULL, no INTEGER NOT NULL, colour VARCHAR(10) NOT NULL, power INTEGER,
  PRIMARY KEY (mast_id, no), FOREIGN KEY (mast_id) REFERENCES mast (id) ON DELETE CASCADE);
CREATE TABLE mast_district (mast_id INTEGER NOT NULL, district_id INTEGER NOT NULL, PRIMARY KEY (mast_id, district_id),
  FOREIGN KEY (mast_id) REFERENCES mast (id), FOREIGN KEY (district_id) REFERENCES district (id));
CREATE TABLE permit (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, state VARCHAR(10) NOT NULL
  CHECK (state IN ('draft', 'asked', 'given', 'refused')), fee INTEGER, given_on DATE, CHECK (state <> 'given' OR given_on IS NOT NULL));
INSERT INTO permit VALUES (1, 'Dredge', 'draft', NULL, NULL), (2, 'Dive', 'asked', 10, NULL), (3, 'Moor', 'asked', NULL, NULL);
INSERT INTO district VALUES (1, 'North'), (2, 'South');
INSERT INTO mast VALUES (1, 'Tall', 40, 'lit', NULL, 1), (2, 'Low', 8, 'dark', NULL, 2), (3, 'Old', 20, 'lit', NULL, NULL);
INSERT INTO mast_lamp VALUES (1, 1, 'white', 60), (1, 2, 'red', 40);
"""
MAST = '''"""Masts: what is checked, written and told."""

from collections.abc import Mapping
from typing import Any

from sqlalchemy import ColumnElement, FromClause, select, update

from ..kit.custom import (
    DELETE,
    LIST,
    Action,
    ActionCall,
    Change,
    ComputedColumn,
    IntegerField,
    Required,
    TextField,
)
from ..tables.district import district_table
from ..tables.mast import MastForm, MastPages, mast_table

SEEN: list[tuple[str, str, str]] = []


class OwnMastForm(MastForm):
    """The form of masts."""


class OwnMastPages(MastPages):
    """The pages of masts."""

    actions = (
        Action("switch_off", "Switch off", question="Switch this mast off?", bulk=True),
        Action("count_all", "Count all", on=LIST, right="view"),
        Action("wreck", "Wreck", roles=("administrator",)),
        Action("rename", "Rename", inputs=(
            ("label", TextField("New name", [Required()])), ("power", IntegerField("Power")),
        )),
    )

    computed_columns = (ComputedColumn("size", TextField("Size"), needs=("height",)),)

    def size(self, values: Mapping[str, Any]) -> str | None:
        height = values["height"]
        return None if height is None else "Tall one" if height > 30 else "Low one"

    def list_condition(self, rows: FromClause) -> ColumnElement[bool] | None:
        return rows.c.name != "Hidden"

    def validate(self, change: Change) -> None:
        if change.kind == DELETE and change.before["state"] == "lit":
            change.refuse("A lit mast stays.")
        if (change.after.get("height") or 0) > 90:
            change.refuse("No mast is so tall.", "height")
        if change.after.get("name") == "Twice":
            change.refuse("Not this name.", "name")
            change.refuse("Nor anything like it.")

    def write(self, change: Change) -> None:
        if change.after.get("name") == "Broken":
            raise RuntimeError("secret words")
        if change.kind != DELETE:
            change.values["noted"] = f"{change.kind} by {change.user.name}"
        super().write(change)
        if change.sets("state"):
            changed = update(district_table).where(district_table.c.id == 1)
            change.run(changed.values(name=f"North {change.values['state']}"))

    def committed(self, change: Change) -> None:
        SEEN.append((change.kind, change.source, str(change.after["name"])))
        if change.after.get("name") == "Loud":
            raise RuntimeError("too late")

    def switch_off(self, call: ActionCall) -> str:
        if call.values["state"] == "dark":
            call.refuse("It is dark already.")
        call.edit({"state": "dark"})
        return f"{call.values['name']} is dark now."

    def count_all(self, call: ActionCall) -> str:
        return f"{len(call.run(select(mast_table)).all())} masts"

    def rename(self, call: ActionCall) -> None:
        if call.inputs["power"] == 13:
            call.refuse("An unlucky number.", "power")
        call.edit({"name": f"{call.inputs['label']} {call.inputs['power'] or 0:d}"})

    def wreck(self, call: ActionCall) -> None:
        raise RuntimeError("secret words")
'''
LAMP = '''"""Lamps."""

from ..kit.custom import Change
from ..tables.mast_lamp import MastLampPages

SEEN: list[tuple[str, str, str]] = []


class OwnMastLampPages(MastLampPages):
    """The pages of lamps."""

    def validate(self, change: Change) -> None:
        if change.after.get("colour") == "pink":
            change.refuse("No lamp is pink.", "colour")

    def committed(self, change: Change) -> None:
        SEEN.append((change.kind, change.source, str(change.after.get("colour"))))
'''
INIT = '''"""Yours."""

from flask import Blueprint, render_template
from sqlalchemy import select

from ..kit.custom import MenuEntry, OwnSetting, own_pages, reading, rows, setting

reports: Blueprint = own_pages("reports", roles=("administrator",))


@reports.get("/reports/dark")
def dark() -> str:
    from ..tables.mast import mast_table

    with reading() as (connection, reach):
        masts = rows(mast_table)
        wanted = select(masts.c.name).where(masts.c.state == "dark")
        found = reach.run(connection, wanted)
        names = found.scalars().all()
    return render_template("dark.html", names=names, harbour=setting("HARBOUR"))


BLUEPRINTS = (reports,)
MENU = (
    MenuEntry(label="Dark masts", endpoint="reports.dark", roles=("administrator",)),
)
SETTINGS = (OwnSetting(name="HARBOUR", default="Holm"),)
'''  # fmt: skip
TEMPLATES = {
    "dark.html": '{% extends "base.html" %}{% block heading %}Dark masts{% endblock %}'
    "{% block work %}<h1>Dark at {{ harbour }}: {{ names|join(', ') }}</h1>{% endblock %}",
    "record.html": '{% extends "record.html" %}{% block heading %}Of ours: {{ super() }}{% endblock %}',
    "mast/record.html": '{% extends "record.html" %}{% block own_blocks %}<p>Block of masts</p>{% endblock %}',
}


TRANSITIONS = """
[transitions.state]
ask = { from = ["draft"], to = "asked", label = "Ask for it" }
give = { from = ["asked"], to = "given", roles = ["administrator"], where = "fee IS NOT NULL", fields = ["given_on", "fee"] }
refuse = { from = ["asked", "draft"], to = "refused" }
"""


class Custom:
    """The same for each server."""

    app: Any
    folder: Any
    package: str

    @classmethod
    def decide(cls) -> None:
        lines = '\n[details]\nmast_lamp = { by = "mast_id", edit = "rows" }\n'
        path = cls.folder / "design/tables/permit.toml"
        path.write_text(path.read_text() + TRANSITIONS)
        path = cls.folder / "design/tables/mast.toml"
        text = re.sub(r"#~ mast_lamp.*\n", "", path.read_text())
        path.write_text(
            text.replace("[details]  #~\n", lines, 1)
            if "[details]" in text
            else text + lines
        )

    @classmethod
    def create_app(cls: Any) -> Any:
        custom = cls.folder / cls.package / "custom"
        (custom / "mast.py").write_text(MAST)
        (custom / "mast_lamp.py").write_text(LAMP)
        (custom / "__init__.py").write_text(INIT)
        for name, text in TEMPLATES.items():
            path = custom / "templates" / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
        (custom / "static").mkdir()
        (custom / "static/style.css").write_text("h1 { color: #1c3d5a; }\n")
        return super().create_app()  # type: ignore[misc]

    def seen(self, table: str) -> list[tuple[str, str, str]]:
        """Return the changes that own code was told of, and forget them."""
        own = type(self.app.extensions["site"].registry[table])
        held = own.committed.__globals__["SEEN"]
        found = [*held]
        held.clear()
        return found

    def masts(self: Any) -> list[tuple[Any, ...]]:
        return [tuple(row) for row in self.rows("SELECT name, height, state, noted FROM mast ORDER BY id")]  # fmt: skip

    def test_a_form_passes_the_three_methods(self: Any) -> None:
        client = self.client()
        self.seen("mast")
        form = self.form_data(client, "/t/mast/r/1/edit")
        refused = client.post(
            "/t/mast/r/1/edit", data=form | {"name": "Twice", "height": "91"}
        )
        self.assertEqual(refused.status_code, 422)
        for said in ("No mast is so tall.", "Not this name.", "Nor anything like it."):
            self.assertIn(said, refused.text)
        self.assertIn('value="Twice"', refused.text)
        self.assertEqual(self.seen("mast"), [])
        saved = client.post("/t/mast/r/1/edit", data=form | {"state": "dim"})
        self.assertEqual(saved.status_code, 302)
        self.assertEqual(self.masts()[0], ("Tall", 40, "dim", "edit by administrator"))
        self.assertEqual(
            self.rows("SELECT name FROM district WHERE id = 1")[0][0], "North dim"
        )
        new = self.form_data(client, "/t/mast/add") | {
            "id": "9",
            "name": "New",
            "state": "lit",
        }
        self.assertEqual(client.post("/t/mast/add", data=new).status_code, 302)
        self.assertEqual(self.masts()[-1], ("New", None, "lit", "add by administrator"))
        self.assertIn("A lit mast stays.", client.post("/t/mast/r/3/delete").text)
        self.assertEqual(client.post("/t/mast/r/2/delete").status_code, 302)
        self.assertEqual(
            self.seen("mast"),
            [
                ("edit", "form", "Tall"),
                ("add", "form", "New"),
                ("delete", "form", "Low"),
            ],
        )

    def test_what_fails_loses_nothing(self: Any) -> None:
        client = self.client()
        self.seen("mast")
        before = self.masts()
        form = self.form_data(client, "/t/mast/r/1/edit") | {"name": "Broken"}
        add = self.form_data(client, "/t/mast/add") | {
            "id": "9",
            "name": "Broken",
            "state": "x",
        }
        for address, data in (("/t/mast/r/1/edit", form), ("/t/mast/add", add)):
            with self.assertLogs(level="ERROR") as logged:
                answer = client.post(address, data=data)
            self.assertEqual(answer.status_code, 500)
            self.assertIn('value="Broken"', answer.text)
            self.assertNotIn("secret", answer.text)
            number = re.search(r"log under (\w{8})", answer.text)
            assert number is not None
            self.assertIn(number[1], logged.output[0])
            self.assertIn("RuntimeError: secret words", logged.output[0])
        self.assertEqual(self.masts(), before)
        with self.assertLogs(level="ERROR") as logged:
            saved = client.post("/t/mast/r/1/edit", data=form | {"name": "Loud"})
        self.assertEqual(saved.status_code, 302)
        self.assertIn("too late", logged.output[0])
        self.assertEqual(self.masts()[0][0], "Loud")

    def test_rows_and_bulk_changes_pass_them_too(self: Any) -> None:
        client = self.client()
        form = self.form_data(client, "/t/mast/r/1/edit")
        self.assertIn("rows-", " ".join(form))
        self.seen("mast"), self.seen("mast_lamp")
        colours = [n for n in form if re.fullmatch(r"rows-0-[01]-colour", n)]
        wrong = client.post("/t/mast/r/1/edit", data=form | {colours[0]: "pink"})
        self.assertEqual(wrong.status_code, 422)
        self.assertIn("No lamp is pink.", wrong.text)
        self.assertEqual(self.seen("mast_lamp"), [])
        data = form | dict.fromkeys(colours, "green")
        self.assertEqual(client.post("/t/mast/r/1/edit", data=data).status_code, 302)
        self.assertEqual(self.seen("mast_lamp"), [("edit", "row", "green")] * 2)
        bulk = {"do-action": "set", "set-column": "height", "chosen-row": ["1", "3"]}
        sent = {**bulk, "height": "91"}
        page = client.post("/t/mast/bulk", data=sent).text
        seen = re.findall(r'name="seen-of-row" value="([^"]*)"', page)
        done = client.post(
            "/t/mast/bulk", data={**sent, "is-sure": "1", "seen-of-row": seen}
        )
        self.assertIn("No mast is so tall.", done.text)
        sent = {**bulk, "height": "12"}
        done = client.post(
            "/t/mast/bulk", data={**sent, "is-sure": "1", "seen-of-row": seen}
        )
        self.assertEqual([each[1] for each in self.masts()], [12, 8, 12])
        self.assertEqual(
            self.seen("mast"), [("edit", "bulk", "Tall"), ("edit", "bulk", "Old")]
        )

    def test_actions_have_rights_questions_and_a_log(self: Any) -> None:
        client = self.client()
        self.seen("mast")
        record = client.get("/t/mast/r/1").text
        for label in ("Switch off", "Wreck"):
            self.assertIn(f">{label}</a>", record)
        asked = client.get("/t/mast/r/1/action/switch_off")
        self.assertIn("Switch this mast off?", asked.text)
        self.assertEqual(self.masts()[0][2], "lit", "nothing is done by looking")
        done = client.post("/t/mast/r/1/action/switch_off", follow_redirects=True)
        self.assertIn("Tall is dark now.", done.text)
        self.assertEqual(self.masts()[0][2:], ("dark", "edit by administrator"))
        self.assertEqual(self.seen("mast"), [("edit", "action", "Tall")])
        token = re.search(r'name="sent-once" value="([^"]+)"', asked.text)
        assert token is not None
        twice = {"sent-once": token[1]}
        counted = [
            client.post(
                "/t/mast/action/count_all", data=twice, follow_redirects=True
            ).text
            for _ in range(2)
        ]
        self.assertEqual(["3 masts" in page for page in counted], [True, False])
        self.assertIn("it was carried out once", counted[1])
        again = client.post("/t/mast/r/1/action/switch_off")
        self.assertEqual(
            (again.status_code, "It is dark already." in again.text), (422, True)
        )
        with self.assertLogs(level="ERROR"):
            self.assertEqual(client.post("/t/mast/r/1/action/wreck").status_code, 500)
        listed = client.post("/t/mast/action/count_all", follow_redirects=True)
        self.assertIn("3 masts", listed.text)
        bulk = {"do-action": "own-switch_off", "chosen-row": ["1", "3"]}
        page = client.post("/t/mast/bulk", data=bulk).text
        seen = re.findall(r'name="seen-of-row" value="([^"]*)"', page)
        result = client.post(
            "/t/mast/bulk", data={**bulk, "is-sure": "1", "seen-of-row": seen}
        )
        self.assertIn("It is dark already.", result.text)
        self.assertEqual([each[2] for each in self.masts()], ["dark", "dark", "dark"])
        self.assertIn("Switch off", client.get("/log?kind=action").text)
        editor, viewer = self.client("editor"), self.client("viewer")
        self.assertNotIn("Wreck", editor.get("/t/mast/r/1").text)
        for user, address, code in (
            (editor, "/t/mast/r/1/action/wreck", 403),
            (viewer, "/t/mast/r/1/action/switch_off", 403),
            (viewer, "/t/mast/action/count_all", 200),
            (editor, "/t/mast/r/1/action/committed", 404),
            (editor, "/t/mast/r/1/action/validate", 404),
            (editor, "/t/mast/r/77/action/switch_off", 404),
        ):
            self.assertEqual(user.get(address).status_code, code, address)
        self.assertEqual(viewer.post("/t/mast/bulk", data=bulk).status_code, 403)

    def test_what_an_action_asks_for_is_checked_and_kept(self: Any) -> None:
        client, address = self.client(), "/t/mast/r/1/action/rename"
        self.assertIn('name="label"', client.get(address).text)
        for sent, said in (
            ({"label": "", "power": "2"}, "Enter a value."),
            ({"label": "Wide", "power": "much"}, "whole number"),
            ({"label": "Wide", "power": "13"}, "An unlucky number."),
        ):
            refused = client.post(address, data=sent)
            self.assertEqual((refused.status_code, said in refused.text), (422, True))
            for typed in sent.values():
                self.assertIn(f'value="{typed}"', refused.text)
        client.post(address, data={"label": "Wide", "power": "60"})
        self.assertEqual(self.masts()[0][0], "Wide 60")
        self.assertIn("New name", client.get("/log?kind=action").text)

    def permits(self: Any) -> list[tuple[Any, ...]]:
        found = self.rows("SELECT id, state, fee, given_on FROM permit ORDER BY id")
        return [(*row[:3], str(row[3]) if row[3] else None) for row in found]

    def test_transitions_are_the_only_way(self: Any) -> None:
        client, editor = self.client(), self.client("editor")
        first = client.get("/t/permit/r/1").text
        self.assertEqual(re.findall(r'id="action-(\w+)"', first), ["ask", "refuse"])
        self.assertIn(">Ask for it</a>", first)
        form = self.form_data(client, "/t/permit/r/1/edit")
        self.assertNotIn("state", form)
        before = self.permits()
        for address, data in (
            ("/t/permit/r/1/edit", form | {"state": "given", "given_on": "2026-01-02"}),
            ("/t/permit/r/1/field/state", {"state": "given"}),
            ("/t/permit/r/1/action/give", {"given_on": "2026-01-02", "fee": "3"}),
            ("/t/permit/bulk", {"do-action": "set", "set-column": "state", "chosen-row": "1", "state": "given", "is-sure": "1"}),
            ("/t/permit/add", {"id": "9", "name": "New", "state": "given", "given_on": "2026-01-02"}),
        ):  # fmt: skip
            client.post(address, data=data)
        self.assertEqual(
            [each[:2] for each in self.permits()], [each[:2] for each in before]
        )
        refused = client.post(
            "/t/permit/add", data={"id": "9", "name": "New", "state": "asked"}
        )
        self.assertIn("A new record begins as: Draft.", refused.text)
        self.assertEqual(client.post("/t/permit/r/1/action/ask").status_code, 302)
        self.assertEqual(client.post("/t/permit/r/1/action/ask").status_code, 403)
        asked = re.findall(r'id="action-(\w+)"', client.get("/t/permit/r/1").text)
        self.assertEqual(asked, ["refuse"], "no fee, so it cannot be given")
        self.assertEqual(editor.post("/t/permit/r/2/action/give").status_code, 403)
        page = client.get("/t/permit/r/2/action/give").text
        self.assertIn('name="given_on"', page)
        sent = dict(
            re.findall(r'type="hidden" name="(seen-[^"]+)" value="([^"]*)"', page)
        )
        wrong = client.post(
            "/t/permit/r/2/action/give", data=sent | {"given_on": "", "fee": "12"}
        )
        self.assertIn(wrong.status_code, (409, 422))
        self.assertIn('value="12"', wrong.text)
        bad = client.post(
            "/t/permit/r/2/action/give",
            data=sent | {"given_on": "2026-01-02", "fee": "x"},
        )
        self.assertEqual(bad.status_code, 422)
        self.assertIn('value="x"', bad.text)
        done = client.post(
            "/t/permit/r/2/action/give",
            data=sent | {"given_on": "2026-01-02", "fee": "12"},
        )
        self.assertEqual(done.status_code, 302)
        self.assertEqual(self.permits()[1], (2, "given", 12, "2026-01-02"))
        bulk = {"do-action": "own-refuse", "chosen-row": ["1", "2", "3"]}
        page = client.post("/t/permit/bulk", data=bulk).text
        self.assertIn("Not possible in its present state.", page)
        seen = re.findall(r'name="seen-of-row" value="([^"]*)"', page)
        sent = bulk | {"is-sure": "1", "seen-of-row": seen}
        self.assertEqual(client.post("/t/permit/bulk", data=sent).status_code, 200)
        states = ["refused", "given", "refused"]
        self.assertEqual([each[1] for each in self.permits()], states)
        forged = sent | {"do-action": "own-give", "given_on": "2026-01-02"}
        self.assertEqual(client.post("/t/permit/bulk", data=forged).status_code, 403)
        self.assertIn("· Give", client.get("/t/permit/r/2/history").text)
        self.assertEqual(
            re.findall(r'id="action-(\w+)"', client.get("/t/permit/r/2").text), []
        )

    def test_lists_have_own_conditions_and_columns(self: Any) -> None:
        self.change("INSERT INTO mast VALUES (8, 'Hidden', 3, 'lit', NULL, NULL)")
        client = self.client()
        page = client.get("/t/mast").text
        self.assertRegex(page, r"<th[^>]*>(<[^>]*>)?\s*Size")
        self.assertIn("Tall one", page)
        self.assertNotIn("Hidden", page)
        self.assertEqual(client.get("/t/mast/r/8").status_code, 200, "not out of reach")
        self.assertIn("Low one", client.get("/t/mast/r/2").text)
        text = client.get("/t/mast/export.csv").text
        self.assertIn("Low one", text)
        self.assertNotIn("Hidden", text)
        self.assertIn('class="count">3', page)

    def test_templates_pages_menu_and_style(self: Any) -> None:
        client, viewer = self.client(), self.client("viewer")
        mast = client.get("/t/mast/r/1").text
        self.assertIn("<title>Of ours: Tall", mast)
        self.assertIn("Block of masts", mast)
        self.assertNotIn("Block of masts", client.get("/t/district/r/1").text)
        style = re.search(r'href="(/own/v-[^"]+/style.css)"', mast)
        assert style is not None
        with client.get(style[1]) as answer:
            self.assertIn("#1c3d5a", answer.text)
        page = client.get("/reports/dark")
        self.assertIn("Dark at Holm: Low", page.text)
        self.assertIn(
            'href="/reports/dark" data-name="/reports/dark" aria-current="page"><span>Dark masts',
            page.text,
        )
        self.assertNotIn("Dark masts", viewer.get("/t/mast").text)
        self.assertEqual(viewer.get("/reports/dark").status_code, 403)
        nobody = self.app.test_client().get("/reports/dark")
        self.assertIn("/sign-in", nobody.headers["Location"])


class CustomTest(Custom, ApplicationCase):
    """On SQLite, and what is said at start."""

    SCRIPT = TABLES

    @contextmanager
    def instead(self, path: str, old: str, new: str) -> Iterator[None]:
        """Change own code for a while."""
        custom = self.folder / self.package / "custom"
        kept = self.folder / "kept"
        shutil.copytree(custom, kept)
        try:
            target = custom / path
            text = target.read_text() if target.exists() else ""
            self.assertIn(old, text)
            target.write_text(text.replace(old, new, 1) if old else new)
            for name in [
                n for n in sys.modules if n.startswith(f"{self.package}.custom")
            ]:
                del sys.modules[name]
            yield
        finally:
            shutil.rmtree(custom)
            shutil.move(kept, custom)

    def test_nothing_is_silent(self) -> None:
        settings = sys.modules[f"{self.package}.kit.common.settings"]
        module = sys.modules[self.package]
        for path, old, new, place, said in (
            ("masts.py", "", "X = 1\n", "masts.py:1", "There is no table masts. Nearest: mast."),
            ("district.py", "", "X = 1\n", "district.py:1", "No class here is a subclass of DistrictPages or DistrictForm."),
            ("mast.py", "    def committed(self, change: Change)", "    def before_save(self, connection, values, is_new)", "mast.py", "before_save is not called any more: override write(self, change)"),
            ("mast.py", "    def validate(", "    def validat(", "mast.py:27", "has validat, which nothing calls. Nearest: validate."),
            ("mast.py", "def committed(self, change: Change)", "def committed(self)", "mast.py:47", "write def committed(self, change)"),
            ("mast.py", "class OwnMastForm(", "class Second(MastPages):\n    pass\n\n\nclass OwnMastForm(", "mast.py:16", "OwnMastPages is a second class for the pages"),
            ("mast.py", '"wreck", "Wreck"', '"wrecked", "Wreck"', "mast.py:16", "an action wrecked, but no method"),
            ("mast.py", "def wreck(self, call: ActionCall)", "def wreck(self)", "mast.py:59", "write def wreck(self, call: ActionCall)"),
            ("__init__.py", "MENU = (", "MENUS = (", "__init__.py:24", "Nothing reads MENUS. Nearest: MENU."),
            ("__init__.py", "BLUEPRINTS = (reports,)", "BLUEPRINTS = reports", "__init__.py:23", "BLUEPRINTS is a tuple of Blueprint."),
            ("__init__.py", '"reports.dark"', '"reports.drak"', "custom/__init__.py", "no page reports.drak"),
            ("__init__.py", 'default="Holm"', "is_required=True", "HARBOUR", "not set"),
        ):  # fmt: skip
            with self.subTest(said), self.instead(path, old, new):
                with self.assertRaises(Exception) as refused:
                    module.create_app(settings.read_settings(self.folder))
                self.assertEqual(type(refused.exception).__name__, "CannotStart")
                self.assertIn(said, str(refused.exception))
                self.assertIn(place.partition(":")[0], str(refused.exception))


class CustomOnServer(OnServer):
    """Finds the rows of each test as they were made."""

    DATABASE: ClassVar[str] = "lumet_test_custom"

    @classmethod
    def script(cls) -> str:
        return TABLES

    def restore(self) -> None:
        names = ("mast_lamp", "mast_district", "mast", "district", "permit")
        filled = [each for each in TABLES.split(";\n") if each.startswith("INSERT")]
        run(self.address, [*(f"DELETE FROM {name}" for name in names), *filled])


@needs("postgresql")
class PostgresqlCustom(CustomOnServer, Custom, ApplicationCase):
    """On PostgreSQL."""

    SERVER: ClassVar[str] = POSTGRESQL


@needs("mariadb")
class MariadbCustom(CustomOnServer, Custom, ApplicationCase):
    """On MariaDB."""

    SERVER: ClassVar[str] = MARIADB
