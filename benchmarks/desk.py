"""The desk's pace: redraws a second while scrubbing a thousand tracks with tails, in headless Chromium."""

import shutil

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


def run(address: str = "http://127.0.0.1:8014", shot: int = 1, steps: int = 40) -> None:
    """Print redraws a second on a running demo's shot, which should have a thousand live tracks a frame."""
    from playwright.sync_api import sync_playwright

    flags = "--headless --no-sandbox --disable-quic --disable-background-networking --disable-component-update --disable-sync --no-first-run --disable-gpu".split()
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=shutil.which("chromium"), args=flags)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(f"{address}/shots/{shot}/tracks")
        page.wait_for_selector("body[data-ready]")
        page.wait_for_timeout(6000)
        page.keyboard.press("Home")
        live = page.evaluate("async () => (await (await fetch(location.pathname.replace(/tracks$/, 'tracks.json'))).json()).frames.filter((f, _, all) => f === all[0]).length")
        rate, each, drawn = page.evaluate(SCRUB, steps)
        print(f"scrubbing, about {live} tracks with tails on a frame: {rate:.0f} redraws a second, {each:.1f} ms each, {drawn} drawn (target 30 a second)")
        browser.close()


if __name__ == "__main__":
    run()
