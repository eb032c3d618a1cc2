"""An application in a real browser: served, signed in to, looked at for faults."""

import os
import re
import signal
import sqlite3
import subprocess
import sys
import tempfile
import unittest
from pathlib import Path
from typing import Any

from playwright.sync_api import expect, sync_playwright

from tests.project.test_command import free_port, get
from tests.support.capabilities import CHROMIUM
from tests.support.projects import COMMAND

__all__ = ["BrowserCase", "expect"]

AXE = Path(__file__).parent.parent / "vendor" / "axe-4.14.1.min.js"
OPTIONS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking"]

WIDTHS = (390, 768, 1280, 2560)
_LOOK = """
  window.shifts = [];
  new PerformanceObserver((list) => {
    for (const each of list.getEntries()) {
      if (!each.hadRecentInput) window.shifts.push(each.sources.map((s) => s.node?.outerHTML?.slice(0, 90) ?? ""));
    }
  }).observe({ type: "layout-shift", buffered: true });
"""
# links within a sentence are let off by WCAG 2.2, 2.5.8
_SMALL = """() => [...document.querySelectorAll("main :is(a[href], button, select, input:not([type=hidden], [type=checkbox], [type=radio]), summary)")]
  .filter((each) => each.offsetParent && !each.closest("p, .note, dd, td, .count, .mark, .past, .help, .ts-wrapper, .unit, .trail, h2, .quiet"))
  .map((each) => [each.outerHTML.slice(0, 100), each.getBoundingClientRect()])
  .filter(([, box]) => box.height && box.height < 43.5)
  .map(([html, box]) => `${html} ${box.height}`)"""
_FOCUSED = """() => { const e = document.activeElement;
  return (e.getAttribute("aria-label") ?? e.labels?.[0]?.innerText ?? e.innerText ?? "").trim(); }"""
_COVERED = """() => { const e = document.activeElement, b = e.getBoundingClientRect();
  if (!b.width || e === document.body || e.closest(".skip, .ts-wrapper, .buttons")) return "";
  const at = document.elementFromPoint(b.x + b.width / 2, b.y + Math.min(b.height / 2, 20));
  return at && (e.contains(at) || at.contains(e) || e.labels?.[0]?.contains(at)) ? "" : e.outerHTML.slice(0, 120); }"""
_KEYS = ("Tab", "Enter", "Space", "Escape", "Delete", "Home", "End", "Backspace", "PageDown", "PageUp",
         "ArrowUp", "ArrowDown", "ArrowLeft", "ArrowRight")  # fmt: skip


