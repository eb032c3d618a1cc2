"""How good inference is on schemas that nobody here wrote, beside what a person says.

    python -m bench.mirror [NAME...] [--proving] [--wrong] [--rows 60]
    python -m bench.mirror SCHEMA... --declared

The schemas are fetched from packages; their declared references count as true, and are
dropped before the survey. With rows, `lumet populate` makes them for the references of
the schema and of the mirror; its values are no evidence of kinds, which are told by
names and types alone.
"""

import argparse
import json
import re
import subprocess
import tempfile
from collections import Counter
from collections.abc import Callable, Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

from sqlalchemy import Connection, text
from tests.support.projects import run_command
from tests.support.servers import connect

from bench.corpus import (
    CORPUS,
    FILE,
    MY,
    NAME,
    PG,
    Schema,
    made,
    texts_of,
    unpacked,
)
from bench.inference import Place, Score, compare
from bench.mirror import Mirror, MirrorColumn, MirrorTable, mirrors

SERVER = {"configuration": MY, "cameras": MY}  # the others are read on PostgreSQL
NAMES = {"news": "news reader"}
WHAT = ("references, by names", "references, with rows", "titles", "kinds", "stamps", "junctions", "labels", "lists")  # fmt: skip
BANDS = (0.5, 0.65, 0.75, 0.85, 0.95, 1.01)  # of confidence
_FOREIGN = {
    PG: "SELECT conrelid::regclass::text, quote_ident(conname) FROM pg_constraint WHERE contype = 'f'",
    MY: "SELECT concat('`', table_name, '`'), concat('`', constraint_name, '`') FROM"
    " information_schema.table_constraints WHERE constraint_type = 'FOREIGN KEY' AND table_schema = database()",
}
_DROP = {
    PG: "ALTER TABLE {} DROP CONSTRAINT {}",
    MY: "ALTER TABLE {} DROP FOREIGN KEY {}",
}


class Reliability:
    """How often what is said with a confidence is right."""

    def __init__(self) -> None:
        self.said: dict[str, list[tuple[float, bool]]] = {}

    def add(self, what: str, confidence: float, is_right: bool) -> None:
        """Count one answer."""
        self.said.setdefault(what, []).append((confidence, is_right))

    def lines(self) -> Iterator[str]:
        """Yield the figures by band of confidence."""
        for what, each in self.said.items():
            for low, high in pairwise(BANDS):
                held = [right for sure, right in each if low <= sure < high]
                if held:
                    yield f"  {what:<24} {low:.2f} to {min(high, 1):.2f}   {sum(held)} of {len(held)} right: {sum(held) / len(held):.0%}"  # fmt: skip


def schema_of(mirror: Mirror) -> tuple[Schema, str]:
    """Return the schema of a mirror, and the kind of server."""
    name = NAMES.get(mirror.name, mirror.name.replace("-", " "))
    schema = next(each for each in CORPUS if each.name == name)
    kind = next(each for each in (PG, MY, FILE) if each in schema.files)
    return schema, SERVER.get(mirror.name, kind)


def reviewed(folder: Path, address: str, schema: Schema, kind: str) -> dict[str, Any]:
    """Survey, and return the review."""
    words = ["survey", address]
    if kind == PG and schema.schema:
        words += ["--schema", schema.schema]
    ran = run_command(*words, cwd=folder, timeout=None)
    assert ran.returncode == 0, ran.stderr
    found: dict[str, Any] = json.loads(run_command("review", "--json", cwd=folder, timeout=None).stdout)  # fmt: skip
    return found


def drop_references(address: str, kind: str) -> None:
    """Drop every foreign key of a server's database."""
    if kind == FILE:
        return  # the schemas that are read from files declare none
    engine = connect(address)
    connection: Connection
    with engine.connect() as connection:
        for table, name in connection.execute(text(_FOREIGN[kind])).all():
            connection.execute(text(_DROP[kind].format(table, name)))
    engine.dispose()


def true_references(mirror: Mirror, found: dict[str, Any]) -> set[Place]:
    """Return the references of the mirror's tables, declared and said."""
    wanted: set[Place] = {
        (r["table"], *r["columns"], r["referred_table"], *r["referred_columns"])
        for r in found["references"]
        if r["declared"] and r["table"].casefold() in mirror.tables
    }
    columns = {(t["table"], _column_of(d)) for t in found["tables"] for d in t["decisions"]}  # fmt: skip
    spelled = {f"{t}.{c}".casefold(): (t, c) for t, c in columns}
    for table, column in columns:
        is_told = table.casefold() in mirror.tables
        said = mirror.column(table.casefold(), column) if is_told else None
        if said is not None and said.refers:
            end = spelled.get(".".join(said.refers).casefold(), said.refers)
            wanted.add((table, column, *end))
    return wanted


