"""The rules on habits of databases elsewhere: what looks like something and is not."""

import unittest
from collections import Counter
from dataclasses import replace
from typing import Any

from lumet.evidence.model import (
    Agreement,
    ColumnProfile,
    Containment,
    Evidence,
    TableProfile,
)
from lumet.evidence.profiling import profile_table
from lumet.facts.model import Column, Reference, Type
from lumet.inference.columns import is_secret
from lumet.inference.engine import infer
from lumet.inference.glued_words import with_words_apart
from tests.inference.test_rules import decided
from tests.support.builders import database, evidence, reference, table


class SecretTest(unittest.TestCase):
    def test_names_of_secrets_in_words_and_glued(self) -> None:
        secret = ("token", "PW", "passphrase", "psk", "privatekey", "sessionid",
                  "session_key", "api_key", "apikey", "userpassword", "access_token")  # fmt: skip
        open_ = ("password_min_length", "token_count", "password_changed_on", "keeper",
                 "passage", "tokenised_name", "sessions", "secretary")  # fmt: skip
        for names, expected in ((secret, True), (open_, False)):
            for name in names:
                with self.subTest(name):
                    made = Column(name, Type("text", "VARCHAR(64)"))
                    self.assertEqual(is_secret(made), expected)
        self.assertFalse(is_secret(Column("tokenid", Type("integer", "bigint"))))

    def test_a_secret_names_no_record_and_is_entered_where_it_is_needed(self) -> None:
        found = database(
            table("pass", "pass_id INTEGER #", "token VARCHAR(64)", "name TEXT !", key="pass_id", unique=("token",)),
            table("door", "door_id INTEGER #", "token VARCHAR(64)", key="door_id", unique=("token",)),
            table("login", "id INTEGER #", "login TEXT !", "PW CHAR(32) !", key="id"),
        )  # fmt: skip
        self.assertEqual(decided(found, "pass")["title"], "{name}")
        self.assertEqual(decided(found, "door")["title"], "Door {door_id}")
        login = decided(found, "login")
        self.assertEqual(login["field/PW/kind"], "secret")
        self.assertNotIn("field/PW/hidden", login)


class ValuesTest(unittest.TestCase):
    def of(
        self, native: str, profile: ColumnProfile, name: str = "x"
    ) -> dict[str, Any]:
        made = database(
            table("crossing", "id INTEGER #", f"{name} {native} !", key="id")
        )
        found = decided(made, "crossing", evidence(400, crossing={name: profile}))
        return {k.removeprefix(f"field/{name}/"): v for k, v in found.items()}

    def test_numbers_are_no_choice_and_guessed_choices_keep_their_values(self) -> None:
        fares = ColumnProfile(
            distinct=0.01, longest=5, values=("13.86", "1.98", "0.99")
        )
        self.assertEqual(self.of("VARCHAR(10)", fares, "fare")["kind"], "text")
        states = ColumnProfile(distinct=0.01, longest=9, values=("in_repair", "lit"))
        found = self.of("TEXT", states, "state")
        self.assertEqual(found["kind"], "choice")
        self.assertEqual(found["choices"], {"in_repair": "in_repair", "lit": "lit"})

    def test_one_value_makes_no_yes_or_no(self) -> None:
        one = ColumnProfile(distinct=0.01, flag=True, constant=True)
        both = replace(one, constant=False)
        self.assertNotEqual(self.of("INTEGER", one, "seats")["kind"], "yes/no")
        self.assertNotEqual(self.of("INTEGER", one, "checked_at")["kind"], "yes/no")
        self.assertEqual(self.of("INTEGER", one, "is_lit")["kind"], "yes/no")
        lit = self.of("INTEGER", both, "lit")
        self.assertEqual(lit["kind"], "integer", "a yes or no would refuse a 2")
        dogs = table("crossing", "id INTEGER #", "dogs INTEGER", key="id")
        few = decided(database(dogs), "crossing", evidence(20, crossing={"dogs": both}))
        self.assertEqual(few["field/dogs/kind"], "integer", "in a few rows, by chance")
        self.assertEqual(self.of("BOOLEAN", ColumnProfile())["kind"], "yes/no")

    def test_numbers_that_stand_for_something_stay_open(self) -> None:
        codes = ColumnProfile(distinct=0.01, magnitude=10, values=("2", "10", "1"))
        found = self.of("INTEGER", codes, "vesseltype")
        self.assertEqual((found["kind"], found["other_values"]), ("choice", True))
        self.assertEqual([*found["choices"]], ["1", "2", "10"])
        self.assertEqual(self.of("INTEGER", codes, "crew")["kind"], "integer")

    def test_a_uuid_that_is_made_is_hidden(self) -> None:
        spelled = evidence(400, buoy={"id": ColumnProfile(unique=True, distinct=1.0, pattern="uuid")})  # fmt: skip
        for type_, rows, is_hidden in (
            ("UUID !", Evidence(), True),
            ("CHAR(36) !", spelled, False),  # who makes it?
            ("BINARY(16) !", Evidence(), True),
            ("VARCHAR(12) !", Evidence(), False),
        ):
            made = database(table("buoy", f"id {type_}", "name TEXT !", key="id"), table("mark", f"id {type_}", "tall REAL", key="id", references=(reference("id buoy.id"),)))  # fmt: skip
            self.assertIs(bool(decided(made, "buoy", rows).get("field/id/hidden")), is_hidden, type_)  # fmt: skip
            self.assertNotIn("field/id/hidden", decided(made, "mark", rows))

    def test_bounds_that_leave_few_numbers_close_a_choice(self) -> None:
        profile = ColumnProfile(distinct=0.01, values=("1", "2", "4"), scale=0)
        for check, closed in (("severity BETWEEN 1 AND 5", True), ("severity > 0", False)):  # fmt: skip
            made = table("alert", "id INTEGER #", "severity INTEGER !", key="id", checks=(check,))  # fmt: skip
            found = decided(database(made), "alert", evidence(400, alert={"severity": profile}))  # fmt: skip
            self.assertEqual(found["field/severity/kind"], "choice")
            self.assertEqual(found.get("field/severity/other_values"), None if closed else True)  # fmt: skip
            values = "1 2 3 4 5" if closed else "1 2 4"
            self.assertEqual(list(found["field/severity/choices"]), values.split())

    def test_an_empty_text_is_a_value_where_it_is_one(self) -> None:
        blank = ColumnProfile(distinct=0.5, blank=True)
        self.assertIs(self.of("TEXT", blank)["required"], False)
        self.assertNotIn("required", self.of("TEXT", ColumnProfile(distinct=0.5)))
        empty = database(
            table("buoy", "id INTEGER #", "remark VARCHAR(80) ! =", key="id")
        )
        self.assertIs(decided(empty, "buoy")["field/remark/required"], False)

    def test_a_version_of_text_is_no_counter(self) -> None:
        self.assertNotIn("hidden", self.of("VARCHAR(10)", ColumnProfile(), "version"))

    def test_a_key_that_only_looks_as_if_it_counted(self) -> None:
        found = database(table("bin", "bin_id serial !", "name TEXT !", key="bin_id"))
        self.assertEqual(decided(found, "bin")["field/bin_id/generated"], "max + 1")


