"""Databases as they are elsewhere: small ones that each show one habit, and one of sixty
tables in the style of an old administrator. Each is made on any of the three servers."""

import random
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import date, timedelta
from typing import Any

SQLITE, POSTGRESQL, MARIADB = "sqlite", "postgresql", "mariadb"
AT_ONCE = 200  # rows in one statement


@dataclass(slots=True)
class Script:
    """The statements that make a database of one kind."""

    kind: str
    statements: list[str] = field(default_factory=list)

    def run(self, words: str, only: Sequence[str] = ()) -> None:
        """Add a statement, spelled for this kind of server."""
        if only and self.kind not in only:
            return
        if self.kind == MARIADB:
            words = words.replace("TEXT PRIMARY KEY", "VARCHAR(80) PRIMARY KEY")
            words = words.replace("TEXT NOT NULL UNIQUE", "VARCHAR(80) NOT NULL UNIQUE")
        if self.kind == POSTGRESQL:
            words = words.replace("DATETIME", "TIMESTAMP").replace(" BLOB", " BYTEA")
        self.statements.append(words)

    def rows(self, table: str, rows: Sequence[Sequence[Any]]) -> None:
        """Add rows, some at a time."""
        for start in range(0, len(rows), AT_ONCE):
            values = ", ".join(
                f"({', '.join(map(self._literal, row))})"
                for row in rows[start : start + AT_ONCE]
            )
            self.statements.append(f"INSERT INTO {table} VALUES {values}")

    def _literal(self, value: Any) -> str:
        if value is None:
            return "NULL"
        if isinstance(value, bytes):
            return f"'\\x{value.hex()}'" if self.kind == POSTGRESQL else f"x'{value.hex()}'"  # fmt: skip
        if isinstance(value, bool):
            return ("TRUE" if value else "FALSE") if self.kind == POSTGRESQL else str(int(value))  # fmt: skip
        if isinstance(value, int | float):
            return str(value)
        text = str(value).replace("'", "''")
        if self.kind == MARIADB:
            text = text.replace("\\", "\\\\")
        return f"'{text}'"


