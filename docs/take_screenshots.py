"""Take the pictures in docs/screenshots from the running demo (start ./keel demo first)."""

import json
import shutil
import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

ROOT = Path(__file__).parents[1]
OUT = ROOT / "docs" / "screenshots"
FLAGS = (
    "--headless --no-sandbox --disable-quic --disable-background-networking --disable-component-update "
    "--disable-sync --no-first-run --use-angle=swiftshader --enable-unsafe-swiftshader"
).split()
LOFT, DOORS, RUN, LIVE, BARE = 3, 5, 6, 8, 12
"""Numbers of SKL_020, SKL_040, SKL_050, SKL_061 and SKL_095 in a fresh demo."""

CROSSES = (
    (171, 120), (350, 257), (504, 107), (655, 227), (237, 352), (583, 344), (714, 127), (824, 286), (405, 422),
    (571, 470),
)  # fmt: skip
"""Where ten crosses of SKL_095 lie on its first frame, pixels."""

STAGES = ["plate", "masks", "tracks", "lens", "solve", "world", "ties", "handoff"]


def desk(page: Page, address: str, stage: str, frame_steps: int = 0) -> None:
    """Open the solved demo shot at a stage, some tens of frames in."""
    page.goto(f"{address}/shots/1/{stage}")
    page.wait_for_selector("body[data-ready]")
    page.wait_for_timeout(1500)
    for _ in range(frame_steps):
        page.keyboard.press("Shift+ArrowRight")
    page.wait_for_timeout(700)


def lasso(page: Page, corners) -> None:
    """Draw a lasso, corners as shares of the plate."""
    box = page.locator("#plate").bounding_box()
    width = box["width"] * 0.985
    height = width * 540 / 960
    left, top = box["x"] + (box["width"] - width) / 2, box["y"] + (box["height"] - height) / 2
    places = [(left + x * width, top + y * height) for x, y in corners]
    page.keyboard.press("3")
    page.mouse.move(*places[0])
    page.mouse.down()
    for place in [*places[1:], places[0]]:
        page.mouse.move(*place, steps=5)
    page.mouse.up()


def shoot(page: Page, name: str) -> None:
    """Save the page as a picture."""
    page.wait_for_timeout(400)
    page.screenshot(path=str(OUT / f"{name}.png"))
    print(f"docs/screenshots/{name}.png")


def desk_pictures(page: Page, address: str) -> None:
    """The desk's views."""
    desk(page, address, "solve", 2)
    shoot(page, "solve")
    desk(page, address, "tracks", 3)
    lasso(page, [(0.45, 0.25), (0.65, 0.25), (0.65, 0.45), (0.45, 0.45)])
    shoot(page, "tracks")
    world_pictures(page, address)


def click(page: Page, x: float, y: float) -> None:
    """Click a plate pixel, and wait for what is under it."""
    page.mouse.move(*on_plate(page, x - 3, y))
    page.mouse.move(*on_plate(page, x, y))
    page.wait_for_timeout(500)
    page.mouse.down()
    page.mouse.up()
    page.wait_for_timeout(500)


def world_pictures(page: Page, address: str) -> None:
    """A world set from a fresh datum, built and checked: ground under the pointer, scene, points in 3D, slip."""
    desk(page, address, "world", 1)
    page.locator("[data-act=datum-clear]").click()
    page.wait_for_timeout(1200)
    page.keyboard.press("Shift+V")
    page.locator("#groundfrom").scroll_into_view_if_needed()
    page.mouse.move(*on_plate(page, 395, 470))
    page.mouse.move(*on_plate(page, 405, 472))
    page.wait_for_timeout(1500)
    shoot(page, "ground")
    click(page, 405, 472)
    page.wait_for_timeout(2500)
    page.locator("[data-act=world-proxies]").click()
    page.locator("[data-act=proxy-plane]").click()
    for x, y in ((120, 520), (700, 520), (640, 430)):
        click(page, x, y)
    page.wait_for_timeout(1500)
    page.keyboard.press("Escape")
    page.locator("[data-act=world-probes]").click()
    for kind, x, y in (("person", 640, 480), ("cube", 330, 500), ("card", 470, 500)):
        page.locator(f"[data-act=probe-{kind}]").click()
        click(page, x, y)
        page.wait_for_timeout(1500)
    for layer in ("tails", "sticks", "tracks", "card"):
        page.locator(f"[data-layer={layer}]").click()
    page.wait_for_timeout(1500)
    shoot(page, "world")
    page.locator("[data-act=world-points]").click()
    page.keyboard.press("6")
    page.wait_for_timeout(2500)
    page.keyboard.press("2")
    pane = page.locator("#space").bounding_box()
    page.mouse.move(pane["x"] + 0.45 * pane["width"], pane["y"] + 0.3 * pane["height"])
    page.mouse.down()
    page.mouse.move(pane["x"] + 0.62 * pane["width"], pane["y"] + 0.5 * pane["height"], steps=5)
    page.mouse.up()
    page.keyboard.press("1")
    page.wait_for_timeout(1500)
    shoot(page, "points")
    page.keyboard.press("4")
    page.locator("[data-act=world-slip]").click()
    page.locator("[data-act=measure-slip]").click()
    page.get_by_text("the usual one slips").wait_for(timeout=120_000)
    page.wait_for_timeout(1500)
    page.locator("#sliplist .linerow").nth(3).click()
    page.wait_for_timeout(4500)
    shoot(page, "slipmeasured")