class ReferencesTest(unittest.TestCase):
    def test_a_key_does_not_refer_to_what_refers_to_it(self) -> None:
        found = database(
            table("big", "big_id INTEGER #", "name TEXT !", key="big_id"),
            table("big_note", "big_id INTEGER !", "height INTEGER", key="big_id",
                  references=(reference("big_id big.big_id"),)),
        )  # fmt: skip
        fits = Containment(
            "big", ("big_id",), "big_note", ("big_id",), 400, 390, 0.03, 1.0
        )
        rows = Evidence({n: TableProfile(400, 400) for n in ("big", "big_note")}, contained=(fits,))  # fmt: skip
        self.assertNotIn("field/big_id/references", decided(found, "big", rows))

    def test_a_bare_type_is_an_enumeration(self) -> None:
        tables = [
            table("watch", "watch_id INTEGER #", "type INTEGER !", "name TEXT !", key="watch_id"),
            table("lamp", "lamp_id INTEGER #", "type INTEGER !", "name TEXT !", key="lamp_id"),
            table("lamp_type", "lamp_type_id INTEGER #", "name TEXT !", key="lamp_type_id"),
        ]  # fmt: skip
        fits = tuple(
            Containment(
                name, ("type",), "lamp_type", ("lamp_type_id",), 20, 20, 0.0, 1.0
            )
            for name in ("watch", "lamp")
        )
        rows = Evidence(
            {t.name: TableProfile(400, 400) for t in tables}, contained=fits
        )
        self.assertNotIn(
            "field/type/references", decided(database(*tables), "watch", rows)
        )
        own = decided(database(*tables), "lamp", rows)
        self.assertEqual(own["field/type/references"], "lamp_type.lamp_type_id")

    def test_a_lookup_follows_another_only_where_rows_agree(self) -> None:
        found = database(
            table("depot", "depot_id INTEGER #", "name TEXT !", key="depot_id"),
            table("crane", "crane_id INTEGER #", "name TEXT !", "depot_id INTEGER !", key="crane_id",
                  references=(reference("depot_id depot.depot_id"),)),
            table("lift", "lift_id INTEGER #", "depot_id INTEGER !", "crane_id INTEGER !", key="lift_id",
                  references=(reference("depot_id depot.depot_id"), reference("crane_id crane.crane_id"))),
        )  # fmt: skip

        def follows(checked: int, agreed: int) -> Any:
            seen = Agreement("lift", "crane_id", "depot_id", checked, agreed)
            rows = Evidence(
                {"lift": TableProfile(checked, checked)}, agreements=(seen,)
            )
            return decided(found, "lift", rows).get("field/crane_id/depends_on")

        self.assertEqual(follows(100, 100), ["depot_id"])
        self.assertEqual(follows(1_000, 990), ["depot_id"])
        self.assertIsNone(follows(100, 97))
        self.assertIsNone(follows(40, 40), "too few rows to tell")
        self.assertNotIn("field/crane_id/depends_on", decided(found, "lift"))

    def test_a_lookup_does_not_follow_through_the_key_of_what_it_refers_to(
        self,
    ) -> None:
        found = database(
            table("item", "item_id INTEGER #", "name TEXT !", key="item_id"),
            table("piece", "item_id INTEGER !", "name TEXT", key="item_id",
                  references=(reference("item_id item.item_id"),)),
            table("cut", "cut_id INTEGER #", "item_id INTEGER", "cut_from INTEGER", key="cut_id",
                  references=(reference("item_id item.item_id"), reference("cut_from piece.item_id"))),
        )  # fmt: skip
        agree = (Agreement("cut", "cut_from", "item_id", 100, 100),)
        rows = Evidence({"cut": TableProfile(100, 100)}, agreements=agree)
        self.assertNotIn("field/cut_from/depends_on", decided(found, "cut", rows))