def habits(kind: str) -> list[str]:
    """Return the statements of the small tables, a habit each; the comment says which."""
    made = Script(kind)
    # a key that is itself a reference, behind names that repeat
    made.run("CREATE TABLE base (base_id INTEGER PRIMARY KEY, name TEXT NOT NULL)")
    made.run(
        "CREATE TABLE extension (base_id INTEGER PRIMARY KEY REFERENCES base (base_id)"
        " ON DELETE CASCADE, height INTEGER NOT NULL)"
    )
    made.run("CREATE TABLE big (big_id INTEGER PRIMARY KEY, name TEXT NOT NULL)")
    made.run(
        "CREATE TABLE big_note (big_id INTEGER PRIMARY KEY REFERENCES big (big_id),"
        " height INTEGER NOT NULL)"
    )
    made.rows("base", [(n, f"Same name {n % 2}") for n in range(1, 61)])
    made.rows("extension", [(n, n * 3) for n in range(1, 61)])
    made.rows("big", [(n, f"Same name {n % 2}") for n in range(1, 2501)])
    made.rows("big_note", [(n, n * 3) for n in range(1, 2501)])
    # line breaks in a column of one line
    made.run(
        "CREATE TABLE sticker (sticker_id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL"
        " UNIQUE, caption VARCHAR(60), base_id INTEGER REFERENCES base (base_id))"
    )
    made.rows("sticker", [(1, "Two lines", "first\r\nsecond", 1), (2, "One line", "only", 2)])  # fmt: skip
    made.run(
        "CREATE TABLE member (base_id INTEGER NOT NULL REFERENCES base (base_id),"
        " sticker_id INTEGER NOT NULL REFERENCES sticker (sticker_id), since INTEGER,"
        " PRIMARY KEY (base_id, sticker_id))"
    )
    made.rows("member", [(n, 1 + n % 2, n) for n in range(1, 61)])
    # a column whose name is a word of addresses
    made.run(
        "CREATE TABLE officer (officer_id INTEGER PRIMARY KEY, first_name TEXT NOT NULL,"
        " last_name TEXT NOT NULL, title TEXT)"
    )
    made.rows(
        "officer",
        [
            (1, "Ada", "Young", "Captain"),
            (2, "Bert", "Xu", "Mate"),
            (3, "Cleo", "Adams", "Warden"),
            (4, "Jürgen", "Größe", "Älteste"),
        ],
    )
    # a key that spells a moment
    made.run(
        "CREATE TABLE reading (place VARCHAR(20) NOT NULL, taken_at VARCHAR(30) NOT NULL,"
        " value REAL, PRIMARY KEY (place, taken_at))"
    )
    made.rows(
        "reading",
        [
            (f"P{1 + n % 2}", f"2024-01-{1 + n:02}T0{n % 8}:00:00Z", n)
            for n in range(1, 20)
        ],
    )
    # a key that does not number itself, though it looks so
    made.run("CREATE TABLE bin (bin_id serial PRIMARY KEY, name TEXT NOT NULL)")
    made.rows("bin", [(1, "north"), (2, "south")])
    made.run("SELECT setval(pg_get_serial_sequence('bin', 'bin_id'), 10)", [POSTGRESQL])
    # defaults that refer to nothing, or that a form would not take
    made.run(
        "CREATE TABLE pool (pool_id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE,"
        " spare_id INTEGER DEFAULT 0 REFERENCES pool (pool_id), cleaned"
        + (" DATETIME DEFAULT 0)" if kind == SQLITE else " DATE)")
    )
    made.run(
        "CREATE TABLE crate (crate_id serial PRIMARY KEY, name TEXT NOT NULL,"
        " land VARCHAR(10) DEFAULT 'NO', amount INTEGER DEFAULT 5)"
    )
    # a secret that is unique; names that only look like secrets
    made.run(
        "CREATE TABLE pass (pass_id INTEGER PRIMARY KEY, token VARCHAR(64) UNIQUE,"
        " name VARCHAR(64) NOT NULL, holder VARCHAR(60), password_min_length INTEGER,"
        " version VARCHAR(10))"
    )
    made.rows(
        "pass",
        [
            (1, "SECRETHASH123", "night watch", "Ada", 8, "1.2"),
            (2, "SECRETHASH456", "day watch", "Bert", 8, "1.3"),
        ],
    )
    made.run(
        "CREATE TABLE token (tokenid bigint PRIMARY KEY, name varchar(64) NOT NULL"
        " DEFAULT '', token varchar(128))"
    )
    made.run("CREATE UNIQUE INDEX token_3 ON token (token)")
    made.rows("token", [(1, "night watch", "SECRETHASH123")])
    made.run(
        "CREATE TABLE station_login (login_id INTEGER PRIMARY KEY, login VARCHAR(30) NOT"
        " NULL UNIQUE, PW CHAR(32) NOT NULL, apikey VARCHAR(40), sessionid VARCHAR(40))"
    )
    made.rows(
        "station_login",
        [
            (n, f"warden{n}", f"{n:032x}", f"KEY-{n:08}", f"SES-{n:08}")
            for n in range(1, 30)
        ],
    )
    # numbers as texts; a constant; a time of another program; an empty default
    made.run(
        "CREATE TABLE crossing (crossing_id INTEGER PRIMARY KEY, label TEXT NOT NULL,"
        " seats INTEGER NOT NULL, fare VARCHAR(10) NOT NULL, checked_at INTEGER NOT NULL"
        " DEFAULT 0)"
    )
    fares = ("13.86", "1.98", "5.94", "8.91", "0.99")
    made.rows("crossing", [(n, f"C{n}", 1, fares[n % 5], 0) for n in range(1, 401)])
    made.run(
        "CREATE TABLE buoy (buoy_id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL,"
        " remark VARCHAR(80) NOT NULL DEFAULT '', paint CHAR(6) NOT NULL DEFAULT '')"
    )
    made.rows("buoy", [(n, f"B{n}", "", "") for n in range(1, 21)])
    # an enumeration that is in the range of a table's key
    made.run(
        "CREATE TABLE watch (watch_id INTEGER PRIMARY KEY, type INTEGER NOT NULL,"
        " name TEXT NOT NULL)"
    )
    made.run(
        "CREATE TABLE lamp_type (lamp_type_id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE)"
    )
    made.rows("lamp_type", [(n, f"Lamp type {n}") for n in range(1, 31)])
    made.rows("watch", [(n, 1 + n % 20, f"W{n}") for n in range(1, 401)])
    # two references of a table to itself, both of which take records along
    made.run(
        "CREATE TABLE node (node_id int PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE,"
        " above_id int REFERENCES node (node_id) ON DELETE CASCADE,"
        " beside_id int REFERENCES node (node_id) ON DELETE CASCADE)"
    )
    made.run(
        "CREATE TABLE leaf (leaf_id int PRIMARY KEY, name VARCHAR(40) NOT NULL,"
        " node_id int REFERENCES node (node_id))"
    )
    made.rows("node", [(1, "a", None, None), (2, "b", 1, None), (3, "c", None, 1)])
    made.rows("leaf", [(1, "x", 3)])
    # a colour without its mark; bytes that are needed; bytes that are a text
    made.run(
        "CREATE TABLE shade (shade_id int PRIMARY KEY, name VARCHAR(40) NOT NULL,"
        " font_color varchar(6) NOT NULL DEFAULT '')"
    )
    made.run(
        "CREATE TABLE chart_scrap (scrap_id int PRIMARY KEY, name VARCHAR(40) NOT NULL,"
        " bytes BLOB NOT NULL)"
    )
    made.run(
        "CREATE TABLE label_text (label_id int PRIMARY KEY, wording"
        + (" VARBINARY(80)" if kind == MARIADB else " BLOB")
        + " NOT NULL)"
    )
    made.rows("label_text", [(n, f"Wörding {n}".encode()) for n in range(1, 41)])
    # titles with dates, yes and no, and words of their own
    made.run(
        "CREATE TABLE round_trip (base_id INTEGER NOT NULL REFERENCES base (base_id),"
        " day DATE NOT NULL, note TEXT, PRIMARY KEY (base_id, day))"
    )
    first = date(2025, 1, 30)
    made.rows("round_trip", [(n, first + timedelta(days=n), f"note {n}") for n in range(1, 31)])  # fmt: skip
    made.run(
        "CREATE TABLE lamp_count (lamp_count_id INTEGER PRIMARY KEY, amount INTEGER)"
    )
    made.rows("lamp_count", [(n * 1000, n) for n in range(1, 21)])
    # letters beyond ASCII, and a collation that tells upper from lower case
    binary = " COLLATE utf8mb4_bin" if kind == MARIADB else ""
    made.run(
        f"CREATE TABLE harbour (harbour_id INTEGER PRIMARY KEY, name VARCHAR(40){binary}"
        f" NOT NULL, town VARCHAR(40){binary})"
    )
    towns = ("Zürich", "Århus", "Øresund", "Évian", "Plain", "Łeba")
    made.rows("harbour", [(n, f"{towns[n % 6]} quay {n}", towns[n % 6]) for n in range(1, 40)])  # fmt: skip
    # a reference over several columns that is filtered by
    made.run(
        "CREATE TABLE lens (maker VARCHAR(10) NOT NULL, no INTEGER NOT NULL, name VARCHAR(40)"
        " NOT NULL, PRIMARY KEY (maker, no))"
    )
    made.run(
        "CREATE TABLE fitting (fitting_id INTEGER PRIMARY KEY, maker VARCHAR(10), lens_no"
        " INTEGER, remark VARCHAR(40), FOREIGN KEY (maker, lens_no) REFERENCES lens (maker, no))"
    )
    made.rows("lens", [(f"M{n % 3}", n, f"Lens {n}") for n in range(1, 10)])
    made.rows("fitting", [(n, f"M{(1 + n % 9) % 3}", 1 + n % 9, f"r{n}") for n in range(1, 31)])  # fmt: skip
    # two parents of which one does not have what the other says
    made.run("CREATE TABLE depot (depot_id INTEGER PRIMARY KEY, name VARCHAR(30) NOT NULL UNIQUE)")  # fmt: skip
    made.run(
        "CREATE TABLE crane (crane_id INTEGER PRIMARY KEY, name VARCHAR(30) NOT NULL UNIQUE,"
        " depot_id INTEGER NOT NULL REFERENCES depot (depot_id))"
    )
    made.run(
        "CREATE TABLE lift (lift_id INTEGER PRIMARY KEY, depot_id INTEGER NOT NULL REFERENCES"
        " depot (depot_id), crane_id INTEGER NOT NULL REFERENCES crane (crane_id), load_kg INTEGER)"
    )
    made.rows("depot", [(n, f"Depot {n}") for n in range(1, 8)])
    made.rows("crane", [(n, f"Crane {n}", 1 + n % 7) for n in range(1, 30)])
    made.rows("lift", [(n, 1 + n % 7, 1 + n % 29, n) for n in range(1, 200)])
    # days that are none
    if kind == MARIADB:
        made.run("SET SESSION sql_mode = ''")
        made.run(
            "CREATE TABLE zero_day (zero_id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL,"
            " due DATE NOT NULL, paid DATE, seen DATETIME)"
        )
        made.statements.append(
            "INSERT INTO zero_day VALUES (1, 'none', '0000-00-00', '0000-00-00', '0000-00-00"
            " 00:00:00'), (2, 'half', '2024-00-00', NULL, NULL), (3, 'whole', '2024-02-03', NULL, NULL)"
        )
    _without_end(made, kind)
    _keys(made, kind)
    # what only programs write
    made.run(
        "CREATE TABLE lamp_audit (audit_id INTEGER PRIMARY KEY, at_time VARCHAR(30) NOT NULL,"
        " what VARCHAR(60))"
    )
    made.rows("lamp_audit", [(n, f"2025-01-{n:02} 10:00:00", f"lamp {n} lit") for n in range(1, 20)])  # fmt: skip
    return made.statements