class BrowserCase(unittest.TestCase):
    """An application that is served, and a browser before it."""

    folder: Path
    port: int
    people: dict[str, tuple[str, str]]

    package = "skerry_lights"

    @property
    def database(self) -> Path:
        """The database of the application."""
        return self.folder / "skerry_lights.db"

    @classmethod
    def make(cls) -> None:
        """Make the application in `folder`, and name its people by their roles."""
        made = subprocess.run(
            [str(COMMAND), "demo", str(cls.folder), "--no-serve"],
            capture_output=True, text=True, check=True,
        )  # fmt: skip
        found = re.findall(r"^  (\w+)\s+(\S{16})\s+(\w+):", made.stdout, re.MULTILINE)
        cls.people = {role: (name, password) for name, password, role in found}

    @classmethod
    def command(cls) -> list[str]:
        """Return the command that serves the application."""
        return [sys.executable, "-m", cls.package, "serve", "--port", str(cls.port)]

    @classmethod
    def setUpClass(cls) -> None:
        temporary = tempfile.TemporaryDirectory(prefix="lumet test ")
        cls.addClassCleanup(temporary.cleanup)
        cls.folder = Path(temporary.name) / "skerries"
        cls.make()
        cls.port = free_port()
        server = subprocess.Popen(
            cls.command(), cwd=cls.folder, stdout=subprocess.PIPE, text=True, start_new_session=True,
        )  # fmt: skip
        cls.addClassCleanup(server.wait)
        cls.addClassCleanup(os.killpg, server.pid, signal.SIGKILL)
        assert server.stdout is not None
        cls.addClassCleanup(server.stdout.close)
        server.stdout.readline()
        get(f"http://127.0.0.1:{cls.port}/sign-in")
        playwright = sync_playwright().start()
        cls.addClassCleanup(playwright.stop)
        cls.browser = playwright.chromium.launch(executable_path=CHROMIUM, args=OPTIONS)
        cls.addClassCleanup(cls.browser.close)

    def setUp(self) -> None:
        self.context = self.browser.new_context(viewport={"width": 1280, "height": 800})
        self.addCleanup(self.context.close)
        self.context.add_init_script(_LOOK)
        self.page = self.context.new_page()
        self.faults: list[str] = []
        self.page.on("pageerror", lambda error: self.faults.append(str(error)))
        self.page.on("console", self.note)
        self.page.on(
            "response",
            lambda answer: answer.status >= 500 and self.faults.append(answer.url),
        )
        self.page.set_default_timeout(10_000)

    def tearDown(self) -> None:
        self.assertEqual(self.faults, [])

    def note(self, message: Any) -> None:
        """Collect what the browser complains of, but for answers that are expected."""
        if message.type == "error" and not re.search(
            r"status of 4(09|22|03|04)", message.text
        ):
            self.faults.append(message.text)

    def open(self, path: str) -> None:
        self.page.goto(f"http://127.0.0.1:{self.port}{path}")

    def sign_in(self, role: str = "administrator") -> None:
        name, password = self.people[role]
        self.open("/sign-in")
        self.page.get_by_label("Name").fill(name)
        self.page.get_by_label("Password").fill(password)
        self.page.get_by_role("button", name="Sign in").click()
        self.page.wait_for_url(f"http://127.0.0.1:{self.port}/")

    def ask(self, query: str) -> list[Any]:
        with sqlite3.connect(self.database) as raw:
            return raw.execute(query).fetchall()

    def open_choices(self, field: str) -> None:
        """Open a lookup; it takes what is typed once its list is open."""
        box = f"#field-{field} + .ts-wrapper"
        self.page.locator(box).click()
        self.page.locator(f"{box}.focus.dropdown-active").wait_for()

    def check_accessibility(self) -> None:
        if not self.page.evaluate("Boolean(window.axe)"):
            self.page.evaluate(AXE.read_text(encoding="utf-8") + ";0")
        found = self.page.evaluate("axe.run({resultTypes: ['violations']})")
        wrong = [
            (v["id"], [n["html"][:120] for n in v["nodes"]])
            for v in found["violations"]
        ]
        self.assertEqual(wrong, [], self.page.url)

    def check_widths(self, path: str) -> None:
        """Look at a page in windows of four widths: for what axe finds, what overflows,
        what moves by itself, and targets that fingers miss."""
        for number, width in enumerate(WIDTHS):
            with self.subTest(path, width=width):
                self.page.set_viewport_size({"width": width, "height": 844})
                self.assertEqual(self.page.evaluate("window.innerWidth"), width)
                if number % 2 == 0:  # narrow and wide windows are laid out anew
                    self.open(path)
                    if self.page.locator("section[data-block]").count():
                        self.page.wait_for_load_state("networkidle")
                    self.assertEqual(self.page.evaluate("window.shifts"), [])
                    self.check_accessibility()  # of each layout
                across = self.page.evaluate("document.documentElement.scrollWidth")
                self.assertLessEqual(across, width)
                if width < 800:
                    self.assertEqual(self.page.evaluate(_SMALL), [])

    def press(self, *keys: str) -> None:
        """Press keys one after the other; a text of several letters is typed."""
        for key in keys:
            is_key = len(key) == 1 or "+" in key or key in _KEYS
            (self.page.keyboard.press if is_key else self.page.keyboard.type)(key)

    def focused(self) -> str:
        """Return what has the focus: its name for screen readers, or its text."""
        return str(self.page.evaluate(_FOCUSED))

    def count_stops(self) -> int:
        """Return how often Tab stops from the beginning of a page to its end."""
        self.page.evaluate(
            "document.activeElement.blur(); window.getSelection().removeAllRanges()"
        )
        self.page.evaluate(
            "document.body.tabIndex = -1; document.body.focus(); document.body.removeAttribute('tabindex')"
        )
        for number in range(400):
            self.press("Tab")
            if number and self.page.evaluate(
                "document.activeElement === document.body"
            ):
                return number
            covered = self.page.evaluate(_COVERED)
            self.assertEqual(covered, "", self.page.url)
        return 400