class PagesTest(unittest.TestCase):
    def test_what_programs_write_is_looked_at_alone(self) -> None:
        for name, column in (
            ("lamp_audit", "what"),
            ("price_history", "what"),
            ("user_log", "ip"),
        ):
            with self.subTest(name):
                made = database(table(name, "id INTEGER #", f"{column} TEXT", key="id"))
                self.assertEqual(decided(made, name)["pages"], ["list"])
        log = database(table("upkeep_log", "id INTEGER #", "remarks TEXT", key="id"))
        self.assertNotIn("pages", decided(log, "upkeep_log"), "people write it")

    def test_nothing_is_added_where_what_it_needs_cannot_be_entered(self) -> None:
        made = database(
            table("scrap", "id INTEGER #", "name TEXT !", "raw BLOB !", key="id")
        )
        self.assertEqual(decided(made, "scrap")["pages"], ["list", "edit", "delete"])


class KeylessTest(unittest.TestCase):
    def test_a_reference_to_a_table_without_a_key_is_a_label_still(self) -> None:
        found = database(
            table("log", "text TEXT"),
            table("mark", "id INTEGER #", "log INTEGER", key="id",
                  references=(Reference(("log",), "log", ()),)),
        )  # fmt: skip
        self.assertEqual(decided(found, "mark")["field/log/label"], "Log")


class NamesElsewhereTest(unittest.TestCase):
    """Names as old databases have them: a prefix of all tables, words written as one, a
    zero for none, and no row to look at."""

    FOUND = database(
        table("slx_users", "id INTEGER #", "username VARCHAR(40) !", "pwd_hash VARCHAR(80) !", key="id", unique=("username",)),
        table("slx_wardgroups", "wardgroupid INTEGER #", "name VARCHAR(40) !", key="wardgroupid"),
        table("slx_beacons", "beaconid INTEGER #", "beaconname VARCHAR(40) !", "wardgroupid INTEGER ! =0", "parentid INTEGER ! =0",
              "servicestate VARCHAR(10)", "autolit SMALLINT ! =1", "isenabled SMALLINT", "visits INTEGER ! =0",
              "lastupdatedby INTEGER ! =0", "changed DATETIME !", "maintenance_data TEXT", key="beaconid"),
        table("slx_notes", "id INTEGER #", "objecttype VARCHAR(20) !", "objectid INTEGER !", "owner_uid INTEGER !", "text TEXT !", key="id"),
        table("slx_beacon_users", "id INTEGER #", "beacon_id INTEGER !", "user_id INTEGER !", "sort_order INTEGER ! =0", "created DATETIME =x", key="id"),
    )  # fmt: skip

    def test_references_are_named_whatever_the_style(self) -> None:
        beacon = decided(self.FOUND, "slx_beacons")
        self.assertEqual(beacon["field/wardgroupid/references"], "slx_wardgroups.wardgroupid")  # fmt: skip
        self.assertEqual(beacon["field/wardgroupid/none"], 0)
        self.assertEqual(beacon["field/parentid/references"], "slx_beacons.beaconid")
        self.assertEqual(beacon["field/lastupdatedby/references"], "slx_users.id")
        self.assertNotIn("field/visits/references", beacon)
        note = decided(self.FOUND, "slx_notes")
        self.assertEqual(note["field/owner_uid/references"], "slx_users.id")
        self.assertNotIn("field/objectid/references", note, "it may be of any table")

    def test_labels_are_words(self) -> None:
        beacon = decided(self.FOUND, "slx_beacons")
        self.assertEqual(beacon["plural"], "Beacons")
        self.assertEqual(beacon["field/servicestate/label"], "Service state")
        self.assertEqual(beacon["field/wardgroupid/label"], "Ward group")
        self.assertEqual(decided(self.FOUND, "slx_wardgroups")["plural"], "Ward groups")
        self.assertEqual(decided(self.FOUND, "slx_notes")["field/owner_uid/label"], "Owner")  # fmt: skip

    def test_flags_stamps_and_texts_are_known_by_name_and_type(self) -> None:
        beacon = decided(self.FOUND, "slx_beacons")
        self.assertEqual(beacon["field/isenabled/kind"], "yes/no")
        self.assertEqual(beacon["field/visits/kind"], "integer")
        self.assertEqual(beacon["field/changed/automatic"], "changed at")
        self.assertEqual(beacon["field/maintenance_data/kind"], "long text")
        shown = beacon["list/columns"]
        self.assertFalse({"changed", "lastupdatedby", "beaconid"} & {*shown}, shown)
        self.assertEqual(beacon["title"], "{beaconname}")

    def test_a_pair_with_a_number_of_its_own_joins(self) -> None:
        joins = decided(self.FOUND, "slx_beacon_users")
        self.assertEqual(joins["title"], "{beacon_id} · {user_id}")
        self.assertTrue(joins["pages"], "a pair may be there twice, so it is no choice")

    def test_many_tables_are_in_groups_around_the_most_central(self) -> None:
        names = [(hub, part) for hub in ("mast", "quay") for part in range(10)]
        parts = [
            table(f"{hub}{part}", "id INTEGER #", f"{hub}_id INTEGER !", "note TEXT !", key="id",
                  references=(reference(f"{hub}_id {hub}.id"),))
            for hub, part in names
        ]  # fmt: skip
        hubs = [table(hub, "id INTEGER #", "name TEXT !", *(f"c{n} TEXT" for n in range(9)), key="id") for hub in ("mast", "quay")]  # fmt: skip
        found = database(*hubs, *parts)
        groups = {name: decided(found, name)["group"] for name in found.by_name}
        self.assertEqual({groups[f"mast{n}"] for n in range(10)}, {"Masts"})
        self.assertEqual({groups[f"quay{n}"] for n in range(10)}, {"Quays"})

    def test_no_menu_group_is_longer_than_anybody_reads(self) -> None:
        loose = [table(f"{chr(97 + n % 22)}rig{n}", "name TEXT !") for n in range(44)]
        gear = [table(f"gear_{word}{n}", "name TEXT !") for word in ("rope", "tin") for n in "abcdefghijklm"]  # fmt: skip
        found = infer(database(*loose, *gear), Evidence())
        groups = Counter(
            e.value for es in found.values() for e in es if e.path == ("group",)
        )
        self.assertEqual(sum(groups.values()), 70)
        self.assertLessEqual(max(groups.values()), 20, groups)
        self.assertEqual(len({group for group in groups if group.startswith("Gear, ")}), 2)  # fmt: skip


