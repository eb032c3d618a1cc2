"""Keys and references that decisions declare, or deny, over those of the database."""

import unittest

from lumet.design.declared_keys import Declared, declarations, with_declared
from tests.support.builders import database, reference, table

LIGHT = table("light", "id INTEGER #", "station_id INTEGER", "keeper_id INTEGER", key="id",
              references=(reference("station_id station.id"), reference("keeper_id keeper.id")))  # fmt: skip
BOTH = database(LIGHT, table("station", "id INTEGER #", key="id"), table("keeper", "id INTEGER #", key="id"))  # fmt: skip


def references(**decided: object) -> dict[str, str]:
    """Return the references of light by column, with decisions about its fields."""
    values = {("field", name, "references"): value for name, value in decided.items()}
    found = with_declared(BOTH, declarations({"light": values}, BOTH)).table("light")
    return {r.columns[0]: r.referred_table for r in found.references}


class DeclaredTest(unittest.TestCase):
    def test_a_reference_of_the_database_can_be_denied_and_replaced(self) -> None:
        self.assertEqual(references(station_id=""), {"keeper_id": "keeper"})
        replaced = references(station_id="keeper.id")
        self.assertEqual(replaced, {"station_id": "keeper", "keeper_id": "keeper"})

    def test_a_declared_key_takes_the_place_of_none(self) -> None:
        found = with_declared(BOTH, (Declared("light", ("station_id", "keeper_id")),))
        self.assertEqual(found.table("light").primary_key, ("station_id", "keeper_id"))


if __name__ == "__main__":
    unittest.main()