def _without_end(made: Script, kind: str) -> None:
    """Days, times and numbers without an end, states in an order of their own, texts of
    blanks; more rows than a page has."""
    types, days, powers = {
        "sqlite": ("VARCHAR(4), REAL", ("9999-12-31", "0000-00-00"), ("9e999", "NULL")),
        "postgresql": ("VARCHAR(4), NUMERIC", ("infinity", "-infinity", "9999-12-31"), ("'NaN'", "1e30")),
        MARIADB: ("ENUM('new', 'dim', 'out') NOT NULL, DOUBLE", ("9999-12-31", "0000-00-00"), ("1e300", "NULL")),
    }[kind]  # fmt: skip
    state, power = types.rsplit(", ", 1)
    burned = "TIME" if kind == MARIADB else "INTEGER"
    made.run(
        f"CREATE TABLE lamp_state (lamp_state_id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL,"
        f" state {state}, until DATE, burned {burned}, power {power}, note VARCHAR(10))"
    )
    states = ("'new'", "'dim'", "'out'", "''")
    hours = ("'838:59:59'", "'-100:00:00'") if kind == MARIADB else ("3", "-4")
    until = [*(f"'{day}'" for day in days), "NULL", "'2026-03-01'"]
    notes = ("'  '", "''", "'x'", "NULL")
    rows = [
        f"({n}, 'State {n}', {states[n % 7 % 4]}, {until[n % len(until)]},"
        f" {[*hours, 'NULL'][n % 3]}, {[*powers, '1.5'][n % 3]}, {notes[n % 4]})"
        for n in range(1, 301)
    ]
    made.statements.append(f"INSERT INTO lamp_state VALUES {', '.join(rows)}")