class GluedNamesTest(unittest.TestCase):
    """Upper-case names in one piece, with a beginning of their table and a letter before
    all tables, and no row to look at."""

    FOUND = database(
        table("TVSL", "VSLKEY INTEGER !", "VSLNAME VARCHAR(40)", "VSLTYPE INTEGER", "VSLHOMEPORTKEY INTEGER",
              "VSLWEIGHTKG REAL", "VSLCRTDATE DATETIME", key="VSLKEY"),
        table("TPRT", "PRTKEY INTEGER !", "PRTNAME VARCHAR(60)", "PRTLAT REAL", "PRTLON REAL", key="PRTKEY"),
        table("TCRW", "CRWKEY INTEGER !", "CRWSURNAME VARCHAR(40)", "CRWFIRSTNAME VARCHAR(40)", "CRWVSLKEY INTEGER", key="CRWKEY"),
        table("TVOY", "VOYKEY INTEGER !", "VOYVSLKEY INTEGER", "VOYFROMPRTKEY INTEGER", "VOYTOPRTKEY INTEGER",
              "VOYMASTERCRWKEY INTEGER", "VOYDEPDATE DATETIME !", key="VOYKEY"),
        table("TVOYLEG", "LEGKEY INTEGER !", "VOYKEY INTEGER", "LEGNO INTEGER", "LEGPRTKEY INTEGER", key="LEGKEY"),
    )  # fmt: skip

    def test_references_are_found(self) -> None:
        found = {
            f"{name}.{key.split('/')[1]}": value
            for name in self.FOUND.by_name
            for key, value in decided(self.FOUND, name).items()
            if key.endswith("/references")
        }
        ports = ("TVSL.VSLHOMEPORTKEY", "TVOY.VOYFROMPRTKEY", "TVOY.VOYTOPRTKEY", "TVOYLEG.LEGPRTKEY")  # fmt: skip
        self.assertEqual(
            found,
            {
                **dict.fromkeys(ports, "TPRT.PRTKEY"),
                **dict.fromkeys(("TCRW.CRWVSLKEY", "TVOY.VOYVSLKEY"), "TVSL.VSLKEY"),
                "TVOY.VOYMASTERCRWKEY": "TCRW.CRWKEY",
                "TVOYLEG.VOYKEY": "TVOY.VOYKEY",
            },
        )

    def test_labels_kinds_and_titles_follow_the_words(self) -> None:
        port, crew = decided(self.FOUND, "TPRT"), decided(self.FOUND, "TCRW")
        self.assertEqual(port["singular"], "Port", "as VSLHOMEPORTKEY says")
        self.assertEqual(port["field/PRTLAT/kind"], "latitude")
        self.assertEqual(crew["title"], "{CRWFIRSTNAME} {CRWSURNAME}")
        voyage, vessel = decided(self.FOUND, "TVOY"), decided(self.FOUND, "TVSL")
        self.assertEqual(voyage["field/VOYFROMPRTKEY/label"], "From port")
        self.assertEqual(
            [detail["label"] for detail in port["details/TVOY"]],
            ["Voys from here", "Voys to here"],
        )
        self.assertEqual(vessel["field/VSLWEIGHTKG/unit"], "kg")
        self.assertEqual(vessel["field/VSLWEIGHTKG/label"], "Weight")
        self.assertEqual(vessel["field/VSLCRTDATE/automatic"], "created at")
        spoken = infer(self.FOUND, Evidence(), glossary={"vsl": "vessel"})["TVSL"]
        self.assertEqual({e.path: e.value for e in spoken}["plural",], "Vessels")

    def test_a_key_that_says_nothing_is_numbered_and_in_no_list(self) -> None:
        vessel = decided(self.FOUND, "TVSL")
        self.assertEqual(vessel["field/VSLKEY/generated"], "max + 1")
        self.assertTrue(vessel["field/VSLKEY/hidden"])
        self.assertNotIn("VSLKEY", vessel["list/columns"])
        known = table("mark", "mark_no INTEGER !", "name TEXT", key="mark_no")
        self.assertNotIn("field/mark_no/generated", decided(database(known), "mark"))

    def test_a_key_of_several_tables(self) -> None:
        tables = [table(name, "id INTEGER #", "name TEXT !", key="id") for name in ("fog_signals", "stations")]  # fmt: skip
        notes = table("notes", "id INTEGER #", "subject_type VARCHAR(40)", "subject_id INTEGER", "body TEXT", key="id")  # fmt: skip
        for values, named in (
            (("Skerry::FogSignal", "Skerry::Station"), ("fog_signals", "stations")),
            (("stations", "fog_signals"), ("stations", "fog_signals")),
            (("loud", "station", "quiet"), ()),
        ):
            with self.subTest(values):
                rows = evidence(200, notes={"subject_type": ColumnProfile(distinct=0.01, values=values)})  # fmt: skip
                found = decided(database(*tables, notes), "notes", rows)
                held = found.get("field/subject_id/type_tables", {})
                self.assertEqual(held, dict(zip(values, named, strict=False)))
        self.assertEqual(found["field/subject_id/label"], "Subject ID")

    def test_words_are_no_beginnings(self) -> None:
        words = database(
            *(table(n, "id INTEGER #", "name TEXT", key="id") for n in ("task", "team", "ticket", "tide", "tower")),
            table("racon", "raconid INTEGER #", "carrier TEXT", "carpet TEXT", "cargo TEXT", key="raconid"),
        )  # fmt: skip
        self.assertEqual(decided(words, "team")["plural"], "Teams")
        racon = decided(words, "racon")
        self.assertEqual((racon["plural"], racon["field/cargo/label"]), ("Racons", "Cargo"))  # fmt: skip


