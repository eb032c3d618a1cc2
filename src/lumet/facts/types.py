"""From a database's spelling of a type to the canonical one."""

import re

from lumet.facts.model import Type, TypeKind

# SQLite keeps any spelling; the words below are those in use, the longest first.
_BY_WORD: tuple[tuple[str, TypeKind], ...] = (
    ("TIMESTAMP", "datetime"),
    ("DATETIME", "datetime"),
    ("BOOLEAN", "boolean"),
    ("BOOL", "boolean"),
    ("DATE", "date"),
    ("TIME", "time"),
    ("DECIMAL", "decimal"),
    ("NUMERIC", "decimal"),
    ("NUMBER", "decimal"),  # as tables have it that come from other servers
    ("MONEY", "decimal"),
    ("CURRENCY", "decimal"),
    ("JSON", "json"),
    ("UUID", "uuid"),
    ("GUID", "uuid"),
    # other servers' words for numbers that count themselves
    ("SERIAL", "integer"),
    ("IDENTITY", "integer"),
    ("AUTOINC", "integer"),
    ("COUNTER", "integer"),
    # SQLite's own affinity rules, in its order (sqlite.org, "Datatypes", 3.1)
    ("INT", "integer"),
    ("CHAR", "text"),
    ("CLOB", "text"),
    ("TEXT", "text"),
    ("STRING", "text"),
    ("BLOB", "binary"),
    ("BINARY", "binary"),
    ("REAL", "float"),
    ("FLOA", "float"),
    ("DOUB", "float"),
)
MOST_DIGITS = 18  # of a whole number of 64 bits, whatever they are
_SIZES = re.compile(r"\(\s*(\d+)\s*(?:,\s*(\d+)\s*)?\)")


def canonical_sqlite_type(native: str) -> Type:
    """Return the canonical type of a SQLite column declared as `native`.

    A type nobody knows becomes `unknown`, which is shown and never edited. A column
    without a type takes anything and is treated as text, as its users do.
    """
    upper = native.upper().strip()
    if not upper:
        return Type("text", native)
    known = (kind for word, kind in _BY_WORD if word in upper)
    kind: TypeKind = next(known, "unknown")
    sizes = _SIZES.search(upper)
    first = int(sizes[1]) if sizes else None
    second = int(sizes[2]) if sizes and sizes[2] else None
    if kind == "text":
        return Type(kind, native, length=first)
    if kind == "decimal":
        scale = second if second is not None else (0 if first else None)
        if scale == 0 and first and first <= MOST_DIGITS and "NUMBER" in upper:
            return Type("integer", native)  # such as NUMBER(4)
        return Type(kind, native, precision=first, scale=scale)
    return Type(kind, native)
