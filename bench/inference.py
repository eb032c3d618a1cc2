"""How good and how dear inference is, on databases without any declaration.

Quality: precision and recall of references, the share of right titles, kinds and details
edited detail rows, on the labelled databases. Cost: discovery over 1,000 tables.

    python -m bench.inference [--wrong] [--cost]
"""

import random
import resource
import sqlite3
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from bench.labelled import FOLDER, LabelledTable, build, read_labelled
from bench.labelled.large import large
from lumet.project.commands import run_survey
from lumet.project.reviewing import as_json, review

Place = tuple[object, ...]


@dataclass
class Score:
    """Right ones, all that were said, all that there are, and the wrong ones in words."""

    right: int = 0
    said: int = 0
    there: int = 0
    wrong: list[str] = field(default_factory=list)

    def add(self, other: "Score") -> None:
        """Add another database's score."""
        self.right += other.right
        self.said += other.said
        self.there += other.there

    @property
    def precision(self) -> float:
        """Return the share of what was said that is right."""
        return self.right / self.said if self.said else 1.0

    @property
    def recall(self) -> float:
        """Return the share of what there is that was said."""
        return self.right / self.there if self.there else 1.0

    @property
    def f1(self) -> float:
        """Return the harmonic mean of precision and recall."""
        both = self.precision + self.recall
        return 2 * self.precision * self.recall / both if both else 0.0


def compare(said: set[Place], there: set[Place]) -> Score:
    """Compare two sets."""
    wrong = [f"+ {each}" for each in sorted(said - there, key=str)]
    wrong += [f"- {each}" for each in sorted(there - said, key=str)]
    return Score(len(said & there), len(said), len(there), wrong)


def judge(
    tables: Sequence[LabelledTable], folder: Path
) -> tuple[dict[str, Score], float]:
    """Build, survey and compare; return the scores and the seconds of the survey."""
    path = folder / "labelled.db"
    build(list(tables), path)
    began = time.perf_counter()
    run_survey(folder, str(path))
    seconds = time.perf_counter() - began
    found = as_json(review(folder))
    references: set[Place] = {
        (r["table"], *r["columns"], r["referred_table"], *r["referred_columns"])
        for r in found["references"]
        if r["used"]
    }
    wanted: set[Place] = {
        (t.name, c.name, *c.refers) for t in tables for c in t.columns if c.refers
    }
    wanted |= {
        (t.name, *ours, o, *theirs) for t in tables for ours, o, theirs in t.composites
    }
    labelled = {t.name: t for t in tables}
    titles = Score(there=len(tables))
    for title in found["titles"]:
        titles.said += 1
        if tuple(title["columns"]) in labelled[title["table"]].titles:
            titles.right += 1
        else:
            titles.wrong.append(
                f"{title['table']}: {title['columns']} ({title['reason']})"
            )
    kinds = {(k["table"], k["column"]): k["kind"] for k in found["kinds"]}
    right = Score()
    for table in tables:
        for column in table.columns:
            right.there += 1
            right.said += 1
            kind = kinds.get((table.name, column.name))
            if kind == column.kind:
                right.right += 1
            else:
                right.wrong.append(
                    f"{table.name}.{column.name}: {kind}, not {column.kind}"
                )
    placed: set[Place] = {
        (d["table"], d["detail"]) for d in found["details"] if d["edit"] == "rows"
    }
    owned: set[Place] = {(t.parent, t.name) for t in tables if t.parent}
    scores = {
        "references": compare(references, wanted),
        "titles": titles,
        "kinds": right,
        "detail rows": compare(placed, owned),
    }
    return scores, seconds


