"""The Skerry Lights Service: a made-up coastal service, built by a seeded program.

All names of people, places and things are invented. Everyone gets the same rows.
"""

import random
import sqlite3
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from pathlib import Path
from typing import Any

from lumet.demo import fleet, words

SEED = 1887
TODAY = date(2026, 11, 20)
STATIONS = 214
LIGHTS = 388
KEEPERS = 96
INSPECTIONS = 3_912
READINGS = 200_000
LOGBOOK = 1_800

SCHEMA = """
CREATE TABLE district (
    code     CHAR(2) PRIMARY KEY NOT NULL,
    name     VARCHAR(40) NOT NULL UNIQUE,
    office   VARCHAR(40) NOT NULL,
    phone    VARCHAR(20)
);
CREATE TABLE lens_type (
    code     VARCHAR(6) PRIMARY KEY NOT NULL,
    name     VARCHAR(40) NOT NULL UNIQUE,
    focal_mm INTEGER NOT NULL CHECK (focal_mm BETWEEN 50 AND 2000)
);
CREATE TABLE station (
    id            INTEGER PRIMARY KEY,
    code          CHAR(6) NOT NULL UNIQUE,
    name          VARCHAR(40) NOT NULL UNIQUE,
    district_code CHAR(2) NOT NULL REFERENCES district (code),
    kind          VARCHAR(12) NOT NULL
                  CHECK (kind IN ('lighthouse', 'beacon', 'buoy', 'leading_light')),
    state         VARCHAR(12) NOT NULL DEFAULT 'lit'
                  CHECK (state IN ('lit', 'dim', 'dark', 'planned')),
    built_year    INTEGER CHECK (built_year >= 1700),
    is_automated  BOOLEAN NOT NULL DEFAULT 0,
    latitude      DECIMAL(8,5) NOT NULL CHECK (latitude BETWEEN -90 AND 90),
    longitude     DECIMAL(8,5) NOT NULL CHECK (longitude BETWEEN -180 AND 180),
    elevation_m   DECIMAL(5,1),
    remarks       TEXT,
    created_at    TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP,
    updated_at    TIMESTAMP,
    row_version   INTEGER NOT NULL DEFAULT 1
);
CREATE INDEX station_district ON station (district_code);
CREATE TABLE light (
    id         INTEGER PRIMARY KEY,
    station_id INTEGER NOT NULL REFERENCES station (id) ON DELETE RESTRICT,
    name       VARCHAR(30) NOT NULL,
    lens_code  VARCHAR(6) REFERENCES lens_type (code),
    class      VARCHAR(4) NOT NULL CHECK (class IN ('F', 'Fl', 'Oc', 'Iso', 'Q', 'Mo')),
    colour     VARCHAR(8) NOT NULL CHECK (colour IN ('white', 'red', 'green', 'amber')),
    range_nm   DECIMAL(4,1) NOT NULL CHECK (range_nm >= 1 AND range_nm <= 40),
    period_s   DECIMAL(4,1),
    lit_since  DATE,
    UNIQUE (station_id, name)
);
CREATE INDEX light_lens ON light (lens_code);
CREATE TABLE keeper (
    id            INTEGER PRIMARY KEY,
    staff_no      CHAR(5) NOT NULL UNIQUE,
    first_name    VARCHAR(30) NOT NULL,
    last_name     VARCHAR(40) NOT NULL,
    email         VARCHAR(80) UNIQUE,
    phone         VARCHAR(20),
    supervisor_id INTEGER REFERENCES keeper (id) ON DELETE SET NULL,
    joined_on     DATE NOT NULL,
    left_on       DATE
);
CREATE TABLE inspection (
    id             INTEGER PRIMARY KEY,
    station_id     INTEGER NOT NULL REFERENCES station (id) ON DELETE RESTRICT,
    inspector_id   INTEGER REFERENCES keeper (id) ON DELETE SET NULL,
    inspected_on   DATE NOT NULL,
    result         VARCHAR(20) NOT NULL
                   CHECK (result IN ('planned', 'passed', 'passed_with_findings', 'failed')),
    visibility_pct INTEGER CHECK (visibility_pct BETWEEN 0 AND 100),
    cost_eur       DECIMAL(9,2),
    next_due_on    DATE,
    remarks        TEXT,
    UNIQUE (station_id, inspected_on)
);
CREATE INDEX inspection_day ON inspection (inspected_on);
CREATE INDEX inspection_inspector ON inspection (inspector_id);
CREATE TABLE inspection_finding (
    inspection_id INTEGER NOT NULL REFERENCES inspection (id) ON DELETE CASCADE,
    line_no       INTEGER NOT NULL,
    summary       VARCHAR(80) NOT NULL,
    severity      VARCHAR(8) NOT NULL CHECK (severity IN ('minor', 'moderate', 'severe')),
    place         VARCHAR(12) NOT NULL
                  CHECK (place IN ('lens', 'lamp', 'power', 'structure', 'access')),
    closed_on     DATE,
    PRIMARY KEY (inspection_id, line_no)
);
CREATE TABLE lamp_reading (
    id             INTEGER PRIMARY KEY,
    light_id       INTEGER NOT NULL REFERENCES light (id) ON DELETE CASCADE,
    taken_at       TIMESTAMP NOT NULL,
    lamp_current_a REAL,
    battery_v      REAL NOT NULL,
    temperature_c  REAL,
    is_alarm       BOOLEAN NOT NULL DEFAULT 0
);
CREATE TABLE LOGBOOK_OLD (
    ENTRY_DT   TEXT,
    STN_CD     TEXT,
    KPR_NM     TEXT,
    WX_CD      TEXT,
    ENTRY_TXT  TEXT
);
CREATE TABLE schema_version (
    version    INTEGER PRIMARY KEY,
    applied_at TIMESTAMP NOT NULL
);
CREATE VIEW station_overview AS
    SELECT s.code, s.name, d.name AS district, s.state,
           (SELECT count(*) FROM light l WHERE l.station_id = s.id) AS lights,
           (SELECT max(i.inspected_on) FROM inspection i WHERE i.station_id = s.id)
               AS last_inspected_on
    FROM station s JOIN district d ON d.code = s.district_code;
"""

