"""Renames in the database: what users keep follows when the application starts."""

import json
import sys
from typing import Any
from unittest import mock

from sqlalchemy import select

from lumet.project.commands import run_generation, run_survey
from tests.support.projects import PASSWORD, ApplicationCase

RENAMED = ("keeper=guardian", "keeper.tel=phone")
BACK = ("guardian=keeper", "guardian.phone=tel")


class RenameTest(ApplicationCase):
    """A store in use, over a table and a column that are renamed, and renamed back."""

    SCRIPT = """
        CREATE TABLE keeper (id INTEGER PRIMARY KEY, name TEXT NOT NULL, tel TEXT, left_on DATE);
        CREATE TABLE light (id INTEGER PRIMARY KEY, name TEXT NOT NULL, keeper_id INTEGER REFERENCES keeper (id));
        INSERT INTO keeper VALUES (1, 'Una Brock', '555-1', NULL), (2, 'Per Lund', '555-2', NULL);
        INSERT INTO light VALUES (1, 'North Reach', 1);
    """
    VIEW = "columns=tel,name&sort=-tel&tel.has=555&by=tel&sum=id&q=tel"
    BORROWED = "columns=keeper_id,keeper_id.tel&sort=name"

    @classmethod
    def decide(cls) -> None:
        path = cls.folder / "design/tables/light.toml"
        path.write_text(path.read_text() + '\n[list]\ncolumns = ["keeper_id.tel"]\n')

    def rename(self, statements: str, renamed: tuple[str, ...]) -> None:
        self.change(statements)
        run_survey(self.folder, str(self.path), renamed=renamed)
        run_generation(self.folder)
        self.start_again()

    def start_again(self) -> None:
        for name in [n for n in sys.modules if n.split(".")[0] == self.package]:
            del sys.modules[name]
        type(self).app = self.create_app()
        self.app.config["WTF_CSRF_ENABLED"] = False

    def kept(self) -> dict[str, Any]:
        """Return what the store keeps by name."""
        stores = sys.modules[f"{self.package}.kit.accounts.store"]
        with self.app.extensions["users"].store.reading() as connection:
            views, choices, entries = (
                connection.execute(select(each).order_by(*each.primary_key)).all()
                for each in (stores.saved_view, stores.choice, stores.entry)
            )
        return {
            "views": [(each.record_table, each.query) for each in views],
            "choices": {each.name: each.value for each in choices},
            "history": [(each.record_table, [*json.loads(each.detail)["texts"]])
                        for each in entries if each.kind == "edit"],
        }  # fmt: skip

    def test_views_columns_and_history_go_on(self) -> None:
        client = self.client()
        form = self.form_data(client, "/t/keeper/r/1/edit") | {"tel": "555-9"}
        client.post("/t/keeper/r/1/edit", data=form)
        for table, query in (("keeper", self.VIEW), ("light", self.BORROWED)):
            data = {"list-query": query, "name": "Mine", "first": "on"}
            client.post(f"/t/{table}/views", data=data)
        client.post("/t/keeper/columns", data={"column": ["tel", "left_on"]})
        before = self.kept()
        self.assertEqual(before["choices"]["columns keeper"], "tel,left_on")
        self.assertEqual(before["history"], [("keeper", ["tel"])])

        rename = "ALTER TABLE keeper RENAME COLUMN tel TO phone; ALTER TABLE keeper RENAME TO guardian;"
        self.rename(rename, RENAMED)
        light = self.folder / "design/tables/light.toml"
        self.assertIn('["keeper_id.phone"]', light.read_text())
        self.assertEqual(
            self.kept(),
            {
                "views": [("guardian", "columns=phone,name&sort=-phone&phone.has=555&by=phone&sum=id&q=tel"),
                          ("light", "columns=keeper_id,keeper_id.phone&sort=name")],
                "choices": {"columns guardian": "phone,left_on"},
                "history": [("guardian", ["phone"])],
            },
        )  # fmt: skip
        client = self.app.test_client()
        client.post("/sign-in", data={"name": "administrator", "password": PASSWORD})
        self.assertIn("555-9", client.get("/t/guardian/r/1/history").text)
        self.assertIn("Mine", client.get("/t/guardian?panel=views").text)
        module = sys.modules[f"{self.package}.kit.accounts.renames"]
        with mock.patch.object(module, "_follow_column") as again:
            self.start_again()
        again.assert_not_called()

        back = "ALTER TABLE guardian RENAME TO keeper; ALTER TABLE keeper RENAME COLUMN phone TO tel;"
        self.rename(back, BACK)
        self.assertEqual(self.kept(), before)
