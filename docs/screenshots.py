"""Takes the pictures in docs/screenshots/ from a new demo: python docs/screenshots.py

Needs Chromium; for the terminal's pictures also Xvfb, xterm and ImageMagick. Each has 1280x800 pixels, that of
a phone 390x844.
"""

import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import sysconfig
import tempfile
import time
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, sync_playwright

COMMAND = Path(sysconfig.get_path("scripts")) / "lumet"
TARGET = Path(__file__).parent / "screenshots"
PORT = 8043
DATABASE = "skerry_lights.db"
PAGES = {
    "find": "/t/station",
    "list": "/t/inspection?result.is=failed&result.is=passed&inspected_on.within=last-year",
    "filter": "/t/inspection?result.is=failed&panel=filter",
    "calendar": "/t/voyage?layout=calendar&at=2026-05",
    "board": "/t/repair?layout=board",
    "map": "/t/station?layout=map",
    "chart": "/t/inspection?layout=chart&by=inspected_on&every=year&stack=result",
    "record": "/t/station/r/6",
    "form": "/t/inspection/r/100/edit",
    "delete": "/t/station/r/6/delete",
    "rows": "/t/voyage/r/2/edit",
    "health": "/data-health",
    "front": "/",
    "activity": "/log",
}


CHROMIUM: Any = {"executable_path": shutil.which("chromium"), "args": ["--no-sandbox"]}
SIZE: Any = {"width": 1280, "height": 800}


def take_pages(folder: Path, name: str, password: str) -> None:
    """Take a picture of each kind of page."""
    serve = [sys.executable, "-m", "skerry_lights", "serve", "--port", str(PORT)]
    server = subprocess.Popen(serve, cwd=folder, stdout=subprocess.PIPE, text=True)
    assert server.stdout is not None
    server.stdout.readline()
    try:
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(**CHROMIUM)
            page = browser.new_context(viewport=SIZE, locale="en-GB").new_page()
            take_all(page, f"http://127.0.0.1:{PORT}", name, password)
            page.set_viewport_size({"width": 390, "height": 844})
            page.goto(f"http://127.0.0.1:{PORT}/t/inspection?result.is=failed")
            page.wait_for_load_state("networkidle")
            page.screenshot(path=TARGET / "phone.png")
            browser.close()
    finally:
        server.send_signal(signal.SIGINT)
        server.wait()


def take_all(page: Page, address: str, name: str, password: str) -> None:
    """Sign in and go through the pages."""

    def take(picture: str) -> None:
        page.wait_for_load_state("networkidle")
        page.screenshot(path=TARGET / f"{picture}.png")

    page.goto(f"{address}/sign-in")
    page.get_by_label("Name").fill(name)
    page.get_by_label("Password").fill(password)
    page.get_by_role("button", name="Sign in").click()
    for picture, path in PAGES.items():
        page.goto(address + path)
        if picture == "form":
            page.get_by_label("Visibility").fill("235")
            page.get_by_role("button", name="Save", exact=True).click()
            page.locator("#field-station_id + .ts-wrapper").click()
            page.locator(
                "#field-station_id + .ts-wrapper.focus.dropdown-active"
            ).wait_for()
            page.keyboard.type("ness")
            page.locator(".ts-dropdown .option.active .highlight").wait_for()
        if picture == "rows":
            page.locator("tr:nth-child(2) .away label").click()
            page.locator("tr:nth-child(3)").get_by_label("Cargo").fill("260")
        if picture == "activity":
            change(page, address)
            page.goto(address + path)
        if picture == "find":
            page.keyboard.press("/")
            page.keyboard.type("farne")
            page.locator(".found section").nth(2).wait_for()
            page.keyboard.press("ArrowDown")
        if picture == "list":
            page.locator("table.rows tbody tr").nth(3).hover()
        take(picture)


def take_rehearsal(folder: Path) -> None:
    """Rehearse the demo, and take a picture of the report."""
    command = [str(COMMAND), "rehearse", "--quick"]
    subprocess.run(command, cwd=folder, check=True, stdout=subprocess.DEVNULL)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(**CHROMIUM)
        page = browser.new_page(viewport=SIZE)
        page.goto((folder / "rehearsal.html").as_uri())
        page.screenshot(path=TARGET / "rehearsal.png")
        browser.close()