def make_wide(path: Path, tables: int, rows: int) -> None:
    """Make a database of so many tables of 12 columns, with references by name alone."""
    chance = random.Random(1)
    connection = sqlite3.connect(path)
    for number in range(tables):
        plain = ", ".join(f"c{n} VARCHAR(40)" for n in range(7))
        connection.execute(
            f"CREATE TABLE tab{number} (id INTEGER PRIMARY KEY, name VARCHAR(40), day DATE,"
            f" {plain}, tab{max(0, number - 1)}_id INTEGER, amount INTEGER)"
        )
        marks = ", ".join("?" * 12)
        connection.executemany(
            f"INSERT INTO tab{number} VALUES ({marks})",
            (
                (n, f"n{n} {number}", "2026-01-02",
                 *(f"v{chance.randint(1, 500)}" for _ in range(7)),
                 chance.randint(1, rows), chance.randint(1, rows))
                for n in range(1, rows + 1)
            ),
        )  # fmt: skip
    connection.commit()
    connection.close()


def make_long(path: Path, rows: int) -> None:
    """Make a table of so many rows beside one that it refers to by name alone."""
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute("CREATE TABLE light (id INTEGER PRIMARY KEY, name TEXT)")
    lights = ((n, f"L{n}") for n in range(1, 5001))
    connection.executemany("INSERT INTO light VALUES (?, ?)", lights)
    connection.execute(
        "CREATE TABLE reading (id INTEGER PRIMARY KEY, light_id INTEGER, taken_at TEXT, volts REAL)"
    )
    connection.execute(
        "INSERT INTO reading WITH RECURSIVE n (i) AS"
        f" (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < {rows})"
        " SELECT i, i * 7919 % 5000 + 1, '2026-01-02 03:04:05', i % 97 / 4.0 FROM n"
    )
    connection.commit()
    connection.close()


def measure_cost() -> None:
    """Print what discovery costs over many tables, and over a long one."""
    for label, make in (
        ("1,000 tables of 1,000 rows", lambda path: make_wide(path, 1000, 1000)),
        ("10,000,000 rows", lambda path: make_long(path, 10_000_000)),
    ):
        with tempfile.TemporaryDirectory() as temporary:
            path = Path(temporary) / "cost.db"
            make(path)
            began = time.perf_counter()
            report = run_survey(Path(temporary) / "project", str(path))
            seconds = time.perf_counter() - began
            found = sum(
                entry.key[-1] == "references"
                for entries in report.survey.tables.values()
                for entry in entries
            )
        peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(
            f"{label:<28} whole survey {seconds:5.1f} s (goal 30)   {found} references found"
            f"   peak memory so far {peak:.0f} MiB"
        )


def judge_all() -> Iterator[tuple[str, int, dict[str, Score], float]]:
    """Yield the name of each labelled database, its tables, its scores and the seconds."""
    databases = {p.stem: read_labelled(p) for p in sorted(FOLDER.glob("*.txt"))}
    databases["large"] = large()
    for name, tables in databases.items():
        with tempfile.TemporaryDirectory() as temporary:
            scores, seconds = judge(tables, Path(temporary))
        yield name, len(tables), scores, seconds


def main() -> None:
    """Measure, and print."""
    if "--cost" in sys.argv:
        measure_cost()
        return
    shows_wrong = "--wrong" in sys.argv
    total = {name: Score() for name in ("references", "titles", "kinds", "detail rows")}
    for name, count, scores, seconds in judge_all():
        r = scores["references"]
        print(
            f"{name:<10} {count:>4} tables   references P {r.precision:.3f} R {r.recall:.3f}"
            f" F1 {r.f1:.3f}   titles {scores['titles'].recall:.3f}   kinds"
            f" {scores['kinds'].recall:.3f}   detail rows F1 {scores['detail rows'].f1:.3f}   {seconds:.1f} s"
        )
        for what, score in scores.items():
            total[what].add(score)
            if shows_wrong:
                for text in score.wrong:
                    print(f"    {what}: {text}")
    r = total["references"]
    print(
        f"all: references P {r.precision:.3f} (goal 0.97) R {r.recall:.3f} F1 {r.f1:.3f} (goal 0.95)"
        f"   titles {total['titles'].recall:.3f} (goal 0.95)   kinds {total['kinds'].recall:.3f}"
        f" (goal 0.97)   detail rows F1 {total['detail rows'].f1:.3f}"
    )


if __name__ == "__main__":
    main()
