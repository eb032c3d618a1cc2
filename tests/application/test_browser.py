"""The demo's application in a real browser, used as a person uses it."""

import re
from datetime import date, timedelta
from typing import Any

from tests.support.browser import BrowserCase, expect
from tests.support.capabilities import needs
from tests.support.projects import make_database


@needs("browser")
class BrowserTest(BrowserCase):
    def test_sign_in_list_open_edit_save_and_delete(self) -> None:
        page = self.page
        self.sign_in()
        page.get_by_role("link", name="Stations", exact=True).first.click()
        page.get_by_role("link", name="Station", exact=True).click()
        page.wait_for_url("**/t/station?sort=-record-title")
        first = page.locator("table.rows tbody tr td a").first
        title = first.inner_text()
        first.click()
        page.get_by_role("heading", name=title, exact=True).wait_for()
        page.get_by_role("link", name="Edit", exact=True).click()
        page.get_by_label("Name Required").fill("Grey Lantern Rock")
        page.get_by_role("group", name="State").get_by_label("Dim").check(force=True)
        page.get_by_role("group", name="Automated").get_by_label("Yes").check(
            force=True
        )
        page.keyboard.press("Control+s")
        page.get_by_role("status").get_by_text("Saved.").wait_for()
        page.get_by_role("heading", name="Grey Lantern Rock").wait_for()
        found = self.ask(
            "SELECT name, state, is_automated FROM station WHERE name LIKE 'Grey Lantern%'"
        )
        self.assertEqual(found, [("Grey Lantern Rock", "dim", 1)])
        page.get_by_role("link", name="Delete…").click()
        page.get_by_text("Prevents deletion", exact=True).wait_for()
        self.assertEqual(page.get_by_role("button", name="Delete").count(), 0)

    def tab_through(self, selector: str) -> None:
        """Pass through a form by Tab and back: nothing may change, and both ways end."""
        held = (
            f"JSON.stringify([...new FormData(document.querySelector('{selector}'))])"
        )
        inside = (
            f"document.querySelector('{selector}').contains(document.activeElement)"
        )
        before = self.page.evaluate(held)
        self.page.locator(f"{selector} :is(input:not([type=hidden]), textarea, button)").first.focus()  # fmt: skip
        for key in ("Tab", "Shift+Tab"):
            for _number in range(400):
                self.page.keyboard.press(key)
                if not self.page.evaluate(inside):
                    break
            else:
                self.fail(f"{key} does not leave {self.page.url}")
            self.assertEqual(self.page.evaluate(held), before, (key, self.page.url))
            if key == "Tab":
                self.page.keyboard.press("Shift+Tab")

    def test_tab_passes_through_and_changes_nothing(self) -> None:
        self.sign_in()
        links = self.page.locator(".side .tables a").evaluate_all(
            "all => all.map(each => each.getAttribute('href'))"
        )
        for number, address in enumerate(links):
            self.open(f"{address}?panel=filter")
            if number % 4 == 0:
                self.tab_through("form.panel")
            if self.page.locator(".acts a.main").count():
                self.open(f"{address}/add")
                self.tab_through("form[data-record]")
                self.open(address)
            first = self.page.locator("table.rows tbody a.title")
            if number % 4 == 1 and first.count():
                self.open(f"{first.first.get_attribute('href')}/edit")
                if self.page.locator("form[data-record]").count():
                    self.tab_through("form[data-record]")

    def test_what_has_the_focus_shows_it(self) -> None:
        self.sign_in()
        looks = """() => { const s = getComputedStyle(document.activeElement);
            return [s.outlineStyle, parseFloat(s.outlineWidth), s.outlineColor]; }"""
        for address in ("/t/station", "/t/station/add", "/t/station/r/1/delete", "/profile"):  # fmt: skip
            self.open(address)
            for button in self.page.locator("main .btn:visible").all():
                if button.evaluate("each => each.tabIndex < 0 || each.ariaDisabled"):
                    continue
                button.focus()
                self.page.keyboard.press("Shift+Tab")
                self.page.keyboard.press("Tab")
                style, width, colour = self.page.evaluate(looks)
                self.assertEqual((style, width >= 2), ("solid", True), address)
                self.assertEqual(colour, "rgb(122, 82, 0)")

    def test_a_record_is_added_beneath_its_parent_and_deleted(self) -> None:
        page = self.page
        self.sign_in("editor")
        self.open("/t/inspection/r/7")
        count = self.ask(
            "SELECT count(*) FROM inspection_finding WHERE inspection_id = 7"
        )[0][0]
        page.get_by_role("link", name="Add finding").click()
        page.get_by_label("Line number Required").fill("ninety")
        page.get_by_role("button", name="Save", exact=True).click()
        focused = "document.activeElement.name"
        self.assertEqual(page.evaluate(focused), "summary")  # the browser asks first
        page.get_by_label("Summary Required").fill("Bell rope frayed")
        page.get_by_role("group", name="Severity").get_by_label("Minor").check(
            force=True
        )
        place = page.get_by_label("Place Required")
        place.select_option("access")
        page.get_by_role("button", name="Save", exact=True).click()
        page.get_by_text("Correct 1 entry.").wait_for()
        self.assertEqual(page.evaluate(focused), "line_no")
        self.assertEqual(place.input_value(), "access")
        page.get_by_label("Line number Required").fill("89")
        page.keyboard.press("ArrowUp")
        page.get_by_role("button", name="Save", exact=True).click()
        page.get_by_text("Finding added.").wait_for()
        self.assertTrue(page.url.endswith("/t/inspection/r/7"), page.url)
        rows = "SELECT summary, place FROM inspection_finding WHERE inspection_id = 7 AND line_no = 90"
        self.assertEqual(self.ask(rows), [("Bell rope frayed", "access")])
        page.get_by_role("link", name="Bell rope frayed").first.click()
        page.get_by_role("link", name="Delete…").click()
        page.get_by_role("button", name="Delete").click()
        page.get_by_text("was deleted.").wait_for()
        self.assertEqual(self.ask(rows), [])
        self.assertEqual(
            count,
            self.ask("SELECT count(*) FROM inspection_finding WHERE inspection_id = 7")[
                0
            ][0],
        )

    def test_a_reference_is_chosen_by_typing_part_of_its_name(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/inspection/r/11/edit")
        wanted = self.ask("SELECT id, name FROM station WHERE id = 200")[0]
        self.open_choices("station_id")
        page.keyboard.type(wanted[1][:-2].lower())
        page.locator(".ts-dropdown .option.active", has_text=wanted[1]).first.wait_for()
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Save", exact=True).click()
        page.get_by_role(
            "heading", name=re.compile("^" + re.escape(wanted[1]))
        ).wait_for()
        self.assertEqual(
            self.ask("SELECT station_id FROM inspection WHERE id = 11"), [(200,)]
        )

    def test_an_answer_that_another_overtook_hides_no_choice(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/inspection/r/12/edit")
        (name,) = self.ask("SELECT name FROM station WHERE id = 199")[0]
        held: list[Any] = []
        page.route(
            "**/choices/**",
            lambda route: route.continue_() if held else held.append(route),
        )
        self.open_choices("station_id")
        with page.expect_request("**/choices/**"):
            page.keyboard.type(name[:-3])
        with page.expect_event("requestfailed"):
            page.keyboard.type(name[-3:])
        held[0].abort()
        page.locator(".ts-dropdown .option.active", has_text=name).first.wait_for()

    def test_it_works_without_javascript(self) -> None:
        context = self.browser.new_context(java_script_enabled=False)
        self.addCleanup(context.close)
        self.page = context.new_page()
        self.sign_in("editor")
        self.open("/t/light/r/3/edit")
        self.page.get_by_label("Colour Required").or_(
            self.page.get_by_label("Colour")
        ).first.wait_for()
        self.page.locator("#field-range_nm").fill("21.5")
        self.page.get_by_role("button", name="Save", exact=True).click()
        self.page.get_by_text("Saved.").wait_for()
        self.assertEqual(self.ask("SELECT range_nm FROM light WHERE id = 3"), [(21.5,)])

    def test_a_list_is_filtered_sorted_arranged_and_kept(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/inspection")
        page.get_by_role("link", name="Filter…").click()
        page.get_by_role("group", name="Result").get_by_label("Failed").check()
        page.get_by_label("Inspected on in").select_option("last-year")
        page.get_by_role("button", name="Apply").click()
        page.get_by_role("link", name="Remove filter: Result Failed").wait_for()
        (count,) = self.ask(
            "SELECT count(*) FROM inspection WHERE result = 'failed'"
            " AND strftime('%Y', inspected_on) + 1 = strftime('%Y', 'now') + 0"
        )[0]
        self.assertEqual(page.locator(".head .count").inner_text(), str(count))
        page.get_by_role("link", name="Cost, €").click()
        page.get_by_role("columnheader", name="Cost, €").and_(
            page.locator("[aria-sort=ascending]")
        ).wait_for()
        page.get_by_text("Columns", exact=True).click()
        page.get_by_label("Remarks", exact=True).check()
        page.get_by_role("button", name="Apply", exact=True).click()
        page.get_by_role("columnheader", name="Remarks").wait_for()
        page.get_by_role("link", name="Views", exact=True).click()
        page.get_by_label("Save the current view as").fill("Dear failures")
        page.get_by_role("button", name="Save view").click()
        page.get_by_text('View "Dear failures" saved.').wait_for()
        page.get_by_role("link", name="Remove filter: Result Failed").click()
        page.get_by_role("link", name="Views", exact=True).click()
        page.get_by_role("link", name="Dear failures").click()
        page.get_by_role("link", name="Remove filter: Result Failed").wait_for()
        page.get_by_role("link", name="Chart").click()
        page.locator("canvas[data-chart]").wait_for()
        self.check_accessibility()
        self.page.set_viewport_size({"width": 390, "height": 800})
        width = page.evaluate("document.documentElement.scrollWidth")
        self.assertLessEqual(width, 390)

    def test_a_list_is_edited_in_its_place_by_keyboard(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/repair?sort=title")
        first, second = (page.locator("tbody tr").nth(n) for n in (0, 1))
        (key,) = re.findall(r"/r/(\d+)", first.inner_html())[:1]
        cost = first.locator("td").nth(4)
        was = cost.inner_text()
        page.locator("tbody [tabindex='0']").focus()  # the title, then cell by cell
        for _cell in range(4):
            page.keyboard.press("ArrowRight")
        page.keyboard.press("Enter")
        cost.locator("form.in-place input.number").wait_for()
        page.keyboard.type("12x")
        page.keyboard.press("Enter")
        cost.locator(".said").wait_for()
        self.check_accessibility()
        page.keyboard.press("Escape")
        self.assertEqual(cost.inner_text(), was)
        page.keyboard.press("Enter")
        cost.locator("form.in-place input.number").wait_for()
        page.keyboard.type("345.6")
        page.keyboard.press("Enter")
        second.locator("td:focus").wait_for()
        self.assertEqual(cost.inner_text(), "345.60")
        query = f"SELECT labour_eur FROM repair WHERE id = {key}"
        self.assertEqual(self.ask(query), [(345.6,)])
        page.set_viewport_size({"width": 390, "height": 800})
        second.locator("td:focus").press("Enter")
        second.locator("form.in-place").wait_for()
        width = page.evaluate("document.documentElement.scrollWidth")
        self.assertLessEqual(width, 390)

    def tab_to(self, name: str) -> None:
        """Go on with the Tab key to the control of a field."""
        inside = (
            "document.activeElement.name === name ||"
            " document.activeElement.closest('.ts-wrapper')?.previousElementSibling?.name === name"
        )
        for _step in range(12):
            self.page.keyboard.press("Tab")
            if self.page.evaluate(f"name => Boolean({inside})", name):
                return
        self.fail(f"Tab does not come to {name}")

    def test_a_whole_form_is_filled_by_keyboard_alone(self) -> None:
        page, keys = self.page, self.page.keyboard
        self.sign_in("editor")
        self.open("/t/inspection/add")
        page.locator(
            "#field-station_id + .ts-wrapper.focus"
        ).wait_for()  # the first field
        (name,) = self.ask("SELECT name FROM station WHERE id = 60")[0]
        keys.type(name)
        page.locator(".ts-dropdown .option.active", has_text=name).wait_for()
        keys.press("Enter")
        self.tab_to("inspected_on")
        keys.type("28.2.2031")  # in one of the ways that a date is written
        self.tab_to("result")
        keys.type("Fail")
        self.tab_to("visibility_pct")
        keys.type("99")
        for _step in range(3):
            keys.press("ArrowUp")  # not above 100
        self.tab_to("cost_eur")
        keys.type("1,234.5")
        self.tab_to("remarks")
        keys.type("Swell")
        keys.press("Enter")
        keys.type("over 2 m")
        keys.press("Control+s")
        page.get_by_text("Inspection added.").wait_for()
        found = self.ask(
            "SELECT station_id, result, visibility_pct, cost_eur, remarks FROM inspection"
            " WHERE inspected_on = '2031-02-28'"
        )
        self.assertEqual(found, [(60, "failed", 100, 1234.5, "Swell\nover 2 m")])

    def test_what_is_missing_is_added_in_a_dialog_and_chosen(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/light/r/9/edit")
        page.locator('a[data-add="field-lens_code"]').click()
        dialog = page.locator("dialog[open]")
        dialog.get_by_label("Name Required").fill("Sixth order, tiny")
        self.check_accessibility()
        dialog.get_by_role("button", name="Save", exact=True).click()
        self.assertTrue(dialog.is_visible())  # the browser asks for what is needed
        dialog.get_by_label("Code Required").fill("L6T")
        dialog.get_by_label("Focal").fill("20")
        dialog.get_by_role("button", name="Save", exact=True).click()
        dialog.get_by_text("Enter a value between 50 and 2000 mm.").first.wait_for()
        dialog.get_by_label("Focal").fill("75")
        dialog.get_by_role("button", name="Save", exact=True).click()
        dialog.wait_for(state="detached")
        page.get_by_role("button", name="Save", exact=True).click()
        page.get_by_text("Saved.").wait_for()
        self.assertEqual(
            self.ask("SELECT lens_code FROM light WHERE id = 9"), [("L6T",)]
        )

    def test_an_inspection_is_saved_with_its_findings(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/inspection/add")
        page.locator("#field-station_id + .ts-wrapper.focus").wait_for()
        (name,) = self.ask("SELECT name FROM station WHERE id = 61")[0]
        page.keyboard.type(name)
        page.locator(".ts-dropdown .option.active", has_text=name).wait_for()
        page.keyboard.press("Enter")
        page.get_by_label("Inspected on Required").fill("2031-03-01")
        page.get_by_label("Result Required").select_option("failed")
        for number, words in enumerate(("Rail loose", "Lens cracked", "Door stuck")):
            if number:
                page.get_by_role("button", name="Add another finding").click()
            row = page.locator("table[data-rows] tbody tr").nth(number)
            row.get_by_label("Summary").fill(words)
            row.get_by_label("Severity").select_option("minor")
            row.get_by_label("Place").select_option("lens")
        self.check_accessibility()
        page.get_by_role("button", name="Save", exact=True).click()
        page.get_by_text("Inspection added.").wait_for()
        query = (
            "SELECT line_no, summary, severity FROM inspection_finding f JOIN inspection i"
            " ON i.id = f.inspection_id WHERE i.inspected_on = '2031-03-01' ORDER BY line_no"
        )
        self.assertEqual(
            self.ask(query),
            [
                (1, "Rail loose", "minor"),
                (2, "Lens cracked", "minor"),
                (3, "Door stuck", "minor"),
            ],
        )
        page.get_by_role("link", name="Edit", exact=True).click()
        rows = page.locator("table[data-rows] tbody tr")
        rows.nth(1).get_by_label("Severity").select_option("severe")
        rows.nth(2).get_by_label("Remove row").check()
        page.set_viewport_size({"width": 390, "height": 800})
        width = page.evaluate("document.documentElement.scrollWidth")
        self.assertLessEqual(width, 390)
        page.get_by_role("button", name="Save", exact=True).click()
        page.get_by_text("Saved.").wait_for()
        self.assertEqual(
            self.ask(query), [(1, "Rail loose", "minor"), (2, "Lens cracked", "severe")]
        )

    def test_stops_are_moved_and_added_up_and_lights_are_chosen(self) -> None:
        page = self.page
        self.sign_in()
        query = (
            "SELECT station_id FROM voyage_stop WHERE voyage_id = 2 ORDER BY stop_no"
        )
        before = [station for (station,) in self.ask(query)]
        self.open("/t/voyage/r/2/edit")
        rows = page.locator("table[data-rows] tbody tr")
        total = page.locator("tfoot [data-total]")
        for number, cargo in enumerate(("540", "0", "1,220")):
            rows.nth(number).get_by_label("Cargo").fill(cargo)
        self.assertEqual(total.inner_text(), "1,760\u00a0kg")
        rows.nth(2).get_by_label("Cargo").fill("20")
        rows.nth(0).get_by_label("Cargo").press("Alt+ArrowDown")
        self.assertEqual(rows.nth(1).get_by_label("Stop number").input_value(), "2")
        rows.nth(2).get_by_label("Move up").click()
        self.assertEqual(total.inner_text(), "560\u00a0kg")
        rows.nth(1).get_by_label("Remove row").check()
        self.assertEqual(total.inner_text(), "540\u00a0kg")
        rows.nth(1).get_by_label("Remove row").uncheck()
        self.check_accessibility()
        page.get_by_role("button", name="Save", exact=True).click()
        page.get_by_text("Saved.").wait_for()
        after = [station for (station,) in self.ask(query)]
        self.assertEqual(after, [before[1], before[2], before[0]])
        self.open("/t/vessel/r/TUR/edit")
        held = "SELECT count(*) FROM light_tender WHERE vessel_code = 'TUR'"
        ((many,),) = self.ask(held)
        chips = page.locator(".in-rows .ts-control .item")
        self.assertEqual(chips.count(), many)
        chips.first.get_by_role("button").click()
        page.locator(".in-rows .ts-control input").click()
        page.keyboard.type("anvil")
        page.locator(".ts-dropdown .option.active", has_text="Anvil").wait_for()
        page.keyboard.press("Enter")
        page.keyboard.press("Escape")
        self.check_accessibility()
        self.assertEqual(chips.count(), many)
        page.get_by_role("button", name="Save", exact=True).click()
        page.get_by_text("Saved.").wait_for()
        self.assertEqual(self.ask(held), [(many,)])

    def test_a_tree_opens_and_blocks_come_when_they_are_seen(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/keeper?layout=tree")
        query = (
            "SELECT id, first_name, last_name FROM keeper k WHERE supervisor_id IS NULL"
        )
        below = " AND EXISTS (SELECT 1 FROM keeper b WHERE b.supervisor_id = k.id)"
        number, *names = self.ask(f"{query}{below} LIMIT 1")[0]
        name = " ".join(names)
        ((many,),) = self.ask(
            f"SELECT count(*) FROM keeper WHERE supervisor_id = {number}"
        )
        page.get_by_label(f"Open {name}").click()
        page.locator("tr.level-1").nth(many - 1).wait_for()
        self.check_accessibility()
        page.get_by_label(f"Open {name}").click()
        self.assertEqual(page.locator("tr.level-1").count(), 0)
        self.open(f"/t/keeper/r/{number}")
        late = page.locator("section[data-block]").last
        self.assertEqual(late.get_by_text("No changes have been recorded.").count(), 0)
        late.scroll_into_view_if_needed()
        late.get_by_text("No changes have been recorded.").wait_for()
        self.check_accessibility()

    def test_choices_follow_and_more_come_while_scrolling(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/inspection/add")
        page.locator("#field-station_id + .ts-wrapper.focus").wait_for()
        page.keyboard.type("e")
        page.locator(".ts-dropdown .option").nth(19).wait_for()
        with page.expect_response("**/choices/station_id?find-what=e&skip-first=20*"):
            page.locator(".ts-dropdown-content").first.evaluate(
                "box => { box.scrollTop = box.scrollHeight }"
            )
        page.locator(".ts-dropdown .option").nth(30).wait_for()

    def test_the_menu_finds_tables_and_keys_work(self) -> None:
        page = self.page
        self.sign_in("viewer")
        page.keyboard.press("/")
        page.keyboard.type("lens")
        first = page.locator("dialog .found a").first
        expect(first).to_have_attribute("href", "/t/lens_type")
        self.check_accessibility()
        page.keyboard.press("Enter")
        page.get_by_role("heading", name="Lens types").wait_for()
        self.assertEqual(page.get_by_role("link", name="Add lens type").count(), 0)
        # records by their titles, reached by arrow keys; Escape leads back
        page.locator("table[data-list] [tabindex='0']").focus()
        before = self.focused()
        self.press("Control+k", "far ness")
        ness = page.locator("dialog .found a", has_text="Farne Ness").first
        ness.wait_for()
        self.press("ArrowDown", "ArrowDown", "ArrowUp")
        self.assertEqual(page.evaluate("document.activeElement.className"), "")
        self.press("Escape")
        self.assertEqual(self.focused(), before)
        self.press("/", "far ness", "Enter")  # faster than the answer
        page.wait_for_url("**/t/station/r/*")
        page.get_by_role("heading", name="Farne Ness", exact=True).wait_for()
        # a group that was folded by keyboard is folded on the next page
        head = page.locator("summary", has_text="Overviews")
        head.focus()
        with page.expect_response("**/menu"):
            self.press("ArrowLeft")
        page.reload()
        expect(page.locator("details:not([open]) summary")).to_have_text("Overviews")
        page.set_viewport_size({"width": 390, "height": 844})
        page.locator(".find-button").click()
        page.keyboard.type("vess")
        expect(first).to_have_attribute("href", "/t/vessel")
        width = page.evaluate("document.documentElement.scrollWidth")
        self.assertLessEqual(width, 390)
        page.set_viewport_size({"width": 1280, "height": 800})

    def test_entries_are_moved_by_pointer_and_by_keyboard(self) -> None:
        page = self.page
        self.sign_in("editor")
        first = "SELECT left_on, returned_on FROM voyage WHERE id = ?"
        self.open("/t/voyage?layout=calendar&at=2026-05")
        entry = page.locator("[data-move]:not([data-tail])").nth(2)
        address = str(entry.get_attribute("href"))
        number = address.rpartition("/")[2]
        ((begins, ends),) = self.ask(first.replace("?", number))
        entry.focus()
        with page.expect_navigation():
            self.press("Alt+ArrowRight")
        later = [
            str(date.fromisoformat(day) + timedelta(days=1)) for day in (begins, ends)
        ]
        self.assertEqual(list(self.ask(first.replace("?", number))[0]), later)
        moved = page.locator(f"a[href='{address}']:not([data-tail])").first
        expect(moved).to_be_focused()
        # by pointer, a week later
        target = page.locator(
            f"[data-target='{date.fromisoformat(later[0]) + timedelta(days=7)}']"
        )
        with page.expect_navigation():
            moved.drag_to(target)
        week = [str(date.fromisoformat(day) + timedelta(days=7)) for day in later]
        self.assertEqual(list(self.ask(first.replace("?", number))[0]), week)
        # what another changed meanwhile is not moved, and the page says so
        make_database(
            self.database,
            f"UPDATE voyage SET returned_on = left_on WHERE id = {number}",
        )
        page.locator(f"a[href='{address}']:not([data-tail])").first.focus()
        self.press("Alt+ArrowLeft")
        expect(page.get_by_role("alert")).to_contain_text(
            "Another user changed this record"
        )
        self.assertEqual(self.ask(first.replace("?", number)), [(week[0], week[0])])
        # a card, to the next column and back
        self.open("/t/repair?layout=board")
        card = page.locator("[data-name=Reported] [data-move]").first
        number = str(card.get_attribute("href")).rpartition("/")[2]
        status = f"SELECT status FROM repair WHERE id = {number}"
        card.focus()
        with page.expect_navigation():
            self.press("Alt+ArrowRight")
        self.assertEqual(self.ask(status), [("planned",)])
        card = page.locator("[data-name=Planned] [data-move]:focus")
        with page.expect_navigation():
            card.drag_to(page.locator("[data-name=Reported] header"))
        self.assertEqual(self.ask(status), [("reported",)])

    def test_entries_are_moved_by_touch(self) -> None:
        context = self.browser.new_context(
            viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True
        )
        self.addCleanup(context.close)
        self.page = page = context.new_page()
        device = context.new_cdp_session(page)

        def touch(kind: str, *at: float) -> None:
            points = [{"x": at[0], "y": at[1]}] if at else []
            device.send(
                "Input.dispatchTouchEvent", {"type": kind, "touchPoints": points}
            )

        self.sign_in("editor")
        self.open("/t/repair?layout=board")
        card = page.locator("[data-name=Reported] [data-move]").first
        card.scroll_into_view_if_needed()
        number = str(card.get_attribute("href")).rpartition("/")[2]
        box = card.bounding_box()
        lane = page.locator("[data-name=Planned]").bounding_box()
        assert box is not None and lane is not None
        x, y = box["x"] + 20, box["y"] + 12
        touch("touchStart", x, y)
        page.locator(".ghost").wait_for()  # it is held
        for part in (0.3, 0.6, 1.0):
            touch("touchMove", x + (lane["x"] + 30 - x) * part, y)
        with page.expect_navigation():
            touch("touchEnd")
        status = f"SELECT status FROM repair WHERE id = {number}"
        self.assertEqual(self.ask(status), [("planned",)])
        # cards of the first page: a touch that stays moves one, another scrolls
        self.open("/arrange")
        entries = page.locator("[data-reorder] li")
        names = entries.locator("label").all_inner_texts()
        first, third = entries.nth(0).bounding_box(), entries.nth(2).bounding_box()
        assert first is not None and third is not None
        x, y, down = first["x"] + 60, first["y"] + 12, third["y"] + third["height"] - 6
        touch("touchStart", x, y)
        touch("touchMove", x, y + 40)
        touch("touchMove", x, down)
        touch("touchEnd")
        self.assertEqual(entries.locator("label").all_inner_texts(), names)
        page.evaluate("window.scrollTo(0, 0)")
        touch("touchStart", x, y)
        page.locator("[data-reorder] li.held").wait_for()
        touch("touchMove", x, down)
        touch("touchEnd")
        expect(entries.locator("label")).to_have_text(
            [*names[1:3], names[0], *names[3:]]
        )
        box = entries.nth(1).get_by_role("checkbox")
        before = box.is_checked()
        entries.nth(1).locator("label").click(position={"x": 60, "y": 10})
        expect(box).to_be_checked(checked=not before)

    def test_columns_are_moved_and_widened(self) -> None:
        page = self.page
        self.sign_in()
        self.open("/t/station")
        heads = page.locator("th[data-key]")
        keys = [str(each.get_attribute("data-key")) for each in heads.all()]
        second, third = keys[1], keys[2]
        page.locator(f"#sort-{second}").focus()
        with page.expect_navigation():
            self.press("Alt+ArrowRight")
        expect(page.locator(f"#sort-{second}")).to_be_focused()
        expect(heads.nth(2)).to_have_attribute("data-key", second)
        with page.expect_navigation():  # by pointer, back
            page.locator(f"th[data-key={second}]").drag_to(
                page.locator(f"th[data-key={third}]")
            )
        expect(heads.nth(1)).to_have_attribute("data-key", second)
        head = page.locator(f"th[data-key={second}]")
        before = head.bounding_box()
        page.locator(f"#sort-{second}").focus()
        with page.expect_response("**/columns"):
            self.press("Alt+Shift+ArrowRight")
        edge = head.locator(".edge")
        box = edge.bounding_box()
        assert box is not None and before is not None
        page.mouse.move(box["x"] + 4, box["y"] + 10)
        page.mouse.down()
        page.mouse.move(box["x"] + 64, box["y"] + 10, steps=4)
        with page.expect_response("**/columns"):
            page.mouse.up()
        page.reload()
        after = page.locator(f"th[data-key={second}]").bounding_box()
        assert after is not None
        self.assertAlmostEqual(after["width"], before["width"] + 16 + 60, delta=6)
        self.check_accessibility()
        page.get_by_role("link", name="Columns").click()
        self.check_accessibility()
        page.get_by_role("button", name="Reset", exact=True).click()
        expect(page.locator("table.fixed")).to_have_count(0)

    def test_a_map_opens_its_points_by_keyboard(self) -> None:
        page = self.page
        self.sign_in("viewer")
        self.open("/t/station?layout=map&name.is=Farne+Ness")
        point = page.locator(".map .point")
        expect(point).to_have_attribute("aria-label", "Farne Ness")
        point.focus()
        with page.expect_navigation():
            self.press("Enter")
        page.get_by_role("heading", name="Farne Ness", exact=True).wait_for()
        self.open("/t/station?layout=map")
        groups = page.locator(".map .cluster").first
        expect(groups).to_have_attribute("aria-label", re.compile(r"\d+ records"))

    def test_cards_are_arranged_by_keyboard(self) -> None:
        page = self.page
        self.sign_in()
        self.check_accessibility()
        page.get_by_role("link", name="Arrange").click()
        first = page.locator("[data-reorder] li").first
        name = first.locator("label").inner_text().strip()
        first.get_by_role("button", name="down").focus()
        self.press("ArrowDown", "ArrowDown")
        expect(page.locator("[data-reorder] li").nth(2)).to_contain_text(name)
        page.locator("[data-reorder] li").nth(1).get_by_role("checkbox").uncheck()
        page.get_by_role("button", name="Save").last.click()
        page.wait_for_url(f"http://127.0.0.1:{self.port}/")
        numbers = page.locator(".card-number").all_inner_texts()
        self.assertEqual(len(numbers), 2)
        self.assertIn(name, numbers[1])

    def test_every_kind_of_page_is_accessible_and_fits_narrow_windows(self) -> None:
        self.open("/sign-in")
        self.check_accessibility()
        self.sign_in()
        for path in (
            "/",
            "/t/inspection",
            "/t/station/r/5",
            "/t/station/add",
            "/t/inspection/r/5/edit",
            "/t/station/r/5/delete",
            "/t/none",
            "/t/logbook_old",
            "/t/inspection?panel=filter&result.is=failed",
            "/t/inspection?panel=views",
            "/t/inspection?panel=columns",
            "/t/rounds_due?panel=out",
            "/t/inspection?layout=cards",
            "/t/inspection?layout=groups",
            "/users",
            "/roles",
            "/profile",
            "/log",
            "/uploads",
            "/t/vessel/r/GAN/edit",
            "/t/vessel?layout=cards",
        ):
            self.open(path)
            with self.subTest(path):
                self.check_accessibility()
                self.page.set_viewport_size({"width": 360, "height": 740})
                width = self.page.evaluate("document.documentElement.scrollWidth")
                self.assertLessEqual(width, 360)
                self.page.set_viewport_size({"width": 1280, "height": 800})
