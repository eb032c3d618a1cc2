"""The rules, on facts built by hand."""

import unittest
from typing import Any

from lumet.evidence.model import ColumnProfile, Evidence
from lumet.facts.model import Database
from lumet.inference.cards import cards_of_front
from lumet.inference.engine import infer, infer_access
from lumet.inference.labels_from_names import label_from, nouns_of, split_words, unit_of
from tests.support.builders import database, evidence, reference, table


def decided(found: Database, of: str, rows: Evidence | None = None) -> dict[str, Any]:
    entries = infer(found, rows or Evidence())[of]
    return {"/".join(entry.path): entry.value for entry in entries}


class WordsTest(unittest.TestCase):
    def test_names_become_words_and_labels(self) -> None:
        cases = {
            "inspected_on": "Inspected on",
            "StationCode": "Station code",
            "STN_CD": "Station code",
            "HTTPServerURL": "Http server URL",
            "desc": "Description",
        }
        for name, label in cases.items():
            with self.subTest(name):
                self.assertEqual(label_from(split_words(name)), label)
        numbers = {
            "range_nm": ("Range", "nm"),
            "cost_eur": ("Cost", "€"),
            "lamp_current_a": ("Lamp current", "A"),
            "plan_a": ("Plan a", ""),
            "visibility_pct": ("Visibility", "%"),
        }
        for name, found in numbers.items():
            with self.subTest(name):
                words = split_words(name)
                label = label_from(words, numeric=True)
                self.assertEqual((label, unit_of(words)), found)

    def test_only_the_last_noun_bends(self) -> None:
        cases = {
            "lens_type": ("lens type", "lens types"),
            "LENSES": ("lens", "lenses"),
            "light_class": ("light class", "light classes"),
            "logbook_old": ("old logbook", "old logbooks"),
            "news": ("news", "news"),
            "Bodies": ("body", "bodies"),
            "lens": ("lens", "lenses"),
        }
        for name, expected in cases.items():
            with self.subTest(name):
                self.assertEqual(
                    tuple(map(" ".join, nouns_of(split_words(name)))), expected
                )


class TitleTest(unittest.TestCase):
    def test_each_rule_in_its_order(self) -> None:
        station = table(
            "station",
            "id INT #",
            "name TEXT !",
            "memo TEXT",
            key="id",
            unique=("name",),
        )
        to_station = (reference("station_id station.id"),)
        cases: dict[str, tuple[Any, str]] = {
            "a person": (
                table(
                    "keeper",
                    "id INT #",
                    "email TEXT",
                    "last_name TEXT",
                    "first_name TEXT",
                    key="id",
                ),
                "{first_name} {last_name}",
            ),
            "a unique name": (station, "{name}"),
            "unique together": (
                table(
                    "light",
                    "id INT #",
                    "station_id INT !",
                    "label TEXT !",
                    key="id",
                    references=to_station,
                    unique=("station_id+label",),
                ),
                "{station_id} · {label}",
            ),
            "a name that may repeat": (
                table("beacon", "id INT #", "n INT", "beacon_name TEXT", key="id"),
                "{beacon_name}",
            ),
            "an event": (
                table(
                    "visit",
                    "id INT #",
                    "station_id INT !",
                    "day DATE !",
                    "memo TEXT",
                    key="id",
                    references=to_station,
                ),
                "{station_id} · {day}",
            ),
            "a readable key": (
                table("code", "code TEXT !", "n INT", key="code"),
                "{code}",
            ),
            "something telling": (
                table("part", "id INT #", "colour TEXT !", "part_no TEXT !", key="id"),
                "{part_no}",
            ),
            "a number": (table("gauge", "id INT #", "n INT", key="id"), "Gauge {id}"),
        }
        for what, (built, title) in cases.items():
            with self.subTest(what):
                found = (
                    database(built) if built is station else database(station, built)
                )
                self.assertEqual(decided(found, built.name)["title"], title)

    def test_a_title_reaches_through_two_references_and_no_circle(self) -> None:
        a = table(
            "a",
            "id INT #",
            "b_id INT !",
            "day DATE !",
            key="id",
            references=(reference("b_id b.id"),),
        )
        b = table(
            "b",
            "id INT #",
            "c_id INT !",
            "day DATE !",
            key="id",
            references=(reference("c_id c.id"),),
        )
        c = table(
            "c",
            "id INT #",
            "a_id INT !",
            "day DATE !",
            key="id",
            references=(reference("a_id a.id"),),
        )
        titles = {name: decided(database(a, b, c), name)["title"] for name in "abc"}
        self.assertEqual(
            titles["c"], "{a_id} · {day}" if "a_id" in titles["c"] else "C {id}"
        )
        through = [name for name in "abc" if "_id}" in titles[name]]
        self.assertEqual(len(through), 2, titles)