TYPES = {
    "NUM": "INTEGER !",
    "DTE": "DATE !",
    "TMS": "DATETIME",
    "DEG": "REAL",
    "SRV": "DATE",
    "LYR": "SMALLINT",
}


class ShortNamesTest(unittest.TestCase):
    """Names of two or three short words in one piece, as old systems have them."""

    FOUND = database(
        *(
            table(name, *(f"{column} {TYPES.get(column[-3:], 'VARCHAR(20)')}" for column in columns.split()), key=columns.split()[0])
            for name, columns in (
                ("TVESSEL", "VSLNUM VSLNAM VSLTYP BLDYR"),
                ("TCREW", "CRWNUM SURNAM FSTNAM RNKCOD VSLNUM HIRDTE"),
                ("TBUOY", "BUYNUM BUYNAM BUYCLS LATDEG LONDEG LSTSRV STATCD"),
                ("TVOYAGE", "VOYNUM VSLNUM DEPDTE VOYSTS"),
                ("TSVCVST", "VSTNUM BUYNUM VOYNUM WRKCOD UPDUSR UPDTMS"),
                ("TSTATCD", "STATCD STATDSC"),
                ("TWRKCOD", "WRKCOD WRKDSC"),
            )
        )
    )  # fmt: skip

    def test_labels_titles_and_kinds(self) -> None:
        buoy, crew = decided(self.FOUND, "TBUOY"), decided(self.FOUND, "TCREW")
        self.assertEqual(buoy["title"], "{BUYNAM}")
        self.assertEqual(buoy["field/BUYCLS/label"], "Class", "buoy is its table's")
        self.assertEqual(buoy["field/LSTSRV/label"], "Last srv")
        self.assertEqual(buoy["list/map"], ["LATDEG", "LONDEG"])
        self.assertEqual(crew["title"], "{FSTNAM} {SURNAM}")
        voyage, visit = decided(self.FOUND, "TVOYAGE"), decided(self.FOUND, "TSVCVST")
        self.assertEqual(voyage["title"], "{VSLNUM} · {DEPDTE}")
        self.assertEqual(voyage["field/DEPDTE/label"], "Dep date")
        self.assertEqual(voyage["field/VOYSTS/label"], "Status")
        self.assertEqual(visit["field/UPDTMS/automatic"], "changed at")
        spoken = infer(self.FOUND, Evidence(), glossary={"svc": "service", "vst": "visit"})  # fmt: skip
        self.assertEqual({e.path: e.value for e in spoken["TSVCVST"]}["plural",], "Service visits")  # fmt: skip

    def test_references_by_names_alone(self) -> None:
        wanted = {
            "TCREW.VSLNUM": "TVESSEL.VSLNUM",
            "TVOYAGE.VSLNUM": "TVESSEL.VSLNUM",
            "TSVCVST.BUYNUM": "TBUOY.BUYNUM",
            "TSVCVST.VOYNUM": "TVOYAGE.VOYNUM",
            "TSVCVST.WRKCOD": "TWRKCOD.WRKCOD",
            "TBUOY.STATCD": "TSTATCD.STATCD",
        }
        found = {
            f"{name}.{key.split('/')[1]}": value
            for name in self.FOUND.by_name
            for key, value in decided(self.FOUND, name).items()
            if key.endswith("/references")
        }
        self.assertEqual(found, wanted)

    def test_types_of_other_servers(self) -> None:
        found = database(
            table("DEPT", "DEPTNO NUMBER(2) !", "DNAME VARCHAR2(14)", key="DEPTNO"),
            table("EMP", "EMPNO NUMBER(4) !", "ENAME VARCHAR2(10)", "MGR NUMBER(4)", "SAL NUMBER(7,2)", "RATE NUMBER",
                  "BADGE NUMBER(30)", "LINENO NUMERIC(6,0)", "DEPTNO NUMBER(2)", key="EMPNO"),
        )  # fmt: skip
        employee = decided(found, "EMP")
        self.assertEqual(employee["title"], "{ENAME}")
        self.assertEqual(employee["field/DEPTNO/references"], "DEPT.DEPTNO")
        kinds = {name: employee[f"field/{name}/kind"] for name in ("EMPNO", "SAL", "RATE", "BADGE", "LINENO")}  # fmt: skip
        self.assertEqual(kinds, {"EMPNO": "code", "SAL": "decimal", "RATE": "decimal", "BADGE": "decimal", "LINENO": "code"})  # fmt: skip

    def test_names_of_every_age(self) -> None:
        styles = {
            "EMP": ("EMPNO ENAME HIREDATE DEPTNO", "employee_no name hire_date dept_no"),
            "EMPLOYEE": ("EMPNO EMPLNAME EMPADDR1 EMPCITY", "employee_no employee_lname employee_addr1 employee_city"),
            "mstlght": ("lghtcd lghtnm regncd delflg", "lght_cd lght_nm regn_cd del_flg"),
            "mstregn": ("regncd regnnm", "regn_cd regn_nm"),
            "station": ("unlocode tzname minor summary email ctime", "unlocode tzname minor summary email ctime"),
        }  # fmt: skip
        tables = [table(name, *(f"{c} TEXT" for c in columns.split())) for name, (columns, _) in styles.items()]  # fmt: skip
        for found in with_words_apart(database(*tables)).tables:
            with self.subTest(found.name):
                words = " ".join(column.worded for column in found.columns)
                self.assertEqual(words, styles[found.name][1])


