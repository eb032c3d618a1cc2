"""The kinds of columns: each has what the generator, the kit and the documents need."""

import ast
import unittest
from pathlib import Path

import lumet
from lumet.design.decision_schema import FieldDecisions, keys_of
from lumet.facts.dialects import SERVERS, server_of
from lumet.facts.model import Type
from lumet.generation.names import exports
from lumet.kinds import KIND_OF, KINDS, SYNONYMS, FieldSource, fitting_kind
from tests.support.builders import column

KIT = Path(lumet.__file__).parent / "kit"


def field(text: str, kind: str, server: str = "sqlite", **decided: object) -> str:
    """Return the class, arguments and validators of a field, as code."""
    decisions = FieldDecisions(kind=kind, **decided)  # type: ignore[arg-type]
    source = FieldSource(column(text), decisions, server_of(server), "X_CHOICES")
    found = fitting_kind(source)
    code = [*found.arguments(source), *found.validators(source)]
    return f"{found.field_class(source)}({', '.join(code)})"


class KindsTest(unittest.TestCase):
    def test_each_is_complete(self) -> None:
        fields, keys = exports("forms/__init__.py"), keys_of(FieldDecisions)
        for kind in KINDS:
            with self.subTest(kind.name):
                self.assertIn(kind.field, fields)
                self.assertLessEqual(set(kind.keys), set(keys))
                self.assertGreater(len(kind.meaning), 5)
        self.assertLessEqual(set(SYNONYMS.values()), set(KIND_OF))
        self.assertEqual(len({kind.name for kind in KINDS}), len(KINDS))

    def test_a_column_that_cannot_have_a_kind_gets_a_plainer_one(self) -> None:
        cases = {
            field("x INTEGER", "money"): "IntegerField()",
            field("x REAL", "money"): "FloatField()",
            field("x BLOB", "choice", choices={"a": "A"}): "OtherField()",
            field("x TEXT", "choice"): "TextField()",
            field("x INTEGER", "lookup"): "IntegerField()",
            field("x TEXT", "image"): "TextField()",
            field("x BLOB", "image"): "PictureField()",
            field("x TEXT", "image", folder="lamps"): "PictureField(folder='lamps')",
            field("x BLOB", "e-mail"): "EmailField()",
            field("x VARCHAR(6)", "colour"): "ColourField(bare=True, MaxLength(6))",
            field("x REAL", "latitude"): "DegreesField(axis='latitude', measured=True, NumberRange(-90, 90))",
            field("x TIME", "duration"): "DurationField(clock=True)",
            field("x INTEGER", "duration"): "IntegerField()",
        }  # fmt: skip
        for made, expected in cases.items():
            self.assertEqual(made, expected)

    def test_servers_choose_column_types(self) -> None:
        cases = {
            ("postgresql", Type("json", "jsonb"), "json"): "Cast.of('jsonb')",
            ("postgresql", Type("unknown", "text[]"), "multiple choice"): "Array.of('text[]')",
            ("mariadb", Type("time", "time"), "time"): "Clock",
            ("mariadb", Type("unknown", "point"), "other"): "Geometry",
            ("sqlite", Type("float", "REAL"), "decimal"): "Real",
            ("sqlite", Type("unknown", "POINT"), "other"): "",
        }  # fmt: skip
        for (name, type_, kind), expected in cases.items():
            self.assertEqual(server_of(name).column_type(type_, kind), expected)
        self.assertEqual(len({server.name for server in SERVERS}), len(SERVERS))

    def test_the_contract_is_plain_constants(self) -> None:
        tree = ast.parse((KIT / "contract.py").read_text(encoding="utf-8"))
        rest = [n for n in tree.body if not isinstance(n, ast.Assign | ast.Expr)]
        self.assertEqual(rest, [])


if __name__ == "__main__":
    unittest.main()
