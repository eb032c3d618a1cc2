"""The machinery: a question has a list of rules, and the first that answers wins."""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from math import ceil, floor
from typing import Any

from lumet.evidence.model import ColumnProfile, Evidence, TableProfile
from lumet.expressions.checks import OneOf, Rule, Within, read_check
from lumet.facts.model import Column, Database, Table
from lumet.inference.labels_from_names import (
    ABBREVIATIONS,
    Glossary,
    label_from,
    split_words,
    to_singular,
)
from lumet.inference.name_similarity import Words, table_words
from lumet.inference.references import FoundKey, FoundReference

NEARLY_ALL = 0.75  # of the columns of a table that begin with one word
FEW_NUMBERS = 12  # that a check allows, of which one chooses
RULES_VERSION = 1  # recorded in survey.json; a newer Lumet changes nothing by itself


@dataclass(frozen=True, slots=True)
class Choice:
    """An answer with its reason and its confidence, from 0 to 1."""

    value: Any
    reason: str
    confidence: float = 1.0
    rule: str = ""  # the name of the rule that answered


@dataclass(slots=True)
class Subject:
    """What the rules look at: one table among all, and what was answered before.

    `answers` holds the answers to earlier questions by table and question, such as
    `("station", "singular")`, or by table, column and question. `keys` and `found` are
    the keys, by table, and the references, by table and columns, that nobody declared
    and that are used; the database has them in its facts. `shared` is the word that
    nearly all tables begin with, `glossary` a person's words for abbreviations.
    """

    database: Database
    evidence: Evidence
    table: Table
    answers: dict[tuple[str, ...], Choice] = field(default_factory=dict)
    keys: dict[str, FoundKey] = field(default_factory=dict)
    found: dict[tuple[str, tuple[str, ...]], FoundReference] = field(
        default_factory=dict
    )
    shared: str = ""
    glossary: Glossary = field(default_factory=dict)

    @property
    def words(self) -> Words:
        """The words of the table's name, without those that say nothing of it."""
        return table_words(self.table.worded, self.shared)

    @property
    def profile(self) -> TableProfile:
        return self.evidence.table(self.table.name)

    def column_profile(self, column: str) -> ColumnProfile | None:
        return self.evidence.column(self.table.name, column)

    def answer(self, *path: str) -> Any:
        """Return the value of an earlier answer about this table."""
        return self.answers[self.table.name, *path].value

    def without_own(self, words: list[str]) -> list[str]:
        """Return the words of a column without those of its table that they begin
        with, or one that nearly all columns do, unless nothing else is left: "from
        port" of `voy_from_port`."""
        own = self.words
        firsts = [split_words(each.worded)[:1] for each in self.table.columns]
        if len(words) > 1 and len(firsts) > 3 and firsts.count(words[:1]) >= NEARLY_ALL * len(firsts):  # fmt: skip
            return words[1:]
        begins = tuple(to_singular(ABBREVIATIONS.get(word, word)) for word in words)
        is_own = len(words) > len(own) and begins[: len(own)] == own
        return words[len(own) :] if is_own else words

    def label(self, words: list[str], numeric: bool = False) -> str:
        """Return the label that words of a name make."""
        return label_from(words, numeric, self.glossary)

    def about(self, table: str) -> "Subject":
        """Return the same subject seen from another table."""
        return replace(self, table=self.database.table(table))

    def check_rules(self) -> Iterator[Rule]:
        """Yield the conditions of the table's check constraints, as far as
        understood."""
        for check in self.table.checks:
            yield from read_check(check.text, self.database.dialect)

    def one_of(self, column: str) -> tuple[str, ...]:
        """Return the only values that `column` can have: of an enumeration, or by a
        check constraint."""
        declared = self.table.column(column).type
        if declared.values and declared.kind == "text":
            return declared.values  # those of a set may come together
        for rule in self.check_rules():
            if isinstance(rule, OneOf) and rule.column.casefold() == column.casefold():
                return rule.values
        return ()

    def few_numbers(self, column: str) -> tuple[str, ...]:
        """Return the whole numbers that a check allows, where they are few: 1 to 5 of
        `severity BETWEEN 1 AND 5`."""
        if self.table.column(column).type.kind != "integer":
            return ()
        bounds = [rule for rule in self.check_rules() if isinstance(rule, Within) and rule.column.casefold() == column.casefold()]  # fmt: skip
        low = max((b.lowest for b in bounds if b.lowest is not None), default=None)
        high = min((b.highest for b in bounds if b.highest is not None), default=None)
        if low is None or high is None or not 1 < high - low + 1 <= FEW_NUMBERS:
            return ()
        return tuple(str(n) for n in range(ceil(low), floor(high) + 1))

    def choices(self, column: str) -> tuple[str, ...]:
        """Return the values to choose from: the only ones there can be, else those that
        were found, in their order."""
        profile = self.column_profile(column)
        found = profile.values if profile else ()
        is_whole = self.table.column(column).type.kind == "integer"
        return self.one_of(column) or tuple(sorted(found, key=int if is_whole else str))


TableRule = Callable[[Subject], Choice | None]
ColumnRule = Callable[[Subject, Column], Choice | None]


def ask(rules: tuple[TableRule, ...], subject: Subject) -> Choice:
    """Return the first answer of `rules`; the last rule of a list always answers."""
    for rule in rules:
        choice = rule(subject)
        if choice is not None:
            return replace(choice, rule=rule.__name__)
    raise AssertionError(f"no rule answered for {subject.table.name}")


def ask_column(
    rules: tuple[ColumnRule, ...], subject: Subject, column: Column
) -> Choice | None:
    """Return the first answer of `rules` about a column, None when none has one."""
    for rule in rules:
        choice = rule(subject, column)
        if choice is not None:
            return replace(choice, rule=rule.__name__)
    return None