class FamiliesTest(unittest.TestCase):
    """Names that several tables have: those of the same family are meant."""

    FOUND = database(
        *(table(f"net{n}_server", "id INTEGER #", "tag VARCHAR(20) !", key="id", unique=("tag",)) for n in (4, 6)),
        *(table(f"net{n}_class", "id INTEGER #", "name VARCHAR(20) !", key="id") for n in (4, 6)),
        *(table(f"net{n}_class_server", "class_id INTEGER !", "server_id INTEGER !", key="class_id+server_id") for n in (4, 6)),
        table("net4_class_order", "class_id INTEGER !", "place INTEGER !", key="class_id"),
        table("reef", "reef_id INTEGER #", "name VARCHAR(20) !", key="reef_id"),
        table("reef_relationship", "id INTEGER #", "subject_id INTEGER !", "object_id INTEGER !", "kind TEXT", key="id"),
        table("g_keeper", "gk_id INTEGER #", "gk_username VARCHAR(20) !", "gk_email TEXT", "gk_grade TEXT", key="gk_id", unique=("gk_username",)),
        table("g_badge", "gkb_id INTEGER #", "gkb_username VARCHAR(20)", "gkb_colour TEXT", "gkb_captures_per_keeper INTEGER", key="gkb_id"),
    )  # fmt: skip

    def references(self, name: str) -> dict[str, Any]:
        return {
            key.split("/")[1]: value
            for key, value in decided(self.FOUND, name).items()
            if key.endswith("/references")
        }

    def test_the_nearest_of_the_same_name_is_meant(self) -> None:
        for n in (4, 6):
            self.assertEqual(
                self.references(f"net{n}_class_server"),
                {"class_id": f"net{n}_class.id", "server_id": f"net{n}_server.id"},
            )
        self.assertEqual(self.references("net4_server"), {}, "its own tag")
        self.assertEqual(self.references("net4_class_order"), {"class_id": "net4_class.id"})  # fmt: skip

    def test_ends_of_a_link_and_logins_behind_beginnings(self) -> None:
        self.assertEqual(
            self.references("reef_relationship"),
            {"subject_id": "reef.reef_id", "object_id": "reef.reef_id"},
        )
        self.assertEqual(self.references("g_badge"), {"gkb_username": "g_keeper.gk_username"})  # fmt: skip

    def test_small_numbers_that_say_what_was_done(self) -> None:
        made = table("shot", "id INTEGER #", "emailed TINYINT ! =0", "auto_move TINYINT ! =0", "speed TINYINT ! =0", key="id")  # fmt: skip
        found = decided(database(made), "shot")
        kinds = [found[f"field/{n}/kind"] for n in ("emailed", "auto_move", "speed")]
        self.assertEqual(kinds, ["yes/no", "yes/no", "integer"])