def _keys(made: Script, kind: str) -> None:
    """Keys of bytes and numbers of single precision, many of each; references that are
    spelled otherwise than the key, where that is the same to the server."""
    binary, single = ("BINARY(16)", "FLOAT") if kind == MARIADB else (" BLOB", "REAL")
    made.run(f"CREATE TABLE mast (mast_id {binary} NOT NULL PRIMARY KEY, name VARCHAR(20) NOT NULL UNIQUE, height {single})")  # fmt: skip
    made.run(
        f"CREATE TABLE mast_visit (visit_id INTEGER PRIMARY KEY, mast_id {binary},"
        " remark VARCHAR(20), FOREIGN KEY (mast_id) REFERENCES mast (mast_id))"
    )
    chance = random.Random(5)
    keys = [chance.randbytes(16) for _ in range(300)]
    made.rows("mast", [(key, f"Mast {n}", n % 90 / 7) for n, key in enumerate(keys)])
    made.rows("mast_visit", [(n, keys[n % 40], f"visit {n}") for n in range(1, 60)])
    made.run("CREATE TABLE flag (code VARCHAR(8) PRIMARY KEY, name VARCHAR(20) NOT NULL UNIQUE)")  # fmt: skip
    made.run(
        "CREATE TABLE hoist (hoist_id INTEGER PRIMARY KEY, code VARCHAR(8) NOT NULL,"
        " remark VARCHAR(20), FOREIGN KEY (code) REFERENCES flag (code))"
    )
    made.rows("flag", [(f"Ab{n}", f"Flag {n}") for n in range(1, 9)])
    begin = ("Ab", "AB", "äb") if kind == MARIADB else ("Ab",)
    made.rows("hoist", [(n, f"{begin[n % len(begin)]}{1 + n % 8}", f"hoist {n}") for n in range(1, 31)])  # fmt: skip