class ColumnTest(unittest.TestCase):
    TABLE = table(
        "station",
        "id INTEGER #",
        "station_no TEXT !",
        "lens_code TEXT",
        "district_id INTEGER",
        "keeper_id INTEGER",
        "kind TEXT !",
        "is_lit INTEGER !",
        "built_year INTEGER",
        "remarks TEXT",
        "short_note VARCHAR(20)",
        "area POLYGON",
        "created_at TIMESTAMP",
        "changed_by TEXT !",
        "row_version INTEGER ! =0",
        "api_token TEXT",
        "state TEXT",
        "contact_mail TEXT",
        "price DECIMAL(8,2)",
        "load_pct INTEGER",
        "latitude REAL",
        "seen TEXT",
        "photo TEXT",
        "tel TEXT",
        "gone CHAR(1)",
        "shape TEXT",
        key="id",
        references=(
            reference("lens_code lens.code"),
            reference("district_id district.id"),
        ),
        checks=("kind IN ('lighthouse', 'leading_light')",),
    )
    LENS = table("lens", "code TEXT !", "name TEXT !", key="code", unique=("name",))
    DISTRICT = table(
        "district", "id INTEGER #", "name TEXT !", key="id", unique=("name",)
    )
    KEEPER = table("keeper", "id INTEGER #", "name TEXT !", key="id")

    def setUp(self) -> None:
        rows = evidence(
            station={
                "is_lit": ColumnProfile(flag=True, distinct=0.1),
                "state": ColumnProfile(values=("a", "b"), distinct=0.1),
                "contact_mail": ColumnProfile(distinct=1, pattern="e-mail"),
                "seen": ColumnProfile(distinct=0.5, spelling="DD.MM.YYYY"),
                "photo": ColumnProfile(distinct=1, pattern="image"),
                "gone": ColumnProfile(distinct=0.1, values=("N", "Y"), spelling="Y/N"),
                "shape": ColumnProfile(distinct=0.9, longest=20, mean_length=8),
            }
        )
        found = database(self.TABLE, self.LENS, self.DISTRICT, self.KEEPER)
        self.entries = {e.path: e for e in infer(found, rows)["station"]}

    def value(self, *path: str) -> Any:
        found = self.entries.get(("field", *path))
        return found.value if found else None

    def test_kinds(self) -> None:
        expected = {
            "lens_code": "lookup", "district_id": "lookup", "keeper_id": "integer",
            "kind": "choice", "is_lit": "yes/no", "built_year": "code",
            "remarks": "long text", "short_note": "text", "area": "other",
            "created_at": "datetime", "state": "choice", "contact_mail": "e-mail",
            "price": "money", "load_pct": "percent", "latitude": "latitude", "seen": "date",
            "photo": "image", "tel": "phone", "gone": "yes/no", "shape": "text",
        }  # fmt: skip
        for name, kind in expected.items():
            with self.subTest(name):
                self.assertEqual(self.value(name, "kind"), kind)
        self.assertEqual(
            self.value("kind", "choices"),
            {"lighthouse": "Lighthouse", "leading_light": "Leading light"},
        )

    def test_what_is_doubtful_says_so(self) -> None:
        keeper = self.entries["field", "keeper_id", "kind"]
        self.assertLess(keeper.confidence, 0.7)
        self.assertEqual(keeper.reason, "named like keeper; no reference is declared")
        others = self.entries["field", "state", "other_values"]
        self.assertEqual(
            (others.value, others.reason), (True, "no list confirms the values")
        )

    def test_labels(self) -> None:
        expected = {
            "station_no": "Number",
            "lens_code": "Lens",
            "district_id": "District",
            "is_lit": "Lit",
        }
        for name, label in expected.items():
            with self.subTest(name):
                self.assertEqual(self.value(name, "label"), label)

    def test_hidden_and_read_only(self) -> None:
        hidden = {
            path[1]
            for path, e in self.entries.items()
            if path[-1] == "hidden" and e.value
        }
        self.assertEqual(hidden, {"id", "row_version", "api_token"})
        fixed = {
            path[1]
            for path, e in self.entries.items()
            if path[-1] == "read_only" and e.value
        }
        self.assertEqual(fixed, {"area"}, "changed_by must be entered: it is needed")
        self.assertEqual(self.value("created_at", "automatic"), "created at")

    def test_sections_hold_every_shown_field_once(self) -> None:
        placed = [
            c
            for path, e in self.entries.items()
            if path[0] == "sections"
            for c in e.value
        ]
        self.assertEqual(len(placed), len(set(placed)))
        shown = {c.name for c in self.TABLE.columns} - {
            "id",
            "row_version",
            "api_token",
        }
        self.assertEqual(set(placed), shown)
        self.assertEqual(
            self.entries["sections", "Remarks"].value, ["remarks", "short_note"][:1]
        )


