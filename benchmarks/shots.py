"""Takes the pictures of docs/screenshots/ anew, from the demo data: ``./nomogon shots``."""

import sys
import time

from playwright.sync_api import sync_playwright

from benchmarks.client import Application
from launch.chromium import ARGUMENTS, CHROMIUM, SIZE
from launch.places import ROOT

FOLDER = ROOT / "docs" / "screenshots"
VIEWS = (("sketch-gap", "Smoker hinge leaf", "sketch"), ("reference-new", "Entrance reducer", "reference"), ("reference", "Hive latch plate", "reference"),
         ("sketch", "Hive latch plate", "sketch"), ("solid", "Hive latch plate", "solid"), ("inspect", "Hive latch plate", "inspect"), ("release", "Hive latch plate", "release"))


def take(page, address):
    """Every main view once."""
    page.goto(address + "/sign-in")
    page.screenshot(path=FOLDER / "sign-in.png")
    page.get_by_label("Name").fill("ro")
    page.get_by_label("Password").fill("hive-latch")
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_load_state("networkidle")
    page.screenshot(path=FOLDER / "register.png")
    page.goto(address + "/new")
    page.screenshot(path=FOLDER / "new.png")
    for name, title, stage in VIEWS:
        page.goto(address)
        page.locator("a.whole", has_text=title).click()
        page.locator(f"[data-stage-link={stage}]").click()
        page.wait_for_load_state("networkidle")
        time.sleep(2.5 if stage == "solid" else 0.8)
        page.screenshot(path=FOLDER / f"{name}.png")
    page.goto(address)
    page.locator("a.whole", has_text="Hive latch plate").click()
    page.locator("[data-stage-link=reference]").click()
    page.get_by_role("tab", name="Trace").click()
    page.locator("#tray .tool", has_text="Find outlines").click()
    time.sleep(2)
    page.screenshot(path=FOLDER / "outlines.png")


def main():
    FOLDER.mkdir(parents=True, exist_ok=True)
    application = Application()
    try:
        with sync_playwright() as driver:
            browser = driver.chromium.launch(executable_path=CHROMIUM, args=ARGUMENTS)
            take(browser.new_page(viewport=SIZE), f"http://127.0.0.1:{application.port}")
            browser.close()
    finally:
        application.stop()
    return 0


if __name__ == "__main__":
    sys.exit(main())
