"""The desk's pace: redraws a second while scrubbing a thousand tracks with tails, in headless Chromium."""

import shutil

LIVES = "20"
"""Frames that a sighting must live to be taken as a track."""

PAUSE_MS = 4000
"""For what was asked for to have come."""

SCRUB = """async (steps) => {
  const { Viewport } = await import('/static/desk/viewport.js');
  const draw = Viewport.prototype.draw;
  let spent = 0, drawn = 0;
  Viewport.prototype.draw = function () { const t = performance.now(); draw.call(this); spent += performance.now() - t; drawn += 1; };
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


def run(address: str = "http://127.0.0.1:8014", shot: int = 1, steps: int = 40, runs: int = 3) -> None:
    """Print redraws a second on a running demo's shot; sightings of `LIVES` frames and more are taken for it, and given back."""
    from playwright.sync_api import sync_playwright

    flags = "--headless --no-sandbox --disable-quic --disable-background-networking --disable-component-update --disable-sync --no-first-run --disable-gpu".split()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=flags)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/shots/{shot}/tracks")
        page.wait_for_selector("body[data-ready]")
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
            print(f"scrubbing, {live[0]} to {live[-1]} tracks with tails a frame: {rate:.0f} redraws a second, {each:.1f} ms each, {drawn} drawn (target 30 a second)")
        page.keyboard.press("Control+z")
        page.wait_for_timeout(PAUSE_MS)
        browser.close()


if __name__ == "__main__":
    run()