# Made behind the rows: filling them one by one takes three times as long.
LATE_INDEXES = """
CREATE INDEX lamp_reading_light ON lamp_reading (light_id, taken_at);
CREATE INDEX lamp_reading_taken ON lamp_reading (taken_at);
"""


def build_database(path: Path) -> None:
    """Write the demo's database to `path`, which must not exist yet."""
    chance = random.Random(SEED)
    connection = sqlite3.connect(path, isolation_level=None)
    try:
        connection.executescript(SCHEMA)
        connection.executescript(fleet.SCHEMA)
        connection.execute("BEGIN")
        for table, rows in _tables(chance):
            _insert(connection, table, rows)
        connection.execute("COMMIT")
        connection.executescript(LATE_INDEXES)
        connection.execute("ANALYZE")
    finally:
        connection.close()


def _insert(
    connection: sqlite3.Connection, table: str, rows: Iterator[tuple[Any, ...]]
) -> None:
    first = next(rows)
    marks = ", ".join("?" * len(first))
    statement = f"INSERT INTO {table} VALUES ({marks})"
    connection.execute(statement, first)
    connection.executemany(statement, rows)


def _tables(
    chance: random.Random,
) -> Iterator[tuple[str, Iterator[tuple[Any, ...]]]]:
    names = words.station_names(chance, STATIONS)
    yield "district", iter(words.DISTRICTS)
    yield "lens_type", iter(words.LENS_TYPES)
    yield "station", _stations(chance, names)
    yield "light", _lights(chance)
    yield "keeper", _keepers(chance)
    yield "inspection", iter(inspections := list(_inspections(chance)))
    yield "inspection_finding", _findings(chance, inspections)
    yield "lamp_reading", _readings(chance)
    yield "LOGBOOK_OLD", _logbook(chance)
    yield from fleet.fleet_tables(STATIONS, LIGHTS, KEEPERS, TODAY)
    yield "schema_version", iter([(n, f"2024-0{n}-11 09:00:00") for n in range(1, 8)])


def _stations(chance: random.Random, names: list[str]) -> Iterator[tuple[Any, ...]]:
    kinds = ("lighthouse", "beacon", "beacon", "buoy", "leading_light")
    states = ("lit",) * 14 + ("dim", "dark", "planned")
    for number, name in enumerate(names, start=1):
        place = number % len(words.DISTRICTS)
        created = datetime(2019, 3, 1, 8) + timedelta(minutes=37 * number)
        yield (
            number,
            _station_code(number),
            name,
            words.DISTRICTS[place][0],
            kinds[0] if number % 5 == 0 else chance.choice(kinds),
            chance.choice(states),
            chance.choice([None, *range(1820, 2015)]),
            int(chance.random() < 0.7),
            round(60.2 + place * 0.31 + chance.random() * 0.3, 5),
            round(3.6 + chance.random() * 2.4, 5),
            round(chance.uniform(2, 88), 1),
            chance.choice(words.STATION_REMARKS),
            created.isoformat(" "),
            None,
            1,
        )


def _station_code(number: int) -> str:
    return f"SK{number:04d}"


