"""The service's vessels, their voyages, and the repairs: the part of the demo with
junctions, rows that belong to a record, parts made of parts, and references that nobody
declared."""

import random
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from typing import Any

from lumet.demo import words
from lumet.demo.pictures import picture_name

SEED = 1911
VOYAGES = 420
POSTINGS = 260
REPAIRS = 640

SCHEMA = """
CREATE TABLE vessel (
    code           CHAR(3) PRIMARY KEY NOT NULL,
    name           VARCHAR(30) NOT NULL UNIQUE,
    home_district  CHAR(2) NOT NULL REFERENCES district (code),
    built_year     INTEGER CHECK (built_year >= 1900),
    in_service     CHAR(1) NOT NULL DEFAULT 'Y' CHECK (in_service IN ('Y', 'N')),
    photo          VARCHAR(80)
);
CREATE TABLE light_tender (
    light_id    INTEGER NOT NULL REFERENCES light (id) ON DELETE CASCADE,
    vessel_code CHAR(3) NOT NULL REFERENCES vessel (code),
    PRIMARY KEY (light_id, vessel_code)
) WITHOUT ROWID;
CREATE TABLE voyage (
    id          INTEGER PRIMARY KEY,
    vessel_code CHAR(3) NOT NULL REFERENCES vessel (code),
    master_no   CHAR(5),
    left_on     DATE NOT NULL,
    returned_on DATE,
    purpose     VARCHAR(8) NOT NULL
                CHECK (purpose IN ('relief', 'supply', 'survey', 'towing')),
    distance_nm DECIMAL(5,1),
    from_station_id INTEGER REFERENCES station (id),
    to_station_id   INTEGER REFERENCES station (id),
    UNIQUE (vessel_code, left_on)
);
CREATE INDEX voyage_from ON voyage (from_station_id);
CREATE INDEX voyage_to ON voyage (to_station_id);
CREATE TABLE station_landing (
    station_id INTEGER PRIMARY KEY REFERENCES station (id) ON DELETE CASCADE,
    place      VARCHAR(6) NOT NULL CHECK (place IN ('steps', 'slip', 'ladder', 'gully')),
    tide       VARCHAR(5) NOT NULL CHECK (tide IN ('any', 'half', 'high')),
    path_length_m  INTEGER CHECK (path_length_m BETWEEN 1 AND 4000),
    swell_height_m DECIMAL(3,1)
);
CREATE TABLE voyage_stop (
    voyage_id  INTEGER NOT NULL REFERENCES voyage (id) ON DELETE CASCADE,
    stop_no    INTEGER NOT NULL,
    station_id INTEGER NOT NULL REFERENCES station (id),
    arrived_at TIMESTAMP,
    cargo_kg   INTEGER CHECK (cargo_kg >= 0),
    PRIMARY KEY (voyage_id, stop_no)
);
CREATE TABLE posting (
    id         INTEGER PRIMARY KEY,
    keeper_id  INTEGER NOT NULL REFERENCES keeper (id) ON DELETE CASCADE,
    station_id INTEGER NOT NULL REFERENCES station (id),
    begins_on  DATE NOT NULL,
    ends_on    DATE,
    duty       VARCHAR(9) NOT NULL CHECK (duty IN ('principal', 'assistant', 'relief'))
);
CREATE TABLE part (
    part_no      CHAR(6) PRIMARY KEY NOT NULL,
    name         VARCHAR(40) NOT NULL UNIQUE,
    price_eur    DECIMAL(8,2) NOT NULL CHECK (price_eur >= 0),
    on_hand      INTEGER NOT NULL DEFAULT 0,
    drawing_file VARCHAR(60)
);
CREATE TABLE part_component (
    part_no      CHAR(6) NOT NULL REFERENCES part (part_no) ON DELETE CASCADE,
    component_no CHAR(6) NOT NULL REFERENCES part (part_no),
    quantity     INTEGER NOT NULL CHECK (quantity > 0),
    PRIMARY KEY (part_no, component_no)
);
CREATE TABLE repair (
    id          INTEGER PRIMARY KEY,
    light_id    INTEGER NOT NULL REFERENCES light (id) ON DELETE RESTRICT,
    reported_by INTEGER,
    reported_on DATE NOT NULL,
    done_on     DATE,
    status      VARCHAR(8) NOT NULL DEFAULT 'reported'
                CHECK (status IN ('reported', 'planned', 'done')),
    labour_eur  DECIMAL(8,2),
    description TEXT,
    deleted_at  TIMESTAMP
);
CREATE INDEX repair_light ON repair (light_id);
CREATE TABLE repair_part (
    repair_id INTEGER NOT NULL REFERENCES repair (id) ON DELETE CASCADE,
    part_no   CHAR(6) NOT NULL REFERENCES part (part_no),
    quantity  INTEGER NOT NULL DEFAULT 1 CHECK (quantity > 0),
    PRIMARY KEY (repair_id, part_no)
);
"""


def fleet_tables(
    stations: int, lights: int, keepers: int, today: date
) -> Iterator[tuple[str, Iterator[tuple[Any, ...]]]]:
    """Yield each table with its rows, the same each time; the numbers are those of the
    stations, lights and keepers that are there."""
    chance = random.Random(SEED)
    codes = [code for code, *_ in words.VESSELS]
    yield "vessel", iter([(*each, picture_name(each[0])) for each in words.VESSELS])
    yield "light_tender", _tenders(chance, lights, codes)
    voyages = list(_voyages(chance, keepers, codes, today))
    yield "voyage", _with_ends(voyages, stations)
    yield "station_landing", _landings(stations)
    yield "voyage_stop", _stops(chance, voyages, stations)
    yield "posting", _postings(chance, stations, keepers, today)
    yield "part", _parts(chance)
    yield "part_component", _components(chance)
    yield "repair", iter(repairs := list(_repairs(chance, lights, keepers, today)))
    yield "repair_part", _used(chance, repairs)