class TableTest(unittest.TestCase):
    STATION = table("station", "id INT #", "name TEXT !", key="id", unique=("name",))
    INSPECTION = table(
        "inspection", "id INT #", "station_id INT !", "day DATE !", "memo TEXT",
        *(f"c{n} INTEGER" for n in range(9)),
        key="id", references=(reference("station_id station.id"),),
    )  # fmt: skip
    FINDING = table(
        "inspection_finding", "inspection_id INT !", "line INT !", "summary TEXT !",
        key="inspection_id+line", references=(reference("inspection_id inspection.id", "cascade"),),
    )  # fmt: skip
    VOYAGE = table(
        "voyage", "id INT #", "from_station INT", "to_station INT",
        key="id",
        references=(reference("from_station station.id"), reference("to_station station.id")),
    )  # fmt: skip
    VERSION = table("schema_version", "version INT !", key="version")
    ALL = database(STATION, INSPECTION, FINDING, VOYAGE, VERSION)

    def test_owned_tables_drop_their_owner_s_name(self) -> None:
        found = decided(self.ALL, "inspection_finding")
        self.assertEqual((found["singular"], found["plural"]), ("Finding", "Findings"))

    def test_tables_of_one_name_are_told_apart(self) -> None:
        names = ("lamp", "tbl_lamp", "t_lamp", "lamps", "finding")
        found = database(*[table(each, "id INT !", key="id") for each in names])
        labels = [decided(found, each)["plural"] for each in names]
        self.assertEqual(len(set(labels)), len(labels), labels)
        self.assertEqual((labels[0], labels[-1]), ("Lamps", "Findings"))

    def test_lists_are_short_and_do_not_repeat_the_title(self) -> None:
        found = decided(self.ALL, "inspection")
        self.assertEqual(found["list/columns"], [f"c{n}" for n in range(6)])
        self.assertEqual(found["list/wide_columns"][:3], ["c6", "c7", "c8"])
        self.assertEqual(found["list/order"], ["-day"])

    def test_a_large_table_is_ordered_only_as_an_index_allows(self) -> None:
        rows = evidence(5_000_000, inspection={})
        self.assertEqual(decided(self.ALL, "inspection", rows)["list/order"], ["id"])

    def test_several_references_from_one_table_are_kept_apart(self) -> None:
        cases = {
            ("from_keeper", "to_keeper"): ("Marks from here", "Marks to here"),
            ("origin_id", "dest_id"): ("Marks from here", "Marks to here"),
            ("reported_by", "chief_id"): (
                "Marks reported by this keeper", "Marks with this chief",
            ),
        }  # fmt: skip
        keeper = table("keeper", "id INT #", "name TEXT !", key="id")
        for columns, labels in cases.items():
            mark = table(
                "mark", "id INT #", *(f"{name} INT" for name in columns), key="id",
                references=tuple(reference(f"{name} keeper.id") for name in columns),
            )  # fmt: skip
            with self.subTest(columns):
                found = decided(database(keeper, mark), "keeper")["details/mark"]
                self.assertEqual({d["by"]: d["label"] for d in found},
                                 dict(zip(columns, labels, strict=True)))  # fmt: skip

    def test_only_what_is_above_makes_a_tree(self) -> None:
        cases = {
            "parent_id": ("parent_id", "Units below"),
            "head_id": ("head_id", "Units with this head"),
            "replaced_by_id": (None, "Units replaced by this unit"),
            "next_id": (None, "Units with this next"),
        }
        for name, (below, label) in cases.items():
            unit = table(
                "unit", "id INT #", "name TEXT !", f"{name} INT", key="id",
                references=(reference(f"{name} unit.id"),),
            )  # fmt: skip
            with self.subTest(name):
                found = decided(database(unit), "unit")
                self.assertEqual(found.get("list/parent"), below)
                self.assertEqual(found["details/unit"]["label"], label)

    def test_what_there_is_one_of_is_edited_with_its_record(self) -> None:
        lens = table(
            "lens", "id INT #", "station_id INT !", "words TEXT", key="id",
            unique=("station_id",), references=(reference("station_id station.id"),),
        )  # fmt: skip
        user = table(
            "lens_user", "lens_id INT !", "words TEXT",
            references=(reference("lens_id lens.id"),),
        )  # fmt: skip
        found = decided(database(self.STATION, lens), "station")["details/lens"]
        self.assertEqual(found["edit"], "rows")
        found = decided(database(self.STATION, lens, user), "station")["details/lens"]
        self.assertNotIn("edit", found)  # others refer to it: it is something by itself

    def test_amounts_of_rows_are_added_up(self) -> None:
        stop = table(
            "voyage_stop", "voyage_id INT !", "no INT !", "cargo_kg INT", "unit_cost INT",
            key="voyage_id+no", references=(reference("voyage_id voyage.id", "cascade"),),
        )  # fmt: skip
        found = decided(database(self.STATION, self.VOYAGE, stop), "voyage_stop")
        totals = {k: v for k, v in found.items() if k.endswith("/total")}
        self.assertEqual(totals, {"field/cargo_kg/total": "sum"})

    def test_technical_tables_are_left_out(self) -> None:
        self.assertIs(decided(self.ALL, "schema_version")["include"], False)
        self.assertNotIn("include", decided(self.ALL, "station"))

    def test_the_ready_roles(self) -> None:
        district = table("district", "code TEXT !", "name TEXT", key="code")
        station = table(
            "station", "id INT #", "district TEXT", key="id",
            references=(reference("district district.code"),),
        )  # fmt: skip
        found = infer(database(district, station), evidence(9, district={}, station={}))
        access = {e.path[1:]: e.value for e in infer_access(found)}
        self.assertEqual(access["editor", "tables", "group:Reference data"], ["view"])
        self.assertEqual(access["viewer", "tables", "*"], ["view", "export"])


