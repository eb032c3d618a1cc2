"""The wheel and the source distribution: the demo runs from each, installed alone."""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

TOP = Path(__file__).parents[2]
WHERE = "import lumet, pathlib; print(pathlib.Path(lumet.__file__).parent)"
DEMO = "import sys; sys.argv = ['lumet', 'demo', 'skerries', '--no-serve']; from lumet.cli.main import run; run()"


def python(*arguments: str, cwd: Path, path: Path | None = None) -> str:
    """Run Python in a folder, with another before what is installed; return what it
    says."""
    environment = {"PYTHONPATH": str(path)} if path else {}
    ran = subprocess.run(
        [sys.executable, *arguments], cwd=cwd, env=environment,
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert ran.returncode == 0, ran.stdout + ran.stderr
    return ran.stdout


class DistributionTest(unittest.TestCase):
    def test_the_demo_runs_from_the_wheel_and_from_the_sources(self) -> None:
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        python("-m", "build", "--no-isolation", "--outdir", str(folder), ".", cwd=TOP)
        for made in (*folder.glob("*.whl"), *folder.glob("*.tar.gz")):
            with self.subTest(made.suffix):
                home = folder / made.suffix[1:]
                installed = home / "installed"
                pip = ("-m", "pip", "install", "--quiet", "--no-deps",
                       "--no-build-isolation", "--disable-pip-version-check")  # fmt: skip
                python(*pip, "--target", str(installed), str(made), cwd=folder)
                found = python("-c", WHERE, cwd=home, path=installed).strip()
                self.assertEqual(Path(found), installed / "lumet")
                python("-c", DEMO, cwd=home, path=installed)
                own = ("-m", "unittest", "tests.test_application")
                python(*own, cwd=home / "skerries", path=installed)
        self.assertEqual(len([*folder.glob("*/skerries/survey.json")]), 2)


if __name__ == "__main__":
    unittest.main()