def mask_pictures(page: Page, address: str) -> None:
    """A rough box carried by what moves in it; what was changed is taken back again."""
    desk(page, address, "masks", 1)
    page.locator("[data-act=mask-rectangle]").click()
    page.mouse.move(*on_plate(page, 98, 168))
    page.mouse.down()
    page.mouse.move(*on_plate(page, 262, 536), steps=5)
    page.mouse.up()
    page.wait_for_timeout(800)
    page.locator("[data-act=mask-both]").click()
    page.get_by_text("follows its subject").wait_for(timeout=120000)
    page.wait_for_timeout(2500)
    page.keyboard.press("Home")
    for _ in range(3):
        page.keyboard.press("Shift+ArrowRight")
    page.wait_for_timeout(4500)
    shoot(page, "masks")
    take_back(page, ("Undo: Follow Shape", "Undo: Draw Shape"))


def track_pictures(page: Page, address: str) -> None:
    """Sightings of a shot; what was changed is taken back again."""
    desk(page, address, "tracks", 3)
    page.get_by_role("button", name="Choose", exact=True).click()
    page.get_by_role("button", name="Look for sightings").click()
    page.get_by_text("sightings,").wait_for(timeout=120000)
    page.wait_for_timeout(1500)
    lasso(page, [(0.42, 0.1), (0.75, 0.1), (0.75, 0.4), (0.42, 0.4)])
    page.wait_for_timeout(3000)
    shoot(page, "sightings")


def few_pictures(page: Page, address: str) -> None:
    """Crosses placed and led by hand where there is nothing else to follow; they are left there the next time."""
    page.goto(f"{address}/shots/{BARE}/tracks")
    page.wait_for_selector("body[data-ready]")
    page.get_by_role("button", name="Place", exact=True).click()
    page.wait_for_timeout(1500)
    if page.locator("#placereach").inner_text().startswith("0 of 8"):
        for x, y in CROSSES:
            page.keyboard.press("Escape")
            page.locator("#placehint", has_text="Click a spot").wait_for()
            page.mouse.click(*on_plate(page, x, y))
            page.locator("#placehint", has_text="F follows").wait_for()
            page.keyboard.press("f")
            page.locator("header", has_text="Following").wait_for(timeout=20000)
            page.get_by_text("Following").wait_for(state="hidden", timeout=120000)
            page.keyboard.press("Home")
    page.keyboard.press("Home")
    page.mouse.click(*on_plate(page, *CROSSES[3]))
    for _ in range(3):
        page.keyboard.press("Shift+ArrowRight")
    page.wait_for_timeout(1500)
    shoot(page, "placing")


def take_back(page: Page, words: tuple[str, ...]) -> None:
    """Undo while the newest step is one of those."""
    undo = page.locator("#undo")
    while any((undo.get_attribute("title") or "").startswith(word) for word in words):
        # One step at a time: a click before the last has answered would take back what came before.
        with page.expect_response(lambda answer: answer.url.endswith("/undo")):
            undo.click()
        page.wait_for_timeout(900)


def on_plate(page: Page, x: float, y: float) -> tuple[float, float]:
    """Return where a plate pixel is on the page."""
    box = page.locator("#plate").bounding_box()
    scale = min(box["width"] / 960, box["height"] / 540) * 0.985
    return box["x"] + box["width"] / 2 + (x - 480) * scale, box["y"] + box["height"] / 2 + (y - 270) * scale


def lens_pictures(page: Page, address: str) -> None:
    """Lines drawn on the shed doors with one measured, what says a focal length, and the sail loft straightened by its
    own.
    """
    open_lens(page, address, DOORS)
    page.locator("#measureline").select_option("Z2")
    page.locator("#measurelength").fill("2.52 m")
    page.locator("#measurelength").press("Enter")
    page.wait_for_selector("#lensplace dd")
    page.keyboard.press("Shift+O")
    line = page.evaluate("async () => (await (await fetch(location.pathname + '.json')).json()).lines.Z2")
    page.mouse.click(*on_plate(page, *line["points"][0]))
    page.wait_for_timeout(1500)
    shoot(page, "lens")
    page.locator('[data-act="lens-camera"]').click()
    page.wait_for_timeout(600)
    shoot(page, "evidence")
    take_back(page, ("Undo: Set the origin", "Undo: Z2 is"))
    open_lens(page, address, LOFT)
    for act in ("look-grid", "look-straight"):
        page.locator(f'[data-act="{act}"]').click()
    page.wait_for_timeout(1500)
    shoot(page, "straight")


