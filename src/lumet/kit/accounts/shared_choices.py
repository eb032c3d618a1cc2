"""What an administrator chose for everybody: the columns of lists and their widths."""

from collections.abc import Mapping
from typing import Any

from sqlalchemy import delete, insert, select

from ..db.engine import Database
from .store import shared_choice


def read_shared(store: Database, name: str) -> str:
    """Return the choice for everybody, "" for none."""
    statement = select(shared_choice.c.value).where(shared_choice.c.name == name)
    with store.reading() as connection:
        return str(connection.scalar(statement) or "")


def all_shared(store: Database, beginning: str) -> Mapping[str, str]:
    """Return the choices whose names begin so, by the rest of their names."""
    names = shared_choice.c.name.startswith(beginning, autoescape=True)
    statement = select(shared_choice.c.name, shared_choice.c.value).where(names)
    rows: Any
    with store.reading() as connection:
        rows = connection.execute(statement.order_by(shared_choice.c.name)).all()
    return {row.name.removeprefix(beginning): row.value for row in rows}


def share(store: Database, name: str, value: str) -> None:
    """Make a choice that of everybody; "" forgets it."""
    with store.writing() as connection:
        connection.execute(delete(shared_choice).where(shared_choice.c.name == name))
        if value:
            connection.execute(insert(shared_choice).values(name=name, value=value))