STEMS = ("LICHT", "TURM", "BOOT", "FAHRT", "WART", "TEIL", "LAGER", "BEFUND", "REISE", "SIGNAL")  # fmt: skip
_ENDS = ("MST", "POS", "HST", "TYP", "STA", "ORT")


def old_style(kind: str) -> list[str]:
    """Return sixty tables as an administrator of long ago made them: upper-case glued
    names, hardly a declaration, constants, flags of one letter, dates as numbers, defaults
    of nothing."""
    made = Script(kind)
    chance = random.Random(7)
    for stem_no, stem in enumerate(STEMS):
        for end in _ENDS:
            _old_table(made, chance, stem, end, stem_no)
    return made.statements


def _old_table(made: Script, chance: random.Random, stem: str, end: str, number: int) -> None:  # fmt: skip
    table, short = f"{stem}{end}", stem[:3]
    common = [
        ("MANDANT", "CHAR(3) NOT NULL DEFAULT '001'"),
        ("AEND_USER", "CHAR(8) NOT NULL DEFAULT ''"),
        ("AEND_DAT", "INTEGER NOT NULL DEFAULT 0"),
    ]
    nextone = STEMS[(number + 1) % len(STEMS)]
    shapes = {
        "TYP": [
            (f"{short}TYP", "CHAR(2) NOT NULL PRIMARY KEY"),
            ("BEZ", "VARCHAR(40) NOT NULL DEFAULT ''"),
            ("KZAKTIV", "CHAR(1) NOT NULL DEFAULT 'J'"),
        ],
        "STA": [
            (f"{short}STA", "INTEGER NOT NULL PRIMARY KEY"),
            ("BEZ", "VARCHAR(40) NOT NULL DEFAULT ''"),
            ("SORT", "INTEGER NOT NULL DEFAULT 0"),
        ],
        "ORT": [
            ("ORTNR", "INTEGER NOT NULL PRIMARY KEY"),
            ("ORTNAME", "VARCHAR(50) NOT NULL"),
            ("PLZ", "CHAR(5)"),
            ("TEL", "VARCHAR(20)"),
        ],
        "MST": [
            (f"{short}NR", "INTEGER NOT NULL PRIMARY KEY"),
            (f"{short}NAME1", "VARCHAR(40) NOT NULL DEFAULT ''"),
            (f"{short}NAME2", "VARCHAR(40) NOT NULL DEFAULT ''"),
            (f"{short}TYP", "CHAR(2) NOT NULL DEFAULT ''"),
            ("KZGESPERRT", "CHAR(1) NOT NULL DEFAULT 'N'"),
            ("ANLDAT", "INTEGER NOT NULL DEFAULT 0"),
            ("WERT", "DECIMAL(11,2)"),
            (f"{nextone[:3]}NR", "INTEGER"),
            ("BEMERK", "VARCHAR(200)"),
        ],
        "POS": [
            (f"{short}NR", "INTEGER NOT NULL"),
            ("POSNR", "INTEGER NOT NULL"),
            ("MENGE", "DECIMAL(9,3) NOT NULL DEFAULT 0"),
            ("EINH", "CHAR(3) NOT NULL DEFAULT 'ST'"),
            ("PREIS", "DECIMAL(9,2)"),
            ("LIEFDAT", "CHAR(8)"),
            (f"{short}STA", "INTEGER NOT NULL DEFAULT 10"),
        ],
        "HST": [
            ("LFDNR", "INTEGER NOT NULL PRIMARY KEY"),
            (f"{short}NR", "INTEGER NOT NULL"),
            ("DATUM", "CHAR(10) NOT NULL"),
            ("UHRZEIT", "CHAR(5)"),
            ("TEXT1", "VARCHAR(80) NOT NULL DEFAULT ''"),
        ],
    }
    columns = [*shapes[end], *common]
    listed = ", ".join(f"{name} {kind}" for name, kind in columns)
    key = f", PRIMARY KEY ({short}NR, POSNR)" if end == "POS" else ""
    made.run(f"CREATE TABLE {table} ({listed}{key})")
    made.rows(table, list(_old_rows(chance, end, stem)))