class FrontTest(unittest.TestCase):
    """The cards of the first page: of what happens and changes, not of what is the same
    everywhere, empty, hidden or for programs."""

    @staticmethod
    def profile(*values: str, most: float = 0.6, **more: Any) -> ColumnProfile:
        return ColumnProfile(values=values, most=most, distinct=0.01, **more)

    def cards(self, rows: int = 400) -> dict[str, Any]:
        states = self.profile("reported", "done", "planned", most=0.97)
        dates = ColumnProfile(months=24, most=0.02)
        works = {
            "id": ColumnProfile(unique=True, distinct=1.0),
            "status": states,
            "kind": self.profile("lamp", "lens"),
            "locale": self.profile("en", "de"),
            "phase": ColumnProfile(values=("a",), constant=True, most=1.0),
            "stage": self.profile("x", "y", empty=0.9),
            "done_on": dates,
            "created_at": dates,
            "due_on": ColumnProfile(months=3, most=0.1, empty=0.4),
        }
        texts = [
            f"{name} TEXT" for name in ("status", "kind", "locale", "phase", "stage")
        ]
        work = table("work", "id INT #", *texts, "done_on DATE !", "created_at DATETIME", "due_on DATE", key="id")  # fmt: skip
        log = table("work_log", "id INT #", "status TEXT", "at DATETIME", key="id")
        # a column as another table has it, numbers that nobody named, a date that is none
        yards = {"kind": self.profile("lamp", "sail"), "grade": self.profile("1", "2"), "mail_ok": dates, "outcome": self.profile("failed", "good", empty=0.9), "due_on": ColumnProfile(months=3)}  # fmt: skip
        yard = table("yard", "id INT #", "kind TEXT", "grade INT", "mail_ok DATE", "outcome TEXT", "due_on DATE", key="id")  # fmt: skip
        found = database(work, log, yard)
        held = evidence(rows, work=works, yard=yards, work_log={"status": self.profile("open", "done"), "at": dates})  # fmt: skip
        entries = cards_of_front(found, held, infer(found, held))
        return {each.path[1]: each.value for each in entries}

    def test_what_is_worth_a_card(self) -> None:
        self.assertEqual(
            self.cards(),
            {
                "work_reported": {"kind": "number", "table": "work", "filter": "status.is=reported"},
                "work_due": {"kind": "rows", "table": "work", "filter": "status.is=reported&status.is=planned&due_on.to=today+30d&sort=due_on", "label": "Works due"},
                "recent": {"kind": "recent"},
                "work_by_kind": {"kind": "shares", "table": "work", "by": "kind"},
                "work_by_done_on": {"kind": "line", "table": "work", "by": "done_on"},
                "views": {"kind": "views"},
            },
        )  # fmt: skip

    def test_what_is_due_without_a_state(self) -> None:
        day = ColumnProfile(months=24, most=0.02)
        found = database(
            table("loan", "id INT #", "lamp TEXT", "due_on DATE", "returned_on DATE", key="id"),
            table("buoy", "id INT #", "name TEXT", "next_visit DATE", key="id"),
            table("call", "id INT #", "name TEXT", "next_run DATE", "due_on DATE", "paid_on DATE !", key="id"),
            table("visit", "id INT #", "buoy_id INT !", "visited_on DATE !", "next_visit DATE", key="id"),
        )  # fmt: skip
        columns = {t.name: {c.name: day for c in t.columns if c.type.kind == "date"} for t in found.tables}  # fmt: skip
        held = evidence(400, **columns)
        entries = cards_of_front(found, held, infer(found, held))
        due = {e.value["table"]: e.value["filter"] for e in entries if e.value["kind"] == "rows"}  # fmt: skip
        wanted = {
            "loan": "returned_on.empty=1&due_on.to=today+30d&sort=due_on",
            "buoy": "next_visit.to=today+30d&sort=next_visit",
        }
        self.assertEqual(due, wanted)

    def test_too_few_and_too_many_rows(self) -> None:
        for rows in (5, 0, 2_000_000):
            self.assertEqual(list(self.cards(rows)), ["recent", "tables", "views"], rows)  # fmt: skip
