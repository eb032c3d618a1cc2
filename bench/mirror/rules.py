"""What each rule adds: the answers that are right with it, and without it.

    python -m bench.mirror.rules [NAME...]

Each schema is surveyed as it is, and once more without its foreign keys; what follows is
worked out anew without one rule at a time. Only what changes is printed: how many more of
the answers are right because of the rule. References are those by names alone.
"""

import argparse
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any
from unittest import mock

from bench.corpus import made, texts_of, unpacked
from bench.inference import compare
from bench.mirror import Mirror, mirrors
from bench.mirror.__main__ import (
    WHAT,
    Reliability,
    drop_references,
    found_references,
    judge,
    reviewed,
    schema_of,
    true_references,
)
from lumet.design.decision_schema import Entry
from lumet.inference import columns, engine, kinds, references, tables, titles
from lumet.project.surveyfile import Survey, read_survey

# lists of rules, of which one at a time is left out
LISTS = (
    (titles, "TITLE_RULES"), (kinds, "KIND_RULES"), (tables, "GROUP_RULES"), (tables, "PLURAL_RULES"),
    (columns, "LABEL_RULES"), (columns, "HIDDEN_RULES"), (columns, "READ_ONLY_RULES"), (columns, "AUTOMATIC_RULES"),
)  # fmt: skip
# parts of finding references, with what they say when they say nothing
PARTS: dict[str, tuple[Any, str, Callable[..., Any]]] = {
    "words taken apart": (references, "with_words_apart", lambda database, *_: database),
    "the word that all tables share": (references, "shared_word", lambda database: ""),
    "the beginning of a table's columns": (references, "shared_beginning", lambda table: ""),
    "declared references of the same name": (references, "_declared_by_name", lambda database: {}),
    "families of tables": (references, "_closeness", lambda ours, theirs: (0, 0)),
    "the table of accounts": (references, "_accounts", lambda database, words: ""),
    "logins": (references, "_is_login", lambda column: False),
    "the table that numbers itself": (references, "_to_roots", lambda best, judge: list(best.values())),
    "no copied names": (references, "_without_copies", lambda found, database: list(found)),
    "no reference back": (references, "_refers_back", lambda target, table, column: False),
    "counters are no references": (references, "_is_counter", lambda words: False),
}  # fmt: skip


class Case:
    """One schema: its mirror, and its surveys with and without foreign keys."""

    def __init__(self, mirror: Mirror, packages: Path) -> None:
        self.mirror = mirror
        schema, kind = schema_of(mirror)
        texts = texts_of(schema, kind, unpacked(schema, packages))
        with tempfile.TemporaryDirectory() as first, tempfile.TemporaryDirectory() as second:  # fmt: skip
            address = made(kind, texts, packages)
            found = reviewed(Path(first), address, schema, kind)
            self.declared = read_survey(Path(first))
            drop_references(address, kind)
            reviewed(Path(second), address, schema, kind)
            self.bare = read_survey(Path(second))
        self.wanted = true_references(mirror, found)

    def right(self) -> dict[str, float]:
        """Return how many answers are right, by what is asked; wrong references count
        against the right ones."""
        entries = engine.infer(self.declared.database, self.declared.evidence)
        scores = judge(self.mirror, _as_review(entries), Reliability())
        told: dict[str, float] = {
            what: score.right - (score.said - score.right if what == "kinds" else 0)
            for what, score in scores.items()
            if what != "junctions"
        }
        found = compare(found_references(self.mirror, _references(self.bare)), self.wanted)  # fmt: skip
        told[WHAT[0]] = found.right - (found.said - found.right)
        return told


def _as_review(inferred: dict[str, tuple[Entry, ...]]) -> dict[str, Any]:
    """Return inferred decisions as a review has them."""
    listed = [
        {"table": name, "decisions": [
            {"key": list(e.path), "value": e.value, "confidence": e.confidence} for e in entries
        ]}
        for name, entries in inferred.items()
    ]  # fmt: skip
    return {"tables": listed, "references": [], "junctions": []}


def _references(survey: Survey) -> dict[str, Any]:
    keys = references.find_keys(survey.database, survey.evidence)
    keyed = references.with_found(survey.database, keys, ())
    found = references.find_references(keyed, survey.evidence)
    listed = [
        {"table": f.table, "columns": f.columns, "referred_table": f.referred_table,
         "referred_columns": f.referred_columns, "used": f.is_used}
        for f in found
    ]  # fmt: skip
    return {"references": listed}


@contextmanager
def without(module: Any, name: str, rule: Callable[..., Any]) -> Iterator[None]:
    """Leave a rule out of its list."""
    rest = tuple(each for each in getattr(module, name) if each is not rule)
    with mock.patch.object(module, name, rest):
        yield


def total(cases: list[Case]) -> dict[str, float]:
    """Return how many answers are right in all schemas."""
    found: dict[str, float] = {}
    for case in cases:
        for what, right in case.right().items():
            found[what] = found.get(what, 0) + right
    return found


def main() -> None:
    """Measure, and print."""
    parser = argparse.ArgumentParser()
    parser.add_argument("names", nargs="*")
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as name:
        cases = [Case(each, Path(name)) for each in mirrors(asked.names, False)]
    whole = total(cases)
    print("with all rules: " + ", ".join(f"{what} {right:.0f}" for what, right in whole.items()))  # fmt: skip
    for module, name in LISTS:
        for rule in getattr(module, name)[:-1]:  # the last one answers always
            with without(module, name, rule):
                _show(rule.__name__, whole, total(cases))
    for words, (module, name, nothing) in PARTS.items():
        with mock.patch.object(module, name, nothing):
            _show(words, whole, total(cases))


def _show(rule: str, whole: dict[str, float], rest: dict[str, float]) -> None:
    added = {what: right - rest[what] for what, right in whole.items() if right != rest[what]}  # fmt: skip
    said = ", ".join(f"{what} {more:+.0f}" for what, more in added.items())
    print(f"  {rule:<40} {said or 'nothing here'}", flush=True)


if __name__ == "__main__":
    main()
