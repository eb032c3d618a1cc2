"""Live serving: a change shows by itself, and what is wrong with one is said while the
last good version goes on."""

import json
import os
import re
import urllib.error
import urllib.request
from pathlib import Path
from typing import Any

from lumet.live.middleware import is_local
from tests.project.test_command import SCRIPT
from tests.support.browser import BrowserCase
from tests.support.capabilities import needs
from tests.support.projects import COMMAND, ApplicationCase


@needs("browser")
class LiveTest(BrowserCase):
    """The demo under `lumet serve`."""

    @classmethod
    def command(cls) -> list[str]:
        return [str(COMMAND), "serve", "--port", str(cls.port)]

    def edit(self, path: str, old: str, new: str) -> None:
        target = self.folder / path
        text = target.read_text()
        self.assertIn(old, text)
        target.write_text(text.replace(old, new, 1))

    def state(self) -> dict[str, Any]:
        address = f"http://127.0.0.1:{self.port}/_lumet/state"
        with urllib.request.urlopen(address) as answer:
            found: dict[str, Any] = json.load(answer)
        return found

    def test_a_change_shows_by_itself_and_a_wrong_one_is_said(self) -> None:
        self.sign_in("administrator")
        self.open("/t/inspection")
        self.page.evaluate("scrollTo(0, 300)")
        top = self.page.evaluate("scrollY")
        heading = self.page.locator("h1")
        file = "design/tables/inspection.toml"
        self.edit(file, '#~ plural = "Inspections"', 'plural = "Rounds"')
        heading.filter(has_text="Rounds").wait_for()
        self.assertEqual(self.page.evaluate("scrollY"), top)
        alert = self.page.get_by_role("alert", name="lumet serve")
        for path, old, new, said in (
            (file, 'plural = "Rounds"', 'plurals = "Tours"', f'{file}:\\d+: plurals = "Tours"'),
            ("skerry_lights/tables/light.py", "class LightForm", "clas LightForm", "skerry_lights/tables/light.py:\\d+: "),
            ("skerry_lights/tables/light.py", "light_table = ", "light_table = nothing or ", "light.py:\\d+: .*\n.*NameError"),
            ("skerry_lights/tables/light.py", 'title = "{', 'title = "{gone} {', "lights/tables/light.py:\\d+: title names gone, which is no column of light"),
            ("skerry_lights/kit/templates/list.html", "{% block work %}", "{% block work %", "templates/list.html:\\d+: "),
        ):  # fmt: skip
            self.edit(path, old, new)
            alert.filter(has_text=re.compile(said)).wait_for()
            self.assertEqual(heading.inner_text(), "Rounds", "the last good version")
            self.edit(path, new, old)
            alert.wait_for(state="detached")
        before = self.state()["version"]
        self.edit("skerry_lights/kit/templates/list.html", "{% block work %}", "{% block work %}<p>Own words</p>")  # fmt: skip
        self.page.get_by_text("Own words").wait_for()
        self.assertGreater(self.state()["version"], before)

    def test_what_was_typed_is_not_thrown_away(self) -> None:
        self.sign_in("administrator")
        self.open("/t/station/add")
        name = self.page.locator("[name=name]")
        name.fill("Half a name")
        self.edit("skerry_lights/kit/static/theme.css", "body", " body")
        again = self.page.get_by_role("button", name="Load the page again")
        again.wait_for()
        self.assertEqual(name.input_value(), "Half a name")
        again.click()
        again.wait_for(state="detached")

    def test_decisions_are_inspected_and_changed(self) -> None:
        self.sign_in("administrator")
        self.open("/t/keeper")
        self.page.get_by_role("button", name="Inspect").click()
        panel = self.page.get_by_role("complementary", name="Decisions")
        self.page.locator("th").nth(1).click()
        label = panel.get_by_label("Value of label")
        key = panel.get_by_role("heading", level=3).first.inner_text()
        self.assertRegex(key, r"^field\.\w+\.label$")
        label.fill("Own heading")
        panel.get_by_role("button", name="Preview").first.click()
        panel.get_by_text('+label = "Own heading"').wait_for()
        file = self.folder / "design/tables/keeper.toml"
        self.assertNotIn("Own heading", file.read_text(), "only shown")
        panel.get_by_role("button", name="Write").first.click()
        self.page.locator("th", has_text="Own heading").wait_for()
        self.assertIn('\nlabel = "Own heading"\n', file.read_text())
        for target, said in (
            (self.page.locator("h1"), "plural"),
            (self.page.locator('nav.side a[href="/t/light"]'), "group"),
            (self.page.locator("#add"), '"*" of role viewer: view, export'),
            (self.page.locator("tbody td").nth(1), "list.columns"),
        ):
            target.click()
            panel.get_by_text(said).first.wait_for()
            self.page.keyboard.press("Escape")
        self.page.locator("tbody td").nth(1).click()
        panel.get_by_text("(rule: columns of list)").wait_for()
        columns = self.page.get_by_role("list", name="Value of columns", exact=True)
        names = columns.get_by_role("checkbox")
        first, last = (n.get_attribute("value") for n in (names.first, names.last))
        self.page.get_by_role("button", name=f"Move {first} down").focus()
        self.page.keyboard.press("Enter")
        columns.get_by_role("checkbox", name=str(last)).check()
        part = panel.locator("section").filter(has=columns)
        part.get_by_role("button", name="Preview").click()
        written = part.get_by_text("+columns = [").inner_text()
        self.assertRegex(
            written, rf'\n\+columns = \["(?!{first}).*"{first}".*"{last}"\]'
        )
        part.get_by_role("button", name="Write").click()
        panel.wait_for(state="hidden")  # the page has loaded again
        self.assertIn(written.rpartition("\n+")[2].splitlines()[0], file.read_text())
        self.open("/t/station/r/1/edit")
        self.page.locator("label[for=field-name]").click()
        wrong = self.page.get_by_label("Value of kind, as TOML")
        part = panel.locator("section").filter(has=wrong)
        for value, said in (
            ("perhaps", "This is no value of TOML"),
            ('"moon"', "There is no kind"),
        ):
            wrong.fill(value)
            part.get_by_role("button", name="Preview").click()
            panel.get_by_text(said).wait_for()
        self.page.keyboard.press("Escape")
        self.page.keyboard.press("Escape")

    def test_forged_requests_change_nothing(self) -> None:
        before = (self.folder / "design/tables/light.toml").read_bytes()
        asked = {
            "module": "light",
            "path": ["plural"],
            "value": '"Stolen"',
            "is_sure": True,
        }
        body = json.dumps(asked).encode()
        for headers in (
            {},
            {"X-Lumet-Token": ""},
            {"X-Lumet-Token": "guess"},
            {"Origin": "http://lights.example", "Content-Type": "text/plain"},
        ):
            for name, data in (("decision", body), ("table?module=light", None)):
                address = f"http://127.0.0.1:{self.port}/_lumet/{name}"
                sent = urllib.request.Request(address, data=data, headers=headers)
                with self.assertRaises(urllib.error.HTTPError) as refused:
                    urllib.request.urlopen(sent)
                self.assertEqual(refused.exception.code, 403)
                refused.exception.close()
        self.assertEqual(
            (self.folder / "design/tables/light.toml").read_bytes(), before
        )

    def test_nobody_else_is_answered(self) -> None:
        local = {"REMOTE_ADDR": "127.0.0.1", "HTTP_HOST": "localhost:8040"}
        for change, answered in (
            ({}, True),
            ({"HTTP_HOST": "[::1]:8040", "REMOTE_ADDR": "::1"}, True),
            ({"HTTP_HOST": "lights.example"}, False),
            ({"HTTP_HOST": "127.0.0.1.lights.example"}, False),
            ({"REMOTE_ADDR": "192.0.2.7"}, False),
            ({"REMOTE_ADDR": ""}, False),
        ):
            self.assertEqual(is_local(local | change), answered, change)
        address = f"http://127.0.0.1:{self.port}/_lumet/state"
        for asked in (
            urllib.request.Request(address, headers={"Host": "lights.example"}),
            urllib.request.Request(address, data=b"x=1"),
        ):
            with self.assertRaises(urllib.error.HTTPError) as refused:
                urllib.request.urlopen(asked)
            self.assertEqual(refused.exception.code, 404)
            refused.exception.close()
        for path in Path(self.folder, "skerry_lights").rglob("*"):
            if path.suffix in (".py", ".html", ".js"):
                self.assertNotIn("_lumet/", path.read_text("utf-8"), path)


