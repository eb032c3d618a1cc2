"""Everyone can work with the application: in windows of four widths, by keyboard alone,
with what screen readers read, on paper."""

import re
import subprocess
import sys
from pathlib import Path

from tests.support.browser import BrowserCase, expect
from tests.support.capabilities import needs
from tests.support.projects import PASSWORD, make_database, run_command
from tests.support.schemas import old_style

PAGES = (
    "/", "/t/inspection", "/t/station", "/t/station/r/5", "/t/vessel/r/TUR", "/t/station/add",
    "/t/inspection/r/5/edit", "/t/voyage/r/2/edit", "/t/station/r/5/delete", "/t/none",
    "/t/logbook_old", "/t/inspection?panel=filter&result.is=failed", "/t/inspection?panel=views",
    "/t/inspection?panel=columns", "/t/inspection?panel=sort", "/t/rounds_due?panel=out",
    "/t/inspection?layout=cards", "/t/inspection?layout=groups", "/t/inspection?layout=chart", "/t/keeper?layout=tree",
    "/t/inspection?layout=calendar&at=2026-09", "/t/voyage?layout=calendar&at=2026-05&span=week", "/t/repair?layout=board", "/t/station?layout=map", "/arrange", "/t/station/r/5/timeline",
    "/t/inspection?q=nothing-at-all", "/t/inspection/r/5/history", "/t/station/r/5/related/light.station_id",
    "/t/inspection/r/5/print", "/t/inspection/print?result.is=failed", "/users", "/roles",
    "/profile", "/log", "/uploads", "/keys",
)  # fmt: skip