def _lights(chance: random.Random) -> Iterator[tuple[Any, ...]]:
    counts: dict[int, int] = {}
    lenses = [code for code, *_ in words.LENS_TYPES]
    for number in range(1, LIGHTS + 1):
        station = number if number <= STATIONS else chance.randint(1, STATIONS)
        while counts.get(station, 0) >= len(words.LIGHT_NAMES):
            station = chance.randint(1, STATIONS)
        name = words.LIGHT_NAMES[counts.get(station, 0)]
        counts[station] = counts.get(station, 0) + 1
        since = date(1985, 1, 1) + timedelta(days=chance.randint(0, 15_000))
        yield (
            number,
            station,
            name,
            chance.choice([None, *lenses]),
            chance.choice(["F", "Fl", "Fl", "Oc", "Iso", "Q", "Mo"]),
            chance.choice(["white", "white", "red", "green", "amber"]),
            chance.randint(4, 78) / 2,
            chance.choice([None, 2.5, 5, 7.5, 10, 15, 20]),
            since.isoformat(),
        )


def _keepers(chance: random.Random) -> Iterator[tuple[Any, ...]]:
    pairs = [(first, last) for first in words.FIRST_NAMES for last in words.LAST_NAMES]
    for number, (first, last) in enumerate(chance.sample(pairs, KEEPERS), start=1):
        joined = date(1994, 5, 1) + timedelta(days=chance.randint(0, 11_000))
        gone = chance.random() < 0.2
        yield (
            number,
            f"K{number:04d}",
            first,
            last,
            f"{first}.{last}@skerrylights.example".lower().replace(" ", ""),
            f"+00 555 {chance.randint(100, 999)} {chance.randint(10, 99)}",
            chance.randint(1, 8) if number > 8 else None,
            joined.isoformat(),
            min(TODAY, joined + timedelta(days=2_000)).isoformat() if gone else None,
        )


def _inspections(chance: random.Random) -> Iterator[tuple[Any, ...]]:
    seen: set[tuple[int, date]] = set()
    results = ("passed",) * 11 + ("passed_with_findings",) * 4 + ("failed",)
    while len(seen) < INSPECTIONS:
        station = chance.randint(1, STATIONS)
        day = TODAY - timedelta(days=int(chance.expovariate(1 / 900)) - 2)
        if (station, day) in seen or day.year < 2012:
            continue
        seen.add((station, day))
        planned = day > TODAY
        result = "planned" if planned else chance.choice(results)
        due = day + timedelta(days=60 if result == "failed" else 365)
        yield (
            len(seen),
            station,
            None if planned else chance.randint(1, KEEPERS),
            day.isoformat(),
            result,
            None if planned else chance.randint(30, 100),
            None if planned else round(chance.uniform(180, 2_900), 2),
            None if planned else due.isoformat(),
            None if planned else chance.choice(words.INSPECTION_REMARKS),
        )


def _findings(
    chance: random.Random, inspections: list[tuple[Any, ...]]
) -> Iterator[tuple[Any, ...]]:
    for number, _, _, day, result, *_ in inspections:
        count = {"passed_with_findings": 4, "failed": 8}.get(result, 0)
        for line in range(1, chance.randint(1, count) + 1 if count else 0):
            place, summary = chance.choice(words.FINDINGS)
            closed = date.fromisoformat(day) + timedelta(days=chance.randint(3, 90))
            done = chance.random() < 0.8 and closed <= TODAY
            severity = chance.choice(["minor", "minor", "moderate", "severe"])
            yield (
                number,
                line,
                summary,
                severity,
                place,
                closed.isoformat() if done else None,
            )


def _readings(chance: random.Random) -> Iterator[tuple[Any, ...]]:
    start = datetime(2026, 10, 1)
    days = [(start + timedelta(days=day)).date().isoformat() for day in range(60)]
    clock = [str(timedelta(seconds=second)).zfill(8) for second in range(86_400)]
    draw = chance.random
    for number in range(1, READINGS + 1):
        day, second = divmod(21 * number, 86_400)
        battery = round(11.4 + draw() + draw(), 2)
        yield (
            number,
            1 + int(draw() * LIGHTS),
            f"{days[day]} {clock[second]}",
            round(1.6 + draw(), 3) if number % 37 else None,
            battery,
            round(24 * draw() - 6, 1),
            int(battery < 11.6),
        )


def _logbook(chance: random.Random) -> Iterator[tuple[Any, ...]]:
    for _ in range(LOGBOOK):
        day = date(1961, 1, 1) + timedelta(days=chance.randint(0, 8_000))
        known = chance.random() < 0.96
        code = _station_code(chance.randint(1, STATIONS)) if known else "??"
        yield (
            day.strftime("%d.%m.%Y"),
            code,
            chance.choice(words.LAST_NAMES).upper(),
            chance.choice(["F", "C", "R", "S", "G"]),
            chance.choice(words.LOGBOOK_TEXTS),
        )