class ReadOnlyTest(ApplicationCase):
    """Where nothing can be written, whoever it is."""

    SCRIPT = SCRIPT

    @classmethod
    def create_app(cls) -> Any:
        os.environ["READ_ONLY"] = "1"
        try:
            return super().create_app()
        finally:
            del os.environ["READ_ONLY"]

    def test_nothing_can_be_written_and_every_page_says_so(self) -> None:
        signed = self.client()
        for path in ("/", "/t/station", "/t/station/r/1"):
            page = signed.get(path).text
            self.assertIn("Read-only: nothing can be changed now.", page)
            self.assertNotIn(">Add station<", page)
            self.assertNotIn('href="/t/station/r/1/edit"', page)
        for path, data in (
            ("/t/station/add", {"name": "Other"}),
            ("/t/station/r/1/edit", {"name": "Other"}),
            ("/t/station/r/1/delete", {}),
            ("/t/station/bulk", {"do-action": "delete", "chosen-row": "1", "is-sure": "1"}),
            ("/t/station/views", {"name": "Mine"}),
            ("/profile", {"language": "de"}),
        ):  # fmt: skip
            self.assertEqual(signed.post(path, data=data).status_code, 403, path)
        self.assertEqual(self.rows("SELECT id, name FROM station"), [(1, "Tern Holm")])
        database = self.app.extensions["site"].database
        with self.assertRaises(Exception) as refused, database.writing():
            pass
        self.assertEqual(type(refused.exception).__name__, "AccessDenied")