class WideTableTest(unittest.TestCase):
    def test_many_fields_are_in_sections_and_the_empty_ones_folded(self) -> None:
        lamp = [f"LAMP_{n} TEXT" for n in ("MAKE", "GLASS", "SPARE")]
        flags = [f"IS_{n} INTEGER" for n in ("LIT", "OPEN", "MANNED")]
        extra = [f"EXTRA{n} VARCHAR(20)" for n in range(5)]
        plain = [f"{n} TEXT" for n in ("kind", "height", "tower", "colour", "range", "chart")]  # fmt: skip
        made = table("STN", "ID INTEGER #", "NAME TEXT !", *plain, *lamp, *flags, *extra, key="ID")  # fmt: skip
        empty, flag = ColumnProfile(empty=0.99, distinct=1), ColumnProfile(flag=True, distinct=0.1)  # fmt: skip
        rows = evidence(200, STN={f"EXTRA{n}": empty for n in range(5)} | {f.split()[0]: flag for f in flags})  # fmt: skip
        found = decided(database(made), "STN", rows)
        self.assertEqual(found["sections/Lamp"], ["LAMP_MAKE", "LAMP_GLASS", "LAMP_SPARE"])  # fmt: skip
        self.assertEqual(found["sections/Options"], ["IS_LIT", "IS_OPEN", "IS_MANNED"])
        self.assertEqual(found["sections/Rarely used"], [f"EXTRA{n}" for n in range(5)])
        self.assertEqual(found["folded"], ["Rarely used"])
        self.assertEqual(found["sections/Station"][:2], ["NAME", "kind"])


if __name__ == "__main__":
    unittest.main()


class CodeListsTest(unittest.TestCase):
    CODES = (
        ("VESSEL_TYPE", "TUG", "Tug"), ("VESSEL_TYPE", "YACHT", "Yacht"),
        ("FLAG", "NO", "Norway"), ("FLAG", "SE", "Sweden"), ("FLAG", "DK", "Denmark"),
    )  # fmt: skip

    def test_codes_have_their_labels_from_the_table_of_all_codes(self) -> None:
        codes = table("codes", "grp TEXT !", "code TEXT !", "meaning TEXT !")
        vessel = table("vessel", "id INTEGER #", "name TEXT !", "type TEXT", "flag TEXT", "state TEXT", key="id")  # fmt: skip
        found = database(codes, vessel)
        profile, _sketch = profile_table(codes, self.CODES, len(self.CODES))
        flags = ColumnProfile(distinct=0.01, longest=2, values=("NO", "SE"))
        other = ColumnProfile(distinct=0.01, longest=2, values=("NO", "XX"))
        for held, expected in ((flags, "the labels of"), (other, "the values as")):
            seen = evidence(400, vessel={"flag": held, "state": held})
            rows = replace(seen, tables={**seen.tables, "codes": profile})
            entries = {e.path: e for e in infer(found, rows)["vessel"]}
            choices = entries["field", "flag", "choices"]
            self.assertIn(expected, choices.reason)
            self.assertTrue(entries["field", "flag", "other_values"].value)
            self.assertIn("as they are", entries["field", "state", "choices"].reason)
            labels = entries["field", "type", "choices"].value
            self.assertEqual(labels, {"TUG": "Tug", "YACHT": "Yacht"}, "by the table's name and its own")  # fmt: skip
        self.assertEqual(decided(found, "codes", rows)["title"], "{meaning}")

    def test_what_only_looks_like_it(self) -> None:
        codes = table("codes", "grp TEXT !", "code TEXT !", "meaning TEXT !")
        one = self.CODES[:2]
        for rows in (one * 2, (*one, *one), self.CODES[2:], (*self.CODES, ("FLAG", "FI", None))):  # fmt: skip
            profile, _sketch = profile_table(codes, rows, len(rows))
            self.assertFalse(profile.code_lists.codes, rows)


