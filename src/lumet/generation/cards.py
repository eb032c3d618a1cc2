"""The pages of cards, as code."""

from collections.abc import Iterator, Mapping
from urllib.parse import parse_qsl, urlencode

from lumet.design.cards import DecidedCard, DecidedPage
from lumet.design.decision_schema import AMOUNTS, CardDecisions
from lumet.facts.model import Column
from lumet.generation.layouts import CALENDAR_KINDS
from lumet.generation.model import Application
from lumet.generation.names import FIELD_NAMES, python_names
from lumet.kinds import KIND_OF
from lumet.kit.contract import LINE, MONTH, NUMBER, ROWS


def why_unfit(application: Application, card: CardDecisions) -> tuple[str, str]:
    """Return the key of a card that does not fit the decisions about its table, and what
    is wrong; "" for one that fits."""
    if not card.table:
        return "", ""
    decisions = application.decisions[card.table]
    table = application.database.table(card.table)
    if not decisions.include or "list" not in decisions.pages:
        return "table", f"{card.table} has no list in the application."
    named = [name.partition(".")[0] for name, _value in parse_qsl(card.filter) if "." in name]  # fmt: skip
    amounts = [(key, getattr(card, key)) for key in AMOUNTS if getattr(card, key)]
    named_by = [(key, [column]) for key, column in amounts]
    for key, columns in (("by", [card.by]), *named_by, ("filter", named)):
        hidden = [c for c in columns if c and decisions.field[c].hidden]
        if hidden:
            return key, f"{card.table}.{hidden[0]} is hidden."
    for key, column in amounts:
        if not _is_amount(application, card.table, column):
            return key, f"{card.table}.{column} is no number that can be added up."
    if card.kind in (NUMBER, ROWS):
        return "", ""
    column = table.column(card.by)
    if card.kind == LINE:
        good = _is_day(application, card, column)
        return ("", "") if good else ("by", f"{card.table}.{card.by} is no date.")
    kind = decisions.field[card.by].kind
    is_lookup = table.reference_of(card.by) is not None
    if is_lookup or kind in ("choice", "yes/no") or _is_day(application, card, column):
        return "", ""
    return "by", f"{card.table}.{card.by} makes no groups: it is no choice, lookup, yes/no or date."  # fmt: skip


def _is_amount(application: Application, name: str, column: str) -> bool:
    table = application.database.table(name)
    kind = KIND_OF[application.decisions[name].field[column].kind]
    is_plain = table.reference_of(column) is None and column not in table.primary_key
    return kind.is_number and kind.can_be_summed and is_plain


def _is_day(application: Application, card: CardDecisions, column: Column) -> bool:
    decided = application.decisions[card.table].field[column.name]
    return decided.kind in CALENDAR_KINDS


def fitting_cards(application: Application, page: DecidedPage) -> list[DecidedCard]:
    """Return the cards of a page; of the inferred ones those that fit what was decided
    about their tables."""
    return [
        c for c in page.cards if c.is_own or not why_unfit(application, c.decided)[0]
    ]


def card_pages_code(
    application: Application, modules: Mapping[str, str]
) -> list[tuple[str, list[str]]]:
    """Return the arguments of each page of cards, and its cards, as code; `modules` are
    the names of the tables."""
    return [
        (_page_code(page), [_card_code(application, modules, c) for c in fitting_cards(application, page)])
        for page in application.card_pages
    ]  # fmt: skip


def _page_code(page: DecidedPage) -> str:
    decided = page.decided
    parts = [f"name={page.name!r}"] if page.name else []
    label = decided.label or page.name.replace("_", " ").capitalize()
    parts += [f"label=_({label!r})"] if page.name else []
    parts += [f"group=_({decided.group!r})"] if decided.group else []
    parts += [f"icon={decided.icon!r}"] if decided.icon else []
    parts += [f"roles={decided.roles!r}"] if decided.roles else []
    return ", ".join(parts)


def _card_code(
    application: Application, modules: Mapping[str, str], card: DecidedCard
) -> str:
    return f"Card({', '.join(_card_parts(application, modules, card))})"


def _card_parts(
    application: Application, modules: Mapping[str, str], card: DecidedCard
) -> Iterator[str]:
    made = card.decided
    yield f"name={card.name!r}"
    yield f"kind={made.kind!r}"
    if made.label:
        yield f"label=_({made.label!r})"
    if made.table:
        keys = keys_in_addresses(application, made.table)
        yield f"table={modules[made.table]!r}"
        if made.filter:
            yield f"filter={_filter(made.filter, keys)!r}"
        for name in ("by", *AMOUNTS):
            if column := getattr(made, name):
                yield f"{name}={keys[column]!r}"
    if made.every and made.every != MONTH:
        yield f"every={made.every!r}"
    if made.roles:
        yield f"roles={made.roles!r}"


def keys_in_addresses(application: Application, table: str) -> dict[str, str]:
    """Return the names of a table's columns in addresses, and those of the records that
    its lookups refer to, LOOKUP.COLUMN."""
    facts = application.database.table(table)
    found = python_names([c.name for c in facts.columns], FIELD_NAMES)
    for reference in facts.references:
        referred = application.database.by_name.get(reference.referred_table)
        if referred is None or len(reference.columns) != 1:
            continue
        lookup = reference.columns[0]
        theirs = python_names([c.name for c in referred.columns], FIELD_NAMES)
        found |= {
            f"{lookup}.{c}": f"{found[lookup]}.{key}" for c, key in theirs.items()
        }
    return found


def _filter(text: str, keys: Mapping[str, str]) -> str:
    """Return the query of a list with its columns as addresses name them."""
    found = []
    for name, value in parse_qsl(text, keep_blank_values=True):
        column, dot, operator = name.rpartition(".")
        named = f"{keys.get(column, column)}.{operator}" if dot else name
        if name in ("sort", "columns", "must"):
            value = ",".join(_listed(word, keys) for word in value.split(","))
        found.append((named, value))
    return urlencode(found, safe=",.~:")


def _listed(word: str, keys: Mapping[str, str]) -> str:
    mark = "-" if word.startswith("-") else ""
    return mark + keys.get(word.removeprefix("-"), word.removeprefix("-"))