def _old_rows(chance: random.Random, end: str, stem: str) -> Iterator[tuple[Any, ...]]:
    common = ("001", "", 0)
    day = date(1998, 1, 1)
    if end == "TYP":
        for n in range(5):
            yield (f"T{n}", f"{stem.title()} Art {n}", "JN"[n == 4], *common)
    elif end == "STA":
        for n in range(10, 60, 10):
            yield (n, f"Stand {n}", n, *common)
    elif end == "ORT":
        for n in range(1, 25):
            yield (n, f"Ort {stem.title()} {n}", f"{20000 + n}", f"0{n} 44{n}", *common)
    elif end == "MST":
        for n in range(1, 61):
            made = int((day + timedelta(days=n * 31)).strftime("%Y%m%d"))
            yield (n, f"{stem.title()} {n}", "", f"T{chance.randrange(5)}", "JN"[n % 7 > 0], made, n * 12.5, 1 + n % 60 if n % 4 else None, None, *common)  # fmt: skip
    elif end == "POS":
        for n in range(1, 61):
            for line in range(1, 4):
                yield (n, line, line * 1.5, "ST", n * 2.25, (day + timedelta(days=n)).strftime("%Y%m%d"), chance.choice((10, 20, 30, 40, 50)), *common)  # fmt: skip
    else:
        for n in range(1, 81):
            yield (n, 1 + n % 60, (day + timedelta(days=n)).strftime("%d.%m.%Y"), f"{n % 24:02}:15", f"Vermerk {n}", *common)  # fmt: skip