def fill(folder: Path, address: str, wanted: set[Place], rows: int) -> None:
    """Decide the undeclared references, and make rows that keep them."""
    name = Path(address).name if Path(address).is_file() else NAME
    for table, *ours, referred, column in wanted:
        path = folder / "design" / "tables" / f"{table}.toml"
        if len(ours) == 1 and path.exists():
            key = f'"{ours[0]}"' if not str(ours[0]).isidentifier() else ours[0]
            words = f'\n[field.{key}]\nreferences = "{referred}.{column}"\n'
            before = path.read_text()
            if f"[field.{key}]" not in before:
                path.write_text(before + words)
    with (folder / ".env").open("a") as file:
        file.write(f"DEVELOPMENT_DATABASE='{name}'\n")
    for words in (["generate"], ["populate", "--rows", str(rows), "--yes", name]):
        ran = run_command(*words, cwd=folder, timeout=None)
        if ran.returncode > 1:
            print(f"    {words[0]}: {ran.stderr.strip()[:300]}")


def found_references(mirror: Mirror, found: dict[str, Any]) -> set[Place]:
    """Return the references that are used."""
    return {
        (r["table"], *r["columns"], r["referred_table"], *r["referred_columns"])
        for r in found["references"]
        if r["used"] and r["table"].casefold() in mirror.tables
    }


def weigh(mirror: Mirror, found: dict[str, Any], wanted: set[Place], what: str, sure: Reliability) -> None:  # fmt: skip
    """Count each reference that was found, used or proposed, with its confidence."""
    for r in found["references"]:
        place = (r["table"], *r["columns"], r["referred_table"], *r["referred_columns"])
        if r["table"].casefold() in mirror.tables and not r["declared"]:
            sure.add(what, r["confidence"], place in wanted)


def judge(mirror: Mirror, declared: dict[str, Any], sure: Reliability) -> dict[str, Score]:  # fmt: skip
    """Return the scores of all but references, of a survey with the declared ones."""
    scores = {name: Score() for name in WHAT[2:]}
    for table in declared["tables"]:
        told = mirror.tables.get(table["table"].casefold())
        if told is not None:
            decided = {"/".join(d["key"]): d["value"] for d in table["decisions"]}
            said = {"/".join(d["key"]): d["confidence"] for d in table["decisions"]}
            before = {what: score.right for what, score in scores.items()}
            _judge_table(mirror, told, decided, scores, _weighing(sure, said))
            if "title" in said:
                sure.add(
                    WHAT[2], said["title"], scores[WHAT[2]].right > before[WHAT[2]]
                )
    junctions: set[Place] = {(j["table"].casefold(),) for j in declared["junctions"] if j["table"].casefold() in mirror.tables}  # fmt: skip
    there: set[Place] = {(t.name,) for t in mirror.tables.values() if t.role == "junction"}  # fmt: skip
    scores["junctions"] = compare(junctions, there)
    return scores


def _weighing(sure: Reliability, said: dict[str, float]) -> Callable[[str, bool], None]:
    """Return what counts the kind of a column with its confidence."""
    return lambda name, right: sure.add(WHAT[3], said[f"field/{name}/kind"], right)


def _judge_table(mirror: Mirror, told: MirrorTable, decided: dict[str, Any], scores: dict[str, Score], weighed: Callable[[str, bool], None]) -> None:  # fmt: skip

    title = str(decided.get("title", ""))
    parts = tuple(p.split(".")[0].casefold() for p in re.findall(r"\{([^}]+)\}", title))
    is_right = parts in told.titles or ("-",) in told.titles
    _add(scores["titles"], is_right, f"{told.name}: {title}, not {told.titles}")
    labels = [(told.label, str(decided.get("plural", "")), told.name)]
    for key in [k for k in decided if k.startswith("field/") and k.endswith("/kind")]:
        name = key.removeprefix("field/").removesuffix("/kind")
        said = mirror.column(told.name, name) or MirrorColumn()
        labels.append((said.label, str(decided.get(f"field/{name}/label", "")), f"{told.name}.{name}"))  # fmt: skip
        counted = scores["kinds"].said, scores["kinds"].right
        _judge_kind(told.name, name, said, decided, scores)
        if scores["kinds"].said > counted[0]:
            weighed(name, scores["kinds"].right > counted[1])
    for label, shown, where in labels:
        if label:
            _add(scores["labels"], shown.casefold() == label.casefold(), f"{where}: {shown}, not {label}")  # fmt: skip
    listed = [*parts, *(c.casefold() for c in decided.get("list/columns", []))]
    stamps = {n for n in listed if (c := mirror.column(told.name, n)) and c.is_stamp}
    hidden = {n for n in listed if decided.get(f"field/{n}/hidden")}
    _add(scores["lists"], not stamps and not (hidden - set(parts)), f"{told.name}: {listed}")  # fmt: skip


