"""Settings."""

import tempfile
import unittest
from pathlib import Path

from lumet.kit.common.exceptions import CannotStart
from lumet.kit.common.settings import read_settings


class SettingsTest(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def test_settings_are_asked_for_by_name(self) -> None:
        with self.assertRaises(CannotStart) as caught:
            read_settings(self.folder, {})
        self.assertIn("DATABASE_URL and SECRET_KEY", str(caught.exception))
        (self.folder / ".env").write_text(
            "DATABASE_URL='sqlite:///a${x}.db'\nSECRET_KEY=short\n"
        )
        with self.assertRaises(CannotStart) as caught:
            read_settings(self.folder, {})
        self.assertIn("SECRET_KEY is shorter", str(caught.exception))
        found = read_settings(self.folder, {"SECRET_KEY": "s" * 40, "HTTPS": "1"})
        self.assertEqual(
            (found.database_url, found.https), ("sqlite:///a${x}.db", True)
        )
        self.assertNotIn("s" * 40, repr(found))
        former = {"SECRET_KEY": "s" * 40, "FORMER_SECRET_KEYS": "old, older"}
        self.assertEqual(
            read_settings(self.folder, former).former_keys, ("old", "older")
        )


if __name__ == "__main__":
    unittest.main()
