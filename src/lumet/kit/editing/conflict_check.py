"""Optimistic locking: digests of the values that a user saw, which come back with the
form."""

import hmac
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from sqlalchemy import (
    Connection,
    select,
)
from werkzeug.datastructures import MultiDict

from ..access.reach import UNBOUNDED
from ..common.url_keys import encode_key
from ..pages.table_context import TableContext

SEEN = "seen-"  # before a field's name: the digest of the value that the user saw
TAKE = "take-"  # before a field's name: "theirs" to take what is in the database


class ConflictCheck:
    """Finds out whether somebody else changed what a user saw."""

    def __init__(self, context: TableContext, secret: str) -> None:
        self.context = context
        self.site, self.pages, self.reach = context.site, context.pages, context.reach
        self._secret = secret.encode()

    def digest(self, connection: Connection, key: Mapping[str, Any]) -> str:
        """Return a keyed digest of all that the record with this key holds, past the
        user's reach; "" when there is none."""
        statement = select(*self.pages.table.c).where(self.pages.is_key(key))
        row = UNBOUNDED.run(connection, statement).first()
        if row is None:
            return ""
        return self._digest(key, "", "\0".join(map(repr, row)))

    def _digest(self, key: Mapping[str, Any], name: str, text: str) -> str:
        """Return a keyed digest of a field's text, so that a page can carry what the
        user saw without telling it, and nobody can make one up."""
        place = encode_key(tuple(key.values()))
        message = f"{self.pages.name}\0{place}\0{name}\0{text}".encode()
        return hmac.digest(self._secret, message, "sha256").hex()[:32]

    def is_seen(
        self, key: Mapping[str, Any], name: str, typed: MultiDict[str, str]
    ) -> bool:
        """Tell whether the input of a field equals the value that its user saw."""
        shown = self.pages.fields[name]
        text = shown.plain(shown.clean(shown.gather(typed.getlist(name))))
        return is_same(typed.get(SEEN + name, ""), self._digest(key, name, text))

    def digests(
        self,
        key: Mapping[str, Any],
        values: Mapping[str, Any],
        entered: Iterable[str],
    ) -> dict[str, str]:
        """Return the digests of what is seen in the fields `entered`, by their names in
        the form."""
        fields = self.pages.fields
        traces = {name: fields[name].trace(values[name]) for name in entered}
        return {
            SEEN + name: self._digest(key, name, text) for name, text in traces.items()
        }

    def _text(self, name: str, value: Any) -> str:
        shown = self.pages.fields[name]
        return shown.clean(shown.to_text(value))

    def compare(
        self,
        key: Mapping[str, Any],
        values: Mapping[str, Any],
        typed: MultiDict[str, str],
        entered: Sequence[str],
    ) -> tuple[MultiDict[str, str], dict[str, str]]:
        """Return the user's value of each field, and the value in the database where
        somebody else wanted something different."""
        mine = MultiDict(typed)
        conflicts: dict[str, str] = {}
        for name in entered:
            now = self._text(name, values[name])
            if name not in typed or typed.get(TAKE + name) == "theirs":
                mine[name] = now
                continue
            field_ = self.pages.fields[name]
            mine[name] = text = field_.clean(field_.gather(typed.getlist(name)))
            seen = typed.get(SEEN + name, "")
            trace = field_.trace(values[name])
            if text == now or is_same(seen, self._digest(key, name, trace)):
                continue
            if is_same(seen, self._digest(key, name, text)):
                mine[name] = now  # not touched by this user, changed by another
            else:
                conflicts[name] = self._shown(field_, values[name])
        return mine, conflicts

    def _shown(self, field_: Any, value: Any) -> str:
        if value is None:
            return "–"
        return str(field_.show(value, self.site.language))


def is_same(sent: str, digest: str) -> bool:
    """Tell whether a digest that came with a form is this one."""
    return hmac.compare_digest(sent.encode("utf-8", "replace"), digest.encode())
