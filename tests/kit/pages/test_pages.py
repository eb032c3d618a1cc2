"""Pages without requests: addresses, contexts, plans and optimistic locking."""

import unittest
from pathlib import Path
from types import SimpleNamespace
from typing import Any

from sqlalchemy import Column, Integer, MetaData, String, Table
from werkzeug.datastructures import MultiDict

from lumet.kit.access.reach import UNBOUNDED, Reach
from lumet.kit.access.roles import Role
from lumet.kit.db.dialects import server_of
from lumet.kit.editing.conflict_check import SEEN, TAKE, ConflictCheck
from lumet.kit.forms import IntegerField, RecordForm, TextField
from lumet.kit.lists.list_links import ListLinks
from lumet.kit.pages import ListPage, RelatedRecords, TablePages
from lumet.kit.pages.name_checks import unknown_names
from lumet.kit.pages.registry import Registry
from lumet.kit.pages.table_context import Plan, TableContext
from lumet.kit.pages.urls import SUFFIXES, TableUrls

QUAY = Table("quay", MetaData(), Column("id", Integer, primary_key=True),
             Column("name", String), Column("depth", Integer))  # fmt: skip


class QuayForm(RecordForm):
    name = TextField("Name")
    depth = IntegerField("Depth")


class QuayPages(TablePages):
    table, form = QUAY, QuayForm
    singular, plural = "Quay", "Quays"
    title, group = "{name}", "Tables"
    list = ListPage(columns=("depth",))


class WrongForm(QuayForm):
    draught = IntegerField("Draught")


class WrongPages(QuayPages):
    form, title = WrongForm, "{name} {shore}"
    subtitle = ("depth", "side")
    list = ListPage(columns=("depth", "length"), order=("-width",), search=("name",))
    details = (RelatedRecords("quay", by="quay_id"),)


class _Site:
    root, language, default_language = "/coast", "en_GB", "en_GB"

    def __init__(self) -> None:
        self.database = SimpleNamespace(server=server_of("sqlite"))
        self.plans: dict[Any, Any] = {}

    def plan(self, key: Any, build: Any) -> Any:
        if key not in self.plans:
            self.plans[key] = build()
        return self.plans[key]


def context(reach: Reach = UNBOUNDED) -> TableContext:
    return TableContext(_Site(), QuayPages("quay"), reach)  # type: ignore[arg-type]


class AddressesTest(unittest.TestCase):
    def test_addresses_begin_at_the_root_and_keep_what_is_given(self) -> None:
        urls = TableUrls("/coast", "quay")
        self.assertEqual(urls.record("7"), "/coast/t/quay/r/7")
        self.assertEqual(urls.add({"name": "a b"}), "/coast/t/quay/add?name=a+b")
        self.assertEqual(len(set(SUFFIXES.values())), len(SUFFIXES))

    def test_links_of_a_list_change_one_parameter_and_forget_the_place(self) -> None:
        given = MultiDict(
            [("q", "x"), ("sort", "depth"), ("after", "zz"), ("on.from", "1/2/26")]
        )
        links = ListLinks("/t/quay", given, {"on.from": "2026-02-01"})
        self.assertEqual(
            links.address("q", sort="-depth"), "/t/quay?on.from=2026-02-01&sort=-depth"
        )
        self.assertEqual(links.hidden("q"), [("sort", "depth"), ("on.from", "1/2/26")])

    def test_keys_in_addresses_are_those_of_the_table(self) -> None:
        made = context()
        self.assertEqual(made.key_values("7"), {"id": 7})
        with self.assertRaises(ValueError):
            made.key_values(str(1 << 63))


class NamesTest(unittest.TestCase):
    def test_names_of_nothing_are_found_where_they_are_written(self) -> None:
        source = Path(__file__).read_text().split("\n")
        found = unknown_names(Registry({"quay": WrongPages("quay")}))
        for line, name in zip(
            found, ("draught", "shore", "length", "width", "side", "quay.quay_id"), strict=True
        ):  # fmt: skip
            place, said = line.split(": ", 1)
            self.assertIn(name, said)
            number = int(place.removeprefix("kit/pages/test_pages.py:"))
            self.assertIn(name.partition(".")[0], source[number - 1])
        self.assertEqual(unknown_names(Registry({"quay": QuayPages("quay")})), [])


class PlansTest(unittest.TestCase):
    def test_a_plan_is_built_once_and_keeps_nobody_s_reach_or_connection(self) -> None:
        made = context().on("a connection")  # type: ignore[arg-type]
        first = made.plan(Plan, "x")
        other = Reach((Role("viewer", "Viewer", frozenset({"view"})),))
        again = TableContext(made.site, made.pages, other).plan(Plan, "x")
        self.assertIs(first.context.open_connection, made.open_connection)
        self.assertIs(again.reach, other)
        for kept in made.site.plans.values():
            self.assertIsNone(kept.context.open_connection)
        same = made.about(QuayPages("quay"))
        self.assertEqual(same.connection, made.connection)


class ConflictTest(unittest.TestCase):
    def setUp(self) -> None:
        self.check = ConflictCheck(context(), "a secret")
        self.key, self.stored = {"id": 7}, {"name": "Old", "depth": 4}
        self.seen = self.check.digests(self.key, self.stored, ["name", "depth"])

    def compare(self, now: dict[str, Any], **typed: str) -> tuple[Any, dict[str, str]]:
        sent = MultiDict({**self.seen, **typed})
        return self.check.compare(self.key, now, sent, ["name", "depth"])

    def test_mine_theirs_and_both(self) -> None:
        theirs = {"name": "Theirs", "depth": 4}
        cases = (
            ({"name": "Mine", "depth": "4"}, self.stored, "Mine", {}),
            ({"name": "Old", "depth": "4"}, theirs, "Theirs", {}),  # not touched by me
            ({"name": "Mine", "depth": "4"}, theirs, "Mine", {"name": "Theirs"}),
            (
                {"name": "Mine", "depth": "4", TAKE + "name": "theirs"},
                theirs,
                "Theirs",
                {},
            ),
            ({"name": "Theirs", "depth": "4"}, theirs, "Theirs", {}),  # both the same
        )
        for typed, now, mine, conflicts in cases:
            found, clashes = self.compare(now, **typed)
            self.assertEqual((found["name"], clashes), (mine, conflicts), typed)

    def test_digests_cannot_be_made_up_or_moved_to_another_record(self) -> None:
        other = self.check.digests({"id": 8}, self.stored, ["name"])
        self.assertNotEqual(other[SEEN + "name"], self.seen[SEEN + "name"])
        self.seen[SEEN + "name"] = other[SEEN + "name"]
        _mine, clashes = self.compare(
            {"name": "Now", "depth": 4}, name="Old", depth="4"
        )
        self.assertEqual(clashes, {"name": "Now"})


if __name__ == "__main__":
    unittest.main()