def change(page: Page, address: str) -> None:
    """Do a few things, for the log to show."""
    page.goto(f"{address}/t/station/r/5/edit")
    page.get_by_label("Elevation").fill("41.5")
    page.get_by_role("group", name="State").get_by_label("Dim").check(force=True)
    page.get_by_role("button", name="Save", exact=True).click()
    page.goto(f"{address}/t/inspection_finding/r/7,1/delete")
    page.get_by_role("button", name="Delete").click()
    page.goto(f"{address}/users")
    page.locator("#new-name").fill("Wren")
    page.get_by_label("Warden").check()
    page.get_by_role("button", name="Add and invite").click()
    page.get_by_text("Pass this link on").wait_for()


def take_terminal(picture: str, folder: Path, command: str) -> None:
    """Take a picture of a terminal window in which a command was run."""
    screen = subprocess.Popen(
        ["Xvfb", "-displayfd", "1", "-screen", "0", "1280x800x24"],
        stdout=subprocess.PIPE,
        text=True,
    )
    assert screen.stdout is not None
    display = f":{screen.stdout.readline().strip()}"  # said when it is ready
    ended = folder / f"{picture}.ended"
    path = f"PATH='{COMMAND.parent}':\"$PATH\""
    prompt = (
        f"export {path}; printf '$ {command}\\n'; {command}; touch '{ended}'; sleep 60"
    )
    xterm = [
        "xterm",
        "-display",
        display,
        "-geometry",
        "200x80+0+0",
        "-fa",
        "DejaVu Sans Mono",
    ]
    look = [
        "-fs",
        "15",
        "-b",
        "18",
        "-bg",
        "#14263a",
        "-fg",
        "#e6e9ea",
        "-xrm",
        "*color3: #e3a21a",
    ]
    window = subprocess.Popen([*xterm, *look, "-e", "sh", "-c", prompt], cwd=folder)
    until = time.monotonic() + 120
    while not ended.exists():
        assert time.monotonic() < until, command
        time.sleep(0.2)
    time.sleep(1)  # for the window to show it
    shot = TARGET / f"{picture}.png"
    subprocess.run(
        ["import", "-display", display, "-window", "root", str(shot)], check=True
    )
    for process in (window, screen):
        process.kill()
        process.wait()


def empty(folder: Path) -> None:
    """Take all rows from the demo, and mark its database as one for development."""
    with sqlite3.connect(folder / DATABASE) as raw:
        tables = raw.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'").fetchall()  # fmt: skip
        for (name,) in tables:
            raw.execute(f'DELETE FROM "{name}"')
    with (folder / ".env").open("a") as file:
        file.write(f"DEVELOPMENT_DATABASE='{DATABASE}'\n")


def main() -> None:
    """Make a demo in a temporary folder and take every picture."""
    TARGET.mkdir(exist_ok=True)
    with tempfile.TemporaryDirectory() as temporary:
        folder = Path(temporary) / "skerries"
        made = subprocess.run(
            [str(COMMAND), "demo", str(folder), "--no-serve"],
            check=True, capture_output=True, text=True,
        )  # fmt: skip
        found = re.search(
            r"^  (\w+)\s+(\S{16})\s+administrator", made.stdout, re.MULTILINE
        )
        assert found is not None
        take_pages(folder, found[1], found[2])
        take_rehearsal(folder)
        if shutil.which("xterm") and shutil.which("Xvfb"):
            fresh = Path(temporary) / "lights"
            fresh.mkdir()
            shutil.copy(folder / "skerry_lights.db", fresh)
            take_terminal("survey", fresh, "lumet survey skerry_lights.db")
            take_terminal(
                "review", fresh, "lumet review --doubtful; lumet review light.lens_code"
            )
            empty(folder)
            fill = f"lumet populate --rows 200 --rows inspection=5000 --yes {DATABASE}"
            take_terminal("populate", folder, fill)


if __name__ == "__main__":
    main()
