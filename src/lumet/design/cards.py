"""Reading the pages of cards: design/front.toml and design/pages/NAME.toml."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import parse_qsl

from lumet.design.decision_file import Checker
from lumet.design.decision_schema import (
    AMOUNTS,
    CardDecisions,
    CardPageDecisions,
    Entry,
    FrontDecisions,
    keys_of,
)
from lumet.design.toml_statements import Path
from lumet.design.value_types import Scope
from lumet.facts.model import Database, Table
from lumet.kit.contract import (
    BARS,
    FIGURES,
    LINE,
    NUMBER,
    OPERATORS,
    ROWS,
    SHARES,
)

CARDS = "cards"
_CARD = keys_of(CardDecisions)
_PAGE, _FRONT = keys_of(CardPageDecisions), keys_of(FrontDecisions)
_GROUPED = (BARS, LINE, SHARES)
_EXAMPLE = '{ kind = "bars", table = "…", by = "…" }'
OF_LIST = (
    "q",
    "sort",
    "must",
    "deleted",
    "columns",
)  # parameters of a list besides its filters


@dataclass(frozen=True, slots=True)
class DecidedCard:
    """A card by its name, and whether a person decided it."""

    name: str
    decided: CardDecisions
    is_own: bool = True


@dataclass(frozen=True, slots=True)
class DecidedPage:
    """A page of cards: its name, "" for the first, its file, and its cards in order."""

    name: str
    file: str
    decided: CardPageDecisions
    cards: Sequence[DecidedCard] = ()


def read_card_page(
    checker: Checker, name: str, database: Database, inferred: Iterable[Entry] = ()
) -> DecidedPage:
    """Return a page of cards, a person's over the inferred ones, in the order of the
    file; mistakes are reported. The first page has no `name`."""
    scope = Scope(checker, None, None)
    decided: dict[str, Any] = {}
    own: dict[str, CardDecisions | None] = {}
    keys = _PAGE if name else _FRONT
    for key, value in checker.values.items():
        if key == CARDS and isinstance(value, dict):
            own = {card: _read_card(scope, database, card, item) for card, item in value.items()}  # fmt: skip
        elif key == CARDS:
            checker.wrong((key,), f"cards is a section: write [cards] above NAME = {_EXAMPLE}.")  # fmt: skip
        elif checker.known((key,), key, (*keys, CARDS), "There is no key"):
            decided[key] = keys[key].takes.read(scope, (key,), value)
    if decided.pop("inferred", True) is False:
        inferred = ()
    machine = {e.path[1]: CardDecisions(**_known(e.value)) for e in inferred}
    found = [
        DecidedCard(card, made, card in own)
        for card in _in_order(checker, [*own, *machine])
        if (made := own[card] if card in own else machine.get(card)) is not None
    ]
    kept = {key: value for key, value in decided.items() if value is not None}
    page = CardPageDecisions(**kept)
    return DecidedPage(name, checker.file.name, page, tuple(found))


def _in_order(checker: Checker, names: Sequence[str]) -> Iterable[str]:
    """Return the names of cards in the order of the file, the machine's lines included;
    those that it lacks stand last."""
    scanned = [
        each.path[1]
        for each in checker.file.scanned
        if each.path[:1] == (CARDS,) and len(each.path) > 1
    ]
    return dict.fromkeys([*(each for each in scanned if each in names), *names])


def _known(value: Mapping[str, Any]) -> dict[str, Any]:
    return {key: item for key, item in value.items() if key in _CARD}


def _read_card(
    scope: Scope, database: Database, name: str, value: Any
) -> CardDecisions | None:
    """Return a card; None for one that is removed, or wrong."""
    checker, path = scope.checker, (CARDS, name)
    if value is False:
        return None
    before = len(checker.mistakes)
    if not isinstance(value, dict) or "kind" not in value:
        checker.wrong(
            path, f"A card is written {name} = {_EXAMPLE}; false removes one."
        )
        return None
    if not name.replace("-", "_").isidentifier() or not name.isascii():
        checker.wrong(path, f'"{name}" is not a name: use letters, digits, _ and -.')
    for key in value:
        checker.known((*path, key), key, _CARD, "A card has no key")
    read = {
        key: _CARD[key].takes.read(scope, (*path, key), item)
        for key, item in value.items()
        if key in _CARD
    }
    if len(checker.mistakes) > before:
        return None
    made = CardDecisions(**read)
    _check(checker, database, path, made)
    return made if len(checker.mistakes) == before else None


def _check(
    checker: Checker, database: Database, path: Path, made: CardDecisions
) -> None:
    """Report what a card of its kind lacks, or has in vain."""
    wanted = _keys_for(made.kind)
    for key in ("table", "filter", "by", *AMOUNTS, "every"):
        if getattr(made, key) and key not in wanted:
            checker.wrong((*path, key), f'A card of kind "{made.kind}" has no {key}.')
    if made.kind not in FIGURES:
        return
    if not made.table:
        checker.wrong(
            path, f'A card of kind "{made.kind}" needs its table: table = "…".'
        )
        return
    if not checker.known((*path, "table"), made.table, database.by_name, "There is no table"):  # fmt: skip
        return
    table = database.table(made.table)
    if made.kind in _GROUPED and not made.by:
        checker.wrong(path, f'A card of kind "{made.kind}" needs the column of its groups: by = "…".')  # fmt: skip
    if made.sum and made.average:
        checker.wrong((*path, "average"), "A card has a sum or an average, not both.")
    for key in ("by", *AMOUNTS):
        if column := getattr(made, key):
            _known_column(checker, (*path, key), table, column)
    _check_filter(checker, (*path, "filter"), table, made.filter)


def _keys_for(kind: str) -> tuple[str, ...]:
    if kind not in FIGURES:
        return ()
    found = ["table", "filter"]
    if kind not in (NUMBER, ROWS):
        found.append("by")
    if kind != ROWS:  # averages are no parts of a whole
        found += AMOUNTS[:1] if kind == SHARES else AMOUNTS
    return (*found, "every") if kind == LINE else tuple(found)


def _known_column(checker: Checker, path: Path, table: Table, column: str) -> bool:
    names = [each.name for each in table.columns]
    return checker.known(path, column, names, f"table {table.name} has no column")


def _check_filter(checker: Checker, path: Path, table: Table, text: str) -> None:
    """Report what is no filter of the table's list."""
    for name, _value in parse_qsl(text, keep_blank_values=True):
        column, dot, operator = name.rpartition(".")
        if not dot:
            checker.known(path, name, OF_LIST, "The list has no parameter")
        elif _known_column(checker, path, table, column.partition(".")[0]):
            checker.known(path, operator, OPERATORS, "There is no filter")
    if text and not parse_qsl(text):
        checker.wrong(path, 'A filter is the query of a list, such as "status.is=reported".')  # fmt: skip
