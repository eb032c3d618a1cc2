"""What the README shows to copy works when it is copied."""

import re
import unittest
from pathlib import Path

from tests.support.projects import ProjectCase, run_command

README = Path(__file__).parents[2] / "README.md"
_FILE = re.compile(r"    # (design/\S+\.toml|access\.toml)\n")


def decisions() -> dict[str, str]:
    """Return the decisions that the README shows, by the files that it names."""
    found: dict[str, str] = {}
    name = ""
    for line in README.read_text(encoding="utf-8").splitlines(keepends=True):
        heading = _FILE.fullmatch(line)
        if heading:
            name = heading[1]
        elif name and (line == "\n" or re.match(r"    [^$]", line)):
            found[name] = found.get(name, "") + line.removeprefix("    ")
        else:
            name = ""
    return found


class ReadmeTest(ProjectCase):
    def test_decisions_can_be_copied(self) -> None:
        found = decisions()
        self.assertGreater(len(found), 5)
        made = run_command(
            "demo", self.folder / "lights", "--no-serve", cwd=self.folder
        )
        self.assertEqual(made.returncode, 0)
        for name, text in found.items():
            (self.folder / "lights" / name).write_text(text, encoding="utf-8")
        ran = run_command("generate", cwd=self.folder / "lights")
        self.assertEqual((ran.returncode, ran.stderr), (0, ""))

    def test_pictures_are_there_and_large_enough(self) -> None:
        shown = set(
            re.findall(r"docs/screenshots/(\w[\w-]*\.png)", README.read_text("utf-8"))
        )
        folder = README.parent / "docs" / "screenshots"
        self.assertEqual(shown, {each.name for each in folder.iterdir()})
        self.assertLess(len(shown), 20)
        for name in shown:
            head = (folder / name).read_bytes()[16:24]  # of a PNG: its width and height
            width, height = int.from_bytes(head[:4]), int.from_bytes(head[4:])
            is_large = (width, height) == (390, 844) or (
                width >= 1280 and height >= 800
            )
            self.assertTrue(is_large, f"{name}: {width}x{height}")


if __name__ == "__main__":
    unittest.main()
