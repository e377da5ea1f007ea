"""The desk's pace in headless Chromium: redraws while scrubbing a thousand tracks with tails, and fits while a line is
dragged.
"""

import shutil
from contextlib import contextmanager

LIVES = "20"
"""Frames that a sighting must live to be taken as a track."""

PAUSE_MS = 4000
"""For what was asked for to have come."""

SCRUB = """async (steps) => {
  const { Viewport } = await import('/static/desk/viewport/viewport.js');
  const draw = Viewport.prototype.draw;
  let spent = 0, drawn = 0;
  Viewport.prototype.draw = function () { const t = performance.now(); draw.call(this);
    spent += performance.now() - t; drawn += 1; };
  const began = performance.now();
  for (let k = 0; k < steps; k += 1) {
    document.querySelector('[data-act="on"]').click();
    await new Promise((done) => requestAnimationFrame(() => setTimeout(done, 0)));
  }
  return [drawn / ((performance.now() - began) / 1000), spent / drawn, drawn];
}"""


COUNT = """async () => {
  const data = await (await fetch(location.pathname.replace(/tracks$/, 'tracks.json'))).json();
  const counts = {};
  for (const f of data.frames) counts[f] = (counts[f] ?? 0) + 1;
  return counts;
}"""


DRAG = """async ([x, y, seconds]) => {
  const canvas = document.querySelector('#plate'), bare = window.fetch;
  let fits = 0, moves = 0, going = true;
  window.fetch = async (...asked) => { const answer = await bare(...asked);
    fits += String(asked[0]).endsWith('lens/fit'); return answer; };
  const move = () => {
    if (!going) return;
    moves += 1;
    canvas.dispatchEvent(new PointerEvent('pointermove', { clientX: x + 6 + 4 * (moves % 5),
      clientY: y + 2 + (moves % 7), bubbles: true, buttons: 1, pointerId: 1 }));
    requestAnimationFrame(move);
  };
  move();
  await new Promise((done) => setTimeout(done, 1000 * seconds));
  going = false;
  window.fetch = bare;
  return [fits / seconds, moves / seconds];
}"""
"""Moves a dragged point at every frame that the browser draws."""


def drag(address: str = "http://127.0.0.1:8014", shot: int = 4, seconds: float = 6.0) -> None:
    """Print how many fits a second follow a dragged line on a running demo's shot with its lines drawn; the drag is
    taken back.
    """
    with _page(f"{address}/shots/{shot}/lens") as page:
        page.wait_for_timeout(PAUSE_MS)
        lines = page.evaluate("async () => (await (await fetch(location.pathname + '.json')).json()).lines")
        point = next(line["points"][0] for line in lines.values() if line["axis"] and line["frame"] == 1001)
        box = page.locator("#plate").bounding_box()
        width, height = page.evaluate(
            "() => [Number(document.querySelector('[data-fps]').dataset.width), "
            "Number(document.querySelector('[data-fps]').dataset.height)]"
        )
        k = min(box["width"] / width, box["height"] / height) * 0.985
        x, y = (
            box["x"] + box["width"] / 2 + (point[0] - width / 2) * k,
            box["y"] + box["height"] / 2 + (point[1] - height / 2) * k,
        )
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + 6, y + 2)
        fits, frames = page.evaluate(DRAG, [x, y, seconds])
        page.mouse.up()
        page.wait_for_timeout(PAUSE_MS)
        page.keyboard.press("Control+z")
        page.wait_for_timeout(PAUSE_MS)
        print(
            f"a line dragged, {len(lines)} lines on two frames: {fits:.0f} fits a second (target 30), {frames:.0f} "
            "frames drawn"
        )


@contextmanager
def _page(address: str):
    """A page in headless Chromium without a graphics processor."""
    from playwright.sync_api import sync_playwright

    flags = (
        "--headless --no-sandbox --disable-quic --disable-background-networking --disable-component-update "
        "--disable-sync --no-first-run --disable-gpu"
    ).split()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=flags)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(address)
        page.wait_for_selector("body[data-ready]")
        yield page
        browser.close()


def run(address: str = "http://127.0.0.1:8014", shot: int = 1, steps: int = 40, runs: int = 3) -> None:
    """Print redraws a second on a running demo's shot; sightings of `LIVES` frames and more are taken for it, and
    given back.
    """
    with _page(f"{address}/shots/{shot}/tracks") as page:
        for _ in range(3):
            page.keyboard.press("Shift+ArrowRight")
        page.locator('[data-act="bench-choose"]').click()
        page.wait_for_timeout(PAUSE_MS)
        if page.locator('[data-act="sight"]').is_visible():
            page.locator('[data-act="sight"]').click()
        page.get_by_text("sightings,").wait_for(timeout=120_000)
        page.locator("#sightlength").fill(LIVES)
        page.wait_for_timeout(PAUSE_MS)
        page.locator('[data-act="sight-all"]').click()
        page.locator('[data-act="sight-take"]').click()
        page.wait_for_timeout(PAUSE_MS)
        page.locator('[data-act="bench-find"]').click()
        page.wait_for_timeout(2 * PAUSE_MS)
        counts = page.evaluate(COUNT)
        live = sorted(count for _, count in sorted(counts.items())[:steps])
        for _ in range(runs):
            page.keyboard.press("Home")
            page.wait_for_timeout(PAUSE_MS)
            rate, each, drawn = page.evaluate(SCRUB, steps)
            print(
                f"scrubbing, {live[0]} to {live[-1]} tracks with tails a frame: {rate:.0f} redraws a second, "
                f"{each:.1f} ms each, {drawn} drawn (target 30 a second)"
            )
        page.keyboard.press("Control+z")
        page.wait_for_timeout(PAUSE_MS)


if __name__ == "__main__":
    run()
    drag()