@needs("browser")
class AccessibilityTest(BrowserCase):
    def test_every_kind_of_page_in_windows_of_four_widths(self) -> None:
        self.check_widths("/sign-in")
        self.sign_in()
        for path in PAGES:
            self.check_widths(path)

    def test_a_day_of_work_without_a_mouse(self) -> None:
        page = self.page
        self.sign_in()
        # find a table, filter it
        self.press("/", "insp", "Enter")
        page.wait_for_url("**/t/inspection")
        self.press("f")
        page.wait_for_url("**panel=filter*")
        page.locator("[name='inspected_on.from']").focus()
        self.press("1.1.2026", "Tab")
        from_ = page.locator("[name='inspected_on.from']")
        expect(from_).to_have_value("1 Jan 2026")
        page.get_by_role("group", name="Result").get_by_label("Failed").focus()
        self.press("Space", "Enter")
        page.wait_for_url("**result.is=failed*")
        ((count,),) = self.ask(
            "SELECT count(*) FROM inspection WHERE result = 'failed' AND inspected_on >= '2026-01-01'"
        )
        self.assertEqual(page.locator(".head .count").inner_text(), str(count))
        # the list is one stop; the record opens, is edited, and the focus comes back
        stops = self.count_stops()
        self.assertLess(stops, 60)
        page.locator("table[data-list] [tabindex='0']").focus()
        # behind the box and what opens the findings there is the title
        self.press("ArrowDown", "ArrowDown", "Home", "ArrowRight", "ArrowRight")
        title = self.focused()
        self.press("e")
        page.wait_for_url("**/edit")
        page.get_by_label("Remarks").focus()
        self.press("Seen by lamplight", "Control+s")
        page.get_by_role("status").get_by_text("Saved.").wait_for()
        page.get_by_role("heading", name=title).wait_for()
        page.get_by_role("link", name="Inspections").first.focus()
        page.go_back()
        page.go_back()
        page.wait_for_url("**result.is=failed*")
        expect(page.locator(":focus")).to_have_text(title)
        # undo the mistake by its history
        self.press("Enter")
        page.get_by_role("link", name="Restore…").first.focus()
        self.press("Enter")
        page.get_by_text("The values from before the change are filled in.").wait_for()
        self.press("Control+s")
        page.get_by_role("status").get_by_text("Saved.").wait_for()
        self.assertEqual(
            self.ask(
                "SELECT count(*) FROM inspection WHERE remarks = 'Seen by lamplight'"
            ),
            [(0,)],
        )

    def test_a_record_with_rows_is_added_and_deleted_by_keyboard(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/inspection")
        self.press("n")
        page.wait_for_url("**/t/inspection/add")
        self.assertEqual(page.locator(".ts-dropdown:visible").count(), 0)
        self.assertEqual(self.focused().split()[0], "Station")
        self.press("lowcask")
        page.locator(".ts-dropdown .option.active:visible").wait_for()
        self.press("Enter")
        page.locator("#field-inspected_on").focus()
        self.press("ArrowDown")  # the calendar
        page.locator("dialog.calendar calendar-month:focus").wait_for()
        for key in ("ArrowLeft", "PageUp"):
            day = page.locator("dialog.calendar calendar-month button:focus")
            before = day.get_attribute("aria-label") or ""
            self.press(key)  # the next day has the focus once it is drawn
            expect(day).to_have_attribute(
                "aria-label", re.compile(f"^(?!{re.escape(before)}$)")
            )
        self.press("Enter")
        page.locator("dialog.calendar").wait_for(state="detached")
        self.assertEqual(self.focused().split()[0], "Inspected")
        page.locator("#field-inspected_on").fill("+1y")
        self.press("Tab")
        expect(page.locator("#field-inspected_on")).to_have_value(
            re.compile(r" 20\d\d$")
        )
        page.locator("#field-result").select_option("failed")
        page.get_by_role("button", name="Add another finding").focus()
        self.press("Enter")
        page.locator("[name$=summary]").last.focus()
        self.press("Rope frayed by night", "Tab")
        page.locator("[name$=severity]").last.select_option("minor")
        page.locator("[name$=place]").last.select_option("access")
        page.locator("select[name=save-then]").select_option("here")
        self.press("Control+s")
        page.wait_for_url("**/edit")
        page.get_by_role("status").get_by_text("Inspection added.").wait_for()
        rows = "SELECT inspection_id FROM inspection_finding WHERE summary = 'Rope frayed by night'"
        ((number,),) = self.ask(rows)
        # where one goes after a save is remembered
        self.open("/t/inspection/add")
        self.assertEqual(page.locator("select[name=save-then]").input_value(), "here")
        self.open(f"/t/inspection/r/{number}")
        self.press("Delete")
        page.wait_for_url("**/delete")
        page.get_by_role("button", name="Delete").focus()
        self.press("Enter")
        page.get_by_text("was deleted.").wait_for()
        self.assertEqual(self.ask(rows), [])

    def test_several_records_are_selected_previewed_and_changed(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/repair?rows=25&sort=title")
        page.locator("table[data-list] tbody [tabindex='0']").focus()
        self.press("Space", "ArrowDown", "Space")
        bar = page.get_by_role("form", name="Selected records")
        bar.get_by_text("2 selected").wait_for()
        with page.expect_download() as export:
            bar.get_by_text("Export").focus()
            self.press("Enter")
            bar.get_by_role("button", name="CSV").focus()
            self.press("Enter")
        lines = Path(export.value.path()).read_text("utf-8-sig").strip().split("\n")
        self.assertEqual(len(lines), 3)
        bar.locator("summary", has_text="Edit").focus()
        self.press("Enter")
        bar.get_by_label("Field").select_option("status")
        bar.get_by_role("button", name="Edit…").focus()
        self.press("Enter")
        page.get_by_label("Status").first.wait_for()
        page.locator("[name=status]").last.check(force=True) if page.locator(
            "input[type=radio][name=status]"
        ).count() else page.locator("select[name=status]").select_option("done")
        page.get_by_role("button", name="Preview").click()
        page.get_by_text("Will be changed").wait_for()
        self.assertEqual(page.locator(".records li").count(), 2)
        self.check_accessibility()
        page.get_by_role("button", name="Change 2").focus()
        self.press("Enter")
        page.get_by_text("Changed", exact=True).wait_for()
        page.get_by_role("link", name="Back to the list").click()
        page.get_by_label("Select all on this page").check()
        bar.get_by_label("Select all that match").check()
        ((count,),) = self.ask("SELECT count(*) FROM repair WHERE deleted_at IS NULL")
        bar.get_by_text(f"{count:,} selected").wait_for()

    def test_the_focus_comes_back(self) -> None:
        page, has_focus = self.page, self.page.locator(":focus")
        self.sign_in()
        self.open("/t/inspection_finding")
        self.press("f")
        page.wait_for_url("**panel=filter*")
        self.press("Escape")
        expect(has_focus).to_have_id("open-filter")
        page.locator("tbody [tabindex='0']").focus()
        self.press("ArrowDown", "ArrowDown")
        below = page.locator("tbody a.title").nth(3).get_attribute("href")
        self.press("Delete")
        page.wait_for_url("**/delete")
        page.get_by_role("button", name="Delete").focus()
        self.press("Enter")
        page.get_by_text("was deleted.").wait_for()
        expect(has_focus).to_have_attribute("href", str(below))
        self.open("/t/light/r/9/edit")
        page.locator('a[data-add="field-lens_code"]').focus()
        self.press("Enter")
        page.locator("dialog[open] .fields").wait_for()
        self.press("Escape")
        expect(has_focus).to_have_id("field-lens_code-ts-control")
        self.open("/t/light/r/9")
        self.press("e")
        page.wait_for_url("**/edit")
        self.press("Control+s")
        page.get_by_role("status").get_by_text("Saved.").wait_for()
        expect(has_focus).to_have_id("edit")

    def test_phones_show_data_and_cover_nothing_that_has_the_focus(self) -> None:
        page = self.page
        self.sign_in()
        page.set_viewport_size({"width": 390, "height": 844})
        self.open("/t/inspection?result.is=failed")
        card = page.locator("table[data-list] tbody tr").first
        self.assertTrue(card.get_by_text("Failed").is_visible())
        self.assertLessEqual(card.bounding_box()["height"], 200)
        self.assertLessEqual(page.locator(".topbar").bounding_box()["height"], 56)
        page.get_by_role("button", name="Menu").click()
        page.get_by_role("link", name="Stations", exact=True).wait_for()
        page.keyboard.press("Escape")
        self.assertEqual(self.focused(), "Menu")
        self.open("/t/station/add")
        self.count_stops()  # looks at each whether it is covered
        self.assertEqual(
            page.locator("#field-built_year").get_attribute("inputmode"), "numeric"
        )

    def test_pages_keep_the_order_of_their_sections_and_wide_ones_use_their_room(
        self,
    ) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/station/r/5")
        boxes = [each.bounding_box() for each in page.locator(".facts > section").all()]
        places = [(box["y"], box["x"]) for box in boxes if box]
        self.assertEqual(places, sorted(places))
        columns = "table[data-list] thead th:visible"
        self.open("/t/station")
        narrow = page.locator(columns).count()
        page.set_viewport_size({"width": 1920, "height": 1080})
        self.assertGreater(page.locator(columns).count(), narrow)
        self.open("/t/station/r/5")
        facts, related = (
            page.locator(each).bounding_box() for each in (".facts", ".relations")
        )
        assert facts and related
        self.assertGreaterEqual(related["x"], facts["x"] + facts["width"])

    def test_row_actions_follow_the_rights_on_the_row(self) -> None:
        self.sign_in("warden")
        self.open("/t/station?rows=250")
        rows = self.page.locator("table[data-list] tbody tr")
        editable = rows.filter(has=self.page.locator("a[data-act=edit]")).count()
        ((own,),) = self.ask("SELECT count(*) FROM station WHERE district_code = 'NR'")
        self.assertEqual(editable, own)
        self.assertGreater(rows.count(), own)


@needs("browser")
class OldSchemaTest(BrowserCase):
    """The same on 60 tables as an old administrator makes them."""

    package = "coast"

    @property
    def database(self) -> Path:
        return self.folder / "coast.db"

    @classmethod
    def make(cls) -> None:
        cls.folder.mkdir()
        make_database(cls.folder / "coast.db", ";\n".join(old_style("sqlite")))
        for words in (["survey", "coast.db"], ["generate"]):
            run = run_command(*words, cwd=cls.folder)
            assert run.returncode == 0, run.stderr
        cls.people = {"administrator": ("ina", PASSWORD)}
        add = [
            sys.executable,
            "-m",
            cls.package,
            "user",
            "add",
            "ina",
            "--role",
            "administrator",
        ]
        subprocess.run(
            [*add, "--password-stdin"], cwd=cls.folder, input=PASSWORD, text=True,
            check=True, capture_output=True,
        )  # fmt: skip

    def test_every_kind_of_page_and_one_stop_for_60_tables(self) -> None:
        page = self.page
        self.sign_in()
        tables = page.locator(".side .tables a").evaluate_all(
            "all => all.map((each) => each.getAttribute('href'))"
        )
        self.assertGreater(len(tables), 40)
        # beside the names: numbers of records come by a request of their own
        names = page.locator(".side .tables a span")
        labels = names.all_inner_texts()
        self.assertEqual(len(labels), len(set(labels)))  # each has its own
        filter_ = page.get_by_label("Filter the menu")
        filter_.fill(labels[-1])
        shown = page.locator(".side .tables a:visible")
        expect(names.locator("visible=true").last).to_have_text(labels[-1])
        self.assertLess(shown.count(), len(labels))
        filter_.press("Escape")
        expect(shown).to_have_count(len(labels))
        for number, table in enumerate(tables[:: len(tables) // 4]):
            self.check_widths(table)
            first = page.locator("table[data-list] a.title")
            if first.count():
                record = first.first.get_attribute("href")
                self.check_widths(f"{record}/edit" if number % 2 else str(record))
                self.open(table)
                self.assertLess(self.count_stops(), 60)
            if number == 1:
                self.check_widths(f"{table}?panel=filter")
                self.check_widths(f"{table}/add")
