"""What kit/EXTENDING.md shows to copy works when it is copied, and so does what
`lumet customise` writes."""

import importlib
import re
import subprocess
import sys
from pathlib import Path
from typing import Any

from tests.support.projects import PASSWORD, ProjectCase, read_form, run_command

GUIDE = Path(__file__).parents[2] / "src/lumet/kit/EXTENDING.md"
_EXAMPLE = re.compile(r"^```\w+ (custom/\S+)\n(.*?)^```$", re.MULTILINE | re.DOTALL)


class ExtendingTest(ProjectCase):
    """The demo with the examples of the guide in it."""

    def setUp(self) -> None:
        super().setUp()
        made = run_command("demo", self.folder, "--no-serve", cwd=self.folder.parent)
        self.assertEqual(made.returncode, 0, made.stderr)
        self.package = self.folder / "skerry_lights"

    def run_tool(self, *words: str) -> None:
        ran = subprocess.run([sys.executable, "-m", *words], cwd=self.folder, capture_output=True, text=True, check=False)  # fmt: skip
        self.assertEqual(ran.returncode, 0, ran.stdout + ran.stderr)

    def client(self) -> Any:
        """Return a client of the application that has signed in."""
        sys.path.insert(0, str(self.folder))
        self.addCleanup(sys.path.remove, str(self.folder))
        self.addCleanup(self.forget)
        importlib.invalidate_caches()
        module = importlib.import_module("skerry_lights")
        settings = importlib.import_module("skerry_lights.kit.common.settings")
        app = module.create_app(settings.read_settings(self.folder))
        app.config["WTF_CSRF_ENABLED"] = False
        app.extensions["users"].add("ola", PASSWORD, ["administrator"])
        client = app.test_client()
        client.post("/sign-in", data={"name": "ola", "password": PASSWORD})
        return client

    def forget(self) -> None:
        for name in [n for n in sys.modules if n.split(".")[0] == "skerry_lights"]:
            del sys.modules[name]

    def test_the_examples_of_the_guide_and_first_modules(self) -> None:
        examples = dict(_EXAMPLE.findall(GUIDE.read_text("utf-8")))
        self.assertGreater(len(examples), 5)
        for name, text in examples.items():
            path = self.package / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, "utf-8")
        self.write_stubs()
        for words in (("ruff", "check", "."), ("ruff", "format", "--check", "."), ("mypy",)):  # fmt: skip
            self.run_tool(*words)
        self.run_tool("unittest", "tests.test_vessel", "tests.test_light")
        client = self.client()
        self.assertIn("Days", client.get("/t/repair?columns=days,status").text)
        listed = client.get("/t/repair?status.is=reported").text
        address = re.findall(r'href="(/t/repair/r/\d+)"', listed)[0]
        self.assertIn("Wipe the lens.", client.get(address).text)
        form = read_form(client.get(f"{address}/edit").text)
        refused = client.post(
            f"{address}/edit", data=form | {"status": "done", "done_on": ""}
        )
        self.assertIn("Enter the day on which it was done.", refused.text)
        before = client.post("/t/repair/action/count_open", follow_redirects=True).text
        done = client.post(f"{address}/action/finish", follow_redirects=True).text
        self.assertIn("The repair is done.", done)
        outbox = client.get("/outbox").text
        self.assertIn("duty@skerry.example", outbox)
        self.assertIn("MAINTENANCE", outbox)
        again = client.post("/t/repair/action/count_open", follow_redirects=True).text
        counts = [
            int(re.findall(r"(\d+) repairs are open", page)[0])
            for page in (before, again)
        ]
        self.assertEqual(counts[0] - counts[1], 1)
        client.post(f"{address}/action/note", data={"text": "A spare lens."})
        self.assertIn("A spare lens.", client.get(address).text)
        self.assertIn("is kept", client.post(f"{address}/delete").text)
        self.assertIn('autocomplete="off"', client.get("/t/keeper/r/1/edit").text)
        report = client.get("/reports/long-range").text
        self.assertIn("Seen from 15 nm", report)
        self.assertIn('aria-current="page"><span>Long range', report)
        self.assertIn("/own/v-", report)

    def write_stubs(self) -> None:
        """Begin with own code for some tables more."""
        for table in ("vessel", "light", "rounds_due"):
            ran = run_command("customise", table, cwd=self.folder)
            self.assertEqual(ran.returncode, 0, ran.stderr)
            self.assertIn(f"skerry_lights/custom/{table}.py", ran.stdout)
        again = run_command("customise", "vessel", cwd=self.folder)
        self.assertEqual(again.returncode, 2)
        self.assertIn("custom/vessel.py is there already", again.stderr)
        unknown = run_command("customise", "vesel", cwd=self.folder)
        self.assertIn("Nearest: vessel.", unknown.stderr)
        stub = (self.package / "custom/light.py").read_text()
        self.assertIn("range_nm", stub)
        ran = run_command("generate", cwd=self.folder)
        self.assertNotIn("written", ran.stdout)