class TitlesElsewhereTest(unittest.TestCase):
    def test_titles_say_what_a_person_would(self) -> None:
        owned = [
            table(name, "id INTEGER #", "region_id INTEGER !", "name TEXT !", key="id", unique=("region_id+name",),
                  references=(reference("region_id region.id"),))
            for name in ("beacon", "buoy", "slip")
        ]  # fmt: skip
        found = database(
            table("region", "id INTEGER #", "name TEXT !", "main_watch_id INTEGER", key="id", unique=("name",)),
            *owned,
            table("watch", "id INTEGER #", "beacon_id INTEGER !", "state TEXT !", key="id",
                  references=(reference("beacon_id beacon.id"),)),
            table("watch_link", "id INTEGER #", "parent_watch_id INTEGER !", "child_watch_id INTEGER !", "weight INTEGER", key="id",
                  references=(reference("parent_watch_id watch.id"), reference("child_watch_id watch.id"))),
            table("rule", "id INTEGER #", "rule TEXT", key="id"),
            table("duty_line", "watch_id INTEGER !", "position INTEGER !", "email TEXT !", key="watch_id+position",
                  unique=("watch_id+position",), references=(reference("watch_id watch.id"),)),
            table("pass", "id INTEGER #", "username TEXT !", "plugin_name TEXT !", "issued_on DATE !", "expires_on DATE !", key="id"),
        )  # fmt: skip
        wanted = {
            "beacon": "{name}",  # a region owns all
            "watch": "{beacon_id} · {state}",
            "watch_link": "{parent_watch_id} · {child_watch_id}",
            "rule": "{rule}",
            "duty_line": "{email}",
            "pass": "{username} · {issued_on}",
        }
        for name, title in wanted.items():
            with self.subTest(name):
                self.assertEqual(decided(found, name)["title"], title)


class BorrowedKeysTest(unittest.TestCase):
    def test_a_key_of_several_tables_is_that_of_the_one_named_for_it(self) -> None:
        found = database(
            table("event", "place INTEGER #", "event_id VARCHAR(40) !", "kind TEXT !", key="place", unique=("event_id",)),
            table("event_tag", "event_id VARCHAR(40) !", "tag TEXT !"),
            table("state_event", "event_id VARCHAR(40) !", "state TEXT !", key="event_id"),
            table("member", "login VARCHAR(40) !", "badge INTEGER", key="login"),
            table("active_member", "member_id INTEGER !", "seen DATE", key="member_id"),
            table("retired_member", "member_id INTEGER !", "left_on DATE", key="member_id"),
            table("member_boat", "id INTEGER #", "member_id INTEGER !", "boat TEXT !", key="id"),
            table("push_stream", "stream_id INTEGER !", "told TEXT", key="stream_id"),
            table("member_stream", "stream_id INTEGER !", "told TEXT"),
            table("note", "id INTEGER #", "stream_id INTEGER !", "parent_wait INTEGER", "next_call INTEGER", "part_of INTEGER", key="id"),
        )  # fmt: skip
        wanted = {
            ("event_tag", "event_id"): "event.event_id",
            ("member_boat", "member_id"): None,  # of the active, or of the retired?
            ("note", "stream_id"): None,
            ("note", "parent_wait"): None,
            ("note", "next_call"): None,
            ("note", "part_of"): "note.id",
        }
        for (name, column), end in wanted.items():
            with self.subTest(name, column=column):
                references = decided(found, name).get(f"field/{column}/references")
                self.assertEqual(references, end)


class ViewsTest(unittest.TestCase):
    VIEWS = {
        "SELECT p.name FROM trip t JOIN person p ON p.nr = t.who LEFT JOIN boat b ON (b.code = t.vehicle)": {"who", "vehicle"},
        "SELECT * FROM (SELECT who FROM trip) x JOIN person p ON p.nr = x.who": set(),
        "SELECT t.* FROM trip t JOIN person ON nr = who": {"who"},
        "SELECT t.* FROM trip t JOIN person p ON p.nr > t.who": set(),
        "SELECT t.* FROM trip t JOIN boat b ON b.code = upper(t.vehicle)": set(),
        "SELECT t.* FROM trip t JOIN nobody n ON n.x = t.who": set(),
        "this joins nothing (": set(),
        'CREATE VIEW v AS SELECT 1 FROM "trip" AS "T" JOIN "person" ON "person"."nr" = "T"."who"': {"who"},
    }  # fmt: skip

    def test_what_views_join_refers(self) -> None:
        tables = (
            table("person", "nr INTEGER !", "name TEXT !", key="nr"),
            table("boat", "code VARCHAR(8) !", "label TEXT !", key="code"),
            table("trip", "id INTEGER #", "who INTEGER", "vehicle VARCHAR(20)", key="id"),
        )  # fmt: skip
        for definition, wanted in self.VIEWS.items():
            with self.subTest(definition):
                view = replace(table("v", "name TEXT", view=True), definition=definition)  # fmt: skip
                found = decided(database(*tables, view), "trip")
                columns = {k.split("/")[1] for k in found if k.endswith("/references")}
                self.assertEqual(columns, wanted)