def _tenders(
    chance: random.Random, lights: int, codes: list[str]
) -> Iterator[tuple[Any, ...]]:
    for light in range(1, lights + 1):
        for code in sorted(chance.sample(codes, chance.choice([1, 1, 1, 2]))):
            yield light, code


def _voyages(
    chance: random.Random, keepers: int, codes: list[str], today: date
) -> Iterator[tuple[Any, ...]]:
    seen: set[tuple[str, date]] = set()
    while len(seen) < VOYAGES:
        code = chance.choice(codes)
        day = today - timedelta(days=chance.randint(0, 1_500))
        if (code, day) in seen:
            continue
        seen.add((code, day))
        back = day + timedelta(days=chance.randint(0, 4))
        yield (
            len(seen),
            code,
            f"K{chance.randint(1, keepers):04d}" if chance.random() < 0.9 else None,
            day.isoformat(),
            back.isoformat() if back <= today else None,
            chance.choice(["relief", "supply", "supply", "supply", "survey", "towing"]),
            chance.randint(60, 2_400) / 10,
        )


def _with_ends(
    voyages: list[tuple[Any, ...]], stations: int
) -> Iterator[tuple[Any, ...]]:
    """Half of the voyages begin or end at a station, the others at the vessel's
    port."""
    chance = random.Random(SEED + 1)
    places: list[int | None] = [*range(1, stations + 1), *[None] * stations]
    for voyage in voyages:
        yield (*voyage, chance.choice(places), chance.choice(places))


def _landings(stations: int) -> Iterator[tuple[Any, ...]]:
    """Four of five stations can be landed at."""
    chance = random.Random(SEED + 2)
    for station in range(1, stations + 1):
        if station % 5 == 3:
            continue
        yield (
            station,
            chance.choice(["steps", "steps", "slip", "ladder", "gully"]),
            chance.choice(["any", "half", "half", "high"]),
            chance.randint(4, 120) * 10 if chance.random() < 0.9 else None,
            chance.randint(4, 30) / 10,
        )


def _stops(
    chance: random.Random, voyages: list[tuple[Any, ...]], stations: int
) -> Iterator[tuple[Any, ...]]:
    for number, _, _, left, *_ in voyages:
        hour = datetime.fromisoformat(left) + timedelta(hours=chance.randint(6, 9))
        for stop in range(1, chance.randint(2, 6)):
            hour += timedelta(minutes=chance.randint(40, 300))
            cargo = chance.choice([None, 0, *range(40, 900, 20)])
            yield number, stop, chance.randint(1, stations), hour.isoformat(" "), cargo


def _postings(
    chance: random.Random, stations: int, keepers: int, today: date
) -> Iterator[tuple[Any, ...]]:
    for number in range(1, POSTINGS + 1):
        begins = today - timedelta(days=chance.randint(30, 5_000))
        ends = begins + timedelta(days=chance.randint(180, 1_400))
        yield (
            number,
            chance.randint(1, keepers),
            chance.randint(1, stations),
            begins.isoformat(),
            ends.isoformat() if ends < today else None,
            chance.choice(["principal", "assistant", "assistant", "relief"]),
        )


def _part_no(number: int) -> str:
    return f"SP{number:04d}"


def _parts(chance: random.Random) -> Iterator[tuple[Any, ...]]:
    for number, name in enumerate(words.PARTS, start=1):
        yield (
            _part_no(number),
            name,
            round(chance.uniform(1.5, 940), 2),
            chance.randint(0, 60),
            f"drawings/sp-{number:04d}.pdf" if number % 3 else None,
        )


def _components(chance: random.Random) -> Iterator[tuple[Any, ...]]:
    """An assembly is among the first parts, what it is made of among those behind
    it."""
    for number in range(1, 9):
        others = chance.sample(range(9, len(words.PARTS) + 1), chance.randint(2, 5))
        for other in sorted(others):
            yield _part_no(number), _part_no(other), chance.randint(1, 8)


def _repairs(
    chance: random.Random, lights: int, keepers: int, today: date
) -> Iterator[tuple[Any, ...]]:
    for number in range(1, REPAIRS + 1):
        day = today - timedelta(days=chance.randint(0, 2_200))
        done = day + timedelta(days=chance.randint(1, 120))
        is_done = done <= today
        yield (
            number,
            chance.randint(1, lights),
            chance.randint(1, keepers) if chance.random() < 0.95 else None,
            day.isoformat(),
            done.isoformat() if is_done else None,
            "done" if is_done else chance.choice(["reported", "planned"]),
            round(chance.uniform(40, 1_900), 2) if is_done else None,
            chance.choice(words.REPAIRS),
            f"{day.isoformat()} 16:40:00" if number % 97 == 0 else None,
        )


def _used(
    chance: random.Random, repairs: list[tuple[Any, ...]]
) -> Iterator[tuple[Any, ...]]:
    for number, *_, status, _, _, _ in repairs:
        count = chance.choice([0, 1, 1, 2, 3]) if status == "done" else 0
        for part in sorted(chance.sample(range(1, len(words.PARTS) + 1), count)):
            yield number, _part_no(part), chance.randint(1, 6)
