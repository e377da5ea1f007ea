"""The desk as tests use it: posting to a shot, opening its page, and finding a plate pixel on the screen."""

from contextlib import contextmanager


def poster(client, shot_id):
    """Return a function that posts JSON to a shot and returns the answer, held to its status."""

    def post(path, body=None, status=200):
        answer = client.post(f"/shots/{shot_id}/{path}", json=body or {})
        assert answer.status_code == status, answer.text
        return answer.json

    return post


@contextmanager
def desk_page(browser, service, shot_id, stage):
    """A shot's page at a stage; no script may fail on it."""
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    page.set_default_timeout(20000)
    troubles = []
    page.on("pageerror", lambda e: troubles.append(str(e)))
    page.goto(f"{service.address}/shots/{shot_id}/{stage}")
    page.wait_for_selector("body[data-ready]")
    yield page
    assert not troubles
    page.close()


def on_screen(page, size, x, y):
    """Where a plate pixel of a picture of `size` lies on the page."""
    box = page.locator("#plate").bounding_box()
    k = min(box["width"] / size[0], box["height"] / size[1]) * 0.985
    return box["x"] + box["width"] / 2 + (x - size[0] / 2) * k, box["y"] + box["height"] / 2 + (y - size[1] / 2) * k
