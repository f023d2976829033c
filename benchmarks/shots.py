"""Takes the pictures of docs/screenshots/ anew, from the demo data: ``./nomogon shots``."""

import re
import sys
import time

from playwright.sync_api import expect, sync_playwright

from benchmarks.client import Application
from launch.chromium import ARGUMENTS, CHROMIUM, SIZE
from launch.places import ROOT

FOLDER = ROOT / "docs" / "screenshots"
VIEWS = (
    ("reference-new", "Entrance reducer", "reference"),
    ("reference", "Hive latch plate", "reference"),
    ("sketch", "Hive latch plate", "sketch"),
    ("solid", "Hive latch plate", "solid"),
    ("inspect", "Hive latch plate", "inspect"),
    ("release", "Hive latch plate", "release"),
    ("history", "Hive latch plate", "history"),
    ("differences", "Hive latch plate", "history/differences?from=18"),
    ("people", "Hive latch plate", "people"),
)


def take(page, address):
    """Every main view once."""
    page.goto(address + "/sign-in")
    page.get_by_label("Name").fill("ro")
    page.get_by_label("Password").fill("hive-latch")
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_load_state("networkidle")
    page.screenshot(path=FOLDER / "register.png")
    for name, title, stage in VIEWS:
        page.goto(address)
        page.locator("a.whole", has_text=title).last.click()
        page.wait_for_url("**/jobs/**")
        page.goto(f"{page.url.rsplit('/', 1)[0]}/{stage}")
        page.wait_for_load_state("networkidle")
        time.sleep({"solid": 2.5, "inspect": 6}.get(stage, 0.8))
        page.screenshot(path=FOLDER / f"{name}.png")
    page.goto(address)
    page.locator("a.whole", has_text="Hive latch plate").last.click()
    page.locator("[data-stage-link=reference]").click()
    page.get_by_role("tab", name="Trace").click()
    page.locator("#tray .tool", has_text="Find outlines").click()
    time.sleep(2)
    page.screenshot(path=FOLDER / "outlines.png")
    for tab, tool, name in (("Clean up", "Steps", "clean-up"), ("Check", "Good enough?", "quality")):
        page.get_by_role("tab", name=tab).click()
        page.locator("#tray .tool", has_text=tool).click()
        if name == "clean-up":
            for kind in ("even", "holes"):
                page.locator("#clean select").select_option(kind)
                page.get_by_role("button", name="Add").click()
                time.sleep(2)
        time.sleep(2)
        page.screenshot(path=FOLDER / f"{name}.png")
    for _ in range(2):
        page.get_by_role("button", name="Undo").click()
        time.sleep(1)
    a_sentence(page, address)
    a_section(page, address)
    a_finding(page, address)
    edits_of_a_sketch(page, address)
    beside_a_card(page, address)


def a_sentence(page, address):
    """An operation being written in the Build sheet, with the solid as it would be; dropped again."""
    open_stage(page, address, "Hive latch plate", "solid")
    expect(page.locator("#board")).to_have_attribute("data-mesh", re.compile("."), timeout=60_000)
    page.keyboard.press("1")
    page.get_by_role("checkbox", name="of Stop pin").click()
    page.locator(".writing [data-blank=length]").fill("thickness * 2")
    page.locator(".writing [data-blank=result]").select_option("add")
    expect(page.locator("#note")).to_have_text("as it would be", timeout=20_000)
    time.sleep(1)
    page.screenshot(path=FOLDER / "sentence.png")
    page.keyboard.press("Escape")


def open_stage(page, address, title, stage):
    page.goto(address)
    page.locator("a.whole", has_text=title).last.click()
    page.locator(f"[data-stage-link={stage}]").click()
    page.wait_for_load_state("networkidle")


def a_section(page, address):
    """A turned part cut open."""
    open_stage(page, address, "Feeder cap", "solid")
    expect(page.locator("#board")).to_have_attribute("data-mesh", re.compile("."), timeout=60_000)
    page.get_by_role("tab", name="View").click()
    page.get_by_role("tab", name="Look").click()
    page.locator("#tray .tool:visible", has_text="Section").click()
    time.sleep(1)
    page.screenshot(path=FOLDER / "section.png")
    page.keyboard.press("Escape")


def a_finding(page, address):
    """A gap under the magnifier, in the list of what keeps areas from closing."""
    open_stage(page, address, "Smoker hinge leaf", "sketch")
    page.get_by_role("tab", name="View").click()
    page.locator("#tray .tool:visible", has_text="Findings").click()
    page.locator("#findings li").first.hover()
    time.sleep(0.5)
    page.screenshot(path=FOLDER / "sketch-gap.png")
    page.keyboard.press("Escape")


def edits_of_a_sketch(page, address):
    """An offset being written, and what was meant; both dropped again."""
    open_stage(page, address, "Hive latch plate", "sketch")
    page.get_by_role("tab", name="Change").click()
    page.get_by_role("button", name="Offset").click()
    time.sleep(1)
    side = page.locator(".hit[data-curve]").first
    middle = side.evaluate(
        "(line) => { const at = line.getPointAtLength(line.getTotalLength() / 2).matrixTransform(line.getScreenCTM());"
        " return [at.x, at.y]; }"
    )
    page.mouse.dblclick(*middle)
    expect(page.locator(".would-be").first).to_be_attached()
    time.sleep(0.5)
    page.screenshot(path=FOLDER / "sketch-offset.png")
    page.keyboard.press("Escape")
    page.get_by_role("tab", name="Edges").click()
    page.locator("#tray .tool", has_text="Meant?").click()
    expect(page.locator("#meant li").first).to_be_visible()
    page.locator("#meant li").nth(1).hover()
    time.sleep(0.5)
    page.screenshot(path=FOLDER / "sketch-meant.png")
    page.keyboard.press("Escape")


def beside_a_card(page, address):
    """A tilted sample picture whose card has been found; the job stays in the register."""
    page.goto(address + "/new")
    page.locator("select[name=sample]").select_option("hinge-leaf")
    page.locator("select[name=way]").select_option("card")
    page.get_by_role("button", name="Take the picture").click()
    page.wait_for_load_state("networkidle")
    time.sleep(1.5)
    page.get_by_role("tab", name="Rectify").click()
    page.keyboard.press("1")
    expect(page.locator("#note")).to_contain_text("camera", timeout=60_000)
    time.sleep(1)
    page.screenshot(path=FOLDER / "card.png")


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