def _judge_kind(table: str, name: str, said: MirrorColumn, decided: dict[str, Any], scores: dict[str, Score]) -> None:  # fmt: skip
    kind, why = decided[f"field/{name}/kind"], f"{table}.{name}"
    if said.is_stamp:
        is_fixed = bool(decided.get(f"field/{name}/read_only") or decided.get(f"field/{name}/automatic") or decided.get(f"field/{name}/hidden"))  # fmt: skip
        _add(scores["stamps"], is_fixed, f"{why} can be changed")
    usual = ("text", "integer", "decimal", "date", "datetime", "time", "choice", "yes/no", "json", "code", "lookup", "other", "file")  # fmt: skip
    score = scores["kinds"]
    if {"choice"} & {*said.kinds} or ("datetime" in said.kinds and not said.is_stamp):
        return  # what rows alone can tell, or the type does
    if decided.get(f"field/{name}/hidden") and "secret" in said.kinds:
        kind = "secret"
    if said.kinds:
        score.there += 1
    if said.kinds or kind not in usual:
        score.said += 1
        if kind in said.kinds:
            score.right += 1
        else:
            score.wrong.append(f"{why}: {kind}, not {' or '.join(said.kinds) or 'that of its type'}")  # fmt: skip


def _add(score: Score, is_right: bool, wrong: str) -> None:
    score.there += 1
    score.said += 1
    score.right += is_right
    if not is_right:
        score.wrong.append(wrong)


def _column_of(decision: dict[str, Any]) -> str:
    key = decision["key"]
    return str(key[1]) if key[0] == "field" else ""


def measure(mirror: Mirror, packages: Path, rows: int, sure: Reliability) -> dict[str, Score]:  # fmt: skip
    """Return the scores of one mirror."""
    schema, kind = schema_of(mirror)
    texts = texts_of(schema, kind, unpacked(schema, packages))
    address = made(kind, texts, packages)
    with tempfile.TemporaryDirectory() as first, tempfile.TemporaryDirectory() as second, tempfile.TemporaryDirectory() as third:  # fmt: skip
        declared = reviewed(Path(first), address, schema, kind)
        print(f"{mirror.name}, {len(declared['tables'])} tables: {menu_of(declared)}", flush=True)  # fmt: skip
        if mirror.tables:
            scores = judge(mirror, declared, sure)
        else:  # nothing is said of it but by its foreign keys
            names = [table["table"].casefold() for table in declared["tables"]]
            mirror.tables = {name: MirrorTable(name, [("-",)]) for name in names}
            scores = {}
        wanted = true_references(mirror, declared)
        if rows:
            fill(Path(first), address, wanted, rows)
            drop_references(address, kind)
            found = reviewed(Path(second), address, schema, kind)
            scores[WHAT[1]] = compare(found_references(mirror, found), wanted)
            weigh(mirror, found, wanted, WHAT[1], sure)
            address = made(kind, texts, packages)
        drop_references(address, kind)
        found = reviewed(Path(third), address, schema, kind)
        scores[WHAT[0]] = compare(found_references(mirror, found), wanted)
        weigh(mirror, found, wanted, WHAT[0], sure)
    return scores


def menu_of(found: dict[str, Any]) -> str:
    """Return the figures of the menu: its groups, the largest of them, and the entries
    of the same name."""
    groups: Counter[str] = Counter()
    names: Counter[str] = Counter()
    for table in found["tables"]:
        decided = {"/".join(d["key"]): d["value"] for d in table["decisions"]}
        if decided.get("include", True):
            groups[str(decided.get("group", ""))] += 1
            names[str(decided.get("plural", ""))] += 1
    (largest, most), *_ = groups.most_common(1) or [("", 0)]
    doubles = sum(1 for count in names.values() if count > 1)
    return f"{len(groups)} groups, the largest {largest} of {most}; {doubles} names twice"  # fmt: skip


def lines(scores: dict[str, Score], shows_wrong: bool) -> Iterator[str]:
    """Yield the figures of scores."""
    for what in WHAT:
        if what in scores and scores[what].there:
            s = scores[what]
            yield f"  {what:<24} P {s.precision:.3f}  R {s.recall:.3f}  F1 {s.f1:.3f}   {s.right} of {s.there}"  # fmt: skip
            yield from (f"      {text}" for text in s.wrong if shows_wrong)


def main() -> None:
    """Measure, and print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("names", nargs="*")
    parser.add_argument("--proving", action="store_true")
    parser.add_argument("--declared", action="store_true", help="schemas of the corpus by their foreign keys alone")  # fmt: skip
    parser.add_argument("--wrong", action="store_true")
    parser.add_argument("--rows", type=int, default=60, help="0: by names alone")
    asked = parser.parse_args()
    total: dict[str, Score] = {}
    sure = Reliability()
    with tempfile.TemporaryDirectory() as name:
        told = [Mirror(each) for each in asked.names] if asked.declared else mirrors(asked.names, asked.proving)  # fmt: skip
        for mirror in told:
            try:
                scores = measure(mirror, Path(name), asked.rows, sure)
            except subprocess.CalledProcessError as error:
                print(f"{mirror.name}: not fetched: {error.stderr.decode().strip()[-200:]}")  # fmt: skip
                continue
            for line in lines(scores, asked.wrong):
                print(line, flush=True)
            for what, score in scores.items():
                total.setdefault(what, Score()).add(score)
    print("all")
    for line in (*lines(total, False), "by confidence", *sure.lines()):
        print(line)


if __name__ == "__main__":
    main()