def open_lens(page: Page, address: str, shot: int) -> None:
    """Open a shot's lens stage and wait for what its lines tell."""
    page.goto(f"{address}/shots/{shot}/lens")
    page.wait_for_selector("body[data-ready]")
    page.wait_for_selector("#lensfound dd")


def casebook_pictures(page: Page, address: str) -> None:
    """The casebook of SKL_050 with a trial of its blurred frames, the residuals as charts, and the verdict."""
    page.goto(f"{address}/shots/{RUN}/solve")
    page.wait_for_selector("body[data-ready]")
    page.keyboard.press("Shift+C")
    finding = page.locator(".finding", has_text="sweeps the picture").first
    if not finding.locator(".trial .versus").count():
        finding.get_by_role("button", name="Measure blurred frames anew").click()
    finding.locator(".trial .versus").first.wait_for(timeout=400_000)
    finding.locator(".trial").first.get_by_role("button", name="Overlay").click()
    for _ in range(4):
        page.keyboard.press("Shift+ArrowRight")
    page.wait_for_timeout(6000)
    shoot(page, "casebook")
    page.keyboard.press("Shift+C")
    page.keyboard.press("8")
    page.wait_for_timeout(900)
    shoot(page, "residuals")
    page.goto(f"{address}/shots/{RUN}/verdict")
    page.wait_for_selector("body[data-ready]")
    shoot(page, "verdict")


def other_pictures(page: Page, address: str) -> None:
    """The board, and two attempts side by side."""
    desk(page, address, "solve")
    for k in (0, 1):
        page.locator(".attempt input").nth(k).click()
    page.wait_for_selector("body[data-ready]")
    page.wait_for_timeout(1200)
    shoot(page, "compare")
    page.goto(address)
    page.wait_for_timeout(800)
    shoot(page, "board")


def tie_pictures(page: Page, address: str) -> None:
    """The live pass of the quay in the world of the clean one, a spot of that picked beside it."""
    page.goto(f"{address}/shots/{LIVE}/ties")
    page.wait_for_selector("body[data-ready]")
    page.locator("[data-act=ties-ties]").click()
    for layer in ("tails", "sticks", "tracks"):
        page.locator(f"[data-layer={layer}]").click()
    page.keyboard.press("Shift+P")
    page.wait_for_timeout(2000)
    box = page.locator("#other").bounding_box()
    page.mouse.click(box["x"] + 0.6 * box["width"], box["y"] + 0.4 * box["height"])
    page.wait_for_timeout(2000)
    shoot(page, "ties")


def handoff_pictures(page: Page, address: str) -> None:
    """Packages of the live pass, one alone and one with its set."""
    page.goto(f"{address}/shots/{LIVE}/handoff")
    page.wait_for_selector("body[data-ready]")
    page.wait_for_timeout(1000)
    made = page.locator("#packlist .packrow")
    for name in ("layout", "modelling")[min(made.count(), 2) :]:
        count = made.count()
        page.locator("#packfor").select_option(name)
        page.locator("[data-act=pack-make]").click()
        while made.count() == count:
            page.wait_for_timeout(500)
    for layer in ("tails", "sticks", "tracks"):
        page.locator(f"[data-layer={layer}]").click()
    page.locator("#packlist").scroll_into_view_if_needed()
    page.wait_for_timeout(4000)
    shoot(page, "handoff")


def main() -> None:
    """Take them all."""
    running = ROOT / "var" / "demo" / "running.json"
    if not running.exists():
        sys.exit("The demo is not running. Start ./keel demo, wait until its shot is solved, and try again.")
    address = json.loads(running.read_text())["address"]
    OUT.mkdir(exist_ok=True)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=FLAGS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        # As somebody sees it who has been here before.
        page.add_init_script(f"localStorage.setItem('keel-first', '{json.dumps(STAGES)}')")
        mask_pictures(page, address)
        track_pictures(page, address)
        few_pictures(page, address)
        lens_pictures(page, address)
        desk_pictures(page, address)
        casebook_pictures(page, address)
        tie_pictures(page, address)
        handoff_pictures(page, address)
        other_pictures(page, address)
        browser.close()


if __name__ == "__main__":
    main()
